"""What a treatment needs to know around a moment, with what moves it and what it listens to."""

import unittest

from apilado.bench.reference import reference_stack
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import layer_path
from apilado.core.render.graph import clock_of
from apilado.core.render.memories import Memories
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.filter import Filter

ADDRESS = "layers/low/path/sweep"


class TreatmentsTest(unittest.TestCase):
    def memory(self, step, *movements):
        stack = reference_stack(1)
        low = stack.layer("low").model_copy(update={"path": layer_path(step)})
        stack = stack.model_copy(update={"layers": (low, *stack.layers[1:]), "movements": movements})
        return Memories([stack], clock_of(stack, looped=True)).treatment(f"layers/low/path/{step.id}", step)

    def test_what_moves_a_filter_down_makes_it_remember_longer(self):
        step = Filter(id="sweep", cutoff_hz=800.0)
        down = Movement(id="sway", name="sway", targets=(Target(path=f"{ADDRESS}/cutoff_hz", travel=-3.0),))
        still = self.memory(step)
        self.assertGreater(self.memory(step, down).fades_s, 2.0 * still.fades_s)
        self.assertEqual(self.memory(step), still)

    def test_what_listens_to_a_drum_waits_for_all_that_it_remembers_of_it(self):
        own, kick = (self.memory(Compressor(id="comp", key=key)) for key in ("", "kick"))
        self.assertGreater(own.levels_s, 0.0)
        self.assertEqual((kick.levels_s, kick.fades_s), (0.0, own.fades_s + own.levels_s))
