"""Dynamics that listen to a drum or a layer."""

import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.document.edits import apply
from apilado.core.document.edits_layers import RemoveLayer
from apilado.core.document.edits_values import RemovePart, SetValue
from apilado.core.document.kick import Kick, Trigger
from apilado.core.document.layer import Layer
from apilado.core.document.path import Aside, Bands, ChainedBand
from apilado.core.document.stack import Bus
from apilado.core.dsp.dynamics import limiter_reduction, whole_reduction
from apilado.core.dsp.filters import filtered, high_pass
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.gate import GateStep
from apilado.core.treatments.limiter import PeakLimiter
from apilado.errors import InvalidEdit
from tests.seeded.stacks import Dice, seeds
from tests.support import ENGINE, graph_of, noise, path_of, plain_stack, rendered

FAST = {"threshold_db": -30.0, "ratio": 10.0, "attack_ms": 1.0, "release_ms": 80.0}


def layers(**steps):
    """Layers of a held tone, each with some steps."""
    return tuple(
        Layer(id=name, name=name, source=ToneSource(tones=(Tone(shape="saw"),)), path=path_of(*some))
        for name, some in steps.items()
    )


class KeyedTest(unittest.TestCase):
    def reduction(self, stack, address, *, looped=True):
        (found,) = ENGINE.run([graph_of(stack, looped=looped).passed[address].reduction])
        return found

    def test_it_takes_what_a_compressor_of_the_key_takes(self):
        step = Compressor(id="c", key="kick", **FAST)
        stack = plain_stack(layers=layers(a=(step,)), kick=Kick(hits=(0.0, 2.5), level_db=0.0))
        (key,) = ENGINE.run([graph_of(stack).drums["kick"]])
        wanted = whole_reduction(key, step.detector(stack.tempo_bpm), rate_hz=stack.sample_rate, looped=True)
        np.testing.assert_allclose(self.reduction(stack, "layers/a/path/c"), wanted, atol=1e-3)
        self.assertGreater(float(wanted.max()), 6.0)

    def test_only_what_its_filter_lets_through_is_listened_to(self):
        step = Compressor(id="c", key="kick", key_high_pass_hz=900.0, **FAST)
        stack = plain_stack(layers=layers(a=(step,)), kick=Kick(hits=(0.0,), level_db=0.0))
        (key,) = ENGINE.run([graph_of(stack).drums["kick"]])
        heard = filtered(key, high_pass(900.0, 2.0**-0.5, stack.sample_rate), looped=True)
        wanted = whole_reduction(heard, step.detector(stack.tempo_bpm), rate_hz=stack.sample_rate, looped=True)
        found = self.reduction(stack, "layers/a/path/c")
        np.testing.assert_allclose(found, wanted, atol=1e-3)
        whole = apply(stack, SetValue(path="layers/a/path/c/key_high_pass_hz", value=20.0))
        everything = self.reduction(whole, "layers/a/path/c")
        self.assertLess(float(found.max()), float(everything.max()) - 3.0)

    def test_layers_may_listen_to_each_other(self):
        step = {name: Compressor(id="c", key=f"layers/{other}", **FAST) for name, other in (("a", "b"), ("b", "a"))}
        stack = plain_stack(layers=layers(a=(step["a"],), b=(step["b"],)))
        out = rendered(stack)
        self.assertTrue(np.all(np.isfinite(out["output"])))
        # Each hears the other as it is without what listens in it.
        alone = graph_of(plain_stack(layers=layers(a=(), b=())))
        (key,) = ENGINE.run([alone.passed["layers/b/path/eq"].after])
        wanted = whole_reduction(key, step["a"].detector(stack.tempo_bpm), rate_hz=stack.sample_rate, looped=True)
        np.testing.assert_allclose(self.reduction(stack, "layers/a/path/c"), wanted, atol=1e-3)

    def test_a_gate_on_the_bus_is_chopped_by_a_trigger(self):
        trigger = Trigger(id="ghost", name="Ghost", hits=(0.0, 1.0), mute=True)
        step = GateStep(id="g", key="ghost", threshold_db=-30.0, range_db=60.0, hold_ms=20.0, release_ms=10.0)
        stack = plain_stack(layers=layers(a=()), triggers=(trigger,), bus=Bus(path=(step,)))
        taken = self.reduction(stack, "bus/path/g")
        beat = round(60.0 / stack.tempo_bpm * stack.sample_rate)
        self.assertLess(float(taken[round(0.02 * stack.sample_rate)]), 1.0)
        self.assertGreater(float(taken[beat - 500]), 55.0)
        once = self.reduction(stack, "bus/path/g", looped=False)
        np.testing.assert_allclose(once[beat : 2 * beat], taken[beat : 2 * beat], atol=1e-3)

    def test_what_is_listened_to_cannot_go(self):
        step = Compressor(id="c", key="layers/b")
        trigger = Trigger(id="ghost", name="Ghost", hits=(0.0,))
        stack = plain_stack(layers=layers(a=(step,), b=()), triggers=(trigger,))
        with self.assertRaisesRegex(InvalidEdit, "a step of 'a' listens to it"):
            apply(stack, RemoveLayer(layer="b"))
        on_bus = apply(stack, SetValue(path="layers/a/path/c/key", value="")).model_copy(
            update={"bus": Bus(path=(step,))}
        )
        with self.assertRaisesRegex(InvalidEdit, "a step of the bus listens to it"):
            apply(on_bus, RemoveLayer(layer="b"))
        bands = Bands(bands=(ChainedBand(id="low", path=(step,)), ChainedBand(id="high", from_hz=300.0)))
        for box in (Aside(path=(step,)), bands):
            held = plain_stack(layers=layers(a=(box,), b=()))
            with self.assertRaisesRegex(InvalidEdit, "a step of 'a' listens to it"):
                apply(held, RemoveLayer(layer="b"))
        keyed = apply(stack, SetValue(path="layers/a/path/c/key", value="ghost"))
        with self.assertRaisesRegex(InvalidEdit, "no sound 'ghost' to listen to"):
            apply(keyed, RemovePart(path="triggers/ghost"))
        with self.assertRaisesRegex(InvalidEdit, "no sound 'layers/gone' to listen to"):
            apply(stack, SetValue(path="layers/a/path/c/key", value="layers/gone"))
        self.assertEqual(apply(stack, SetValue(path="layers/a/path/c/key", value="")).layers[0].path[1].follows(), None)

    def test_a_limiter_of_another_sound_is_opened_and_shut_by_that(self):
        kick = Kick(hits=(1.0,), level_db=0.0)
        stack = plain_stack(layers=layers(a=(PeakLimiter(id="l", key="kick", ceiling_db=-12.0),)), kick=kick)
        (key,) = ENGINE.run([graph_of(stack).drums["kick"]])
        given = {"ceiling_db": -12.0, "release_ms": 120.0, "rate_hz": stack.sample_rate, "looped": True}
        found = self.reduction(stack, "layers/a/path/l")
        np.testing.assert_allclose(found, limiter_reduction(key, **given), atol=1e-3)
        self.assertGreater(float(found.max()), 6.0)

    def test_a_limiter_lets_nothing_of_its_own_over_its_ceiling(self):
        for seed in seeds(6):
            dice = Dice(seed)
            step = dice.part(PeakLimiter, on=True, key_high_pass_hz=20.0, key_low_pass_hz=20000.0)
            out = step.process(noise(48000, seed, amplitude=0.5), Clock(120.0, 2.0, 48000, looped=True))
            self.assertLessEqual(float(np.abs(out).max()), 10.0 ** (step.ceiling_db / 20.0) * (1.0 + 2e-6), seed)
