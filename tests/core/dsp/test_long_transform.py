"""Spectra of long signals against NumPy's transform, and a loop read at nearly as many points as it has frames."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.dsp.long_transform import SHORTEST, divided, spectra_of_two, spectrum_of_one
from apilado.core.dsp.stereo import read_evenly, read_thinly


class SpectraTest(unittest.TestCase):
    def test_two_real_signals_go_through_as_one(self):
        # Pieces of many tables' worth, a square, a long table, a prime, an odd number, one below the shortest; each with
        # fewer lines too.
        for points in (601 * 643, 176 * 176, 144 * 200, 20011, 3**10, SHORTEST // 2 + 1, 7):
            rng = np.random.default_rng(points)
            left, right = (rng.standard_normal(points) for _ in range(2))
            for lines, gain in ((points // 2 + 1, 1.0), (points // 3 + 1, 0.25)):
                both = (left + 1j * right).astype(np.complex64)
                for found, signal in zip(spectra_of_two(both, lines, gain), (left, right), strict=True):
                    wanted = gain * np.fft.rfft(signal)[:lines]
                    self.assertEqual(found.shape, wanted.shape)
                    assert_allclose(found, wanted, atol=1e-6 * float(np.abs(wanted).max()) * np.log2(points + 1))

    def test_the_two_halves_of_one_go_through_as_one(self):
        # In pieces, a long table, one that ends within a tile, one row, two points.
        for points in (2 * 601 * 643, 2 * 144 * 200, 2 * 131 * 141, 2 * 9973, 36, 2):
            signal = np.random.default_rng(points).standard_normal(points)
            for gain in (1.0, 0.25):
                wanted = gain * np.fft.rfft(signal)
                found = spectrum_of_one(signal.astype(np.float32), gain)
                self.assertEqual(found.shape, wanted.shape)
                assert_allclose(found, wanted, atol=1e-6 * float(np.abs(wanted).max()) * np.log2(points + 1))

    def test_a_table_is_as_square_as_can_be(self):
        self.assertEqual(divided(768000), (800, 960))
        self.assertEqual(divided(36), (6, 6))
        self.assertEqual(divided(13), (1, 13))


class ReadEvenlyTest(unittest.TestCase):
    def test_of_few_points_what_lies_low_is_as_it_was(self):
        for frames, points, passed in ((300_007, 6006, 0.125), (40_001, 4000, 0.125), (5_003, 1250, 0.25)):
            noise = np.random.default_rng(frames).standard_normal((2, frames)).astype(np.float32)
            lines = int(passed * points)
            wanted = np.fft.rfft(noise.astype(np.float64))[:, : lines + 1]
            found = np.fft.rfft(read_thinly(noise, points, passed))[:, : lines + 1] * frames / points
            # Noise holds as much in every line; all that lies above may fold onto what is low, each of it 100 dB lower.
            self.assertLess(np.abs(found - wanted).max() / np.sqrt(np.mean(np.abs(wanted) ** 2)), 1e-4)

    def test_what_lies_between_frames_is_that_of_the_wave(self):
        # Waves of whole periods up to 20 kHz at 48 kHz, more points than frames, and fewer.
        for frames, points in ((300_007, 300_106), (262_147, 262_440), (40_001, 40_000), (5_003, 5_005)):
            for share in (0.01, 0.2, 0.4):
                periods = round(share * frames)
                angle = 2.0 * np.pi * periods / frames
                signal = np.sin(angle * np.arange(frames) + 0.3).astype(np.float32)
                found = np.empty(points, np.float32)
                read_evenly(signal, found)
                wanted = np.sin(angle * frames / points * np.arange(points) + 0.3)
                self.assertLess(float(np.sqrt(np.mean((found - wanted) ** 2))), 3e-4, (frames, points, share))
                seam = np.concatenate([found[:40] - wanted[:40], found[-40:] - wanted[-40:]])
                self.assertLess(float(np.max(np.abs(seam))), 4e-4, (frames, points, share))

    def test_as_many_points_as_frames_are_the_frames(self):
        signal = np.random.default_rng(1).standard_normal(4_000).astype(np.float32)
        found = np.empty_like(signal)
        read_evenly(signal, found)
        assert_allclose(found, signal, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
