"""Remedies: offered only if they help and harm nothing; what moves together is moved together."""

import unittest
from dataclasses import replace

import numpy as np

from apilado.core.document.edits import Several, apply
from apilado.core.document.edits_pattern import TransposePattern
from apilado.core.document.edits_values import AddPart, SetValue
from apilado.core.document.equaliser import Bell, KeyedBell
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.section import PieceSection
from apilado.core.document.stack import Bus, Crossover, Limiter, LimitOverride
from apilado.core.notes import Note
from apilado.core.render.engine import Engine, Token
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import limits_of, sound
from apilado.core.soundings.remedies import (
    Findings,
    Workbench,
    acceptable,
    compared,
    found_in,
)
from apilado.core.soundings.sounding import Limits, Place, Sounding
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.demo.stacks import lock_gate, slipway
from apilado.errors import InvalidEdit, Overtaken
from tests.support import ENGINE, loader, path_of, plain_stack, sha256, sine, wav

SINE = ToneSource(tones=(Tone(id="wave", shape="sine"),), velocity=0.0)
HELD = Voice(envelope=Envelope(sustain=1.0))


def finding(rule, status, value, *, where="bus", layers=(), limits=Limits(1.0, 3.0)):  # noqa: B008
    """A made-up finding."""
    made = Sounding(rule, rule.capitalize(), status, value, "dB", "1 dB", where, "", "", show=Place(layers))
    return replace(made, burden=limits.burden(status, value))


def trial(before, after, own, *, loudness=(-20.0, -20.0)):
    """What a made-up edit did."""
    stack = plain_stack()
    found = [Findings(tuple(each), lkfs) for each, lkfs in zip((before, after), loudness, strict=True)]
    return compared(SetValue(path="name", value="x"), "x", stack, *found, own)


class TrialTest(unittest.TestCase):
    def test_the_burden_grows_with_the_excess_and_jumps_with_the_class(self):
        limits = Limits(1.0, 3.0)
        burdens = [limits.burden(status, value) for status, value in (("fine", 0.9), ("look", 1.5), ("look", 2.9))]
        burdens += [limits.burden("fault", value) for value in (3.1, 5.0, 30.0)]
        self.assertEqual(burdens, sorted(burdens))
        self.assertEqual(burdens[0], 0.0)
        self.assertLess(burdens[2], 2.01)
        self.assertGreater(burdens[3], 3.0)

    def test_what_helps_its_own_and_harms_nothing_is_taken(self):
        own, other = finding("own", "fault", 5.0), finding("other", "fine", 0.0)
        good = trial([own, other], [finding("own", "fine", 0.5), other], own)
        self.assertTrue(acceptable(good, own))
        self.assertEqual([change.before for change in good.mends], [own])
        self.assertIn("5.0 dB → 0.5 dB; nothing else", good.sentence)

    def test_what_makes_another_worse_by_a_class_is_not(self):
        own, other = finding("own", "fault", 5.0), finding("other", "fine", 0.9)
        bad = trial([own, other], [finding("own", "fine", 0.5), finding("other", "look", 1.1)], own)
        self.assertEqual([each.id for each in bad.worse], ["other"])
        self.assertFalse(acceptable(bad, own))
        # Within its class it is told as a cost.
        dear = trial(
            [own, finding("other", "look", 1.1)], [finding("own", "fine", 0.5), finding("other", "look", 2.9)], own
        )
        self.assertTrue(acceptable(dear, own))
        self.assertIn("at the cost of Other 1.1 dB → 2.9 dB", dear.sentence)

    def test_a_finding_may_move_but_not_spread(self):
        one = finding("split", "fault", 5.0, where="crossovers/a", layers=("l", "m"))
        two = finding("split", "fine", 0.1, where="crossovers/b", layers=("m", "h"))
        moved = [replace(one, status="fine", burden=0.0), replace(two, status="fault", value=4.0, burden=3.6)]
        self.assertFalse(trial([one, two], moved, one).worse)
        self.assertTrue(trial([one, two], [one, replace(two, status="look", burden=1.2)], one).worse)

    def test_what_only_shifts_the_load_is_not_offered(self):
        own, other = finding("own", "look", 2.9), finding("other", "look", 1.1)
        shifted = trial([own, other], [finding("own", "look", 1.1), finding("other", "look", 2.9)], own)
        self.assertAlmostEqual(shifted.won, 0.0)
        self.assertFalse(acceptable(shifted, own))

    def test_what_changes_the_loudness_much_is_for_headroom_alone(self):
        for rule, taken in (("own", False), ("headroom", True)):
            own = finding(rule, "fault", 9.0)
            quieter = trial([own], [finding(rule, "fine", 0.0)], own, loudness=(-10.0, -19.0))
            self.assertEqual(acceptable(quieter, own), taken)
            self.assertIn("−9.0 LU", quieter.sentence)
        slight = finding("headroom", "look", 1.5)
        self.assertFalse(
            acceptable(trial([slight], [finding("headroom", "fine", 0.0)], slight, loudness=(-10.0, -19.0)), slight)
        )


