"""The synthesised kick is one sound, whatever the rate of the piece."""

import unittest

import numpy as np

from apilado.core.dsp.kicks import kick_sound
from apilado.core.measure.loudness import true_peak
from tests.support import RATES

PLAIN = {"start_hz": 260.0, "end_hz": 52.0, "sweep_ms": 120.0, "decay_ms": 320.0, "seed": 3}


def band_db(wave, rate, low, high):
    """Energy in a band, in dB, of the wave as it stands in time."""
    spectrum = np.abs(np.fft.rfft(wave.astype(float), 2 * rate)) / rate
    at = np.fft.rfftfreq(2 * rate, 1 / rate)
    return 10 * np.log10(np.sum(spectrum[(at >= low) & (at < high)] ** 2))


class KickTest(unittest.TestCase):
    def test_it_is_the_same_at_all_rates(self):
        for click, drive in ((0.3, 6.0), (1.0, 0.0), (0.5, 24.0)):
            for low, high in ((20, 200), (1000, 4000), (4000, 8000), (8000, 16000)):
                levels = [
                    band_db(kick_sound(**PLAIN, click=click, drive_db=drive, rate_hz=rate)[0], rate, low, high)
                    for rate in RATES
                ]
                with self.subTest(click=click, drive=drive, low=low):
                    self.assertLess(max(levels) - min(levels), 0.5)

    def test_its_true_peak_is_one(self):
        for rate in RATES:
            peak = true_peak(kick_sound(**PLAIN, click=0.3, drive_db=6.0, rate_hz=rate))
            # Set at its own rate: what lies above half of a lower one is missing from the wave there.
            self.assertAlmostEqual(20 * np.log10(peak), 0.0, delta=0.02 if rate == 96000 else 0.3)

    def test_it_falls_to_its_end_and_ends(self):
        for rate in RATES:
            wave = kick_sound(**PLAIN, click=0.0, drive_db=0.0, rate_hz=rate)[0]
            self.assertAlmostEqual(wave.shape[0] / rate, 0.32, delta=0.001)
            # From 150 ms on it is the sine it falls to: its zeros lie half a period of 52 Hz apart.
            tail = wave[round(0.15 * rate) : round(0.28 * rate)]
            crossings = np.flatnonzero(np.diff(np.sign(tail)) != 0)
            self.assertAlmostEqual(np.mean(np.diff(crossings)) / rate, 0.5 / 52.0, delta=2e-4)
            self.assertLess(abs(float(wave[-1])), 1e-3)

    def test_the_click_comes_from_the_seed(self):
        one, again, other = (
            kick_sound(**{**PLAIN, "seed": seed}, click=1.0, drive_db=0.0, rate_hz=48000) for seed in (1, 1, 2)
        )
        np.testing.assert_array_equal(one, again)
        self.assertGreater(np.abs(one - other).max(), 0.05)


if __name__ == "__main__":
    unittest.main()
