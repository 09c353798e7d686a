"""Whole renders: the same bytes twice, loops that join, and what lies at the ends of ranges."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.actions.warming import everything_on
from apilado.core.clock import Clock
from apilado.core.document.carving import CarvePair
from apilado.core.document.ducker import Ducker
from apilado.core.document.edits import apply
from apilado.core.document.edits_values import MovePart, SetValue
from apilado.core.document.kick import Kick, SynthKick
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import Equaliser, layer_path
from apilado.core.document.stack import Crossover, Limiter, SharedBus
from apilado.core.notes import Note
from apilado.core.parameters import parameters_of
from apilado.core.render import steps
from apilado.core.render.audition import Audition
from apilado.core.render.engine import Engine
from apilado.core.render.graph import clock_of
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
