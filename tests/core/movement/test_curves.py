"""Values that move: a curve at rest is the number, a curve that moves is what it says."""

import itertools
import re
import unittest
import unittest.mock

import numpy as np

from apilado.core.document.addresses import get, parted, replace
from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import POINTS, Bell, KeyedBell
from apilado.core.document.kick import Kick
from apilado.core.document.layer import Layer
from apilado.core.document.movement import MOST_TARGETS, Movement, Target
from apilado.core.document.path import Aside, Bands, ChainedBand, Equaliser, layer_path
from apilado.core.document.stack import Bus, Limiter, SharedBus, Space
from apilado.core.dsp.curves import Curve, knots, merged
from apilado.core.dsp.equaliser import bell
from apilado.core.dsp.filters import dc_blocker, filtered, in_cascade
from apilado.core.dsp.moving_filters import moving_filtered, some_at_a_time
from apilado.core.notes import Note
from apilado.core.render.builder import Builder
from apilado.core.render.graph import clock_of
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse, starting_points
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.shapes.follow_course import FollowCourse
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.shapes.step_course import StepCourse
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.treatments.multiband import DynamicBand, Multiband
from apilado.core.treatments.pitch_shift import PitchShift
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.treatments.width_bands import WideBand, WidthBands
from tests.seeded.moving import values_that_move
from tests.seeded.stacks import TIMES
from tests.seeded.variants import in_pieces
from tests.support import ENGINE, RATES, graph_of, loader, noise, plain_stack, rendered

REST = DrawnCourse(points=(CoursePoint(at=0.0, value=1.0), CoursePoint(at=1.0, value=1.0)))
HELD = Voice(envelope=Envelope(sustain=0.8, release_ms=40.0))


def batched(items, most):
    """Some after some; of Python 3.12 on, `itertools.batched`."""
    return (items[first : first + most] for first in range(0, len(items), most))


def moving(path, travel, *, shape=REST, **values):
    """A movement of one value."""
    both = values.pop("both_ways", False)
    return Movement(id="m", shape=shape, targets=(Target(id="t", path=path, travel=travel, both_ways=both),), **values)


def everything(**changes):
    """A short stack with one of every part whose values may move."""
    source = ToneSource(
        tones=(Tone(id="saw", shape="saw", copies=3, spread=0.7), Tone(id="pulse", shape="pulse", octave=-1, copies=2)),
    )
    own = (SoftClip(id="soft-clip"), Compressor(id="compressor"))
    bands = tuple(DynamicBand(id=f"band-{hertz}", from_hz=hertz, below_db=-24.0) for hertz in (30, 150, 700))
    wide = (WideBand(id="low", width=0.8), WideBand(id="high", from_hz=1500.0, width=1.2))
    given = {
        Multiband: {"bands": bands, "depth": 1.0},
        PitchShift: {"semitones": 5.0},
        WidthBands: {"bands": wide},
    }
    treatments = tuple(
        model(id=model.model_fields["kind"].default, **given.get(model, {}))
        for model in TREATMENTS
        if model not in (SoftClip, Compressor)
    )
    inner = (HardClip(id="inner", drive_db=18.0), Equaliser(id="eq", points=(Bell(id="bell", gain_db=4.0),)))
    chained = (ChainedBand(id="low", path=inner), ChainedBand(id="high", from_hz=400.0))
    treatments += (Bands(id="bands", bands=chained), Aside(id="aside", level_db=-3.0, path=inner))
    points = tuple(
        model(id=model.model_fields["kind"].default, **({"gain_db": 4.0} if "gain_db" in model.model_fields else {}))
        for model in POINTS
    )
    layer = Layer(
        id="a",
        source=source,
        path=layer_path(*own, Equaliser(id="eq", points=points)),
        width=0.8,
        voice=HELD,
        mono_below_hz=90.0,
        level_db=9.0,
        send=0.4,
    )
    # A few to a layer: of a change only that layer is rendered anew.
    treated = tuple(
        Layer(id=f"t{number}", source=ToneSource(tones=source.tones[:1]), path=layer_path(*some), level_db=-20.0)
        for number, some in enumerate(treatments[first : first + 3] for first in range(0, len(treatments), 3))
    )
    ducks = (
        Ducker(id="keyed", shape=KeyedDuck(threshold_db=-30.0), amounts={"a": 0.8}),
        Ducker(id="drawn", shape=DrawnDuck(release_ms=60.0), amounts={"a": 0.7}),
        Ducker(id="band", shape=DrawnDuck(release_ms=90.0), reach="below", frequency_hz=3000.0, amounts={"a": 0.6}),
    )
    return plain_stack(
        **{
            "layers": (layer, *treated),
            "duckers": ducks,
            "kick": Kick(hits=(0.0, 1.5)),
            "space": Space(path=(Reverb(id="room", blend=0.9, decay_s=0.3),), level_db=3.0),
            "bus": Bus(mono_below_hz=350.0, limiter=Limiter(ceiling_db=-14.0)),
            "shared": SharedBus(on=True, limiter=Limiter(ceiling_db=-15.0)),
            "pattern": (Note(length_beats=0.7, pitch=33), Note(start_beats=1.0, length_beats=0.8, pitch=40)),
            "beats_per_bar": 2,
            **changes,
        }
    )


