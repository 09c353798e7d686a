"""Each sounding: it finds a fault that was made, stays quiet without it, and its fix takes it away."""

import unittest

import numpy as np

from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.equaliser import Bell
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.stack import Bus, Crossover, Limiter
from apilado.core.measure.clicks import clicks
from apilado.core.notes import Note
from apilado.core.render.engine import Engine
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import RULES, sound
from apilado.core.soundings.remedies import Workbench
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.soft_clip import SoftClip
from apilado.demo.further import sea_chest
from apilado.demo.stacks import lock_gate, slipway
from apilado.errors import NotFound
from tests.support import ENGINE, loader, path_of, rendered
from tests.support import plain_stack as bare_stack


def soundings_of(stack):
    return sound(measure(stack, loader({}), ENGINE))


def by_id(stack, name):
    return [s for s in soundings_of(stack) if s.id == name]


def worst(stack, name):
    return by_id(stack, name)[0]


HELD = Voice(envelope=Envelope(sustain=1.0))


def plain_stack(**changes):
    """A plain stack whose notes are held."""
    return bare_stack(**{"voice": HELD, **changes})


SINE = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
SAW = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0)


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
        self.assertIsNotNone(found.first_way, found.sentence)
        return worst(apply(stack, found.first_way), name)

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

    def test_split_flat_tells_delays_as_they_are_rendered(self):
        # 0.011 ms is half a frame: it is rendered, and turns 120 Hz by half a degree.
        found = worst(two(mid={"delay_ms": 0.011}), "split-flat")
        self.assertLess(found.value, 0.05)
        source = rendered(two())
        late = rendered(two(mid={"delay_ms": 0.011}))
        spectra = [np.fft.rfft(x["mid"][0].astype(float)) for x in (source, late)]
        at = np.fft.rfftfreq(source["mid"].shape[1], 1 / 48000)
        strong = (np.abs(spectra[0]) > np.abs(spectra[0]).max() / 300) & (at < 18000)
        turned = np.angle(spectra[1][strong] / spectra[0][strong])
        np.testing.assert_allclose(turned, -2 * np.pi * at[strong] * 0.011e-3, atol=0.01)

    def test_bands_that_nobody_or_everybody_keeps(self):
        def three(*spans):
            layers = [Layer(id="a", name="a", source=SAW, span=Span(first=spans[0][0], last=spans[0][1]))]
            for name, (first, last) in zip("bcd", spans[1:], strict=False):
                source = LayerSound(layer="a")
                layers.append(Layer(id=name, name=name, source=source, span=Span(first=first, last=last)))
            borders = (Crossover(frequency_hz=120.0), Crossover(frequency_hz=600.0))
            return plain_stack(layers=tuple(layers), crossovers=borders)

        self.assertEqual({s.status for s in by_id(three((0, 0), (1, 1), (2, 2)), "split-flat")}, {"fine"})
        hole = three((0, 0), (2, 2))
        found = worst(hole, "split-flat")
        self.assertEqual(found.status, "fault")
        self.assertIn("No layer keeps 120–600 Hz", found.sentence)
        self.assertEqual({s.status for s in by_id(apply(hole, found.first_way), "split-flat")}, {"fine"})
        both = three((0, 1), (1, 2))
        found = worst(both, "split-flat")
        self.assertEqual(found.status, "fault")
        self.assertIn("'a' and 'b' both keep 120–600 Hz", found.sentence)
        self.assertGreater(found.value, 5.0)
        self.assertEqual({s.status for s in by_id(apply(both, found.first_way), "split-flat")}, {"fine"})
        open_top = three((0, 0), (1, 1))
        found = worst(open_top, "split-flat")
        self.assertEqual((found.status, found.value), ("look", None))
        self.assertIn("No layer keeps what lies above 600 Hz", found.sentence)
        self.assertEqual({s.status for s in by_id(apply(open_top, found.first_way), "split-flat")}, {"fine"})
        # A double of one run is a double, not a fault of the split; nor is a band that is muted for the moment.
        double = three((0, 0), (1, 1), (2, 2), (1, 1))
        self.assertEqual({s.status for s in by_id(double, "split-flat")}, {"fine"})
        muted = apply(three((0, 0), (1, 1), (2, 2)), SetValue(path="layers/b/mute", value=True))
        self.assertEqual([s for s in by_id(muted, "split-flat") if s.status != "fine"], [])

    def test_split_sum_tells_what_the_parts_add_up_to(self):
        self.assertLess(worst(two(), "split-sum").value, 0.3)
        for change, words in (
            ({"level_db": -14.0}, "levels -9.0 dB ('sub'), -14.0 dB ('mid')"),
            ({"path": path_of(eq=(Bell(frequency_hz=400.0, gain_db=-8.0, q=2.0),))}, "by EQ -7.8 dB of 'mid'"),
            ({"path": path_of(SoftClip(drive_db=24.0))}, "soft clip of 'mid'"),
        ):
            found = worst(two(mid=change), "split-sum")
            self.assertIn(words, found.sentence)
            # The filters are as whole as ever: that is the other finding.
            self.assertLess(worst(two(mid=change), "split-flat").value, 0.01)
        deep = worst(two(mid={"path": path_of(eq=(Bell(frequency_hz=400.0, gain_db=-8.0, q=2.0),))}), "split-sum")
        self.assertAlmostEqual(deep.value, 8.0, delta=0.4)

    def test_plumb(self):
        self.assertEqual(worst(two(), "plumb").status, "fine")
        for change in ({"polarity": "inverted"}, {"delay_ms": 3.0}):
            fallen = two(mid=change)
            self.assertEqual(worst(fallen, "plumb").status, "fault", change)
            self.assertEqual(self.fixed(fallen, "plumb").status, "fine", change)

    def test_mud(self):
        boomy = two(mid={"path": path_of(eq=(Bell(frequency_hz=316.0, gain_db=14.0, q=1.2),))})
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
        # With a limiter on and the kick on top of it the ceiling comes down with the rest: else the bass would only
        # be limited less, and the mix as loud.
        kick = Kick(sound=SynthKick(), level_db=0.0, hits=(0.0, 2.0))
        limited = loud.model_copy(update={"bus": Bus(limiter=Limiter(ceiling_db=-1.0)), "kick": kick})
        found = worst(limited, "headroom")
        self.assertEqual(found.status, "fault")
        lowered = apply(limited, found.first_way)
        by = limited.bus.level_db - lowered.bus.level_db
        self.assertAlmostEqual(lowered.bus.limiter.ceiling_db, -1.0 - by, delta=0.02)
        self.assertLessEqual(worst(lowered, "headroom").value, -1.0)
        # The kick stands over the bass in the same go: the one is not mended at the cost of the other.
        self.assertEqual(worst(lowered, "kick-level").status, "fine")
        self.assertAlmostEqual(worst(lowered, "kick-level").value, 3.0, delta=0.1)

    def test_headroom_of_a_sustained_bass_under_its_ceiling(self):
        # A limiter at -1 dBFS on a sustained sine: the true peak is that, and nothing is to be turned down.
        held = tuple(Note(start_beats=float(b), length_beats=1.0, pitch=33) for b in range(4))
        loud = plain_stack(
            layers=(Layer(id="sub", source=SINE, level_db=6.0),),
            pattern=held,
            bus=Bus(limiter=Limiter(ceiling_db=-1.0)),
        )
        found = worst(loud, "headroom")
        self.assertAlmostEqual(found.value, -1.0, delta=0.1)

    def test_kick_level(self):
        kick = Kick(sound=SynthKick(), level_db=-20.0, hits=(0.0, 1.0, 2.0, 3.0))
        buried = two(kick=kick)
        self.assertEqual(worst(buried, "kick-level").status, "fault")
        self.assertEqual(self.fixed(buried, "kick-level").status, "fine")

    def test_duck_recovery(self):
        kick = Kick(hits=(0.0, 1.0, 2.0, 3.0))
        for shape in (KeyedDuck(release_ms=900.0), DrawnDuck(hold_ms=100.0, release_ms=1500.0)):
            slow = two(kick=kick, duckers=(Ducker(id="duck", shape=shape),))
            found = worst(slow, "duck-recovery")
            self.assertEqual(found.status, "fault", shape.kind)
            self.assertIn("4 of 4 hits", found.sentence)
            self.assertEqual(self.fixed(slow, "duck-recovery").status, "fine")

    def test_duck_recovery_is_read_as_late_as_the_next_hit_lets_it(self):
        # With the second hit taken away the reduction falls on: where that hit would come is what was still left then.
        kick = Kick(hits=(0.0, 2.0))
        for attack in (0.0, 30.0, 60.0, 100.0):
            for lookahead in (0.0, 5.0):
                shape = KeyedDuck(attack_ms=attack, lookahead_ms=lookahead, release_ms=250.0, hold_ms=0.0)
                stack = two(kick=kick, duckers=(Ducker(id="duck", shape=shape),))
                (_, last) = measure(stack, loader({}), ENGINE).recoveries["duck"]
                first = measure(stack, loader({}), ENGINE).recoveries["duck"][0]
                alone = measure(
                    two(kick=Kick(hits=(0.0,)), duckers=(Ducker(id="duck", shape=shape),)), loader({}), ENGINE
                )
                at = 48000 - round(48 * lookahead) - 1
                self.assertAlmostEqual(first.left_db, float(alone.reductions["duck"][at]), delta=0.05, msg=attack)
                self.assertEqual((first.beat, last.beat), (0.0, 2.0))

    def test_limits_can_be_overridden(self):
        boomy = two(mid={"path": path_of(eq=(Bell(frequency_hz=316.0, gain_db=14.0, q=1.2),))})
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
        plan = Workbench(loader({}), ENGINE).plan(stack)
        self.assertEqual([s.id for s in soundings_of(apply(stack, plan.edit)) if s.status == "fault"], [])

    def test_every_rule_has_a_name_a_basis_and_a_question(self):
        self.assertEqual(len({rule.id for rule in RULES}), len(RULES))
        for rule in RULES:
            self.assertTrue(rule.basis)
            self.assertTrue(rule.ask.__doc__.strip().endswith("?"), rule.id)

    def test_every_sounding_is_plain_data(self):
        for found in soundings_of(lock_gate().stack):
            data = found.as_data()
            self.assertEqual(list(data), ["id", "status", "value", "unit", "limit", "where", "sentence", "basis"])

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
        self.assertIsNotNone(found.first_way, found.sentence)
        mended = worst(apply(stack, found.first_way), name)
        self.assertEqual(mended.status, after, mended.sentence)
        return found

    def stack(self, tone=None, *, source=None, above=(), **changes):
        voice = changes.pop("voice", None) or Voice(envelope=Envelope(attack_ms=3.0, sustain=1.0, release_ms=40.0))
        source = source or ToneSource(tones=(tone or Tone(shape="sine"),), velocity=0.0)
        layers = (Layer(id="sub", name="sub", source=source, **changes), *above)
        crossovers = (Crossover(frequency_hz=120.0),) if above else ()
        return plain_stack(layers=layers, crossovers=crossovers, pattern=self.NOTES, voice=voice)

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
        self.assertLess(worst(apply(rumble, found.first_way), "sub-ends").value, found.value)

    def test_sub_start(self):
        clicks = ToneSource(tones=(Tone(shape="sine", phase="free"),))
        quick = Voice(envelope=Envelope(attack_ms=0.5, release_ms=3.0))
        self.check(self.stack(source=clicks, voice=quick), "sub-start")

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
        other = Voice(glide_ms=300.0, envelope=Envelope(release_ms=900.0))
        stack = self.stack(above=(Layer(id="mid", name="mid", voice=other, span=Span(first=1, last=1)),))
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

    def test_notes_that_differ_within_a_pitch_are_mended_by_taking_the_velocity_off(self):
        uneven = self.stack(source=SINE.model_copy(update={"velocity": 1.0}))
        notes = tuple(Note(start_beats=b, length_beats=0.9, pitch=33, velocity=v) for b, v in ((0, 127), (2, 40)))
        uneven = uneven.model_copy(update={"pattern": notes})
        found = worst(uneven, "sub-even")
        self.assertIn("which no level by pitch can mend", found.sentence)
        self.assertEqual(found.first_way.edits[0].path, "layers/sub/source/velocity")
        self.assertLess(worst(apply(uneven, found.first_way), "sub-even").value, 0.2)

    def test_velocity_that_evens_notes_out_is_left_alone(self):
        # A bell at the louder pitch that a softer velocity makes up for: off with the velocity, it would be worse.
        source = SINE.model_copy(update={"velocity": 1.0})
        notes = tuple(
            Note(start_beats=float(b), length_beats=0.9, pitch=p, velocity=v)
            for b, (p, v) in enumerate(((31, 127), (38, 60), (31, 90), (38, 50)))
        )
        uneven = self.stack(source=source, path=path_of(eq=(Bell(frequency_hz=73.4, gain_db=6.5, q=4.0),)))
        uneven = uneven.model_copy(update={"pattern": notes})
        before = worst(uneven, "sub-even")
        self.assertGreater(before.value, 1.5)
        self.assertLess(worst(apply(uneven, before.first_way), "sub-even").value, before.value - 0.2)

    def test_equal_sines_are_even_at_any_length(self):
        # Equal sines have equal levels: whole periods are measured, or where there is none the sine itself.
        for beats, limit in ((0.9, 0.02), (0.3, 0.02), (0.08, 0.3), (0.04, 0.5)):
            pattern = tuple(Note(start_beats=0.5 * i, length_beats=beats, pitch=p) for i, p in enumerate(range(28, 36)))
            stack = self.stack().model_copy(update={"pattern": pattern})
            self.assertLess(worst(stack, "sub-even").value, limit, beats)

    def test_range_knows_the_octave_of_the_tone_where_no_pitch_is_clear(self):
        # E2 an octave down is E1, 41 Hz: in range, however short the notes and however steep the drop.
        for length, drop in ((0.04, 0.0), (0.5, 48.0)):
            source = ToneSource(
                tones=(Tone(shape="sine", octave=-1),), velocity=0.0, drop_semitones=drop, drop_ms=400.0
            )
            pattern = tuple(Note(start_beats=float(b), length_beats=length, pitch=40 + b) for b in range(4))
            stack = self.stack(source=source).model_copy(update={"pattern": pattern})
            measures = measure(stack, loader({}), ENGINE)
            self.assertTrue(any(note.frequency_hz is None for note in measures.notes["sub"]), (length, drop))
            self.assertEqual(worst(stack, "sub-range").value, 0.0, (length, drop))

    def test_a_second_harmonic_on_another_notes_place_doubles_nothing(self):
        # The mid plays an octave over the sub: its fundamentals lie at the sub's second harmonics, where a later note of
        # the sub has its own.
        mid = Layer(
            id="mid",
            name="mid",
            transpose=12,
            source=ToneSource(tones=(Tone(shape="sine"),)),
            span=Span(first=0, last=1),
        )
        pattern = tuple(Note(start_beats=float(b), length_beats=0.9, pitch=p) for b, p in enumerate((31, 43, 31, 43)))
        stack = self.stack(above=(mid,)).model_copy(update={"pattern": pattern})
        found = worst(stack, "double-sub")
        self.assertEqual(found.status, "fine", found.sentence)
        self.assertLess(found.value, -40.0)

    def test_clicks_are_heard_where_they_are(self):
        soft = Envelope(attack_ms=20.0, sustain=1.0, release_ms=60.0)
        source = ToneSource(tones=(Tone(shape="sine", start_phase_deg=90.0),), velocity=0.0)
        self.assertEqual(worst(self.stack(source=source, voice=Voice(envelope=soft)), "sub-start").status, "fine")
        hard = Voice(envelope=Envelope(attack_ms=0.5, sustain=1.0, release_ms=60.0))
        clicking = self.stack(source=source, voice=hard)
        found = worst(clicking, "sub-start")
        self.assertIn("clicks at 4 places", found.sentence)
        self.assertEqual(len(found.show.beats), 4)
        self.assertEqual(worst(apply(clicking, found.first_way), "sub-start").status, "fine")
        # A high note's buzz is no click: harmonics stand up there all the time.
        buzz = self.stack(Tone(shape="saw"))
        self.assertEqual(worst(buzz, "sub-start").status, "fine")

    def test_a_jump_at_the_seam_is_a_click(self):
        # A note of a tone whose end the loop cuts by bringing it back at another phase: 40.3 Hz has no whole number of
        # cycles in the loop, so the take jumps where it is laid end to end.
        t = np.arange(96000) / 48000
        wave = 0.5 * np.sin(2 * np.pi * 40.3 * t)
        found = clicks(np.stack([wave, wave]).astype(np.float32), moments=(24000,), rate_hz=48000)
        self.assertTrue(found and min(found[0].frame, 96000 - found[0].frame) < 400)
        steady = 0.5 * np.sin(2 * np.pi * 40.0 * t)
        self.assertEqual(clicks(np.stack([steady, steady]).astype(np.float32), moments=(24000,), rate_hz=48000), ())

    def test_nine_db_are_brought_below_half_a_db(self):
        bumpy = self.stack(path=path_of(eq=(Bell(frequency_hz=49.0, gain_db=12.0, q=3.0),)))
        found = worst(bumpy, "sub-even")
        self.assertGreater(found.value, 8.0)
        self.assertLess(worst(apply(bumpy, found.first_way), "sub-even").value, 0.5)

    def test_limits_are_edited_with_a_reason(self):
        from apilado.core.document.edits_values import SetLimit
        from apilado.errors import InvalidEdit

        stack = self.stack()
        thick = apply(stack, SetLimit(sounding="small-speaker", look=90.0, fault=95.0, reason="club only"))
        self.assertEqual(worst(thick, "small-speaker").status, "fine")
        self.assertEqual(apply(thick, SetLimit(sounding="small-speaker")), stack)
        with self.assertRaisesRegex(InvalidEdit, "needs a note of why"):
            apply(stack, SetLimit(sounding="mud", look=1.0))


class SlicesTest(unittest.TestCase):
    def test_notes_that_play_slices_are_no_pitches_that_could_differ(self):
        bundle = sea_chest()
        load = loader({asset.sha256: asset.content for asset in bundle.assets})
        said = [each.sentence for each in sound(measure(bundle.stack, load, ENGINE)) if each.id == "voice-match"]
        self.assertTrue(said)
        self.assertNotIn("chain", " ".join(said))
