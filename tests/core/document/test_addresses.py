import ast
import copy
import re
import unittest
from pathlib import Path
from unittest import mock

from apilado.core.banded import Band, Banded
from apilado.core.document import addresses
from apilado.core.document.edits import apply
from apilado.core.document.edits_layers import AddLayer, RemoveLayer
from apilado.core.document.edits_values import AddPart, MovePart, RemovePart, SetValue
from apilado.core.document.path import Container, Equaliser, Split
from apilado.core.document.stack import BUSES, Stack
from apilado.core.parts import ID_PATTERN, Part, new_id
from apilado.core.sources.registry import SOURCES
from apilado.core.treatments.cabinet import Cabinet, ImpulseResponse
from apilado.core.treatments.drawn_curve import CurvePoint, DrawnCurve
from apilado.core.treatments.registry import TREATMENTS
from apilado.demo.stacks import lock_gate, slipway
from apilado.errors import InvalidEdit
from tests.seeded.stacks import seeded_stack
from tests.support import graph_of, loader, without_ids

APILADO = Path(__file__).parents[3] / "apilado"
STACK = slipway().stack


def parts_in(model, path=""):
    """(address, part) of every part with an id in a model."""
    for name in type(model).model_fields:
        value = getattr(model, name)
        for each in value if isinstance(value, tuple) else (value,):
            if isinstance(each, Part):
                here = addresses.joined(path, name, each.id)
                yield here, each
                yield from parts_in(each, here)
            elif hasattr(type(each), "model_fields"):
                yield from parts_in(each, addresses.joined(path, name))


