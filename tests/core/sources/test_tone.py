import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.dsp.envelopes import adsr
from apilado.core.measure.pitch import pitch_hz
from apilado.core.notes import Note, lowest_first, voice_notes, voice_runs
from apilado.core.sources.base import Score
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.units import midi_to_hz
from tests.support import ENGINE, graph_of, loader, plain_stack, sha256, sine, wav

CLOCK = Clock(tempo_bpm=120.0, beats=4.0, rate_hz=48000, looped=True)
ORGAN = Voice(envelope=Envelope(attack_ms=0.5, sustain=1.0, release_ms=20.0))


def played(source, *notes, transpose=0, clock=CLOCK, seed=1, voice=ORGAN):
    return source.render(Score(notes, transpose, seed, voice), clock, loader({}))


def tone_source(**values):
    return ToneSource(tones=(Tone(**{"shape": "sine", **values}),), velocity=0.0)


class ToneTest(unittest.TestCase):
    def test_octave_semitones_cents_and_transpose(self):
        for values, transpose, ratio in (
            ({}, 0, 1.0),
            ({"octave": -1}, 0, 0.5),
            ({"semitones": 7}, 0, 2 ** (7 / 12)),
            ({"cents": 50.0}, 12, 2 * 2 ** (0.5 / 12)),
        ):
            audio = played(tone_source(**values), Note(length_beats=2.0, pitch=45), transpose=transpose)
            self.assertAlmostEqual(pitch_hz(audio[0, 4800:14400], 48000), 110.0 * ratio, delta=0.05)

    def test_start_phase_is_the_same_on_every_note(self):
        notes = [Note(start_beats=b, length_beats=0.5, pitch=45) for b in range(4)]
        audio = played(tone_source(start_phase_deg=90.0), *notes)
        first = audio[:, 0:9600]
        for beat in range(1, 4):
            np.testing.assert_array_equal(audio[:, beat * 24000 : beat * 24000 + 9600], first)
        assert_allclose(audio[0, 100:9600], sine(110.0, 1.0, phase=np.pi / 2)[0, 100:9600], atol=1e-3)

    def test_free_phases_hang_on_a_notes_place(self):
        source = tone_source(phase="free")
        first, second = Note(length_beats=0.5, pitch=45), Note(start_beats=2.0, length_beats=0.5, pitch=45)
        both, alone = played(source, first, second), played(source, second)
        np.testing.assert_array_equal(both[:, 48000:57600], alone[:, 48000:57600])
        # As stacks of older versions drew them: by the note's number, which changes when one before it goes.
        order = [
            source.render(Score(notes, 0, 1, ORGAN, "order"), CLOCK, loader({}))
            for notes in ((first, second), (second,))
        ]
        self.assertGreater(float(np.abs(order[0][:, 48000:57600] - order[1][:, 48000:57600]).max()), 0.05)

    def test_free_phases_come_from_the_seed(self):
        notes = [Note(start_beats=b, length_beats=0.5, pitch=45) for b in range(2)]
        source = tone_source(phase="free")
        audio = played(source, *notes)
        self.assertGreater(float(np.abs(audio[:, :9600] - audio[:, 24000:33600]).max()), 0.05)
        np.testing.assert_array_equal(played(source, *notes), audio)
        self.assertFalse(np.array_equal(played(source, *notes, seed=2), audio))

    def test_copies_are_spread_and_keep_the_power(self):
        one = played(tone_source(shape="saw"), Note(length_beats=4.0, pitch=40))
        many = played(tone_source(shape="saw", copies=8, spread=1.0, phase="free"), Note(length_beats=4.0, pitch=40))
        self.assertEqual((one.shape[0], many.shape[0]), (1, 2))
        self.assertAlmostEqual(10 * np.log10(np.mean(many**2) / np.mean(one**2)), 0.0, delta=1.5)
        places = [(10.0 * share, pan) for share, pan in Tone(copies=5, spread=1.0).copy_places()]
        self.assertEqual([cents for cents, _ in places], [-10.0, -5.0, 0.0, 5.0, 10.0])
        # The lowest copy stands left, the highest right; their neighbours on the other side of each.
        self.assertEqual([pan for _, pan in places], [-1.0, 0.5, 0.0, -0.5, 1.0])
        wide = played(tone_source(copies=2, detune_cents=50.0, spread=1.0), Note(length_beats=4.0, pitch=57))
        found = [np.argmax(np.abs(np.fft.rfft(side[9600:57600]))) for side in wide]
        assert_allclose(found, [220.0 * 2 ** (-50 / 1200), 220.0 * 2 ** (50 / 1200)], atol=1.0)

    def test_a_release_begins_at_the_level_that_the_gate_leaves(self):
        # A gate that closes within the attack, within the decay, and on the sustain: no step at any of them.
        for gate in (200, 3000, 40000):
            curve = adsr(60000, gate, attack_frames=480, decay_frames=24000, sustain=0.3, release_frames=9600).astype(
                float
            )
            self.assertAlmostEqual(curve[gate], curve[gate - 1], delta=0.01, msg=gate)
            self.assertLess(np.abs(np.diff(curve)).max(), 0.01)

    def test_glide_reaches_the_next_pitch_in_its_time(self):
        source = ToneSource(tones=(Tone(shape="sine"),))
        notes = (Note(length_beats=1.0, pitch=45), Note(start_beats=1.0, length_beats=2.0, pitch=57, slide=True))
        audio = played(source, *notes, voice=ORGAN.model_copy(update={"glide_ms": 100.0}))
        self.assertAlmostEqual(pitch_hz(audio[0, 24000 + 5200 : 24000 + 14800], 48000), 220.0, delta=0.3)
        middle = pitch_hz(audio[0, 24000 + 2200 : 24000 + 2600], 48000)
        self.assertAlmostEqual(middle, 110 * 2**0.5, delta=4.0)

    def test_harmonics_beyond_2_are_refused(self):
        with self.assertRaisesRegex(ValueError, "harmonic 2 must be from 0 to 2, not 3"):
            Tone(harmonics=(1.0, 3.0))


