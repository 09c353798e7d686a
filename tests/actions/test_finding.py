"""What is found in recorded sound: roots, loops that a file carries, slices; and stacks that begin with a file."""

import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np

from apilado.actions import beginning, finding, stacks
from apilado.actions.workspace import Workspace
from apilado.core.document.edits import apply
from apilado.core.document.layer import Layer
from apilado.core.formats.midi_files import write_midi
from apilado.core.formats.sampler_chunk import sampler_chunk
from apilado.core.measure.note_reading import HeardNote, Reading
from apilado.core.notes import Note
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.units import midi_to_hz
from apilado.demo.starts import starts
from apilado.errors import InvalidEdit, UnreadableFile
from tests.support import ENGINE, RATES, graph_of, plain_stack, wav

SHAPES = ("sine", "triangle", "saw", "square", "pulse")


def with_sampler_chunk(content, note, fraction=0, loop=None):
    """A WAV file with what a sampler would write into it."""
    loops = [] if loop is None else [struct.pack("<IIIIII", 0, 0, loop[0], loop[1], 0, 0)]
    body = struct.pack("<IIIIIIIII", 0, 0, 20833, note, fraction, 0, 0, len(loops), 0) + b"".join(loops)
    chunk = b"smpl" + struct.pack("<I", len(body)) + body
    return content[:4] + struct.pack("<I", len(content) - 8 + len(chunk)) + content[8:] + chunk


class RootTest(unittest.TestCase):
    def test_of_the_benchs_own_tones_within_ten_cents_and_never_an_octave_off(self):
        voice = Voice(envelope=Envelope(attack_ms=5.0, decay_ms=900.0, sustain=0.4, release_ms=100.0))
        for rate in RATES:
            for number, shape in enumerate(SHAPES):
                for pitch in (26, 33 + number, 45, 60):
                    layer = Layer(id="a", source=ToneSource(tones=(Tone(shape=shape, cents=-13.0),)), voice=voice)
                    notes = (Note(length_beats=2.0, pitch=pitch),)
                    stack = plain_stack(layers=(layer,), pattern=notes, sample_rate=rate)
                    (sound,) = ENGINE.run([graph_of(stack, looped=False).sources["a"]])
                    found = finding.root_in(sound, rate)
                    off = 100.0 * (found.pitch - pitch) + found.cents + 13.0
                    self.assertLess(abs(off), 10.0, (rate, shape, pitch))

    def test_noise_has_none(self):
        noise = np.random.default_rng(2).standard_normal((1, 48000)).astype(np.float32)
        self.assertIsNone(finding.root_in(noise, 48000))


class ChunkTest(unittest.TestCase):
    def test_root_and_loop_are_read(self):
        content = with_sampler_chunk(wav(np.zeros((1, 4800), np.float32)), 43, 2**31, (1200, 2399))
        found = sampler_chunk(content)
        self.assertEqual((found.pitch, found.loop_frames), (43.5, (1200, 2400)))

    def test_what_is_none_or_makes_no_sense_is_passed_over(self):
        plain = wav(np.zeros((1, 480), np.float32))
        self.assertIsNone(sampler_chunk(plain))
        self.assertIsNone(sampler_chunk(b"RIFF"))
        self.assertIsNone(sampler_chunk(with_sampler_chunk(plain, 200)))
        self.assertIsNone(sampler_chunk(with_sampler_chunk(plain, 40)[:-50]))
        self.assertIsNone(sampler_chunk(with_sampler_chunk(plain, 40, 0, (300, 200))).loop_frames)


