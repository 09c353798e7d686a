"""Movements against plain references: every shape, beginning and length, on values of every family."""

import itertools
import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.document.addresses import find
from apilado.core.document.declarations import parameter_at, value_at
from apilado.core.document.edits import apply, edit_from_data
from apilado.core.document.movement import STARTS, Movement, Target, starting_course
from apilado.core.dsp.audio import as_stereo
from apilado.core.render.builder import Builder
from apilado.core.render.moves import course_curve, ends_of, rounds_of
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse, starting_points
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.shapes.step_course import StepCourse
from apilado.errors import InvalidEdit
from tests.core.movement.test_curves import everything, moving
from tests.support import ENGINE, graph_of, loader, rendered

RESTART_SECONDS = 0.0045
"""After a beginning, and after a jump of its own, a course goes over from where it was."""
SHAPES = {
    **{
        start: DrawnCourse(points=starting_points(start))
        for start in STARTS
        if "step" not in start and start != "follow"
    },
    "steps": StepCourse(values=(0.2, 1.0, 0.0, 0.7, 0.4)),
    "glides": StepCourse(values=(0.2, 1.0, 0.0, 0.7), glide=0.5),
    "bent": DrawnCourse(
        points=(
            CoursePoint(at=0.0, value=0.1, bend=0.6),
            CoursePoint(at=0.4, value=0.9, bend=-0.7),
            CoursePoint(at=1.0, value=0.3),
        )
    ),
}
SHAPES["jumps"] = DrawnCourse(
    points=(
        CoursePoint(at=0.0, value=0.2),
        CoursePoint(at=0.5, value=0.0),
        CoursePoint(at=0.5, value=0.9, bend=-0.5),
        CoursePoint(at=1.0, value=0.2),
    )
)
LENGTHS = (
    {"length_beats": 0.25},
    {"length_beats": 1.5},
    {"length_beats": 1 / 3},
    {"length_in": "ms", "length_ms": 137.0},
    {"length_in": "Hz", "rate_hz": 7.85},
)
FAMILIES = (
    "layers/a/level_db",
    "layers/a/delay_ms",
    "layers/a/path/compressor/threshold_db",
    "layers/a/path/soft-clip/drive_db",
    "layers/a/path/eq/points/bell/frequency_hz",
    "layers/a/source/tones/saw/detune_cents",
    "layers/a/source/pitch_st",
    "duckers/drawn/amounts/a",
    "duckers/drawn/shape/depth_db",
    "bus/limiter/ceiling_db",
)


def value_along(shape, places):
    """The values of a course at places from 0 to 1, from its points or steps alone."""
    places = np.atleast_1d(places)
    if isinstance(shape, StepCourse):
        number = np.minimum((places * len(shape.values)).astype(int), len(shape.values) - 1)
        values, within = np.array(shape.values), places * len(shape.values) - number
        before = values[np.maximum(number - 1, 0)]
        gliding = (number > 0) & (within < shape.glide)
        share = np.where(gliding, within / max(shape.glide, 1e-9), 1.0)
        return before + (values[number] - before) * share
    found = np.full(places.shape, shape.points[-1].value)
    for one, other in reversed(list(itertools.pairwise(shape.points))):
        if other.at > one.at:
            share = np.clip((places - one.at) / (other.at - one.at), 0.0, 1.0)
            line = one.value + (other.value - one.value) * share ** (4.0**one.bend)
            found = np.where(places < other.at, line, found)
    return found


def corners_of(shape):
    """The places at which a course jumps, or is bent."""
    if isinstance(shape, StepCourse):
        steps = np.arange(len(shape.values)) / len(shape.values)
        return np.concatenate([steps, steps + shape.glide / len(shape.values)])
    jumps = [one.at for one, other in itertools.pairwise(shape.points) if other.at == one.at or one.bend]
    return np.array(jumps)


def reference(movement, begins_seconds, seconds, rate, *, looped, length):
    """(value at every frame, whether it is far from any jump or turn) of a movement."""
    t = np.arange(round(seconds * rate)) / rate
    begins = np.array(begins_seconds)
    order = np.searchsorted(begins, t + 1e-9, side="right") - 1
    begin = np.where(order >= 0, begins[order], begins[-1] - seconds if looped else begins[0])
    since = np.maximum(t - begin, 0.0)
    rounds = since / length
    places = rounds % 1.0 if movement.repeats else np.minimum(rounds, 1.0)
    found = value_along(movement.shape, places)
    clear = (since if not movement.repeats else np.minimum(since, places * length)) > RESTART_SECONDS
    for corner in corners_of(movement.shape):
        # A jump there takes its time; a line that is bent steeply is cut straight between knots.
        clear &= ~((places >= corner - 1e-6) & ((places - corner) * length < RESTART_SECONDS) & (places < 1.0))
    return found, clear


