import itertools
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose

from apilado.core.dsp.crossovers import border, cut, cut_response, split
from tests.support import RATES, noise, rendered, split_take

SLOPES = (12, 24, 48)


@st.composite
def borders_of_a_stack(draw):
    """Up to three frequencies, each at least a third of an octave above the one before."""
    frequency = draw(st.floats(40.0, 400.0))
    found = [frequency]
    for _ in range(draw(st.integers(0, 2))):
        frequency *= 2 ** draw(st.floats(1 / 3, 3.0))
        if frequency < 15000.0:
            found.append(frequency)
    return tuple(found)


class LinkwitzRileyTest(unittest.TestCase):
    def test_both_sides_are_6_db_down_at_the_border(self):
        # Linkwitz, JAES 24/1 (1976): -6.02 dB at the border.
        for rate in RATES:
            for slope in SLOPES:
                for frequency in (80.0, 640.0, 5000.0):
                    with self.subTest(rate=rate, slope=slope, frequency=frequency):
                        for kind in ("minimum-phase", "linear-phase"):
                            made = border(frequency, slope, rate, kind=kind)
                            for side in (made.low, made.high):
                                level = 20 * np.log10(np.abs(side.response(np.array([frequency]), rate)))
                                assert_allclose(level, -6.0206, atol=1e-3)

    def test_slopes(self):
        for slope in SLOPES:
            octaves = np.array([31.25, 62.5])
            high = 20 * np.log10(np.abs(border(1000.0, slope, 96000).high.response(octaves, 96000)))
            self.assertAlmostEqual(high[1] - high[0], slope, delta=0.2)

    def test_refuses_what_it_cannot_do(self):
        for frequency, slope, words in ((1000.0, 18, "a slope is one of"), (30000.0, 24, "below half the rate")):
            with self.assertRaisesRegex(ValueError, words):
                border(frequency, slope, 48000)

    @settings(max_examples=60, deadline=None)
    @given(borders_of_a_stack(), st.sampled_from(SLOPES), st.sampled_from(RATES))
    def test_bands_sum_to_an_all_pass(self, frequencies, slope, rate):
        borders = tuple(border(f, slope, rate) for f in frequencies)
        at = np.geomspace(20.0, 18000.0, 400)
        total = sum(cut_response(cut(borders, band, band), at, rate) for band in range(len(borders) + 1))
        assert_allclose(20 * np.log10(np.abs(total)), 0.0, atol=1e-6)

    @settings(max_examples=40, deadline=None)
    @given(borders_of_a_stack(), st.sampled_from(SLOPES), st.data())
    def test_any_tiling_of_the_bands_sums_to_the_same(self, frequencies, slope, data):
        borders = tuple(border(f, slope, 48000) for f in frequencies)
        bands = len(borders) + 1
        cuts = sorted(data.draw(st.sets(st.integers(1, bands - 1)))) if bands > 1 else []
        edges = [0, *cuts, bands]
        at = np.geomspace(20.0, 18000.0, 200)
        tiled = sum(cut_response(cut(borders, a, b - 1), at, 48000) for a, b in itertools.pairwise(edges))
        single = sum(cut_response(cut(borders, band, band), at, 48000) for band in range(bands))
        assert_allclose(tiled, single, atol=1e-9)

    def test_a_run_must_lie_within_the_bands(self):
        borders = (border(100.0, 24, 48000),)
        for first, last in ((0, 2), (1, 0), (-1, 0)):
            with self.assertRaisesRegex(ValueError, "a run of bands"):
                cut(borders, first, last)

    def test_looped_split_is_the_steady_state(self):
        audio = noise(6000, seed=4)
        piece = cut((border(120.0, 24, 48000), border(700.0, 48, 48000)), 1, 1)
        rounds = split(np.tile(audio, 12), piece, looped=False)[:, -6000:]
        assert_allclose(split(audio, piece, looped=True), rounds, atol=2e-6)


class RenderedSplitTest(unittest.TestCase):
    """One source in 2, 3 and 4 bands, through document, graph and engine."""

    CASES = ((110.0,), (90.0, 113.5), (100.0, 640.0), (60.0, 300.0, 2500.0), (80.0, 101.0, 128.0))

    def test_stems_sum_flat(self):
        for rate in RATES:
            click = np.zeros((2, rate), np.float32)
            click[:, 1000] = 1.0
            for slope in SLOPES:
                for frequencies in self.CASES:
                    with self.subTest(rate=rate, slope=slope, frequencies=frequencies):
                        stack, load = split_take(click, rate, frequencies, slope)
                        sounds = rendered(stack, load, looped=False)
                        total = sum(sounds[layer.id].astype(np.float64) for layer in stack.layers)
                        level = np.abs(np.fft.rfft(total[0]))
                        at = np.fft.rfftfreq(total.shape[1], 1 / rate)
                        inside = (at >= 20.0) & (at <= 18000.0)
                        assert_allclose(20 * np.log10(level[inside]), 0.0, atol=0.05)
                        assert_allclose(sounds["bus_input"], total, atol=1e-5)
