"""Sections in the render: what steps, what is joined, what runs on, and what stays as it was."""

import unittest

import numpy as np

from apilado.core.document.addresses import replaced
from apilado.core.document.kick import Kick, SynthKick, Trigger
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import Equaliser, layer_path
from apilado.core.document.section import Change, OtherHits, PieceSection
from apilado.core.notes import Note
from apilado.core.render.graph import clock_of
from apilado.core.render.joins import RAMP_MS
from apilado.core.render.moves import course_curve, rounds_of
from apilado.core.render.stretch import stretch_of
from apilado.core.shapes.drawn_course import DrawnCourse, starting_points
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.saturation import Saturation
from apilado.core.units import db_to_gain
from tests.seeded.sectioned import drawn_sections
from tests.seeded.stacks import Dice, seeded_stack, seeds
from tests.seeded.test_stretches import agreement, held_in
from tests.seeded.variants import in_pieces
from tests.support import ENGINE, graph_of, plain_stack, rendered

BARS, BEATS = 4, 4


def section(first, last=None, *changes, **values):
    found = tuple(Change(path=path, value=value) for path, value in changes)
    given = {"id": f"s{first}", "name": f"from {first}", "first_bar": first, "last_bar": last or first}
    return PieceSection(changes=found, **given, **values)


def droning(*sections, **changes):
    """Two layers that hold their notes through, a bar each, at no level that moves."""
    tone = ToneSource(tones=(Tone(shape="saw", phase="fixed"),))
    given = {
        "bars": BARS,
        "pattern": tuple(Note(start_beats=4.0 * bar, length_beats=4.0, pitch=33 + bar) for bar in range(BARS)),
        "layers": (
            Layer(id="low", name="low", source=tone, level_db=-12.0, path=layer_path(Saturation(id="warm"))),
            Layer(id="top", name="top", source=tone, level_db=-9.0, path=layer_path(Equaliser(id="eq"))),
        ),
        "sections": sections,
    }
    return plain_stack(**{**given, **changes})


def frame(bar, stack):
    """The first frame of a bar, counted from 1."""
    return clock_of(stack, looped=True).sample_at(float((bar - 1) * stack.beats_per_bar))


class SameTest(unittest.TestCase):
    def test_a_section_with_no_change_is_bit_identical_to_none(self):
        for seed in seeds(2, first=300):
            stack, load = seeded_stack(seed)
            stack = stack.model_copy(update={"bars": 2, "sections": ()})
            for changes in ((), (Change(path="bus/level_db", value=stack.bus.level_db),)):
                with_one = stack.model_copy(update={"sections": (section(2).model_copy(update={"changes": changes}),)})
                for looped in (True, False):
                    plain, found = (rendered(each, load, looped=looped) for each in (stack, with_one))
                    for name, audio in plain.items():
                        np.testing.assert_array_equal(audio, found[name], f"{seed} {name}")

    def test_what_does_not_differ_is_rendered_once(self):
        plain, changed = (graph_of(droning(*found)) for found in ((), (section(2, 2, ("layers/low/mute", True)),)))
        self.assertEqual(plain.layers["top"].key, changed.layers["top"].key)
        self.assertEqual(plain.placed["low"].key, changed.placed["low"].key)
        self.assertNotEqual(plain.layers["low"].key, changed.layers["low"].key)
        once = graph_of(droning(section(2, 2, ("layers/low/path/warm/bias", 0.5))))
        self.assertEqual(plain.sources["low"].key, once.sources["low"].key)
        self.assertEqual(plain.layers["top"].key, once.layers["top"].key)


