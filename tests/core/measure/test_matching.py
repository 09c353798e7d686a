import math
import unittest
from collections import Counter

from scipy.stats import binom, chisquare

from apilado.core.measure.blind import chance_of_guessing, drawn_order
from apilado.core.measure.matching import Match, matched


class MatchingTest(unittest.TestCase):
    def test_all_come_down_to_the_quietest_that_can_be_matched(self):
        self.assertEqual(
            matched([-12.0, -18.5, -41.0, -15.0, float("-inf")]),
            [Match(-6.5, True), Match(0.0, True), Match(0.0, False), Match(-3.5, True), Match(0.0, False)],
        )

    def test_nothing_is_turned_up_and_nothing_is_matched_to_itself(self):
        for levels in ([], [-14.0], [-14.0, -60.0], [-150.0, -150.0]):
            self.assertEqual(matched(levels), [Match(0.0, False)] * len(levels))


class BlindTest(unittest.TestCase):
    def test_every_order_is_as_likely_as_any_other(self):
        # 1,000 draws of five trials: 32 orders, by Pearson's chi-squared test.
        counts = Counter(drawn_order(seed, 5) for seed in range(1000))
        self.assertEqual(len(counts), 32)
        self.assertGreater(chisquare(list(counts.values())).pvalue, 0.01)

    def test_an_order_stays_what_it_was_when_more_is_drawn(self):
        self.assertEqual(drawn_order(7, 20)[:6], drawn_order(7, 6))

    def test_the_chance_is_the_binomials(self):
        for trials in (0, 1, 5, 16, 100):
            for right in range(0, trials + 1, max(1, trials // 7)):
                expected = binom.sf(right - 1, trials, 0.5)
                self.assertTrue(math.isclose(chance_of_guessing(right, trials), expected, rel_tol=1e-9))
