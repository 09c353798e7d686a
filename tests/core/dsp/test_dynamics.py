import unittest
from typing import ClassVar

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.clock import Clock
from apilado.core.dsp.curves import Curve, knots, mapped
from apilado.core.dsp.dynamics import (
    BLOCK,
    Detector,
    gain_reduction,
    limiter_gains,
    reduced,
    smoothing_coefficient,
    static_reduction,
)
from apilado.core.treatments.compressor import Compressor
from tests.support import noise, sine

STEADY = {"attack_ms": 0.0, "release_ms": 20.0}


def reduction(key, settings, state=None):
    return gain_reduction(key, Detector(**settings), rate_hz=48000, state=state)


def steady(level_db, frames=48000):
    return np.full((1, frames), 10 ** (level_db / 20), np.float32)


class StaticCurveTest(unittest.TestCase):
    """Giannoulis, Massberg, Reiss, JAES 60/6 (2012), equation 4, typed out here."""

    @staticmethod
    def published(x, t, r, w):
        if 2 * (x - t) < -w:
            return x
        if 2 * abs(x - t) <= w and w > 0:
            return x + (1 / r - 1) * (x - t + w / 2) ** 2 / (2 * w)
        return t + (x - t) / r

    def test_against_the_equation(self):
        for threshold, ratio, knee in ((-24.0, 4.0, 6.0), (-12.0, 2.0, 0.0), (-30.0, 20.0, 18.0), (-18.0, 1.0, 6.0)):
            for level in np.arange(-60.0, 1.0, 1.5):
                with self.subTest(threshold=threshold, ratio=ratio, level=level):
                    expected = self.published(level, threshold, ratio, knee)
                    key = {"threshold_db": threshold, "ratio": ratio, "knee_db": knee}
                    heard = reduction(steady(level, 2000), {**key, **STEADY})[0]
                    self.assertAlmostEqual(level - float(heard[-1]), expected, delta=0.05)


class DetectorTest(unittest.TestCase):
    KEY: ClassVar = {"threshold_db": -20.0, "ratio": 4.0, "knee_db": 0.0}

    def test_attack_and_release_times(self):
        # By definition of the one-pole smoother: 1 - 1/e of a step is done after the time.
        for attack, release in ((5.0, 50.0), (20.0, 200.0)):
            given = {**STEADY, "attack_ms": attack, "release_ms": release}
            up = reduction(steady(0.0), {**self.KEY, **given})[0]
            done = np.argmax(up >= 15.0 * (1 - 1 / np.e)) / 48.0
            self.assertAlmostEqual(done, attack, delta=0.02 * attack)
            fall = np.concatenate([steady(0.0), steady(-90.0)], axis=1)
            down = reduction(fall, {**self.KEY, **given, "attack_ms": 0.0})[0][48000:]
            done = np.argmax(down <= 15.0 / np.e) / 48.0
            self.assertAlmostEqual(done, release, delta=0.02 * release)

    def test_hold_keeps_and_range_limits(self):
        fall = np.concatenate([steady(0.0, 1000), steady(-90.0, 9000)], axis=1)
        held = reduction(fall, {**self.KEY, **STEADY, "hold_ms": 50.0})[0]
        assert_allclose(held[1000 : 1000 + 2400], 15.0, atol=1e-3)
        self.assertLess(held[1000 + 2600], 15.0)
        limited = reduction(steady(0.0, 100), {**self.KEY, **STEADY, "range_db": 6.0})[0]
        assert_allclose(limited, 6.0, atol=1e-6)

    def test_two_halves_equal_one_whole(self):
        key = noise(5000, seed=8)
        given = {**self.KEY, **STEADY, "attack_ms": 3.0, "hold_ms": 2.0}
        whole, _ = reduction(key, given)
        first, state = reduction(np.ascontiguousarray(key[:, :2345]), given)
        second, _ = reduction(np.ascontiguousarray(key[:, 2345:]), given, state=state)
        np.testing.assert_array_equal(np.concatenate([first, second]), whole)

    def test_amount_is_a_share_of_the_decibels(self):
        out = reduced(steady(0.0, 10), np.full(10, 12.0, np.float32), 0.5)
        assert_allclose(20 * np.log10(out), -6.0, atol=1e-4)


def one_after_another(key, detector, rate_hz):
    """The plain twin of `gain_reduction`: the published equations frame by frame."""
    frames = key.shape[1]
    slope = mapped(detector.ratio, lambda ratio: 1.0 - 1.0 / ratio)
    threshold, slopes, most = (
        np.broadcast_to(value.per_frame() if isinstance(value, Curve) else value, frames)
        for value in (detector.threshold_db, slope, detector.range_db)
    )
    ratio = 1.0 / (1.0 - slopes)
    attack, release, averaging = (
        smoothing_coefficient(each, rate_hz) for each in (detector.attack_ms, detector.release_ms, detector.rms_ms)
    )
    peak = smooth = square = 0.0
    held, found = 0, []
    for n, level in enumerate(np.max(np.abs(key.astype(np.float64)), axis=0)):
        square = averaging * square + (1.0 - averaging) * level**2
        level_db = 10.0 * np.log10(max(square, 1e-30))
        asked = float(static_reduction(np.array([level_db]), threshold[n], ratio[n], detector.knee_db)[0])
        asked = min(asked, most[n])
        if asked >= peak:
            peak, held = asked, round(detector.hold_ms * rate_hz / 1000)
        elif held:
            held -= 1
        else:
            peak = release * peak + (1.0 - release) * asked
        smooth = attack * smooth + (1.0 - attack) * peak
        found.append(smooth)
    return np.array(found)


