import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.dsp.oscillators import MovingTone, add_tone, cycle_table, harmonics_below, shape_harmonics


def tone(shape, frequency_hz, rate_hz=48000, frames=48000, levels=(), ratio=1.0, pulse_width=0.25):
    count = harmonics_below(frequency_hz * ratio, rate_hz)
    out = np.zeros((1, frames), np.float32)
    add_tone(
        out,
        cycle_table(shape, pulse_width, levels, count),
        phase=0.0,
        frequency_hz=frequency_hz * ratio,
        rate_hz=rate_hz,
        pan=0.0,
        gain=np.ones(frames, np.float32),
    )
    return out[0]


class FourierSeriesTest(unittest.TestCase):
    """Fourier series of the classic waves, as in any handbook of mathematics."""

    def test_amplitudes(self):
        n = np.arange(1, 41)
        odd = n % 2 == 1
        expected = {
            "sine": np.where(n == 1, 1.0, 0.0),
            "saw": 2 / (np.pi * n),
            "square": np.where(odd, 4 / (np.pi * n), 0.0),
            "triangle": np.where(odd, 8 / (np.pi * n) ** 2, 0.0),
        }
        for shape, series in expected.items():
            wave = tone(shape, 100.0)  # 48000 frames of 100 Hz: harmonic n in bin 100·n exactly
            found = np.abs(np.fft.rfft(wave))[100 * n] / 24000
            with self.subTest(shape=shape):
                assert_allclose(found, series, atol=2e-4)

    def test_pulse_has_its_width(self):
        n = np.arange(1, 30)
        for width in (0.1, 0.25, 0.5):
            wave = tone("pulse", 100.0, pulse_width=width)
            found = np.abs(np.fft.rfft(wave))[100 * n] / 24000
            assert_allclose(found, np.abs(4 / (np.pi * n) * np.sin(np.pi * n * width)), atol=3e-4)
            self.assertAlmostEqual(np.mean(wave > np.mean(wave)), width, delta=0.01)

    def test_triangle_and_saw_look_like_themselves(self):
        phase = np.arange(480) / 480.0
        triangle = tone("triangle", 100.0, frames=480)
        assert_allclose(triangle, 2 / np.pi * np.arcsin(np.sin(2 * np.pi * phase)), atol=0.01)
        saw = tone("saw", 100.0, frames=480)
        assert_allclose(saw[40:440], (1 - 2 * phase)[40:440], atol=0.03)

    def test_own_harmonics_replace_the_shapes(self):
        wave = tone("saw", 100.0, levels=(None, 0.0, 0.5))
        found = np.abs(np.fft.rfft(wave))[[100, 200, 300, 400]] / 24000
        assert_allclose(found, [2 / np.pi, 0.0, 0.5, 2 / np.pi / 4], atol=1e-4)

    def test_no_harmonic_above_half_the_rate(self):
        self.assertEqual(harmonics_below(1000.0, 48000), 23)
        self.assertEqual(harmonics_below(30000.0, 48000), 0)
        self.assertEqual(len(shape_harmonics("saw", 23)), 23)


class AliasTest(unittest.TestCase):
    def test_a_saw_has_no_alias_above_minus_80_db(self):
        for frequency in (41.2, 110.3, 233.08, 499.7):
            with self.subTest(frequency=frequency):
                frames = 1 << 16
                wave = tone("saw", frequency, frames=frames) * np.kaiser(frames, 16.0)
                level = np.abs(np.fft.rfft(wave))
                at = np.fft.rfftfreq(frames, 1 / 48000)
                nearest = np.abs(at / frequency - np.round(at / frequency)) * frequency
                outside = (nearest > 10 * 48000 / frames) & (at > frequency / 2)
                alias_db = 20 * np.log10(level[outside].max() / level.max())
                self.assertLess(alias_db, -80.0)

    def test_a_glide_has_neither(self):
        frames = 48000
        out = np.zeros((1, frames), np.float32)
        sweep = np.linspace(100.0, 400.0, frames)
        one = np.ones(frames, np.float32)
        MovingTone("sine", 0.5, (), sweep, 48000).add(out, phase=0.0, ratio=1.0, pan=0.0, gain=one)
        steps = np.concatenate([[0.0], np.cumsum(sweep[:-1])]) / 48000
        assert_allclose(out[0], np.sin(2 * np.pi * steps), atol=1e-4)

    def test_panning_is_equal_power(self):
        for pan in (-1.0, -0.3, 0.0, 0.8):
            out = np.zeros((2, 4800), np.float32)
            table = cycle_table("sine", 0.5, (), 1)
            gain = np.ones(4800, np.float32)
            add_tone(out, table, phase=0.0, frequency_hz=100.0, rate_hz=48000, pan=pan, gain=gain)
            self.assertAlmostEqual(float(np.sum(out**2)), 4800.0, delta=2.0)
