"""EQ points against published formulas and scipy.signal; linear phase; points that move."""

import math
import unittest

import numpy as np
import scipy.signal
from numpy.testing import assert_allclose

from apilado.core.document.equaliser import (
    POINTS,
    Bell,
    HighPass,
    HighShelf,
    KeyedBell,
    LowPass,
    LowShelf,
    Notch,
    Tilt,
    eq_sections,
    still_and_moving,
)
from apilado.core.dsp.audio import as_audio
from apilado.core.dsp.filters import filtered, sections_response
from apilado.core.dsp.linear_phase import has_kink, zero_phase
from apilado.core.dsp.moving import moving_bell
from tests.support import RATES, noise, sine


def cookbook(kind, f0, q, rate, gain_db=0.0):
    """Coefficients as the W3C note *Audio EQ Cookbook* prints them."""
    a = 10 ** (gain_db / 40)
    w = 2 * math.pi * f0 / rate
    cos, alpha = math.cos(w), math.sin(w) / (2 * q)
    root = 2 * math.sqrt(a) * alpha
    return {
        "bell": ([1 + alpha * a, -2 * cos, 1 - alpha * a], [1 + alpha / a, -2 * cos, 1 - alpha / a]),
        "notch": ([1, -2 * cos, 1], [1 + alpha, -2 * cos, 1 - alpha]),
        "band-pass": ([alpha, 0, -alpha], [1 + alpha, -2 * cos, 1 - alpha]),
        "low-shelf": (
            [
                a * ((a + 1) - (a - 1) * cos + root),
                2 * a * ((a - 1) - (a + 1) * cos),
                a * ((a + 1) - (a - 1) * cos - root),
            ],
            [(a + 1) + (a - 1) * cos + root, -2 * ((a - 1) + (a + 1) * cos), (a + 1) + (a - 1) * cos - root],
        ),
        "high-shelf": (
            [
                a * ((a + 1) + (a - 1) * cos + root),
                -2 * a * ((a - 1) + (a + 1) * cos),
                a * ((a + 1) + (a - 1) * cos - root),
            ],
            [(a + 1) - (a - 1) * cos + root, 2 * ((a - 1) - (a + 1) * cos), (a + 1) - (a - 1) * cos - root],
        ),
    }[kind]


def level(response):
    return 20 * np.log10(np.abs(response) + 1e-12)


