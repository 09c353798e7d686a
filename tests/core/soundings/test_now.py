import unittest

import numpy as np

from apilado.core.document.edits import apply
from apilado.core.document.edits_values import SetValue
from apilado.core.soundings.measures import measure
from apilado.core.soundings.now import LOWEST_DB, STEPS_PER_DB, as_bytes, last_seconds, moments_of, now
from apilado.demo.breakwater import breakwater
from apilado.demo.stacks import rope_walk, slipway
from tests.support import ENGINE, RATES, loader, sine


class LastSecondsTest(unittest.TestCase):
    def test_a_sine_reads_what_ebu_says_and_has_the_crest_of_a_sine(self):
        # EBU Tech 3341, case 1: 1 kHz at -23 dBFS in both channels reads -23.0 LUFS, short-term too.
        for rate in RATES:
            tone = sine(1000.0, 5.0, rate, amplitude=10.0 ** (-23.0 / 20.0))
            loudness, crest = last_seconds(tone, moments=200, rate_hz=rate)
            np.testing.assert_allclose(loudness, -23.0, atol=0.02)  # EBU allows a tenth
            np.testing.assert_allclose(crest, 3.01, atol=0.05)

    def test_a_peak_counts_for_the_three_seconds_behind_it(self):
        tone = sine(1000.0, 8.0, amplitude=0.01)
        tone[:, 4 * 48000] = 0.9
        _, crest = last_seconds(tone, moments=320, rate_hz=48000)
        seconds = (np.arange(320) + 1) / 40.0
        behind = (seconds > 4.0 + 1e-6) & (seconds < 7.02)
        self.assertGreater(float(crest[behind].min()), 30.0)
        self.assertLess(float(crest[(seconds < 3.99) | (seconds > 7.05)].max()), 4.0)

    def test_it_looks_back_three_seconds_and_round_the_seam(self):
        tone = sine(1000.0, 8.0, amplitude=0.1)
        tone[:, 4 * 48000 :] *= np.float32(0.01)
        loudness, crest = last_seconds(tone, moments=320, rate_hz=48000)
        seconds = (np.arange(320) + 1) / 40.0
        np.testing.assert_allclose(loudness[(seconds > 3.05) & (seconds < 3.95)], -20.0, atol=0.1)
        np.testing.assert_allclose(loudness[(seconds > 7.05) & (seconds < 7.95)], -60.0, atol=0.2)
        # Half a second into the loop: half a second of the loud part, two and a half of the quiet one.
        self.assertAlmostEqual(float(loudness[19]), -20.0 + 10.0 * np.log10(0.5 / 3.0), delta=0.1)
        self.assertGreater(float(crest[seconds.searchsorted(6.9)]), 12.0)  # a tenth of a second of it is loud
        short = sine(1000.0, 0.5, amplitude=0.1)  # shorter than what is looked back at: round and round
        np.testing.assert_allclose(last_seconds(short, moments=20, rate_hz=48000)[0], -20.0, atol=0.1)
        silent = last_seconds(np.zeros((2, 48000), np.float32), moments=40, rate_hz=48000)
        self.assertLess(float(silent[0].max()), -100.0)
        np.testing.assert_array_equal(silent[1], 0.0)


class NowTest(unittest.TestCase):
    def test_levels_of_parts_and_what_is_taken(self):
        for bundle in (slipway(), rope_walk(), breakwater()):
            load = loader({asset.sha256: asset.content for asset in bundle.assets})
            measures = measure(bundle.stack, load, ENGINE)
            found = now(measures)
            self.assertEqual(found.moments, moments_of(measures.clock.frames, measures.clock.rate_hz))
            names = {f"layers/{layer.id}" for layer in bundle.stack.layers} | {"kick", "bus"}
            self.assertLessEqual(names, set(found.levels))
            self.assertEqual("space" in found.levels, measures.space is not None)
            for name, stem in measures.stems.items():
                levels = LOWEST_DB + found.levels[f"layers/{name}"] / STEPS_PER_DB
                mean = 10.0 * np.log10(np.mean(10.0 ** (levels / 10.0)))
                self.assertAlmostEqual(float(mean), stem.level_db(), delta=1.0, msg=name)
            for ducker in bundle.stack.duckers:
                taken = found.reductions[f"duckers/{ducker.id}"] / STEPS_PER_DB
                self.assertAlmostEqual(float(taken.max()), float(measures.reductions[ducker.id].max()), delta=0.3)

    def test_what_is_muted_is_not_there_and_bands_count_as_one(self):
        muted = apply(slipway().stack, SetValue(path="layers/mid/mute", value=True))
        self.assertNotIn("layers/mid", now(measure(muted, loader({}), ENGINE)).levels)
        split = slipway().stack.model_dump()
        split["layers"][1]["path"] = [*split["layers"][1]["path"], {"id": "many", "kind": "multiband"}]
        stack = type(muted).model_validate(split)
        found = now(measure(stack, loader({}), ENGINE))
        self.assertEqual(found.reductions["layers/mid/path/many"].shape, (found.moments,))

    def test_levels_become_bytes_that_end_at_both_ends(self):
        np.testing.assert_array_equal(as_bytes(np.array([-300.0, -110.0, -109.5, 0.0, 40.0])), [0, 0, 1, 220, 255])
        self.assertEqual((moments_of(48000, 48000), moments_of(10**8, 48000), moments_of(10, 48000)), (40, 2048, 1))