class WorkspaceCase(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.workspace = Workspace(Path(folder.name))
        self.addCleanup(self.workspace.close)


class FindingTest(WorkspaceCase):
    def stack_of(self, source):
        return plain_stack(layers=(Layer(id="a", name="quay", source=source),))

    def test_a_sample_is_brought_with_what_its_file_says(self):
        t = np.arange(48000) / 48000
        sound = (0.4 * np.sin(2 * np.pi * 98.0 * t))[None].astype(np.float32)
        plain = self.workspace.assets.add(wav(sound), "pipe.wav")
        values = finding.sample_values(self.workspace, plain, 48000)
        self.assertEqual((values["root"], values["end_ms"]), (43, 1000.0))
        self.assertNotIn("held", values)
        told = self.workspace.assets.add(with_sampler_chunk(wav(sound), 31, 0, (24000, 28799)), "told.wav")
        values = finding.sample_values(self.workspace, told, 48000)
        self.assertEqual((values["root"], values["root_cents"], values["held"]), (31, 0.0, True))
        self.assertEqual((values["hold_at_ms"], values["hold_ms"]), (500.0, 100.0))

    def test_slices_begin_where_something_begins(self):
        dice, sound = np.random.default_rng(8), np.zeros(96000)
        starts_s = (0.1, 0.42, 0.9, 1.31)
        for at in starts_s:
            begin = round(at * 48000)
            t = np.arange(9000) / 48000
            sound[begin : begin + 9000] += dice.standard_normal(9000) * np.exp(-t * 40.0) * 0.3
        asset = self.workspace.assets.add(wav(sound[None].astype(np.float32)), "loop.wav")
        stack = self.stack_of(SampleSource(asset=asset.sha256))
        change, said = finding.slices_of_layer(self.workspace, stack, stack.layers[0])
        source = apply(stack, change).layers[0].source
        self.assertTrue(source.sliced)
        np.testing.assert_allclose(source.slices_ms, [1000 * at for at in starts_s], atol=2.0)
        self.assertIn("4 slices", said)

    def test_what_is_not_there_is_said(self):
        silent = self.workspace.assets.add(wav(np.zeros((1, 4800), np.float32)), "silent.wav")
        stack = self.stack_of(SampleSource(asset=silent.sha256))
        with self.assertRaisesRegex(InvalidEdit, "no clear pitch was found in the sample of 'quay'"):
            finding.root_of_layer(self.workspace, stack, stack.layers[0])
        with self.assertRaisesRegex(InvalidEdit, "nothing begins in the sample of 'quay'"):
            finding.slices_of_layer(self.workspace, stack, stack.layers[0])

    def test_patterns_stretch_and_tuning_are_offered_where_they_differ(self):
        stack = self.stack_of(TakeSource(asset="0" * 64))
        notes = tuple(HeardNote(0.5 * n, 0.5 * n + 0.4, 55.0, -6.0) for n in range(8))
        same = Reading(notes, (), 0.0, stack.tempo_bpm)
        self.assertEqual(len(finding.patterns_offered(stack, stack.layers[0], same)), 1)
        self.assertIsNone(finding.stretch_offered(stack, stack.layers[0], same))
        self.assertIsNone(finding.tuning_offered(stack.layers[0], same))
        other = Reading(notes, (), 22.0, stack.tempo_bpm * 0.9)
        offered = finding.patterns_offered(stack, stack.layers[0], other)
        self.assertEqual([edit.tempo_bpm for _, edit in offered], [None, round(stack.tempo_bpm * 0.9, 3)])
        self.assertEqual(finding.tuning_offered(stack.layers[0], other).value, -22.0)
        stretched = apply(stack, finding.stretch_offered(stack, stack.layers[0], other))
        self.assertAlmostEqual(stretched.layers[0].source.own_bpm, stack.tempo_bpm * 0.9, places=1)
        # Stretched, its notes lie where it is heard: a second of it is less than two beats of 120.
        _, first = finding.patterns_offered(stretched, stretched.layers[0], other)[0]
        self.assertAlmostEqual(first.notes[2].start_beats, stack.tempo_bpm * 0.9 / 60.0, places=2)


class BeginningTest(WorkspaceCase):
    def test_from_a_midi_file_its_lowest_track_at_its_tempo(self):
        notes = [Note(start_beats=float(n), length_beats=0.5, pitch=33 + n % 3) for n in range(6)]
        content = write_midi(notes, tempo_bpm=97.0, beats_per_bar=4, name="bass")
        stack = beginning.from_midi(self.workspace, content, "quay song.mid").stack
        self.assertEqual((stack.name, stack.bars, round(stack.tempo_bpm, 1)), ("quay song", 2, 97.0))
        self.assertEqual([note.pitch for note in stack.pattern], [note.pitch for note in notes])

    def test_every_start_is_opened_by_a_name_of_ones_own(self):
        for start in starts():
            revision = beginning.from_start(self.workspace, start.bundle(), "Mine")
            self.assertEqual(revision.stack.name, "Mine")
            for sha in revision.stack.asset_hashes():
                self.assertTrue(self.workspace.assets.holds(sha))

    def test_silence_is_a_stack_with_an_empty_pattern(self):
        revision, reading = beginning.from_recording(self.workspace, wav(np.zeros((1, 48000), np.float32)), "calm.wav")
        self.assertEqual(revision.stack.pattern, ())
        self.assertIn("No notes were found", beginning.told(reading))

    def test_a_broken_file_is_named_and_leaves_no_stack(self):
        for begin, name in ((beginning.from_recording, "torn.wav"), (beginning.from_midi, "torn.mid")):
            with self.assertRaisesRegex(UnreadableFile, name):
                begin(self.workspace, b"RIFF1234", name)
        self.assertEqual(self.workspace.stacks.listed(), [])

    def test_notes_lie_where_they_were_played_at_the_nearest_semitone(self):
        heard = (
            HeardNote(1.0, 1.4, float(midi_to_hz(33.2)), -6.0),
            HeardNote(1.5, 1.6, float(midi_to_hz(40.2)), -18.0),
        )
        notes = beginning.notes_of(Reading(heard, (), 20.0, 120.0), 120.0, since_s=1.0, first_beat=4.0)
        self.assertEqual([(note.start_beats, note.pitch) for note in notes], [(4.0, 33), (5.0, 40)])
        self.assertGreater(notes[0].velocity, notes[1].velocity)

    def test_it_can_be_edited_like_any_other(self):
        head = beginning.from_tone(self.workspace, "Quay")
        self.assertEqual(len(stacks.bundle_of(self.workspace, head.stack).assets), 0)
