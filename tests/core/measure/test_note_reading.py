"""Notes read in recordings: on sequences that the bench itself renders, and on made-up plucked strings."""

import unittest

import numpy as np

from apilado.core.document.layer import Layer
from apilado.core.measure.note_reading import read_notes, tempo_of
from apilado.core.notes import Note
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.units import midi_to_hz
from tests.seeded.stacks import Dice, seeds
from tests.support import ENGINE, graph_of, plain_stack

RATE = 48000
SHAPES = ("sine", "triangle", "saw", "square", "pulse")


def sequence(dice, low_midi, high_midi):
    """(notes, tempo): sixteenths and longer, each with a gap before it or another pitch than the one before."""
    tempo, at, notes, before = dice.between(60.0, 180.0, 2), 0.0, [], -1
    while at < 14.0:
        length = dice.of((0.5, 0.5, 1.0, 1.5)) if tempo > 120.0 else dice.of((0.25, 0.5, 0.5, 1.0))
        gap = dice.one_in(2)
        pitch = dice.whole(low_midi, high_midi)
        if not gap and pitch == before:
            pitch = pitch + 1 if pitch < high_midi else pitch - 1
        sounding = length * (0.6 if dice.one_in(2) else 1.0)
        if notes and notes[-1].end_beats > at - 1e-6 and gap:
            notes[-1] = notes[-1].model_copy(update={"length_beats": notes[-1].length_beats * 0.6})
        notes.append(Note(start_beats=at, length_beats=sounding, pitch=pitch, velocity=dice.whole(40, 127)))
        before, at = pitch, at + length
    return tuple(notes), tempo


def rendered(notes, tempo, shape):
    voice = Voice(mode="retrigger", envelope=Envelope(attack_ms=4.0, decay_ms=3000.0, sustain=0.8, release_ms=25.0))
    layer = Layer(id="a", source=ToneSource(tones=(Tone(shape=shape),), velocity=1.0), voice=voice)
    stack = plain_stack(layers=(layer,), pattern=notes, tempo_bpm=tempo, bars=4)
    (sound,) = ENGINE.run([graph_of(stack, looped=False).sources["a"]])
    return sound


def plucked(notes, tempo, dice):
    """Plucked strings after K. Karplus and A. Strong, "Digital Synthesis of Plucked-String and Drum Timbres", CMJ 7/2,
    1983: noise in a delay line that is a cycle long, each time the mean of two neighbours."""
    out = np.zeros(round((16.0 * 60.0 / tempo + 1.0) * RATE))
    for note in notes:
        cycle = RATE / float(midi_to_hz(float(note.pitch)))
        size = int(cycle - 0.5)
        apart = cycle - 0.5 - size
        line = dice.random.uniform(-1.0, 1.0, size)
        line = np.convolve(np.concatenate([line[-8:], line]), np.ones(9) / 9.0, "valid")
        frames = round(note.length_beats * 60.0 / tempo * RATE)
        string = np.zeros(frames + size)
        string[:size] = line
        allpass, before, last = (1.0 - apart) / (1.0 + apart), 0.0, 0.0
        for n in range(size, frames + size):
            mean = 0.5 * (string[n - size] + string[n - size - 1]) if n > size else string[n - size]
            string[n] = allpass * mean + before - allpass * last
            before, last = mean, string[n]
        begin = round(note.start_beats * 60.0 / tempo * RATE)
        part = string[:frames] * note.velocity / 127.0
        part[-200:] *= np.linspace(1.0, 0.0, 200)
        out[begin : begin + frames] += part
    return out[None]


def in_a_room(sound, seed):
    """With a reverberation of 0.3 s, 10 dB under the sound."""
    dice = np.random.default_rng(seed)
    t = np.arange(round(0.4 * RATE)) / RATE
    room = dice.standard_normal(t.shape[0]) * 10.0 ** (-3.0 * t / 0.3)
    wet = np.fft.irfft(np.fft.rfft(sound, 2 * sound.shape[1]) * np.fft.rfft(room, 2 * sound.shape[1]))[
        :, : sound.shape[1]
    ]
    return sound + wet * np.sqrt(np.mean(sound**2) / np.mean(wet**2)) * 10.0 ** (-10.0 / 20.0)


