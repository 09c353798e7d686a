"""Soundings of width and space, and what Plumb says of steps that turn phases."""

import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.kick import Kick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.movement import Movement, Target
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Bus, Crossover, Limiter, Space
from apilado.core.notes import Note
from apilado.core.soundings.alignment import advise
from apilado.core.soundings.measures import measure
from apilado.core.soundings.registry import sound
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.cabinet import Cabinet, ImpulseResponse
from apilado.core.treatments.chorus import Chorus
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.frequency_shift import FrequencyShift
from apilado.core.treatments.phaser import Phaser
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.treatments.width_bands import WideBand, WidthBands
from tests.support import ENGINE, loader, path_of, plain_stack, rendered

HELD = Voice(envelope=Envelope(attack_ms=3.0, sustain=1.0, release_ms=40.0))
NOTES = tuple(Note(start_beats=b, length_beats=0.9, pitch=p) for b, p in enumerate((31, 33, 36, 33)))
SAW = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0)


def stack_of(*steps, sub=(), border_hz=90.0, **changes):
    """A mono sub, and over the border a layer with some steps."""
    layers = (
        Layer(id="sub", name="sub", source=SAW, mono=not sub, level_db=-9.0, path=path_of(*sub)),
        Layer(
            id="wall",
            name="wall",
            source=LayerSound(layer="sub"),
            span=Span(first=1, last=1),
            level_db=-9.0,
            path=path_of(*steps),
        ),
    )
    given = {"layers": layers, "crossovers": (Crossover(id="low", frequency_hz=border_hz),), "pattern": NOTES}
    return plain_stack(**{**given, "voice": HELD, **changes})


def worst(stack, name):
    return next(s for s in sound(measure(stack, loader({}), ENGINE)) if s.id == name)


def mended(stack, name):
    found = worst(stack, name)
    return worst(apply(stack, found.first_way), name)


class DryTest(unittest.TestCase):
    def test_what_blurs_the_sub_is_named_and_taken_out(self):
        self.assertEqual(worst(stack_of(sub=(SoftClip(id="clip"),)), "sub-dry").status, "fine")
        for step, named in (
            (Chorus(id="x"), "chorus"),
            (Reverb(id="x"), "reverb"),
            (Delay(id="x"), "delay"),
            (FrequencyShift(id="x", blend=0.5), "frequency shift"),
        ):
            stack = stack_of(sub=(step,))
            found = worst(stack, "sub-dry")
            self.assertEqual(found.status, "look", named)
            self.assertIn(named, found.sentence)
            after = apply(stack, found.first_way)
            self.assertEqual(worst(after, "sub-dry").status, "fine")
            self.assertFalse(after.layers[0].path[1].on)

    def test_a_send_of_the_sub_is_told_even_where_it_is_only_thrown(self):
        stack = apply(stack_of(), SetValue(path="layers/sub/send", value=0.2))
        self.assertIn("send to the space", worst(stack, "sub-dry").sentence)
        self.assertEqual(mended(stack, "sub-dry").status, "fine")
        throw = Movement(id="m", targets=(Target(id="t", path="layers/sub/send", travel=0.5),))
        change = PieceSection(
            id="s", name="s", first_bar=1, last_bar=1, changes=(Change(id="c", path="layers/sub/send", value=0.4),)
        )
        for more in ({"movements": (throw,)}, {"sections": (change,)}):
            thrown = stack_of(**more)
            self.assertIn("send to the space", worst(thrown, "sub-dry").sentence)
            self.assertEqual(mended(thrown, "sub-dry").status, "fine")


class WideLowTest(unittest.TestCase):
    def test_the_step_that_widens_below_is_named_and_mended_in_itself(self):
        for step, path, after in (
            (Delay(id="x", left_ms=11.0, right_ms=17.0, mono_below_hz=0.0), "mono_below_hz", 180.0),
            (Chorus(id="x", mono_below_hz=0.0, blend=0.7), "mono_below_hz", 180.0),
            (Reverb(id="x", low_cut_hz=0.0, blend=0.5), "low_cut_hz", 180.0),
        ):
            stack = stack_of(SoftClip(id="clip"), step)
            found = worst(stack, "wide-low")
            self.assertIn(found.status, ("look", "fault"), step.kind)
            self.assertEqual(found.where, "layers/wall/path/x")
            self.assertIn(step.label, found.sentence)
            changed = apply(stack, found.first_way)
            self.assertEqual(getattr(changed.layers[1].path[2], path), after)
            self.assertLess(worst(changed, "wide-low").value or -99.0, found.value - 5.0)

    def test_bands_that_are_widened_are_narrowed_in_their_lowest(self):
        bands = (WideBand(id="a", width=2.0), WideBand(id="b", from_hz=400.0, width=1.0))
        stack = stack_of(Chorus(id="c", mono_below_hz=0.0, blend=0.1), WidthBands(id="x", bands=bands))
        found = worst(stack, "wide-low")
        first = next(iter(found.ways()))
        if found.where.endswith("/x"):
            self.assertEqual(first, SetValue(path="layers/wall/path/x/bands/a/width", value=0.0))
        self.assertNotEqual(found.status, "fine")

    def test_its_number_is_that_of_the_samples(self):
        stack = stack_of(Delay(id="x", mono_below_hz=0.0))
        found, sounds = worst(stack, "wide-low"), rendered(stack)
        hertz = np.fft.rfftfreq(sounds["bass"].shape[1], 1.0 / 48000)
        below = (hertz >= 20.0) & (hertz <= 120.0)
        middle, side = (
            np.sum(np.abs(np.fft.rfft(sounds[name][0] + sign * sounds[name][1]))[below] ** 2)
            for name, sign in (("bass", 1.0), ("wall", -1.0))
        )
        self.assertAlmostEqual(found.value, 10.0 * np.log10(side / middle), delta=0.3)

    def test_quiet_where_nothing_widens_or_nothing_could(self):
        self.assertEqual(worst(stack_of(Delay(id="x", mono_below_hz=400.0)), "wide-low").status, "fine")
        rules = {s.id for s in sound(measure(stack_of(SoftClip(id="c")), loader({}), ENGINE))}
        self.assertNotIn("wide-low", rules)
        self.assertNotIn("low-in-space", rules)


