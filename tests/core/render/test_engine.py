"""Stages in the engine and its cache: what is computed, once, and what is kept of it."""

import gc
import tracemalloc
import unittest
import weakref
from threading import Event, Thread
from time import sleep, thread_time

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer, Span
from apilado.core.document.stack import Crossover
from apilado.core.dsp.agreement import correlations
from apilado.core.dsp.breaking_off import PIECE, broken_off_by, may_break_off
from apilado.core.dsp.filters import dc_blocker, filtered
from apilado.core.dsp.stereo import placed
from apilado.core.measure.loudness import loop_power, true_peak
from apilado.core.measure.spectrum import mid_and_side, spectrum_of
from apilado.core.render.audition import Audition
from apilado.core.render.cache import StageCache, size_in_bytes
from apilado.core.render.engine import Engine, Rank, Token
from apilado.core.render.graph import clock_of, dearest_layer
from apilado.core.render.stage import canonical, stage
from apilado.core.render.steps import mix
from apilado.core.sources.base import Score
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.reverb import Reverb
from apilado.core.treatments.soft_clip import SoftClip
from apilado.demo.stacks import slipway
from apilado.errors import Overtaken
from tests.support import graph_of, loader, noise, path_of, plain_stack, rendered


class StagesTest(unittest.TestCase):
    def test_of_a_stack_there_is_one_graph(self):
        stack, load = slipway().stack, loader({})
        found = graph_of(stack, load)
        self.assertIs(graph_of(stack, load, audition=Audition()), found)
        for other in (
            graph_of(stack.model_copy(), load),
            graph_of(stack, loader({})),
            graph_of(stack, load, looped=False),
            graph_of(stack, load, audition=Audition(alone=("kick",))),
            graph_of(stack, load, audition=Audition(trial={"op": "none"})),
        ):
            self.assertIsNot(other, found)

    def test_an_edit_computes_its_own_stage_and_what_hangs_on_it(self):
        engine = Engine()
        stack = slipway().stack
        engine.run([graph_of(stack).output])
        calls = []
        original = engine.once
        engine.once = lambda s, *told: calls.append(s.name) or original(s, *told)
        engine.run([graph_of(apply(stack, SetValue(path="layers/mid/path/eq/points/dip/gain_db", value=-6.0))).output])
        self.assertEqual(
            sorted(calls),
            sorted(["equalise", "place", "duck_layer", *["mix"] * 3, "equalise", "scale", "limit_reduction", "limit"]),
        )
        calls.clear()
        engine.run([graph_of(stack).output])
        self.assertEqual(calls, [])
        engine.run([graph_of(apply(stack, MoveCrossover(crossover="lower", frequency_hz=150.0))).output])
        self.assertNotIn("play_source", calls)
        self.assertEqual(calls.count("split_bands"), 3)
        engine.close()

    def test_which_layer_a_render_went_into(self):
        engine, token = Engine(), Token()
        many = ToneSource(tones=tuple(Tone(shape="saw", copies=16) for _ in range(4)))
        layers = (Layer(id="a"), Layer(id="b", source=many, path=path_of(SoftClip(oversampling=8))))
        graph = graph_of(plain_stack(layers=layers))
        self.assertIsNone(dearest_layer(graph, token.spent))
        engine.run([graph_of(plain_stack(layers=layers, tempo_bpm=110.0)).output])  # the kernels are loaded by then
        engine.run([graph.output], token)
        name, share = dearest_layer(graph, token.spent)
        self.assertEqual(name, "b")
        self.assertGreater(share, 0.5)
        again = Token()
        engine.run([graph.output], again)  # everything is there: nothing is spent
        self.assertEqual(again.spent, {})
        engine.close()

    def test_keys_tell_everything_apart(self):
        self.assertNotEqual(canonical((1, 23)), canonical((12, 3)))
        self.assertNotEqual(canonical("1"), canonical(1))
        with self.assertRaisesRegex(TypeError, "not list"):
            canonical([1])
        one = stage(np.zeros, shape=3)
        self.assertEqual(one.key, stage(np.zeros, shape=3).key)
        self.assertNotEqual(one.key, stage(np.zeros, shape=4).key)
        self.assertEqual(stage(np.zeros, shape=3, context={"dtype": float}).key, one.key)

    def test_the_cache_keeps_to_its_limit(self):
        cache = StageCache(10_000)
        for index in range(10):
            cache.put(bytes([index]), np.zeros(250, np.float64))
        self.assertLessEqual(cache.used_bytes, 10_000)
        self.assertIsNone(cache.get(bytes([0])))
        self.assertIsNotNone(cache.get(bytes([9])))
        cache.get(bytes([5]))
        cache.put(bytes([20]), np.zeros(500))
        self.assertIsNotNone(cache.get(bytes([5])))
        self.assertIsNone(cache.get(bytes([6])))
        self.assertEqual(size_in_bytes((np.zeros(100), {"a": np.zeros(50)})), 1200)
        cache.clear()
        self.assertEqual(cache.used_bytes, 0)

    def test_what_is_dear_to_make_stays_until_it_has_not_been_asked_for_in_long(self):
        cache = StageCache(10_000)
        cache.put(b"dear", np.zeros(250), seconds=1.0)
        cache.put(b"also dear", np.zeros(250), seconds=0.8)
        for index in range(50):
            cache.put(bytes([index]), np.zeros(250), seconds=0.05)
            self.assertIsNotNone(cache.get(b"dear"), index)
        self.assertLessEqual(cache.used_bytes, 10_000)
        # It is not kept for ever: what has left since has raised the rank that is asked of all.
        self.assertIsNone(cache.get(b"also dear"))

    def test_what_is_in_use_leaves_last(self):
        cache = StageCache(10_000)
        for _ in range(2):
            cache.use(b"in use")
        cache.put(b"in use", np.zeros(250))
        for let_go in (False, True, True):
            for index in range(9):
                cache.put(bytes([index]), np.zeros(250), seconds=1.0)
            self.assertIsNotNone(cache.get(b"in use"), let_go)
            cache.let_go(b"in use") if let_go else None
        for index in range(9):
            cache.put(bytes([index]), np.zeros(250), seconds=9.0)
        self.assertIsNone(cache.get(b"in use"))
        # Where everything else is in use, something has to leave all the same.
        for name in (b"a", b"b"):
            cache.use(name)
            cache.put(name, np.zeros(700))
        self.assertLessEqual(cache.used_bytes, 10_000)

    def test_a_run_says_what_it_has_in_hand(self):
        engine, seen = Engine(threads=1), []
        engine.cache.use, engine.cache.let_go = (
            lambda key: seen.append(("use", key)),
            lambda key: seen.append(("go", key)),
        )

        def made(*parts, name):
            return np.zeros(1)

        made.__module__ = "apilado.core.render.steps"  # what is heard
        first = stage(made, name="first")
        behind = [stage(made, first, name=name) for name in ("second", "third")]
        engine.run([first])
        self.assertEqual(seen, [("use", first.key), ("go", first.key)])
        seen.clear()
        engine.run(behind)
        engine.close()
        keys = [each.key for each in behind]
        wanted = [("use", first.key), ("use", keys[0]), ("use", keys[1]), ("go", first.key)]
        self.assertEqual(seen[:4], wanted)
        self.assertEqual(sorted(seen[4:]), sorted(("go", key) for key in keys))

    def test_layers_are_let_go_one_by_one(self):
        def held_bytes(layers):
            engine = Engine(cache_bytes=1, threads=1)
            many = tuple(Layer(id=f"l{index}", level_db=-float(index)) for index in range(layers))
            graph = graph_of(plain_stack(layers=many))
            engine.run([graph.sources["l0"]])  # what the layers share is there, with all that it needed
            tracemalloc.start()
            engine.run([graph.output])
            _, most = tracemalloc.get_traced_memory()
            tracemalloc.stop()
            engine.close()
            return most

        few, many = held_bytes(3), held_bytes(12)
        self.assertLess(many, 1.2 * few)

    def test_what_has_been_dear_before_is_begun_in_time(self):
        done, clock = [], clock_of(plain_stack(), looped=True)

        def played(name, clock):
            done.append(name)
            return np.zeros(clock.frames)

        def quick(sound, clock):
            done.append("quick")
            return sound

        def dear(sound, clock):
            until = thread_time() + 0.02
            while thread_time() < until:
                pass
            done.append("dear")
            return sound

        for _ in range(2):
            done.clear()
            engine = Engine(threads=1)
            sources = [stage(played, name=name, clock=clock) for name in ("first", "second")]
            engine.run([stage(np.add, stage(quick, sources[0], clock=clock), stage(dear, sources[1], clock=clock))])
            engine.close()
        self.assertEqual(done, ["second", "dear", "first", "quick"])

    def test_what_lets_go_of_more_than_it_makes_is_not_put_off(self):
        done, engine = [], Engine(threads=1)

        def made(*parts, name):
            done.append(name)
            return np.zeros(1)

        layers = [stage(made, name=f"layer {n}") for n in range(3)]
        heard = [stage(made, layer, name=f"measured {n}") for n, layer in enumerate(layers)]
        total = stage(made, stage(made, *layers[:2], name="sum 1", kept=False), layers[2], name="sum 2")
        engine.run([*heard, total])
        engine.close()
        # The sum of two layers comes before the third is begun, though it is asked for last.
        self.assertEqual(done[:5], ["layer 0", "measured 0", "layer 1", "measured 1", "sum 1"])
        self.assertEqual(done[5:], ["layer 2", "measured 2", "sum 2"])

    def test_a_sum_is_the_sum_in_the_order_of_its_layers(self):
        layers = tuple(Layer(id=f"l{index}", transpose=index, level_db=-3.0 * index) for index in range(5))
        out = rendered(plain_stack(layers=layers))
        total = np.zeros_like(out["l0"])
        for layer in layers:
            total += out[layer.id]
        np.testing.assert_array_equal(out["bus_input"], total)

    def test_an_overtaken_render_stops_before_its_next_stage(self):
        engine, begun, go = Engine(threads=1), Event(), Event()
        ran = []

        def slow():
            begun.set()
            go.wait(5)
            return np.zeros(1)

        def later(source):
            ran.append(source)
            return source

        token, caught = Token(), []

        def run():
            try:
                engine.run([stage(later, stage(slow))], token)
            except Overtaken as error:
                caught.append(error)

        thread = Thread(target=run)
        thread.start()
        begun.wait(5)
        token.overtake()
        go.set()
        thread.join(5)
        self.assertEqual((len(caught), ran), (1, []))
        engine.close()

    def test_a_long_stage_is_broken_off_between_its_pieces_and_whoever_waits_for_it_makes_it(self):
        engine, tokens, begun, waits = Engine(threads=2), [Token(), Token()], [], Event()

        def long_one():
            begun.append(1)
            if len(begun) > 1:
                return "made"
            waits.set()
            for _ in range(5_000_000):
                may_break_off()
            return None

        wanted, found = stage(long_one), []

        def run(token):
            try:
                found.extend(engine.run([wanted], token))
            except Overtaken as error:
                found.append(error)

        runs = [Thread(target=run, args=(token,)) for token in tokens]
        runs[0].start()
        waits.wait()
        runs[1].start()
        tokens[0].overtake()
        for each in runs:
            each.join()
        self.assertEqual(sorted(map(type, found), key=str), [Overtaken, str])
        self.assertEqual(len(begun), 2)
        may_break_off()  # outside of a run nobody asks
        engine.close()

    def test_what_runs_behind_waits_between_its_pieces_while_something_is_heard_and_for_no_job(self):
        self.assertEqual(self.behind_and(Token()), ["other", "behind"])
        self.assertEqual(self.behind_and(Token(waited_for=False)), ["behind", "other"])

    def test_the_loop_waits_between_its_pieces_while_a_stretch_is_rendered_which_has_threads_of_its_own(self):
        for threads in (1, 2):
            self.assertEqual(self.behind_and(Token(), Token(), threads, soon=True), ["other", "behind"])

    def test_who_goes_first_does_not_wait_for_itself(self):
        engine, found = Engine(threads=1), []
        self.addCleanup(engine.close)

        def first():
            with engine.going_first(Rank.SOON):
                found.extend(engine.run([stage(lambda: 1.0)]))
                engine.check(Token(behind=True))
            found.append(engine._way.mine())

        alone = Thread(target=first, daemon=True)
        alone.start()
        alone.join(60.0)
        self.assertEqual(found, [1.0, Rank.BEHIND])

    def behind_and(self, token, lower=None, threads=2, **how):
        """In which order something that runs behind and something else come to their ends."""
        engine, order, go = Engine(threads=threads), [], [Event(), Event()]
        lower = lower or Token(behind=True)
        begun, asked = [Event(), Event()], Event()

        def behind():
            begun[0].set()
            go[0].wait()
            asked.set()
            may_break_off()
            order.append("behind")

        def other():
            begun[1].set()
            go[1].wait()
            order.append("other")

        runs = [
            Thread(target=engine.run, args=([stage(behind)], lower)),
            Thread(target=engine.run, args=([stage(other)], token), kwargs=how),
        ]
        for thread, event in zip(runs, begun, strict=True):
            thread.start()
            event.wait()
        go[0].set()
        asked.wait()
        for _ in range(20 if token.waited_for else 6000):  # time enough for it to go on, if it does
            if not order:
                sleep(0.01)
        go[1].set()
        for thread in runs:
            thread.join()
        engine.close()
        return order

    def test_what_takes_long_asks_whether_it_is_still_wanted(self):
        stack, clock = slipway().stack, clock_of(slipway().stack, looped=True)
        sound, score = noise(clock.frames), Score(stack.pattern, 0, 0, Voice())
        pieces = clock.frames // PIECE
        for least, work in (
            (pieces, lambda: SoftClip(oversampling=4).process(sound, clock)),
            (len(stack.pattern), lambda: stack.layer("mid").source.render(score, clock, loader({}))),
            (pieces, lambda: loop_power(sound, 48000)),
            (pieces, lambda: true_peak(sound)),
            (pieces, lambda: filtered(sound, dc_blocker(48000), looped=True)),
            (4 * pieces, lambda: spectrum_of(sound, rate_hz=48000)),
            (3 * pieces, lambda: spectrum_of(sound[:1], rate_hz=48000)),
            (pieces, lambda: mid_and_side(sound, low_hz=30.0, high_hz=90.0, rate_hz=48000)),
            (pieces, lambda: Reverb().process(sound, clock)),
            (pieces, lambda: placed(sound, width=0.5, mono=False, pan=0.1, gain=0.5)),
            (pieces, lambda: mix(sound, sound, frames=clock.frames)),
            (2, lambda: correlations(sound[0], sound[1], 100)),
        ):
            asked = []
            with broken_off_by(lambda asked=asked: asked.append(1)):
                work()
            self.assertGreaterEqual(len(asked), max(least, 2))

    def test_what_a_run_that_was_broken_off_held_is_let_go_of(self):
        token, held = Token(), []

        def made():
            sound = np.zeros(10)
            held.append(weakref.ref(sound))
            return sound

        def broken(source):
            token.overtake()
            may_break_off()

        engine = Engine(threads=1)
        gc.disable()  # nobody looks for what holds itself
        self.addCleanup(gc.enable)
        try:  # `assertRaises` would empty the frames of what it caught
            engine.run([stage(broken, stage(made, kept=False))], token)
        except Overtaken:
            caught = True
        engine.close()
        self.assertTrue(caught)
        self.assertIsNone(held[0]())

    def test_a_failing_stage_fails_the_run_and_nothing_is_kept(self):
        engine = Engine(threads=2)

        def broken():
            raise ValueError("broken on purpose")

        for _ in range(2):
            with self.assertRaisesRegex(ValueError, "broken on purpose"):
                engine.run([stage(broken)])
        engine.close()

    def test_many_runs_at_once_compute_a_stage_once(self):
        engine, counted = Engine(threads=2), []

        def once():
            counted.append(1)
            return np.zeros(10)

        shared = stage(once)
        tops = [stage(np.add, shared, shared), stage(np.subtract, shared, shared), stage(np.multiply, shared, shared)]
        threads = [Thread(target=engine.run, args=([top],)) for top in tops for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(10)
        self.assertEqual(len(counted), 1)
        engine.close()

    def test_two_runs_share_a_thread_from_stage_to_stage(self):
        engine, order, begun, go = Engine(threads=1), [], Event(), Event()
        self.addCleanup(engine.close)

        def made(*before, name):
            if not begun.is_set():
                begun.set()
                go.wait(60.0)
            order.append(name)
            return 0.0

        long = stage(made, name="long 0")
        for number in range(1, 4):
            long = stage(made, long, name=f"long {number}")
        runs = [Thread(target=engine.run, args=([each],)) for each in (long, stage(made, name="short"))]
        runs[0].start()
        self.assertTrue(begun.wait(60.0))
        runs[1].start()
        while runs[0].is_alive() and not engine.waiting(Rank.USUAL):
            sleep(0.001)
        go.set()
        for run in runs:
            run.join(60.0)
        self.assertEqual(order, ["long 0", "short", "long 1", "long 2", "long 3"])

    def test_what_is_heard_waits_for_nothing_that_runs_behind_it(self):
        for lower, soon in ((Token(behind=True), False), (Token(), True)):
            self.computed_twice(lower, soon)

    def computed_twice(self, lower, soon):
        engine, begun, go, came = Engine(threads=2), Event(), Event(), []
        self.addCleanup(engine.close)
        self.addCleanup(go.set)

        def twice():
            came.append(None)
            if len(came) == 1:
                begun.set()
                go.wait(60.0)
            return np.full(1, float(len(came)))

        wanted, found = stage(twice), []
        behind = Thread(target=lambda: found.append(engine.run([wanted], lower)[0]))
        behind.start()
        self.assertTrue(begun.wait(60.0))
        heard = Thread(target=lambda: found.append(engine.run([wanted], soon=soon)[0]))
        heard.start()
        heard.join(60.0)
        self.assertEqual([float(each[0]) for each in found], [2.0])
        go.set()
        behind.join(60.0)
        self.assertEqual(len(came), 2)
        self.assertIsNotNone(engine.at_hand(wanted))

    def test_results_are_read_only(self):
        out = rendered(plain_stack(layers=(Layer(id="a"),)))["bass"]
        with self.assertRaises(ValueError):
            out[0, 0] = 1.0

    def test_a_stack_without_layers_or_crossovers_renders(self):
        self.assertEqual(float(np.abs(rendered(plain_stack())["output"]).max()), 0.0)
        layers = (Layer(id="a", span=Span(first=0, last=1)),)
        whole = rendered(plain_stack(layers=layers, crossovers=(Crossover(),)))["a"]
        bare = rendered(plain_stack(layers=(Layer(id="a"),)))["a"]
        level = [np.abs(np.fft.rfft(x[0]))[20:8000] for x in (whole, bare)]
        strong = level[1] > level[1].max() / 300
        assert_allclose(level[0][strong], level[1][strong], rtol=0.02)
