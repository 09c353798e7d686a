import unittest

import numpy as np
from numpy.testing import assert_allclose
from scipy import signal

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.layer import Layer
from apilado.core.dsp.crossovers import border, cut, cut_response
from apilado.core.dsp.linear_phase import low_side, mono_below, ringing_ms, tap_count
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from tests.support import RATES, noise, plain_stack, rendered, sine, split_take


class LinearPhaseTest(unittest.TestCase):
    def test_the_response_is_the_published_magnitude(self):
        # |Butterworth|² twice: 1/(1 + (f/f0)^(2n)), Linkwitz 1976.
        at = np.geomspace(20, 18000, 300)
        for rate in RATES:
            for slope in (12, 24, 48):
                found = low_side(250.0, slope, rate).response(at, rate).real
                assert_allclose(found, 1 / (1 + (at / 250.0) ** (slope / 6)), atol=3e-5)

    def test_length_and_ringing_are_what_the_taps_do(self):
        for slope in (12, 24, 48):
            taps = low_side(100.0, slope, 48000).taps
            self.assertEqual(len(taps), tap_count(100.0, slope, 48000))
            half = len(taps) // 2
            envelope = np.maximum.accumulate(np.abs(taps[half:])[::-1])[::-1]
            down = np.argmax(envelope < envelope[0] * 1e-3) / 48.0
            self.assertAlmostEqual(down, ringing_ms(100.0, slope), delta=0.15 * ringing_ms(100.0, slope))

    def test_stems_sum_to_the_source_to_minus_90_db(self):
        take = noise(48000, seed=21, amplitude=0.2)
        for rate in RATES:
            for slope in (12, 24, 48):
                for frequencies in ((110.0,), (90.0, 113.5), (70.0, 300.0, 2500.0)):
                    stack, load = split_take(take, rate, frequencies, slope)
                    for index in range(len(frequencies)):
                        path = f"{stack.crossover_path(index)}/kind"
                        stack = apply(stack, SetValue(path=path, value="linear-phase"))
                    sounds = rendered(stack, load, looped=False)
                    total = sum(sounds[layer.id].astype(np.float64) for layer in stack.layers)
                    whole = rendered(
                        plain_stack(layers=stack.layers[:1], pattern=(), sample_rate=rate).model_copy(
                            update={"layers": (stack.layers[0].model_copy(update={"span": Layer(id="x").span}),)}
                        ),
                        load,
                        looped=False,
                    )["part-0"]
                    whole = np.pad(whole, ((0, 0), (0, total.shape[1] - whole.shape[1])))
                    error = np.sqrt(np.mean((total - whole) ** 2) / np.mean(whole.astype(np.float64) ** 2))
                    self.assertLess(20 * np.log10(error), -90.0, (rate, slope, frequencies))

    def test_latency_is_compensated_to_the_sample(self):
        click = np.zeros((2, 48000), np.float32)
        click[:, 20000] = 1.0
        low, _, _ = (border(800.0, 24, 48000, kind="linear-phase").low, 0, 0)
        out = low.run(click, looped=False)
        self.assertEqual(int(np.argmax(out[0])), 20000)
        assert_allclose(out[0, 20001:21000], out[0, 19999:19000:-1], atol=1e-6)

    def test_a_loop_runs_round_its_seam(self):
        audio = noise(5000, seed=3)
        low = border(60.0, 48, 48000, kind="linear-phase").low
        rounds = low.run(np.tile(audio, 9), looped=False)[:, 20000:25000]
        assert_allclose(low.run(audio, looped=True), rounds, atol=2e-5)

    def test_kinds_mix(self):
        at = np.geomspace(20, 18000, 300)
        mixed = (border(100.0, 24, 48000), border(400.0, 48, 48000, kind="linear-phase"), border(3000.0, 12, 48000))
        total = sum(cut_response(cut(mixed, band, band), at, 48000) for band in range(4))
        assert_allclose(20 * np.log10(np.abs(total)), 0.0, atol=1e-6)
        tiled = cut_response(cut(mixed, 0, 2), at, 48000) + cut_response(cut(mixed, 3, 3), at, 48000)
        assert_allclose(tiled, total, atol=1e-9)

    def test_an_unknown_kind_is_refused(self):
        with self.assertRaisesRegex(ValueError, "minimum-phase or linear-phase, not magic"):
            border(100.0, 24, 48000, kind="magic")


