"""What an edit leaves as it was stays the very same object."""

import unittest

from pydantic import BaseModel

from apilado.core.document.edits import apply
from apilado.core.document.edits_layers import MoveLayer
from apilado.core.document.edits_values import SetValue
from apilado.core.document.stack import Stack
from apilado.core.document.unchanged import with_old_parts
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit
from tests.seeded.stacks import Dice, seeded_stack, seeds
from tests.seeded.test_keys import random_edit
from tests.support import graph_of


def parts_in(value):
    """Every model in a value, and it itself."""
    if isinstance(value, BaseModel):
        yield value
        for _, inner in value:
            yield from parts_in(inner)
    elif isinstance(value, tuple):
        for each in value:
            yield from parts_in(each)


class UnchangedTest(unittest.TestCase):
    def test_only_what_lies_around_a_value_is_new(self):
        stack = slipway().stack
        changed = apply(stack, SetValue(path="layers/mid/level_db", value=-7.5))
        before = {id(each) for each in parts_in(stack)}
        new = [each for each in parts_in(changed) if id(each) not in before]
        self.assertEqual(new, [changed, changed.layer("mid")])
        self.assertIs(changed.layer("mid").path, stack.layer("mid").path)
        self.assertIs(changed.pattern, stack.pattern)
        self.assertEqual(changed.layer("mid").level_db, -7.5)

    def test_members_are_found_by_their_ids(self):
        stack = slipway().stack
        moved = apply(stack, MoveLayer(layer="sub", to=2))
        self.assertNotEqual([each.id for each in moved.layers], [each.id for each in stack.layers])
        for layer in moved.layers:
            self.assertIs(layer, stack.layer(layer.id))

    def test_only_what_is_another_is_checked(self):
        stack = slipway().stack
        before, data = (stack.model_dump(mode="json") for _ in range(2))
        data["layers"].reverse()
        data["layers"][0]["level_db"] = -7.5
        parts = with_old_parts(stack, before, data)
        first, *others = parts["layers"]
        self.assertEqual([id(each) for each in others], [id(each) for each in stack.layers[-2::-1]])
        self.assertEqual((first["level_db"], first["path"]), (-7.5, stack.layers[-1].path))
        self.assertIs(parts["pattern"], stack.pattern)

    def test_a_document_is_what_it_would_be_without(self):
        """After seeded edits it is what reading it anew gives, and is rendered by the same keys."""
        made = 0
        for seed in seeds(2, first=640):
            dice = Dice(seed)
            stack, load = seeded_stack(seed)
            for _ in range(20):
                try:
                    stack = apply(stack, random_edit(dice, stack))
                except InvalidEdit:
                    continue
                made += 1
                anew = Stack.model_validate(stack.model_dump(mode="json"))
                self.assertEqual(stack, anew)
                self.assertEqual(graph_of(stack, load).output.key, graph_of(anew, load).output.key, (seed, made))
        self.assertGreater(made, 20)


if __name__ == "__main__":
    unittest.main()
