"""Any stretch of the endless repetition is the loop there."""

import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.document.addresses import replaced
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import every_treatment
from apilado.core.document.stack import Stack
from apilado.core.dsp.curves import Curve
from apilado.core.render.graph import clock_of, reductions_in
from apilado.core.render.stretch import (
    CURVES,
    EXACT_S,
    LONGEST_LEVEL_S,
    NotAtOnce,
    _made_anywhere,
    _Stretcher,
    cut_out,
    stretch_of,
)
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.drive import Drive
from apilado.core.treatments.limiter import PeakLimiter
from apilado.core.units import db_to_gain
from apilado.demo.stacks import slipway
from tests.seeded.moving import drawn_movements
from tests.seeded.sectioned import drawn_sections, values_to_change
from tests.seeded.stacks import TIMES, Dice, seeded_stack, seeds
from tests.seeded.variants import in_pieces
from tests.support import ENGINE, graph_of, rendered

MOST_PLACES = 17
"""In a sweep; with the start, the seam and a later round twenty."""
MOST_ROUNDS = 5.0
"""What remembers more rounds than that is not tried: it is right, and slow."""
SHORT_DB, HOPPING_DB, LONG_DB, FLOOR_DB = -60.0, -54.0, -29.0, -120.0
"""How far a stretch may be off, of the peak: where everything forgets within half a second, where a mono border
that moves is drawn in steps that begin with the stretch, and where levels are followed for longer."""


def agreement(graph):
    """By its name, how near a stretch has to come to the loop, in dB of the peak."""
    seen = {}

    def of(each):
        if each.key not in seen:
            hopping = each.name == "mono_part" and len(each.inputs) > 1
            own = LONG_DB if each.memory.levels_s > LONGEST_LEVEL_S else HOPPING_DB if hopping else SHORT_DB
            seen[each.key] = max([own, *map(of, each.inputs)])
        return seen[each.key]

    return {name: of(each) for name, each in named(graph).items()}


def held_in(graph):
    """Gives the gain reduction of a part at a frame of a loop."""
    reductions, levels = reductions_in(graph), graph.measured

    def held(where, frame):
        if where in levels:
            return ENGINE.run([levels[where]])[0]
        (found,) = ENGINE.run([reductions[where]])
        return None if found is None else float(found[frame % found.shape[0]])

    return held


def named(graph):
    return {**graph.layers, "bass": graph.bass, "kick": graph.kick, "output": graph.output}


def all_that_runs(stages, known=()):
    """The stages that what is not known is made of."""
    return [each for each in stages if each.key not in known for each in (each, *all_that_runs(each.inputs, known))]


