import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.clock import Clock
from apilado.core.dsp.oversampling import oversampled
from apilado.core.dsp.shapers import soft_clip
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.units import db_to_gain
from tests.support import noise, sine


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

    def test_factors(self):
        with self.assertRaisesRegex(ValueError, "1, 2, 4 or 8"):
            oversampled(noise(100), 3, lambda x: x, looped=False)


class SoftClipTest(unittest.TestCase):
    CLOCK = Clock(tempo_bpm=120.0, beats=2.0, rate_hz=48000, looped=True)

    def test_the_curve(self):
        x = np.linspace(-3, 3, 61, dtype=np.float32)
        assert_allclose(soft_clip(x, 2.0), 2 * x / np.sqrt(1 + 4 * x**2), rtol=1e-5)

    def test_blend_does_not_comb(self):
        tone = sine(8000.0, 1.0, amplitude=0.01)
        half = SoftClip(drive_db=0.0, output_db=0.0, blend=0.5).process(tone, self.CLOCK)
        assert_allclose(half, tone, atol=2e-5)

    def test_asymmetric_waves_keep_no_dc(self):
        t = np.arange(48000) / 48000
        wave = np.where((t * 100) % 1 < 0.2, 1.6, -0.4).astype(np.float32)
        out = SoftClip(drive_db=18.0).process(np.stack([wave, wave]), self.CLOCK)
        self.assertLess(abs(float(out.mean())), 1e-3)
