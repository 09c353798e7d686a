"""The pattern: a length of its own, after which it begins again."""

import unittest

import numpy as np

from apilado.core.document.addresses import find
from apilado.core.document.edits import apply, edit_from_data
from apilado.core.document.edits_pattern import ReplaceNote, SetBars
from apilado.core.document.edits_values import SetValue
from apilado.core.document.kick import Kick
from apilado.core.document.layer import Layer
from apilado.core.notes import Note, again
from apilado.core.sources.take import TakeSource
from apilado.errors import InvalidEdit
from apilado.web.drawings.plan_passage import passage
from apilado.web.drawings.view import View
from apilado.web.items import item_after, moved_by, note_key, note_of, note_path
from tests.support import loader, noise, plain_stack, rendered, sha256, wav

ONE_BAR = (Note(length_beats=0.5, pitch=33), Note(start_beats=2.5, length_beats=1.0, pitch=40))


class PatternTest(unittest.TestCase):
    def test_it_begins_again_after_its_bars(self):
        short = plain_stack(bars=3, pattern=ONE_BAR, pattern_bars=1, layers=(Layer(id="a"),))
        written = tuple(
            n.model_copy(update={"start_beats": n.start_beats + 4.0 * bar}) for bar in range(3) for n in ONE_BAR
        )
        long = plain_stack(bars=3, pattern=written, layers=(Layer(id="a"),))
        self.assertEqual(short.played(), written)
        np.testing.assert_array_equal(rendered(short)["output"], rendered(long)["output"])

    def test_more_bars_play_it_more_often(self):
        """The pattern stays the same object, and so do the sections; only how far it is played is another."""
        stack = plain_stack(bars=2, pattern=ONE_BAR, pattern_bars=1)
        longer = apply(stack, SetValue(path="bars", value=4))
        self.assertIs(longer.pattern, stack.pattern)
        self.assertEqual([len(each.played()) for each in (stack, longer, stack)], [4, 8, 4])

    def test_what_lies_beyond_it_is_not_played(self):
        beyond = (*ONE_BAR, Note(start_beats=4.0, pitch=50))
        self.assertEqual(len(again(beyond, 4.0, 8.0)), 4)
        self.assertEqual([n.start_beats for n in again(beyond, 4.0, 6.0)], [0.0, 2.5, 4.0])
        own = Layer(id="a", notes=beyond)
        stack = plain_stack(bars=2, pattern_bars=1, layers=(own,))
        without = plain_stack(bars=2, pattern_bars=1, layers=(own.model_copy(update={"notes": ONE_BAR}),))
        np.testing.assert_array_equal(rendered(stack)["output"], rendered(without)["output"])

    def test_a_note_put_into_a_later_round_belongs_into_the_first(self):
        stack = apply(plain_stack(bars=4, pattern=ONE_BAR), SetValue(path="pattern_bars", value=2))
        put = apply(stack, ReplaceNote(now=Note(start_beats=9.5, pitch=45)))
        self.assertEqual([n.start_beats for n in put.pattern], [0.0, 1.5, 2.5])

    def test_later_rounds_are_drawn_and_not_pulled(self):
        stack = plain_stack(bars=3, pattern=ONE_BAR, pattern_bars=1)
        drawn = passage(stack, View())
        self.assertEqual((drawn.count("note-again"), drawn.count('data-drag="note"')), (4, 2))
        whole = passage(plain_stack(bars=1, pattern=ONE_BAR), View())
        self.assertEqual((whole.count("note-again"), whole.count('data-drag="note"')), (0, 2))


