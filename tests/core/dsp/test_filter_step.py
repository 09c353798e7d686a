"""The filter as a step: against SciPy's designs, closed forms and published formants; swept and at rest."""

import unittest

import numpy as np
from scipy import signal

from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.section import Change, PieceSection
from apilado.core.dsp.combs import feedback_of
from apilado.core.dsp.curves import Curve
from apilado.core.notes import Note
from apilado.core.render.targets import AS_HIGH, targets_of
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.filter import Filter
from tests.support import noise, path_of, plain_stack, rendered

RATE = 48000
CLOCK = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=True)
FRAMES = CLOCK.frames
LINES_HZ = np.arange(FRAMES // 2 + 1) * RATE / FRAMES


def response(step):
    """Of an impulse in a loop: what it does at each line."""
    impulse = np.zeros((1, FRAMES), np.float32)
    impulse[0, 0] = 1.0
    return np.fft.rfft(step.process(impulse, CLOCK)[0].astype(np.float64))


class ShapesTest(unittest.TestCase):
    def test_passes_without_resonance_are_butterworth(self):
        for shape, kind in (("low-pass", "low"), ("high-pass", "high")):
            for slope, order in ((12, 2), (24, 4)):
                for hertz in (60.0, 700.0, 6000.0):
                    found = response(Filter(shape=shape, slope=slope, cutoff_hz=hertz, resonance=0.0))
                    _, wanted = signal.sosfreqz(
                        signal.butter(order, hertz, kind, fs=RATE, output="sos"), LINES_HZ, fs=RATE
                    )
                    np.testing.assert_allclose(found, wanted, atol=2e-4, err_msg=f"{shape} {slope} {hertz}")

    def test_resonance_lifts_the_corner_alone(self):
        for resonance, lift_db in ((0.0, 0.0), (0.5, 16.0), (1.0, 32.0)):  # 20·log 40 of it
            found = np.abs(response(Filter(cutoff_hz=500.0, resonance=resonance, slope=12)))
            self.assertAlmostEqual(20.0 * np.log10(found[1000]), -3.01 + lift_db, delta=0.05)
            self.assertAlmostEqual(20.0 * np.log10(found[20]), 0.0, delta=0.05)

    def test_a_band_and_a_notch_are_as_wide_as_their_q_says(self):
        q = 0.7 * 40.0**0.5
        wanted = signal.freqz(*signal.iirnotch(900.0, q, fs=RATE), LINES_HZ, fs=RATE)[1]
        found = response(Filter(shape="notch", slope=12, cutoff_hz=900.0, resonance=0.5))
        np.testing.assert_allclose(np.abs(found), np.abs(wanted), atol=5e-3)
        band = response(Filter(shape="band-pass", slope=12, cutoff_hz=900.0, resonance=0.5))
        np.testing.assert_allclose(np.abs(band) ** 2 + np.abs(found) ** 2, 1.0, atol=1e-3)  # together they are all

    def test_a_comb_has_its_teeth_at_the_multiples(self):
        for resonance in (0.2, 0.6):
            step = Filter(shape="comb", cutoff_hz=200.0, resonance=resonance)
            back = feedback_of(resonance)
            found = np.abs(response(step))
            for tooth in range(1, 6):
                self.assertAlmostEqual(found[400 * tooth], 1.0, delta=0.02)
                self.assertAlmostEqual(found[400 * tooth + 200], (1.0 - back) / (1.0 + back), delta=0.02)
            np.testing.assert_allclose(found[:4000], np.abs(step.response(LINES_HZ[:4000], RATE)), atol=0.03)

    def test_vowels_have_the_formants_of_peterson_and_barney(self):
        # Their means for men, JASA 24, 1952, table II: the first two formants of the vowels of who'd, hod, heed.
        for place, formants in ((0.0, (300.0, 870.0)), (2.0, (730.0, 1090.0)), (4.0, (270.0, 2290.0))):
            found = np.abs(response(Filter(shape="vowel", vowel=place)))
            peaks = LINES_HZ[signal.find_peaks(found)[0]]
            for formant in formants:
                self.assertLess(np.min(np.abs(peaks / formant - 1.0)), 0.06, (place, formant, peaks))


class SweptTest(unittest.TestCase):
    def test_a_curve_at_rest_is_the_number(self):
        audio = 0.3 * noise(FRAMES)
        at = np.arange(0, FRAMES + 1, 16)
        for shape in ("low-pass", "high-pass", "band-pass", "notch", "comb", "vowel"):
            step = Filter(shape=shape, resonance=0.4)
            still = step.process(audio, CLOCK)
            name = "vowel" if shape == "vowel" else "cutoff_hz"
            curve = Curve(at, np.full(at.shape[0], getattr(step, name)))
            moving = step.model_copy(update={name: curve}).process(audio, CLOCK)
            self.assertLess(float(np.abs(moving - still).max()), 2e-4, shape)

    def test_it_stays_finite_and_comes_round_however_it_is_swept(self):
        audio = 0.3 * noise(FRAMES)
        at = np.arange(0, FRAMES + 1, 16)
        turns = np.sin(2.0 * np.pi * 40.0 * at / FRAMES)
        sweep = Curve(at, 600.0 * 2.0 ** (3.0 * turns))
        twice = Clock(tempo_bpm=60.0, beats=4.0, rate_hz=RATE, looped=True)
        again = Curve(np.concatenate([at[:-1], at + FRAMES]), np.concatenate([sweep.values[:-1], sweep.values]))
        for shape in ("low-pass", "high-pass", "band-pass", "notch", "comb"):
            step = Filter(shape=shape, resonance=0.8)
            once = step.model_copy(update={"cutoff_hz": sweep}).process(audio, CLOCK)
            self.assertTrue(np.all(np.isfinite(once)))
            self.assertLess(float(np.abs(once).max()), 40.0, shape)
            found = step.model_copy(update={"cutoff_hz": again}).process(np.tile(audio, 2), twice)
            self.assertLess(float(np.abs(found - np.tile(once, 2)).max()), 1e-4, shape)

    def test_drive_bends_before_it(self):
        wave = 0.9 * np.sin(2.0 * np.pi * 100.0 * np.arange(FRAMES) / RATE)
        audio = np.stack([wave, wave]).astype(np.float32)
        step = Filter(shape="band-pass", slope=12, cutoff_hz=300.0, resonance=0.6)
        clean, driven = (
            np.abs(np.fft.rfft(step.model_copy(update={"drive_db": db}).process(audio, CLOCK)[0].astype(np.float64)))
            for db in (0.0, 24.0)
        )
        self.assertLess(clean[600], 1e-3 * clean[200])
        self.assertGreater(driven[600], driven[200])


class FollowingTest(unittest.TestCase):
    """A filter that follows the notes stands where each of them has it."""

    def stack(self, follow, cutoff_hz=150.0, **changes):
        notes = tuple(
            Note(start_beats=b, length_beats=1.0, pitch=p) for b, p in ((0.0, 36), (1.0, 48), (2.0, 24), (3.0, 43))
        )
        step = Filter(id="f", cutoff_hz=cutoff_hz, slope=24, resonance=0.3, follow=follow)
        voice = Voice(envelope=Envelope(attack_ms=5.0, decay_ms=10000.0, sustain=1.0, release_ms=5.0))
        layer = Layer(id="a", source=ToneSource(tones=(Tone(shape="saw"),)), voice=voice, path=path_of(step))
        return plain_stack(**{"layers": (layer,), "pattern": notes, **changes})

    def test_each_note_is_filtered_as_by_a_cutoff_that_is_its_own(self):
        for follow in (1.0, 0.5):
            stack = self.stack(follow)
            found = rendered(stack)["a"]
            beat = stack.sample_rate // 2
            for place, pitch in enumerate((36, 48, 24, 43)):
                own = 150.0 * 2.0 ** (follow * (pitch - 36) / 12.0)
                wanted = rendered(self.stack(0.0, cutoff_hz=own))["a"]
                late = slice(place * beat + beat // 2, (place + 1) * beat - 600)
                apart = float(np.abs(found[:, late] - wanted[:, late]).max())
                self.assertLess(apart, 2e-3 * float(np.abs(wanted[:, late]).max()), (follow, pitch))

    def test_it_adds_to_what_else_moves_it_and_sections_have_it_otherwise(self):
        stack = self.stack(1.0)
        up = Movement(
            id="m", shape=AS_HIGH.shape, targets=(Target(id="t", path="layers/a/path/f/cutoff_hz", travel=1.0),)
        )
        found = rendered(stack.model_copy(update={"movements": (up,)}))["a"]
        wanted = rendered(self.stack(1.0, cutoff_hz=300.0))["a"]
        np.testing.assert_allclose(found, wanted, atol=1e-3 * float(np.abs(wanted).max()))
        two = self.stack(1.0, bars=2, pattern_bars=1)
        change = Change(path="layers/a/path/f/follow", value=0.0)
        section = PieceSection(id="s", name="flat", first_bar=2, last_bar=2, changes=(change,))
        joined = rendered(two.model_copy(update={"sections": (section,)}))["a"]
        flat, half = rendered(self.stack(0.0, bars=2, pattern_bars=1))["a"], rendered(two)["a"].shape[1] // 2
        late = slice(half + 12000, 2 * half - 2000)
        self.assertGreater(float(np.abs(flat[:, late] - rendered(two)["a"][:, late]).max()), 0.05)
        self.assertLess(float(np.abs(joined[:, late] - flat[:, late]).max()), 2e-3 * float(np.abs(flat).max()))
        early = slice(12000, half - 2000)
        following = rendered(two)["a"]
        self.assertLess(float(np.abs(joined[:, early] - following[:, early]).max()), 2e-3 * float(np.abs(flat).max()))

    def test_a_vowel_has_no_cutoff_and_without_notes_nothing_is_followed(self):
        self.assertEqual(Filter(shape="vowel", follow=1.0).follows_notes(), ())
        self.assertIn("follow", Filter(shape="vowel").unused())
        self.assertEqual(targets_of(self.stack(1.0, pattern=())), {})