class ReferenceTest(unittest.TestCase):
    def setUp(self):
        self.stack = everything()
        beat = 60.0 / self.stack.tempo_bpm
        self.seconds = self.stack.beats * beat
        bars = [bar * self.stack.beats_per_bar * beat for bar in range(self.stack.bars)]
        notes = [note.start_beats * beat for note in self.stack.pattern]
        hits = [hit * beat for hit in self.stack.kick.hits]
        self.begins = {"note": notes, "bar": bars, "hit": hits, "once": [0.0], "free": [0.0]}

    def test_every_shape_beginning_and_length(self):
        checked = 0
        cases = itertools.product(SHAPES.items(), self.begins.items(), LENGTHS, ("holds", "repeats"))
        for number, ((name, shape), (begins, starts), length, then) in enumerate(cases):
            movement = Movement(
                shape=shape, begins=begins, then=then, targets=(Target(path="layers/a/pan", travel=0.5),), **length
            )
            for looped in (True, False) if number % 3 == 0 else (True,):
                clock = Clock(self.stack.tempo_bpm, self.stack.beats, 32000, looped=looped)
                stack = self.stack.model_copy(update={"movements": (movement,), "sample_rate": 32000})
                moves = Builder(stack, clock, loader({})).moves
                found = ENGINE.run([moves.course(movement, "layers/a/pan")])[0].per_frame()
                seconds = movement.length_frames(clock) / clock.rate_hz
                wanted, clear = reference(movement, starts, self.seconds, 32000, looped=looped, length=seconds)
                with self.subTest(shape=name, begins=begins, then=then, looped=looped, **length):
                    apart = np.abs(found[: len(wanted)] - wanted)[clear]
                    self.assertGreater(clear.mean(), 0.2)
                    # 0.01 dB of a travel of 6 dB.
                    self.assertLess(float(apart.max(initial=0.0)), 0.01 / 6.0)
                    checked += 1
        self.assertGreaterEqual(checked, len(SHAPES) * 5 * len(LENGTHS) * 2)

    def test_values_of_every_family_travel_as_far_as_they_are_told(self):
        shape = SHAPES["triangle"]
        for path in FAMILIES:
            made = apply(
                self.stack, edit_from_data({"op": "add-movement", "path": path, "start": "triangle", "id": "m"})
            )
            (movement,) = made.movements
            self.assertEqual(movement.shape, shape)
            moves = Builder(made, graph_of(made).clock, loader({})).moves
            values = ENGINE.run([moves.curve(path)])[0].per_frame()
            parameter = parameter_at(self.stack, path)
            begin, end = ends_of(parameter, float(value_at(self.stack, path)), movement.targets[0])
            with self.subTest(path=path):
                self.assertAlmostEqual(float(values.min()), min(begin, end), delta=0.02 * abs(end - begin) + 1e-6)
                self.assertAlmostEqual(float(values.max()), max(begin, end), delta=0.02 * abs(end - begin) + 1e-6)
                self.assertTrue(parameter.low <= values.min() and values.max() <= parameter.high)
                heard = [rendered(stack)["output"] for stack in (self.stack, made)]
                both = min(heard[0].shape[1], heard[1].shape[1])
                self.assertGreater(float(np.abs(heard[0][:, :both] - heard[1][:, :both]).max()), 1e-4)

    def test_what_the_lane_draws_is_what_moves(self):
        for begins, then in itertools.product(self.begins, ("holds", "repeats")):
            movement = Movement(
                shape=SHAPES["fall"], begins=begins, then=then, length_beats=0.4, targets=(Target(path="layers/a/pan"),)
            )
            stack = self.stack.model_copy(update={"movements": (movement,)})
            moves = Builder(stack, graph_of(stack).clock, loader({})).moves
            rendered_course = ENGINE.run([moves.course(movement, "layers/a/pan")])[0]
            drawn = course_curve(stack, movement, "layers/a/pan")
            np.testing.assert_array_equal(drawn.values, rendered_course.values)
            rounds = rounds_of(stack, movement, "layers/a/pan")
            self.assertTrue(all(one.end_beats <= other.start_beats + 1e-3 for one, other in itertools.pairwise(rounds)))
            beat = 60.0 / stack.tempo_bpm
            for start in self.begins[begins]:
                nearest = min(abs(each.start_beats - start / beat) for each in rounds)
                self.assertLess(nearest, 1e-3)


