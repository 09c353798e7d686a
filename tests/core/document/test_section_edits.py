"""Edits of sections: made, pulled, parted and given back; and any other edit, made in one."""

import unittest

from apilado.core.document.edits import InSection, Several, apply, edit_from_data
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_layers import AddLayer
from apilado.core.document.edits_movements import AddMovement
from apilado.core.document.edits_pattern import ReplaceHit, ReplaceNote, SetBars
from apilado.core.document.edits_sections import BuildUp, GiveBack, PartSection, QuickNotes, SetSection
from apilado.core.document.edits_values import AddPart, RemovePart, SetShare, SetValue
from apilado.core.document.forms import as_in_section, forms_of, heard_over, values_over
from apilado.core.document.reading import stack_from_json, stack_to_json
from apilado.core.notes import Note
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit

STACK = apply(slipway().stack, SetBars(bars=8))


def sectioned(*bars):
    stack = STACK
    for first, last in bars:
        stack = apply(stack, SetSection(first_bar=first, last_bar=last))
    return stack


def there(stack, edit, place=0):
    return apply(stack, InSection(section=stack.sections[place].id, edit=edit))


def changes(stack, place=0):
    return {change.path: change.value for change in stack.sections[place].changes}


class BarsTest(unittest.TestCase):
    def test_one_is_made_named_and_pulled_up_to_its_neighbours(self):
        stack = sectioned((7, 6), (2, 3))
        self.assertEqual(
            [(s.name, s.first_bar, s.last_bar) for s in stack.sections], [("section 2", 2, 3), ("section 1", 6, 7)]
        )
        low, high = (each.id for each in stack.sections)
        for section, bars, expected in (
            (low, (2, 9), (2, 5)),
            (high, (1, 7), (4, 7)),
            (high, (6, 99), (6, 8)),
            (low, (-4, 1), (1, 1)),
        ):
            found = apply(stack, SetSection(section=section, first_bar=bars[0], last_bar=bars[1]))
            own = next(each for each in found.sections if each.id == section)
            self.assertEqual((own.first_bar, own.last_bar), expected)
        with self.assertRaisesRegex(InvalidEdit, "bar 6 has a section already"):
            apply(stack, SetSection(first_bar=6, last_bar=8))
        edit = SetSection(first_bar=5, last_bar=5)
        self.assertEqual(edit.title(stack, apply(stack, edit)), "Add section 3: bar 5")

    def test_a_shorter_piece_keeps_what_still_lies_in_it(self):
        stack = sectioned((2, 3), (6, 8))
        edit = SetBars(bars=6)
        self.assertEqual([(s.first_bar, s.last_bar) for s in apply(stack, edit).sections], [(2, 3), (6, 6)])
        shorter = apply(stack, SetBars(bars=5))
        self.assertEqual(len(shorter.sections), 1)
        self.assertEqual(SetBars(bars=5).remark(stack, shorter), "section 2 lay behind the new end and went with it.")

    def test_one_is_cut_in_two_and_both_keep_what_is_otherwise(self):
        stack = there(sectioned((3, 4)), SetValue(path="layers/high/mute", value=True))
        stack = there(stack, ReplaceNote(now=Note(start_beats=9.0, length_beats=0.5, pitch=40)))
        stack = there(stack, ReplaceHit(now=13.25))
        before = stack.played(), stack.hits("kick")
        found = apply(
            stack,
            PartSection(section=stack.sections[0].id, bar=4, changes=({"path": "layers/sub/mute", "value": True},)),
        )
        self.assertEqual([(s.first_bar, s.last_bar) for s in found.sections], [(3, 3), (4, 4)])
        self.assertEqual((found.played(), found.hits("kick")), before)
        self.assertEqual(changes(found, 0), {"layers/high/mute": True})
        self.assertEqual(changes(found, 1), {"layers/high/mute": True, "layers/sub/mute": True})
        with self.assertRaisesRegex(InvalidEdit, "bar 3 does not lie within"):
            apply(stack, PartSection(section=stack.sections[0].id, bar=3))


