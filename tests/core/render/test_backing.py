"""Backing: heard with the stack, and in nothing that is made of it or measured."""

import unittest

import numpy as np
from numpy.testing import assert_allclose, assert_array_equal

from apilado.core.document.backing import MOST_BACKING, BackingTrack
from apilado.core.document.carving import Reference
from apilado.core.document.edits import apply, edit_from_data
from apilado.core.document.edits_values import AddPart, SetValue
from apilado.core.render.audition import Audition
from apilado.core.render.graph import clock_of
from apilado.core.render.listening import listened
from apilado.core.soundings.make_room import make_room
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.sources.take import TakeSource
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit, NotFound
from tests.support import ENGINE, loader, noise, rendered, sha256, sine, wav

RATE = 48000
CHORDS = wav(sine(330.0, 3.0, amplitude=0.2))
MONO = wav(noise(RATE * 2, seed=3, channels=1, amplitude=0.1))
FILES = {sha256(content): content for content in (CHORDS, MONO)}
LOAD = loader(FILES)


def backed(**changes):
    stack = slipway().stack.model_copy(update={"bars": 2})
    tracks = (
        BackingTrack(id="chords", name="chords", sound=TakeSource(asset=sha256(CHORDS), start_beats=1.0)),
        BackingTrack(id="hats", name="hats", sound=TakeSource(asset=sha256(MONO), gain_db=-6.0, every_beats=4.0)),
    )
    return stack.model_copy(update={"backing": tracks, **changes})


def heard(stack, **audition):
    clock = clock_of(stack, looped=True)
    return ENGINE.run([listened(stack, Audition(**audition), clock, LOAD).output])[0]


