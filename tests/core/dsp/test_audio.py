import unittest

import numpy as np

from apilado.core.dsp.audio import is_mono, loudest_frame
from tests.support import noise


class LoudestTest(unittest.TestCase):
    def test_the_first_frame_of_the_largest_magnitude(self):
        for seed in range(6):
            audio = noise(400, seed=seed, channels=1 + seed % 2)
            audio[seed % 2, [90, 300, 310]] = np.array([-2.0, 2.0, -2.0]) if seed % 3 else 0.0
            self.assertEqual(loudest_frame(audio), int(np.argmax(np.max(np.abs(audio), axis=0))))


class MonoTest(unittest.TestCase):
    def test_one_sample_that_differs_is_enough(self):
        for place in (None, 0, 200, 399):
            audio = np.repeat(noise(400, channels=1), 2, axis=0)
            if place is not None:
                audio[1, place] += 0.5
            self.assertEqual(is_mono(audio), place is None)
        self.assertTrue(is_mono(noise(10, channels=1)))
        self.assertTrue(is_mono(np.zeros((2, 0), np.float32)))
