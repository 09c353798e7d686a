import unittest
from dataclasses import replace

import numpy as np

from apilado.actions.listening import hear_loop
from apilado.actions.stems import bus_gain, stems_around
from apilado.actions.workspace import LoopHeard
from apilado.core.render.audition import Audition
from apilado.core.render.engine import Token
from apilado.demo.shelf import fill_if_empty
from tests.seeded.stacks import seeded_stack, seeds
from tests.support import TemporaryWorkspace, sine


class StemsTest(unittest.TestCase):
    def setUp(self):
        self.workspace = self.enterContext(TemporaryWorkspace())

    def heard(self, stack_id, **audition):
        found = hear_loop(self.workspace, stack_id, Audition(**audition), (), Token())
        return found.audio, LoopHeard(found.listened.graph, found.revision)

    def test_what_is_soloed_is_what_its_stems_say(self):
        fill_if_empty(self.workspace)
        exact = 0
        for listed in self.workspace.stacks.listed():
            whole, self.workspace.heard[listed.id] = self.heard(listed.id)
            length = whole.shape[1]
            for place in (0, length - 3000):
                stems = stems_around(self.workspace, listed.id, place, length, Token())
                index = (stems.begins + np.arange(stems.gain.shape[0])) % length
                self.assertEqual(stems.begins, (place - round(0.05 * stems.rate_hz)) % length)
                together = sum(stems.layers.values()) * stems.gain + sum(stems.others.values())
                apart = np.std(together - whole[:, index]) / np.std(whole[:, index])
                self.assertLess(float(apart), 0.02, listed.stack.name)
            if np.ptp(stems.gain) > 1e-3:  # its limiter works: alone, a layer makes it work less
                continue
            exact += 1
            owner = f"layers/{listed.stack.layers[-1].id}"
            alone, _ = self.heard(listed.id, alone=(owner,))
            np.testing.assert_allclose(stems.layers[owner] * stems.gain, alone[:, index], atol=2e-5)
        self.assertGreaterEqual(exact, 4)

    def test_nothing_is_rendered_for_what_is_not_at_hand(self):
        fill_if_empty(self.workspace)
        stack_id = self.workspace.stacks.listed()[0].id
        whole, heard = self.heard(stack_id)
        length = whole.shape[1]
        self.assertIsNone(stems_around(self.workspace, stack_id, 0, length, Token()))  # nothing was heard
        self.workspace.heard[stack_id] = heard
        self.assertIsNone(stems_around(self.workspace, stack_id, 0, length + 1, Token()))
        self.assertIsNotNone(stems_around(self.workspace, stack_id, 0, length, Token()))
        self.workspace.heard[stack_id] = replace(heard, revision=heard.revision - 1)  # an edit's loop is on its way
        self.assertIsNone(stems_around(self.workspace, stack_id, 0, length, Token()))
        self.workspace.heard[stack_id] = heard
        self.workspace.engine.cache.clear()
        self.assertIsNone(stems_around(self.workspace, stack_id, 0, length, Token()))

    def test_seeded_stacks_have_stems_or_none(self):
        there = 0
        for seed in seeds(4, first=1700):
            stack, load = seeded_stack(seed)
            self.workspace.load = load
            stack_id = self.workspace.stacks.create(stack).stack_id
            whole, self.workspace.heard[stack_id] = self.heard(stack_id)
            stems = stems_around(self.workspace, stack_id, 5000, whole.shape[1], Token())
            if stems is None:
                continue
            there += 1
            for audio in (*stems.layers.values(), *stems.others.values()):
                self.assertEqual(audio.shape, (2, stems.gain.shape[0]))
                self.assertTrue(np.all(np.isfinite(audio)))
        self.assertGreaterEqual(there, 1)


class BusGainTest(unittest.TestCase):
    def test_it_is_the_ratio_of_what_comes_out_to_what_goes_in(self):
        before = sine(200.0, 1.0, amplitude=0.5)
        before[:, 20000:26000] = 0.0
        bend = np.linspace(1.0, 0.25, before.shape[1], dtype=np.float32)
        found = bus_gain(before, before * bend, 48000)
        self.assertLess(float(np.abs(found - bend)[500:-500].max()), 0.02)  # over the silence too, from either side
        np.testing.assert_array_equal(bus_gain(np.zeros_like(before), before, 48000), np.ones(before.shape[1]))
