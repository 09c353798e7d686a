"""Whole renders: the same bytes twice, loops that join, edits that compute only what they touch."""

import tracemalloc
import unittest
from threading import Event, Thread

import numpy as np
from numpy.testing import assert_allclose

from apilado.actions.warming import everything_on
from apilado.core.clock import Clock
from apilado.core.document.carving import CarvePair
from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import apply
from apilado.core.document.edits_borders import MoveCrossover
from apilado.core.document.edits_values import MovePart, SetValue
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import Equaliser, layer_path
from apilado.core.document.stack import Crossover, Limiter, SharedBus
from apilado.core.notes import Note
from apilado.core.parameters import parameters_of
from apilado.core.render import steps
from apilado.core.render.audition import Audition
from apilado.core.render.cache import StageCache, size_in_bytes
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import clock_of, dearest_layer
from apilado.core.render.stage import canonical, stage
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.compressor import Compressor
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.soft_clip import SoftClip
from apilado.demo.stacks import slipway
from apilado.demo.starts import demo_bundles
from apilado.errors import Overtaken
from tests.support import ENGINE, graph_of, loader, path_of, plain_stack, rendered


class RenderTest(unittest.TestCase):
    def test_two_renders_are_the_same_bytes(self):
        for number, bundle in enumerate(demo_bundles()):
            load, found = loader({asset.sha256: asset.content for asset in bundle.assets}), []
            for threads in (1, 3):
                engine = Engine(threads=threads)
                graph = graph_of(bundle.stack, load, looped=number % 2 == 0)
                found.append(engine.run([graph.output])[0].tobytes())
                engine.close()
            self.assertEqual(*found)

    def test_a_loops_end_joins_its_start(self):
        for bundle in demo_bundles():
            load = loader({asset.sha256: asset.content for asset in bundle.assets})
            bass = ENGINE.run([graph_of(bundle.stack, load).bass])[0].astype(np.float64)
            around = np.concatenate([bass[:, -2000:], bass[:, :2000]], axis=1)
            # A jump is a step that its neighbours do not lead up to.
            bends = np.abs(np.diff(around, n=2, axis=1))
            join = bends[:, 1997:2001].max()
            self.assertLessEqual(join, max(bends[:, :1990].max(), bends[:, 2010:].max()) + 1e-6, bundle.stack.name)

    def test_a_note_levels_ramp_goes_round_the_seam(self):
        # A held sine whose last note is 24 dB over its first: the level turns within the 4 ms before the seam, not at it.
        organ = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
        notes = (Note(length_beats=2.0, pitch=33), Note(start_beats=2.0, length_beats=2.0, pitch=45))
        layer = Layer(
            id="sub",
            source=organ,
            voice=Voice(envelope=Envelope(sustain=1.0, release_ms=500.0)),
            note_levels_db={33: -12.0, 45: 12.0},
        )
        levelled = rendered(plain_stack(layers=(layer,), pattern=notes))["sub"][0].astype(np.float64)
        gain = steps.note_gain({33: -12.0, 45: 12.0}, notes, Clock(120.0, 4.0, 48000, looped=True)).astype(float)
        self.assertLess(np.abs(np.diff(np.append(gain, gain[0]))).max(), 1.1 * (10**0.6 - 10**-0.6) / 192)
        self.assertAlmostEqual(gain[0], 10**-0.6, places=4)
        self.assertAlmostEqual(gain[-200], 10**0.6, places=4)
        self.assertLess(np.abs(np.diff(np.append(levelled, levelled[0]))).max(), 0.15)

    def test_a_cut_hit_fades(self):
        # A kick of three seconds on every beat: each is cut by the next within 2 ms, without a step.
        kick = Kick(sound=SynthKick(decay_ms=3000.0, click=0.0, drive_db=0.0), hits=(0.0, 1.0, 2.0, 3.0))
        track = rendered(plain_stack(kick=kick))["kick"][0].astype(np.float64)
        for beat in range(4):
            before = np.take(track, np.arange(24000 * beat - 200, 24000 * beat), mode="wrap")
            self.assertLess(np.abs(np.diff(before)).max(), 0.03)
            self.assertLess(np.abs(before[-2:]).max(), 0.03)

    def test_a_loop_is_what_the_second_round_plays(self):
        stack = slipway().stack
        # At 120 bpm every beat falls on a frame: both rounds are then the same to the sample.
        stack = stack.model_copy(update={"bars": 1, "tempo_bpm": 120.0})
        twice = stack.model_copy(
            update={
                "bars": 2,
                "pattern": stack.pattern[:5]
                + tuple(n.model_copy(update={"start_beats": n.start_beats + 4}) for n in stack.pattern[:5]),
                "kick": stack.kick.model_copy(update={"hits": tuple(float(b) for b in range(8))}),
            }
        )
        stack = stack.model_copy(update={"pattern": stack.pattern[:5]})
        loop, both = rendered(stack)["bass"], rendered(twice, looped=False)["bass"]
        frames = loop.shape[1]
        # The one pass has its second round after the first; copies with free phases would differ, these are fixed.
        at = clock_of(twice, looped=False).sample_at(4.0)
        assert_allclose(both[:, at : at + frames - 50], loop[:, : frames - 50], atol=2e-3)

    def test_mono_has_no_side_at_all(self):
        wide = ToneSource(tones=(Tone(copies=7, spread=1.0),))
        stack = plain_stack(layers=(Layer(id="sub", source=wide, mono=True, width=2.0, pan=0.7),))
        out = rendered(stack)["sub"]
        np.testing.assert_array_equal(out[0], out[1])

    def test_lengths(self):
        for rate in (44100, 48000, 96000):
            stack = plain_stack(tempo_bpm=87.0, bars=3, sample_rate=rate, layers=(Layer(id="a"),))
            self.assertEqual(rendered(stack)["bass"].shape, (2, int(12 * 60 / 87 * rate + 0.5)))
            once = rendered(stack, looped=False)["bass"]
            self.assertGreater(once.shape[1], 12 * 60 / 87 * rate)

    def test_mute_solo_and_sums(self):
        stack = slipway().stack
        sounds = rendered(stack)
        total = sum(sounds[layer.id].astype(np.float64) for layer in stack.layers)
        assert_allclose(sounds["bus_input"], total, atol=1e-5)
        muted = rendered(apply(stack, SetValue(path="layers/mid/mute", value=True)))
        assert_allclose(muted["bus_input"], sounds["sub"] + sounds["high"], atol=1e-6)
        alone = rendered(stack, audition=Audition(alone=("layers/mid",)))
        np.testing.assert_array_equal(alone["bus_input"], sounds["mid"])
        self.assertEqual(float(np.abs(alone["output"] - alone["bass"]).max()), 0.0)  # no kick

    def test_what_is_heard_alone(self):
        stack = slipway().stack
        sounds = rendered(stack)
        kick = rendered(stack, audition=Audition(alone=("kick",)))
        np.testing.assert_array_equal(kick["output"], sounds["kick"])
        both = rendered(stack, audition=Audition(alone=("kick", "layers/sub")))
        np.testing.assert_array_equal(both["bus_input"], sounds["sub"])
        self.assertGreater(float(np.abs(both["output"] - both["bass"]).max()), 0.1)
        # What is muted stays so, and what has gone from the document is passed over.
        muted = apply(stack, SetValue(path="layers/sub/mute", value=True))
        self.assertEqual(float(np.abs(rendered(muted, audition=Audition(alone=("layers/sub",)))["output"]).max()), 0.0)
        for gone in (
            Audition(alone=("layers/gone", "bus", "")),
            Audition(point="layers/mid/path/eq/points/7"),
            Audition(point="kick"),
        ):
            self.assertEqual((gone.soloed(stack), gone.focus(stack)), ((), None), gone)
            np.testing.assert_array_equal(rendered(stack, audition=gone)["output"], sounds["output"])

    def test_another_layers_sound_follows_its_parent(self):
        source = ToneSource(tones=(Tone(shape="saw"),))
        layers = (
            Layer(id="a", source=source, level_db=-6.0),
            Layer(id="b", source=LayerSound(layer="a")),
            Layer(id="c", source=LayerSound(layer="a", tap="treated"), level_db=0.0),
        )
        sounds = rendered(plain_stack(layers=layers))
        assert_allclose(sounds["b"], sounds["a"] * 10 ** (6 / 20), atol=1e-5)
        np.testing.assert_array_equal(sounds["b"], sounds["c"])

    def test_a_split_before_and_after_the_treatments_differ(self):
        source = ToneSource(tones=(Tone(shape="saw"), Tone(shape="saw", semitones=7)))
        layer = Layer(id="a", source=source, span=Span(first=1, last=1), path=path_of(SoftClip(drive_db=24.0)))
        stack = plain_stack(layers=(layer,), crossovers=(Crossover(frequency_hz=400.0, slope_db_per_octave=48),))
        low = {}
        split_id = layer.path[0].id
        for split in ("before", "after"):
            moved = apply(stack, MovePart(path=f"layers/a/path/{split_id}", to=0 if split == "before" else 1))
            out = rendered(moved)["a"]
            level = np.abs(np.fft.rfft(out[0])) ** 2
            at = np.fft.rfftfreq(out.shape[1], 1 / 48000)
            low[split] = level[at < 150].sum() / level.sum()
        # What the drive throws under the border is removed only where the split comes after it.
        self.assertGreater(low["before"], 100 * low["after"])

    def test_note_levels(self):
        source = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
        held = Voice(envelope=Envelope(sustain=1.0))
        layer = Layer(id="sub", source=source, voice=held, note_levels_db={33: 6.0})
        plain = plain_stack(layers=(Layer(id="sub", source=source, voice=held),))
        louder = rendered(plain_stack(layers=(layer,)))["sub"]
        first = slice(2000, 20000)
        assert_allclose(louder[:, first], rendered(plain)["sub"][:, first] * 10 ** (6 / 20), atol=1e-4)
        assert_allclose(louder[:, 26000:40000], rendered(plain)["sub"][:, 26000:40000], atol=1e-6)