class HeardTest(unittest.TestCase):
    def test_it_is_laid_where_it_is_to_lie_and_added_to_the_output(self):
        stack = backed()
        added = heard(stack) - rendered(stack, LOAD)["output"]
        begins = round(60.0 / stack.tempo_bpm * RATE)
        hats = heard(stack, alone=("backing/hats",))
        chords = heard(stack, alone=("backing/chords",))
        assert_allclose(added, hats + chords, atol=1e-6)
        self.assertEqual(float(np.abs(chords[:, :begins]).max()), 0.0)
        t = np.arange(RATE) / RATE
        middle = chords[0, begins + 4800 : begins + 4800 + RATE]
        assert_allclose(middle, 0.2 * np.sin(2.0 * np.pi * 330.0 * (t + 0.1)), atol=1e-4)
        # Once in four beats, both channels alike, 6 dB down.
        bar = round(4 * 60.0 / stack.tempo_bpm * RATE)
        assert_array_equal(hats[0], hats[1])
        assert_allclose(hats[0, 2000 : bar - 2000], hats[0, bar + 2000 : 2 * bar - 2000], atol=1e-6)
        self.assertAlmostEqual(float(np.std(hats[:, 5000:60000])), 0.1 * 10.0 ** (-6.0 / 20.0), delta=0.002)

    def test_it_is_stretched_to_the_tempo_if_asked(self):
        stack = backed()
        slow = apply(stack, SetValue(path="backing/chords/sound/own_bpm", value=2.0 * stack.tempo_bpm))
        long = heard(slow, alone=("backing/chords",))
        spectrum = np.abs(np.fft.rfft(long[0]))
        self.assertAlmostEqual(float(np.argmax(spectrum)) * RATE / long.shape[1], 330.0, delta=1.0)
        self.assertGreater(
            np.count_nonzero(np.abs(long[0]) > 0.02),
            1.02 * np.count_nonzero(np.abs(heard(stack, alone=("backing/chords",))[0]) > 0.02),
        )

    def test_mute_solo_and_all_of_it_together(self):
        stack = backed()
        plain = rendered(stack, LOAD)["output"]
        assert_array_equal(heard(stack, backing=False), plain)
        self.assertGreater(float(np.abs(heard(stack) - plain).max()), 0.05)
        muted = stack
        for name in ("chords", "hats"):
            muted = apply(muted, SetValue(path=f"backing/{name}/mute", value=True))
        assert_array_equal(heard(muted), plain)
        assert_array_equal(heard(stack, alone=("layers/mid",)), heard(muted, alone=("layers/mid",)))
        both = heard(stack, alone=("layers/mid", "backing/hats"))
        apart = heard(stack, alone=("layers/mid",)) + heard(stack, alone=("backing/hats",))
        assert_allclose(both, apart, atol=1e-6)
        assert_array_equal(
            heard(stack, without="backing/chords"),
            heard(apply(stack, SetValue(path="backing/chords/mute", value=True))),
        )
        step = heard(stack, only="layers/mid/path/clip")
        assert_array_equal(step, heard(muted, only="layers/mid/path/clip"))

    def test_a_section_mutes_it(self):
        stack = backed()
        for edit in (
            {"op": "section", "first_bar": 2, "last_bar": 2},
            {"op": "in-section", "section": "?", "edit": {"op": "set", "path": "backing/hats/mute", "value": True}},
        ):
            if edit["op"] == "in-section":
                edit["section"] = stack.sections[0].id
            stack = apply(stack, edit_from_data(edit))
        hats = heard(stack, alone=("backing/hats",))
        bar = hats.shape[1] // 2
        self.assertGreater(float(np.abs(hats[:, :bar]).max()), 0.05)
        self.assertLess(float(np.abs(hats[:, bar + 1000 : -1000]).max()), 1e-4)

    def test_the_finished_piece_is_heard_from_its_place(self):
        piece = Reference(asset=sha256(MONO), from_s=0.5)
        out = heard(backed(reference=piece), piece=True)
        there = noise(RATE * 2, seed=3, channels=1, amplitude=0.1)[0, RATE // 2 :]
        for channel in out:
            assert_allclose(channel[500 : there.shape[0] - 500], there[500:-500], atol=1e-6)
            self.assertEqual(float(np.abs(channel[there.shape[0] :]).max()), 0.0)
        with self.assertRaisesRegex(NotFound, "no finished piece"):
            heard(backed(), piece=True)


class NowhereElseTest(unittest.TestCase):
    def test_nothing_that_is_measured_knows_of_it(self):
        with_it, without_it = backed(), backed(backing=())
        one, other = measure(with_it, LOAD, ENGINE), measure(without_it, LOAD, ENGINE)
        self.assertEqual(one.output_loudness, other.output_loudness)
        self.assertEqual(sound(one), sound(other))
        self.assertEqual(one.room.names, other.room.names)
        assert_array_equal(rendered(with_it, LOAD)["output"], rendered(without_it, LOAD)["output"])

    def test_one_that_counts_takes_room_and_what_it_asks_for_says_so(self):
        mid = sha256(WIDE)
        load = loader({**FILES, mid: WIDE})
        track = BackingTrack(id="pad", name="pad", counts=True, sound=TakeSource(asset=mid))
        stack = backed(backing=(track,))
        measures = measure(stack, load, ENGINE)
        self.assertIn("backing/pad", measures.room.names)
        told = [each for each in make_room(measures, most=8) if "which is backing" in each.title]
        self.assertTrue(told)
        for proposal in told:
            self.assertGreater(proposal.before, proposal.after)
            self.assertEqual(apply(stack, proposal.edit).backing, stack.backing)
        silent = measure(
            stack.model_copy(update={"backing": (track.model_copy(update={"counts": False}),)}), load, ENGINE
        )
        self.assertNotIn("backing/pad", silent.room.names)
        self.assertFalse([each for each in make_room(silent, most=8) if "backing" in each.title])


WIDE = wav(
    np.sum([sine(hertz, 8.0, amplitude=0.03) for hertz in (180.0, 240.0, 320.0, 420.0)], axis=0).astype(np.float32)
)


class DocumentTest(unittest.TestCase):
    def test_its_audio_belongs_to_the_stack_and_there_is_an_end_to_tracks(self):
        stack = backed()
        self.assertLessEqual(set(FILES), set(stack.asset_hashes()))
        part = {"sound": {"kind": "take", "asset": sha256(MONO)}}
        for _ in range(MOST_BACKING - 2):
            stack = apply(stack, AddPart(path="backing", part=part))
        with self.assertRaisesRegex(InvalidEdit, "backing"):
            apply(stack, AddPart(path="backing", part=part))
        with self.assertRaisesRegex(InvalidEdit, "gain"):
            apply(stack, SetValue(path="backing/hats/sound/gain_db", value=99.0))
