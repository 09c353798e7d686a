"""Frozen layers: as they were rendered, for nothing, and never what the document is not."""

import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.document.addresses import replaced
from apilado.core.document.frozen import FrozenSound
from apilado.core.formats.audio_files import write_audio
from apilado.core.render.audition import Audition
from apilado.core.render.builder import Builder
from apilado.core.render.engine import Engine
from apilado.core.render.freezing import frozen_sound, print_of, still_of, thawed
from apilado.core.render.graph import build, clock_of
from apilado.core.render.listening import stack_for
from apilado.core.render.stretch import NotAtOnce, stretch_of
from apilado.core.sources.layer_sound import LayerSound
from apilado.demo.stacks import slipway
from tests.seeded.sectioned import drawn_sections
from tests.seeded.stacks import Dice, seeded_stack, seeds
from tests.support import ENGINE, loader, noise, sha256


def frozen(stack, load, *names, rate_hz=None):
    """(the stack with some layers frozen, a loader of what is kept too)."""
    rate, files = rate_hz or stack.sample_rate, {}
    for name in names:
        layer, kept = stack.layer(name), []
        for looped in (True, False):
            graph = build(stack, clock_of(stack, looped=looped, rate_hz=rate), load)
            content = write_audio(ENGINE.run([graph.shaped[name]])[0], rate, bits="32f")
            files[sha256(content)] = content
            kept.append(sha256(content))
        builder = Builder(stack, clock_of(stack, looped=True, rate_hz=rate), load)
        sound = FrozenSound(rate_hz=rate, of=print_of(builder, layer), loop=kept[0], one_pass=kept[1])
        layers = tuple(
            each.model_copy(update={"frozen": (sound,)}) if each.id == name else each for each in stack.layers
        )
        stack = stack.model_copy(update={"layers": layers})
    held = loader(files)
    return stack, lambda sha, at: held(sha, at) if sha in files else load(sha, at)


