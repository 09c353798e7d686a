"""The spectrum of a loop, whatever its length, against NumPy's transform of that very length."""

import unittest

import numpy as np

from apilado.core.measure.spectrum import LONGEST_EXACT, mid_and_side, spectrum_of
from tests.seeded.stacks import seeds

PRIMES = (262147, 300007, 529637)
"""Longer than what is transformed exactly."""


def agrees_db(found: np.ndarray, exact: np.ndarray, kept: np.ndarray) -> float:
    """How far the difference lies below what it is of."""
    apart = np.sum(np.abs(found[kept] - exact[kept]) ** 2) / np.sum(np.abs(exact[kept]) ** 2)
    return 10.0 * float(np.log10(apart + 1e-30))


class SpectrumTest(unittest.TestCase):
    def test_a_length_that_is_slow_has_the_lines_of_one_that_is_not(self):
        for seed in seeds(len(PRIMES)):
            frames, rng = PRIMES[seed % len(PRIMES)], np.random.default_rng(seed)
            self.assertGreater(frames, LONGEST_EXACT)
            rate = (44100, 48000, 96000)[seed % 3]
            audio = rng.standard_normal((2, frames)).astype(np.float32)
            for sound in (audio, np.stack([audio[0], audio[0]])):
                found = spectrum_of(sound, rate_hz=rate)
                low_end = mid_and_side(sound, low_hz=20.0, high_hz=130.0, rate_hz=rate)
                np.testing.assert_allclose(low_end, found.power_between(20.0, 130.0), rtol=1e-4, atol=1e-12)
                for side, lines in enumerate((found.left, found.right)):
                    exact = np.fft.rfft(sound[side].astype(np.float64))
                    self.assertEqual(lines.shape, exact.shape)
                    hertz = np.arange(lines.shape[0]) * rate / frames
                    self.assertLess(agrees_db(lines, exact, hertz < 15000.0), -74.0, (seed, side))
                    self.assertLess(agrees_db(lines, exact, hertz < 20000.0), -69.0, (seed, side))
            self.assertIs(found.left, found.right)

    def test_a_sine_is_one_line_also_there(self):
        frames = PRIMES[1]
        for line in (217, 5003, 90001):
            sine = np.sin(2.0 * np.pi * line * np.arange(frames) / frames).astype(np.float32)
            power = np.abs(spectrum_of(np.stack([sine, sine]), rate_hz=48000).left.astype(complex)) ** 2
            self.assertEqual(int(np.argmax(power)), line)
            rest = np.delete(power, line).sum()
            self.assertLess(10.0 * np.log10(rest / power[line]), -70.0)
