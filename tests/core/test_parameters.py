import math
import re
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from apilado.core.document.equaliser import POINTS
from apilado.core.document.kick import KICK_SOUNDS, Kick
from apilado.core.document.layer import Layer
from apilado.core.document.stack import Crossover, Stack
from apilado.core.notes import Note
from apilado.core.parameters import parameters_of
from apilado.core.shapes.registry import DUCK_SHAPES
from apilado.core.sources.registry import SOURCES
from apilado.core.sources.voice import Envelope
from apilado.core.sources.wave import Tone
from apilado.core.treatments.registry import TREATMENTS

MODELS = (
    Stack,
    Layer,
    Crossover,
    Kick,
    Note,
    Tone,
    Envelope,
    *SOURCES,
    *TREATMENTS,
    *POINTS,
    *DUCK_SHAPES,
    *KICK_SOUNDS,
)
DECLARED = [(model, parameter) for model in MODELS for parameter in parameters_of(model)]
NUMBERS = [(model, p) for model, p in DECLARED if p.kind in ("number", "integer")]


class ParametersTest(unittest.TestCase):
    def test_what_a_field_shows_is_read_back(self):
        for model, p in DECLARED:
            with self.subTest(model=model.__name__, parameter=p.name):
                if p.kind in ("number", "integer"):
                    for value in (p.low, p.high, p.default, p.held((p.low + p.high) / 3.0)):
                        # As near as the field has digits.
                        self.assertAlmostEqual(p.parsed(p.shown(value)), value, delta=p.step)
                elif p.kind == "choice":
                    for value, _ in p.choices:
                        self.assertEqual(p.parsed(str(value)), value)
                elif p.kind == "switch":
                    self.assertEqual([p.parsed(text) for text in ("on", "False", True)], [True, False, True])
                elif p.kind == "pitch":
                    self.assertEqual([p.parsed(p.shown(pitch)) for pitch in range(128)], list(range(128)))
                elif p.kind == "numbers":
                    several = [p.low, p.high, *([None] if p.blanks else [])]
                    self.assertEqual(p.parsed(p.shown(several)), several)
                    self.assertEqual(p.parsed(""), [])

    @settings(max_examples=300, deadline=None, derandomize=True)
    @given(st.sampled_from(NUMBERS), st.floats(allow_nan=False, allow_infinity=False))
    def test_what_a_hand_lets_go_is_held_in_its_range(self, declared, value):
        _, p = declared
        held = p.held(value)
        self.assertLessEqual(p.low, held)
        self.assertLessEqual(held, p.high)
        self.assertEqual(p.parsed(held), held)
        self.assertEqual(p.held(held), held)
        if p.low <= value <= p.high:
            self.assertLessEqual(abs(held - value), p.step)

    def test_beats_are_counted_from_one_where_they_are_written_and_from_none_where_they_lie(self):
        start = next(p for p in parameters_of(Note) if p.name == "start_beats")
        self.assertEqual((start.shown(0.5), start.parsed("1.5"), start.parsed(0.5)), ("1.5", 0.5, 0.5))
        hits = next(p for p in parameters_of(Kick) if p.name == "hits")
        self.assertEqual((hits.shown((0.0, 2.5)), hits.parsed("1, 3.5")), ("1, 3.5", [0.0, 2.5]))

    def test_refusals_name_what_is_taken_and_what_came(self):
        by_name = {p.name: p for p in parameters_of(Layer)}
        for name, value, words in (
            ("level_db", "loud", "takes a number, not 'loud'"),
            ("level_db", True, "takes a number, not 'True'"),
            ("level_db", math.inf, "takes a number, not 'inf'"),
            ("level_db", "12.5", "runs from −60 to 12 dB; 12.5 was not taken"),
            ("transpose", 1.5, "takes a whole number, not '1.5'"),
            ("mono", "perhaps", "is on or off, not 'perhaps'"),
            ("tint", "gold", "is one of ochre, slate.*, not 'gold'"),
            ("name", ["x"], "is a text, not "),
        ):
            with self.subTest(name=name), self.assertRaisesRegex(ValueError, words):
                by_name[name].parsed(value)


class PageTest(unittest.TestCase):
    def test_no_range_is_retyped_in_the_page(self):
        handles = (Path(__file__).parents[2] / "apilado/web/static/js/handles.js").read_text()
        ends = {f"{end:g}" for _, p in NUMBERS for end in (p.low, p.high) if abs(end) not in (0.0, 1.0, 2.0, 4.0)}
        used = set(re.findall(r"(?:within|Math\.(?:min|max))\([^()]*?(-?\d+(?:\.\d+)?)\)", handles))
        self.assertFalse(used & ends)
