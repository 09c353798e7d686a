import unittest

import numpy as np

from apilado.core.measure.fullness import fullness, harmonic_amplitudes
from apilado.core.measure.kick_phase import kick_meeting
from tests.support import sine


class FullnessTest(unittest.TestCase):
    """The closed form of sin x + a·sin 3x: third-harmonic injection, as in any handbook of power electronics."""

    @staticmethod
    def wave(a, phase=0.0):
        t = np.arange(9600) / 48000
        return np.sin(2 * np.pi * 50 * t + phase) + a * np.sin(3 * (2 * np.pi * 50 * t + phase))

    @staticmethod
    def peak(a):
        """max of s + a(3s − 4s³) over s in 0…1, s = sin x."""
        s = np.linspace(0, 1, 100001)
        return float(np.max(s + a * (3 * s - 4 * s**3)))

    def test_peak_rms_crest_and_third(self):
        for a in (-0.2, 0.0, 0.08, 1 / 9, 0.14, 1 / 6, 0.3):
            for phase in (0.0, 1.0):
                found = fullness(harmonic_amplitudes(self.wave(a, phase), 50.0, 48000))
                self.assertAlmostEqual(found.third, a, places=3)
                self.assertAlmostEqual(found.peak, self.peak(a), delta=2e-3)
                self.assertAlmostEqual(found.rms, np.sqrt((1 + a * a) / 2), places=3)
                self.assertAlmostEqual(found.crest_db, 20 * np.log10(found.peak / found.rms), places=6)

    def test_the_two_marks(self):
        self.assertAlmostEqual(self.peak(1 / 6), np.sqrt(3) / 2, places=4)
        for a, double in ((0.0, False), (0.10, False), (0.15, True), (0.3, True), (-0.1, False)):
            self.assertEqual(fullness(harmonic_amplitudes(self.wave(a), 50.0, 48000)).double_peak, double, a)

    def test_silence_has_none(self):
        self.assertIsNone(fullness(harmonic_amplitudes(np.zeros(4800), 50.0, 48000)))


class KickMeetingTest(unittest.TestCase):
    def test_known_phases_and_the_better_polarity(self):
        for degrees, gain in ((0.0, 3.01), (90.0, 0.0), (180.0, -20.0)):
            kick, sub = sine(60.0, 1.0), sine(60.0, 1.0, phase=np.radians(degrees))
            met = kick_meeting(kick, sub, (0, 16000, 32000), rate_hz=48000)
            self.assertAlmostEqual(abs(met.phase_deg), degrees, delta=2.5)
            if gain > -10:
                self.assertAlmostEqual(met.gain_db, gain, delta=0.15)
            else:
                self.assertLess(met.gain_db, gain)
            self.assertAlmostEqual(met.best_db, 3.01, delta=0.1)

    def test_the_offset_brings_the_peak(self):
        kick, sub = sine(60.0, 1.0), sine(60.0, 1.0, phase=np.radians(100.0))
        met = kick_meeting(kick, sub, (0, 24000), rate_hz=48000)
        self.assertGreater(met.best_peak_db, met.peak_db + 2.0)
        lag = 100.0 / 360.0 / 60.0 * 48000
        self.assertAlmostEqual(met.best_offset_frames, -lag if not met.best_invert else 400 - lag, delta=25)

    def test_the_peak_is_that_of_every_frame(self):
        falling = 0.5 + 0.5 * np.cos(np.pi * np.arange(5760) / 5760)
        for hertz in (41.0, 77.0, 133.0):
            kick, sub = sine(60.0, 1.0), sine(hertz, 1.0, phase=1.0)
            met = kick_meeting(kick, sub, (0,), rate_hz=48000)
            lines = np.fft.rfft((kick + sub)[0, :5760] * falling, 11520)
            lines[np.abs(np.arange(lines.size) * 48000 / 11520 - 85.0) > 57.0] = 0.0  # 30 to 140 Hz, and a line more
            self.assertAlmostEqual(met.peak_db, 20 * np.log10(np.abs(np.fft.irfft(lines)).max()), delta=0.01)

    def test_nothing_to_compare(self):
        self.assertIsNone(kick_meeting(sine(60.0, 1.0), sine(60.0, 1.0), (), rate_hz=48000))
        self.assertIsNone(kick_meeting(0 * sine(60.0, 1.0), sine(60.0, 1.0), (0,), rate_hz=48000))
