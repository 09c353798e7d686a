import unittest

import numpy as np

from apilado.core.measure.notes import NoteSpan, measure_notes, power_in_whole_periods, power_of_wave
from tests.support import sine


class NotesTest(unittest.TestCase):
    def test_levels_and_pitches_of_a_row(self):
        parts = [(40.0, 1.0), (55.0, 0.5), (80.0, 0.25)]
        audio = np.concatenate([sine(hertz, 0.5, amplitude=a) for hertz, a in parts], axis=1)
        spans = tuple(NoteSpan(float(i), 30 + i, 24000 * i, 24000, parts[i][0]) for i in range(3))
        for found, (hertz, amplitude) in zip(measure_notes(audio, spans, rate_hz=48000), parts, strict=True):
            self.assertAlmostEqual(found.frequency_hz, hertz, delta=0.1)
            self.assertAlmostEqual(found.level_db, 20 * np.log10(amplitude), delta=1e-3)

    def test_every_phase_of_a_period_counts_as_much(self):
        rng = np.random.default_rng(4)
        for frames, periods in ((60, 1.05), (900, 1.7), (14_400, 23.3)):
            part, period = rng.standard_normal((2, frames)).astype(np.float32), frames / periods
            places = np.arange(frames) + 0.5
            weights = np.minimum(np.minimum(places, frames - places) / period, min(1.0, periods - 1.0))
            plain = float(np.sum(part.astype(np.float64) ** 2 @ weights) / np.sum(weights))
            self.assertAlmostEqual(power_in_whole_periods(part, period) / plain, 1.0, places=6)

    def test_the_power_of_a_wave_is_that_of_its_turns_one_by_one(self):
        rng = np.random.default_rng(6)
        for frames, cycles in ((40, 0.11), (256, 0.002), (9001, 0.00091)):
            part, window = rng.standard_normal((2, frames)).astype(np.float32), np.hanning(frames + 2)[1:-1]
            wave = np.exp(-2j * np.pi * cycles * np.arange(frames)) * window * 2.0 / np.sum(window)
            plain = float(np.sum(np.abs(part.astype(np.float64) @ wave) ** 2)) / 2.0
            self.assertAlmostEqual(power_of_wave(part, window, cycles) / plain, 1.0, places=9)

    def test_a_note_goes_on_over_the_loops_end(self):
        audio = np.roll(sine(60.0, 1.0), 12000, axis=1)
        (found,) = measure_notes(audio, (NoteSpan(0.0, 30, 40000, 20000, 60.0),), rate_hz=48000)
        self.assertAlmostEqual(found.frequency_hz, 60.0, delta=0.2)
