import unittest

import numpy as np

from apilado.core.document.edits import apply, edit_from_data
from apilado.core.document.edits_borders import AddCrossover, MergeLayers, PutSubUnder, SplitLayer, SubInPlaceOf
from apilado.core.document.edits_layers import SetSource
from apilado.core.document.layer import Layer, Span
from apilado.core.document.path import every_treatment
from apilado.core.document.stack import Crossover, Stack
from apilado.core.notes import Note
from apilado.core.render.engine import Engine
from apilado.core.soundings.low_end import border_advice, fold_down_bands, shapes, shifts, subs_in_place, subs_under
from apilado.core.soundings.measures import measure
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Voice
from apilado.core.sources.wave import Tone
from apilado.demo.stacks import lock_gate, rope_walk, slipway
from apilado.errors import InvalidEdit
from tests.support import ENGINE, loader, path_of, plain_stack, rendered, without_ids

STACK = slipway().stack


class SplitAndMergeTest(unittest.TestCase):
    def test_a_layer_is_cut_in_two(self):
        cut = apply(STACK, SplitLayer(layer="mid", frequency_hz=300.0))
        self.assertEqual([x.id for x in cut.layers], ["sub", "mid", cut.layers[2].id, "high"])
        self.assertEqual([(x.span.first, x.span.last) for x in cut.layers], [(0, 0), (1, 1), (2, 2), (3, 3)])
        upper = cut.layers[2]
        self.assertEqual(upper.name, "upper mid")
        self.assertEqual((upper.source.kind, upper.source.layer), ("layer", "mid"))
        mid = cut.layer("mid")
        self.assertEqual(without_ids(upper.path), without_ids(mid.path))
        # Both halves are ducked by as much as the whole was.
        self.assertEqual(STACK.duckers[0].amount("mid"), 0.8)
        self.assertEqual([cut.duckers[0].amount(name) for name in ("mid", upper.id, "high")], [0.8, 0.8, 0.5])

    def test_it_is_cut_wherever_a_hand_puts_it(self):
        # A border lies at a tenth of a hertz: what a hand cuts at lies a little above it, or below.
        for hertz in (267.5463407387822, 267.46, 300.04999, 300.05001):
            layers = apply(STACK, SplitLayer(layer="mid", frequency_hz=hertz)).layers
            self.assertEqual([layer.span.first for layer in layers], list(range(len(layers))))

    def test_both_halves_sum_to_the_whole_where_nothing_is_treated(self):
        stack = plain_stack(layers=(Layer(id="a", name="a"),), crossovers=())
        whole = rendered(stack)["bass"]
        halves = rendered(apply(stack, SplitLayer(layer="a", frequency_hz=400.0)))["bass"]
        levels = [np.abs(np.fft.rfft(x[0].astype(float))) for x in (whole, halves)]
        strong = levels[0] > levels[0].max() / 200
        np.testing.assert_allclose(levels[1][strong], levels[0][strong], rtol=0.02)

    def test_merging_takes_it_back(self):
        cut = apply(STACK, SplitLayer(layer="mid", frequency_hz=300.0))
        again = apply(cut, SplitLayer(layer=cut.layers[2].id, frequency_hz=450.0))
        self.assertEqual(again.layers[3].name, "upper mid 2")
        back = apply(cut, MergeLayers(layer="mid", upper=cut.layers[2].id))
        self.assertEqual([x.id for x in back.layers], ["sub", "mid", "high"])
        self.assertEqual(back.crossovers, STACK.crossovers)
        self.assertEqual([x.span for x in back.layers], [x.span for x in STACK.layers])

    def test_a_layer_that_others_hang_on_can_be_merged_away(self):
        merged = apply(STACK, MergeLayers(layer="mid", upper="high"))
        self.assertEqual((merged.layer("mid").span.last, len(merged.crossovers)), (1, 1))

    def test_a_border_that_is_there_is_taken(self):
        over = apply(STACK, MergeLayers(layer="mid", upper="high"))
        over = apply(over, AddCrossover(frequency_hz=640.0))
        self.assertEqual(over.layer("mid").span, Span(first=1, last=2))
        cut = apply(over, SplitLayer(layer="mid", frequency_hz=600.0))
        self.assertEqual(cut.crossovers, over.crossovers)
        self.assertEqual([x.span for x in cut.layers[1:]], [Span(first=1, last=1), Span(first=2, last=2)])
        title = SplitLayer(layer="mid", frequency_hz=600.0).title(over, cut)
        self.assertEqual(title, "Split mid at 640 Hz")

    def test_refusals(self):
        for edit, words in (
            (SplitLayer(layer="mid", frequency_hz=5000.0), "5000 Hz does not lie within 'mid'"),
            (SplitLayer(layer="mid", frequency_hz=115.0), "there is a border at 112 Hz already"),
            (MergeLayers(layer="sub", upper="high"), "are not neighbours"),
            (PutSubUnder(layer="none", frequency_hz=100.0), "there is nothing at 'layers/none'"),
        ):
            with self.subTest(edit=edit), self.assertRaisesRegex(InvalidEdit, words):
                apply(STACK, edit)