def worth_trying(stack):
    """What may move in a stack: of the layers that carry the treatments, these alone, and what does something there."""

    def worth(path):
        if path.count("/path/") > 1:
            return path.endswith(("/drive_db", "/gain_db"))  # what lies deeper moves as what lies outside does
        if not re.search(r"/t\d", path):
            return True
        part, name = parted(path)
        return "/path/" in path and name not in get(stack, part).unused()

    return [each for each in values_that_move(stack) if worth(each[0])]


class PerFrameTest(unittest.TestCase):
    def test_between_the_knots_it_runs_straight_as_numpy_has_it(self):
        dice = np.random.default_rng(5)
        for _ in range(60):
            count, frames = int(dice.integers(0, 40)), int(dice.integers(1, 3000))
            inner = np.sort(dice.integers(0, frames + 1, count))  # some of them one upon another: jumps
            at = np.concatenate([[0], inner, [frames]]).astype(np.int64)
            values = dice.standard_normal(count + 2)
            wanted = np.interp(np.arange(frames), at, values)
            curve = Curve(at, values)
            np.testing.assert_allclose(curve.per_frame(), wanted, atol=1e-12)
            np.testing.assert_array_equal(curve.rounded(), curve.per_frame().astype(np.float32))


class MergedTest(unittest.TestCase):
    def test_frames_in_order_and_each_once(self):
        rng = np.random.default_rng(2)
        some = [np.arange(0, 900, 16), rng.integers(-5, 900, 40), np.array([16, 16, 32]), np.zeros(0, np.int64)]
        np.testing.assert_array_equal(merged(*some), np.unique(np.concatenate(some)))
        self.assertEqual(merged(np.zeros(0, np.int64)).shape, (0,))