class OwnNotesTest(unittest.TestCase):
    def setUp(self):
        self.stack = plain_stack(bars=2, pattern=ONE_BAR, layers=(Layer(id="a", name="mid"), Layer(id="b")))

    def done(self, *edits, stack=None):
        stack = stack or self.stack
        for edit in edits:
            stack = apply(stack, edit_from_data(edit))
        return stack

    def test_a_layer_takes_notes_of_its_own_and_gives_them_back(self):
        taken = self.done({"op": "set", "path": "layers/a/notes", "value": [n.model_dump() for n in ONE_BAR]})
        np.testing.assert_array_equal(rendered(taken)["output"], rendered(self.stack)["output"])
        was = ONE_BAR[0].model_dump()
        edit = edit_from_data({"op": "note", "layer": "a", "was": was, "now": {**was, "pitch": 45}})
        moved = apply(taken, edit)
        self.assertEqual(edit.title(taken, moved), "Note to A2 of mid")
        self.assertEqual([note.pitch for note in moved.layer("a").notes], [45, 40])
        self.assertEqual(moved.pattern, ONE_BAR)
        heard, before = rendered(moved), rendered(taken)
        np.testing.assert_array_equal(heard["b"], before["b"])
        self.assertGreater(float(np.abs(heard["a"] - before["a"]).max()), 0.01)
        back = self.done({"op": "set", "path": "layers/a/notes", "value": None}, stack=moved)
        np.testing.assert_array_equal(rendered(back)["output"], rendered(self.stack)["output"])
        with self.assertRaisesRegex(InvalidEdit, "'mid' has no notes of its own any more"):
            self.done({"op": "note", "layer": "a", "now": was}, stack=back)

    def test_they_are_drawn_in_their_layers_ink_over_the_shared_ones(self):
        own = [{"start_beats": 1.0, "length_beats": 1.0, "pitch": 45}]
        taken = self.done({"op": "set", "path": "layers/a/notes", "value": own})
        drawn = passage(taken, View(selected="layer:a"))
        self.assertEqual(drawn.count('data-drag="note"'), 1)
        self.assertEqual(drawn.count('data-layer="a"'), 1)
        self.assertEqual(drawn.count("note-shared"), len(ONE_BAR))
        self.assertIn(f"tint-{taken.layer('a').tint} own-notes", drawn)
        other = passage(taken, View(selected="layer:b"))
        self.assertEqual((other.count('data-drag="note"'), other.count("note-shared")), (len(ONE_BAR), 0))

    def test_a_note_of_its_own_is_chosen_and_named_as_such(self):
        taken = self.done({"op": "set", "path": "layers/a/notes", "value": [ONE_BAR[0].model_dump()]})
        key = note_key(ONE_BAR[0], "a")
        self.assertEqual(note_of(taken, key), ("a", ONE_BAR[0]))
        self.assertEqual(note_of(taken, note_key(ONE_BAR[0])), ("", ONE_BAR[0]))
        path = note_path(ONE_BAR[0], "a")
        longer = edit_from_data({"op": "set", "path": f"{path}/length_beats", "value": 0.75})
        self.assertEqual(apply(taken, longer).layer("a").notes[0].length_beats, 0.75)
        self.assertEqual(item_after(longer, taken), key)


