import unittest

import numpy as np

from apilado.core.dsp.audio import loudest_frame
from tests.support import noise


class LoudestTest(unittest.TestCase):
    def test_the_first_frame_of_the_largest_magnitude(self):
        for seed in range(6):
            audio = noise(400, seed=seed, channels=1 + seed % 2)
            audio[seed % 2, [90, 300, 310]] = np.array([-2.0, 2.0, -2.0]) if seed % 3 else 0.0
            self.assertEqual(loudest_frame(audio), int(np.argmax(np.max(np.abs(audio), axis=0))))
