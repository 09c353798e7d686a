import itertools
import unittest

import numpy as np
from numpy.testing import assert_allclose
from scipy import signal

from apilado.core.document.equaliser import POINTS, eq_sections
from apilado.core.dsp import equaliser
from apilado.core.dsp.filters import (
    BLOCK,
    butterworth_qs,
    dc_blocker,
    filtered,
    heard_frames,
    run_sections,
    sections_response,
    settle_frames,
)
from tests.support import RATES, noise


class DesignTest(unittest.TestCase):
    def test_butterworth_qs_are_the_table_values(self):
        # Butterworth polynomials, any handbook: order 4 has Q 0.5412 and 1.3066.
        assert_allclose(sorted(butterworth_qs(4)), [0.5412, 1.3066], atol=1e-4)
        assert_allclose(butterworth_qs(2), [0.7071], atol=1e-4)

    def test_points_that_are_off_do_nothing(self):
        points = tuple(kind(on=False) for kind in POINTS)
        self.assertEqual(eq_sections(points, 48000).shape, (0, 5))


class RunningTest(unittest.TestCase):
    def test_for_how_long_a_cascade_hears_the_worst_that_it_can_be_given(self):
        for sections in (
            equaliser.butterworth_high_pass(30.0, 24, 48000),
            np.concatenate([equaliser.bell(90.0, 9.0, 6.0, 48000), equaliser.low_shelf(60.0, -12.0, 0.7, 48000)]),
            equaliser.butterworth_low_pass(2000.0, 12, 44100),
        ):
            heard, total = heard_frames(sections), settle_frames(sections)
            sos = np.insert(sections, 3, 1.0, axis=1)  # SciPy's order: b0 b1 b2 a0 a1 a2
            response = signal.sosfilt(sos, np.eye(1, total)[0])
            worst = np.sign(response[::-1])  # full scale all along, and each frame adds to the last
            self.assertLess(heard, 0.75 * 0.45 * total)
            for silent, agrees in ((heard, self.assertLess), (round(0.8 * heard), self.assertGreater)):
                left = signal.sosfilt(sos, np.where(np.arange(total) < total - silent, worst, 0.0))[-1]
                agrees(20.0 * np.log10(abs(left)), -65.9, silent)

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
        assert_allclose(np.concatenate([first, second], axis=1), whole, atol=1e-7)
        assert_allclose(last, end, atol=1e-12)

    def test_in_pieces_of_any_length_it_is_the_plain_twin(self):
        # SciPy's sosfilt runs the same form one frame after another; its state is the same one.
        for channels in (1, 2):
            audio = noise(2 * BLOCK + 9, seed=4, channels=channels)
            sections = np.vstack([equaliser.bell(300.0, 6.0, 1.0, 48000), dc_blocker(48000)])
            sos = np.insert(sections, 3, 1.0, axis=1)
            expected, left = signal.sosfilt(sos, audio.astype(np.float64), axis=1, zi=np.zeros((2, channels, 2)))
            for lengths in ([1, 1, 2, 3], [BLOCK, BLOCK + 1], [BLOCK - 1, 1, 2], []):
                cuts = [0, *np.cumsum(lengths), audio.shape[1]]
                parts, state = [], None
                for first, end in itertools.pairwise(cuts):
                    part, state = run_sections(np.ascontiguousarray(audio[:, first:end]), sections, state)
                    parts.append(part)
                assert_allclose(np.concatenate(parts, axis=1), expected, atol=1e-7)
                assert_allclose(state, np.swapaxes(left, 0, 1), atol=1e-12)

    def test_a_state_of_another_shape_is_refused(self):
        with self.assertRaisesRegex(ValueError, "the state of this filter has the shape"):
            run_sections(noise(10), dc_blocker(48000), np.zeros((2, 3, 2)))

    def test_a_loop_is_filtered_in_its_steady_state(self):
        audio = noise(3000, seed=5)
        sections = equaliser.bell(50.0, 12.0, 4.0, 48000)
        rounds = filtered(np.tile(audio, 80), sections, looped=False)[:, -3000:]
        assert_allclose(filtered(audio, sections, looped=True), rounds, atol=2e-6)

    def test_filters_that_ring_for_seconds_close_a_short_loop(self):
        # A bell of +24 dB, Q 20, at 20 Hz rings for more than ten seconds. Its steady state under a loop is known: every
        # line of the loop's own spectrum times the response there (SciPy's).
        audio = noise(30000, seed=6)
        for rate in RATES:
            for sections in (equaliser.bell(20.0, 24.0, 20.0, rate), equaliser.notch(20.0, 50.0, rate)):
                both = np.vstack([sections, equaliser.butterworth_high_pass(30.0, 24, rate)])
                self.assertGreater(settle_frames(both), audio.shape[1])
                sos = np.insert(both, 3, 1.0, axis=1)
                at = np.fft.rfftfreq(audio.shape[1], 1 / rate)
                response = signal.sosfreqz(sos, at, fs=rate)[1]
                wanted = np.fft.irfft(np.fft.rfft(audio.astype(np.float64), axis=1) * response, audio.shape[1], axis=1)
                assert_allclose(filtered(audio, both, looped=True), wanted, atol=3e-6 * np.abs(wanted).max() + 2e-6)

    def test_the_dc_blocker_leaves_the_lowest_note_alone(self):
        # First order at 3 Hz: at 25 Hz, the lowest G of a bass, 10·log10(1 + (3/25)²) = 0.06 dB down.
        for rate in RATES:
            sos = signal.butter(1, 3.0, "highpass", fs=rate, output="sos")
            wanted = np.abs(signal.sosfreqz(sos, [0.5, 3.0, 25.0, 100.0], fs=rate)[1])
            found = np.abs(sections_response(dc_blocker(rate), np.array([0.5, 3.0, 25.0, 100.0]), rate))
            assert_allclose(found, wanted, rtol=1e-6)
            self.assertGreater(20 * np.log10(found[2]), -0.07)

    def test_what_has_died_away_is_silence(self):
        audio = np.zeros((1, 200000), np.float32)
        audio[0, 0] = 1.0
        out, _ = run_sections(audio, equaliser.butterworth_high_pass(2000.0, 24, 48000))
        tail = out[0, 100000:]
        np.testing.assert_array_equal(tail, 0.0)
        self.assertGreater(settle_frames(equaliser.butterworth_high_pass(20.0, 24, 48000)), 1000)
