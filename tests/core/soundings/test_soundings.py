"""Each sounding: it finds a fault that was made, stays quiet without it, and its fix takes it away."""

import unittest

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.equaliser import Bell
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.stack import Crossover
from apilado.core.ducks.drawn import DrawnDuck
from apilado.core.ducks.keyed import KeyedDuck
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
        for shape in (KeyedDuck(release_ms=900.0), DrawnDuck(hold_ms=100.0, release_ms=1500.0)):
            slow = two(kick=kick, duckers=(Ducker(shape=shape),))
            found = worst(slow, "duck-recovery")
            self.assertEqual(found.status, "fault", shape.kind)
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


class LowEndTest(unittest.TestCase):
    """The soundings of the low end: found, and mended by their fixes."""

    NOTES = tuple(Note(start_beats=b, length_beats=0.9, pitch=p) for b, p in enumerate((31, 33, 36, 33)))

    def check(self, stack, name, status="fault", after="fine"):
        found = worst(stack, name)
        self.assertEqual(found.status, status, found.sentence)
        self.assertIsNotNone(found.fix, found.sentence)
        mended = worst(apply(stack, found.fix), name)
        self.assertEqual(mended.status, after, mended.sentence)
        return found

    def stack(self, tone=None, *, source=None, above=(), **changes):
        envelope = Envelope(attack_ms=3.0, sustain=1.0, release_ms=40.0)
        source = source or ToneSource(tones=(tone or Tone(shape="sine"),), velocity=0.0, envelope=envelope)
        layers = (Layer(id="sub", name="sub", source=source, **changes), *above)
        crossovers = (Crossover(frequency_hz=120.0),) if above else ()
        return plain_stack(layers=layers, crossovers=crossovers, pattern=self.NOTES)

    def test_sub_octave(self):
        self.assertEqual(worst(self.stack(), "sub-octave").status, "fine")
        rattle = self.check(self.stack(transpose=-12), "sub-octave")
        self.assertIn("louder than they are", rattle.sentence)
        empty = self.check(self.stack(transpose=12), "sub-octave")
        self.assertIn("the bottom is empty", empty.sentence)

    def test_sub_dry(self):
        self.assertEqual(worst(self.stack(), "sub-dry").status, "fine")
        self.check(self.stack(Tone(shape="sine", copies=5, spread=0.5)), "sub-dry")
        self.check(self.stack(Tone(shape="sine", copies=3)), "sub-dry", "look")

    def test_sub_ends(self):
        rumble = self.stack(Tone(shape="sine"), transpose=-14)
        self.assertEqual(worst(self.stack(), "sub-ends").status, "fine")
        found = worst(rumble, "sub-ends")
        self.assertEqual(found.status, "fault")
        self.assertLess(worst(apply(rumble, found.fix), "sub-ends").value, found.value)

    def test_sub_start(self):
        clicks = ToneSource(tones=(Tone(shape="sine", phase="free"),), envelope=Envelope(attack_ms=0.5, release_ms=3.0))
        self.check(self.stack(source=clicks), "sub-start")

    def test_sub_full(self):
        for third, status in ((0.05, "fine"), (0.1, "fine"), (0.14, "look"), (0.3, "fault")):
            stack = self.stack(Tone(shape="sine", harmonics=(1.0, 0.0, third)))
            found = worst(stack, "sub-full")
            self.assertEqual(found.status, status)
            self.assertAlmostEqual(found.value, 100 * third, delta=0.4)
        self.check(stack, "sub-full")

    def test_double_sub(self):
        growl = Layer(id="mid", name="mid", source=SAW, span=Span(first=0, last=1), level_db=3.0)
        self.check(self.stack(above=(growl,)), "double-sub")
        clean = Layer(id="mid", name="mid", source=SAW, span=Span(first=1, last=1))
        self.assertEqual(worst(self.stack(above=(clean,)), "double-sub").status, "fine")

    def test_crowding(self):
        alike = tuple(Layer(id=f"m{i}", name=f"m{i}", source=SAW, span=Span(first=1, last=1)) for i in range(3))
        found = worst(self.stack(above=alike), "crowding")
        self.assertEqual(found.status, "look")
        self.assertGreaterEqual(found.value, 3.0)
        self.assertEqual(worst(self.stack(above=alike[:1]), "crowding").status, "fine")

    def test_small_speaker(self):
        pure = self.check(self.stack(), "small-speaker")
        self.assertIn("silence there", pure.sentence)
        self.assertLess(worst(self.stack(Tone(shape="saw")), "small-speaker").value, 24.0)

    def test_voice_match(self):
        other = ToneSource(tones=(Tone(),), glide_ms=300.0, envelope=Envelope(release_ms=900.0))
        stack = self.stack(above=(Layer(id="mid", name="mid", source=other, span=Span(first=1, last=1)),))
        slides = tuple(n.model_copy(update={"slide": i == 2}) for i, n in enumerate(stack.pattern))
        self.check(stack.model_copy(update={"pattern": slides}), "voice-match")

    def test_kick_phase(self):
        kick = Kick(
            sound=SynthKick(start_hz=60.0, end_hz=49.0, sweep_ms=40.0, decay_ms=600.0, click=0.0), hits=(0.0, 2.0)
        )
        notes = tuple(Note(start_beats=b, length_beats=1.5, pitch=31) for b in (0.0, 2.0))
        base = self.stack(Tone(shape="sine")).model_copy(update={"pattern": notes, "kick": kick})
        statuses = {}
        for polarity in ("normal", "inverted"):
            turned = apply(base, SetValue(path="kick/polarity", value=polarity))
            statuses[polarity] = worst(turned, "kick-phase")
        bad = max(statuses.values(), key=lambda s: s.value)
        self.assertNotEqual(bad.status, "fine")
        self.assertEqual(min(s.value for s in statuses.values()), 0.0)
        worse = next(p for p, s in statuses.items() if s is bad)
        self.check(apply(base, SetValue(path="kick/polarity", value=worse)), "kick-phase", bad.status)

    def test_notes_that_differ_within_a_pitch_are_not_mended_by_pitch(self):
        uneven = self.stack(source=SINE.model_copy(update={"velocity": 1.0}))
        notes = tuple(Note(start_beats=b, length_beats=0.9, pitch=33, velocity=v) for b, v in ((0, 127), (2, 40)))
        found = worst(uneven.model_copy(update={"pattern": notes}), "sub-even")
        self.assertIn("first take the velocity off", found.sentence)
        self.assertEqual(found.fix.path, "layers/sub/source/velocity")

    def test_nine_db_are_brought_below_half_a_db(self):
        bumpy = self.stack(eq=(Bell(frequency_hz=49.0, gain_db=12.0, q=3.0),))
        found = worst(bumpy, "sub-even")
        self.assertGreater(found.value, 8.0)
        self.assertLess(worst(apply(bumpy, found.fix), "sub-even").value, 0.5)

    def test_limits_are_edited_with_a_reason(self):
        from apilado.core.document.edits_values import SetLimit
        from apilado.errors import InvalidEdit

        stack = self.stack()
        thick = apply(stack, SetLimit(sounding="small-speaker", look=90.0, fault=95.0, reason="club only"))
        self.assertEqual(worst(thick, "small-speaker").status, "fine")
        self.assertEqual(apply(thick, SetLimit(sounding="small-speaker")), stack)
        with self.assertRaisesRegex(InvalidEdit, "needs a note of why"):
            apply(stack, SetLimit(sounding="mud", look=1.0))