def found_of(notes, tempo, reading):
    """(how many notes were found where and as they are, octave errors, notes that are none)."""
    right, octaves, left = 0, 0, list(reading.notes)
    for note in notes:
        start = note.start_beats * 60.0 / tempo
        near = 0.030 if midi_to_hz(float(note.pitch)) < 60.0 else 0.020
        close = [each for each in left if abs(each.start_s - start) <= near]
        if not close:
            continue
        left.remove(close[0])
        cents = 1200.0 * np.log2(close[0].hertz / midi_to_hz(float(note.pitch)))
        right += abs(cents) <= 20.0
        octaves += abs(abs(cents) - 1200.0) < 100.0
    return right, octaves, len(left)


class ReadNotesTest(unittest.TestCase):
    def test_sequences_of_all_shapes_are_read(self):
        wanted = right = octaves = extra = timed = 0
        tempi = []
        for seed in seeds(6):
            dice = Dice(seed)
            low = dice.whole(28, 55)
            notes, tempo = sequence(dice, low, low + 12)
            shape = SHAPES[seed % len(SHAPES)]
            sound = rendered(notes, tempo, shape)
            if seed % 2:
                sound = in_a_room(sound, seed)
            reading = read_notes(sound, RATE)
            found, wrong, others = found_of(notes, tempo, reading)
            wanted, right, octaves, extra = wanted + len(notes), right + found, octaves + wrong, extra + others
            self.assertGreater(found, 0.9 * len(notes), (seed, shape, tempo, low))
            ratio = (reading.tempo_bpm or 0.0) / tempo
            timed += any(abs(ratio * by - 1.0) < 0.005 for by in (0.5, 1.0, 2.0))
            tempi.append(ratio)
        self.assertGreaterEqual(right / wanted, 0.98)
        self.assertEqual(octaves, 0)
        self.assertLessEqual(extra / wanted, 0.02)
        self.assertGreaterEqual(timed, 0.9 * len(tempi), tempi)

    def test_plucked_strings_are_read(self):
        wanted = right = octaves = 0
        for seed in seeds(3, first=50):
            dice = Dice(seed)
            notes, tempo = sequence(dice, 28, 45)
            reading = read_notes(plucked(notes, tempo, dice), RATE)
            found, wrong, _ = found_of(notes, tempo, reading)
            wanted, right, octaves = wanted + len(notes), right + found, octaves + wrong
        self.assertGreaterEqual(right / wanted, 0.95)
        self.assertEqual(octaves, 0)

    def test_a_low_note_begins_where_it_comes_up_and_not_a_cycle_later(self):
        notes = tuple(Note(start_beats=float(n), length_beats=0.5, pitch=30 + n % 3) for n in range(8))
        for shape in ("saw", "square"):
            reading = read_notes(rendered(notes, 100.0, shape), RATE)
            off = [each.start_s - 0.6 * note.start_beats for each, note in zip(reading.notes, notes, strict=True)]
            self.assertLess(np.abs(off).max(), 0.006, shape)

    def test_what_cannot_be_told_is_doubtful_and_no_note(self):
        t = np.arange(2 * RATE) / RATE
        steady = 0.4 * np.sin(2 * np.pi * 55.0 * t)
        self.assertEqual(len(read_notes(steady[None], RATE).notes), 1)
        noise = np.concatenate([steady, 0.3 * np.random.default_rng(3).standard_normal(RATE // 2)])
        reading = read_notes(noise[None], RATE)
        self.assertEqual(len(reading.notes), 1)
        self.assertTrue(any(abs(at - 2.0) < 0.05 for at in reading.doubtful_s), reading.doubtful_s)
        self.assertEqual(read_notes(np.zeros((2, RATE)), RATE).notes, ())
        self.assertEqual(read_notes(np.zeros((1, 10)), RATE).notes, ())

    def test_tuning_and_tempo(self):
        notes = tuple(Note(start_beats=float(n), length_beats=0.7, pitch=36 + n % 5) for n in range(16))
        sound = rendered(notes, 97.3, "saw")
        reading = read_notes(sound, round(RATE * 2 ** (23.0 / 1200.0)))
        self.assertAlmostEqual(reading.tuning_cents, 23.0, delta=2.0)
        self.assertAlmostEqual(reading.tempo_bpm, 97.3 * 2 ** (23.0 / 1200.0), delta=0.4)
        scattered = np.cumsum(np.random.default_rng(5).uniform(0.15, 0.9, 24))
        self.assertIsNone(tempo_of(scattered))
