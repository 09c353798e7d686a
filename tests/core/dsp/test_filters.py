import unittest

import numpy as np
from numpy.testing import assert_allclose
from scipy import signal

from apilado.core.document.equaliser import POINTS, Bell, HighShelf, LowShelf, eq_sections
from apilado.core.dsp import equaliser
from apilado.core.dsp.filters import (
    butterworth_qs,
    dc_blocker,
    filtered,
    run_sections,
    sections_response,
    settle_frames,
)
from tests.support import RATES, noise


def level_db(sections, at, rate):
    return 20 * np.log10(np.abs(sections_response(sections, at, rate)))


class CookbookTest(unittest.TestCase):
    """Against the coefficients as the W3C note 'Audio EQ Cookbook' prints them, run by scipy.signal."""

    @staticmethod
    def cookbook(kind, f0, gain_db, q, rate):
        a = 10 ** (gain_db / 40)
        w0 = 2 * np.pi * f0 / rate
        cos, alpha = np.cos(w0), np.sin(w0) / (2 * q)
        if kind == "bell":
            return [1 + alpha * a, -2 * cos, 1 - alpha * a], [1 + alpha / a, -2 * cos, 1 - alpha / a]
        sign = 1 if kind == "low-shelf" else -1
        root = 2 * np.sqrt(a) * alpha
        b = [
            a * ((a + 1) - sign * (a - 1) * cos + root),
            sign * 2 * a * ((a - 1) - sign * (a + 1) * cos),
            a * ((a + 1) - sign * (a - 1) * cos - root),
        ]
        c = [(a + 1) + sign * (a - 1) * cos + root, -sign * 2 * ((a - 1) + sign * (a + 1) * cos)]
        return b, [*c, (a + 1) + sign * (a - 1) * cos - root]

    def test_bells_and_shelves(self):
        for rate in RATES:
            at = np.geomspace(20.0, rate / 4, 200)
            for kind, model in (("bell", Bell), ("low-shelf", LowShelf), ("high-shelf", HighShelf)):
                for f0, gain, q in ((60.0, -9.0, 0.7), (316.0, 6.0, 1.2), (4000.0, -18.0, 4.0), (9000.0, 3.0, 0.5)):
                    with self.subTest(rate=rate, kind=kind, f0=f0):
                        b, a = self.cookbook(kind, f0, gain, q, rate)
                        expected = 20 * np.log10(np.abs(signal.freqz(b, a, at, fs=rate)[1]))
                        found = level_db(model(frequency_hz=f0, gain_db=gain, q=q).sections(rate), at, rate)
                        assert_allclose(found, expected, atol=0.01)

    def test_cuts_are_butterworth(self):
        for rate in RATES:
            at = np.geomspace(20.0, rate / 4, 200)
            for slope in (12, 24, 48):
                for name, make in (
                    ("highpass", equaliser.butterworth_high_pass),
                    ("lowpass", equaliser.butterworth_low_pass),
                ):
                    with self.subTest(rate=rate, slope=slope, name=name):
                        sos = signal.butter(slope // 6, 350.0, name, fs=rate, output="sos")
                        expected = 20 * np.log10(np.abs(signal.freqz_sos(sos, at, fs=rate)[1]) + 1e-15)
                        heard = expected > -180.0
                        found = level_db(make(350.0, slope, rate), at, rate)
                        assert_allclose(found[heard], expected[heard], atol=0.01)

    def test_butterworth_qs_are_the_table_values(self):
        # Butterworth polynomials, any handbook: order 4 has Q 0.5412 and 1.3066.
        assert_allclose(sorted(butterworth_qs(4)), [0.5412, 1.3066], atol=1e-4)
        assert_allclose(butterworth_qs(2), [0.7071], atol=1e-4)

    def test_points_that_are_off_do_nothing(self):
        points = tuple(kind(on=False) for kind in POINTS)
        self.assertEqual(eq_sections(points, 48000).shape, (0, 5))


class RunningTest(unittest.TestCase):
    def test_against_scipy(self):
        audio = noise(5000, seed=2)
        sections = np.vstack([equaliser.bell(300.0, 6.0, 1.0, 48000), equaliser.butterworth_high_pass(40.0, 24, 48000)])
        sos = np.insert(sections, 3, 1.0, axis=1)
        expected = signal.sosfilt(sos, audio.astype(np.float64), axis=1)
        assert_allclose(run_sections(audio, sections)[0], expected, atol=1e-6)

    def test_two_halves_equal_one_whole(self):
        audio = noise(4001, seed=3)
        sections = equaliser.butterworth_low_pass(90.0, 48, 48000)
        whole, end = run_sections(audio, sections)
        first, state = run_sections(np.ascontiguousarray(audio[:, :1777]), sections)
        second, last = run_sections(np.ascontiguousarray(audio[:, 1777:]), sections, state)
        np.testing.assert_array_equal(np.concatenate([first, second], axis=1), whole)
        np.testing.assert_array_equal(last, end)

    def test_a_state_of_another_shape_is_refused(self):
        with self.assertRaisesRegex(ValueError, "the state of this filter has the shape"):
            run_sections(noise(10), dc_blocker(48000), np.zeros((2, 3, 2)))

    def test_a_loop_is_filtered_in_its_steady_state(self):
        audio = noise(3000, seed=5)
        sections = equaliser.bell(50.0, 12.0, 4.0, 48000)
        rounds = filtered(np.tile(audio, 80), sections, looped=False)[:, -3000:]
        assert_allclose(filtered(audio, sections, looped=True), rounds, atol=2e-6)

    def test_what_has_died_away_is_silence(self):
        audio = np.zeros((1, 200000), np.float32)
        audio[0, 0] = 1.0
        out, _ = run_sections(audio, equaliser.butterworth_high_pass(2000.0, 24, 48000))
        tail = out[0, 100000:]
        np.testing.assert_array_equal(tail, 0.0)
        self.assertGreater(settle_frames(equaliser.butterworth_high_pass(20.0, 24, 48000)), 1000)