class MuteTest(unittest.TestCase):
    def test_a_mute_silences_its_layer_within_10_ms_of_its_bar_lines_and_nothing_else(self):
        for looped in (True, False):
            for bar in (1, 2, BARS):
                stack = droning(section(bar, bar, ("layers/low/mute", True)))
                plain, found = rendered(droning(), looped=looped), rendered(stack, looped=looped)
                first, last = frame(bar, stack), frame(bar + 1, stack)
                ramp = round(RAMP_MS * stack.sample_rate / 1000.0)
                np.testing.assert_array_equal(found["top"], plain["top"])
                self.assertEqual(float(np.abs(found["low"][:, first : last - ramp]).max()), 0.0)
                self.assertGreater(float(np.abs(plain["low"][:, first : last - ramp]).max()), 0.05)
                same = np.ones(found["low"].shape[1], bool)
                same[first:last] = False
                if looped:
                    same[np.arange(first - ramp, first) % same.shape[0]] = False
                else:
                    same[max(0, first - ramp) : first] = False
                    if bar == BARS:  # a single pass ends as its last section has it
                        same[last:] = False
                        self.assertEqual(float(np.abs(found["low"][:, last:]).max(initial=0.0)), 0.0)
                np.testing.assert_array_equal(found["low"][:, same], plain["low"][:, same])
                self.assertLessEqual(RAMP_MS, 10.0)

    def test_a_layer_that_is_muted_is_let_in(self):
        quiet = droning(section(3, 3, ("layers/low/mute", False)))
        quiet = replaced(quiet, "layers/low/mute", True)
        found, plain = rendered(quiet), rendered(droning())
        first, last = frame(3, quiet), frame(4, quiet)
        np.testing.assert_array_equal(found["low"][:, first : last - 480], plain["low"][:, first : last - 480])
        self.assertEqual(float(np.abs(found["low"][:, last : frame(3, quiet) + quiet.sample_rate * 6]).max()), 0.0)
        self.assertIn("low", graph_of(quiet).audible)
        alone = rendered(replaced(droning(), "layers/low/mute", True))
        before = slice(0, first - 480)
        np.testing.assert_allclose(found["output"][:, before], alone["output"][:, before], atol=1e-6)

    def test_a_layer_that_is_muted_in_every_bar_is_not_heard(self):
        out = (("layers/low/mute", True),)
        for sections in ((section(1, BARS, *out),), (section(1, 2, *out), section(3, BARS, *out))):
            stack = droning(*sections)
            self.assertNotIn("low", graph_of(stack).audible)
            alone = rendered(replaced(droning(), "layers/low/mute", True))
            np.testing.assert_array_equal(rendered(stack)["output"], alone["output"])

    def test_a_drum_is_muted_in_a_section(self):
        kick = Kick(sound=SynthKick(decay_ms=400.0), hits=tuple(float(b) for b in range(16)))
        stack = droning(section(2, 2, ("kick/mute", True)), kick=kick)
        found, plain = rendered(stack), rendered(droning(kick=kick))
        first, last = frame(2, stack), frame(3, stack)
        self.assertEqual(float(np.abs(found["kick"][:, first : last - 480]).max()), 0.0)
        np.testing.assert_array_equal(found["kick"][:, last:], plain["kick"][:, last:])


