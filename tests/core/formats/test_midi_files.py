import io
import unittest

import mido
import numpy as np

from apilado.core.formats.midi_files import read_midi, write_midi
from apilado.core.notes import Note
from apilado.errors import UnreadableFile


def midi(tracks, *, kind=1, division=480):
    file = mido.MidiFile(type=kind, ticks_per_beat=division)
    for messages in tracks:
        file.tracks.append(mido.MidiTrack(messages))
    buffer = io.BytesIO()
    file.save(file=buffer)
    return buffer.getvalue()


def played(*notes, division=480, name="bass"):
    messages = [mido.MetaMessage("track_name", name=name)]
    for pitch, beats in notes:
        messages.append(mido.Message("note_on", note=pitch, velocity=90))
        messages.append(mido.Message("note_on", note=pitch, velocity=0, time=round(beats * division)))
    return messages


class SlideTest(unittest.TestCase):
    def test_slides_come_back(self):
        random = np.random.default_rng(5)
        for _ in range(20):
            notes, at = [], 0.0
            while at < 16.0:
                length = float(random.choice([0.25, 0.5, 1.0]))
                gap = float(random.choice([0.0, 0.0, 0.25]))
                slide = bool(notes) and notes[-1].end_beats == at and bool(random.integers(2))
                pitch = int(random.integers(30, 36))
                notes.append(Note(start_beats=at, length_beats=length, pitch=pitch, velocity=90, slide=slide))
                at += length + gap
            content = write_midi(notes, tempo_bpm=87.3, beats_per_bar=4, name="slides")
            (track,) = read_midi(content, "s.mid").tracks
            self.assertEqual(list(track.notes), notes)

    def test_another_program_sees_notes_that_overlap(self):
        notes = [Note(length_beats=1.0, pitch=33), Note(start_beats=1.0, length_beats=1.0, pitch=40, slide=True)]
        track = mido.MidiFile(file=io.BytesIO(write_midi(notes, tempo_bpm=120, beats_per_bar=4, name="x"))).tracks[1]
        order = [(m.type, m.note, m.velocity) for m in track if m.type.startswith("note")]
        self.assertEqual(order[1][:2], ("note_on", 40))
        self.assertEqual(order[2], ("note_off", 33, 0))

    def test_overlaps_that_are_no_slides_stay_as_they_are(self):
        notes = [Note(length_beats=1.25, pitch=33), Note(start_beats=1.0, length_beats=1.0, pitch=40)]
        content = write_midi(notes, tempo_bpm=120, beats_per_bar=4, name="x")
        self.assertEqual(list(read_midi(content, "x.mid").tracks[0].notes), notes)


class HostileTest(unittest.TestCase):
    def test_tempi_and_keys_that_make_no_sense(self):
        stopped = midi([[mido.MetaMessage("set_tempo", tempo=0)], played((33, 1))])
        self.assertIsNone(read_midi(stopped, "a.mid").tempo_bpm)
        keyed = bytearray(midi([[mido.MetaMessage("key_signature", key="C")], played((33, 1))]))
        at = keyed.index(b"\xff\x59\x02")
        keyed[at + 3 : at + 5] = b"\x70\x07"
        with self.assertRaisesRegex(UnreadableFile, "'a.mid' cannot be read as MIDI"):
            read_midi(bytes(keyed), "a.mid")

    def test_a_million_notes_are_refused_by_their_size(self):
        with self.assertRaisesRegex(UnreadableFile, "the most is 512 KiB"):
            read_midi(b"MThd" + bytes(600 * 2**10), "a.mid")

    def test_mutated_files_are_refused_or_read_and_nothing_else(self):
        random = np.random.default_rng(12)
        whole = midi([[mido.MetaMessage("set_tempo", tempo=500000)], played((33, 1), (36, 0.5), (40, 2))])
        for _ in range(400):
            broken = bytearray(whole)
            for _ in range(int(random.integers(1, 6))):
                broken[int(random.integers(len(broken)))] = int(random.integers(256))
            try:
                read_midi(bytes(broken[: int(random.integers(1, len(broken) + 1))]), "a.mid")
            except UnreadableFile as error:
                self.assertIn("a.mid", str(error))


class ReadingTest(unittest.TestCase):
    def test_formats_and_divisions(self):
        for kind in (0, 1):
            for division in (24, 96, 480, 15360):
                content = midi([played((33, 0.5), (40, 1.5), division=division)], kind=kind, division=division)
                with self.subTest(kind=kind, division=division):
                    (track,) = read_midi(content, "a.mid").tracks
                    found = [(n.start_beats, n.length_beats, n.pitch, n.velocity) for n in track.notes]
                    self.assertEqual(found, [(0.0, 0.5, 33, 90), (0.5, 1.5, 40, 90)])

    def test_tempo_and_tracks_are_offered(self):
        head = [mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(87))]
        found = read_midi(midi([head, played((33, 1), name="low"), [], played((45, 1), name="top")]), "a.mid")
        self.assertAlmostEqual(found.tempo_bpm, 87.0, places=3)
        self.assertEqual([(track.index, track.name) for track in found.tracks], [(1, "low"), (3, "top")])

    def test_hanging_and_doubled_notes_are_closed(self):
        on = mido.Message("note_on", note=33, velocity=80)
        track = [
            on,
            on.copy(time=240),
            mido.Message("note_on", note=36, velocity=80, time=240),
            mido.MetaMessage("end_of_track", time=480),
        ]
        (found,) = read_midi(midi([track]), "a.mid").tracks
        self.assertEqual(
            [(n.start_beats, n.length_beats, n.pitch) for n in found.notes],
            [(0.0, 0.5, 33), (0.5, 1.5, 33), (1.0, 1.0, 36)],
        )

    def test_bad_files_are_named(self):
        good = midi([played((33, 0.5), (40, 1.5))])
        smpte = bytearray(good)
        smpte[12:14] = bytes([0xE7, 40])
        zero = bytearray(good)
        zero[12:14] = b"\0\0"
        two = bytearray(good)
        two[8:10] = b"\0\2"
        for content, words in (
            (good[:-9], "is cut short"),
            (good[:20], "is cut short"),
            (bytes(smpte), "timed in SMPTE frames"),
            (bytes(zero), "division of zero"),
            (bytes(two), "is of format 2"),
            (midi([[mido.MetaMessage("track_name", name="empty")]]), "holds no notes"),
            (b"RIFFxxxx", "is not a standard MIDI file"),
            (b"", "is not a standard MIDI file"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(UnreadableFile, words):
                read_midi(content, "pattern.mid")


class WritingTest(unittest.TestCase):
    def test_round_trip_and_what_mido_reads(self):
        notes = (
            Note(start_beats=0.0, length_beats=0.5, pitch=33, velocity=101),
            Note(start_beats=0.5, length_beats=1.25, pitch=40, velocity=64),
        )
        content = write_midi(notes, tempo_bpm=126.0, beats_per_bar=3, name="Slipway")
        back = read_midi(content, "a.mid")
        self.assertAlmostEqual(back.tempo_bpm, 126.0, places=3)
        self.assertEqual(back.tracks[0].notes, notes)
        file = mido.MidiFile(file=io.BytesIO(content))
        self.assertEqual(file.type, 1)
        signature = next(m for m in file.tracks[0] if m.type == "time_signature")
        self.assertEqual((signature.numerator, signature.denominator), (3, 4))
        self.assertEqual([m.note for m in file.tracks[1] if m.type == "note_on"], [33, 40])
