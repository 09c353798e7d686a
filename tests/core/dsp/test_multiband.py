"""Dynamics in both directions, band by band."""

import unittest

import numpy as np

from apilado.core.banded import begun
from apilado.core.clock import Clock
from apilado.core.dsp.both_ways import LEVEL_HOLD_MS, BothWays, change_both_ways, static_change
from apilado.core.treatments.multiband import DynamicBand, Multiband
from apilado.core.units import db_to_gain
from tests.seeded.stacks import Dice, seeds
from tests.support import noise, sine

RATE = 48000
CLOCK = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=True)
HOW = BothWays(-24.0, 4.0, -40.0, 2.0, 12.0, 8.0, 80.0)


def steady(level_db, how=HOW):
    """What is taken from a sound whose level is always the same: a wave of -1 and 1."""
    wave = db_to_gain(level_db) * np.where(np.arange(CLOCK.frames) % 100 < 50, 1.0, -1.0)
    return change_both_ways(np.stack([wave, wave]).astype(np.float32), how, rate_hz=RATE, looped=True)


class BothWaysTest(unittest.TestCase):
    def test_steady_levels_are_changed_by_the_ratios(self):
        """Above, 4:1 leaves a quarter of what is over; below, 2:1 halves what is missing, by 12 dB at most: what a
        ratio says (common practice)."""
        for level, wanted in ((-12.0, 9.0), (-24.0, 0.0), (-30.0, 0.0), (-40.0, 0.0), (-50.0, -5.0), (-58.0, -9.0)):
            self.assertAlmostEqual(float(np.median(steady(level))), wanted, delta=0.02)

    def test_no_more_is_lifted_than_that_and_silence_is_not(self):
        deep = BothWays(-24.0, 4.0, -10.0, 10.0, 12.0, 8.0, 80.0)
        self.assertAlmostEqual(float(np.median(steady(-50.0, deep))), -12.0, delta=0.02)
        self.assertAlmostEqual(float(np.median(steady(-70.0, deep))), -6.0, delta=0.02)  # half way to being left alone
        self.assertEqual(float(np.abs(steady(-85.0, deep)).max()), 0.0)
        self.assertEqual(
            float(np.abs(change_both_ways(np.zeros((2, 5000), np.float32), deep, rate_hz=RATE, looped=True)).max()), 0.0
        )

    def test_the_curve_that_is_drawn_is_what_is_done(self):
        levels = np.linspace(-90.0, 0.0, 19)
        drawn = static_change(levels, HOW, -24.0, -40.0)
        found = [float(np.median(steady(level))) for level in levels]
        np.testing.assert_allclose(found, drawn, atol=0.02)

    def test_it_comes_and_goes_by_its_times(self):
        """After its time a change is done to 1 - 1/e (common practice)."""
        audio = np.full((1, 2 * RATE), db_to_gain(-30.0), np.float32)
        audio[:, RATE // 2 : RATE] = db_to_gain(-12.0)
        how = BothWays(-24.0, 4.0, -80.0, 1.0, 0.0, 20.0, 100.0)
        taken = change_both_ways(audio, how, rate_hz=RATE, looped=False)
        self.assertAlmostEqual(float(taken[RATE // 2 + round(0.020 * RATE)]), 9.0 * (1.0 - np.exp(-1.0)), delta=0.05)
        # A level is held, then it falls by e^(-t/10 ms): it is under the threshold after 10 ms times ln of 12 dB.
        fallen = RATE + round(LEVEL_HOLD_MS / 1000.0 * RATE) + round(0.010 * np.log(db_to_gain(12.0)) * RATE)
        kept = float(taken[fallen + round(0.100 * RATE)]) / float(taken[fallen])
        self.assertAlmostEqual(kept, np.exp(-1.0), delta=0.01)


class MultibandTest(unittest.TestCase):
    def test_flat_when_idle(self):
        impulse = np.zeros((2, CLOCK.frames), np.float32)
        impulse[:, RATE] = 0.9
        for seed in seeds(10):
            dice, from_hz = Dice(seed), []
            at = dice.hz(40.0, 300.0)
            for _ in range(dice.whole(1, 3)):
                from_hz.append(at)
                at = min(at * dice.between(1.27, 6.0), 16000.0)
            for phase in ("minimum-phase", "linear-phase"):
                step = Multiband(
                    depth=0.0,
                    bands=begun(DynamicBand, *from_hz),
                    phase=phase,
                    slope_db_per_octave=dice.of((12, 24, 48)),
                )
                found = np.abs(np.fft.rfft(step.process(impulse, CLOCK)[0].astype(np.float64))) / 0.9
                self.assertLess(float(np.abs(20.0 * np.log10(found[20:40000])).max()), 0.05, (seed, phase, from_hz))

    def test_a_loud_band_does_not_pull_down_another(self):
        low, high = sine(80.0, 2.0, amplitude=0.9), sine(6000.0, 2.0, amplitude=0.05)
        step = Multiband(depth=1.0, slope_db_per_octave=48, bands=begun(DynamicBand, 200.0, 2000.0))
        found = step.process(low + high, CLOCK)
        line = np.abs(np.fft.rfft(found[0])) / (CLOCK.frames / 2)
        # 80 Hz at -0.9 dB is 23.1 dB over, of which a quarter stays; 6 kHz lies between the thresholds.
        self.assertAlmostEqual(20.0 * np.log10(line[160]), -24.0 + 23.1 / 4.0, delta=0.4)
        self.assertAlmostEqual(20.0 * np.log10(line[12000] / 0.05), 0.0, delta=0.1)

    def test_what_it_takes_is_told_band_by_band_and_by_its_depth(self):
        audio = noise(CLOCK.frames)
        full = Multiband(depth=1.0).reduction(audio, CLOCK)
        self.assertEqual(full.shape, (3, CLOCK.frames))
        np.testing.assert_allclose(Multiband(depth=0.25).reduction(audio, CLOCK), 0.25 * full, atol=1e-5)

    def test_a_loop_begins_as_the_round_before_has_left_it(self):
        audio = noise(CLOCK.frames) * np.linspace(0.01, 1.0, CLOCK.frames, dtype=np.float32)
        twice = Clock(tempo_bpm=60.0, beats=4.0, rate_hz=RATE, looped=True)
        for phase in ("minimum-phase", "linear-phase"):
            step = Multiband(depth=1.0, phase=phase)
            once, both = step.process(audio, CLOCK), step.process(np.tile(audio, 2), twice)
            np.testing.assert_allclose(both, np.tile(once, 2), atol=2e-6)

    def test_overdone_it_takes_more(self):
        audio = noise(CLOCK.frames)
        plain, much = (np.abs(each.reduction(audio, CLOCK)).max() for each in (Multiband(), Multiband().overdone()))
        self.assertGreater(float(much), float(plain) + 3.0)