class CornersTest(unittest.TestCase):
    """No parameter that the model admits makes a NaN or an infinity."""

    def corners(self, model, **fixed):
        parameters = [p for p in parameters_of(model) if p.name not in fixed]
        for end in ("low", "high"):
            values = {p.name: getattr(p, end) for p in parameters if p.kind in ("number", "integer")}
            yield values
            for parameter in parameters:
                if parameter.kind in ("number", "integer"):
                    yield {parameter.name: getattr(parameter, end)}
        for parameter in parameters:
            if parameter.kind == "choice":
                for value, _ in parameter.choices:
                    yield {parameter.name: value}

    def check(self, stack, values):
        sounds = rendered(stack)
        for name, audio in sounds.items():
            self.assertTrue(np.all(np.isfinite(audio)), (name, values))

    def test_tones_and_envelopes(self):
        pattern = (Note(length_beats=0.5, pitch=36), Note(start_beats=0.5, pitch=48, slide=True))
        short = {"bars": 1, "beats_per_bar": 1, "pattern": pattern}
        for values in self.corners(Tone):
            if values.get("copies", 1) == 16 and values.get("octave") == 4:
                values["copies"] = 3
            self.check(
                plain_stack(layers=(Layer(id="a", source=ToneSource(tones=(Tone(**values),))),), **short), values
            )
        for values in self.corners(Envelope):
            voice = Voice(envelope=Envelope(**values))
            self.check(plain_stack(layers=(Layer(id="a"),), voice=voice, **short), values)
        for values in self.corners(Voice):
            self.check(plain_stack(layers=(Layer(id="a", voice=Voice(**values)),), **short), values)

    def test_treatments(self):
        for model in TREATMENTS:
            for values in self.corners(model):
                layer = Layer(id="a", path=path_of(model(**values)))
                self.check(plain_stack(layers=(layer,), bars=1, beats_per_bar=1), (model, values))

    def test_layers_bus_duck_and_kick(self):
        base = slipway().stack.model_copy(update={"bars": 1})
        shared = SharedBus(on=True, path=(Compressor(),), limiter=Limiter())
        pair = CarvePair(id="pair", dip="layers/mid/path/eq", lift="kick/eq")
        base = base.model_copy(
            update={"shared": shared, "pairs": (pair,), "kick": base.kick.model_copy(update={"hits": (0.0, 1.5)})}
        )
        parts = {
            "layers/mid": base.layer("mid"),
            "duckers/duck": base.duckers[0],
            "duckers/duck/shape": base.duckers[0].shape,
            "bus/limiter": base.bus.limiter,
            "shared": shared,
            "pairs/pair": pair,
            "kick": base.kick,
            "kick/sound": base.kick.sound,
        }
        for path, part in parts.items():
            model = type(part)
            for values in self.corners(model):
                stack = base
                for name, value in values.items():
                    stack = apply(stack, SetValue(path=f"{path}/{name}", value=value))
                self.check(stack, values)

    def test_everything_on(self):
        stack = everything_on(slipway().stack.model_copy(update={"bars": 1}))
        used = {type(one) for layer in stack.layers for _, one in stack.treatments(f"layers/{layer.id}")}
        self.assertEqual(used, set(TREATMENTS))
        self.check(stack, "everything")
        self.check(stack.model_copy(update={"sample_rate": 96000}), "everything at 96 kHz")

    def test_drawn_ducks(self):
        base = slipway().stack.model_copy(update={"bars": 1})
        for values in self.corners(DrawnDuck):
            self.check(base.model_copy(update={"duckers": (Ducker(shape=DrawnDuck(**values)),)}), values)

    def test_eq_points_at_every_rate(self):
        from apilado.core.document.equaliser import POINTS

        for rate in (44100, 96000):
            for model in POINTS:
                for values in self.corners(model):
                    phase = "linear-phase" if rate == 44100 else "minimum-phase"
                    layer = Layer(id="a", path=layer_path(Equaliser(points=(model(**values),), phase=phase)))
                    self.check(plain_stack(layers=(layer,), bars=1, beats_per_bar=1, sample_rate=rate), (model, values))

    def test_extreme_pitches(self):
        for pitch in (0, 127):
            self.check(plain_stack(layers=(Layer(id="a"),), pattern=(Note(pitch=pitch),)), pitch)


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
        engine.once = lambda s, inputs, token: calls.append(s.name) or original(s, inputs, token)
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

    def test_what_is_heard_waits_for_nothing_that_runs_behind_it(self):
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
        behind = Thread(target=lambda: found.append(engine.run([wanted], Token(behind=True))[0]))
        behind.start()
        self.assertTrue(begun.wait(60.0))
        heard = Thread(target=lambda: found.append(engine.run([wanted])[0]))
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