class RemedyTest(unittest.TestCase):
    def setUp(self):
        self.workbench = Workbench(loader({}), ENGINE)

    def verdict(self, stack, rule):
        measures = self.workbench.measured(stack)
        found = found_in(measures)
        return self.workbench.verdict(measures, found, found.of(rule)[0])

    def test_kick_bass_and_ceiling_are_moved_jointly(self):
        loud = plain_stack(
            layers=(Layer(id="sub", source=SINE, level_db=4.0, mono=True),),
            kick=Kick(sound=SynthKick(), level_db=-9.0, hits=(0.0, 2.0)),
            bus=Bus(limiter=Limiter(on=True, ceiling_db=0.0)),
            voice=HELD,
        )
        found = found_in(self.workbench.measured(loud))
        self.assertEqual({found.of(rule)[0].status for rule in ("headroom", "kick-level")}, {"fault"})
        for rule in ("headroom", "kick-level"):
            remedy = self.verdict(loud, rule).remedy
            after = remedy.findings
            self.assertEqual([after.of(each)[0].status for each in ("headroom", "kick-level")], ["fine", "fine"])
            self.assertGreater(after.of("headroom")[0].value, -1.6)  # no lower than it must be
            self.assertAlmostEqual(after.of("kick-level")[0].value, 3.0, delta=0.2)

    def test_a_promise_is_what_is_measured(self):
        stack = lock_gate().stack
        measures = self.workbench.measured(stack)
        found = found_in(measures)
        for rule in ("sub-range", "split-flat"):
            remedy = self.workbench.verdict(measures, found, found.of(rule)[0]).remedy
            fresh = Engine()
            again = sound(measure(apply(stack, remedy.edit), loader({}), fresh))
            fresh.close()
            for promised, measured in zip(remedy.findings.soundings, again, strict=True):
                self.assertEqual((promised.key, promised.value), (measured.key, measured.value))

    def test_only_the_notes_that_lie_outside_before_the_whole_piece(self):
        notes = tuple(Note(start_beats=float(i), length_beats=0.9, pitch=p) for i, p in enumerate((33, 36, 31, 26)))
        stack = plain_stack(layers=(Layer(id="sub", source=SINE, mono=True, level_db=-6.0),), pattern=notes, voice=HELD)
        way = self.workbench.measured(stack)
        own = found_in(way).of("sub-range")[0]
        self.assertEqual(own.status, "look")
        moved = apply(stack, own.first_way)
        self.assertEqual([note.pitch for note in moved.pattern], [33, 36, 31, 38])
        self.assertEqual(moved.key, stack.key)

    def test_a_finding_without_a_way_says_so(self):
        crowded = self.verdict(self.wide(), "split-sum")
        self.assertIsNone(crowded.remedy)
        self.assertIn("for the ear to decide", crowded.reason)

    def wide(self):
        mid = Layer(id="mid", source=LayerSound(layer="sub"), span=Span(first=1, last=1), level_db=-40.0)
        saw = ToneSource(tones=(Tone(shape="saw"),))
        layers = (Layer(id="sub", source=saw, mono=True, level_db=-9.0), mid)
        return plain_stack(layers=layers, crossovers=(Crossover(frequency_hz=120.0),))

    def test_it_stops_where_an_edit_has_overtaken_it(self):
        token = Token(behind=True)
        token.overtake()
        with self.assertRaises(Overtaken):
            self.workbench.plan(lock_gate().stack, token)

    def test_nothing_is_mended_where_nothing_is_wrong(self):
        plan = self.workbench.plan(slipway().stack)
        self.assertEqual((plan.steps, plan.edit, plan.stack, plan.left), ((), None, None, ()))


