import unittest

import numpy as np

from apilado.core.dsp.audio import is_mono, loudest_frame, peak_of
from apilado.core.dsp.breaking_off import PIECE
from apilado.core.dsp.curves import Curve, knots
from apilado.core.dsp.stereo import placed
from apilado.core.render.steps import mix
from tests.support import noise


class LoudestTest(unittest.TestCase):
    def test_the_first_frame_of_the_largest_magnitude(self):
        for seed in range(6):
            audio = noise(400, seed=seed, channels=1 + seed % 2)
            audio[seed % 2, [90, 300, 310]] = np.array([-2.0, 2.0, -2.0]) if seed % 3 else 0.0
            audio.flags.writeable = seed < 3
            self.assertEqual(loudest_frame(audio), int(np.argmax(np.max(np.abs(audio), axis=0))))
            for some in (audio, audio[:, ::2], -audio, 1e-42 * audio, 0.0 * audio, audio[:, :0]):
                self.assertEqual(peak_of(some), np.max(np.abs(np.asarray(some, np.float32)), initial=0.0))


class MonoTest(unittest.TestCase):
    def test_one_sample_that_differs_is_enough(self):
        for place in (None, 0, 200, 399):
            audio = np.repeat(noise(400, channels=1), 2, axis=0)
            if place is not None:
                audio[1, place] += 0.5
            self.assertEqual(is_mono(audio), place is None)
        self.assertTrue(is_mono(noise(10, channels=1)))
        self.assertTrue(is_mono(np.zeros((2, 0), np.float32)))


class PiecesTest(unittest.TestCase):
    def test_what_is_placed_and_summed_in_pieces_is_what_is_told(self):
        frames = 2 * PIECE + 1001
        sound, at = noise(frames), knots(frames)
        width, pan = (Curve(at, some * np.sin(at / 9000.0)) for some in (1.5, 0.9))
        gain = np.linspace(0.2, 1.0, frames)
        found = placed(sound, width=width, mono=False, pan=pan, gain=gain)
        mid, side = (sound[0] + sound[1]) / 2.0, (sound[0] - sound[1]) / 2.0 * width.per_frame()
        near = [np.minimum(1.0, 1.0 + lean) * gain for lean in (-pan.per_frame(), pan.per_frame())]
        np.testing.assert_allclose(found, [(mid + side) * near[0], (mid - side) * near[1]], atol=2e-6)
        np.testing.assert_array_equal(mix(sound, found, frames=frames), sound + found)