class VoiceTest(unittest.TestCase):
    def test_one_voice_lowest_note_first(self):
        notes = (Note(pitch=50), Note(pitch=40), Note(start_beats=9.0))
        self.assertEqual([n.pitch for n in voice_notes(notes, 4.0)], [40])

    def test_runs_are_cut_by_the_next_and_wrap(self):
        notes = (Note(start_beats=1.0, length_beats=2.0), Note(start_beats=2.0, length_beats=3.0))
        first, last = voice_runs(notes, CLOCK)
        self.assertEqual((first.gate_frames, first.cut_frames), (48000, 24000))
        self.assertEqual(last.cut_frames, 72000)

    def test_of_a_stretch_the_runs_that_are_heard_in_it_are_looked_at(self):
        for seed in range(40):
            rng = np.random.default_rng(seed)
            clock = Clock(float(rng.uniform(60.0, 180.0)), float(rng.integers(1, 65)), 48000, looped=True)
            starts = np.sort(rng.uniform(0.0, clock.beats, int(rng.integers(1, 30))))
            notes = tuple(Note(start_beats=float(at), length_beats=float(rng.uniform(0.1, 9.0))) for at in starts)
            part = clock.stretch(int(rng.integers(-9, 9) * clock.frames // 4), int(rng.integers(1, 2 * clock.frames)))
            runs = voice_runs(notes, part)
            self.assertIs(voice_runs(notes, clock.stretch(7, 9)), runs)
            lasts = int(runs[0].gate_frames) + 480
            just = [  # it ends with their first frame, or before it; it begins with their last, or behind it
                clock.stretch(runs[0].start + lasts - 1, 1),
                clock.stretch(runs[0].start + lasts, 1),
                clock.stretch(runs[0].start - 99, 100),
                clock.stretch(runs[0].start - 100, 100),
            ]
            stretches = [(each, runs.gates + 480) for each in (part, *just)]
            for each, lengths in (*stretches, (clock, runs.gates)):
                places = [each.places(run.start, int(length)) for run, length in zip(runs, lengths, strict=True)]
                wanted = [(n, runs[n], found) for n, found in enumerate(places) if found]
                self.assertEqual(list(runs.heard(each, lengths)), wanted)

    def test_a_note_goes_on_over_the_loops_end(self):
        audio = played(tone_source(), Note(start_beats=3.5, length_beats=1.0, pitch=45))
        self.assertGreater(float(np.abs(audio[:, 2000:10000]).max()), 0.9)
        self.assertEqual(float(np.abs(audio[:, 14000:80000]).max()), 0.0)


class EnvelopeTest(unittest.TestCase):
    def test_stages(self):
        given = {"attack_frames": 100, "decay_frames": 1000, "sustain": 0.5, "release_frames": 500}
        curve = adsr(4000, 3000, **given)
        self.assertEqual(curve[0], 0.0)
        self.assertAlmostEqual(float(curve[50]), 0.5, delta=0.01)
        self.assertAlmostEqual(float(curve[100]), 1.0, places=3)
        self.assertAlmostEqual(float(curve[2000]), 0.5, places=3)
        self.assertAlmostEqual(float(curve[3000 + 250]), 0.5 * 10 ** (-30 / 20), delta=0.002)
        np.testing.assert_array_equal(curve[3500:], 0.0)
        self.assertLess(float(np.abs(np.diff(curve)).max()), 0.02)


class TakeTest(unittest.TestCase):
    def test_laid_on_the_timeline(self):
        content = wav(sine(100.0, 0.5))
        source = TakeSource(asset=sha256(content), start_beats=1.0, skip_ms=100.0, gain_db=-6.0206)
        out = source.render(Score((), 0, 0, ORGAN), CLOCK, loader({sha256(content): content}))
        self.assertEqual(out.shape, (2, 96000))
        np.testing.assert_array_equal(out[:, :24000], 0.0)
        assert_allclose(out[:, 24200:43000], 0.5 * sine(100.0, 0.5)[:, 5000:23800], atol=1e-4)

    def test_beyond_the_end_it_is_cut(self):
        content = wav(sine(100.0, 2.5))
        source = TakeSource(asset=sha256(content), start_beats=2.0)
        out = source.render(Score((), 0, 0, ORGAN), CLOCK, loader({sha256(content): content}))
        np.testing.assert_array_equal(out[:, :48000], 0.0)
        self.assertAlmostEqual(float(out[0, -1]), 0.0, places=3)


class LowestFirstTest(unittest.TestCase):
    def notes(self, *told):
        return tuple(Note(start_beats=at, length_beats=length, pitch=pitch) for at, length, pitch in told)

    def test_a_higher_note_waits_until_the_lower_one_has_ended(self):
        found = lowest_first(self.notes((0.0, 2.0, 36), (1.0, 2.0, 43), (1.5, 0.25, 31)))
        told = [(note.start_beats, note.length_beats, note.pitch) for note in found]
        self.assertEqual(told, [(0.0, 1.5, 36), (1.5, 0.25, 31), (1.75, 0.25, 36), (2.0, 1.0, 43)])
        apart = self.notes((0.0, 0.5, 36), (1.0, 0.5, 43))
        self.assertEqual(lowest_first(apart), apart)
        self.assertEqual(lowest_first(()), ())

    def test_it_is_heard(self):
        low, high = Note(length_beats=4.0, pitch=31), Note(start_beats=1.0, length_beats=1.0, pitch=43)
        hertz = {}
        for gives in ("last", "lowest"):
            layer = Layer(id="a", source=ToneSource(tones=(Tone(shape="sine"),)), voice=Voice(gives=gives))
            stack = plain_stack(layers=(layer,), pattern=(low, high))
            (sound,) = ENGINE.run([graph_of(stack).sources["a"]])
            begin = round(1.3 * 60.0 / stack.tempo_bpm * 48000)
            hertz[gives] = pitch_hz(sound[0, begin : begin + 9000], 48000)
        self.assertAlmostEqual(hertz["last"], float(midi_to_hz(43.0)), delta=0.5)
        self.assertAlmostEqual(hertz["lowest"], float(midi_to_hz(31.0)), delta=0.5)
