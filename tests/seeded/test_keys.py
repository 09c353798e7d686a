"""What the cache keeps is never stale: after any edit the sound is that of a render that knows nothing."""

import unittest

import numpy as np

from apilado.core.document.addresses import joined
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import AddPart, MovePart, RemovePart, SetValue
from apilado.core.document.stack import Stack
from apilado.core.parameters import parameters_of
from apilado.core.render.engine import Engine
from apilado.errors import InvalidEdit
from tests.seeded.moving import drawn_movements
from tests.seeded.stacks import Dice, seeded_stack, seeds
from tests.support import graph_of

EDITS, COUNT = 12, 1
"""For each of the stacks; the whole run makes 96."""
STRUCTURE = ("bars", "beats_per_bar", "tempo_bpm", "sample_rate", "oversampling")
"""What makes a render long, or all of it new, is left to other tests."""


def numbers_in(part, path=""):
    """(address, parameter) of every declared value that an edit can set, anywhere in a stack."""
    for parameter in parameters_of(type(part)):
        if parameter.kind in ("number", "integer", "switch", "choice") and parameter.name not in STRUCTURE:
            yield joined(path, parameter.name), parameter
    for name in type(part).model_fields:
        value = getattr(part, name)
        if hasattr(type(value), "model_fields"):
            yield from numbers_in(value, joined(path, name))
        elif isinstance(value, tuple):
            for each in value:
                if getattr(each, "id", None):
                    yield from numbers_in(each, joined(path, name, each.id))


def random_edit(dice, stack):
    kind = dice.of(("value", "value", "value", "value", "movement", "less", "order", "step"))
    steps = [(layer.id, step) for layer in stack.layers for step in layer.path]
    if kind == "movement":
        movement = dice.of(drawn_movements(dice, stack))
        return AddPart(path="movements", part={**movement.model_dump(mode="json"), "id": f"n{dice.whole(0, 10**6)}"})
    if kind == "less" and stack.movements:
        return RemovePart(path=f"movements/{dice.of(stack.movements).id}")
    if kind == "order":
        layer, step = dice.of(steps)
        return MovePart(path=f"layers/{layer}/path/{step.id}", to=dice.whole(0, 4))
    if kind == "step":
        layer, _ = dice.of(steps)
        return AddPart(path=f"layers/{layer}/path", part={"kind": dice.of(("soft-clip", "compressor", "eq"))})
    moved = {target.path for movement in stack.movements for target in movement.targets}
    values = list(numbers_in(stack))
    among_moved = [each for each in values if each[0] in moved]
    path, parameter = dice.of(among_moved if among_moved and dice.one_in(3) else values)
    if parameter.kind == "switch":
        value = dice.one_in(2)
    elif parameter.kind == "choice":
        value = dice.of([each for each, _ in parameter.choices])
    else:
        value = parameter.held(dice.between(parameter.low, parameter.high))
    return SetValue(path=path, value=int(value) if parameter.kind == "integer" else value)


class KeysTest(unittest.TestCase):
    def test_nothing_is_stale_after_random_edits(self):
        made = 0
        for seed in seeds(COUNT, first=600):
            dice = Dice(seed)
            stack, load = seeded_stack(seed)
            engine = Engine()
            while made < EDITS * (seed - 599):
                try:
                    stack = apply(stack, random_edit(dice, stack))
                except InvalidEdit:
                    continue
                made += 1
                cold = Engine()
                outputs = [each.run([graph_of(stack, load).output])[0] for each in (engine, cold)]
                cold.close()
                np.testing.assert_array_equal(*outputs, err_msg=f"seed {seed}, edit {made}")
                self.assertIsInstance(stack, Stack)
            engine.close()
        self.assertEqual(made, EDITS * COUNT)


if __name__ == "__main__":
    unittest.main()