class CookbookTest(unittest.TestCase):
    def compare(self, sections, b, a, rate):
        at = np.geomspace(20.0, rate / 4, 300)
        _, wanted = scipy.signal.freqz(b, a, at, fs=rate)
        ours = sections_response(sections, at, rate)
        heard = level(wanted) > -100
        assert_allclose(level(ours)[heard], level(wanted)[heard], atol=0.01)

    def test_every_kind_that_the_cookbook_has(self):
        for rate in RATES:
            for f0 in (45.0, 316.0, 2500.0, rate / 5):
                for q in (0.5, 1.2, 8.0):
                    for gain in (-9.0, 4.0):
                        for model in (Bell, LowShelf, HighShelf, KeyedBell):
                            point = model(frequency_hz=f0, gain_db=gain, q=q)
                            kind = "bell" if model is KeyedBell else point.kind
                            self.compare(point.sections(rate), *cookbook(kind, f0, q, rate, gain), rate)
                    self.compare(Notch(frequency_hz=f0, q=q).sections(rate), *cookbook("notch", f0, q, rate), rate)
                    self.compare(Notch(frequency_hz=f0, q=q).touched(rate), *cookbook("band-pass", f0, q, rate), rate)

    def test_cuts_of_every_slope_are_scipys_butterworth(self):
        for rate in RATES:
            for slope in (6, 12, 18, 24, 30, 36, 42, 48):
                for f0 in (30.0, 300.0, rate / 6):
                    for model, kind in ((HighPass, "highpass"), (LowPass, "lowpass")):
                        sos = scipy.signal.butter(slope // 6, f0, kind, fs=rate, output="sos")
                        at = np.geomspace(20.0, rate / 4, 300)
                        _, wanted = scipy.signal.sosfreqz(sos, at, fs=rate)
                        ours = sections_response(
                            model(frequency_hz=f0, slope_db_per_octave=slope).sections(rate), at, rate
                        )
                        heard = level(wanted) > -100
                        with self.subTest(rate=rate, slope=slope, f0=f0, kind=kind):
                            assert_allclose(level(ours)[heard], level(wanted)[heard], atol=0.01)

    def test_a_tilt_is_the_bilinear_transform_of_its_prototype(self):
        # H(s) = (A s + 1)/(s + A) through scipy.signal.bilinear, pre-warped at the pivot.
        for rate in RATES:
            for gain in (-6.0, 3.0):
                a, f0 = 10 ** (gain / 20), 700.0
                warped = 2 * rate * math.tan(math.pi * f0 / rate)
                b_z, a_z = scipy.signal.bilinear([a / warped, 1.0], [1.0 / warped, a], fs=rate)
                self.compare(Tilt(frequency_hz=f0, gain_db=gain).sections(rate), b_z, a_z, rate)
                pivot, low, high = level(
                    sections_response(
                        Tilt(frequency_hz=f0, gain_db=gain).sections(rate), np.array([f0, 20.0, 19000.0]), rate
                    )
                )
                assert_allclose([pivot, low, high], [0.0, -gain, gain], atol=0.05)

    def test_every_kind_is_told_apart_and_leaves_what_it_touches(self):
        self.assertEqual(len({model.model_fields["kind"].default for model in POINTS}), len(POINTS))
        at = np.array([80.0, 1000.0, 12000.0])
        for model, loudest in (
            (HighPass, 0),
            (LowShelf, 0),
            (Bell, 1),
            (Notch, 1),
            (KeyedBell, 1),
            (HighShelf, 2),
            (LowPass, 2),
        ):
            heard = np.abs(sections_response(model(frequency_hz=1000.0).touched(48000), at, 48000))
            self.assertEqual(int(np.argmax(heard)), loudest, model)


class LinearPhaseTest(unittest.TestCase):
    POINTS = (
        (
            HighPass(frequency_hz=30.0),
            Bell(frequency_hz=316.0, gain_db=-6.0, q=2.0),
            HighShelf(frequency_hz=6000.0, gain_db=4.0),
        ),
        (Notch(frequency_hz=50.0, q=8.0),),
        (Notch(frequency_hz=50.0, q=50.0),),
        (LowShelf(frequency_hz=20.0, gain_db=24.0),),
        (LowShelf(frequency_hz=20.0, gain_db=-24.0),),
        (Bell(frequency_hz=25.0, gain_db=-18.0, q=20.0), HighPass(frequency_hz=40.0, slope_db_per_octave=18)),
    )

    def test_the_same_magnitude_and_no_phase_down_to_the_lowest_points(self):
        # A loop of one second: its lines lie at whole Hz, where SciPy's response of the same sections is what is wanted.
        for rate in RATES:
            for points in self.POINTS:
                sections = eq_sections(points, rate)
                sound = noise(rate, seed=4, channels=1)
                out = zero_phase(sound, sections, rate, looped=True)
                before, after = (np.fft.rfft(x[0].astype(np.float64)) for x in (sound, out))
                at = np.arange(20, min(20000, rate // 2 - 1))
                wanted = np.abs(scipy.signal.sosfreqz(np.insert(sections, 3, 1.0, axis=1), at, fs=rate)[1])
                ratio = after[at] / before[at]
                heard = wanted > 1e-3
                with self.subTest(rate=rate, points=[p.kind for p in points]):
                    assert_allclose(level(ratio[heard]), level(wanted[heard]), atol=0.1)
                    assert_allclose(np.angle(ratio[heard]), 0.0, atol=0.01)

    def test_notches_are_deep(self):
        for rate in RATES:
            for q in (8.0, 50.0):
                out = zero_phase(sine(50.0, 2.0, rate), Notch(frequency_hz=50.0, q=q).sections(rate), rate, looped=True)
                self.assertLess(level(np.abs(out).max()), -60.0, (rate, q))

    def test_a_single_pass_is_the_convolution_that_has_all_the_room_it_wants(self):
        sound = noise(40000, seed=8, channels=1)
        for points in self.POINTS:
            sections = eq_sections(points, 44100)
            size = 1 << 22
            at = np.fft.rfftfreq(size, 1 / 44100)
            magnitude = np.abs(scipy.signal.sosfreqz(np.insert(sections, 3, 1.0, axis=1), at, fs=44100)[1])
            wanted = np.fft.irfft(np.fft.rfft(sound[0].astype(np.float64), size) * magnitude, size)[:40000]
            out = zero_phase(sound, sections, 44100, looped=False)[0]
            self.assertLess(level(np.abs(out - wanted).max() / np.abs(wanted).max()), -85.0)

    def test_nothing_is_delayed(self):
        click = np.zeros((2, 48000), np.float32)
        click[:, 24000] = 1.0
        for looped in (True, False):
            out = zero_phase(click, Bell(frequency_hz=200.0, gain_db=9.0).sections(48000), 48000, looped=looped)
            self.assertEqual(int(np.argmax(np.abs(out[0]))), 24000)
            assert_allclose(out[0, 23000:24000][::-1], out[0, 24001:25001], atol=1e-6)

    def test_a_kink_is_told(self):
        for point, kinked in (
            (HighPass(slope_db_per_octave=6), True),
            (HighPass(slope_db_per_octave=12), False),
            (HighPass(slope_db_per_octave=30), True),
            (HighPass(slope_db_per_octave=48), False),
            (Notch(), True),
            (Bell(gain_db=-24.0), False),
        ):
            self.assertEqual(has_kink(point.sections(48000)), kinked, point)


class MovingTest(unittest.TestCase):
    def test_held_open_it_is_the_cookbooks_bell(self):
        sound = noise(48000)
        for gain, q in ((-9.0, 1.4), (6.0, 4.0)):
            for looped in (True, False):
                shape = {"frequency_hz": 180.0, "gain_db": gain, "q": q}
                moved = moving_bell(sound, np.ones(48000, np.float32), **shape, rate_hz=48000, looped=looped)
                still = filtered(sound, Bell(**shape).sections(48000), looped=looped)
                assert_allclose(moved, still, atol=2e-5)

    def test_a_loop_shorter_than_it_rings_is_closed(self):
        opened = (0.5 + 0.5 * np.sin(2 * np.pi * np.arange(24000) / 24000)).astype(np.float32)
        shape = {"frequency_hz": 22.0, "gain_db": 18.0, "q": 12.0, "rate_hz": 48000}
        sound = noise(24000, seed=9)
        rounds = moving_bell(np.tile(sound, 60), np.tile(opened, 60), **shape, looped=False)[:, -24000:]
        found = moving_bell(sound, opened, **shape, looped=True)
        assert_allclose(found, rounds, atol=1e-4 * np.abs(rounds).max())

    def test_shut_it_does_nothing_at_all(self):
        sound = noise(4800)
        out = moving_bell(
            sound, np.zeros(4800, np.float32), frequency_hz=100.0, gain_db=12.0, q=1.0, rate_hz=48000, looped=True
        )
        assert_allclose(out, sound, atol=1e-7)

    def test_however_fast_it_moves_it_stays_stable(self):
        opened = (np.random.default_rng(3).uniform(0, 1, 48000) > 0.5).astype(np.float32)
        out = moving_bell(
            sine(110.0, 1.0), opened, frequency_hz=110.0, gain_db=24.0, q=20.0, rate_hz=48000, looped=False
        )
        self.assertTrue(np.all(np.isfinite(out)))
        self.assertLess(float(np.abs(out).max()), 10 ** (24 / 20) * 2)

    def test_unequal_lengths_are_refused(self):
        with self.assertRaisesRegex(ValueError, r"shape \(480,\), not \(100,\)"):
            moving_bell(
                noise(480), np.ones(100, np.float32), frequency_hz=99.0, gain_db=1.0, q=1.0, rate_hz=48000, looped=False
            )

    def test_it_opens_while_the_trigger_sounds_and_no_longer(self):
        key = np.zeros((2, 48000), np.float32)
        key[:, 10000:15000] = sine(60.0, 5000 / 48000)
        point = KeyedBell(gain_db=-9.0, release_ms=30.0)
        opened = point.opening(as_audio(key), rate_hz=48000, looped=False)
        self.assertEqual(float(opened[:10000].max()), 0.0)
        self.assertGreater(float(opened[10000:15000].max()), 0.98)
        self.assertLess(float(opened[15000 + 48 * 150 :].max()), 0.01)
        bell = Bell()
        still, moving = still_and_moving((bell, point, Bell(on=False)))
        self.assertEqual((still, moving), ((bell,), (point,)))


if __name__ == "__main__":
    unittest.main()