class FollowingTest(unittest.TestCase):
    def test_it_agrees_with_an_independent_detector(self):
        """After Giannoulis et al., JAES 60/6, 2012, eq. 17: a decoupled peak detector, here written sample by sample."""
        stack = everything(sample_rate=44100)
        for followed in ("kick", "layers/a"):
            shape = FollowCourse(trigger=followed, attack_ms=8.0, release_ms=90.0, range_db=36.0)
            movement = moving("layers/a/pan", 1.0, shape=shape)
            moved = stack.model_copy(update={"movements": (movement,)})
            graph = graph_of(moved)
            builder = Builder(moved, graph.clock, loader({}))
            found = ENGINE.run([builder.moves.course(movement, "layers/a/pan")])[0].per_frame()
            heard = (
                builder.key("kick")
                if followed == "kick"
                else Builder(stack, graph.clock, loader({})).shaped(stack.layers[0])
            )
            sound = np.abs(as_stereo(ENGINE.run([heard])[0])).max(axis=0)
            wanted = detected(sound / sound.max(), shape, graph.clock.rate_hz)
            with self.subTest(followed=followed):
                self.assertGreater(float(np.ptp(wanted)), 0.3)
                # Knots are 16 frames apart: between them an attack is cut straight.
                self.assertLess(float(np.abs(found - wanted).mean()), 0.004)
                self.assertLess(float(np.quantile(np.abs(found - wanted), 0.99)), 0.02)

    def test_layers_may_follow_each_other_and_what_is_followed_cannot_go(self):
        stack = everything()
        stack = stack.model_copy(update={"layers": stack.layers[:1]})
        twice = apply(stack, edit_from_data({"op": "add-layer", "copy_of": "a", "id": "b"}))
        drives = {each.id: next(step.id for step in each.path if step.kind == "soft-clip") for each in twice.layers}
        for of, by in (("a", "b"), ("b", "a"), ("a", "a")):
            twice = apply(
                twice,
                edit_from_data(
                    {
                        "op": "add-movement",
                        "path": f"layers/{of}/path/{drives[of]}/drive_db",
                        "start": "follow",
                        "follows": f"layers/{by}",
                    }
                ),
            )
        self.assertTrue(np.isfinite(rendered(twice)["output"]).all())
        with self.assertRaisesRegex(InvalidEdit, "cannot go: the movement 'Follow' follows it"):
            apply(twice, edit_from_data({"op": "remove-layer", "layer": "b"}))
        with self.assertRaisesRegex(InvalidEdit, "no sound 'layers/gone' to follow"):
            follow = {"op": "add-movement", "path": "layers/a/pan", "start": "follow", "follows": "layers/gone"}
            apply(stack, edit_from_data(follow))


def detected(level, shape, rate):
    """The level over the range under full scale, 0 to 1, after two rounds of the loop."""
    decibels = np.clip(1.0 + 20.0 * np.log10(np.maximum(level, 1e-9)) / shape.range_db, 0.0, 1.0)
    attack, release = (np.exp(-1000.0 / (ms * rate)) for ms in (shape.attack_ms, shape.release_ms))
    held = smooth = 0.0
    out = np.empty(level.shape[0])
    for _ in range(2):
        for frame, now in enumerate(decibels):
            held = max(now, release * held + (1.0 - release) * now)
            smooth = attack * smooth + (1.0 - attack) * held
            out[frame] = smooth
    return out