class OverlapTest(unittest.TestCase):
    def test_the_edges_are_apart_and_the_ripple_shows(self):
        at = np.geomspace(20, 18000, 600)
        for kind in ("minimum-phase", "linear-phase"):
            apart = (border(500.0, 24, 48000, kind=kind, overlap_octaves=1.0),)
            low, high = (cut_response(cut(apart, band, band), at, 48000) for band in (0, 1))
            for response, edge in ((low, 500 * 2**0.5), (high, 500 / 2**0.5)):
                level = np.interp(edge, at, 20 * np.log10(np.abs(response)))
                self.assertAlmostEqual(level, -6.02, delta=0.05)
            ripple = float(np.max(np.abs(20 * np.log10(np.abs(low + high)))))
            self.assertGreater(ripple, 0.5 if kind == "minimum-phase" else 1.0)

    def test_a_run_of_bands_ends_at_its_own_edge_only(self):
        at = np.geomspace(20, 18000, 600)
        borders = (border(100.0, 24, 48000, overlap_octaves=1.0), border(800.0, 24, 48000, overlap_octaves=0.5))
        run = cut_response(cut(borders, 0, 1), at, 48000)
        self.assertLess(float(np.abs(20 * np.log10(np.abs(run[at < 300]))).max()), 0.15)
        self.assertAlmostEqual(np.interp(800 * 2**0.25, at, 20 * np.log10(np.abs(run))), -6.02, delta=0.1)


class MonoBorderTest(unittest.TestCase):
    def test_no_side_below_all_of_it_above_and_mid_untouched(self):
        audio = noise(96000, seed=5)
        for rate in RATES:
            out = mono_below(audio, 150.0, rate_hz=rate, looped=True)
            assert_allclose(out[0] + out[1], audio[0] + audio[1], atol=1e-6)
            at = np.fft.rfftfreq(96000, 1 / rate)
            before, after = (np.abs(np.fft.rfft((x[0] - x[1]).astype(np.float64))) for x in (audio, out))
            mid = np.abs(np.fft.rfft((out[0] + out[1]).astype(np.float64)))
            below, above = at <= 150.0, (at > 150 * 1.3) & (at < 18000)
            self.assertLess(10 * np.log10(np.sum(after[below] ** 2) / np.sum(mid[below] ** 2)), -60.0)
            assert_allclose(after[above], before[above], rtol=2e-3)

    def test_of_the_stack_and_of_a_layer(self):
        wide = ToneSource(tones=(Tone(copies=7, spread=1.0, detune_cents=25.0, phase="free"),))
        stack = plain_stack(layers=(Layer(id="a", source=wide),))
        sos = signal.butter(8, 200.0, "low", fs=48000, output="sos")

        def side_db(name, edited):
            out = rendered(edited)[name].astype(np.float64)
            mid, side = (signal.sosfiltfilt(sos, out[0] + s * out[1]) for s in (1.0, -1.0))
            return 10 * np.log10(np.sum(side**2) / np.sum(mid**2))

        self.assertGreater(side_db("bass", stack), -20.0)
        self.assertLess(side_db("bass", apply(stack, SetValue(path="bus/mono_below_hz", value=300.0))), -55.0)
        self.assertLess(side_db("a", apply(stack, SetValue(path="layers/a/mono_below_hz", value=300.0))), -55.0)

    def test_mono_audio_passes(self):
        tone = sine(60.0, 0.5)
        assert_allclose(mono_below(tone, 120.0, rate_hz=48000, looped=True), tone, atol=1e-7)
