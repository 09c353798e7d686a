"""The space: what is sent to it, what it gives back, and where both go."""

import unittest

import numpy as np
from scipy import signal

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.kick import Kick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.movement import Movement, Target
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Bus, Crossover, Limiter, SharedBus, Space
from apilado.core.notes import Note
from apilado.core.render.audition import Audition
from apilado.core.render.engine import Engine
from apilado.core.render.graph import clock_of
from apilado.core.render.last_loop import LastLoop
from apilado.core.render.stretch import NotAtOnce, stretch_of
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse
from apilado.core.soundings.measures import measure
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.delay import Delay
from apilado.core.treatments.pitch_shift import PitchShift
from apilado.core.treatments.reverb import Reverb
from tests.support import ENGINE, graph_of, loader, plain_stack, rendered

RATE = 48000
ROOM = Reverb(id="room", blend=1.0, decay_s=0.8)


def stack_of(**changes):
    """Two layers over a border at 150 Hz; the upper one sends all of itself."""
    layers = (
        Layer(id="low", name="low", source=ToneSource(tones=(Tone(shape="saw"),)), span=Span(first=0, last=0)),
        Layer(
            id="high", name="high", source=ToneSource(tones=(Tone(shape="saw"),)), span=Span(first=1, last=1), send=1.0
        ),
    )
    given = {
        "layers": layers,
        "crossovers": (Crossover(id="border", frequency_hz=150.0),),
        "space": Space(path=(ROOM,)),
        "voice": Voice(envelope=Envelope(attack_ms=1.0, release_ms=10.0)),
        "pattern": tuple(Note(start_beats=0.5 * n, length_beats=0.3, pitch=36 + n) for n in range(8)),
        "kick": Kick(hits=(0.0, 2.0)),
    }
    return plain_stack(**{**given, **changes})


def run(graph, *stages):
    return ENGINE.run(list(stages))


