import io
import json
import unittest
import xml.etree.ElementTree as ET
from pathlib import Path
from unittest import mock

import numpy as np

from apilado import __version__
from apilado.bench import growing, report, timing
from apilado.bench.chart import SHOWN, Course, chart, courses
from apilado.bench.figures import Figure, Part
from apilado.bench.growing import TABLES, exponent
from apilado.bench.reference import at_oversampling, reference_stack
from apilado.bench.sources import played_stacks
from apilado.core.render.engine import Engine
from apilado.core.render.graph import build, clock_of
from apilado.errors import ApiladoError

SPEED = Path(__file__).parents[2] / "docs" / "speed"
SVG = "{http://www.w3.org/2000/svg}"


def of_two(title):
    yield Figure(title, "met", 0.5, 1.0)
    yield Figure(title, "not met", 1.5, 1.7, at_least=True)
    yield Figure(title, "told", 1234.4, unit="ms")


class ReportTest(unittest.TestCase):
    def told(self, *words, **how):
        out = io.StringIO()
        with mock.patch.object(report, "PARTS", (Part("Two figures", of_two), Part("Another", of_two))):
            self.assertEqual(report.run(out, words, **how), 0)
        return out.getvalue()

    def test_each_figure_stands_beside_its_goal(self):
        said = self.told("two")
        self.assertRegex(said, r"met +0\.50 +goal at most 1\.00\n")
        self.assertRegex(said, r"not met +1\.50 +goal at least 1\.70   not met\n")
        self.assertRegex(said, r"told +1234 ms\n")
        self.assertIn("1 of 2 goals are met", said)
        self.assertNotIn("Another", said)

    def test_a_machine_reads_the_same(self):
        read = json.loads(self.told(as_json=True))
        self.assertEqual(read["on"]["apilado"], __version__)
        self.assertEqual([each["met"] for each in read["figures"]], [True, False, None] * 2)
        self.assertEqual(read["figures"][2]["value"], 1234.4)

    def test_where_there_is_no_library_it_says_so(self):
        for there in (True, False):
            with mock.patch.object(report.library, "installed", lambda there=there: there):
                self.assertEqual("'pedalboard' is not installed" in self.told(), not there)

    def test_a_word_that_no_part_has_is_refused_with_the_parts_there_are(self):
        with self.assertRaisesRegex(ApiladoError, "no part of the bench has nonsense in its title; .*\n  Two figures"):
            self.told("nonsense")


class TimesTest(unittest.TestCase):
    def test_by_turns_and_the_least_without_what_is_prepared_and_without_the_first_round(self):
        clock, turns = [0.0], []
        lengths = iter((0.1, 0.1, 5.0, 7.0, 3.0, 8.0, 4.0, 9.0))

        def work(prepared):
            turns.append(prepared)
            clock[0] += next(lengths)

        def prepare():
            clock[0] += 100.0
            return "second"

        with mock.patch.object(timing.time, "perf_counter", side_effect=lambda: clock[0]):
            found = timing.least_seconds(timing.Side(work), timing.Side(work, prepare), rounds=3)
        np.testing.assert_allclose(found, [3.0, 7.0])
        self.assertEqual(turns, [None, "second"] * 4)


class StacksTest(unittest.TestCase):
    """What is measured is what it is called."""

    def test_drives_run_at_what_is_said(self):
        for factor in (1, 4):
            steps = [step for layer in at_oversampling(reference_stack(), factor).layers for step in layer.path]
            found = {step.oversampling for step in steps if hasattr(step, "oversampling")}
            self.assertEqual(found, {factor})

    def test_each_table_grows_by_what_it_is_called(self):
        sizes = {
            "bars": lambda stack: stack.bars,
            "layers": lambda stack: len(stack.layers),
            "copies": lambda stack: stack.layers[0].source.tones[0].copies,
            "notes": lambda stack: len({(note.pitch, note.velocity) for note in stack.pattern}),
            "points": lambda stack: len(stack.all_points("layers/low")),
        }
        for name, steps, stack_of in TABLES:
            self.assertEqual([sizes[name](stack_of(size)) for size in steps], list(steps), name)

    def test_each_source_sounds(self):
        for name, (stack, load) in played_stacks().items():
            graph = build(stack, clock_of(stack, looped=True), load)
            self.assertGreater(float(np.std(Engine().run([graph.output])[0])), 0.001, name)

    def test_a_straight_line_has_the_power_one(self):
        self.assertAlmostEqual(exponent((2, 4, 8), [3.0, 6.0, 12.0]), 1.0)
        self.assertAlmostEqual(exponent((2, 4, 8), [1.0, 4.0, 16.0]), 2.0)

    def test_the_peak_of_a_process_is_its_own(self):
        # A process that is split off from a large one begins small.
        held = np.ones(40_000_000)
        program = "import json; from apilado.bench.timing import peak_mib; print(json.dumps(peak_mib()))"
        told = growing.peak_of(program)
        self.assertLess(told, held.nbytes / 2**20)


class ChartTest(unittest.TestCase):
    def test_every_release_is_a_point_and_every_goal_a_line(self):
        drawn = ET.fromstring(
            chart([Course("a", 0.7, (("0.9.0", 2.0), ("0.10.0", 0.5))), Course("b", None, (("1.0", 3.0),))])
        )
        circles = drawn.findall(f".//{SVG}circle")
        self.assertEqual(len(circles), 3)
        self.assertLess(float(circles[0].get("cy")), float(circles[1].get("cy")))
        self.assertEqual(len(drawn.findall(f".//{SVG}line[@class='g']")), 1)

    def test_versions_stand_in_order(self):
        name = SHOWN[0][0]
        releases = {
            version: {"figures": [{"name": name, "value": value, "goal": 0.7}]}
            for version, value in (("0.10.0", 1.0), ("0.9.0", 2.0), ("0.11.0", 0.5))
        }
        self.assertEqual(courses(releases)[0].points, (("0.9.0", 2.0), ("0.10.0", 1.0), ("0.11.0", 0.5)))

    def test_the_chart_in_the_docs_is_that_of_its_figures(self):
        releases = {path.stem: json.loads(path.read_text("utf-8")) for path in SPEED.glob("*.json")}
        self.assertIn(__version__, releases)
        self.assertEqual((SPEED.parent / "speed.svg").read_text("utf-8"), chart(courses(releases)))
        measured = {figure["name"] for figure in releases[__version__]["figures"]}
        for start, title in SHOWN:
            self.assertTrue(any(name.startswith(start) for name in measured), title)