class InSectionTest(unittest.TestCase):
    def test_a_value_is_otherwise_there_and_as_it_was_elsewhere(self):
        stack = there(sectioned((3, 4)), SetValue(path="layers/mid/level_db", value=-20.0))
        self.assertEqual(changes(stack), {"layers/mid/level_db": -20.0})
        self.assertEqual(stack.layers, STACK.layers)
        level = STACK.layer("mid").level_db
        self.assertEqual(values_over(stack, "layers/mid/level_db"), ((0, level), (2, -20.0), (4, level)))
        again = there(stack, SetValue(path="layers/mid/level_db", value=-22.0))
        self.assertEqual(changes(again), {"layers/mid/level_db": -22.0})
        self.assertEqual(again.sections[0].changes[0].id, stack.sections[0].changes[0].id)
        # What is set to what the whole has is not otherwise any more.
        self.assertEqual(changes(there(stack, SetValue(path="layers/mid/level_db", value=level))), {})
        self.assertEqual(stack_from_json(stack_to_json(stack)), stack)

    def test_what_it_does_is_said_with_the_name_of_the_section(self):
        stack = sectioned((3, 4))
        edit = InSection(section=stack.sections[0].id, edit=SetValue(path="layers/mid/mute", value=True))
        self.assertEqual(edit.title(stack, apply(stack, edit)), "In section 1: mute mid")

    def test_edits_of_every_kind_go_into_it(self):
        stack = sectioned((3, 4))
        share = there(stack, SetShare(ducker=STACK.duckers[0].id, layer="mid", amount=0.25))
        self.assertEqual(changes(share), {f"duckers/{STACK.duckers[0].id}/amounts/mid": 0.25})
        self.assertEqual(as_in_section(share, share.sections[0].id).duckers[0].amount("mid"), 0.25)
        border = STACK.crossovers[0].id
        moved = there(stack, MoveCrossover(crossover=border, frequency_hz=150.0))
        self.assertEqual(changes(moved), {f"crossovers/{border}/frequency_hz": 150.0})
        several = Several(
            name="x", edits=(SetValue(path="layers/mid/mute", value=True), SetValue(path="kick/mute", value=True))
        )
        self.assertEqual(changes(there(stack, several)), {"layers/mid/mute": True, "kick/mute": True})

    def test_notes_and_hits_within_its_bars(self):
        stack = sectioned((3, 4))
        played = [note for note in stack.played() if 8.0 <= note.start_beats < 16.0]
        changed = there(stack, ReplaceNote(was=played[0], now=played[0].model_copy(update={"pitch": 48})))
        self.assertEqual(changed.pattern, stack.pattern)
        self.assertEqual(len(changed.sections[0].notes), len(played))
        self.assertEqual(changed.sections[0].notes[0].start_beats, played[0].start_beats - 8.0)
        found = [note for note in changed.played() if 8.0 <= note.start_beats < 16.0]
        self.assertEqual([note.pitch for note in found], [48, *[note.pitch for note in played[1:]]])
        outside = next(note for note in stack.played() if note.start_beats < 8.0)
        with self.assertRaisesRegex(InvalidEdit, "not changed in 'section 1': the note lies outside of its bars"):
            there(stack, ReplaceNote(was=outside, now=None))
        hit = there(stack, ReplaceHit(was=8.0, now=8.5))
        self.assertEqual(hit.kick.hits, stack.kick.hits)
        self.assertIn(8.5, hit.hits("kick"))
        self.assertNotIn(8.0, hit.hits("kick"))
        with self.assertRaisesRegex(InvalidEdit, "the hit lies outside of its bars"):
            there(stack, ReplaceHit(was=0.0, now=None))

    def test_parts_belong_to_the_whole_piece(self):
        stack = sectioned((3, 4))
        for edit in (
            AddPart(path="layers/mid/path", part={"kind": "compressor"}),
            RemovePart(path="layers/mid/path/clip"),
            AddLayer(),
            AddMovement(path="layers/mid/level_db"),
            SetValue(path="layers/mid/name", value="other"),
        ):
            with (
                self.subTest(edit=edit.op),
                self.assertRaisesRegex(InvalidEdit, "not changed in 'section 1'.*of the whole"),
            ):
                there(stack, edit)
        for edit in (SetSection(first_bar=1, last_bar=1), SetValue(path="tempo_bpm", value=100.0), SetBars(bars=4)):
            self.assertFalse(edit.goes_into("some"))
        for edit in (RemovePart(path="sections/x"), SetValue(path="sections/x/name", value="a")):
            self.assertFalse(edit.goes_into("some"))
        self.assertTrue(SetValue(path="layers/mid/mute", value=True).goes_into("some"))
        self.assertFalse(SetValue(path="layers/mid/mute", value=True).goes_into(""))
        with self.assertRaisesRegex(InvalidEdit, "the section is not there any more"):
            apply(STACK, InSection(section="gone", edit=SetValue(path="layers/mid/mute", value=True)))

    def test_values_are_given_back_one_by_one_or_all(self):
        stack = there(sectioned((3, 4)), SetValue(path="layers/mid/mute", value=True))
        stack = there(there(stack, SetValue(path="bus/level_db", value=-3.0)), ReplaceHit(was=8.0))
        stack = apply(stack, QuickNotes(section=stack.sections[0].id))
        own = stack.sections[0].id
        for what, left in (
            ("layers/mid/mute", {"bus/level_db": -3.0}),
            ("notes", changes(stack)),
            ("hits/kick", changes(stack)),
            ("", {}),
        ):
            found = apply(stack, GiveBack(section=own, what=what))
            self.assertEqual(changes(found), left)
            self.assertEqual(found.sections[0].notes is None, what in ("notes", ""))
            self.assertEqual(found.sections[0].hits == (), what in ("hits/kick", ""))
        self.assertEqual(forms_of(apply(stack, GiveBack(section=own))).plan, ((0, 0),))


