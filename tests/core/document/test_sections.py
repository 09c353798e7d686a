"""Sections and movements as parts of a document: what they take, what they refuse, what becomes of them."""

import json
import unittest

from apilado.core.document.addresses import find
from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import SplitLayer
from apilado.core.document.edits_layers import AddLayer, RemoveLayer
from apilado.core.document.edits_values import AddPart, RemovePart, SetValue
from apilado.core.document.reading import stack_from_json, stack_to_json
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit

STACK = slipway().stack
MUTED = {"id": "c", "path": "layers/high/mute", "value": True}


def section(**values):
    return AddPart(path="sections", part={"id": "fill", "name": "fill", "first_bar": 4, "last_bar": 4, **values})


def moving(path, **values):
    return AddPart(path="movements", part={"id": "m", "targets": [{"id": "t", "path": path, "travel": 2.0}], **values})


class SectionsTest(unittest.TestCase):
    def test_a_section_lies_in_the_document(self):
        stack = apply(STACK, section(changes=[MUTED], hits=[{"drum": "kick", "hits": [0.0, 0.5]}]))
        self.assertEqual(stack_from_json(stack_to_json(stack)), stack)
        self.assertEqual(find(json.loads(stack_to_json(stack)), "sections/fill/changes/c/value"), True)

    def test_what_it_refuses(self):
        for edit, words in (
            (section(first_bar=3, last_bar=2), "a section runs upwards"),
            (section(last_bar=5), "bar 5 lies behind the last of 4 bars"),
            (section(changes=[{**MUTED, "path": "layers/gone/mute"}]), "there is no value at 'layers/gone/mute'"),
            (section(changes=[{**MUTED, "value": "loud"}]), "mute is on or off, not 'loud'"),
            (
                section(changes=[{"id": "c", "path": "layers/mid/level_db", "value": 99}]),
                "level runs from −60 to 12 dB",
            ),
            (section(changes=[{"id": "c", "path": "tempo_bpm", "value": 99}]), "is of the whole piece"),
            (section(hits=[{"drum": "snare"}]), "there is no trigger 'snare'"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(InvalidEdit, words):
                apply(STACK, edit)
        two = apply(STACK, section())
        with self.assertRaisesRegex(InvalidEdit, "bar 4 is in 'fill' already"):
            apply(two, AddPart(path="sections", part={"id": "other", "first_bar": 3, "last_bar": 4}))

    def test_what_goes_takes_its_changes_along(self):
        stack = apply(STACK, section(changes=[MUTED]))
        self.assertEqual(apply(stack, RemoveLayer(layer="high")).sections[0].changes, ())


class PlayedTest(unittest.TestCase):
    def test_a_copy_with_other_notes_plays_those(self):
        self.assertEqual(STACK.played(), STACK.pattern)
        fewer = STACK.model_copy(update={"pattern": STACK.pattern[:2]})
        self.assertEqual(fewer.played(), STACK.pattern[:2])
        self.assertEqual(fewer.model_copy(update={"pattern": ()}).played(), ())


class MovementsTest(unittest.TestCase):
    def test_what_does_not_move_says_why(self):
        linear = apply(STACK, SetValue(path="layers/mid/path/eq/phase", value="linear-phase"))
        for stack, path, words in (
            (STACK, "layers/mid/path/clip/oversampling", "it is no single number"),
            (STACK, "layers/mid/source/tones/wave/copies", "it is a count"),
            (STACK, "bus/limiter/release_ms", "what it shapes is made as a whole"),
            (STACK, "layers/mid/mute", "it is no single number"),
            (
                apply(STACK, AddPart(path="kick/eq/points", part={"id": "b", "kind": "bell"})),
                "kick/eq/points/b/gain_db",
                "a drum's hit is made once",
            ),
            (STACK, "layers/mid/gone", "there is nothing at 'layers/mid/gone'"),
            (linear, "layers/mid/path/eq/points/dip/gain_db", "its EQ has a linear phase"),
        ):
            with self.subTest(path=path), self.assertRaisesRegex(InvalidEdit, words):
                apply(stack, moving(path))
        with self.assertRaisesRegex(InvalidEdit, "linear phase"):
            moved = apply(STACK, moving("layers/mid/path/eq/points/dip/gain_db"))
            apply(moved, SetValue(path="layers/mid/path/eq/phase", value="linear-phase"))

    def test_what_goes_is_no_longer_moved(self):
        stack = apply(STACK, moving("layers/mid/path/clip/drive_db"))
        self.assertEqual(apply(stack, RemovePart(path="layers/mid/path/clip")).movements, ())
        other = apply(STACK, moving("layers/mid/source/tones/wave/level_db"))
        child = apply(other, SetValue(path="layers/mid/source/kind", value="tone"))
        self.assertEqual(child.movements, ())
        self.assertEqual(apply(other, RemovePart(path="movements/m")).movements, ())

    def test_a_copy_moves_as_what_it_was_copied_from(self):
        for path in ("layers/mid/path/clip/drive_db", "layers/mid/path/eq/points/dip/gain_db", "layers/mid/level_db"):
            copied = apply(apply(STACK, moving(path)), AddLayer(copy_of="mid"))
            new = copied.layers[2]
            own, other = copied.movements[0].targets
            self.assertEqual(own.path, path)
            self.assertTrue(other.path.startswith(f"layers/{new.id}/"))
            self.assertEqual((other.travel, find(copied, other.path)), (2.0, find(copied, path)))
            self.assertNotEqual(own.id, other.id)
        # A share of a duck is the layer's own, though it lies with the duck; it need not be written down to be moved.
        ducked = apply(STACK, AddPart(path="duckers", part={"id": "d"}))
        copied = apply(apply(ducked, moving("duckers/d/amounts/mid")), AddLayer(copy_of="mid"))
        shares = [target.path for target in copied.movements[0].targets]
        self.assertEqual(shares, ["duckers/d/amounts/mid", f"duckers/d/amounts/{copied.layers[2].id}"])
        left = apply(copied, RemoveLayer(layer=copied.layers[2].id))
        self.assertEqual([target.path for target in left.movements[0].targets], ["duckers/d/amounts/mid"])
        self.assertEqual(apply(left, RemovePart(path="duckers/d")).movements, ())
        # What an upper half takes from its lower one has no source of its own to be moved.
        cut = apply(
            apply(STACK, moving("layers/mid/source/tones/wave/level_db")), SplitLayer(layer="mid", frequency_hz=300)
        )
        self.assertEqual(len(cut.movements[0].targets), 1)


if __name__ == "__main__":
    unittest.main()
