import unittest
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.testing import assert_allclose, assert_array_equal
from scipy import integrate

from apilado.core.clock import Clock
from apilado.core.dsp.oversampling import (
    PEAK_PIECE,
    PIECE,
    apart,
    half_band_taps,
    interleaved,
    interpolated_peak,
    oversampled,
    peak_taps,
    phase_filters,
)
from apilado.core.dsp.shapers import CLIP, bent, soft_clip, soft_clip_between
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.units import db_to_gain
from tests.support import RATES, noise, sine


def alias_db(wave, frequency_hz, rate_hz=48000):
    """The strongest bin that is no harmonic, against the strongest of all; the tone fits the frames exactly."""
    level = np.abs(np.fft.rfft(wave))
    step = round(frequency_hz * wave.shape[0] / rate_hz)
    harmonic = np.zeros(level.shape, bool)
    harmonic[::step] = True
    return 20 * np.log10(level[~harmonic].max() / level.max())


class OversamplingTest(unittest.TestCase):
    def test_soft_clip_aliases_lie_below_minus_70_db(self):
        tone = sine(1000.0, 1.0)
        for drive in (6.0, 12.0):
            out = oversampled(tone, 4, lambda x, d=drive: soft_clip(x, float(db_to_gain(d))), looped=True)
            self.assertLess(alias_db(out[0].astype(float), 1000.0), -70.0)

    def test_aliases_fall_with_the_factor(self):
        # 3.1 kHz: its aliases fall between its harmonics, and 1× has plenty of them.
        tone = sine(3100.0, 1.0)
        found = [alias_db(oversampled(tone, f, lambda x: soft_clip(x, 8.0), looped=True)[0], 3100.0) for f in (1, 2, 4)]
        self.assertGreater(found[0], found[1] + 6.0)
        self.assertGreater(found[1], found[2] + 6.0)

    def test_nothing_done_is_nothing_changed_in_the_pass_band(self):
        tone = sine(1000.0, 0.5, amplitude=0.7) + sine(17000.0, 0.5, amplitude=0.1)
        for factor in (1, 2, 4, 8):
            out = oversampled(tone, factor, lambda x: x, looped=True)
            assert_allclose(out, tone, atol=2e-4)

    def test_no_latency_from_silence_either(self):
        tone = sine(500.0, 0.25)
        out = oversampled(tone, 4, lambda x: x, looped=False)
        assert_allclose(out[:, 200:-200], tone[:, 200:-200], atol=2e-4)

    def test_pieces_in_one_kernel_are_what_is_told(self):
        # Twice as many samples, every other one zero, through the taps; shaped; and through them again, step by step.
        sound = noise(PIECE + 4001, channels=1)[0].astype(np.float64)
        phases = phase_filters(2)
        sharp = phases.T.reshape(-1)[:-1].astype(np.float64)
        halves = [half_band_taps(octaves) for octaves in (1, 2)]
        gentle = [np.zeros(4 * each.shape[0] - 1) for each in halves]
        for taps, half in zip(gentle, halves, strict=True):
            taps[taps.shape[0] // 2], taps[::2] = 1.0, np.concatenate([half[::-1], half])
        for factor in (2, 4, 8):
            used = [sharp, *gentle][: factor.bit_length() - 1]
            finer = sound
            for taps in used:
                finer = np.convolve(np.stack([finer, 0.0 * finer], axis=1).reshape(-1), taps, "same")
            told = np.clip(4.0 * finer, -1.0, 1.0)
            for taps in used[::-1]:
                told = np.convolve(told, 0.5 * taps, "same")[::2]
            found = oversampled(
                sound[None].astype(np.float32), factor, partial(bent, gain=4.0, kind=CLIP), looped=False
            )
            assert_allclose(found[0, 300:-300], told[300:-300], atol=3e-6)

    def test_rough_frames_are_shaped_as_they_are_and_what_follows_is_exact(self):
        sound, curve = noise(20_000), partial(soft_clip, gain=4.0)
        exact = oversampled(sound, 4, curve, looped=False)
        for rough in (1, 7001, 30_000):
            found = oversampled(sound, 4, curve, looped=False, rough_frames=rough)
            assert_array_equal(found[:, :rough], curve(sound[:, :rough]))
            assert_allclose(found[:, rough:], exact[:, rough:], atol=1e-6)

    def test_factors(self):
        with self.assertRaisesRegex(ValueError, "1, 2, 4 or 8"):
            oversampled(noise(100), 3, lambda x: x, looped=False)


class PeakTest(unittest.TestCase):
    def test_pieces_and_crests_alone_find_what_the_whole_interpolated_signal_has(self):
        rng, frames = np.random.default_rng(4), 2 * PEAK_PIECE + 900
        t, fading = np.arange(frames), np.linspace(1.0, 0.2, frames)
        signals = [
            rng.standard_normal(frames),
            np.sin(2.0 * np.pi * 0.2371 * t) * fading[::-1],
            np.sin(2.0 * np.pi * 0.01 * t + 1.0) * fading + 0.1 * np.sin(2.0 * np.pi * 0.45 * t),
            np.where(np.abs(t - PEAK_PIECE) < 2, (-1.0) ** (t // 2), 0.0),
            rng.standard_normal(frames) * (t > frames - 40),
        ]
        # Bursts that crest between their samples, behind a wave whose samples lie higher.
        random = np.random.default_rng(5)
        for frames in random.integers(2, 12, 40):
            wave, near = np.sin(2 * np.pi * np.arange(600) / 60), np.arange(frames)
            burst = np.cos(2 * np.pi * random.uniform(0.3, 0.5) * near + random.uniform(0, 7))
            crest = interpolated_whole(burst, False)
            signals.append(np.concatenate([0.97 * crest * wave, np.zeros(200), burst, np.zeros(200)]))
        for signal in signals:
            for looped in (True, False):
                found = interpolated_peak(signal.astype(np.float32), looped=looped)
                self.assertAlmostEqual(found / interpolated_whole(signal, looped), 1.0, delta=1e-5)
        self.assertEqual(interpolated_peak(np.zeros(500, np.float32)), 0.0)
        self.assertEqual(interpolated_peak(np.zeros(0, np.float32), looped=True), 0.0)


def interpolated_whole(signal, looped):
    """The peak of all of a signal at eight times its rate, by the same taps."""
    ends = 256
    around = np.concatenate([signal[-ends:], signal, signal[:ends]]) if looped else np.pad(signal, ends)
    for taps in (peak_taps(), half_band_taps(1), half_band_taps(2)):
        kernel = np.concatenate([taps[::-1], taps]).astype(np.float64)
        finer = np.zeros(2 * around.shape[0])
        finer[::2] = around
        finer[1::2] = np.convolve(around, kernel, "full")[len(taps) : len(taps) + around.shape[0]]
        around = finer
    return float(np.max(np.abs(around[8 * ends : -8 * ends] if looped else around[8 * 128 : -8 * 128])))


class PlanesTest(unittest.TestCase):
    def test_samples_are_put_together_and_taken_apart(self):
        even, odd = noise(333)
        both = interleaved(even, odd)
        assert_array_equal(both[0::2], even)
        assert_array_equal(both[1::2], odd)
        assert_array_equal(apart(both), [even, odd])
        assert_array_equal(apart(both[1:]), [odd[:-1], even[1:]])


class PassBandTest(unittest.TestCase):
    def test_nothing_is_lost_up_to_19_khz(self):
        for rate in RATES:
            quiet = noise(1 << 16, seed=4, amplitude=1e-4)
            at = np.fft.rfftfreq(1 << 16, 1 / rate)
            inside = (at > 20.0) & (at < 19000.0)
            for factor in (2, 4, 8):
                for between in (None, lambda x: soft_clip_between(x, 1.0)):
                    out = oversampled(quiet, factor, lambda x: soft_clip(x, 1.0), looped=True, between=between)
                    response = np.fft.rfft(out[0].astype(float))[inside] / np.fft.rfft(quiet[0].astype(float))[inside]
                    with self.subTest(rate=rate, factor=factor, between=between is not None):
                        self.assertLess(np.abs(20 * np.log10(np.abs(response))).max(), 0.5)
                        self.assertLess(np.abs(np.angle(response)).max(), 0.01)


class AntiderivativeTest(unittest.TestCase):
    def test_it_is_the_mean_of_the_curve_between_two_samples(self):
        # Against SciPy's quadrature.
        pairs = ((-1.0, 1.0), (0.2, 0.9), (0.5, 0.5), (0.0, 1e-6), (-3.0, -2.9))
        for gain in (1.0, 15.8):
            for a, b in pairs:
                planes = np.array([[a, b], [b, a]], np.float32)
                steps = integrate.quad(
                    lambda t, a=a, b=b, gain=gain: float(_curve(gain * (a + t * (b - a)))), 0.0, 1.0
                )[0]
                self.assertAlmostEqual(float(soft_clip_between(planes, gain)[0, 0]), steps, delta=2e-6)

    def test_a_saw_driven_by_24_dB_has_14_dB_less_alias(self):
        # Against the same curve at 64 times the rate, reached by FFT: below 20 kHz.
        frames, rate, gain = 1 << 15, 48000, 10 ** (24 / 20)
        n = np.arange(1, 218)
        phase = 75 * np.arange(frames) / frames  # 109.9 Hz
        saw = sum(2 / (np.pi * k) * np.sin(2 * np.pi * k * phase) for k in n).astype(np.float32)[None]
        spectrum = np.zeros(64 * frames // 2 + 1, complex)
        spectrum[: frames // 2 + 1] = np.fft.rfft(saw[0].astype(float))
        shaped = _curve(gain * np.fft.irfft(spectrum, 64 * frames) * 64)
        wanted = np.fft.rfft(shaped)[: frames // 2 + 1] / 64
        inside = np.fft.rfftfreq(frames, 1 / rate) < 20000.0
        errors = {}
        for between in (None, lambda x: soft_clip_between(x, gain)):
            out = oversampled(saw, 4, lambda x: soft_clip(x, gain), looped=True, between=between)
            apart = np.abs(np.fft.rfft(out[0].astype(float)) - wanted)[inside]
            errors[between is not None] = 10 * np.log10(np.sum(apart**2) / np.sum(np.abs(wanted[inside]) ** 2))
        self.assertLess(errors[True], -60.0)
        self.assertLess(errors[True], errors[False] - 10.0)


def _curve(v):
    return v / np.sqrt(1 + np.asarray(v, float) ** 2)


class SoftClipTest(unittest.TestCase):
    CLOCK = Clock(tempo_bpm=120.0, beats=2.0, rate_hz=48000, looped=True)

    def test_the_curve(self):
        x = np.linspace(-3, 3, 61, dtype=np.float32)
        assert_allclose(soft_clip(x, 2.0), 2 * x / np.sqrt(1 + 4 * x**2), rtol=1e-5)

    def test_it_is_oversampled_where_a_stretch_is_heard(self):
        sound = sine(3100.0, 0.5)
        clock = Clock(tempo_bpm=120.0, beats=4.0, rate_hz=48000, looped=True).stretch(0, sound.shape[1])
        exact, found = (SoftClip().process(sound, replace(clock, rough_frames=rough)) for rough in (0, 12_000))
        apart = np.abs(found - exact).max(axis=0)
        self.assertGreater(apart[:12_000].max(), 1e-3)
        self.assertLess(apart[14_400:].max(), 1e-4)

    def test_blend_does_not_comb(self):
        tone = sine(8000.0, 1.0, amplitude=0.01)
        half = SoftClip(drive_db=0.0, output_db=0.0, blend=0.5).process(tone, self.CLOCK)
        assert_allclose(half, tone, atol=2e-5)

    def test_asymmetric_waves_keep_no_dc(self):
        t = np.arange(48000) / 48000
        wave = np.where((t * 100) % 1 < 0.2, 1.6, -0.4).astype(np.float32)
        out = SoftClip(drive_db=18.0).process(np.stack([wave, wave]), self.CLOCK)
        self.assertLess(abs(float(out.mean())), 1e-3)
