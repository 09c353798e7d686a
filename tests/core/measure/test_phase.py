import unittest

import numpy as np
from scipy import signal

from apilado.core.measure.phase import best_alignment, border_phase, coherence_gain_db, octave_around
from apilado.core.measure.spectrum import spectrum_of
from tests.support import noise, sine


def octaves(a, b, hertz):
    return [octave_around(spectrum_of(each, rate_hz=48000), frequency_hz=hertz) for each in (a, b)]


class BorderPhaseTest(unittest.TestCase):
    def test_known_phases(self):
        for degrees in (0.0, 45.0, -90.0, 135.0, 179.0):
            a, b = octaves(sine(100.0, 1.0), sine(100.0, 1.0, phase=np.radians(degrees)), 100.0)
            found = border_phase(a, b, ("low", "high"))
            self.assertAlmostEqual(found.phase_deg, degrees, delta=0.1)
            # |1 + e^(iφ)|²/2 in closed form.
            expected = 10 * np.log10(max(1 + np.cos(np.radians(degrees)), 1e-15))
            self.assertAlmostEqual(found.coherence_gain_db, expected, delta=0.05)
            self.assertTrue(found.meets)
            self.assertFalse(found.drifts)

    def test_unrelated_layers_drift(self):
        a, b = octaves(noise(96000, seed=1), noise(96000, seed=2), 300.0)
        found = border_phase(a, b, ("low", "high"))
        self.assertTrue(found.drifts)
        self.assertAlmostEqual(found.coherence_gain_db, 0.0, delta=0.6)

    def test_what_is_far_below_does_not_meet(self):
        a, b = octaves(sine(100.0, 1.0), sine(100.0, 1.0, amplitude=0.01), 100.0)
        self.assertFalse(border_phase(a, b, ("low", "high")).meets)

    def test_coherence_gain(self):
        one = np.ones(4, complex)
        self.assertAlmostEqual(coherence_gain_db(one, one), 3.0103, places=3)
        self.assertAlmostEqual(coherence_gain_db(one, 1j * one), 0.0, places=6)
        self.assertEqual(coherence_gain_db(0 * one, 0 * one), 0.0)


class AlignmentTest(unittest.TestCase):
    def test_a_known_delay_and_polarity_are_found(self):
        random = np.random.default_rng(5)
        sos = signal.butter(4, (70.0, 140.0), "band", fs=48000, output="sos")
        pulse = np.zeros(48000)
        pulse[20000] = 40.0
        band = signal.sosfiltfilt(sos, pulse)
        for _ in range(12):
            shift, sign = int(random.integers(-150, 150)), random.choice((-1.0, 1.0))
            moved = sign * np.roll(band, shift)
            a, b = octaves(*(np.stack([x, x]).astype(np.float32) for x in (band, moved)), 100.0)
            found = best_alignment(a, b)
            undone = np.roll(moved, round(found.delay_ms * 48)) * (-1.0 if found.invert else 1.0)
            gain = 10 * np.log10(np.sum((band + undone) ** 2) / (2 * np.sum(band**2)))
            self.assertGreater(gain, 2.9)
            self.assertAlmostEqual(gain, found.coherence_gain_db, delta=0.1)