class PutSubUnderTest(unittest.TestCase):
    def test_it_follows_the_layer_and_takes_its_fundamental(self):
        patch = ToneSource(tones=(Tone(shape="saw"),))
        stack = plain_stack(
            layers=(Layer(id="patch", name="patch", source=patch, transpose=-12, voice=Voice(glide_ms=120.0)),)
        )
        made = apply(stack, PutSubUnder(layer="patch", frequency_hz=95.0))
        sub, above = made.layers
        self.assertEqual((sub.name, sub.mono, sub.span.first, sub.span.last), ("sub", True, 0, 0))
        self.assertEqual((sub.transpose, sub.voice.glide_ms), (-12, 120.0))
        self.assertEqual(above.source.tones[0].harmonics[0], 0.0)
        self.assertEqual((above.span.first, made.crossovers[0].frequency_hz), (1, 95.0))

    def test_in_one_step_from_any_demo_stack(self):
        for bundle in (slipway(), lock_gate(), rope_walk()):
            load = loader({asset.sha256: asset.content for asset in bundle.assets})
            measures = measure(bundle.stack, load, Engine())
            for _, edit in subs_under(measures):
                made = apply(bundle.stack, edit_from_data(edit.model_dump(mode="json")))
                after = measure(made, load, ENGINE)
                self.assertEqual(after.sub.id, made.layers[0].id)
                self.assertTrue(after.sub.mono)
            for layer, edit in subs_in_place(bundle.stack):
                after = measure(apply(bundle.stack, edit), load, ENGINE)
                self.assertEqual(
                    (after.sub.id, after.sub.mono, [*every_treatment("", after.sub.path)]), (layer.id, True, [])
                )

    def test_in_place_of_the_lowest_part_of_a_recording(self):
        stack = rope_walk().stack
        take = next(layer for layer in stack.layers if layer.source.kind == "take")
        whole = take.model_copy(update={"span": Span(first=0, last=0), "path": path_of()})
        stack = Stack.model_validate(
            {**stack.model_dump(), "crossovers": (), "layers": (whole,), "pairs": (), "duckers": ()}
        )
        cut = apply(stack, SplitLayer(layer=take.id, frequency_hz=100.0))
        upper = cut.layers[1]
        made = apply(cut, SubInPlaceOf(layer=take.id))
        sub = made.layer(take.id)
        self.assertEqual((sub.name, sub.level_db, sub.span), (take.name, take.level_db, cut.layer(take.id).span))
        self.assertEqual((sub.source.kind, sub.source.tones[0].shape, sub.mono), ("tone", "sine", True))
        self.assertEqual((made.layer(upper.id).source, len(made.layers)), (take.source, 2))
        self.assertEqual(made.crossovers, cut.crossovers)
        load = loader({asset.sha256: asset.content for asset in rope_walk().assets})
        before, after = (rendered(each, load)[upper.id] for each in (cut, made))
        np.testing.assert_array_equal(after, before)
        with self.assertRaisesRegex(InvalidEdit, "owns more than the lowest band"):
            apply(cut, SubInPlaceOf(layer=upper.id))


class AdviceTest(unittest.TestCase):
    def measures(self, *pitches):
        notes = tuple(Note(start_beats=float(i), length_beats=0.9, pitch=p) for i, p in enumerate(pitches))
        layer = Layer(id="sub", name="sub", source=ToneSource(tones=(Tone(shape="sine"),)))
        return measure(
            plain_stack(layers=(layer,), pattern=notes, crossovers=(Crossover(frequency_hz=200.0),)), loader({}), ENGINE
        )

    def test_the_border_lies_between_fundamental_and_next_harmonic(self):
        # 43.65 Hz (F1) to 65.4 Hz (C2): next harmonic 87.3, so √(65.4 · 87.3) = 75.6 Hz.
        advice = border_advice(self.measures(29, 36))
        self.assertAlmostEqual(advice.frequency_hz, 75.6, delta=0.4)
        wide = border_advice(self.measures(28, 40))
        self.assertAlmostEqual(wide.frequency_hz, 82.4 * 2 ** (1 / 6), delta=0.6)
        self.assertIn("stays in the sub", wide.sentence)

    def test_transpositions(self):
        rows = {row.semitones: row for row in shifts(self.measures(24, 26))}  # 32.7 and 36.7 Hz
        self.assertEqual((rows[0].fitting, rows[2].fitting, rows[4].fitting), (0, 1, 2))
        self.assertEqual(rows[4].key, "A minor")  # four semitones above F minor
        moved = apply(self.measures(24, 26).stack, rows[4].edit)
        self.assertEqual(([n.pitch for n in moved.pattern], moved.key), ([28, 30], "A minor"))

    def test_shapes_keep_voice_and_phase(self):
        sub = self.measures(29, 36).stack.layers[0]
        turned = (Tone(shape="square", start_phase_deg=40.0),)
        sub = sub.model_copy(
            update={"source": sub.source.model_copy(update={"tones": turned}), "voice": Voice(glide_ms=77.0)}
        )
        stack = plain_stack(layers=(sub,))
        for shape in shapes(sub):
            made = apply(stack, shape.edit)
            self.assertEqual(made.layers[0].voice, sub.voice)
            self.assertNotEqual(made.layers[0], stack.layers[0], shape.name)
            if isinstance(shape.edit, SetSource):
                self.assertEqual(made.layers[0].source.tones[0].start_phase_deg, 40.0)

    def test_fold_down_by_band_names_the_layer(self):
        wide = ToneSource(tones=(Tone(copies=2, spread=1.0, detune_cents=25.0, phase="free"),))
        layers = (Layer(id="sub", name="sub", mono=True), Layer(id="w", name="wide one", source=wide, width=2.0))
        spans = (
            layers[0],
            layers[1].model_copy(
                update={"span": layers[1].span.model_copy(update={"first": 1, "last": 1}), "pan": 0.5}
            ),
        )
        stack = plain_stack(layers=spans, crossovers=(Crossover(frequency_hz=200.0),))
        low, high = fold_down_bands(measure(stack, loader({}), ENGINE))
        self.assertLess(low.loss_db, 0.5)
        self.assertGreater(high.loss_db, 2.0)
        self.assertEqual(high.worst, "wide one")
        self.assertGreater(high.balance_db, 2.0)