class PlainTwinTest(unittest.TestCase):
    def test_of_the_detector(self):
        chance = np.random.default_rng(3)
        frames = 2 * BLOCK + 99
        for seed in range(12):
            rise = chance.uniform(-60.0, 0.0, (chance.integers(1, 3), 1)) * np.linspace(1.0, 0.0, frames)
            key = (10.0 ** (rise / 20.0) * chance.uniform(-1.0, 1.0, rise.shape)).astype(np.float32)
            key[:, BLOCK // 2 : BLOCK] *= np.float32(seed % 3 / 2.0)
            at = knots(frames)
            moving = Curve(at, -30.0 + (10.0 if seed % 3 else 0.0) * np.sin(at / 300.0))
            detector = Detector(
                threshold_db=moving if seed % 2 else float(chance.uniform(-40.0, -6.0)),
                ratio=Curve(at, 4.0 + 3.0 * np.sin(at / 200.0)) if seed % 4 == 2 else float(chance.uniform(1.0, 20.0)),
                knee_db=float(chance.choice([0.0, 6.0, 18.0])),
                attack_ms=float(chance.choice([0.0, 2.0])),
                release_ms=float(chance.uniform(1.0, 40.0)),
                hold_ms=float(chance.choice([0.0, 1.0])),
                range_db=Curve(at, 6.0 + 5.0 * np.sin(at / 250.0))
                if seed % 3 == 1
                else float(chance.choice([4.0, 120.0])),
                rms_ms=float(chance.choice([0.0, 3.0])),
            )
            with self.subTest(detector=detector):
                found = gain_reduction(key, detector, rate_hz=48000)[0]
                assert_allclose(found, one_after_another(key, detector, 48000), atol=2e-6)

    def test_of_turning_down(self):
        chance = np.random.default_rng(4)
        sound = chance.uniform(-1.0, 1.0, (2, 2 * BLOCK + 7)).astype(np.float32)
        asked = chance.uniform(-6.0, 60.0, sound.shape[1]).astype(np.float32)
        asked[:BLOCK] = 0.0
        asked[BLOCK : BLOCK + 40] = 0.0
        for amount in (1.0, 0.3, 0.0):
            found = reduced(sound, asked, amount)
            assert_allclose(found, sound * 10.0 ** (-amount * asked.astype(np.float64) / 20.0), rtol=2e-7)
            np.testing.assert_array_equal(found[:, : BLOCK + 40], sound[:, : BLOCK + 40])


class LimiterTest(unittest.TestCase):
    def test_never_over_the_ceiling(self):
        audio = noise(48000, seed=9, amplitude=0.6)
        for looped in (True, False):
            gains = limiter_gains(audio, ceiling_db=-6.0, release_ms=60.0, rate_hz=48000, looped=looped)
            self.assertLessEqual(float(np.max(np.abs(audio * gains))), 10 ** (-6 / 20) + 1e-6)

    def test_it_releases_as_its_time_says(self):
        # After a peak the gain comes back exponentially: 1 - (1 - g)·e^(-t/τ), smoothed over the 2 ms of its look-ahead.
        for release in (30.0, 120.0, 400.0):
            audio = np.full((2, 48000), 0.25, np.float32)
            audio[:, 10000:10010] = 1.0
            gains = limiter_gains(audio, ceiling_db=-6.0, release_ms=release, rate_hz=48000, looped=False)
            lowest = 10 ** (-6 / 20)
            for ms in (10.0, 50.0, 200.0):
                at = 10009 + round(48 * ms)
                # The mean over the window of an exponential is one that has begun half a window later.
                wanted = 1.0 - (1.0 - lowest) * np.exp(-(ms - 1.0) / release)
                self.assertAlmostEqual(float(gains[at]), wanted, delta=0.004, msg=(release, ms))

    def test_a_loop_begins_where_its_end_has_left_the_gain(self):
        # A peak just before the seam: the loop's first frames are still turned down, whatever the release against it.
        for release in (50.0, 400.0, 2000.0):
            audio = np.full((2, 24000), 0.3, np.float32)
            audio[:, 23000:23100] = 0.9
            given = {"ceiling_db": -6.0, "release_ms": release, "rate_hz": 48000}
            rounds = max(6, round(30 * release / 500))
            wanted = limiter_gains(np.tile(audio, rounds), **given, looped=False)[-24000 * 2 : -24000]
            found = limiter_gains(audio, **given, looped=True)
            assert_allclose(found, wanted, atol=1e-4)
            self.assertLess(float(found[0]), 0.9)

    def test_below_the_ceiling_it_does_nothing(self):
        quiet = sine(100.0, 0.2, amplitude=0.2)
        self.assertIsNone(limiter_gains(quiet, ceiling_db=-6.0, release_ms=60.0, rate_hz=48000, looped=True))


class CompressorTest(unittest.TestCase):
    def test_a_loop_meets_itself(self):
        clock = Clock(tempo_bpm=120.0, beats=2.0, rate_hz=48000, looped=True)
        burst = np.zeros((2, 48000), np.float32)
        burst[:, 40000:47900] = sine(200.0, 7900 / 48000)
        made = Compressor(threshold_db=-30.0, ratio=8.0, release_ms=400.0)
        twice = Compressor(threshold_db=-30.0, ratio=8.0, release_ms=400.0).process(
            np.tile(burst, 3), Clock(tempo_bpm=120.0, beats=6.0, rate_hz=48000, looped=True)
        )
        assert_allclose(made.process(burst, clock), twice[:, 48000:96000], atol=1e-3)