class MenuTest(unittest.TestCase):
    def test_a_build_up_is_a_movement_that_is_on_there_alone(self):
        stack = sectioned((3, 4))
        edit = BuildUp(section=stack.sections[0].id, path="layers/mid/level_db", travel=-12.0)
        found = apply(stack, edit)
        movement = found.movements[-1]
        self.assertEqual(
            (movement.on, movement.begins, movement.section, movement.length_beats),
            (False, "section", stack.sections[0].id, 8.0),
        )
        self.assertEqual(changes(found), {f"movements/{movement.id}/on": True})
        self.assertEqual(edit.title(stack, found), "Build-up over section 1: level of mid")
        # It goes with its section: there is nothing left that it could begin with.
        self.assertEqual(
            len(apply(found, RemovePart(path=f"sections/{stack.sections[0].id}")).movements), len(STACK.movements)
        )

    def test_notes_twice_as_quick(self):
        stack = sectioned((3, 3))
        inside = [note for note in stack.played() if 8.0 <= note.start_beats < 12.0]
        found = apply(stack, QuickNotes(section=stack.sections[0].id, times=2.0))
        quick = [note for note in found.played() if 8.0 <= note.start_beats < 12.0]
        self.assertEqual(len(quick), 2 * len(inside))
        self.assertEqual(quick[1].start_beats - 8.0, (inside[1].start_beats - 8.0) / 2.0)

    def test_a_copied_layer_is_otherwise_where_its_model_is(self):
        stack = there(sectioned((3, 4)), SetValue(path="layers/mid/mute", value=True))
        found = apply(stack, AddLayer(copy_of="mid"))
        copied = next(layer.id for layer in found.layers if layer.id not in {each.id for each in stack.layers})
        self.assertEqual(heard_over(found, f"layers/{copied}"), heard_over(stack, "layers/mid"))

    def test_the_edits_are_data(self):
        stack = sectioned((3, 4))
        edit = edit_from_data(
            {
                "op": "in-section",
                "section": stack.sections[0].id,
                "edit": {"op": "set", "path": "layers/mid/mute", "value": "on"},
            }
        )
        self.assertEqual(changes(apply(stack, edit)), {"layers/mid/mute": True})


if __name__ == "__main__":
    unittest.main()
