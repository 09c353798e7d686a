"""Each sounding: it finds a fault that was made, stays quiet without it, and its fix takes it away."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.equaliser import Bell
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.stack import Crossover, Duck
from apilado.core.notes import Note
from apilado.core.render.engine import Engine
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import RULES, sound
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.tone import Envelope, Tone, ToneSource
from apilado.demo.stacks import lock_gate, slipway
from apilado.errors import NotFound
from tests.support import ENGINE, loader, plain_stack


def soundings_of(stack):
    return sound(measure(stack, loader({}), ENGINE))


def by_id(stack, name):
    return [s for s in soundings_of(stack) if s.id == name]


def worst(stack, name):
    return by_id(stack, name)[0]


SINE = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0, envelope=Envelope(sustain=1.0))
SAW = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0, envelope=Envelope(sustain=1.0))


def two(**changes):
    """A sub and a mid of one source, split at 120 Hz."""
    sub = {"id": "sub", "name": "sub", "source": SAW, "mono": True, "level_db": -9.0, **changes.pop("sub", {})}
    mid = {"id": "mid", "name": "mid", "span": Span(first=1, last=1), "level_db": -9.0, **changes.pop("mid", {})}
    layers = (Layer(**sub), Layer(source=LayerSound(layer="sub"), **mid))
    return plain_stack(layers=layers, crossovers=(Crossover(frequency_hz=120.0),), **changes)


class SoundingsTest(unittest.TestCase):
    def fixed(self, stack, name):
        """The sounding, after its fix was applied."""
        found = worst(stack, name)
        self.assertIsNotNone(found.fix, found.sentence)
        return worst(apply(stack, found.fix), name)

    def test_sub_range(self):
        low = plain_stack(
            layers=(Layer(id="sub", source=SINE),), pattern=(Note(pitch=24), Note(start_beats=2.0, pitch=26))
        )
        found = worst(low, "sub-range")
        self.assertEqual((found.status, found.value), ("fault", 100.0))
        self.assertIn("33 Hz, 37 Hz", found.sentence)
        self.assertEqual(self.fixed(low, "sub-range").status, "fine")
        one_out = plain_stack(
            layers=(Layer(id="sub", source=SINE),),
            pattern=tuple(
                Note(start_beats=0.5 * i, length_beats=0.4, pitch=30 + (20 if i == 7 else 0)) for i in range(8)
            ),
        )
        self.assertEqual(worst(one_out, "sub-range").status, "look")

    def test_sub_even(self):
        uneven = plain_stack(
            layers=(Layer(id="sub", source=SINE.model_copy(update={"velocity": 1.0})),),
            pattern=(
                Note(length_beats=0.9, pitch=31, velocity=127),
                Note(start_beats=2.0, length_beats=0.9, pitch=36, velocity=45),
            ),
        )
        found = worst(uneven, "sub-even")
        self.assertEqual(found.status, "fault")
        self.assertAlmostEqual(found.value, 20 * np.log10(127 / 45), delta=0.3)
        self.assertLess(self.fixed(uneven, "sub-even").value, 0.5)

    def test_sub_mono(self):
        wide = ToneSource(tones=(Tone(shape="saw", copies=5, spread=1.0, detune_cents=20.0),), velocity=0.0)
        stack = plain_stack(layers=(Layer(id="sub", source=wide),))
        self.assertEqual(worst(stack, "sub-mono").status, "fault")
        mended = self.fixed(stack, "sub-mono")
        self.assertEqual((mended.status, mended.value), ("fine", -150.0))

    def test_split_flat(self):
        self.assertLess(worst(two(), "split-flat").value, 0.01)
        turned = two(mid={"polarity": "inverted"})
        found = worst(turned, "split-flat")
        self.assertEqual(found.status, "fault")
        self.assertIn("dip", found.sentence)
        self.assertEqual(self.fixed(turned, "split-flat").status, "fine")

    def test_plumb(self):
        self.assertEqual(worst(two(), "plumb").status, "fine")
        for change in ({"polarity": "inverted"}, {"delay_ms": 3.0}):
            fallen = two(mid=change)
            self.assertEqual(worst(fallen, "plumb").status, "fault", change)
            self.assertEqual(self.fixed(fallen, "plumb").status, "fine", change)

    def test_mud(self):
        boomy = two(mid={"eq": (Bell(frequency_hz=316.0, gain_db=14.0, q=1.2),)})
        clean = worst(two(), "mud")
        self.assertNotEqual(worst(boomy, "mud").status, "fine")
        self.assertGreater(worst(boomy, "mud").value, clean.value + 6.0)
        self.assertLess(self.fixed(boomy, "mud").value, worst(boomy, "mud").value - 2.0)

    def test_fold_down(self):
        wide = ToneSource(tones=(Tone(shape="saw", copies=2, spread=1.0, detune_cents=25.0, phase="free"),))
        layer = Layer(id="wide", source=wide, width=2.0)
        stack = plain_stack(layers=(layer,))
        found = worst(stack, "fold-down")
        self.assertEqual(found.status, "fault")
        self.assertLess(self.fixed(stack, "fold-down").value, found.value)

    def test_headroom(self):
        loud = plain_stack(layers=(Layer(id="sub", source=SINE, level_db=6.0),))
        self.assertEqual(worst(loud, "headroom").status, "fault")
        self.assertEqual(self.fixed(loud, "headroom").status, "fine")

    def test_kick_level(self):
        kick = Kick(sound=SynthKick(), level_db=-20.0, hits=(0.0, 1.0, 2.0, 3.0))
        buried = two(kick=kick)
        self.assertEqual(worst(buried, "kick-level").status, "fault")
        self.assertEqual(self.fixed(buried, "kick-level").status, "fine")

    def test_duck_recovery(self):
        kick = Kick(hits=(0.0, 1.0, 2.0, 3.0))
        slow = two(kick=kick, duck=Duck(release_ms=900.0))
        found = worst(slow, "duck-recovery")
        self.assertEqual(found.status, "fault")
        self.assertIn("4 of 4 hits", found.sentence)
        self.assertEqual(self.fixed(slow, "duck-recovery").status, "fine")

    def test_limits_can_be_overridden(self):
        boomy = two(mid={"eq": (Bell(frequency_hz=316.0, gain_db=14.0, q=1.2),)})
        thick = boomy.model_copy(update={"limits": {}})
        value = worst(thick, "mud").value
        override = {"mud": {"look": value + 1.0, "fault": value + 5.0, "reason": "thick on purpose"}}
        self.assertEqual(worst(apply(boomy, SetValue(path="limits", value=override)), "mud").status, "fine")

    def test_silence_makes_no_noise(self):
        for stack in (
            plain_stack(),
            plain_stack(layers=(Layer(id="sub", source=SINE, mute=True),)),
            plain_stack(layers=(Layer(id="a"),), pattern=()),
        ):
            for found in soundings_of(stack):
                self.assertEqual(found.status, "fine", found)


class DemoTest(unittest.TestCase):
    def test_slipway_stands(self):
        self.assertEqual({s.status for s in soundings_of(slipway().stack)}, {"fine"})

    def test_lock_gate_is_flawed_and_can_be_mended(self):
        stack = lock_gate().stack
        self.assertGreaterEqual(sum(s.status == "fault" for s in soundings_of(stack)), 3)
        for _ in range(12):
            broken = [s for s in soundings_of(stack) if s.status == "fault" and s.fix]
            if not broken:
                break
            stack = apply(stack, broken[0].fix)
        self.assertEqual([s.id for s in soundings_of(stack) if s.status == "fault"], [])

    def test_every_rule_has_a_name_a_basis_and_a_question(self):
        self.assertEqual(len({rule.id for rule in RULES}), len(RULES))
        for rule in RULES:
            self.assertTrue(rule.basis)
            self.assertTrue(rule.ask.__doc__.strip().endswith("?"), rule.id)

    def test_every_sounding_is_plain_data(self):
        for found in soundings_of(lock_gate().stack):
            data = found.as_data()
            self.assertEqual(
                list(data), ["id", "status", "value", "unit", "limit", "where", "sentence", "basis", "fix"]
            )

    def test_a_missing_asset_is_told(self):
        from apilado.demo.stacks import rope_walk

        with self.assertRaisesRegex(NotFound, "there is no asset"):
            measure(rope_walk().stack, loader({}), Engine())
