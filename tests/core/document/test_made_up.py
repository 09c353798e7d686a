"""A new treatment is one class and one line in the registry: everything else finds it."""

import subprocess
import sys
import unittest

PROGRAM = """
from typing import Annotated, ClassVar, Literal

import numpy as np

from apilado.core.parameters import Model, choice, group, number, parts, switch, tagged_union
from apilado.core.parts import Part
from apilado.core.dsp.curves import Value, mapped, per_frame
from apilado.core.treatments import registry
from apilado.core.treatments.base import Treatment
from apilado.core.units import db_to_gain


class Echo(Part):
    label: ClassVar[str] = "Echo"
    steps: Annotated[float, number(low=1.0, high=4000.0, step=1.0, unit="frames", label="Steps")] = 100.0
    share: Annotated[Value, number(low=0.0, high=1.0, label="Share", moves=True)] = 0.5


class Output(Model):
    level_db: Annotated[Value, number(low=-24.0, high=24.0, step=0.1, unit="dB", label="Output", moves=True)] = 0.0
    inverted: Annotated[bool, switch(label="Inverted")] = False


class Stutter(Treatment):
    label: ClassVar[str] = "Stutter"
    kind: Literal["stutter"] = "stutter"
    drive: Annotated[Value, number(low=0.5, high=4.0, scale="log", unit="x", label="Drive", moves=True)] = 1.0
    way: Annotated[Literal["on", "back"], choice(label="Way")] = "on"
    echoes: tuple[Echo, ...] = parts("echo", least=1, most=3, begin=lambda: (Echo(id="first"),))
    output: Output = group(Output, label="Output stage")

    def process(self, audio, clock):
        out = audio * np.asarray(per_frame(self.drive), np.float32)
        for echo in self.echoes:
            later = np.roll(audio, int(echo.steps), axis=1) if clock.looped else audio
            out = out + later * np.asarray(per_frame(echo.share), np.float32)
        gain = per_frame(mapped(self.output.level_db, db_to_gain)) * (-1.0 if self.output.inverted else 1.0)
        return out * np.asarray(gain, np.float32)


registry.TREATMENTS = (*registry.TREATMENTS, Stutter)
registry.AnyTreatment = tagged_union(registry.TREATMENTS)

import json
import unittest

from apilado.core.document.edits import apply
from apilado.core.document.edits_pattern import SetBars
from apilado.core.document.edits_values import AddPart, MovePart, RemovePart, SetValue
from apilado.core.document.reading import schema, stack_from_json, stack_to_json
from apilado.core.parameters import parameters_of
from apilado.demo.stacks import slipway
from apilado.errors import InvalidEdit
from apilado.web.sheets.layers import layer_sections
from tests.core.movement.test_curves import moving
from tests.seeded.moving import values_that_move
from tests.support import ENGINE, graph_of, rendered

HERE = "layers/mid/path/new"


def flat(section):
    yield section
    for child in section.children:
        yield from flat(child)


class MadeUp(unittest.TestCase):
    def setUp(self):
        self.stack = apply(slipway().stack, AddPart(path="layers/mid/path", part={"id": "new", "kind": "stutter"}))

    def test_document_and_schema(self):
        self.assertEqual(stack_from_json(stack_to_json(self.stack)), self.stack)
        described = schema()["$defs"]["Stutter"]["properties"]["drive"]
        self.assertEqual((described["minimum"], described["unit"], described["scale"]), (0.5, "x", "log"))

    def test_edits_read_the_declaration(self):
        changed = apply(self.stack, SetValue(path=f"{HERE}/output/level_db", value="−6"))
        self.assertEqual(changed.layer("mid").path[-1].output.level_db, -6.0)
        with self.assertRaisesRegex(InvalidEdit, "runs from 0.5 to 4 x; 9 was not taken"):
            apply(self.stack, SetValue(path=f"{HERE}/drive", value=9.0))
        self.assertEqual(apply(self.stack, SetValue(path=f"{HERE}/drive", value=9, held=True)).layer("mid").path[-1].drive, 4)
        more = apply(self.stack, AddPart(path=f"{HERE}/echoes", part={"id": "second", "share": 0.2}))
        self.assertEqual(len(more.layer("mid").path[-1].echoes), 2)
        self.assertEqual(len(apply(more, RemovePart(path=f"{HERE}/echoes/first")).layer("mid").path[-1].echoes), 1)
        with self.assertRaisesRegex(InvalidEdit, "echoes"):
            apply(self.stack, RemovePart(path=f"{HERE}/echoes/first"))

    def test_the_sheet(self):
        found = [part for section in layer_sections(self.stack, self.stack.layer("mid")) for part in flat(section)]
        titles = [part.title for part in found]
        for title in ("Stutter", "Echo 1", "Output stage"):
            self.assertIn(title, titles)
        paths = {field.path for part in found for field in (*part.fields, *part.rest)}
        self.assertTrue({f"{HERE}/drive", f"{HERE}/way", f"{HERE}/echoes/first/share", f"{HERE}/output/level_db"} <= paths)
        offered = [action.label for part in found for action in part.actions]
        self.assertIn("Add an echo", offered)
        self.assertIn("Stutter", [add.label for part in found for add in part.adds])

    def test_the_corners_and_the_render(self):
        before = rendered(slipway().stack)["mid"]
        self.assertGreater(abs(rendered(self.stack)["mid"] - before).max(), 0.01)
        for path, low, high in ((f"{HERE}/drive", 0.5, 4.0), (f"{HERE}/echoes/first/share", 0.0, 1.0)):
            sounds = [rendered(apply(self.stack, SetValue(path=path, value=value)))["mid"] for value in (low, high)]
            self.assertTrue(all(np.isfinite(sound).all() for sound in sounds))
            self.assertGreater(abs(sounds[0] - sounds[1]).max(), 0.01)

    def test_its_values_move(self):
        own = [(path, value) for path, _, value in values_that_move(self.stack) if path.startswith(HERE)]
        self.assertEqual(len(own), 3)
        plain = rendered(self.stack)["mid"]
        for path, _ in own:
            rest, away = (self.stack.model_copy(update={"movements": (moving(path, by),)}) for by in (0.0, 0.3))
            np.testing.assert_allclose(rendered(rest)["mid"], plain, atol=1e-5)
            self.assertGreater(abs(rendered(away)["mid"] - plain).max(), 0.005)

    def test_what_rings_on_is_heard_behind_its_section(self):
        late = apply(self.stack, SetValue(path=f"{HERE}/echoes/first/steps", value=4000))
        late = apply(apply(late, SetValue(path=f"{HERE}/on", value=False)), SetBars(bars=4))
        there = {"id": "s", "first_bar": 2, "last_bar": 2, "changes": [{"path": f"{HERE}/on", "value": True}]}
        stack = apply(late, AddPart(path="sections", part=there))
        bar = rendered(stack)["mid"].shape[1] // 4
        for rings in (True, False):
            Stutter.rings_on = rings
            # Behind its path: the duck and the place of a layer come after.
            passed = (graph_of(stack).passed[HERE], graph_of(late).passed["layers/mid/path/eq"])
            found, plain = ENGINE.run([each.after for each in passed])
            behind = (found - plain)[:, 2 * bar + 2 : 2 * bar + 3500]
            if rings:
                before = plain[:, 2 * bar - 4000 : 2 * bar - 500]
                self.assertGreater(abs(behind).max(), 0.1 * abs(before).max())
            else:
                self.assertEqual(abs(behind).max(), 0.0)
            self.assertEqual(abs((found - plain)[:, : bar - 500]).max(), 0.0)
        Stutter.rings_on = False


unittest.main()
"""


class MadeUpTest(unittest.TestCase):
    def test_a_made_up_treatment_is_found_by_everything(self):
        # A process of its own: what is made up here is no part of any other test.
        ran = subprocess.run([sys.executable, "-c", PROGRAM], capture_output=True, text=True, check=False)
        self.assertEqual(ran.returncode, 0, ran.stderr[-3000:])
        self.assertIn("Ran 6 tests", ran.stderr)


if __name__ == "__main__":
    unittest.main()
