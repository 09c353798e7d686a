"""What a listener hears: parts left out, alone, overdone, an edit as if it were made, somewhere else."""

import unittest

import numpy as np
from numpy.testing import assert_allclose, assert_array_equal

from apilado.core.document.edits import apply, edit_from_data
from apilado.core.document.edits_values import RemovePart, SetValue
from apilado.core.document.without import is_left_out, without
from apilado.core.render.audition import Audition
from apilado.core.render.graph import clock_of
from apilado.core.render.listening import listened, stack_for
from apilado.demo.stacks import slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import InvalidEdit, NotFound
from tests.support import ENGINE, loader, rendered, without_ids


def heard(stack, **audition):
    clock = clock_of(stack, looped=True)
    return ENGINE.run([listened(stack, Audition(**audition), clock, loader({})).output])[0]


def changed(stack, *edits):
    for edit in edits:
        stack = apply(stack, edit_from_data(edit))
    return stack


def rich():
    """Slipway with a bit of everything that can be left out, two bars of it."""
    stack = slipway().stack.model_copy(update={"bars": 2})
    return changed(
        stack,
        {"op": "set", "path": "layers/high/send", "value": 0.5},
        {"op": "section", "first_bar": 2, "last_bar": 2},
        {"op": "add-movement", "path": "layers/mid/level_db"},
    )


class WithoutTest(unittest.TestCase):
    def test_it_is_the_stack_with_the_part_switched_off(self):
        stack = rich()
        section, movement = stack.sections[0].id, stack.movements[0].id
        stack = apply(
            stack,
            edit_from_data(
                {
                    "op": "in-section",
                    "section": section,
                    "edit": {"op": "set", "path": "layers/mid/level_db", "value": 0.0},
                }
            ),
        )
        for path, edit in (
            ("layers/mid", SetValue(path="layers/mid/mute", value=True)),
            ("layers/mid/path/clip", SetValue(path="layers/mid/path/clip/on", value=False)),
            ("layers/mid/path/eq", SetValue(path="layers/mid/path/eq/on", value=False)),
            ("layers/mid/path/eq/points/dip", SetValue(path="layers/mid/path/eq/points/dip/on", value=False)),
            ("duckers/duck", SetValue(path="duckers/duck/on", value=False)),
            ("space", SetValue(path="space/mute", value=True)),
            ("kick", SetValue(path="kick/mute", value=True)),
            (f"movements/{movement}", SetValue(path=f"movements/{movement}/on", value=False)),
            (f"sections/{section}", RemovePart(path=f"sections/{section}")),
        ):
            with self.subTest(path=path):
                off = rendered(apply(stack, edit))["output"]
                assert_array_equal(heard(stack, without=path), off)
                self.assertGreater(float(np.abs(off - rendered(stack)["output"]).max()), 1e-5)

    def test_it_is_left_out_where_a_section_has_it_too(self):
        stack = rich()
        section = stack.sections[0].id
        muted = apply(stack, SetValue(path="layers/high/mute", value=True))
        data = {"op": "set", "path": "layers/high/mute", "value": False}
        otherwise = changed(muted, {"op": "in-section", "section": section, "edit": data})
        self.assertGreater(float(np.abs(rendered(otherwise)["output"] - rendered(muted)["output"]).max()), 1e-5)
        assert_array_equal(heard(otherwise, without="layers/high"), rendered(muted)["output"])

    def test_what_cannot_be_left_out_is_told(self):
        stack = rich()
        for path in ("layers/gone", "layers/mid/level_db", "crossovers/c1", "layers/mid/path/split", ""):
            with self.subTest(path=path), self.assertRaisesRegex(NotFound, "nothing at '.*' that could be left out"):
                without(stack, path)
        self.assertTrue(is_left_out(apply(stack, SetValue(path="layers/mid/mute", value=True)), "layers/mid"))
        self.assertFalse(is_left_out(stack, "layers/mid"))


class OnlyTest(unittest.TestCase):
    def test_with_and_without_add_up_to_the_whole(self):
        stack = rich()
        whole = rendered(stack)["output"]
        for path in ("duckers/duck", "layers/mid/path/eq/points/dip", "space", "kick"):
            with self.subTest(path=path):
                only = heard(stack, only=path)
                assert_allclose(only + heard(stack, without=path), whole, atol=1e-6)
                self.assertGreater(float(np.abs(only).max()), 1e-4)

    def test_what_is_alone_can_be_heard_before_the_bus(self):
        stack = changed(rich(), {"op": "set", "path": "bus/level_db", "value": -12.0})
        both = rendered(stack)
        alone = ("layers/mid", "kick")
        assert_allclose(heard(stack, alone=alone, dry=True), both["mid"] + both["kick"], atol=1e-6)
        self.assertGreater(float(np.abs(heard(stack, alone=alone) - heard(stack, alone=alone, dry=True)).max()), 0.01)
        assert_array_equal(heard(stack, dry=True), both["output"])  # of the whole it says nothing

    def test_only_a_layer_is_the_layer_and_only_a_step_what_it_adds(self):
        stack = rich()
        assert_array_equal(heard(stack, only="layers/mid"), rendered(stack)["mid"])
        clipped = heard(stack, only="layers/mid/path/clip")
        self.assertGreater(float(np.abs(clipped).max()), 0.01)
        off = apply(stack, SetValue(path="layers/mid/path/clip/on", value=False))
        for path in ("layers/mid/path/clip", "layers/gone"):
            with self.assertRaisesRegex(NotFound, "nothing at .* that is on"):
                heard(off, only=path)


class TriedTest(unittest.TestCase):
    def test_an_edit_is_heard_in_the_section_that_it_would_go_into(self):
        stack = rich()
        edit = {"op": "set", "path": "layers/mid/level_db", "value": -40.0}
        section = stack.sections[0].id
        inside = changed(stack, {"op": "in-section", "section": section, "edit": edit})
        found = stack_for(stack, Audition(trial=edit, section=section))
        self.assertEqual(without_ids(found.model_dump()), without_ids(inside.model_dump()))
        self.assertEqual(stack_for(stack, Audition(trial=edit)), changed(stack, edit))
        with self.assertRaises(InvalidEdit):
            stack_for(stack, Audition(trial={"op": "set", "path": "layers/mid/level_db", "value": 99.0}))

    def test_what_is_heard_can_be_all_of_it_at_once(self):
        stack = rich()
        heard_then = heard(
            stack, alone=("layers/mid", "kick"), without="layers/mid/path/clip", overdo="duckers/duck", place="mono"
        )
        self.assertLess(float(np.abs(heard_then[0] - heard_then[1]).max()), 1e-6)
        self.assertEqual(stack_for(stack, Audition()), stack)

    def test_every_stack_of_the_demo_is_heard_in_every_way(self):
        for bundle in demo_bundles():
            if bundle.stack.asset_hashes():
                continue
            stack = bundle.stack.model_copy(update={"bars": 1})
            layer = stack.layers[-1]
            for audition in ({"without": f"layers/{layer.id}"}, {"only": f"layers/{layer.id}", "place": "phone"}):
                with self.subTest(stack=stack.name, audition=audition):
                    self.assertTrue(np.all(np.isfinite(heard(stack, **audition))))
