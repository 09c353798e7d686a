"""Plumb on whole stacks: what it promises is what is measured after it."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from scipy import signal

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer, Span
from apilado.core.document.stack import Crossover
from apilado.core.soundings.alignment import advise, change_in_words, freedoms, meetings_of
from apilado.core.soundings.measures import measure
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.soft_clip import SoftClip
from apilado.demo.stacks import lock_gate
from tests.support import ENGINE, loader, path_of, plain_stack, rendered

STEADY = Voice(envelope=Envelope(attack_ms=3.0, sustain=1.0))


def tone(shape="saw", **values):
    return ToneSource(tones=(Tone(shape=shape, **values),), velocity=0.0)


def two_voices(**upper):
    """A sub of its own under a treated saw of another start phase: only Plumb can know what to do."""
    layers = (
        Layer(id="sub", name="sub", source=tone("saw", cents=0.0)),
        Layer(
            id="mid",
            name="mid",
            source=tone(start_phase_deg=140.0),
            span=Span(first=1, last=1),
            path=path_of(SoftClip()),
            **upper,
        ),
    )
    return plain_stack(voice=STEADY, layers=layers, crossovers=(Crossover(frequency_hz=120.0),))


def scipy_gain_db(stack, lower, upper, border):
    """Coherence gain over the whole loop around a border, by SciPy."""
    sounds = rendered(stack)
    a, b = (sounds[name].mean(axis=0).astype(float) for name in (lower, upper))

    def power(x):
        at, density = signal.periodogram(x, fs=48000)
        return density[(at >= border / 2**0.5) & (at <= border * 2**0.5)].sum()

    return 10 * np.log10(power(a + b) / (power(a) + power(b)))


class PlumbTest(unittest.TestCase):
    def test_promised_and_measured(self):
        for upper in ({}, {"polarity": "inverted"}, {"delay_ms": 4.0}):
            stack = two_voices(**upper)
            advice = advise(measure(stack, loader({}), ENGINE))
            self.assertIsNotNone(advice.edit, upper)
            self.assertTrue(all(change_in_words(stack, edit) for edit in advice.edit.edits))
            mended = apply(stack, advice.edit)
            after = meetings_of(measure(mended, loader({}), ENGINE))
            judged = [i for i, m in enumerate(after) if m.meets and not m.drifts]
            self.assertTrue(judged)
            for index in judged:
                self.assertAlmostEqual(after[index].gain_db(), advice.solution.after_db[index], delta=0.4)
            before, now = (scipy_gain_db(s, "sub", "mid", 120.0) for s in (stack, mended))
            self.assertGreater(now, before + 0.3)
            self.assertGreater(now, 1.0)

    def test_what_makes_another_border_worse_is_not_offered(self):
        # Three layers, two borders: every setting is told to have helped the first and to have hurt the second a little.
        layers = (
            Layer(id="a", name="a", source=tone()),
            Layer(id="b", name="b", source=tone(start_phase_deg=140.0), span=Span(first=1, last=1)),
            Layer(id="c", name="c", source=LayerSound(layer="b"), span=Span(first=2, last=2)),
        )
        borders = (Crossover(frequency_hz=120.0), Crossover(frequency_hz=600.0))
        measures = measure(plain_stack(voice=STEADY, layers=layers, crossovers=borders), loader({}), ENGINE)
        self.assertIsNotNone(advise(measures).edit)

        def rendered_as(hurt):
            def after(measures, edit):
                return tuple(
                    replace(m, present=0.95 if m.border == 0 else m.present - hurt) for m in meetings_of(measures)
                )

            return after

        for hurt, offered in ((0.0, True), (0.3, False)):
            with (
                mock.patch("apilado.core.soundings.alignment._after", rendered_as(hurt)),
                mock.patch("apilado.core.soundings.alignment._any_loop_worse", return_value=False),
            ):
                advice = advise(measures)
            self.assertEqual(advice.edit is not None, offered, hurt)
            if not offered:
                self.assertIn("makes another worse", advice.reasons[0])

    def test_a_delay_that_all_layers_have_is_taken_off(self):
        stack = two_voices(delay_ms=9.0)
        stack = apply(stack, SetValue(path="layers/sub/delay_ms", value=5.0))
        mended = apply(stack, advise(measure(stack, loader({}), ENGINE)).edit)
        self.assertEqual(min(layer.delay_ms for layer in mended.layers), 0.0)

    def test_a_start_phase_is_counted_in_each_layers_own_pitch(self):
        # The upper plays an octave over the lower: a cycle of it is half a cycle of the other.
        stack = two_voices(transpose=12)
        advice = advise(measure(stack, loader({}), ENGINE))
        self.assertEqual({(round(m.upper_hz / m.fundamental_hz, 3)) for m in advice.meetings}, {2.0})
        mended = apply(stack, advice.edit)
        self.assertGreater(scipy_gain_db(mended, "sub", "mid", 120.0), scipy_gain_db(stack, "sub", "mid", 120.0) + 0.3)

    def test_a_treated_child_turns_with_its_parent(self):
        parent = Layer(id="a", name="a", source=tone(), path=path_of(SoftClip(drive_db=18.0)))
        child = Layer(id="b", name="b", source=LayerSound(layer="a", tap="treated"), span=Span(first=1, last=1))
        other = Layer(id="c", name="c", source=tone(start_phase_deg=100.0), span=Span(first=2, last=2))
        borders = (Crossover(frequency_hz=120.0), Crossover(frequency_hz=500.0))
        stack = plain_stack(voice=STEADY, layers=(parent, child, other), crossovers=borders)
        self.assertEqual([f.family for f in freedoms(stack, ("a", "b", "c"))], ["a", "a", "c"])
        advice = advise(measure(stack, loader({}), ENGINE))
        self.assertNotIn("recording", " ".join(advice.reasons))

    def test_layers_of_one_source_need_polarity_or_delay(self):
        layers = (
            Layer(id="a", name="a", source=tone(), span=Span(first=0, last=0)),
            Layer(id="b", name="b", source=LayerSound(layer="a"), span=Span(first=1, last=1), polarity="inverted"),
            Layer(id="c", name="c", source=LayerSound(layer="a"), span=Span(first=2, last=2), polarity="inverted"),
        )
        stack = plain_stack(
            voice=STEADY, layers=layers, crossovers=(Crossover(frequency_hz=150.0), Crossover(frequency_hz=700.0))
        )
        advice = advise(measure(stack, loader({}), ENGINE))
        mended = apply(stack, advice.edit)
        self.assertEqual({layer.polarity for layer in mended.layers[1:]}, {"normal"})
        self.assertGreater(scipy_gain_db(mended, "a", "b", 150.0), 2.3)

    def test_the_flawed_demo_gets_better_at_every_border_that_meets(self):
        stack = lock_gate().stack
        advice = advise(measure(stack, loader({}), ENGINE))
        mended = apply(stack, advice.edit)
        self.assertGreater(
            scipy_gain_db(mended, "growl", "spray", 900.0), scipy_gain_db(stack, "growl", "spray", 900.0) + 3.0
        )

    def test_it_says_why_nothing_helps(self):
        for source, words in (
            (tone(copies=2, detune_cents=100.0), "detuned copies of 'mid' drift"),
            (ToneSource(tones=(Tone(cents=60.0),)), "plays other pitches"),
        ):
            stack = apply(two_voices(), SetValue(path="layers/mid/source", value=source.model_dump(mode="json")))
            said = " ".join(advise(measure(stack, loader({}), ENGINE)).reasons)
            if "drift" in words or "pitches" in words:
                self.assertIn(words, said)
        alone = plain_stack(voice=STEADY, layers=(Layer(id="a"),))
        self.assertIn("No two layers meet", advise(measure(alone, loader({}), ENGINE)).reasons[0])

    def test_plumb_already(self):
        layers = (Layer(id="a", source=tone()), Layer(id="b", source=LayerSound(layer="a"), span=Span(first=1, last=1)))
        stack = plain_stack(voice=STEADY, layers=layers, crossovers=(Crossover(frequency_hz=150.0),))
        advice = advise(measure(stack, loader({}), ENGINE))
        self.assertIsNone(advice.edit)
        self.assertIn("stand plumb already", advice.reasons[0])
