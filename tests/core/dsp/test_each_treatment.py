"""What holds for every treatment, whatever it does."""

import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.document.path import CONTAINERS
from apilado.core.dsp.audio import without_tiny
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.registry import TREATMENTS
from tests.support import RATES, graph_of, noise, path_of, plain_stack

RATE = 48000
ONCE = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=True)
TWICE = Clock(tempo_bpm=60.0, beats=4.0, rate_hz=RATE, looped=True)
NEUTRAL = {
    "hard-clip": {"drive_db": 0.0, "output_db": 0.0},
    "roughness": {"depth_ms": 0.0, "output_db": 0.0},
    "compressor": {"ratio": 1.0},
    "limiter": {"ceiling_db": 0.0},
    "multiband": {"depth": 0.0},
    "gate": {"range_db": 0.0},
    "transient": {"attack_db": 0.0, "sustain_db": 0.0},
    "offset": {},
    "pitch-shift": {},
    "width-bands": {},
}
"""At which settings a treatment does nothing, of those that have such."""
PROMPT = {"filter": {"shape": "high-pass"}, "cabinet": {"blend": 0.2}}
"""At which settings an impulse comes at once, where that is not at those with which a treatment begins."""


def kind_of(model):
    return model.model_fields["kind"].default


def banded(frames):
    """Noise below 8 kHz, under full scale: what is oversampled is flat as far as that."""
    lines = np.fft.rfft(noise(frames).astype(np.float64))
    lines[:, frames // 6 :] = 0.0
    sound = np.fft.irfft(lines, frames)
    return (0.7 / np.abs(sound).max() * sound).astype(np.float32)


class EachTest(unittest.TestCase):
    def test_at_a_neutral_setting_nothing_is_added_else_an_impulse_comes_at_once(self):
        audio, impulse = banded(ONCE.frames), np.zeros((2, ONCE.frames), np.float32)
        impulse[:, 0] = 0.9
        once = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=False)
        for model in TREATMENTS:
            kind = kind_of(model)
            if kind in NEUTRAL:
                added = model(**NEUTRAL[kind]).process(audio, ONCE) - audio
                self.assertLess(float(np.abs(added).max()), 2e-5, kind)
            else:
                found = np.abs(model(**PROMPT.get(kind, {})).process(impulse, once)[0])
                self.assertEqual(int(np.argmax(found)), 0, kind)

    def test_a_loop_rendered_twice_round_is_itself(self):
        audio = banded(ONCE.frames)
        for model in TREATMENTS:
            # Noise that moves something is drawn anew in each round: that is what noise does.
            step = model(**({"wave": "sine"} if kind_of(model) == "roughness" else {}))
            both = step.process(np.tile(audio, 2), TWICE)
            np.testing.assert_allclose(both, np.tile(step.process(audio, ONCE), 2), atol=1e-6, err_msg=kind_of(model))

    def test_three_rates_agree_in_level(self):
        for model in TREATMENTS:
            levels = []
            for rate in RATES:
                clock = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=rate, looped=True)
                wave = 0.7 * np.sin(2.0 * np.pi * 110.0 * np.arange(clock.frames) / rate)
                found = model().process(np.stack([wave, wave]).astype(np.float32), clock)
                levels.append(10.0 * np.log10(float(np.mean(found.astype(np.float64) ** 2))))
            self.assertLess(max(levels) - min(levels), 0.2, kind_of(model))

    def test_blend_0_is_its_absence(self):
        audio = noise(ONCE.frames)
        blended = [model for model in TREATMENTS if "blend" in model.model_fields]
        self.assertGreater(len(blended), 9)
        for model in blended:
            np.testing.assert_array_equal(model(blend=0.0).process(audio, ONCE), audio, err_msg=kind_of(model))

    def test_off_is_free(self):
        def stack(*steps):
            return plain_stack(
                layers=(Layer(id="a", source=ToneSource(tones=(Tone(shape="saw"),)), path=path_of(*steps)),)
            )

        without = graph_of(stack()).output.key
        for model in (*TREATMENTS, *CONTAINERS):
            self.assertEqual(graph_of(stack(model(on=False))).output.key, without, kind_of(model))
            self.assertNotEqual(graph_of(stack(model())).output.key, without, kind_of(model))

    def test_what_is_too_small_to_be_heard_is_silence(self):
        sound = noise(5000)
        self.assertIs(without_tiny(sound), sound)
        sound[:, 100:200] *= np.float32(1e-38)
        found = without_tiny(sound)
        self.assertEqual(float(np.abs(found[:, 100:200]).max()), 0.0)
        np.testing.assert_array_equal(np.delete(found, np.s_[100:200], 1), np.delete(sound, np.s_[100:200], 1))
