import unittest

import numpy as np

from apilado.core.document.edits import Several, apply, edit_from_data
from apilado.core.document.edits_borders import AddCrossover, MoveCrossover, RemoveCrossover, SplitLayer
from apilado.core.document.edits_carving import CopyPoint
from apilado.core.document.edits_layers import AddLayer, MoveLayer, RemoveLayer, SetSource
from apilado.core.document.edits_pattern import ReplaceHit, ReplaceNote, SetBars, SetPattern, TransposePattern
from apilado.core.document.edits_values import (
    AddPart,
    MovePart,
    RemovePart,
    SetHarmonic,
    SetShare,
    SetValue,
)
from apilado.core.document.followers import followers_of
from apilado.core.document.layer import Span
from apilado.core.notes import Note
from apilado.demo.stacks import slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import InvalidEdit
from tests.support import points_in, rendered, without_ids

STACK = slipway().stack


class EditsTest(unittest.TestCase):
    def test_every_edit_leaves_the_old_document_as_it_was(self):
        before = STACK.model_dump_json()
        for edit in (MoveCrossover(crossover="lower", frequency_hz=130.0), AddLayer(), TransposePattern(semitones=2)):
            after = apply(STACK, edit)
            self.assertNotEqual(after, STACK)
            self.assertTrue(edit.title(STACK, after))
        self.assertEqual(STACK.model_dump_json(), before)

    def test_set_value_by_id_and_by_number(self):
        changed = apply(STACK, SetValue(path="layers/mid/level_db", value=-3.0))
        self.assertEqual(changed.layer("mid").level_db, -3.0)
        changed = apply(STACK, SetValue(path="layers/mid/path/eq/points/dip/gain_db", value=2.5))
        self.assertEqual(points_in(changed, "layers/mid")[0].gain_db, 2.5)

    def test_refusals_name_what_is_wrong(self):
        cases = (
            (SetValue(path="layers/none/level_db", value=0.0), "there is nothing at 'layers/none/level_db'"),
            (SetValue(path="layers/mid/level_db", value=90.0), "level of mid runs from −60 to 12 dB; 90 was not taken"),
            (SetValue(path="layers/mid/nothing", value=1), "there is nothing at"),
            (SetValue(path="tempo_bpm", value=float("nan")), "tempo takes a number, not 'nan'"),
            (SetValue(path="tempo_bpm/deeper/still", value=1), "there is nothing at"),
            (RemoveLayer(layer="mid"), "'mid' cannot go: 'high' takes its sound from it"),
            (RemoveCrossover(crossover="gone"), "there is nothing at .crossovers/gone. any more"),
            (AddPart(path="layers/mid/path/eq/points", part={"kind": "wave"}), "^an EQ point is one of"),
            (SetSource(layer="mid", source={"kind": "organ"}), "a source is one of"),
            (SetSource(layer="mid", source={"kind": "layer", "layer": "high"}), "takes its own sound"),
            (ReplaceNote(was=Note(start_beats=0.1)), "there is no C2 at bar 1, beat 1.1 any more"),
            (ReplaceHit(was=0.33), "there is no hit at bar 1, beat 1.33 any more"),
            (TransposePattern(semitones=48), None),
        )
        for edit, words in cases:
            with self.subTest(edit=edit):
                if words is None:
                    self.assertEqual(apply(STACK, edit).pattern[0].pitch, STACK.pattern[0].pitch + 48)
                else:
                    with self.assertRaisesRegex(InvalidEdit, words):
                        apply(STACK, edit)

    def test_what_was_done_is_said_with_names_and_units(self):
        stack = apply(STACK, SetValue(path="layers/mid/name", value="growl"))
        cases = (
            (SetValue(path="layers/mid/level_db", value=-6.0), "Level of growl: −6 dB"),
            (SetValue(path="layers/mid/mute", value=True), "Mute growl"),
            (
                SetValue(path="layers/mid/path/eq/points/dip/frequency_hz", value=280.0),
                "Frequency of bell 1 of growl: 280 Hz",
            ),
            (SetValue(path="tempo_bpm", value=120.0), "Tempo: 120 bpm"),
            (SetValue(path="duckers/duck/shape", value={"kind": "drawn"}), "Shape of Duck"),
            (SetValue(path="bus/limiter/on", value=False), "Limiter of bus: off"),
            (SetValue(path="crossovers/upper/slope_db_per_octave", value=48), "Slope of crossover 2: 48"),
            (SetValue(path="layers/sub/source/tones/wave/copies", value=3), "Copies of tone 1 of sub: 3"),
            (AddPart(path="kick/eq/points", part={"kind": "bell"}), "Add a bell to kick"),
            (RemovePart(path="layers/mid/path/eq/points/dip"), "Remove bell 1 of growl"),
            (CopyPoint(path="layers/mid/path/eq/points/dip", to="kick"), "Copy bell 1 of growl to kick"),
            (SetShare(ducker="duck", layer="mid", amount=0.5), "Share of growl in Duck"),
            (SplitLayer(layer="mid", frequency_hz=300.0), "Split growl at 300 Hz"),
            (MoveCrossover(crossover="lower", frequency_hz=5000.0), "Crossover 1 to 508 Hz"),
            (MoveLayer(layer="mid", to=0), "Move growl"),
        )
        for edit, said in cases:
            self.assertEqual(edit.title(stack, apply(stack, edit)), said)

    def test_a_value_out_of_range_is_told_its_range(self):
        for path, value, words in (
            ("tempo_bpm", 99999, "^tempo runs from 40 to 240 bpm; 99999 was not taken$"),
            ("layers/mid/level_db", -99.5, "^level of mid runs from −60 to 12 dB; −99.5 was not taken$"),
            ("layers/mid/level_db", "loud", "^level of mid takes a number, not 'loud'$"),
        ):
            with self.assertRaisesRegex(InvalidEdit, words):
                apply(STACK, SetValue(path=path, value=value))

    def test_an_id_never_comes_again(self):
        seen = set()
        for _ in range(200):
            added = apply(STACK, AddLayer(name="kick"))
            seen.add(added.layers[-1].id)
            self.assertEqual(apply(added, RemoveLayer(layer=added.layers[-1].id)), STACK)
        self.assertEqual(len(seen), 200)
        self.assertFalse(seen & {"kick", "bus", "shared", "new", "reference"})
        self.assertEqual(apply(STACK, AddLayer(id="asked")).layers[-1].id, "asked")

    def test_names_count_up(self):
        again = apply(apply(STACK, AddLayer(name="pad")), AddLayer(name="pad"))
        self.assertEqual([layer.name for layer in again.layers[-2:]], ["pad", "pad 2"])

    def test_a_new_source_for_one_layer_alone(self):
        stack = apply(
            apply(STACK, AddLayer(copy_of="high", id="high-copy")),
            SetValue(path="layers/high-copy/source/tap", value="source"),
        )
        change = SetSource(layer="mid", source={"kind": "tone", "tones": [{"shape": "square"}]})
        keeping, mid = change.model_copy(update={"alone": True}), stack.layer("mid")
        self.assertEqual([layer.id for layer in followers_of(stack, mid)], ["high", "high-copy"])
        kept, followed = apply(stack, keeping), apply(stack, change)
        before, alone, all_new = (rendered(each) for each in (stack, kept, followed))
        for name in ("high", "high-copy"):
            np.testing.assert_array_equal(alone[name], before[name])
            self.assertGreater(float(np.abs(all_new[name] - before[name]).max()), 1e-3)
        np.testing.assert_array_equal(alone["mid"], all_new["mid"])
        self.assertIn("high and high copy take the new sound too", change.remark(STACK, followed))
        self.assertIsNone(keeping.remark(STACK, kept))

    def test_bars_that_are_added_repeat_the_drums(self):
        short = apply(apply(STACK, SetValue(path="kick/hits", value=[0.0, 2.5])), SetValue(path="bars", value=1))
        self.assertEqual(apply(short, SetBars(bars=3)).kick.hits, (0.0, 2.5, 4.0, 6.5, 8.0, 10.5))
        self.assertEqual(apply(apply(short, SetBars(bars=3)), SetBars(bars=2)).bars, 2)
        # What was cut off before comes back as it was.
        kept = apply(apply(short, SetValue(path="kick/hits", value=[0.0, 5.0])), SetBars(bars=2))
        self.assertEqual(kept.kick.hits, (0.0, 5.0))
        odd = apply(short.model_copy(update={"bars": 2, "kick": short.kick}), SetBars(bars=3))
        self.assertEqual(odd.kick.hits, (0.0, 2.5, 8.0, 10.5))

    def test_a_crossover_stops_a_third_of_an_octave_short_of_its_neighbours(self):
        up = apply(STACK, MoveCrossover(crossover="lower", frequency_hz=5000.0))
        self.assertAlmostEqual(up.crossovers[0].frequency_hz, 640.0 / 2 ** (1 / 3), places=6)
        told = MoveCrossover(crossover="lower", frequency_hz=5000.0).remark(STACK, up)
        self.assertEqual(told, "Held at 508 Hz, a third of an octave below crossover 2.")
        moved = MoveCrossover(crossover="lower", frequency_hz=200.0)
        self.assertIsNone(moved.remark(STACK, apply(STACK, moved)))
        down = apply(STACK, MoveCrossover(crossover="upper", frequency_hz=20.0))
        self.assertAlmostEqual(down.crossovers[1].frequency_hz, 112.0 * 2 ** (1 / 3), places=6)
        self.assertEqual(
            apply(STACK, MoveCrossover(crossover="lower", frequency_hz=1.0)).crossovers[0].frequency_hz, 30.0
        )

    def test_a_new_crossover_keeps_every_owner(self):
        more = apply(STACK, AddCrossover(frequency_hz=2500.0))
        self.assertEqual([crossover.id for crossover in more.crossovers[:2]], ["lower", "upper"])
        self.assertEqual([layer.span for layer in more.layers], [Span(), Span(first=1, last=1), Span(first=2, last=3)])
        low = apply(STACK, AddCrossover(frequency_hz=60.0))
        self.assertEqual([(x.span.first, x.span.last) for x in low.layers], [(0, 1), (2, 2), (3, 3)])
        back = apply(low, RemoveCrossover(crossover=low.crossovers[0].id))
        self.assertEqual([layer.span for layer in back.layers], [layer.span for layer in STACK.layers])

    def test_parts_are_added_moved_and_removed(self):
        bell = {"kind": "bell", "frequency_hz": 90.0}
        added = apply(STACK, AddPart(path="layers/mid/path/eq/points", part=bell))
        self.assertEqual(len(points_in(added, "layers/mid")), 2)
        moved = apply(added, MovePart(path=f"layers/mid/path/eq/points/{points_in(added, 'layers/mid')[1].id}", to=0))
        self.assertEqual(points_in(moved, "layers/mid")[0].frequency_hz, 90.0)
        new = points_in(moved, "layers/mid")[0]
        # A page that has not seen the move meets the point that it meant.
        changed = apply(moved, SetValue(path="layers/mid/path/eq/points/dip/q", value=2.0))
        self.assertEqual(points_in(changed, "layers/mid")[1].q, 2.0)
        self.assertEqual(apply(moved, RemovePart(path=f"layers/mid/path/eq/points/{new.id}")), STACK)
        gone = apply(moved, RemovePart(path="layers/mid/path/eq/points/dip"))
        with self.assertRaisesRegex(InvalidEdit, "nothing at 'layers/mid/path/eq/points/dip/q' any more"):
            apply(gone, SetValue(path="layers/mid/path/eq/points/dip/q", value=2.0))

    def test_layers_are_copied_and_ordered(self):
        copied = apply(STACK, AddLayer(copy_of="mid"))
        self.assertEqual([x.name for x in copied.layers], ["sub", "mid", "mid copy", "high"])
        mid, copy = copied.layers[1:3]
        self.assertEqual(without_ids([copy.source, copy.path]), without_ids([mid.source, mid.path]))
        fresh = [
            {p.id for p in (x, *x.path, *points_in(copied, f"layers/{x.id}"), *x.source.tones)} for x in (mid, copy)
        ]
        self.assertFalse(fresh[0] & fresh[1])
        self.assertNotIn(copied.layers[2].tint, {x.tint for x in STACK.layers})
        self.assertEqual([x.id for x in apply(STACK, MoveLayer(layer="sub", to=2)).layers], ["mid", "high", "sub"])

    def test_harmonics(self):
        path = "layers/mid/source/tones/wave"
        third = apply(STACK, SetHarmonic(path=path, number=3, amplitude=0.5))
        self.assertEqual(third.layer("mid").source.tones[0].harmonics, (None, None, 0.5))
        self.assertEqual(apply(third, SetHarmonic(path=path, number=3, amplitude=None)), STACK)

    def test_several_are_one(self):
        edits = (SetValue(path="layers/mid/level_db", value=-3.0), SetValue(path="layers/mid/level_db", value=99.0))
        with self.assertRaises(InvalidEdit):
            apply(STACK, Several(name="Two", edits=edits))
        self.assertEqual(apply(STACK, Several(name="One", edits=edits[:1])).layer("mid").level_db, -3.0)

    def test_pattern_and_hits(self):
        made = apply(STACK, SetPattern(notes=(Note(),), tempo_bpm=100.0, bars=2))
        self.assertEqual((len(made.pattern), made.tempo_bpm, made.bars), (1, 100.0, 2))
        hits = apply(STACK, ReplaceHit(was=3.0, now=3.5)).kick.hits
        self.assertIn(3.5, hits)
        self.assertNotIn(3.0, hits)

    def test_an_edit_survives_the_post(self):
        for bundle in demo_bundles():
            edit = MoveCrossover(crossover="lower", frequency_hz=99.0)
            posted = edit_from_data(edit.model_dump(mode="json"))
            self.assertEqual(apply(bundle.stack, posted), apply(bundle.stack, edit))
        for bad in ({"op": "explode"}, {}, {"op": "move-crossover", "crossover": "lower"}, "text", None):
            with self.assertRaisesRegex(InvalidEdit, "this edit is not valid"):
                edit_from_data(bad)
        with self.assertRaisesRegex(InvalidEdit, "not valid: bars: at most 64, not '1000'$"):
            edit_from_data({"op": "set-bars", "bars": "1000"})
