import itertools
import unittest

from apilado.core.document.differences import differences, whole
from apilado.core.document.edits import apply, edit_from_data
from apilado.demo.stacks import slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import InvalidEdit

CHANGES = (
    {"op": "set", "path": "layers/mid/level_db", "value": -3.0},
    {"op": "set", "path": "layers/mid/mute", "value": True},
    {"op": "set", "path": "tempo_bpm", "value": 131.0},
    {"op": "set", "path": "kick/sound/pitch_hz", "value": 55.0},
    {"op": "set", "path": "layers/mid/path/clip/on", "value": False},
    {"op": "add", "path": "layers/mid/path", "part": {"kind": "chorus"}},
    {"op": "remove", "path": "layers/mid/path/eq/points/dip"},
    {"op": "remove", "path": "layers/mid/path/clip"},
    {"op": "move", "path": "layers/mid/path/clip", "to": 0},
    {"op": "set", "path": "duckers/duck/shape/kind", "value": "drawn"},
    {"op": "set", "path": "layers/high/source/kind", "value": "tone"},
    {"op": "transpose", "semitones": 2},
    {"op": "add-movement", "path": "layers/mid/level_db"},
    {"op": "section", "first_bar": 2, "last_bar": 2},
    {"op": "add", "path": "triggers", "part": {"id": "snare", "name": "snare"}},
    {"op": "move-crossover", "crossover": "low", "frequency_hz": 130.0},
    {"op": "add-layer"},
    {"op": "set", "path": "bus/path", "value": []},
)


def done(stack, *changes):
    for change in changes:
        stack = apply(stack, edit_from_data(change))
    return stack


def changes_of(stack):
    """Those of the changes that this stack takes."""
    found = []
    for change in CHANGES:
        if change.get("crossover"):
            change = {**change, "crossover": stack.crossovers[0].id}
        try:
            if done(stack, change) != stack:
                found.append(change)
        except InvalidEdit:
            continue
    return found


class DifferencesTest(unittest.TestCase):
    def taken_over(self, now, other):
        for difference in differences(now, other):
            now = apply(now, difference.edit)
        return now

    def test_each_change_is_told_and_taking_it_over_undoes_it(self):
        stack = slipway().stack
        changes = changes_of(stack)
        self.assertGreater(len(changes), 12)
        for change in changes:
            with self.subTest(change=change):
                changed = done(stack, change)
                found = differences(stack, changed)
                self.assertTrue(found)
                self.assertTrue(all(each.words and each.words[0].isupper() for each in found), found)
                self.assertEqual(self.taken_over(stack, changed), changed)
                self.assertEqual(self.taken_over(changed, stack), stack)

    def test_two_changes_at_once_are_both_told(self):
        stack = slipway().stack
        for one, two in itertools.pairwise(changes_of(stack)):
            try:
                changed = done(stack, one, two)
            except InvalidEdit:
                continue
            with self.subTest(one=one, two=two):
                self.assertEqual(self.taken_over(stack, changed), changed)

    def test_one_of_several_is_taken_over_alone(self):
        stack = slipway().stack
        changed = done(stack, *CHANGES[:3])
        told = {each.words: each for each in differences(stack, changed)}
        self.assertEqual(
            list(told), ["Tempo: 131 bpm, now 126 bpm", "Level of mid: −3 dB, now −10.5 dB", "Mute of mid: on, now off"]
        )
        level = told["Level of mid: −3 dB, now −10.5 dB"]
        self.assertEqual(level.owner, "layers/mid")
        self.assertEqual(apply(stack, level.edit), done(stack, CHANGES[0]))

    def test_a_stack_becomes_any_other_at_once(self):
        stacks = [bundle.stack for bundle in demo_bundles()]
        for one, other in itertools.pairwise(stacks):
            edit = whole(other)
            self.assertEqual(apply(one, edit), other.model_copy(update={"name": one.name}))
            self.assertEqual(edit.title(one, other), "Take over the whole stack")
            first = differences(one, other)[0]
            if [layer.id for layer in one.layers] != [layer.id for layer in other.layers]:
                self.assertIn("Layers: ", first.words)
                self.assertEqual(apply(one, first.edit).layers, other.layers)
            self.assertEqual(differences(one, one), [])