class AtRestTest(unittest.TestCase):
    def test_a_curve_at_rest_is_the_number(self):
        seen = set()
        for rate in RATES:
            for looped in (True, False):
                # What is stretched as a whole comes out a little otherwise where there is more of it.
                stack = everything(sample_rate=rate) if looped else in_pieces(everything(sample_rate=rate))
                plain = rendered(stack, looped=looped)["output"]
                # As many at once as one movement can have. Each of them twice, at other rates, in a loop or a single
                # pass; in a sweep all of them everywhere.
                groups = list(batched([path for path, _, _ in worth_trying(stack)], MOST_TARGETS))
                number = RATES.index(rate) * 2 + looped
                for paths in groups if TIMES > 1 else groups[number % 3 :: 3]:
                    seen.update(paths)
                    with self.subTest(paths=paths, rate=rate, looped=looped):
                        targets = tuple(Target(id=f"t{at}", path=path, travel=0.0) for at, path in enumerate(paths))
                        still = stack.model_copy(update={"movements": (Movement(id="m", shape=REST, targets=targets),)})
                        found = rendered(still, looped=looped)["output"]
                        # A single pass may be given longer to ring out where something could move.
                        both = min(found.shape[1], plain.shape[1])
                        self.assertLess(float(np.abs(found[:, :both] - plain[:, :both]).max()), 1e-4)
                        self.assertLess(float(np.abs(found[:, both:]).max(initial=0.0)), 1e-4)
        self.assertEqual(len(seen), len(worth_trying(everything())))

    def test_travel_is_added_to_the_number(self):
        """A movement that rests at its full travel sounds as the number that is so much higher."""
        stack = everything()
        values = worth_trying(stack)
        for path, parameter, value in values if TIMES > 1 else values[::3]:
            if path.endswith(("saw/pulse_width", "/position", "/at_setting")) or (
                parameter.name == "threshold_db" and "keyed-bell" in path
            ):
                continue
            with self.subTest(path=path):
                log = parameter.scale == "log"
                up = parameter.high >= (value * 1.3 if log else value + 0.2 * (parameter.high - parameter.low))
                travel = (0.3 if up else -0.3) if log else (0.15 if up else -0.15) * (parameter.high - parameter.low)
                other = value * 2.0**travel if log else value + travel
                moved = stack.model_copy(update={"movements": (moving(path, travel),)})
                data = stack.model_dump(mode="json")
                replace(data, path, other)
                wanted = rendered(type(stack).model_validate(data))["output"]
                apart = np.abs(rendered(moved)["output"] - wanted).max()
                self.assertLess(float(apart), 2e-4)
                self.assertGreater(float(np.abs(wanted - rendered(stack)["output"]).max()), 3e-4)


