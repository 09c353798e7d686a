import unittest

import numpy as np
import pyloudnorm
import scipy.signal as scipy_signal
from numpy.testing import assert_allclose

from apilado.core.dsp.breaking_off import PIECE
from apilado.core.dsp.filters import filtered
from apilado.core.dsp.oversampling import interpolated_peak
from apilado.core.measure.loudness import k_weighting, loop_power, measure_loudness, true_peak
from tests.support import RATES, noise, sine


class RoundTest(unittest.TestCase):
    def test_a_loop_is_as_loud_wherever_it_begins(self):
        # A wave that begins at its peak: a filter that begins at rest would hear a step.
        frames = 24000
        wave = (0.5 * np.cos(2.0 * np.pi * 25 * np.arange(frames) / frames)).astype(np.float32)
        loop = np.stack([wave, wave])
        for turned in (1, 240, 7000):
            other = np.roll(loop, turned, axis=1)
            assert_allclose(loop_power(other, 48000), loop_power(loop, 48000), rtol=1e-6)
            one, two = (measure_loudness(each, rate_hz=48000, looped=True) for each in (loop, other))
            self.assertAlmostEqual(one.integrated_lkfs, two.integrated_lkfs, delta=1e-3)

    def test_it_is_the_power_of_what_the_filter_makes(self):
        for channels, frames in ((1, 900), (2, PIECE + 1001)):
            loop, rate = noise(frames, seed=frames, channels=channels), 44100
            weighted = filtered(loop, k_weighting(rate), looped=True).astype(np.float64)
            assert_allclose(loop_power(loop, rate), np.sum(weighted**2) / frames, rtol=1e-6)


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