class SumsTest(unittest.TestCase):
    def test_stems_sum_to_the_bus_and_bus_space_and_kick_to_the_shared_bus(self):
        for looped in (True, False):
            for rate in (44100, 96000):
                stack = stack_of(sample_rate=rate, bus=Bus(limiter=Limiter(on=False), send=0.4))
                stack = apply(stack, SetValue(path="kick/send", value=0.3))
                graph = graph_of(stack, looped=looped)
                layers = run(graph, *graph.layers.values())
                bus_input, bus, space, kick, output, bass = run(
                    graph,
                    graph.bus_input,
                    graph.buses["bus"],
                    graph.buses["space"],
                    graph.kick,
                    graph.output,
                    graph.bass,
                )
                np.testing.assert_allclose(sum(layers), bus_input, atol=1e-5)
                np.testing.assert_allclose(bus + space + kick, output, atol=1e-5)
                np.testing.assert_allclose(bus + space, bass, atol=1e-6)
                self.assertGreater(float(np.abs(space).max()), 0.01)
                both = SharedBus(on=True, path=(), level_db=-6.0, limiter=Limiter(on=False))
                shared = run(graph, graph_of(stack.model_copy(update={"shared": both}), looped=looped).output)[0]
                np.testing.assert_allclose(shared, output * 10.0 ** (-6.0 / 20.0), atol=1e-5)

    def test_it_gives_back_its_path_of_all_that_is_sent(self):
        stack = stack_of(bus=Bus(limiter=Limiter(on=False), send=0.5))
        stack = apply(stack, SetValue(path="kick/send", value=0.25))
        stack = apply(stack, SetValue(path="space/level_db", value=-3.0))
        graph = graph_of(stack)
        high, bus, kick, space = run(graph, graph.layers["high"], graph.buses["bus"], graph.kick, graph.buses["space"])
        # Of the bus what lies over the lowest border, at 24 dB per octave: SciPy's Butterworth, twice round.
        sections = signal.butter(4, 150.0, "high", fs=RATE, output="sos")
        above = signal.sosfilt(sections, np.tile(bus.astype(np.float64), 2), axis=1)[:, bus.shape[1] :]
        sent = (high + 0.5 * above + 0.25 * kick).astype(np.float32)
        wanted = ROOM.process(sent, graph.clock) * 10.0 ** (-3.0 / 20.0)
        np.testing.assert_allclose(space, wanted, atol=1e-5)
        self.assertEqual(set(graph.sends), {"layers/high", "bus", "kick"})

    def test_where_nothing_is_sent_there_is_no_space_and_nothing_is_rendered_for_it(self):
        stack = apply(stack_of(), SetValue(path="layers/high/send", value=0.0))
        graph = graph_of(stack)
        self.assertNotIn("space", graph.buses)
        self.assertEqual(graph.bass, graph.buses["bus"])
        longer = stack.model_copy(update={"space": Space(path=(Reverb(decay_s=9.0),))})
        self.assertEqual(graph_of(longer).output.key, graph.output.key)
        self.assertEqual(clock_of(longer, looped=False).frames, clock_of(stack, looped=False).frames)

    def test_one_pass_has_its_whole_tail(self):
        stack = stack_of()
        loop, once = rendered(stack)["output"], rendered(stack, looped=False)["output"]
        frames = loop.shape[1]
        padded = np.pad(once.astype(np.float64), ((0, 0), (0, -once.shape[1] % frames)))
        np.testing.assert_allclose(padded.reshape(2, -1, frames).sum(axis=1), loop, atol=2e-5)
        self.assertLess(float(np.abs(once[:, -RATE // 100 :]).max()), 1e-5)


class HeardTest(unittest.TestCase):
    def test_what_is_muted_is_not_sent_and_a_muted_space_is_not_heard(self):
        stack = stack_of()
        muted = rendered(apply(stack, SetValue(path="layers/high/mute", value=True)))
        alone = rendered(
            apply(stack, SetValue(path="layers/high/send", value=0.0)), audition=Audition(alone=("layers/low", "kick"))
        )
        np.testing.assert_allclose(muted["output"], alone["output"], atol=1e-6)
        quiet = apply(stack, SetValue(path="space/mute", value=True))
        self.assertNotIn("space", graph_of(quiet).buses)

    def test_a_section_may_shut_the_space(self):
        section = PieceSection(
            id="s", name="dry", first_bar=2, last_bar=2, changes=(Change(id="c", path="space/mute", value=True),)
        )
        graph = graph_of(stack_of(bars=2, pattern_bars=1, sections=(section,)))
        (space,) = run(graph, graph.buses["space"])
        bar = graph.clock.sample_at(4.0)
        self.assertGreater(float(np.abs(space[:, : bar - 1000]).max()), 0.01)
        self.assertEqual(float(np.abs(space[:, bar + 1000 : -1000]).max()), 0.0)

    def test_the_space_alone_and_a_layer_with_its_own_share_of_it(self):
        stack = stack_of()
        whole = graph_of(stack)
        space = run(whole, whole.buses["space"])[0]
        np.testing.assert_allclose(rendered(stack, audition=Audition(alone=("space",)))["output"], space, atol=1e-6)
        high = rendered(stack, audition=Audition(alone=("layers/high",)))["output"]
        np.testing.assert_allclose(high, run(whole, whole.layers["high"])[0] + space, atol=1e-5)
        low = rendered(stack, audition=Audition(alone=("layers/low",)))["output"]
        np.testing.assert_allclose(low, run(whole, whole.layers["low"])[0], atol=1e-6)

    def test_a_point_of_its_eq_is_all_that_is_heard_of_it(self):
        stack = stack_of(space=Space(path=(ROOM, *Bus().path)))
        (eq,) = stack.eqs_of("space")
        added = apply(stack, SetValue(path=f"{eq}/points", value=[{"kind": "bell", "id": "b", "frequency_hz": 900.0}]))
        heard = graph_of(added, audition=Audition(point=f"{eq}/points/b"))
        space = run(heard, heard.buses["space"], heard.output)
        np.testing.assert_allclose(space[0], space[1], atol=1e-7)
        whole = rendered(added, audition=Audition(alone=("space",)))["output"]
        self.assertLess(float(np.sum(space[0] ** 2)), 0.5 * float(np.sum(whole**2)))
        self.assertTrue(np.any(space[0]))

    def test_it_counts_in_what_is_measured_of_the_bass(self):
        dry, wet = (
            measure(stack, loader({}), ENGINE)
            for stack in (apply(stack_of(), SetValue(path="layers/high/send", value=0.0)), stack_of())
        )
        self.assertGreater(float(wet.bass.side_power.sum()), 100.0 * float(dry.bass.side_power.sum()) + 1e-9)


class ThrowTest(unittest.TestCase):
    def test_a_movement_on_one_note_sends_that_note_alone(self):
        stack = apply(stack_of(), SetValue(path="layers/high/send", value=0.0))
        # Up at the start of the fifth note of eight, down when the next one begins.
        corners = ((0.0, 0.0), (0.499, 0.0), (0.5, 1.0), (0.62, 1.0), (0.621, 0.0), (1.0, 0.0))
        points = tuple(CoursePoint(at=at, value=value) for at, value in corners)
        throw = Movement(
            id="throw",
            shape=DrawnCourse(points=points),
            begins="bar",
            length_beats=4.0,
            targets=(Target(id="t", path="layers/high/send", travel=1.0),),
        )
        stack = apply(stack, SetValue(path="layers/high/level_db", value=0.0)).model_copy(
            update={"movements": (throw,)}
        )
        graph = graph_of(stack)
        sent, space, dry = run(graph, graph.sends["layers/high"], graph.buses["space"], graph.layers["high"])
        fifth = slice(round(2.0 * 24000), round(2.45 * 24000))
        inside = np.zeros(sent.shape[1], bool)
        inside[round(1.99 * 24000) : round(2.5 * 24000)] = True
        self.assertEqual(float(np.abs(sent[:, ~inside]).max()), 0.0)
        np.testing.assert_allclose(
            sent[:, fifth.start + 200 : fifth.stop], dry[:, fifth.start + 200 : fifth.stop], atol=1e-6
        )
        behind = float(np.sqrt(np.mean(space[:, round(2.6 * 24000) : round(3.2 * 24000)] ** 2)))
        self.assertGreater(behind, 1e-3)

    def test_a_section_throws_its_last_beat_and_it_rings_on_behind_it(self):
        stack = stack_of(bars=2, pattern=(Note(start_beats=3.0, length_beats=0.8, pitch=48),))
        stack = apply(stack, SetValue(path="layers/high/send", value=0.0))
        section = PieceSection(
            id="s", name="throw", first_bar=1, last_bar=1, changes=(Change(id="c", path="layers/high/send", value=1.0),)
        )
        graph = graph_of(stack.model_copy(update={"sections": (section,)}))
        space, sent = run(graph, graph.buses["space"], graph.sends["layers/high"])
        bar = graph.clock.sample_at(4.0)
        self.assertEqual(float(np.abs(sent[:, bar:-1000]).max()), 0.0)
        after = space[:, bar : bar + 12000]
        self.assertGreater(float(np.sqrt(np.mean(after**2))), 1e-3)
        long_after = space[:, bar + 60000 : bar + 72000]
        self.assertLess(float(np.sqrt(np.mean(long_after**2))), float(np.sqrt(np.mean(after**2))) * 0.05)

    def test_a_stretch_is_the_loop_there(self):
        stack = stack_of(bars=2, bus=Bus(limiter=Limiter(on=False), send=0.5))
        graph = graph_of(stack)
        loop = run(graph, graph.output)[0]
        for begins in (0, graph.clock.frames - 5000, 100_000):
            (stretch,) = stretch_of([graph.output], graph.clock, begins, 20_000)
            there = loop[:, (begins + np.arange(20_000)) % graph.clock.frames]
            apart = float(np.abs(run(graph, stretch)[0] - there).max())
            self.assertLess(apart, 1e-3 * float(np.abs(loop).max()))

    def test_after_an_edit_a_stretch_rings_on_from_the_last_loop(self):
        before = stack_of(bars=2, space=Space(path=(Reverb(id="room", blend=1.0, decay_s=3.0),)))
        after = apply(before, SetValue(path="layers/high/level_db", value=-3.0))
        old, new = graph_of(before), graph_of(after)
        loop, begins, frames = run(new, new.output)[0], 50_000, 20_000
        places = (begins + np.arange(frames)) % new.clock.frames

        rooms = []
        """Over how many frames each ran."""

        def stretch(**given):
            rooms.clear()
            (made,) = stretch_of([new.output], new.clock, begins, frames, **given)
            waiting, ran = [made], {}
            while waiting:
                each = waiting.pop()
                clock = each.parameters.get("clock")
                if "source" in each.parameters:
                    ran[each.key] = clock.frames
                if isinstance(each.parameters.get("treatment"), Reverb) and not clock.looped:
                    rooms.append(clock.frames)
                waiting += each.inputs if clock is None or not clock.looped else ()
            return run(new, made)[0], max(ran.values())

        whole, long = stretch()
        run(old, old.output, old.passed["space/path/room"].before)
        last = LastLoop(ENGINE, old, new.clock)
        self.assertIsNone(LastLoop(ENGINE, old, graph_of(stack_of()).clock).went_in("space/path/room"))
        self.assertIsNone(LastLoop(ENGINE, None, new.clock).went_in("space/path/room"))
        quick, short = stretch(held=last.held, went_in=last.went_in)
        self.assertLess(float(np.abs(whole - loop[:, places]).max()), 1e-3 * float(np.abs(loop).max()))
        self.assertGreater(long, frames + 48_000)
        self.assertLess(short, frames + 12_000)
        # The room of the last loop was 3 dB louder; that is heard of its tail alone.
        apart = float(np.sqrt(np.mean((quick - loop[:, places]) ** 2)))
        self.assertLess(apart, 0.5 * float(np.sqrt(np.mean(run(new, new.buses["space"])[0][:, places] ** 2))))
        self.assertGreater(max(rooms), frames + 48_000)
        # What came out of it then need not be made again: with what is changed since, it is the same.
        quickest, _ = stretch(held=last.held, went_in=last.went_in, came_out=last.came_out)
        self.assertEqual(len(rooms), 1)
        self.assertLess(max(rooms), frames + 4_000)
        np.testing.assert_allclose(quickest, quick, atol=1e-3 * float(np.abs(loop).max()))
        room = new.passed["space/path/room"].after
        self.assertEqual(last.came_out(room).key, old.passed["space/path/room"].after.key)
        bigger = graph_of(apply(after, SetValue(path="space/path/room/decay_s", value=2.9))).passed["space/path/room"]
        self.assertIsNone(last.came_out(bigger.after))  # another room now
        (same,) = stretch_of([new.output], new.clock, begins, frames, went_in=lambda where: new.passed[where].before)
        np.testing.assert_allclose(run(new, same)[0], loop[:, places], atol=1e-3 * float(np.abs(loop).max()))

    def test_what_went_into_it_is_known_where_all_that_it_is_summed_of_is_at_hand(self):
        graph, engine = graph_of(stack_of(bars=1)), Engine()
        self.addCleanup(engine.close)
        last, sent = LastLoop(engine, graph, graph.clock), graph.passed["space/path/room"].before
        self.assertIsNone(last.went_in("space/path/room"))
        engine.run(list(graph.layers.values()))
        self.assertFalse(engine.holds(sent))
        self.assertIs(last.went_in("space/path/room"), sent)

    def test_what_can_only_be_made_as_a_whole_waits_for_the_loop(self):
        for semitones in (0.0, 7.0):
            graph = graph_of(stack_of(bars=2, space=Space(path=(PitchShift(id="p", semitones=semitones),))))
            if semitones:
                with self.assertRaises(NotAtOnce):
                    stretch_of([graph.output], graph.clock, 0, 5000)
                stretch_of([graph.output], graph.clock, 0, 5000, lambda each: each.name == "treat")
            else:
                self.assertEqual(run(graph, *stretch_of([graph.output], graph.clock, 0, 5000))[0].shape, (2, 5000))

    def test_a_delay_in_it_goes_round_the_seam(self):
        stack = stack_of(
            space=Space(path=(Delay(id="d", left_ms=700.0, right_ms=700.0, feedback=0.7, blend=1.0, dry_stays=False),))
        )
        once, both = (
            rendered(stack)["output"],
            rendered(stack.model_copy(update={"bars": 2, "pattern_bars": 1, "kick": Kick(hits=(0.0, 2.0, 4.0, 6.0))}))[
                "output"
            ],
        )
        np.testing.assert_allclose(both, np.tile(once, 2), atol=1e-5)


if __name__ == "__main__":
    unittest.main()