class CausesTest(unittest.TestCase):
    def test_a_dip_that_the_kick_makes_is_not_a_note_that_is_quiet(self):
        notes = tuple(Note(start_beats=float(b), length_beats=0.9, pitch=p) for b, p in enumerate((31, 33, 31, 33)))
        keyed = KeyedBell(id="k", frequency_hz=50.0, gain_db=-18.0, q=1.0, threshold_db=-40.0, release_ms=300.0)
        found, level = {}, {}
        for name, points in (("without", ()), ("with", (keyed,))):
            stack = plain_stack(
                layers=(Layer(id="sub", source=SINE, mono=True, path=path_of(eq=points)),),
                pattern=notes,
                kick=Kick(sound=SynthKick(), hits=(0.0,)),
                voice=HELD,
            )
            measures = measure(stack, loader({}), ENGINE)
            found[name] = next(s for s in sound(measures) if s.id == "sub-even")
            level[name] = measures.stems["sub"].power
        self.assertLess(level["with"], 0.9 * level["without"])  # the bell does dip
        self.assertAlmostEqual(found["with"].value, found["without"].value, delta=0.05)

    def test_a_border_that_needs_its_polarity_is_not_called_uneven(self):
        # Half a period late at the border, and turned: the filters alone are apart, the layers stand plumb.
        saw = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0)
        statuses = {}
        for polarity in ("normal", "inverted"):
            mid = Layer(
                id="mid",
                source=LayerSound(layer="sub"),
                span=Span(first=1, last=1),
                polarity=polarity,
                delay_ms=0.0 if polarity == "normal" else 1000.0 / 120.0 / 2.0,
            )
            stack = plain_stack(
                layers=(Layer(id="sub", source=saw, mono=True), mid),
                crossovers=(Crossover(frequency_hz=120.0),),
                pattern=(Note(length_beats=4.0, pitch=23),),
                voice=HELD,
            )
            found = sound(measure(stack, loader({}), ENGINE))
            statuses[polarity] = {s.id: s for s in found if s.where.startswith("crossovers")}
        self.assertEqual(statuses["normal"]["split-flat"].status, "fine")
        turned = statuses["inverted"]
        self.assertEqual(turned["plumb"].status, "fine", turned["plumb"].sentence)
        self.assertEqual(turned["split-flat"].status, "fine")
        self.assertIn("stand plumb", turned["split-flat"].sentence)

    def test_a_status_and_the_limit_beside_it_are_the_same_limit(self):
        for stack in (lock_gate().stack, slipway().stack):
            changed = stack.model_copy(update={"limits": {"sub-mono": LimitOverride(look=-20.0, reason="wide")}})
            for each in (stack, changed):
                for told in sound(measure(each, loader({}), ENGINE)):
                    number = told.limit.split(" ")[0].removesuffix("°")
                    try:
                        limit = float(number)
                    except ValueError:
                        continue  # said in words, or a range
                    value = told.value if told.judged is None else told.judged
                    if value is not None and told.id not in ("sub-even", "split-flat"):
                        self.assertEqual(told.status == "fine", value <= limit, (told.id, told.value, told.limit))
                    self.assertEqual(limit, limits_of(each, told.id).look, told.id)


