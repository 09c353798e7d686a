"""Equal loudness on seeded stacks, by pyloudnorm on sixteen rounds of what is played."""

import unittest

import numpy as np
import pyloudnorm

from apilado.core.measure.loudness import measure_loudness
from apilado.core.measure.matching import LEAST_LKFS, matched
from apilado.core.render.audition import Audition
from apilado.core.render.elsewhere import PLACES
from apilado.core.render.graph import clock_of
from apilado.core.render.listening import listened
from apilado.demo.starts import demo_bundles
from tests.seeded.stacks import TIMES, Dice, seeded_stack, seeds
from tests.support import ENGINE, loader

AT_48_KHZ = 48000
"""pyloudnorm carries the K curve to other rates in its own way: all are compared at the rate that the tables are for."""


def rounds(audio, rate):
    """What sixteen rounds of a loop come to."""
    return pyloudnorm.Meter(rate).integrated_loudness(np.tile(audio, 16).T.astype(np.float64))


class EqualLoudnessTest(unittest.TestCase):
    def compare(self, stack, load, dice, told):
        """Any two of some auditions of a stack, each as it is played beside the others."""
        layer = dice.of(stack.layers)
        places = [dice.of(PLACES).key for _ in range(1 if TIMES == 1 else 3)]
        auditions = [Audition(), Audition(without=f"layers/{layer.id}"), *[Audition(place=key) for key in places]]
        clock = clock_of(stack, looped=True)
        loops = ENGINE.run([listened(stack, each, clock, load).output for each in auditions])
        levels = [measure_loudness(loop, rate_hz=clock.rate_hz, looped=True).integrated_lkfs for loop in loops]
        played = []
        for loop, level, match in zip(loops, levels, matched(levels), strict=True):
            self.assertLessEqual(match.gain_db, 0.0, told)
            self.assertEqual(match.matched, level >= LEAST_LKFS and sum(each >= LEAST_LKFS for each in levels) > 1)
            if match.matched:
                played.append(rounds(loop * np.float32(10.0 ** (match.gain_db / 20.0)), clock.rate_hz))
        if played:
            self.assertLess(max(played) - min(played), 0.1, told)
        return len(played)

    def test_any_two_on_seeded_stacks(self):
        compared = 0
        for seed in seeds(4, first=1600):
            stack, load = seeded_stack(seed, sample_rate=AT_48_KHZ)
            compared += self.compare(stack, load, Dice(seed), seed)
        self.assertGreaterEqual(compared, 6)

    def test_any_two_on_the_demo_stacks(self):
        for number, bundle in enumerate(demo_bundles()):
            if number % 3 and TIMES == 1:
                continue
            files = loader({asset.sha256: asset.content for asset in bundle.assets})
            found = self.compare(bundle.stack, files, Dice(number), bundle.stack.name)
            self.assertGreaterEqual(found, 2, bundle.stack.name)
