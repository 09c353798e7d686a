"""The pattern: a length of its own, after which it begins again."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_pattern import ReplaceNote
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.notes import Note, again
from apilado.web.drawings.plan_passage import passage
from apilado.web.drawings.view import View
from tests.support import plain_stack, rendered

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


if __name__ == "__main__":
    unittest.main()