class LowInSpaceTest(unittest.TestCase):
    def stack(self, room, **changes):
        made = stack_of(space=Space(path=(room,)), kick=Kick(hits=(0.0, 2.0), send=0.8), **changes)
        return apply(made, SetValue(path="layers/wall/send", value=0.5))

    def test_the_kick_in_a_room_without_a_low_cut(self):
        stack = self.stack(Reverb(id="room", blend=1.0, low_cut_hz=0.0))
        found = worst(stack, "low-in-space")
        self.assertEqual(found.status, "fault", found.sentence)
        changed = apply(stack, found.first_way)
        self.assertEqual(changed.space.path[0].low_cut_hz, 90.0)
        self.assertLess(worst(changed, "low-in-space").value, found.value - 6.0)
        cut = self.stack(Reverb(id="room", blend=1.0, low_cut_hz=300.0))
        self.assertEqual(worst(cut, "low-in-space").status, "fine")

    def test_without_a_room_a_high_pass_is_put_into_its_path(self):
        stack = self.stack(SoftClip(id="clip", keep_level=True))
        found = worst(stack, "low-in-space")
        kinds = [getattr(edit, "path", getattr(edit, "to", "")) for edit in found.ways() if edit is not None]
        self.assertTrue(any("space" in each for each in kinds), kinds)
        self.assertLess(mended(stack, "low-in-space").value, found.value)

    def test_its_number_is_that_of_the_samples(self):
        stack = self.stack(Reverb(id="room", blend=1.0, low_cut_hz=60.0), bus=Bus(limiter=Limiter(on=False)))
        measures = measure(stack, loader({}), ENGINE)
        space, bass = ENGINE.run([measures.graph.buses["space"], measures.graph.bass])
        hertz = np.fft.rfftfreq(bass.shape[1], 1.0 / 48000)
        below = (hertz >= 20.0) & (hertz <= 90.0)
        powers = [np.sum(np.abs(np.fft.rfft(each, axis=1))[:, below] ** 2) for each in (space, bass)]
        found = worst(stack, "low-in-space")
        self.assertAlmostEqual(found.value, 10.0 * np.log10(powers[0] / powers[1]), delta=0.3)


class PlumbTest(unittest.TestCase):
    def test_a_refusal_names_the_steps_that_turn_the_phase(self):
        drifting = stack_of(Phaser(id="x", depth_oct=3.0, speed_hz=2.0, blend=1.0, centre_hz=120.0), border_hz=120.0)
        said = " ".join(advise(measure(drifting, loader({}), ENGINE)).reasons)
        self.assertIn("Phaser of 'wall' turns its phase otherwise from moment to moment", said)
        plain = " ".join(advise(measure(stack_of(border_hz=120.0), loader({}), ENGINE)).reasons)
        self.assertNotIn("Phaser", plain)

    def test_the_solver_works_on_what_is_heard(self):
        """A cabinet turns the wall against the sub; what Plumb promises is what is measured with its edit."""
        late = ImpulseResponse(id="r", box="wheelhouse", delay_ms=3.1)
        stack = stack_of(Cabinet(id="x", responses=(late,)), border_hz=120.0)
        advice = advise(measure(stack, loader({}), ENGINE))
        self.assertIsNotNone(advice.edit, advice.reasons)
        after = advise(measure(apply(stack, advice.edit), loader({}), ENGINE))
        np.testing.assert_allclose([m.present_db for m in after.meetings], advice.solution.after_db, atol=0.1)
        self.assertGreater(min(advice.solution.after_db), min(advice.solution.before_db) + 0.3)

    def test_where_nothing_helps_the_steps_are_named_that_turn_each_note_otherwise(self):
        echo = {
            "left_ms": 33.0,
            "right_ms": 33.0,
            "feedback": 0.6,
            "blend": 1.0,
            "dry_stays": False,
            "mono_below_hz": 0.0,
        }
        notes = tuple(Note(start_beats=0.5 * n, length_beats=0.45, pitch=36 + n) for n in range(8))
        advice = advise(measure(stack_of(Delay(id="x", **echo), border_hz=120.0, pattern=notes), loader({}), ENGINE))
        self.assertIsNone(advice.edit)
        self.assertIn("Delay of 'wall' turns each note otherwise: one setting does not fit them all.", advice.reasons)


if __name__ == "__main__":
    unittest.main()
