"""Samples: pitched by their speed, at their own length, held, in slices; and where their notes lie."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.document.layer import Layer
from apilado.core.document.stack import Stack
from apilado.core.dsp.sampling import held_places, read_at_places, stretched
from apilado.core.measure.pitch import pitch_hz
from apilado.core.notes import Note
from apilado.core.sources.sample import SampleSource
from apilado.core.treatments.filter import Filter
from apilado.core.units import midi_to_hz
from tests.core.sources.test_modulation import HELD
from tests.support import ENGINE, RATES, graph_of, loader, plain_stack, sha256, wav

ROOT_HZ = float(midi_to_hz(36.0))


def recorded(sound, rate=48000):
    content = wav(np.atleast_2d(sound).astype(np.float32), rate)
    return sha256(content), loader({sha256(content): content})


def bass_note(rate=48000, seconds=1.0, hertz=ROOT_HZ):
    t = np.arange(round(rate * seconds)) / rate
    return 0.4 * sum(np.sin(2 * np.pi * n * hertz * t) / n for n in range(1, 9))


ONE = (Note(length_beats=2.0, pitch=36),)


def played(asset, load, *, notes=ONE, rate=48000, **values):
    layer = Layer(id="a", source=SampleSource(asset=asset, velocity=0.0, **values), voice=HELD)
    stack = plain_stack(layers=(layer,), pattern=notes, sample_rate=rate)
    (found,) = ENGINE.run([graph_of(Stack.model_validate(stack), load).sources["a"]])
    return found[0]


class ReadTest(unittest.TestCase):
    def test_a_sine_is_read_at_any_speed_and_nothing_over_half_of_the_rate_is(self):
        rate, t = 48000, np.arange(48000) / 48000
        for hertz, speed in ((100.0, 1.0), (1000.0, 1.26), (5000.0, 0.4), (200.0, 7.3)):
            sound = np.sin(2 * np.pi * hertz * t)[None].astype(np.float32)
            places = 300.0 + np.arange(5000) * speed
            found = read_at_places(sound, places, speed)[0]
            assert_allclose(found, np.sin(2 * np.pi * hertz * places / rate), atol=1e-5)
        loud = np.sin(2 * np.pi * 9000.0 * t)[None].astype(np.float32)
        self.assertLess(np.abs(read_at_places(loud, 300.0 + np.arange(5000) * 3.0, 3.0)).max(), 1e-4)

    def test_before_its_first_frame_and_behind_its_last_there_is_nothing(self):
        found = read_at_places(np.ones((1, 100), np.float32), np.array([-80.0, -30.0, 50.0, 130.0, 180.0]), 1.0)[0]
        assert_allclose(found, [0.0, 0.0, 1.0, 0.0, 0.0], atol=0.03)


class PitchedTest(unittest.TestCase):
    def test_by_its_speed_at_all_rates(self):
        for rate in RATES:
            asset, load = recorded(bass_note(44100), 44100)
            for pitch in (24, 36, 43, 55):
                sound = played(asset, load, notes=(Note(length_beats=0.5, pitch=pitch),), rate=rate)
                found = pitch_hz(sound[round(0.03 * rate) : round(0.2 * rate)], rate)
                self.assertLess(abs(1200 * np.log2(found / midi_to_hz(float(pitch)))), 3.0, (rate, pitch))

    def test_its_root_and_how_far_that_is_off_are_heard(self):
        asset, load = recorded(bass_note(hertz=ROOT_HZ * 2 ** (30.0 / 1200.0)))
        sound = played(asset, load, root=36, root_cents=30.0)
        self.assertLess(abs(1200 * np.log2(pitch_hz(sound[2000:12000], 48000) / ROOT_HZ)), 2.0)

    def test_not_at_all_it_is_the_file(self):
        sound = bass_note()
        asset, load = recorded(sound)
        found = played(asset, load, notes=(Note(length_beats=2.0, pitch=60),), pitching="none")
        assert_allclose(found[2000:40000], sound[2000:40000], atol=2e-3)

    def test_keeping_its_length_it_keeps_it_and_its_pitch_is_the_note(self):
        asset, load = recorded(bass_note(seconds=0.8))
        for pitch in (31, 36, 43, 48):
            sound = played(asset, load, notes=(Note(length_beats=2.0, pitch=pitch),), pitching="length")
            found = pitch_hz(sound[round(0.2 * 48000) : round(0.6 * 48000)], 48000)
            self.assertLess(abs(1200 * np.log2(found / midi_to_hz(float(pitch)))), 3.0, pitch)
            loud = np.flatnonzero(np.abs(sound) > 0.02)
            self.assertLess(abs(loud[-1] / 48000 - 0.8), 0.03, pitch)

    def test_fitted_to_beats_it_is_as_long_as_they_are(self):
        asset, load = recorded(bass_note(seconds=0.9))
        sound = played(asset, load, notes=(Note(length_beats=4.0, pitch=36),), fits_beats=3.0)
        beat = plain_stack().beats and 60.0 / plain_stack().tempo_bpm
        loud = np.flatnonzero(np.abs(sound) > 0.02)
        self.assertLess(abs(loud[-1] / 48000 - 3.0 * beat), 0.03)
        self.assertLess(abs(1200 * np.log2(pitch_hz(sound[20000:40000], 48000) / ROOT_HZ)), 3.0)


class StretchTest(unittest.TestCase):
    def test_its_length_is_met_to_the_frame_its_pitch_kept_and_a_click_placed(self):
        for rate in RATES:
            sound = bass_note(rate, 1.0)
            sound[rate // 2] += 0.9
            for share in (0.3, 0.5, 0.8, 1.25, 2.0, 11.0):
                frames = round(rate * share)
                found = stretched(sound[None].astype(np.float32), frames, rate)
                self.assertEqual(found.shape, (1, frames))
                apart = 1200 * np.log2(pitch_hz(found[0, frames // 5 : frames // 5 + rate // 5], rate) / ROOT_HZ)
                self.assertLess(abs(apart), 3.0 if share < 8.0 else 15.0, (rate, share))
                if 0.5 <= share <= 1.5:  # drawn out further it comes twice
                    click = np.argmax(np.abs(np.diff(found[0])))
                    self.assertLess(abs(click - frames / 2) / rate, 0.005, (rate, share))

    def test_it_is_the_same_every_time(self):
        sound = bass_note()[None].astype(np.float32)
        assert_allclose(stretched(sound, 60000, 48000), stretched(sound, 60000, 48000), rtol=0, atol=0)


class HeldTest(unittest.TestCase):
    def test_loops_of_5_to_200_ms_have_no_step_at_their_join(self):
        dice = np.random.default_rng(4)
        t = np.arange(48000) / 48000
        sound = 0.3 * np.sin(2 * np.pi * 97.3 * t) + 0.2 * np.sin(2 * np.pi * 431.0 * t + 1.0)
        asset, load = recorded(sound)
        steepest = np.abs(np.diff(sound)).max()
        for length in (5.0, 17.0, 60.0, 200.0):
            at = float(dice.uniform(60.0, 300.0))
            found = played(
                asset, load, notes=(Note(length_beats=4.0, pitch=36),), held=True, hold_at_ms=at, hold_ms=length
            )
            inside = found[2000:90000]
            self.assertGreater(np.sqrt(np.mean(inside**2)), 0.05)
            # A fade adds at most what both sides differ by over its length.
            faded = 0.25 * length * 48.0
            self.assertLess(np.abs(np.diff(inside)).max(), 2.0 * steepest + 1.0 / faded, length)

    def test_of_a_whole_number_of_cycles_it_is_the_tone_going_on(self):
        t = np.arange(24000) / 48000
        asset, load = recorded(0.5 * np.sin(2 * np.pi * 100.0 * t))
        found = played(
            asset, load, notes=(Note(length_beats=4.0, pitch=36),), held=True, hold_at_ms=100.0, hold_ms=50.0
        )
        there = np.arange(2000, 90000)
        assert_allclose(found[there], 0.5 * np.sin(2 * np.pi * 100.0 * there / 48000), atol=2e-3)

    def test_where_it_is_held_may_move_from_round_to_round(self):
        begins = np.linspace(1000.0, 2000.0, 4000)
        here, faded, share = held_places(np.arange(4000.0), begins, 480.0, 120.0)
        turns = np.flatnonzero(np.diff(here) < 0.0)
        self.assertGreater(turns.size, 3)
        for turn in turns:
            # A round ends where the next begins: it has gone over to it by then.
            self.assertGreater(share[turn], 0.98)
            self.assertLess(abs(faded[turn] + 1.0 - here[turn + 1]), 1e-6)
        self.assertTrue(np.all(np.diff(here[:900]) == 1.0))


class SliceTest(unittest.TestCase):
    def test_each_note_plays_its_own_and_none_of_the_next(self):
        rate, length = 48000, 12000
        sound = np.concatenate([amplitude * np.ones(length) for amplitude in (0.1, 0.2, 0.3, 0.4)])
        asset, load = recorded(sound)
        beat = rate * 60.0 / plain_stack().tempo_bpm
        notes = tuple(
            Note(start_beats=float(n), length_beats=1.0, pitch=36 + pitch) for n, pitch in enumerate((2, 0, 3, 5))
        )
        found = played(asset, load, notes=notes, sliced=True, slices_ms=(0.0, 250.0, 500.0, 750.0))
        for n, expected in enumerate((0.3, 0.1, 0.4, 0.2)):
            begin = round(n * beat)
            assert_allclose(found[begin + 500 : begin + length - 500], expected, atol=2e-3)
            if beat > length + 500:
                assert_allclose(found[begin + length + 100 : round((n + 1) * beat) - 100], 0.0, atol=2e-3)

    def test_reversed_is_reversed(self):
        sound = bass_note(seconds=0.5) * np.linspace(1.0, 0.1, 24000)
        asset, load = recorded(sound)
        turned, load_turned = recorded(sound[::-1])
        given = {"notes": (Note(length_beats=2.0, pitch=36),)}
        assert_allclose(played(asset, load, backwards=True, **given), played(turned, load_turned, **given), atol=1e-5)

    def test_start_end_and_fades(self):
        asset, load = recorded(0.5 * np.ones(48000))
        found = played(asset, load, start_ms=100.0, end_ms=400.0, fade_in_ms=50.0, fade_out_ms=100.0)
        frames = round(0.3 * 48000)
        self.assertAlmostEqual(found[round(0.025 * 48000)], 0.25, delta=0.02)
        self.assertAlmostEqual(found[frames // 2], 0.5, delta=0.01)
        self.assertAlmostEqual(found[frames - round(0.05 * 48000)], 0.25, delta=0.02)
        assert_allclose(found[frames + 100 :], 0.0, atol=1e-3)

    def test_its_filters_are_heard(self):
        asset, load = recorded(bass_note())
        whole = played(asset, load)
        low = played(asset, load, filters=(Filter(id="f", cutoff_hz=90.0),))
        self.assertLess(np.abs(np.diff(low)).max(), 0.6 * np.abs(np.diff(whole)).max())

    def test_played_out_a_short_note_is_the_whole_of_it(self):
        asset, load = recorded(0.5 * np.ones(30000))
        short = (Note(length_beats=0.1, pitch=36),)
        self.assertLess(np.abs(played(asset, load, notes=short)[20000:]).max(), 1e-3)
        assert_allclose(played(asset, load, notes=short, plays_out=True)[2000:29000], 0.5, atol=2e-3)