class BarsTest(unittest.TestCase):
    def test_bars_that_are_added_repeat_notes_hits_and_recordings(self):
        audio = noise(48000, seed=3)
        content = wav(audio)
        take = TakeSource(asset=sha256(content), start_beats=0.5)
        own = Layer(id="own", notes=(Note(start_beats=1.0, length_beats=0.5, pitch=50),))
        stack = plain_stack(
            bars=1,
            pattern=ONE_BAR,
            kick=Kick(hits=(0.0, 2.5)),
            layers=(Layer(id="a"), own, Layer(id="take", source=take)),
        )
        files = {sha256(content): content}
        longer = apply(stack, SetBars(bars=3))
        once, thrice = rendered(stack, loader(files)), rendered(longer, loader(files))
        frames = once["output"].shape[1]
        self.assertEqual(thrice["output"].shape[1], 3 * frames)
        for name in ("a", "own", "take", "kick"):
            with self.subTest(part=name):
                # The first round has nothing before it that rings on; the others are alike.
                rounds = [thrice[name][:, n * frames : (n + 1) * frames] for n in range(3)]
                np.testing.assert_allclose(rounds[1], rounds[2], atol=2e-6)
                np.testing.assert_allclose(rounds[1], once[name], atol=2e-6)
                self.assertGreater(float(np.abs(rounds[1]).max()), 0.01)

    def test_unless_they_are_to_be_empty(self):
        stack = plain_stack(bars=1, pattern=ONE_BAR, kick=Kick(hits=(0.0,)), layers=(Layer(id="a"),))
        empty = apply(stack, SetBars(bars=2, empty=True))
        self.assertEqual((empty.pattern_bars, empty.kick.hits), (0, (0.0,)))
        self.assertLess(float(np.abs(rendered(empty)["output"][:, -24000:]).max()), 1e-4)
        with self.assertRaisesRegex(InvalidEdit, "the pattern repeats every 1 bars"):
            apply(apply(stack, SetBars(bars=2)), SetBars(bars=4, empty=True))

    def test_the_end_of_the_pattern_is_drawn_where_it_is(self):
        stack = plain_stack(bars=4, pattern=ONE_BAR, pattern_bars=2)
        drawn = passage(stack, View(passage=800.0))
        self.assertIn('data-drag="pattern-end"', drawn)
        self.assertIn('class="pattern-line" x1="400" x2="400"', drawn)
        self.assertNotIn("pattern-end", passage(plain_stack(bars=4, pattern=()), View()))


class NamedByPlaceTest(unittest.TestCase):
    def setUp(self):
        kick = Kick(hits=(0.0, 1.0, 2.0))
        self.stack = plain_stack(bars=1, pattern=ONE_BAR, kick=kick, layers=(Layer(id="a", notes=ONE_BAR),))

    def test_what_is_moved_is_told_with_its_new_address(self):
        cases = (
            ("pattern/@0:33/start_beats", "2.5", {"pattern/@0:33": "pattern/@1.5:33"}),  # a page counts beats from 1
            ("layers/a/notes/@2.5:40/pitch", "E2", {}),
            ("layers/a/notes/@2.5:40/pitch", "F2", {"layers/a/notes/@2.5:40": "layers/a/notes/@2.5:41"}),
            ("pattern/@0:33/length_beats", "2", {}),
            ("kick/hits/@1", "2.75", {"kick/hits/@1": "kick/hits/@1.75"}),
            ("layers/a/level_db", "-3", {}),
        )
        for path, value, moved in cases:
            with self.subTest(path=path, value=value):
                edit = SetValue(path=path, value=value)
                self.assertEqual(moved_by(edit, self.stack), moved)
                after = apply(self.stack, edit)
                for was, now in moved.items():
                    self.assertIsNone(find(after, was))
                    self.assertIsNotNone(find(after, now))

    def test_nothing_is_put_where_its_like_is(self):
        for path, value in (("kick/hits/@1", 2.0), ("pattern/@0:33/pitch", 40), ("pattern/@0:33/start_beats", 2.5)):
            at_end = self.stack.model_copy(
                update={"pattern": (ONE_BAR[0], Note(pitch=40), Note(start_beats=2.5, pitch=33))}
            )
            with self.subTest(path=path), self.assertRaisesRegex(InvalidEdit, "one is there already"):
                apply(at_end, SetValue(path=path, value=value))
        self.assertEqual(apply(self.stack, SetValue(path="kick/hits/@1", value=1.0)).kick.hits, (0.0, 1.0, 2.0))

    def test_it_is_called_by_its_beat_as_a_page_counts(self):
        edit = SetValue(path="kick/hits/@1", value="2.75")
        self.assertEqual(edit.title(self.stack, apply(self.stack, edit)), "2 of hits of kick: 2.75")


if __name__ == "__main__":
    unittest.main()
