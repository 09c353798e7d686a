"""The list of steps in the docs is that of the program."""

import unittest
from pathlib import Path

from apilado.core.document.path import BUS_STEPS
from apilado.core.document.steps_told import steps_told
from apilado.core.treatments.gate import GateStep

DOCS = Path(__file__).parents[3] / "docs" / "steps.md"


class StepsToldTest(unittest.TestCase):
    def test_the_docs_have_what_is_declared(self):
        self.assertEqual(DOCS.read_text(), steps_told(), "made anew by: apilado steps > docs/steps.md")

    def test_every_step_is_told_with_a_sentence_and_its_ranges(self):
        told = steps_told()
        for model in BUS_STEPS:
            kind = model.model_fields["kind"].default
            self.assertIn(f", `{kind}`\n\n{model.explains}.\n", told)
            self.assertGreater(len(model.explains), 20)
        threshold = next(line for line in told.splitlines() if line.startswith("| Threshold | −80 to 0 dB"))
        self.assertIn(f"| {GateStep().threshold_db:g} |".replace("-", "−"), threshold)