class MovingTest(unittest.TestCase):
    def test_a_sine_on_the_level_is_its_closed_form(self):
        source = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
        held = Voice(envelope=Envelope(attack_ms=0.5, sustain=1.0, release_ms=2.0))
        note = Note(length_beats=8.0, pitch=69)
        stack = plain_stack(layers=(Layer(id="a", source=source),), pattern=(note,), bars=2, voice=held)
        sine = DrawnCourse(points=starting_points("sine"))
        movement = moving(
            "layers/a/level_db", 3.0, shape=sine, begins="free", length_in="Hz", rate_hz=7.85, both_ways=True
        )
        graphs = [graph_of(each, looped=False) for each in (stack, stack.model_copy(update={"movements": (movement,)}))]
        plain, moved = (ENGINE.run([graph.placed["a"]])[0][0] for graph in graphs)
        t = np.arange(plain.shape[0]) / 48000
        heard = (np.abs(plain) > 0.05) & (t > 0.01) & (t < 3.9)
        found = 20 * np.log10(np.abs(moved[heard]) / np.abs(plain[heard]))
        wanted = 3.0 * np.sin(2 * np.pi * 7.85 * t[heard])
        self.assertLess(float(np.abs(found - wanted).max()), 0.01)

    def test_a_bell_swept_over_five_octaves_is_that_of_every_sample(self):
        rate, frames = 48000, 24000
        audio = noise(frames, channels=1)
        at = knots(frames)
        # From 100 Hz up five octaves in 50 ms, back in 50, again and again.
        share = np.abs(((at / rate / 0.05) % 2.0) - 1.0)
        swept = moving_filtered(audio, at, bell(100.0 * 2.0 ** (5.0 * share), 9.0, 2.0, rate), looped=False)
        hertz = 100.0 * 2.0 ** (5.0 * np.interp(np.arange(frames), at, share))
        wanted = bell_by_sample(audio[0], hertz, 9.0, 2.0, rate)
        apart = np.sqrt(np.mean((swept[0] - wanted) ** 2) / np.mean(wanted**2))
        self.assertLess(20 * np.log10(apart), -70.0)
        self.assertLess(float(np.abs(swept).max()), 4.0 * float(np.abs(audio).max()))

    def test_a_swept_loop_is_what_goes_on_for_ever(self):
        # Low up to its seam, where it runs up slowly or jumps: the loop begins with what rings on from there.
        rate, frames, rounds = 48000, 12000, 6
        audio = noise(frames, channels=2)
        for gap, q in itertools.product((100, 2), (0.7, 2.0, 40.0)):  # the last q rings for longer than the loop lasts
            at = np.append(np.arange(0, frames, 1000), [frames - gap, frames])
            values = np.where(at > 0.7 * frames, 200.0, 900.0)
            values[[0, -1]] = 3000.0
            with unittest.mock.patch("apilado.core.dsp.moving_filters.KNOTS_AT_ONCE", 4):
                looped = moving_filtered(audio, at, bell(values, 12.0, q, rate), looped=True)
            many = np.concatenate([at[:-1] + round_ * frames for round_ in range(rounds)] + [[rounds * frames]])
            hertz = np.append(np.tile(values[:-1], rounds), values[0])
            straight = moving_filtered(np.tile(audio, rounds), many, bell(hertz, 12.0, q, rate), looped=False)
            np.testing.assert_allclose(looped, straight[:, -frames:], atol=2e-5)

    def test_channels_and_sections_do_not_touch_each_other(self):
        rate, frames, turn = 48000, 60000, 6.0 * np.pi / 60000
        audio, at = noise(frames, channels=2), knots(frames)
        low, high = (bell(hertz * (1.0 + 0.5 * np.sin(at * turn)), 9.0, 2.0, rate) for hertz in (90.0, 2000.0))
        both = moving_filtered(audio, at, in_cascade(low, high), looped=True)
        for channel in range(2):
            alone = audio[channel : channel + 1]
            one = moving_filtered(alone, at, in_cascade(low, high), looped=True)
            np.testing.assert_array_equal(both[channel], one[0])
            in_turn = moving_filtered(moving_filtered(alone, at, low, looped=True), at, high, looped=True)
            np.testing.assert_allclose(one, in_turn, atol=1e-5)

    def test_some_knots_at_a_time_are_all_of_them(self):
        rate, frames = 48000, 30000
        audio, at = noise(frames, channels=1), knots(frames)
        hertz = 100.0 * 2.0 ** (3.0 + 2.0 * np.sin(at / 900.0))
        whole = {
            looped: moving_filtered(audio, at, bell(hertz, 9.0, 3.0, rate), looped=looped) for looped in (True, False)
        }
        with unittest.mock.patch("apilado.core.dsp.moving_filters.KNOTS_AT_ONCE", 100):
            sections = some_at_a_time(lambda some: bell(some, 9.0, 3.0, rate), hertz)
            np.testing.assert_array_equal(sections, bell(hertz, 9.0, 3.0, rate))
            for looped, wanted in whole.items():
                np.testing.assert_array_equal(moving_filtered(audio, at, sections, looped=looped), wanted)

    def test_a_sweep_with_a_jump_stays_bounded(self):
        rate, frames = 48000, 24000
        audio, at = noise(frames, channels=2), knots(frames)
        hertz = np.where((at // 2400) % 2 == 0, 30.0, 15000.0)
        for looped in (True, False):
            out = moving_filtered(audio, at, bell(hertz, 18.0, 8.0, rate), looped=looped)
            self.assertTrue(np.isfinite(out).all())
            self.assertLess(float(np.abs(out).max()), 30.0 * float(np.abs(audio).max()))

    def test_a_drive_that_moves_is_that_of_the_curve_at_the_oversampled_rate(self):
        stack = plain_stack()
        clock = graph_of(stack).clock
        t = np.arange(clock.frames) / clock.rate_hz
        tone = (0.4 * np.sin(2 * np.pi * 440.0 * t)).astype(np.float32).reshape(1, -1)
        at = knots(clock.frames)
        drive = 12.0 + 10.0 * np.sin(2 * np.pi * at / clock.frames * 8)
        treatment = SoftClip(oversampling=8, output_db=0.0).model_copy(update={"drive_db": Curve(at, drive)})
        found = treatment.process(tone, clock)[0]
        # The plain way: gain and curve at eight times the rate.
        gain = 10.0 ** (np.interp(np.arange(8 * clock.frames) / 8.0, at, drive) / 20.0)
        fine = 0.4 * np.sin(2 * np.pi * 440.0 * np.arange(8 * clock.frames) / (8 * clock.rate_hz)) * gain
        fine = fine / np.sqrt(1.0 + fine**2)
        wanted = np.fft.irfft(np.fft.rfft(fine)[: clock.frames // 2 + 1], clock.frames) / 8.0
        wanted = filtered(wanted.astype(np.float32)[None], dc_blocker(clock.rate_hz), looped=True)[0]
        apart = np.sqrt(np.mean((found - wanted)[2000:-2000] ** 2) / np.mean(wanted**2))
        self.assertLess(20 * np.log10(apart), -60.0)

    def test_a_single_pass_lasts_as_long_as_what_moves_may_ring(self):
        point = Bell(id="b", frequency_hz=60.0, gain_db=18.0, q=0.5)
        layer = Layer(id="a", path=layer_path(Equaliser(id="eq", points=(point,))))
        stack = plain_stack(layers=(layer,), bars=1, beats_per_bar=1)
        rings = stack.model_copy(update={"movements": (moving("layers/a/path/eq/points/b/q", 5.0),)})
        short, long = (clock_of(each, looped=False).tail_seconds for each in (stack, rings))
        self.assertGreater(long, 3.0 * short)
        whole = rendered(rings, looped=False)["a"]
        self.assertLess(float(np.abs(whole[:, -480:]).max()), 1e-5 * float(np.abs(whole).max()))
        late = stack.model_copy(update={"movements": (moving("layers/a/delay_ms", 50.0),)})
        self.assertAlmostEqual(clock_of(late, looped=False).tail_seconds, short + 0.05, places=6)

    def test_a_keyed_bell_is_swept_too(self):
        point = KeyedBell(id="k", frequency_hz=110.0, gain_db=-12.0)
        layer = Layer(id="a", path=layer_path(Equaliser(id="eq", points=(point,))))
        stack = plain_stack(layers=(layer,), kick=Kick(hits=(0.0,), mute=True))
        up = stack.model_copy(update={"movements": (moving("layers/a/path/eq/points/k/frequency_hz", 1.0),)})
        other = point.model_copy(update={"frequency_hz": 220.0})
        wanted = stack.model_copy(
            update={"layers": (layer.model_copy(update={"path": layer_path(Equaliser(points=(other,)))}),)}
        )
        np.testing.assert_allclose(rendered(up)["output"], rendered(wanted)["output"], atol=1e-5)


def bell_by_sample(x, hertz, gain_db, q, rate):
    """The plain reference: a trapezoidal state-variable bell whose coefficients are worked out at every sample."""
    a = 10.0 ** (gain_db / 40.0)
    k = 1.0 / (q * a)
    g = np.tan(np.pi * hertz / rate)
    one = two = 0.0
    out = np.empty(x.shape[0])
    for n, sample in enumerate(x.astype(float)):
        v3 = sample - two
        v1 = (one + g[n] * v3) / (1.0 + g[n] * (g[n] + k))
        v2 = two + g[n] * v1
        one, two = 2.0 * v1 - one, 2.0 * v2 - two
        out[n] = sample + k * (a * a - 1.0) * v1
    return out


class CoursesTest(unittest.TestCase):
    def curve(self, movement, stack=None, *, looped=True):
        stack = (stack or everything()).model_copy(update={"movements": (movement,)})
        graph = graph_of(stack, looped=looped)
        moves = Builder(stack, graph.clock, loader({})).moves
        return ENGINE.run([moves.curve(movement.targets[0].path)])[0], graph.clock

    def test_when_it_begins_and_what_it_does_then(self):
        ramp = DrawnCourse(points=starting_points("ramp up"))
        for begins, then, wanted in (
            ("note", "holds", {0.25: 0.5, 0.75: 1.0, 1.25: 0.5, 1.75: 1.0}),
            ("note", "repeats", {0.25: 0.5, 0.75: 0.5, 1.25: 0.5}),
            ("hit", "holds", {0.25: 0.5, 0.75: 1.0, 1.45: 1.0, 1.75: 0.5}),
            ("bar", "holds", {0.25: 0.5, 0.75: 1.0, 1.5: 1.0}),
            ("once", "holds", {0.25: 0.5, 1.5: 1.0}),
            ("free", "holds", {0.25: 0.5, 0.75: 0.5, 1.75: 0.5}),
        ):
            movement = moving("layers/a/pan", 0.8, shape=ramp, begins=begins, then=then, length_beats=0.5)
            for looped in (True, False):
                curve, clock = self.curve(movement, looped=looped)
                frames = curve.per_frame()
                for beat, share in wanted.items():
                    with self.subTest(begins=begins, then=then, beat=beat, looped=looped):
                        self.assertAlmostEqual(frames[clock.sample_at(beat)], 0.8 * share, delta=0.002)

    def test_no_beginning_jumps(self):
        saw = DrawnCourse(points=starting_points("ramp down"))
        square = DrawnCourse(points=starting_points("square"))
        steps = StepCourse(values=(0.0, 1.0, 0.3, 0.9))
        for shape in (saw, square, steps):
            for begins, then in (("note", "holds"), ("note", "repeats"), ("hit", "repeats"), ("free", "repeats")):
                for looped in (True, False):
                    movement = moving("layers/a/pan", 1.0, shape=shape, begins=begins, then=then, length_beats=0.13)
                    curve, clock = self.curve(movement, looped=looped)
                    frames = curve.per_frame()
                    around = np.append(frames, frames[0]) if looped else frames
                    with self.subTest(shape=shape.kind, begins=begins, then=then, looped=looped):
                        # From one end to the other in 2 ms at the least.
                        self.assertLess(float(np.abs(np.diff(around)).max()), 1.0 / (0.002 * clock.rate_hz))
                        self.assertGreater(float(np.ptp(frames)), 0.5)

    def test_movements_on_one_value_add_and_stay_in_its_range(self):
        stack = everything()
        two = tuple(
            moving("layers/a/path/compressor/ratio", octaves).model_copy(update={"id": name})
            for name, octaves in (("one", 1.0), ("two", -0.5))
        )

        def ratio(movements):
            moved = stack.model_copy(update={"movements": movements})
            builder = Builder(moved, graph_of(moved).clock, loader({}))
            return ENGINE.run([builder.moves.curve("layers/a/path/compressor/ratio")])[0].values

        np.testing.assert_allclose(ratio(two), 3.0 * 2.0**0.5)
        np.testing.assert_allclose(ratio((moving("layers/a/path/compressor/ratio", 9.0),)), 20.0)

    def test_scaled_by_velocity_and_by_pitch(self):
        notes = (Note(length_beats=0.5, pitch=48, velocity=127), Note(start_beats=1.0, pitch=24, velocity=64))
        stack = everything(pattern=notes)
        for scaled, wanted in (("velocity", (1.0, 64 / 127)), ("pitch", (1.0, -1.0))):
            curve, clock = self.curve(moving("layers/a/pan", 0.5, begins="note", scaled=scaled), stack)
            found = [curve.per_frame()[clock.sample_at(beat)] for beat in (0.5, 1.5)]
            np.testing.assert_allclose(found, [0.5 * each for each in wanted], atol=1e-6)

    def test_it_follows_a_drum(self):
        shape = FollowCourse(attack_ms=0.5, release_ms=60.0, range_db=30.0)
        curve, clock = self.curve(moving("layers/a/pan", 1.0, shape=shape))
        frames = curve.per_frame()
        self.assertGreater(float(frames[clock.sample_at(0.0) : clock.sample_at(0.1)].max()), 0.9)
        self.assertLess(float(frames[clock.sample_at(1.45)]), 0.2)

    def test_smoothing_takes_its_time_and_goes_round_the_loop(self):
        square = DrawnCourse(points=starting_points("square"))
        plain, clock = self.curve(moving("layers/a/pan", 1.0, shape=square, begins="free", length_beats=1.0))
        slow, _ = self.curve(moving("layers/a/pan", 1.0, shape=square, begins="free", length_beats=1.0, smooth_ms=50.0))
        steepest = [np.abs(np.diff(curve.per_frame())).max() for curve in (plain, slow)]
        self.assertAlmostEqual(steepest[1], 1.0 / clock.samples_in_ms(50.0), delta=0.2 / clock.samples_in_ms(50.0))
        self.assertGreater(steepest[0], 10 * steepest[1])
        self.assertAlmostEqual(float(slow.values[0]), float(slow.values[-1]), delta=1e-9)


if __name__ == "__main__":
    unittest.main()