class StepTest(unittest.TestCase):
    def test_a_level_steps_within_its_ramp_before_the_bar_line(self):
        stack = droning(section(2, 3, ("layers/top/level_db", -15.0)))
        found, plain = rendered(stack), rendered(droning())
        first, last, ramp = frame(2, stack), frame(4, stack), 480
        gain = 10.0 ** (-6.0 / 20.0)
        inside, outside = slice(first, last - ramp), slice(last, None)
        np.testing.assert_allclose(found["top"][:, inside], gain * plain["top"][:, inside], atol=1e-5)
        np.testing.assert_allclose(found["top"][:, outside], plain["top"][:, outside], atol=1e-5)
        falling = 10.0 ** (-6.0 * np.arange(ramp) / ramp / 20.0)
        cut = slice(first - ramp, first)
        np.testing.assert_allclose(found["top"][:, cut], falling * plain["top"][:, cut], atol=1e-4)

    def test_a_movement_moves_from_where_the_section_has_the_value(self):
        swell = Movement(id="m", begins="bar", targets=(Target(id="t", path="layers/top/level_db", travel=6.0),))
        stack = droning(section(2, 2, ("layers/top/level_db", -15.0)), movements=(swell,))
        lower = replaced(droning(movements=(swell,)), "layers/top/level_db", -15.0)
        found, low, plain = rendered(stack), rendered(lower), rendered(droning(movements=(swell,)))
        first, last = frame(2, stack), frame(3, stack)
        np.testing.assert_allclose(found["top"][:, first : last - 480], low["top"][:, first : last - 480], atol=1e-5)
        np.testing.assert_allclose(found["top"][:, last:-480], plain["top"][:, last:-480], atol=1e-5)

    def test_the_other_length_of_a_movement(self):
        pulse = Movement(
            id="m",
            begins="note",
            then="repeats",
            length_beats=1.0,
            targets=(Target(id="t", path="layers/top/level_db", travel=-20.0),),
        )
        stack = droning(section(4, 4, ("movements/m/length_beats", 0.5)), movements=(pulse,))
        twice = replaced(droning(movements=(pulse,)), "movements/m/length_beats", 0.5)
        found, quick, plain = (rendered(each)["top"] for each in (stack, twice, droning(movements=(pulse,))))
        first = frame(4, stack)
        np.testing.assert_allclose(found[:, first:-480], quick[:, first:-480], atol=1e-5)
        np.testing.assert_allclose(found[:, : first - 480], plain[:, : first - 480], atol=1e-5)
        self.assertGreater(float(np.abs(quick - plain)[:, first:].max()), 0.05)
        # The lane draws what is heard: eight rounds in the last bar, four in each other.
        rounds = rounds_of(stack, stack.movements[0], "layers/top/level_db")
        self.assertEqual(
            [sum(bar * 4 <= r.start_beats < bar * 4 + 4 for r in rounds) for bar in range(4)], [4, 4, 4, 8]
        )
        drawn = course_curve(stack, stack.movements[0], "layers/top/level_db").per_frame()
        own = course_curve(twice, twice.movements[0], "layers/top/level_db").per_frame()
        np.testing.assert_allclose(drawn[first:-480], own[first:-480], atol=1e-9)

    def test_a_movement_that_begins_with_a_section(self):
        rise = Movement(
            id="m",
            on=False,
            begins="section",
            shape=DrawnCourse(points=starting_points("ramp up")),
            section="s3",
            length_beats=8.0,
            targets=(Target(id="t", path="layers/top/level_db", travel=12.0),),
        )
        stack = droning(section(3, 4, ("movements/m/on", True)), movements=(rise,))
        found, plain = rendered(stack)["top"], rendered(droning())["top"]
        first = frame(3, stack)
        np.testing.assert_allclose(found[:, : first - 480], plain[:, : first - 480], atol=1e-5)
        for share in (0.25, 0.5, 0.75):
            at = first + round(share * (found.shape[1] - first))
            cut = slice(at, at + 200)
            gain = float(np.sqrt(np.mean(found[:, cut] ** 2) / np.mean(plain[:, cut] ** 2)))
            self.assertAlmostEqual(20.0 * np.log10(gain), 12.0 * share, delta=0.1)


