import unittest
import warnings

import librosa
import numpy as np
from numpy.testing import assert_allclose

from apilado.core.dsp.cycles import shape_harmonics
from apilado.core.measure.pitch import HARMONICS, HARMONICS_TO_HZ, _peaks, _rivals, harmonic_strength, pitch_hz
from apilado.core.units import midi_to_hz
from tests.support import noise

RATE = 48000


def wave(frequency_hz, shape="saw", frames=9600, rate=48000):
    t = np.arange(frames) / rate
    series = shape_harmonics(shape, 30)
    return sum(abs(c) * np.sin(2 * np.pi * (n + 1) * frequency_hz * t + np.angle(c)) for n, c in enumerate(series))


def plain_strength(roots, hertz, width):
    """`harmonic_strength` on whole arrays."""
    sums, each = np.concatenate([[0.0], np.cumsum(roots)]), hertz[:, None]

    def upto(harmonic):
        return np.interp(each * harmonic / width, np.arange(sums.shape[0]) - 0.5, sums)

    low, high = upto(HARMONICS - 0.25), upto(HARMONICS + 0.25)
    between = 0.5 * (low - upto(HARMONICS - 0.75) + upto(HARMONICS + 0.75) - high)
    weights = ((HARMONICS + 0.25) * each <= HARMONICS_TO_HZ) / np.sqrt(HARMONICS * each)
    norm = np.sqrt(np.sum(weights**2, axis=1) * hertz / (2.0 * width) * np.sum(roots**2))
    return np.sum(weights * (high - low - between), axis=1) / norm


class PitchTest(unittest.TestCase):
    def test_closed_form_waves(self):
        for pitch in range(23, 60, 3):
            for shape in ("sine", "saw", "square", "triangle"):
                hertz = float(midi_to_hz(float(pitch)))
                with self.subTest(pitch=pitch, shape=shape):
                    found = pitch_hz(wave(hertz, shape), 48000)
                    self.assertLess(abs(1200 * np.log2(found / hertz)), 3.0)

    def test_as_librosa_hears_it(self):
        for hertz in (41.2, 87.3):
            signal = wave(hertz, "saw", frames=24000)
            heard = librosa.yin(signal, fmin=30, fmax=400, sr=48000, frame_length=8192)
            self.assertLess(abs(1200 * np.log2(pitch_hz(signal[:9600], 48000) / np.median(heard))), 10.0)

    def test_noise_and_silence_have_none(self):
        self.assertIsNone(pitch_hz(noise(9600)[0], 48000))
        self.assertIsNone(pitch_hz(np.zeros(9600), 48000))

    def test_peaks_and_harmonics_as_they_are_without_loops(self):
        rng, lags = np.random.default_rng(8), np.arange(900)
        for hertz in (31.0, 55.0, 130.0):
            shape = sum(rng.uniform(0.2, 1.0) * np.cos(2 * np.pi * n * hertz * lags / 12000.0) for n in (1, 2, 3))
            likeness = shape / shape[0] + 0.02 * rng.standard_normal(900)
            inner, below = likeness[1:-1], np.flatnonzero(likeness < 0.0)[0]
            at = np.flatnonzero((inner > likeness[:-2]) & (inner >= likeness[2:]) & (inner > 0.0)) + 1
            at = at[(at > below) & (at >= 6.0)]
            a, b, c = likeness[at - 1], likeness[at], likeness[at + 1]
            aside = 0.5 * (a - c) / (a - 2.0 * b + c)
            periods, heights = _peaks(likeness, 6.0)
            assert_allclose(periods, at + aside)
            assert_allclose(heights, b - 0.25 * (a - c) * aside)
            roots, asked = rng.uniform(0.0, 1.0, 1200), hertz * np.array([0.5, 1.0, 2.0])
            assert_allclose(harmonic_strength(roots, asked, 2.1), plain_strength(roots, asked, 2.1))

    def test_a_longer_period_has_to_repeat_better(self):
        periods, multiples = np.array([50.0, 100.0, 200.0]), np.array([2.0, 0.5])
        for longer, wanted in ((0.952, [100.0, 50.0]), (0.956, [100.0, 50.0, 200.0])):
            found, _heights = _rivals(periods, np.array([0.8, 0.95, longer]), 40.0, multiples)
            self.assertEqual(list(found), wanted)
            self.assertEqual(list(_rivals(periods, np.array([0.8, 0.95, longer]), 120.0, multiples)[0]), [100.0])

    def test_a_note_without_its_fundamental(self):
        # What a middle layer keeps of a note has no fundamental left: its period is still that of the note.
        for pitch in (43, 47, 53, 57):
            hertz = float(midi_to_hz(float(pitch)))
            t = np.arange(7680) / RATE
            upper = sum(np.sin(2 * np.pi * n * hertz * t + n * n) / n for n in range(3, 20))
            self.assertLess(abs(1200 * np.log2(pitch_hz(upper, RATE) / hertz)), 10.0)


