import unittest

import numpy as np
import pyloudnorm
from numpy.testing import assert_allclose

from apilado.core.measure.loudness import k_weighting, measure_loudness, true_peak
from tests.support import RATES, noise, sine


class LoudnessTest(unittest.TestCase):
    def test_997_hz_full_scale_in_one_channel(self):
        # ITU-R BS.1770-5: a 0 dBFS 997 Hz sine in one front channel reads -3.01 LKFS.
        for rate in RATES:
            tone = sine(997.0, 4.0, rate)
            tone[1] = 0.0
            self.assertAlmostEqual(measure_loudness(tone, rate_hz=rate).integrated_lkfs, -3.01, delta=0.01)

    def test_k_weighting_at_48_khz_is_the_tables(self):
        # ITU-R BS.1770-5, tables 1 and 2.
        expected = [
            [1.53512485958697, -2.69169618940638, 1.19839281085285, -1.69065929318241, 0.73248077421585],
            [1.0, -2.0, 1.0, -1.99004745483398, 0.99007225036621],
        ]
        assert_allclose(k_weighting(48000), expected, atol=1e-6)

    def test_ebu_3341_cases_1_to_4(self):
        # EBU Tech 3341: 1 kHz stereo sines; the gates leave -23.0 ±0.1 LUFS (case 2: -33.0).
        cases = (
            ([(-23.0, 20.0)], -23.0),
            ([(-33.0, 20.0)], -33.0),
            ([(-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0)], -23.0),
            ([(-72.0, 10.0), (-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0), (-72.0, 10.0)], -23.0),
        )
        for parts, expected in cases:
            signal = np.concatenate([sine(1000.0, s, amplitude=10 ** (db / 20)) for db, s in parts], axis=1)
            self.assertAlmostEqual(measure_loudness(signal, rate_hz=48000).integrated_lkfs, expected, delta=0.1)

    def test_against_pyloudnorm(self):
        for seed in range(3):
            audio = noise(48000 * 5, seed=seed)
            audio *= np.linspace(0.01, 1.0, audio.shape[1], dtype=np.float32)
            expected = pyloudnorm.Meter(48000).integrated_loudness(audio.T.astype(np.float64))
            self.assertAlmostEqual(measure_loudness(audio, rate_hz=48000).integrated_lkfs, expected, delta=0.1)

    def test_silence_and_shortness(self):
        for audio in (np.zeros((2, 48000), np.float32), sine(100.0, 0.1)):
            self.assertEqual(measure_loudness(audio, rate_hz=48000).integrated_lkfs, -150.0)


class TruePeakTest(unittest.TestCase):
    def test_a_quarter_rate_sine_between_its_samples(self):
        # EBU Tech 3341, case 15 onwards: a sine at a quarter of the rate, 45° off, peaks 3 dB over its samples.
        t = np.arange(48000)
        wave = 0.5 * np.sin(2 * np.pi * t / 4 + np.pi / 4)
        wave *= np.minimum(1, np.minimum(t, t[::-1]) / 2000)
        tone = np.stack([wave, wave]).astype(np.float32)
        self.assertAlmostEqual(float(np.abs(tone).max()), 0.5 / np.sqrt(2), delta=1e-3)
        self.assertAlmostEqual(20 * np.log10(true_peak(tone)), -6.02, delta=0.2)

    def test_crest_and_dc(self):
        found = measure_loudness(sine(100.0, 1.0, amplitude=0.5) + np.float32(0.1), rate_hz=48000)
        self.assertAlmostEqual(found.dc, 0.1, places=4)
        pure = measure_loudness(sine(100.0, 1.0, amplitude=0.5), rate_hz=48000)
        self.assertAlmostEqual(pure.crest_db, 3.01, delta=0.01)