class JoinTest(unittest.TestCase):
    def test_a_step_that_does_not_move_is_joined_at_its_own_output(self):
        for first, last in ((2, 2), (1, 1), (4, 4), (1, 2), (3, 4)):
            for looped in (True, False):
                stack = droning(section(first, last, ("layers/low/path/warm/bias", 0.8)))
                other = replaced(droning(), "layers/low/path/warm/bias", 0.8)
                found, own, plain = (rendered(each, looped=looped)["low"] for each in (stack, other, droning()))
                begin, end = frame(first, stack), frame(last + 1, stack)
                whole = plain.copy()
                end = found.shape[1] if not looped and last == BARS else end
                whole[:, begin:end] = own[:, begin:end]
                ramp, rise = 480, (np.arange(480) + 0.5) / 480.0
                lines = [(begin, plain, own), (end, own, plain)]
                for line, before, after in lines:
                    at = np.arange(line - ramp, line)
                    if not looped and (line == 0 or line >= found.shape[1]):
                        continue
                    at %= found.shape[1]
                    whole[:, at] = before[:, at] + rise * (after[:, at] - before[:, at])
                np.testing.assert_allclose(found, whole, atol=1e-6)

    def test_round_the_seam_nothing_jumps(self):
        steady = np.abs(np.diff(rendered(droning())["low"][0])).max()
        for first, last in ((1, 1), (4, 4)):
            stack = droning(section(first, last, ("layers/low/polarity", "inverted"), ("bus/level_db", -6.0)))
            found = rendered(stack)["low"][0]
            self.assertLessEqual(float(abs(found[0] - found[-1])), 1.05 * float(steady))

    def test_notes_and_hits_of_its_own(self):
        kick = Kick(sound=SynthKick(decay_ms=700.0), hits=(0.0, 4.0, 8.0, 12.0))
        notes = (Note(start_beats=0.5, length_beats=1.0, pitch=45), Note(start_beats=3.0, length_beats=9.0, pitch=40))
        stack = droning(section(2, 2, notes=notes, hits=(OtherHits(drum="kick", hits=(1.0, 3.5)),)), kick=kick)
        by_hand = droning(
            kick=kick.model_copy(update={"hits": (0.0, 5.0, 7.5, 8.0, 12.0)}),
            pattern=(
                Note(start_beats=0.0, length_beats=4.0, pitch=33),
                Note(start_beats=4.5, length_beats=1.0, pitch=45),
                Note(start_beats=7.0, length_beats=1.0, pitch=40),
                *droning().pattern[2:],
            ),
        )
        found, expected = rendered(stack), rendered(by_hand)
        for name, audio in expected.items():
            np.testing.assert_array_equal(found[name], audio, name)
        # What repeats is written out before: the pattern of one bar goes on where the section does not play.
        short = droning(section(2, 2, notes=()), pattern_bars=1, pattern=(Note(start_beats=0.0, length_beats=6.0),))
        self.assertEqual(
            [(n.start_beats, n.length_beats) for n in short.played()], [(0.0, 4.0), (8.0, 6.0), (12.0, 6.0)]
        )

    def test_each_hit_sounds_as_its_bar_has_it_and_rings_out(self):
        kick = Kick(sound=SynthKick(decay_ms=700.0), hits=(0.0, 7.5, 12.0))
        stack = droning(section(2, 2, ("kick/sound/end_hz", 90.0)), kick=kick, triggers=(Trigger(id="t", hits=(1.0,)),))
        found = rendered(stack)["kick"]
        own, plain = (
            rendered(droning(kick=replaced(replaced(kick, "hits", hits), "sound/end_hz", hertz)))["kick"]
            for hits, hertz in (((7.5,), 90.0), ((0.0, 12.0), kick.sound.end_hz))
        )
        np.testing.assert_allclose(found, own + plain, atol=1e-6)
        self.assertGreater(float(np.abs(own[:, frame(3, stack) :]).max()), 0.01)


class StretchTest(unittest.TestCase):
    def test_any_stretch_of_a_piece_with_sections_is_the_loop_there(self):
        compared = 0
        for seed in seeds(4, first=900):
            stack, load = seeded_stack(seed)
            stack, dice = drawn_sections(Dice(seed), in_pieces(stack)), Dice(seed + 1)
            loop, total = rendered(stack, load), clock_of(stack, looped=True).frames
            lines = [
                clock_of(stack, looped=True).sample_at(float(s.last_bar * stack.beats_per_bar)) for s in stack.sections
            ]
            for begins in (total - 100, *[line - 300 for line in lines]):
                frames = dice.whole(500, stack.sample_rate // 2)
                graph = graph_of(stack, load)
                (stretch,) = stretch_of([graph.output], graph.clock, begins, frames, held=held_in(graph))
                there = (begins + np.arange(frames)) % total
                apart = float(np.abs(ENGINE.run([stretch])[0] - loop["output"][:, there]).max())
                agrees = agreement(graph)["output"]
                allowed = db_to_gain(agrees) * float(np.abs(loop["output"]).max()) + 1e-6
                self.assertLess(apart, allowed, (seed, begins, frames, [s.changes for s in stack.sections]))
                compared += 1
        self.assertGreater(compared, 8)


if __name__ == "__main__":
    unittest.main()
