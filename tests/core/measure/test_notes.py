import unittest

import librosa
import numpy as np

from apilado.core.dsp.oscillators import shape_harmonics
from apilado.core.measure.notes import NoteSpan, measure_notes, pitch_hz
from apilado.core.units import midi_to_hz
from tests.support import noise, sine


def wave(frequency_hz, shape="saw", frames=9600, rate=48000):
    t = np.arange(frames) / rate
    series = shape_harmonics(shape, 30)
    return sum(abs(c) * np.sin(2 * np.pi * (n + 1) * frequency_hz * t + np.angle(c)) for n, c in enumerate(series))


class PitchTest(unittest.TestCase):
    def test_closed_form_waves(self):
        for pitch in range(23, 60, 3):
            for shape in ("sine", "saw", "square", "triangle"):
                hertz = float(midi_to_hz(float(pitch)))
                with self.subTest(pitch=pitch, shape=shape):
                    found = pitch_hz(wave(hertz, shape), 48000)
                    self.assertLess(abs(1200 * np.log2(found / hertz)), 3.0)

    def test_as_librosa_hears_it(self):
        for hertz in (41.2, 87.3):
            signal = wave(hertz, "saw", frames=24000)
            heard = librosa.yin(signal, fmin=30, fmax=400, sr=48000, frame_length=8192)
            self.assertLess(abs(1200 * np.log2(pitch_hz(signal[:9600], 48000) / np.median(heard))), 10.0)

    def test_noise_and_silence_have_none(self):
        self.assertIsNone(pitch_hz(noise(9600)[0], 48000))
        self.assertIsNone(pitch_hz(np.zeros(9600), 48000))


class NotesTest(unittest.TestCase):
    def test_levels_and_pitches_of_a_row(self):
        parts = [(40.0, 1.0), (55.0, 0.5), (80.0, 0.25)]
        audio = np.concatenate([sine(hertz, 0.5, amplitude=a) for hertz, a in parts], axis=1)
        spans = tuple(NoteSpan(float(i), 30 + i, 24000 * i, 24000, parts[i][0]) for i in range(3))
        for found, (hertz, amplitude) in zip(measure_notes(audio, spans, rate_hz=48000), parts, strict=True):
            self.assertAlmostEqual(found.frequency_hz, hertz, delta=0.1)
            self.assertAlmostEqual(found.level_db, 20 * np.log10(amplitude), delta=1e-3)

    def test_a_note_goes_on_over_the_loops_end(self):
        audio = np.roll(sine(60.0, 1.0), 12000, axis=1)
        (found,) = measure_notes(audio, (NoteSpan(0.0, 30, 40000, 20000, 60.0),), rate_hz=48000)
        self.assertAlmostEqual(found.frequency_hz, 60.0, delta=0.2)
