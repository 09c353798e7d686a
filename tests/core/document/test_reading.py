import json
import re
import unittest
from pathlib import Path

import jsonschema
import numpy as np

from apilado.core.document.reading import schema, stack_from_data, stack_from_json, stack_to_json
from apilado.core.document.stack import VERSION, Stack
from apilado.core.parameters import parameters_of
from apilado.core.parts import ID_PATTERN, steady_id
from apilado.core.sources.registry import SOURCES
from apilado.core.treatments.registry import TREATMENTS
from apilado.demo.stacks import slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import FutureVersion, InvalidDocument
from tests.support import graph_of, rendered

KEPT = Path(__file__).parent / "kept"


class ReadingTest(unittest.TestCase):
    def setUp(self):
        self.data = json.loads(stack_to_json(demo_bundles()[0].stack))

    def test_round_trip(self):
        for bundle in demo_bundles():
            text = stack_to_json(bundle.stack)
            self.assertEqual(stack_from_json(text), bundle.stack)
            self.assertEqual(stack_to_json(stack_from_json(text)), text)

    def test_faults_are_named_with_their_path(self):
        def put(path, value):
            place = self.data
            *way, last = path.split("/")
            for part in way:
                place = place[int(part)] if part.isdigit() else place[part]
            place[last] = value

        cases = (
            ("layers/0/colour", "red", r"layers/0/colour: this field is unknown"),
            ("layers/1/level_db", "loud", r"layers/1/level_db: .*not 'loud'"),
            ("layers/1/level_db", 40, r"layers/1/level_db: .*not 40"),
            ("crossovers/0/frequency_hz", 900.0, r"crossovers/1: 640 Hz must lie at least a third of an octave above"),
            ("crossovers/0/frequency_hz", 600.0, r"at least a third of an octave"),
            ("crossovers/0/slope_db_per_octave", 18, r"slope_db_per_octave"),
            ("layers/2/span", {"first": 2, "last": 5}, r"layers/high/span: band 5 does not exist"),
            ("layers/2/span", {"first": 2, "last": 1}, r"a span runs upwards"),
            ("layers/1/id", "sub", r"layers/sub: the id appears twice"),
            ("crossovers/1/id", "lower", r"crossovers/lower: the id appears twice"),
            ("layers/1/source/tones/1/id", "wave", r"layers/mid/source/tones/wave: the id appears twice"),
            (
                "layers/1/path/2/points",
                [{"id": "x", "kind": "bell"}] * 2,
                r"mid/path/eq/points/x: the id appears twice",
            ),
            ("layers/1/path", [{"id": "a", "kind": "eq"}], r"layers/1/path: a layer is cut to its band once, not 0"),
            ("layers/1/path", [{"id": n, "kind": "split"} for n in "ab"], r"layers/1/path: .* once, not 2 times"),
            ("bus/path", [{"id": "a", "kind": "split"}], r"bus/path/0"),
            ("layers/1/id", "No id", r"layers/1/id"),
            ("duckers/0/trigger", "snare", r"duckers/duck/trigger: there is no trigger 'snare'"),
            ("duckers/0/amounts", {"gone": 0.5}, r"duckers/duck/amounts: there is no layer 'gone'"),
            ("duckers/0/shape", {"kind": "pumped"}, r"duckers/0/shape"),
            ("duckers/0/silent_bars", [0], r"a bar is counted from 1 to 64, not 0"),
            (
                "pairs",
                [{"id": "p", "dip": "kick/eq", "lift": "kick/eq"}],
                r"pairs/p: it dips and lifts in different places",
            ),
            (
                "pairs",
                [{"id": "p", "dip": "layers/mid/path/gone", "lift": "kick/eq"}],
                r"pairs/p: there is no EQ at .*gone",
            ),
            ("kick/eq/points", [{"id": "k", "kind": "keyed-bell"}], r"kick/eq/points/k: a drum has no keyed bell"),
            ("triggers", [{"id": "kick"}], r"give the trigger another id"),
            ("key", "H minor", r"key: 'H minor' is none of"),
            ("bars", 64, r"lasts?|last 1\d\d s|the most is"),
            ("kick/hits", [-1.0], r"a hit lies from 0"),
            ("sample_rate", 22050, r"sample_rate: one of 44100, 48000 or 96000, not 22050$"),
            ("layers", 5, r"layers: a list, not 5$"),
            ("name", "", r"name: at least 1 characters"),
            ("crossovers/0/frequency_hz", "low", r"frequency_hz: a number, not 'low'$"),
            ("bars", 1000, r"bars: at most 64, not 1000$"),
            ("format", "other", r"'format' should be 'apilado-stack'"),
        )
        for path, value, words in cases:
            with self.subTest(path=path, value=value):
                self.setUp()
                put(path, value)
                if path == "bars":
                    put("tempo_bpm", 40.0)
                with self.assertRaisesRegex(InvalidDocument, words):
                    stack_from_json(json.dumps(self.data))

    def test_no_json_no_number_no_end(self):
        for text, words in (
            ("{", "this is not JSON"),
            ('{"format": NaN}', "NaN is not a number that JSON has"),
            ("[" * 200000, "not JSON|nested too deeply"),
            ("[]", "this is not a stack"),
        ):
            with self.assertRaisesRegex(InvalidDocument, words):
                stack_from_json(text)

    def test_a_future_version_says_so(self):
        self.data["version"] = VERSION + 1
        with self.assertRaisesRegex(
            FutureVersion, f"has version {VERSION + 1}; this Apilado reads up to version {VERSION}"
        ):
            stack_from_json(json.dumps(self.data))

    def test_the_schema_admits_the_demo_and_refuses_the_unknown(self):
        validator = jsonschema.Draft202012Validator(schema())
        validator.check_schema(schema())
        for bundle in demo_bundles():
            validator.validate(json.loads(stack_to_json(bundle.stack)))
        self.data["loudness"] = 3
        self.assertFalse(validator.is_valid(self.data))

    def test_the_schema_tells_units_and_ranges(self):
        described = schema()["$defs"]["Layer"]["properties"]["level_db"]
        self.assertEqual((described["minimum"], described["maximum"], described["unit"]), (-60.0, 12.0, "dB"))