class EndlessTest(unittest.TestCase):
    """A loop is as loud as its endless repetition: pyloudnorm on sixteen rounds of it, one behind the other."""

    def test_a_loop_is_as_loud_as_sixteen_rounds_of_it(self):
        for rate, seconds, quiet in ((48000, 1.87, 0.02), (44100, 5.517, 0.001), (96000, 0.31, 0.3), (48000, 2.0, 0.1)):
            # Low, as a bass is: how the K curve is carried to other rates tells at the top.
            loop = noise(round(seconds * rate), seed=round(seconds * 10))
            loop = scipy_signal.lfilter(*scipy_signal.butter(1, 400.0, fs=rate), loop).astype(np.float32)
            loop[:, : loop.shape[1] // 2] *= np.float32(quiet)
            rounds = np.tile(loop, 16).T.astype(np.float64)
            expected = pyloudnorm.Meter(rate).integrated_loudness(rounds)
            # Wherever it begins, unless its blocks begin at the same places in every round.
            for turned in (0, loop.shape[1] // 3) if seconds != 2.0 else (0,):
                around = np.roll(loop, turned, axis=1)
                found = measure_loudness(around, rate_hz=rate, looped=True).integrated_lkfs
                self.assertAlmostEqual(found, expected, delta=0.1)
        one_round = measure_loudness(loop, rate_hz=rate).integrated_lkfs
        self.assertNotAlmostEqual(one_round, expected, delta=0.1)


class MomentaryTest(unittest.TestCase):
    def test_the_loudest_400_ms_count_not_the_mean(self):
        # EBU Tech 3341: momentary loudness is that of 400 ms. A second at -20 dBFS within nine of -60: its maximum is the
        # loud second's own loudness, -20 LUFS for a stereo sine at 1 kHz.
        parts = [(-60.0, 4.0), (-20.0, 1.0), (-60.0, 4.0)]
        signal = np.concatenate([sine(1000.0, s, amplitude=10 ** (db / 20)) for db, s in parts], axis=1)
        self.assertAlmostEqual(measure_loudness(signal, rate_hz=48000).momentary_max_lkfs, -20.0, delta=0.1)


class TruePeakTest(unittest.TestCase):
    def test_a_sustained_bass_peaks_where_it_peaks(self):
        for rate in RATES:
            for hertz in (41.0, 55.0, 97.0):
                tone = sine(hertz, 1.0, rate, amplitude=10 ** (-3 / 20))
                for looped in (True, False):
                    found = 20 * np.log10(true_peak(tone[:, : rate // 1], looped=looped))
                    self.assertAlmostEqual(found, -3.0, delta=0.05 if looped else 0.3, msg=(rate, hertz, looped))

    def test_ebu_3341_cases_15_to_19(self):
        # EBU Tech 3341, table 1, from memory: sines of 0.50 (case 19: 1.41) of full scale at a fraction of the rate and a
        # phase; the true peak is +0.2/-0.4 dB of -6.0 (+3.0) dBTP.
        for divisor, phase, amplitude, wanted in (
            (4, 0.0, 0.50, -6.0),
            (4, 45.0, 0.50, -6.0),
            (6, 60.0, 0.50, -6.0),
            (8, 67.5, 0.50, -6.0),
            (4, 45.0, 1.41, 3.0),
        ):
            n = np.arange(48000)
            wave = amplitude * np.sin(2 * np.pi * n / divisor + np.radians(phase))
            found = 20 * np.log10(true_peak(np.stack([wave, wave]).astype(np.float32), looped=True))
            self.assertLess(found, wanted + 0.2, (divisor, phase))
            self.assertGreater(found, wanted - 0.4, (divisor, phase))

    def test_ebu_3341_cases_20_to_23(self):
        # The same, from memory: a sine of 0.50 at a sixth of the rate with one period of 1.00 in it, made at four times the
        # rate and decimated from each of its four phases: 0.0 dBTP, +0.2/-0.4 dB.
        n = np.arange(4 * 9600)
        wave = 0.5 * np.sin(2 * np.pi * n / 24)
        wave[19200:19224] *= 2.0
        low = scipy_signal.resample_poly(wave, 1, 1)
        spectrum = np.fft.rfft(low)
        spectrum[9600 // 2 :] = 0.0
        smooth = np.fft.irfft(spectrum, low.size)
        wanted = 20 * np.log10(np.abs(smooth).max())
        for offset in range(4):
            part = smooth[offset::4]
            found = 20 * np.log10(true_peak(np.stack([part, part]).astype(np.float32), looped=True))
            self.assertLess(found, wanted + 0.2)
            self.assertGreater(found, wanted - 0.4)

    def test_a_burst_between_quiet_samples_is_not_passed_over(self):
        # A burst whose samples lie low and whose wave lies high, among louder samples elsewhere: 16 times tells.
        random = np.random.default_rng(2)
        for _ in range(6):
            n = np.arange(24000)
            wave = 0.4 * np.sin(2 * np.pi * 100 * n / 24000)
            at = int(random.integers(6000, 18000))
            wave[at : at + 400] += 0.9 * np.hanning(400) * np.sin(np.pi / 2 * n[:400] + np.pi / 4)
            wanted = np.abs(scipy_signal.resample(wave, 16 * wave.size)).max()
            found = true_peak(np.stack([wave, wave]).astype(np.float32), looped=True)
            self.assertAlmostEqual(20 * np.log10(found / wanted), 0.0, delta=0.2)

    def test_a_wave_that_rises_between_its_samples_counts_though_others_lie_higher(self):
        # At two fifths of the rate, of twice as many samples none lies nearer than 18° to a crest: 0.44 dB under it.
        n = np.arange(24000)
        wave = 1.07 * np.sin(2 * np.pi * 100 * n / 48000) * (n < 9600)
        wave[14000:20000] += 1.1 * np.hanning(6000) * np.cos(2 * np.pi * 0.4 * n[:6000] + np.pi / 10)
        found = true_peak(np.stack([wave, wave]).astype(np.float32))
        self.assertAlmostEqual(20 * np.log10(found / 1.1), 0.0, delta=0.1)

    def test_small_samples_that_add_up_between_them_are_not_passed_over(self):
        # As large between them as the interpolation can make of samples of 1, behind one of 2.8 that stands alone.
        frames, middle = 4000, 3000
        signal = np.zeros(frames, np.float32)
        signs = np.where(np.arange(64) % 2, 1.0, -1.0) * np.where(np.arange(64) < 32, 1.0, -1.0)
        signal[middle : middle + 64] = signs
        alone = float(interpolated_peak(signal))
        signal[100] = 2.8
        self.assertGreater(alone, 2.85)
        self.assertAlmostEqual(float(interpolated_peak(signal)), alone, delta=1e-6)

    def test_it_goes_round_the_seam(self):
        wave = np.roll(0.5 * np.sin(2 * np.pi * np.arange(1200) / 4 + np.pi / 4) * np.hanning(1200), 600)
        both = np.stack([wave, wave]).astype(np.float32)
        self.assertAlmostEqual(20 * np.log10(true_peak(both, looped=True)), -6.02, delta=0.05)

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
