import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core import units


class UnitsTest(unittest.TestCase):
    def test_equal_temperament(self):
        # Published tables of equal temperament at A4 = 440 Hz.
        for pitch, hertz in ((69, 440.0), (28, 41.203), (60, 261.626), (33, 55.0), (21, 27.5), (108, 4186.009)):
            with self.subTest(pitch=pitch):
                self.assertAlmostEqual(units.midi_to_hz(float(pitch)), hertz, places=3)

    def test_names(self):
        for pitch, name in ((28, "E1"), (60, "C4"), (69, "A4"), (39, "Eb2"), (0, "C-1"), (36.4, "C2")):
            with self.subTest(pitch=pitch):
                self.assertEqual(units.midi_to_name(pitch), name)

    def test_pitches_from_names(self):
        for pitch in range(128):
            self.assertEqual(units.name_to_midi(units.midi_to_name(pitch)), pitch)
        # Enharmonics, and B to C across the octave's number.
        for name, pitch in (("f#1", 30), ("Gb1", 30), (" A♯0", 22), ("Cb4", 59), ("B#3", 60), ("28", 28), ("C-1", 0)):
            with self.subTest(name=name):
                self.assertEqual(units.name_to_midi(name), pitch)
        for wrong in ("H2", "", "C", "2C", "C2.5", "128", "Cb-1", "A#9", "-3", "C##2"):
            with self.subTest(name=wrong), self.assertRaisesRegex(ValueError, "no pitch|pitches run from C-1 to G9"):
                units.name_to_midi(wrong)

    def test_places_are_counted_from_one(self):
        for beats, per_bar, said in ((0.0, 4, "bar 1, beat 1"), (5.5, 4, "bar 2, beat 2.5"), (6.0, 3, "bar 3, beat 1")):
            self.assertEqual(units.bar_and_beat(beats, per_bar), said)
        self.assertEqual(units.bar_and_beat(4.0 - 1e-12, 4), "bar 2, beat 1")

    def test_decibels(self):
        assert_allclose(units.db_to_gain(np.array([0.0, 20.0, -6.0205999])), [1.0, 10.0, 0.5], rtol=1e-7)
        self.assertAlmostEqual(units.gain_to_db(0.5), -6.0206, places=4)
        self.assertEqual(units.gain_to_db(0.0), units.SILENCE_DB)
        self.assertEqual(units.power_to_db(0.0), units.SILENCE_DB)
        self.assertAlmostEqual(units.power_to_db(0.5), -3.0103, places=4)

    def test_beats_never_drift(self):
        for rate in (44100, 48000, 96000):
            exact = [beat * 60.0 * rate / 87.0 for beat in range(257)]
            found = [units.beats_to_samples(float(beat), 87.0, rate) for beat in range(257)]
            self.assertLessEqual(max(abs(a - b) for a, b in zip(exact, found, strict=True)), 0.5 + 1e-6)

    def test_cents(self):
        self.assertAlmostEqual(units.cents_to_ratio(1200.0), 2.0)
        self.assertAlmostEqual(units.cents_to_ratio(100.0), 2 ** (1 / 12))