class AddressesTest(unittest.TestCase):
    def setUp(self):
        self.stacks = [slipway().stack, lock_gate().stack, *[seeded_stack(seed)[0] for seed in range(12)]]

    def test_what_is_remembered_of_a_document_is_only_what_is_there(self):
        stack = self.stacks[-1]
        remembered = {}
        with mock.patch.object(addresses._FOUND, "get", return_value=remembered):
            for path in (
                "tempo_bpm",
                "tempo_bpm",
                f"layers/{stack.layers[0].id}",
                "layers/nobody",
                "x" * 1000,
                "layers//l0",
                "layers/",
            ):
                self.assertIs(addresses.find(stack, path), addresses.walked(stack, path)[-1])
            self.assertEqual(list(remembered), ["tempo_bpm", f"layers/{stack.layers[0].id}"])
            remembered["key"] = "from before"
            self.assertEqual(addresses.find(stack, "key"), "from before")
            with mock.patch.object(addresses, "MOST_FOUND", 2):
                addresses.find(stack, "seed")
        self.assertNotIn("seed", remembered)

    def test_every_part_is_found_at_its_address_in_the_model_and_in_its_json(self):
        kinds = set()
        for stack in self.stacks:
            data = stack.model_dump(mode="json")
            for path, part in parts_in(stack):
                self.assertIs(addresses.get(stack, path), part)
                self.assertEqual(addresses.get(data, path), part.model_dump(mode="json"))
                members, index = addresses.place_of(data, path)
                self.assertEqual(members[index]["id"], part.id)
                kinds.add(addresses.parts_of(path)[-2])
        wanted = {"layers", "crossovers", "duckers", "triggers", "pairs", "path", "points", "tones", "backing"}
        self.assertEqual(
            kinds, wanted | {"movements", "targets", "bands", "into", "table", "filters", "settings", "responses"}
        )

    def test_values_are_replaced_where_they_are_and_nowhere_else(self):
        for path, value in (
            ("tempo_bpm", 99.0),
            ("layers/mid/path/eq/points/dip/q", 3.0),
            ("layers/mid/source/tones/octave/copies", 3),
            ("bus/limiter/ceiling_db", -9.0),
            ("kick/hits/2", 2.25),
            ("duckers/duck/amounts/mid", 0.1),
        ):
            data = STACK.model_dump(mode="json")
            addresses.replace(data, path, value)
            changed = Stack.model_validate(data)
            self.assertEqual(addresses.get(changed, path), value)
            addresses.replace(data, path, addresses.get(STACK, path))
            self.assertEqual(Stack.model_validate(data), STACK)
            if "hits" not in path and "amounts" not in path:
                self.assertEqual(addresses.replaced(STACK, path, value), changed)

    def test_what_is_not_there_is_met_by_nothing(self):
        data = STACK.model_dump(mode="json")
        for path in (
            "layers/gone/level_db",
            "layers/0/level_db",
            "layers/mid/path/eq/points/0/q",
            "layers/mid/path/eq/points/gone",
            "crossovers/0/frequency_hz",
            "kick/hits/99",
            "kick/hits/-1",
            "kick/hits/²",
            "kick/hits/@0.125",
            "pattern/@0.5:30",
            "pattern/99999",
            "tempo_bpm/x",
            "",
            "/",
            "layers//level_db",
            "layers/mid/__class__/x",
        ):
            with self.subTest(path=path):
                self.assertIsNone(addresses.find(STACK, path))
                self.assertIsNone(addresses.find(data, path))
                with self.assertRaisesRegex(InvalidEdit, "there is nothing at"):
                    addresses.replace(data, path, 1)
        self.assertEqual(data, STACK.model_dump(mode="json"))

    def test_a_copy_has_ids_of_its_own_throughout(self):
        for stack in self.stacks:
            for layer in stack.model_dump(mode="json")["layers"]:
                before = copy.deepcopy(layer)
                made = addresses.with_fresh_ids(layer)
                self.assertEqual(layer, before)
                self.assertEqual(without_ids(made), without_ids(layer))
                ids = [set(re.findall(r"'id': '([^']*)'", str(each))) for each in (made, layer)]
                self.assertFalse(ids[0] & ids[1])

    def test_what_goes_takes_what_points_at_it(self):
        stack = apply(STACK, AddPart(path="pairs", part={"id": "p", "dip": "layers/high/path/eq", "lift": "kick/eq"}))
        stack = apply(stack, AddPart(path="triggers", part={"id": "ghost"}))
        stack = apply(
            stack, AddPart(path="pairs", part={"id": "q", "dip": "layers/mid/path/eq", "lift": "triggers/ghost/eq"})
        )
        left = apply(stack, RemoveLayer(layer="high"))
        self.assertEqual([pair.id for pair in left.pairs], ["q"])
        self.assertNotIn("high", left.duckers[0].amounts)
        left = apply(stack, RemovePart(path="triggers/ghost"))
        self.assertEqual([pair.id for pair in left.pairs], ["p"])

    def test_a_stale_address_meets_its_part_or_nothing(self):
        """Random moves, additions and removals: an address goes on meaning the part that it meant."""
        for stack in self.stacks:
            known = {path: part for path, part in parts_in(stack) if "/path/" in path or "/points/" in path}
            fixed = Split | Equaliser | DrawnCurve | Container | Band | Banded | Cabinet | ImpulseResponse
            known = {path: part for path, part in known.items() if not isinstance(part, fixed)}
            now = stack
            for path in list(known)[::2]:
                holder, _ = addresses.parted(path)
                kind = "bell" if holder.endswith("points") else "soft-clip"
                new = {} if isinstance(known[path], CurvePoint) else {"kind": kind}
                if len(addresses.get(now, holder)) < 8:
                    now = apply(now, AddPart(path=holder, part=new))
                now = apply(now, MovePart(path=path, to=0))
            removed = list(known)[1::3]
            for path in removed:
                now = apply(now, RemovePart(path=path))
            for path, part in known.items():
                if path in removed:
                    with self.assertRaisesRegex(InvalidEdit, "any more"):
                        apply(now, SetValue(path=f"{path}/on", value=False))
                else:
                    self.assertEqual(addresses.get(now, path), part)

    def test_ids_are_heard_nowhere(self):
        """The same parts under other ids make the same stages: what is cached stays good."""
        for stack in self.stacks:
            # A movement names what it moves within a source by its ids: that is in the key of what is moved so.
            stack = stack.model_copy(update={"movements": ()})
            data = stack.model_dump(mode="json")
            owners = [*data["layers"], *data["triggers"], data["kick"], *(data[name] for name in BUSES)]
            for owner in owners:
                for name in [name for name in ("eq", "source") if name in owner]:
                    owner[name] = addresses.with_fresh_ids(owner[name])
                # The EQs themselves keep theirs: pairs name them.
                for step in owner.get("path", []):
                    if step["kind"] == "eq":
                        step["points"] = addresses.with_fresh_ids(step["points"])
                    else:
                        step.update(addresses.with_fresh_ids(step))
            data["crossovers"] = addresses.with_fresh_ids(data["crossovers"])
            other = Stack.model_validate(data)
            keys = [graph_of(each, loader({})).output.key for each in (stack, other)]
            self.assertEqual(*keys)
            ids = [
                {part.id for path, part in parts_in(each) if "points" in path or "tones" in path}
                for each in (stack, other)
            ]
            self.assertFalse(ids[0] & ids[1])

    def test_ids_are_random_and_fit_their_pattern(self):
        made = {new_id() for _ in range(2000)}
        self.assertEqual(len(made), 2000)
        self.assertTrue(all(re.fullmatch(ID_PATTERN, each) for each in made))
        self.assertNotEqual(apply(STACK, AddLayer()).layers[-1].id, apply(STACK, AddLayer()).layers[-1].id)


class StructureTest(unittest.TestCase):
    def test_no_path_is_taken_apart_outside_the_module_of_addresses(self):
        taking = re.compile(
            r"""split\(["']/["']|partition\(["']/["']|removeprefix\(["'](layers|triggers|pairs|duckers)/"""
        )
        found = [
            f"{file.relative_to(APILADO)}:{number}"
            for file in APILADO.rglob("*.py")
            if file.name != "addresses.py"
            for number, line in enumerate(file.read_text().splitlines(), start=1)
            if taking.search(line)
        ]
        # A file's suffix and a page's own address are no addresses of a document.
        self.assertEqual(found, [])

    def test_nobody_asks_a_source_or_a_treatment_for_its_type(self):
        """Outside their folders: what one can do it answers itself."""
        kinds = {model.__name__ for model in (*SOURCES, *TREATMENTS)}
        found = []
        for file in APILADO.rglob("*.py"):
            if {"sources", "treatments"} & set(file.parts):
                continue
            for node in ast.walk(ast.parse(file.read_text())):
                asks = isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("isinstance", "issubclass")
                named = {each.id for each in ast.walk(node) if isinstance(each, ast.Name)} if asks else set()
                found += [f"{file.relative_to(APILADO)}:{node.lineno}" for _ in named & kinds]
        self.assertEqual(found, [])