class FrozenTest(unittest.TestCase):
    def test_the_mix_is_what_it_was(self):
        for seed in seeds(3, first=40):
            stack, load = seeded_stack(seed)
            if seed % 2:
                stack = drawn_sections(Dice(seed), stack)
            named = [layer.id for layer in stack.layers][: 1 + seed % 3]
            cold, both = frozen(stack, load, *named)
            for looped in (True, False):
                clock = clock_of(stack, looped=looped)
                before, after = build(stack, clock, load), build(cold, clock, both)
                self.assertEqual(after.frozen, set(named))
                was, now = ENGINE.run([before.output, after.output])
                with self.subTest(seed=seed, looped=looped):
                    np.testing.assert_allclose(now, was, atol=1e-6)

    def test_nothing_of_it_is_rendered(self):
        stack = slipway().stack
        cold, load = frozen(stack, loader({}), "mid")
        spent = {}
        for each in (stack, cold):
            graph = build(each, clock_of(each, looped=True), load)
            seen, waiting = set(), [graph.layers["mid"]]
            while waiting:
                stage = waiting.pop()
                seen.add(stage.name)
                waiting += stage.inputs
            spent[each is cold] = seen
            within = [address for address in graph.passed if address.startswith("layers/mid/")]
            self.assertEqual(bool(within), each is stack)
        self.assertIn("play_source", spent[False])
        self.assertNotIn("play_source", spent[True])
        self.assertIn("frozen_sound", spent[True])

    def test_another_rate_is_rendered(self):
        cold, load = frozen(slipway().stack, loader({}), "mid")
        self.assertEqual(build(cold, clock_of(cold, looped=True, rate_hz=44100), load).frozen, set())

    def test_what_stays_live(self):
        cold, load = frozen(slipway().stack, loader({}), "mid")
        clock = clock_of(cold, looped=True)
        for path, value in (
            ("layers/mid/level_db", -20.0),
            ("layers/mid/width", 0.2),
            ("layers/mid/send", 0.5),
            ("layers/mid/mute", True),
            ("duckers/duck/amounts/mid", 0.2),
            ("bus/level_db", -3.0),
            ("layers/high/transpose", 12),
            ("kick/level_db", -9.0),
        ):
            with self.subTest(path):
                changed = replaced(cold, path, value)
                self.assertTrue(still_of(Builder(changed, clock, load), changed.layer("mid")))
                self.assertEqual(build(changed, clock, load).frozen, {"mid"})

    def test_what_it_is_made_of_thaws_it(self):
        cold, load = frozen(slipway().stack, loader({}), "mid")
        crossover = cold.crossovers[0].id
        for path, value in (
            ("layers/mid/transpose", 1),
            (f"layers/mid/path/{cold.layer('mid').path[-1].id}/on", False),
            (f"crossovers/{crossover}/frequency_hz", 130.0),
            ("tempo_bpm", 127.0),
            ("seed", 99),
            ("pattern", cold.pattern[:-1]),
            ("voice/glide_ms", 50.0),
        ):
            with self.subTest(path):
                changed = replaced(cold, path, value)
                clock = clock_of(changed, looped=True)
                self.assertFalse(still_of(Builder(changed, clock, load), changed.layer("mid")))
                graph, plain = build(changed, clock, load), build(thawed(changed, "mid"), clock, load)
                self.assertEqual((graph.frozen, graph.output.key), (set(), plain.output.key))

    def test_a_layer_that_takes_its_source_renders_that(self):
        stack = slipway().stack  # high takes the sound of mid, as it is before its path
        cold, load = frozen(stack, loader({}), "mid")
        clock = clock_of(stack, looped=True)
        was, now = ENGINE.run([build(stack, clock, load).layers["high"], build(cold, clock, load).layers["high"]])
        np.testing.assert_array_equal(was, now)

    def test_it_stays_frozen_whatever_else_is(self):
        """A layer that takes another's treated sound, and that other, frozen one after the other."""
        stack = slipway().stack
        source = LayerSound(layer="mid", tap="treated")
        layers = tuple(
            each.model_copy(update={"source": source}) if each.id == "high" else each for each in stack.layers
        )
        stack = stack.model_copy(update={"layers": layers})
        for first, second in (("high", "mid"), ("mid", "high")):
            once, load = frozen(stack, loader({}), first)
            twice, both = frozen(once, load, second)
            for looped in (True, False):
                clock = clock_of(stack, looped=looped)
                graph = build(twice, clock, both)
                self.assertEqual(graph.frozen, {"mid", "high"})
                was, now = ENGINE.run([build(stack, clock, both).output, graph.output])
                np.testing.assert_allclose(now, was, atol=1e-6)
            builder = Builder(twice, clock_of(twice, looped=True), both)
            self.assertTrue(all(still_of(builder, each) for each in twice.layers))

    def test_a_stretch_is_cut_out_of_it(self):
        cold, load = frozen(slipway().stack, loader({}), "mid")
        clock = clock_of(cold, looped=True)
        graph, engine = build(cold, clock, load), Engine()
        (whole,) = engine.run([graph.shaped["mid"]])
        for begins in (0, clock.frames - 500):
            try:
                (part,) = Engine().run(stretch_of([graph.shaped["mid"]], clock, begins, 1500))
            except NotAtOnce as error:
                self.fail(str(error))
            np.testing.assert_array_equal(part, whole[:, (begins + np.arange(1500)) % clock.frames])
        engine.close()

    def test_a_single_pass_is_as_long_as_it_is_asked_for(self):
        audio = noise(1000)
        for beats in (0.5, 1.0):
            clock = Clock(tempo_bpm=60.0, beats=beats, rate_hz=1000, looped=False)
            found = frozen_sound(asset="a" * 64, clock=clock, load=lambda sha, rate: audio[:, :800])
            self.assertEqual(found.shape, (2, clock.frames))
            np.testing.assert_array_equal(found[:, :500], audio[:, :500])
            self.assertFalse(np.any(found[:, 800:]))

    def test_one_step_alone_is_rendered(self):
        cold, _ = frozen(slipway().stack, loader({}), "mid")
        step = f"layers/mid/path/{cold.layer('mid').path[-1].id}"
        self.assertEqual(stack_for(cold, Audition(only=step)).layer("mid").frozen, ())
        self.assertTrue(stack_for(cold, Audition(only="kick")).layer("mid").frozen)