class TransposingTest(unittest.TestCase):
    def test_the_key_goes_along_with_all_notes_and_the_levels_of_pitches(self):
        own = (Note(pitch=40), Note(start_beats=1.0, pitch=28))
        layers = (
            Layer(id="a", source=SINE, note_levels_db={36: -3.0, 38: 1.0}),
            Layer(id="b", source=SINE, notes=own),
        )
        section = PieceSection(id="s", notes=(Note(pitch=31),))
        stack = plain_stack(layers=layers, pattern=(Note(pitch=36), Note(start_beats=1.0, pitch=38)), key="A minor")
        stack = stack.model_copy(update={"sections": (section,)})
        moved = apply(stack, TransposePattern(semitones=5))
        self.assertEqual(moved.key, "D minor")
        self.assertEqual([note.pitch for note in moved.pattern], [41, 43])
        self.assertEqual([note.pitch for note in moved.layers[1].notes], [45, 33])
        self.assertEqual(moved.layers[0].note_levels_db, {41: -3.0, 43: 1.0})
        self.assertEqual(moved.sections[0].notes[0].pitch, 36)
        self.assertEqual(apply(moved, TransposePattern(semitones=-5)), stack)
        some = apply(stack, TransposePattern(semitones=-12, pitches=(38,)))
        self.assertEqual(([note.pitch for note in some.pattern], some.key), ([36, 26], "A minor"))
        self.assertEqual(some.layers[0].note_levels_db, {36: -3.0, 26: 1.0})

    def test_recordings_are_not_left_behind(self):
        take = wav(sine(55.0, 1.0))
        recorded = Layer(id="r", name="tide", source=TakeSource(asset=sha256(take)))
        stack = plain_stack(layers=(Layer(id="a", source=SINE), recorded))
        with self.assertRaisesRegex(InvalidEdit, "'tide' is a recording and stays at its pitch"):
            apply(stack, TransposePattern(semitones=3))
        self.assertEqual(apply(stack, TransposePattern(semitones=-12)).key, stack.key)
        follower = Layer(id="f", source=LayerSound(layer="a"))
        self.assertNotEqual(
            apply(plain_stack(layers=(Layer(id="a", source=SINE), follower)), TransposePattern(semitones=3)), stack
        )


class HarmonicsTest(unittest.TestCase):
    def test_harmonics_that_fall_smoothly_are_no_resonances(self):
        for pitch, octave, shape in ((36, 0, "saw"), (45, 2, "saw"), (57, 2, "square"), (33, 4, "saw")):
            source = ToneSource(tones=(Tone(shape=shape, octave=octave),))
            for span in (Span(), Span(first=1, last=1)):
                layer = Layer(id="a", source=source, span=span)
                other = Layer(id="b", source=SINE, level_db=-30.0)
                stack = plain_stack(
                    layers=(layer, other), crossovers=(Crossover(frequency_hz=900.0),), pattern=(Note(pitch=pitch),)
                )
                told = next(s for s in sound(measure(stack, loader({}), ENGINE)) if s.id == "harsh")
                self.assertEqual(told.status, "fine", (pitch, octave, shape, told.sentence))

    def test_a_resonance_on_them_still_is_one(self):
        ringing = path_of(eq=(Bell(id="b", frequency_hz=2600.0, gain_db=14.0, q=8.0),))
        source = ToneSource(tones=(Tone(shape="saw"),))
        stack = plain_stack(layers=(Layer(id="a", source=source, path=ringing),), pattern=(Note(pitch=33),))
        told = next(s for s in sound(measure(stack, loader({}), ENGINE)) if s.id == "harsh")
        self.assertNotEqual(told.status, "fine")
        self.assertLess(abs(np.log2(told.show.low_hz * told.show.high_hz / 2600.0**2)), 0.2)


class StaleTest(unittest.TestCase):
    def test_a_remedy_shown_a_minute_ago_meets_its_part_or_is_refused(self):
        stack = lock_gate().stack
        workbench = Workbench(loader({}), ENGINE)
        measures = workbench.measured(stack)
        found = found_in(measures)
        remedy = workbench.verdict(measures, found, found.of("double-sub")[0]).remedy
        name = found.of("double-sub")[0].where
        moved = apply(stack, AddPart(path="duckers", part={"name": "Another"}))
        self.assertNotEqual(apply(moved, remedy.edit), moved)
        data = stack.model_copy(update={"layers": tuple(x for x in stack.layers if f"layers/{x.id}" != name)})
        gone = [x for x in data.layers if x.source.follows() is None or data.layer(x.source.follows())]
        smaller = stack.model_copy(update={"layers": tuple(gone), "duckers": ()})
        with self.assertRaises(InvalidEdit):
            apply(smaller, remedy.edit if isinstance(remedy.edit, Several) else Several(name="x", edits=(remedy.edit,)))


if __name__ == "__main__":
    unittest.main()