class StretchTest(unittest.TestCase):
    def test_it_is_what_the_loop_is_there(self):
        compared = {SHORT_DB: 0, HOPPING_DB: 0, LONG_DB: 0}
        for seed in seeds(4, first=700):
            stack, load = seeded_stack(seed)
            stack = in_pieces(stack)
            graph, loop, dice = graph_of(stack, load), rendered(stack, load), Dice(seed)
            total, near = graph.clock.frames, agreement(graph)
            places = [dice.whole(0, total - 1) for _ in range(MOST_PLACES if TIMES > 1 else 1)]
            for begins in (0, total - 100, 3 * total + dice.whole(0, total - 1), *places):
                frames = dice.whole(200, stack.sample_rate // 2)
                there = (begins + np.arange(frames)) % total
                wanted = named(graph)
                how = {"most": MOST_ROUNDS, "held": held_in(graph)}
                if (
                    seed + begins
                ) % 2:  # what rings for long begins with what went into it in the last loop: here the same
                    how["went_in"] = lambda where, passed=graph.passed: (
                        passed[where].before if where in passed else None
                    )
                try:
                    stretches = stretch_of(list(wanted.values()), graph.clock, begins, frames, **how)
                except NotAtOnce:  # an echo that is heard for minutes
                    continue
                for name, found in zip(wanted, ENGINE.run(stretches), strict=True):
                    apart = float(np.abs(found - loop[name][:, there]).max())
                    # Of its own peak; 32-bit floats end at the floor under what went in.
                    agrees = near[name]
                    allowed = db_to_gain(agrees) * float(np.abs(loop[name]).max()) + db_to_gain(FLOOR_DB)
                    self.assertLess(apart, allowed, (seed, name, begins, frames, agrees))
                    compared[agrees] += 1
        self.assertGreater(compared[SHORT_DB], 12)
        self.assertGreaterEqual(compared[LONG_DB], 2)

    def test_two_that_overlap_agree_where_they_do(self):
        for seed in seeds(3, first=760):
            stack, load = seeded_stack(seed)
            stack = in_pieces(stack)
            graph, dice = graph_of(stack, load), Dice(seed)
            peak = float(np.abs(rendered(stack, load)["output"]).max())
            agrees = agreement(graph)["output"]
            begins = dice.whole(0, graph.clock.frames)
            one, other = ENGINE.run(
                [
                    stretch_of([graph.output], graph.clock, at, 12000, held=held_in(graph))[0]
                    for at in (begins, begins + 5000)
                ]
            )
            apart = float(np.abs(one[:, 5000:] - other[:, :7000]).max())
            self.assertLess(apart, 2.0 * db_to_gain(agrees) * peak + db_to_gain(FLOOR_DB), seed)

    def test_what_has_been_rendered_is_cut_out_and_nothing_else_runs_over_more_than_it_needs(self):
        stack, load = seeded_stack(705)
        stack = in_pieces(stack).model_copy(update={"movements": ()})  # none that follows a layer
        graph = graph_of(stack, load)
        loop = ENGINE.run([graph.output])[0]
        (all_there,) = stretch_of([graph.output], graph.clock, 77, 3000, lambda each: True)
        self.assertEqual(all_there.function, cut_out)
        cut = ENGINE.run([all_there])[0]
        np.testing.assert_array_equal(cut, loop[:, 77:3077])
        self.assertTrue(cut.flags.c_contiguous)  # another layout would be compiled for, while somebody waits to hear it
        names = {layer: graph.placed[layer].key for layer in graph.audible}
        known = set(names.values())
        (behind,) = stretch_of(
            [graph.output], graph.clock, 77, 3000, lambda each: each.key in known, held=held_in(graph)
        )
        ran = all_that_runs([behind], known)
        self.assertFalse([each.name for each in ran if each.name in ("play_source", "split_bands")])
        on_buses = [step for bus in (stack.bus, stack.shared) for step in every_treatment("bus", bus.path)]
        self.assertLessEqual(len({each.key for each in ran if each.name == "treat"}), len(on_buses))
        with self.assertRaises(NotAtOnce):
            stretch_of([graph.output], graph.clock, 77, graph.clock.frames, most=0.9)

    def test_drives_run_at_the_rate_itself_until_shortly_before_it(self):
        graph, begins = graph_of(slipway().stack), 30_000
        made = stretch_of([graph.output], graph.clock, begins, 12_000, held=held_in(graph))
        of_drives = [each for each in all_that_runs(made) if isinstance(each.parameters.get("treatment"), Drive)]
        self.assertTrue(of_drives)
        for each in of_drives:
            clock = each.parameters["clock"]
            self.assertEqual(clock.begins + clock.rough_frames, begins - round(EXACT_S * clock.rate_hz))

    def test_what_follows_a_sound_that_is_not_there_waits_for_the_loop(self):
        target = Target(id="t", path="layers/mid/level_db", travel=-6.0)
        follow = Movement(id="m", shape=FollowCourse(trigger="layers/sub"), targets=(target,))
        graph = graph_of(slipway().stack.model_copy(update={"movements": (follow,)}))
        with self.assertRaises(NotAtOnce):
            stretch_of([graph.output], graph.clock, 0, 3000)
        curve = next(each for each in graph.placed["mid"].inputs if each.name == "curve")
        stretch_of([graph.output], graph.clock, 0, 3000, lambda each: each.key == curve.inputs[0].key)

    def test_what_follows_a_level_for_long_goes_on_from_the_last_loop(self):
        slow = (
            Compressor(id="slow", threshold_db=-36.0, ratio=8.0, release_ms=2000.0),
            PeakLimiter(id="slow", ceiling_db=-15.0, release_ms=2000.0),
        )
        for step in slow:
            stack = apply(slipway().stack, SetValue(path="layers/mid/path/eq/points/dip/gain_db", value=-2.0))
            # One loud note, whose reduction the quiet ones behind it are still under.
            quiet = [note.model_copy(update={"velocity": 1}) for note in stack.pattern[1:]]
            stack = stack.model_copy(update={"pattern": (stack.pattern[0], *quiet)})
            stack = replaced(stack, "layers/mid/source/velocity", 0.9)
            split, _clip, eq = stack.layer("mid").path
            stack = replaced(stack, "layers/mid/path", (split, eq, step))
            before, after = (
                graph_of(stack),
                graph_of(apply(stack, SetValue(path="layers/mid/path/eq/points/dip/gain_db", value=-3.0))),
            )
            ways = {"from rest": lambda where, frame: None, "held": held_in(before)}
            loop = ENGINE.run([after.placed["mid"]])[0]
            apart = {name: [] for name in ways}
            for begins in range(44_000, 70_000, 6_000):
                there = loop[:, (begins + np.arange(12_000)) % after.clock.frames]
                for name, held in ways.items():
                    (stretch,) = stretch_of([after.placed["mid"]], after.clock, begins, 12_000, held=held)
                    off = float(np.abs(ENGINE.run([stretch])[0] - there).max())
                    if name == "held":
                        self.assertLess(off, db_to_gain(LONG_DB) * float(np.abs(loop).max()), step.kind)
                    apart[name].append(off / float(np.abs(there).max()))
            # Against what is heard just there: an edit of 1 dB changes no reduction by more than that.
            self.assertLess(max(apart["held"]), 0.13, step.kind)
            self.assertGreater(max(apart["from rest"]), 0.3, step.kind)

    def test_what_comes_from_notes_and_hits_alone_is_there_exactly(self):
        for seed in seeds(12, first=800):
            stack, load = seeded_stack(seed)
            stack = stack.model_copy(update={"movements": ()})
            whole = graph_of(stack, load)
            total = whole.clock.frames
            there = (total - 5000 + np.arange(10000)) % total
            for each in [*whole.sources.values(), *whole.keys.values()]:
                (stretch,) = stretch_of([each], whole.clock, total - 5000, 10000, held=held_in(whole))
                loop, found = ENGINE.run([each, stretch])
                # What its filters ring for is heard to -60 dB.
                off = 1e-6 if each.name in ("play_source", "hits_track") else 1e-3 * float(np.abs(loop).max())
                np.testing.assert_allclose(found, loop[:, there], atol=off, err_msg=f"{seed} {each.name}")

    def test_places_in_the_repetition(self):
        clock = Clock(tempo_bpm=120.0, beats=1.0, rate_hz=1000, looped=True)
        self.assertEqual((clock.frames, clock.places(100, 50)), (500, [100]))
        cut = clock.stretch(1040, 600)
        self.assertEqual((cut.frames, cut.comes_round, cut.looped), (600, True, False))
        # What starts at 100 comes by at 1100 and 1600; what starts at 0 and lasts 50 reaches into it from before.
        self.assertEqual(cut.places(100, 50), [60, 560])
        self.assertEqual(cut.places(0, 50), [-40, 460])
        self.assertEqual(cut.places(0, 40), [460])
        self.assertEqual(cut.places(0, 1200), [-1040, -540, -40, 460])
        self.assertEqual(list(cut.around()[:3]), [40, 41, 42])
        self.assertEqual(cut.whole, clock)

    def test_a_curve_that_is_made_for_a_stretch_is_that_of_the_loop(self):
        compared = 0
        for seed in seeds(10, first=840):
            stack, load = seeded_stack(seed)
            dice = Dice(seed)
            stack = Stack.model_validate({**stack.model_dump(), "movements": drawn_movements(dice, stack)})
            stack = drawn_sections(dice, stack, values=[each for each in values_to_change(stack) if each[1].moves])
            graph, total = graph_of(stack, load), clock_of(stack, looped=True).loop_frames
            found, waiting = {}, list(graph.layers.values())
            while waiting:
                each = waiting.pop()
                waiting += each.inputs
                if each.function in CURVES and _made_anywhere(each):
                    found[each.key] = each
            for each in found.values():
                for begins in (0, total - 3000, dice.whole(0, total - 1)):
                    clock = graph.clock.stretch(begins, dice.whole(3000, 12_000))
                    made = _Stretcher(graph.clock, lambda one: False, 9.0, lambda where, frame: None)._curve(
                        each, clock
                    )
                    whole, stretch = ENGINE.run([each, made])
                    wanted = whole.stretch(begins, clock.frames).per_frame()
                    scale = max(1.0, float(np.abs(wanted).max()))
                    np.testing.assert_allclose(stretch.per_frame() / scale, wanted / scale, atol=2e-2)
                    near = np.abs(stretch.per_frame() - wanted) / scale < 1e-6
                    self.assertGreater(float(np.mean(near)), 0.8, (seed, each.name))
                    compared += 1
        self.assertGreater(compared, 40)

    def test_a_curve_is_cut_as_it_goes_round(self):
        curve = Curve(np.array([0, 100, 300, 500]), np.array([0.0, 1.0, 0.5, 0.0]))
        twice = np.tile(curve.per_frame(), 4)
        for begins, frames in ((0, 500), (40, 20), (450, 200), (1040, 700), (700, 1)):
            cut = curve.stretch(begins, frames)
            self.assertEqual((cut.at[0], cut.frames), (0, frames))
            np.testing.assert_allclose(cut.per_frame(), twice[begins : begins + frames], atol=1e-12)


if __name__ == "__main__":
    unittest.main()
