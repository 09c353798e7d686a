import json
import unittest

import jsonschema

from apilado.core.document.reading import schema, stack_from_json, stack_to_json
from apilado.core.document.stack import Stack
from apilado.core.parameters import parameters_of
from apilado.core.sources.registry import SOURCES
from apilado.core.treatments.registry import TREATMENTS
from apilado.demo.stacks import demo_bundles
from apilado.errors import FutureVersion, InvalidDocument


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
            ("layers/1/id", "sub", r"the id appears twice"),
            ("duck/trigger", "snare", r"there is no trigger 'snare'"),
            ("key", "H minor", r"key: 'H minor' is none of"),
            ("bars", 64, r"lasts?|last 1\d\d s|the most is"),
            ("kick/hits", [-1.0], r"a hit lies from 0"),
            ("sample_rate", 22050, r"sample_rate"),
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
        self.data["version"] = 7
        with self.assertRaisesRegex(FutureVersion, "has version 7; this Apilado reads up to version 1"):
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