def as_version_4(data):
    """A stack as it lay in documents of version 4: the split in a word, treatments and EQ apart."""
    for owner in (*data["layers"], data["bus"], data["shared"]):
        path = owner.pop("path")
        (eq,) = [step for step in path if step["kind"] == "eq"]
        owner.update(eq=eq["points"], eq_phase=eq["phase"])
        owner["treatments"] = [step for step in path if step["kind"] not in ("eq", "split")]
    voice = data.pop("voice")
    for layer in data["layers"]:
        layer["split"] = "before"
        own = layer.pop("voice") or voice
        if layer["source"]["kind"] == "tone":
            layer["source"].update(envelope=own["envelope"], glide_ms=own["glide_ms"])
    for drum in (data["kick"], *data["triggers"]):
        drum["eq"] = drum["eq"]["points"]
    data["version"] = 4
    return data


class MigrationTest(unittest.TestCase):
    """Version 1 had one duck, a share of it in each layer, and silent triggers with the kick's sound."""

    def test_a_stack_of_version_1_sounds_as_it_did(self):
        old = as_version_4(json.loads(stack_to_json(slipway().stack)))
        (ducker,) = old.pop("duckers")
        shape = {
            name: value
            for name, value in ducker["shape"].items()
            if name not in ("kind", "detection", "key_high_pass_hz", "key_low_pass_hz")
        }
        old["duck"] = {"on": True, "trigger": "ghost", **shape}
        for layer in old["layers"]:
            layer["duck_amount"] = {"mid": 0.8, "high": 0.5}.get(layer["id"], 1.0)
            del layer["eq_phase"]
        for name in ("shared", "pairs", "target", "reference"):
            del old[name]
        del old["bus"]["eq_phase"]
        for name in ("attack_db", "sustain_db", "eq", "clip_db"):
            del old["kick"][name]
        old["triggers"] = [{"id": "ghost", "name": "Ghost", "hits": [0.0, 1.0]}]
        old["version"] = 1
        stack = stack_from_json(json.dumps(old))
        self.assertEqual(stack.version, VERSION)
        self.assertEqual(stack.duckers[0].shape, slipway().stack.duckers[0].shape)
        self.assertEqual([stack.duckers[0].amount(name) for name in ("sub", "mid", "high")], [1.0, 0.8, 0.5])
        self.assertEqual((stack.duckers[0].trigger, stack.hits_of(stack.duckers[0])), ("ghost", (0.0, 1.0)))
        self.assertTrue(stack.triggers[0].mute)
        self.assertEqual(stack.triggers[0].sound, stack.kick.sound)

    def test_stacks_of_older_versions_sound_as_they_did(self):
        # Kept with what the program that wrote them made of them: the level of 24 stretches of each.
        kept = [
            each
            for name in ("version-3", "version-4", "version-5")
            for each in json.loads((KEPT / f"{name}.json").read_text())
        ]
        for each in kept:
            with self.subTest(name=each["stack"]["name"], version=each["stack"]["version"]):
                stack = stack_from_data(each["stack"])
                self.assertEqual(stack_from_data(each["stack"]), stack)  # the ids that are given are the same again
                audio = rendered(stack)["output"].astype(np.float64)
                found = [np.sqrt(np.mean(part**2)) for part in np.array_split(audio, 24, axis=1)]
                np.testing.assert_allclose(found, each["rms"], rtol=1e-5, atol=1e-9)

    def test_ids_given_by_place_are_apart(self):
        given = {steady_id(f"layers/{layer}/eq/{n}") for layer in ("sub", "mid", "high") for n in range(32)}
        self.assertEqual(len(given), 96)
        self.assertTrue(all(re.fullmatch(ID_PATTERN, each) for each in given))

    def test_what_version_2_had_soloed_is_there_with_the_rest(self):
        new = slipway().stack
        old = as_version_4(json.loads(stack_to_json(new)))
        old["version"] = 2
        for number, layer in enumerate(old["layers"]):
            layer["solo"] = number == 1
        for owner in (*old["layers"], old["kick"], old["bus"], old["shared"]):
            for point in owner["eq"]:
                point["solo"] = True
        # Which of the voices is the stack's may differ: what is heard does not.
        new = new.model_copy(update={"chance": "order"})
        self.assertEqual(graph_of(stack_from_json(json.dumps(old))).output.key, graph_of(new).output.key)
        now = json.loads(stack_to_json(new))
        now["layers"][1]["solo"] = True
        with self.assertRaisesRegex(InvalidDocument, "solo"):
            stack_from_json(json.dumps(now))

    def test_a_broken_old_stack_is_refused_as_a_broken_new_one(self):
        for duck in (3, {"release_ms": -1.0}, {"colour": "red"}):
            with self.assertRaisesRegex(InvalidDocument, "duckers|the stack is not valid"):
                stack_from_json(json.dumps({"format": "apilado-stack", "version": 1, "duck": duck}))


class ParametersTest(unittest.TestCase):
    def test_defaults_lie_in_their_ranges(self):
        for model in (*SOURCES, *TREATMENTS, Stack):
            for parameter in parameters_of(model):
                with self.subTest(model=model.__name__, parameter=parameter.name):
                    if parameter.kind in ("number", "integer"):
                        self.assertLessEqual(parameter.low, parameter.default)
                        self.assertLessEqual(parameter.default, parameter.high)
                        if parameter.scale == "log":
                            self.assertGreater(parameter.low, 0.0)
                    elif parameter.kind == "choice":
                        self.assertIn(parameter.default, [value for value, _ in parameter.choices])