class EditsTest(unittest.TestCase):
    def setUp(self):
        self.stack = everything()

    def done(self, *edits, stack=None):
        stack = stack or self.stack
        for edit in edits:
            stack = apply(stack, edit_from_data(edit))
        return stack

    def begun(self, start="ramp down", path="layers/a/level_db"):
        return self.done({"op": "add-movement", "path": path, "start": start, "id": "m"})

    def test_every_start_begins_as_it_is_called(self):
        for start in STARTS:
            movement = self.begun(start).movements[0]
            self.assertEqual(movement.shape.model_dump(mode="json"), starting_course(start, seed=self.stack.seed))
            self.assertEqual(
                movement.shape.in_words(),
                {"steps": "8 steps", "random steps": "8 steps", "follow": "follows a sound"}.get(start, start),
            )
            self.assertEqual(movement.targets[0].travel, -12.0)
        steps = [starting_course("random steps", seed=seed)["values"] for seed in (1, 1, 2)]
        self.assertEqual(steps[0], steps[1])
        self.assertNotEqual(steps[0], steps[2])
        octaves = self.begun(path="layers/a/path/eq/points/bell/frequency_hz").movements[0].targets[0].travel
        self.assertEqual(octaves, 2.0)
        # A level goes down even where there is more room above: it was set as loud as it is to be.
        self.assertEqual(self.begun(path="bus/limiter/ceiling_db").movements[0].targets[0].travel, -10.0)
        for path, why in (
            ("layers/a/mute", "no single number"),
            ("layers/a/transpose", "a count"),
            ("kick/eq/points/x", "no single"),
        ):
            with self.assertRaisesRegex(InvalidEdit, f"does not move: .*{why}"):
                self.begun(path=path)

    def test_points_are_pulled_between_their_neighbours(self):
        stack = self.begun("triangle")
        pull = {"op": "course-point", "movement": "m"}
        pulled = self.done({**pull, "place": 1, "at": 0.3, "value": 0.8}, stack=stack).movements[0].shape.points
        self.assertEqual([(p.at, p.value) for p in pulled], [(0.0, 0.0), (0.3, 0.8), (1.0, 0.0)])
        held = self.done({**pull, "place": 1, "at": 7.0, "value": -3.0}, stack=stack).movements[0].shape.points[1]
        self.assertEqual((held.at, held.value), (1.0, 0.0))
        upright = self.begun("square")
        for place, at in ((1, 0.9), (2, 0.1)):
            found = self.done({**pull, "place": place, "at": at}, stack=upright).movements[0].shape.points
            self.assertEqual([(p.at, p.value) for p in found], [(0.0, 1.0), (0.5, 1.0), (0.5, 0.0), (1.0, 0.0)])
        more = self.done({**pull, "at": 0.75, "value": 0.4}, stack=stack).movements[0].shape.points
        self.assertEqual([p.at for p in more], [0.0, 0.5, 0.75, 1.0])
        fewer = self.done({**pull, "place": 1, "gone": True}, stack=stack).movements[0].shape.points
        self.assertEqual(len(fewer), 2)
        for edit, why in (
            ({**pull, "place": 9}, "not there any more"),
            ({**pull, "movement": "gone", "place": 0}, "nothing at 'movements/gone'"),
        ):
            with self.assertRaisesRegex(InvalidEdit, why):
                self.done(edit, stack=stack)
        with self.assertRaisesRegex(InvalidEdit, "it is not drawn"):
            self.done({**pull, "place": 0}, stack=self.begun("steps"))

    def test_a_line_is_bent_through_where_it_is_pulled(self):
        for through in (0.1, 0.4, 0.72):
            stack = self.done(
                {"op": "course-point", "movement": "m", "place": 0, "through": through}, stack=self.begun("ramp up")
            )
            movement = stack.movements[0]
            self.assertAlmostEqual(float(value_along(movement.shape, 0.5)[0]), through, delta=0.003)

    def test_one_sweep_draws_steps(self):
        stack = self.begun("steps")
        drawn = self.done({"op": "draw-steps", "movement": "m", "values": {1: 0.25, 2: 1.7, 3: -1.0}}, stack=stack)
        self.assertEqual(drawn.movements[0].shape.values, (0.5, 0.25, 1.0, 0.0, 0.5, 0.5, 0.5, 0.5))
        with self.assertRaisesRegex(InvalidEdit, "8 steps; there is none at place 9"):
            self.done({"op": "draw-steps", "movement": "m", "values": {8: 0.0}}, stack=stack)

    def test_travel_is_pulled_to_where_the_value_ends(self):
        for path, end, travel in (
            ("layers/a/level_db", 3.0, -6.0),
            ("layers/a/level_db", 99.0, 3.0),
            ("layers/a/path/eq/points/bell/frequency_hz", 4000.0, 2.0),
            ("layers/a/path/eq/points/bell/frequency_hz", 1.0, np.log2(20.0 / 1000.0)),
        ):
            stack = self.begun(path=path)
            target = stack.movements[0].targets[0].id
            found = self.done({"op": "travel-to", "movement": "m", "target": target, "end": end}, stack=stack)
            self.assertAlmostEqual(found.movements[0].targets[0].travel, travel, delta=1e-3)

    def test_a_copy_moves_the_same_of_another_layer(self):
        stack = self.begun(path="layers/a/path/eq/points/bell/frequency_hz")
        target = {
            "op": "add",
            "path": "movements/m/targets",
            "part": {"path": "layers/a/path/compressor/ratio", "travel": 1.0},
        }
        share = {"op": "add", "path": "movements/m/targets", "part": {"path": "layers/a/level_db", "travel": -6.0}}
        plain = {"op": "add-layer", "id": "b"}
        eq = {"op": "add-point", "to": "layers/b", "point": {"kind": "bell", "id": "low", "frequency_hz": 200.0}}
        stack = self.done(target, share, plain, eq, stack=stack)
        edit = edit_from_data({"op": "copy-movement", "movement": "m", "to": "layers/b", "id": "n"})
        copied = apply(stack, edit)
        paths = [each.path for each in find(copied, "movements/n").targets]
        eq_id = copied.layer("b").path[1].id
        self.assertEqual(paths, [f"layers/b/path/{eq_id}/points/low/frequency_hz", "layers/b/level_db"])
        self.assertEqual(edit.remark(stack, copied), "1 of what it moves is not there in layer 2.")
        linear = {"op": "set", "path": f"layers/b/path/{eq_id}/phase", "value": "linear-phase"}
        frequency = self.done(plain, eq, stack=self.begun(path="layers/a/path/eq/points/bell/frequency_hz"))
        with self.assertRaisesRegex(InvalidEdit, "has nothing like what it moves"):
            ours = frequency.layer("b").path[1].id
            edits = (
                {**linear, "path": f"layers/b/path/{ours}/phase"},
                {"op": "copy-movement", "movement": "m", "to": "layers/b"},
            )
            self.done(*edits, stack=frequency)
        only = self.begun(path="layers/a/path/compressor/ratio")
        with self.assertRaisesRegex(InvalidEdit, "has nothing like what it moves"):
            self.done(plain, {"op": "copy-movement", "movement": "m", "to": "layers/b"}, stack=only)

    def test_a_step_is_copied_with_what_moves_it(self):
        stack = self.done({"op": "add-layer", "id": "b"}, stack=self.begun(path="layers/a/path/soft-clip/drive_db"))
        copied = self.done({"op": "copy-part", "path": "layers/a/path/soft-clip", "to": "layers/b/path"}, stack=stack)
        new = copied.layer("b").path[-1]
        self.assertEqual(
            new.model_copy(update={"id": "x"}), find(stack, "layers/a/path/soft-clip").model_copy(update={"id": "x"})
        )
        self.assertEqual([t.path for t in copied.movements[0].targets][1], f"layers/b/path/{new.id}/drive_db")
        here = self.done({"op": "copy-part", "path": "layers/a/path/soft-clip", "to": "layers/a/path"}, stack=stack)
        places = [step.kind for step in here.layer("a").path]
        self.assertEqual(places.count("soft-clip"), 2)
        self.assertEqual(places.index("soft-clip") + 1, len(places) - 1 - places[::-1].index("soft-clip"))
        with self.assertRaisesRegex(InvalidEdit, "cannot be copied"):
            self.done({"op": "copy-part", "path": "layers/a/path/eq/points/bell", "to": "layers/b/path"}, stack=stack)

    def test_a_movement_that_is_left_with_nothing_goes_with_what_it_moved(self):
        stack = self.begun(path="layers/a/path/soft-clip/drive_db")
        remove = {"op": "remove", "path": "layers/a/path/soft-clip"}
        self.assertEqual(self.done(remove, stack=stack).movements, ())
        more = {"op": "add", "path": "movements/m/targets", "part": {"path": "layers/a/pan", "travel": 0.5}}
        left = self.done(more, remove, stack=stack).movements
        self.assertEqual([target.path for target in left[0].targets], ["layers/a/pan"])

    def test_a_step_is_added_behind_another(self):
        add = {"op": "add", "path": "layers/a/path", "part": {"kind": "saturation", "id": "new"}}
        for after, place in (("layers/a/path/soft-clip", 2), ("", -1), ("layers/a/path/gone", -1)):
            path = self.done({**add, "after": after}).layer("a").path
            self.assertEqual(path[place].id, "new")


if __name__ == "__main__":
    unittest.main()
