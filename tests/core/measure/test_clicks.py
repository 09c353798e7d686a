import unittest

import numpy as np

from apilado.core.measure.clicks import usual_level


class UsualTest(unittest.TestCase):
    def test_it_is_what_one_frame_in_two_hundred_lies_above(self):
        rng = np.random.default_rng(3)
        for frames in (1, 2, 5, 200, 1000, 70_001):
            at = np.arange(frames)
            steady, bursts, late = rng.standard_normal(frames), 1.0 * (at % 61 == 0), 9.0 * (at > 0.999 * frames)
            # Bursts that every sixty-first frame falls on, or none of them, mislead those that are asked.
            for sound in (steady, 0.0 * steady, bursts + 0.1 * steady, np.roll(bursts, 1), late + 0.1 * steady):
                level = np.abs(sound).astype(np.float32)
                self.assertAlmostEqual(usual_level(level), float(np.percentile(level, 99.5)), delta=1e-6)
        self.assertEqual(usual_level(np.zeros(0, np.float32)), 0.0)