def string(rng, hertz):
    """300 ms of a plucked or slapped string from 15 ms after its start, made of dying, stiff, beating partials.

    Partials of a stiff string lie at n·f·√(1 + B·n²) (H. Fletcher, JASA 36, 1964); where it is plucked and where the
    pickup lies take some of them away; the fundamental is up to 26 dB down, as at a pickup near the bridge, and up to
    three times as much noise as string sounds at the slap.
    """
    t = np.arange(int(0.315 * RATE)) / RATE
    stiff, pickup, plucked = 10 ** rng.uniform(-4.5, -3.2), rng.uniform(0.05, 0.5), rng.uniform(0.05, 0.4)
    weak = 10 ** (rng.choice([0.0, 0.0, -10.0, -20.0, -26.0]) / 20)
    tone = np.zeros_like(t)
    for n in range(1, 40):
        partial = hertz * n * np.sqrt((1 + stiff * n * n) / (1 + stiff))
        level = abs(np.sin(np.pi * n * pickup) * np.sin(np.pi * n * plucked)) / n ** rng.uniform(0.6, 1.3)
        dying = np.exp(-t * n**0.7 / rng.uniform(0.25, 0.9))
        beating = 1 + 0.3 * np.sin(2 * np.pi * rng.uniform(0.3, 2.0) * t + rng.uniform(0, 6))
        phase = rng.uniform(0, 2 * np.pi)
        if partial < 8000:
            tone += level * (weak if n == 1 else 1.0) * dying * beating * np.cos(2 * np.pi * partial * t + phase)
    tone /= np.sqrt(np.mean(tone**2))
    slap = rng.choice([0.0, 0.0, 1.0, 3.0]) * rng.standard_normal(t.shape) * np.exp(-t / 0.02)
    return (tone + slap + 10 ** (-rng.uniform(25, 60) / 20) * rng.standard_normal(t.shape))[int(0.015 * RATE) :]


class PluckedTest(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(1)
        notes = [float(midi_to_hz(rng.integers(23, 48) + rng.uniform(-0.4, 0.4))) for _ in range(200)]
        self.notes = [(hertz, string(rng, hertz)) for hertz in notes]

    def off_cents(self, found, hertz):
        return np.inf if found is None else abs(1200 * np.log2(found / hertz))

    def test_plucked_and_slapped_strings_are_found_in_their_octave(self):
        missed = [hertz for hertz, note in self.notes if self.off_cents(pitch_hz(note[-7680:], RATE), hertz) > 30.0]
        self.assertEqual(missed, [])

    def test_no_worse_than_a_reference(self):
        # M. Mauch, S. Dixon, "pYIN", ICASSP 2014, as librosa has it.
        ours, theirs = [], []
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            for hertz, note in self.notes[:24]:
                track, _, _ = librosa.pyin(note, fmin=25, fmax=400, sr=RATE, frame_length=8192)
                heard = track[np.isfinite(track)]
                theirs.append(self.off_cents(float(np.median(heard)) if heard.size else None, hertz))
                ours.append(self.off_cents(pitch_hz(note[-7680:], RATE), hertz))
        self.assertLessEqual(sum(cents > 50.0 for cents in ours), sum(cents > 50.0 for cents in theirs))
        self.assertLessEqual(np.median(ours), np.median(theirs) + 2.0)
