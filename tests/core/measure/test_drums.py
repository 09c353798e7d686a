"""Onsets of synthesised drum loops, facts of a hit, the fitted duck, resonances, balance."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.document.equaliser import Bell, HighShelf
from apilado.core.dsp.ducks import drawn_shape
from apilado.core.dsp.filters import filtered
from apilado.core.dsp.kicks import kick_sound
from apilado.core.measure.balance import against_curve, against_piece, measure_piece, third_levels
from apilado.core.measure.bands import band_centres
from apilado.core.measure.drums import drum_facts, fitted_shape
from apilado.core.measure.onsets import onsets
from apilado.core.measure.resonances import resonances
from apilado.core.measure.spectrum import spectrum_of
from apilado.core.measure.stem import measured
from tests.support import noise


def struck(kind, rate, rng):
    """One drum: a falling sine with a click, a tone under noise, or a burst of high noise."""
    t = np.arange(round(0.25 * rate)) / rate
    if kind == "kick":
        return kick_sound(
            start_hz=240.0, end_hz=50.0, sweep_ms=100.0, decay_ms=240.0, click=0.3, drive_db=6.0, rate_hz=rate, seed=1
        )[0]
    if kind == "snare":
        return 0.5 * np.exp(-t / 0.05) * rng.standard_normal(t.size) * 0.6 + 0.4 * np.exp(-t / 0.04) * np.sin(
            2 * np.pi * 190 * t
        )
    hiss = np.diff(rng.standard_normal(t.size + 1))
    return 0.25 * np.exp(-t / 0.02) * hiss


def drum_loop(tempo, rate, seed):
    """Two bars of kick, snare and hats; (audio, [(seconds, kind)])."""
    rng = np.random.default_rng(seed)
    beat = 60.0 / tempo
    hits = [(b * beat, "kick") for b in (0, 2.5, 4, 6.75)] + [(b * beat, "snare") for b in (1, 3, 5, 7)]
    hits += [((b + 0.5) * beat, "hat") for b in range(8) if b + 0.5 != 2.5]
    audio = np.zeros(round(8 * beat * rate) + rate)
    for seconds, kind in hits:
        sound = struck(kind, rate, rng)
        at = round(seconds * rate)
        audio[at : at + sound.shape[0]] += sound
    return np.stack([audio, audio]).astype(np.float32) * 0.5, sorted(hits)


class OnsetTest(unittest.TestCase):
    def test_within_5_ms_none_missed_none_invented(self):
        for tempo in (72.0, 96.0, 126.0, 140.0, 174.0):
            for rate in (44100, 48000):
                with self.subTest(tempo=tempo, rate=rate):
                    audio, hits = drum_loop(tempo, rate, round(tempo))
                    found = onsets(audio, rate_hz=rate)
                    self.assertEqual(len(found), len(hits), [round(o.seconds * tempo / 60, 2) for o in found])
                    apart = [onset.seconds - seconds for onset, (seconds, _) in zip(found, hits, strict=True)]
                    self.assertLess(max(abs(a) for a in apart), 0.005)

    def test_kicks_are_told_by_their_low_share(self):
        audio, hits = drum_loop(120.0, 48000, 4)
        for onset, (_, kind) in zip(onsets(audio, rate_hz=48000), hits, strict=True):
            self.assertEqual(onset.low_share > 0.5, kind == "kick", (kind, onset))

    def test_a_hat_over_a_kicks_tail_is_no_kick(self):
        # Common practice: a kick with a long tuned tail, and hats through it. Tempo, pitch, tail and hats by seed.
        for seed in range(24):
            rng = np.random.default_rng(seed)
            rate = int(rng.choice((44100, 48000, 96000)))
            beat = 60.0 / rng.uniform(70.0, 150.0)
            tuned = {"end_hz": rng.uniform(38.0, 62.0), "decay_ms": rng.uniform(400.0, 1200.0), "click": 0.2}
            kick = kick_sound(start_hz=220.0, sweep_ms=60.0, drive_db=3.0, rate_hz=rate, seed=1, **tuned)[0]
            hits = [(2.0 * n * beat, "kick") for n in range(4)]
            hits += [((2 * n + b) * beat, "hat") for n in range(4) for b in (0.5, 1.0, 1.5) if rng.random() < 0.8]
            audio = np.zeros(round(9 * beat * rate) + rate)
            for seconds, kind in hits:
                at = round(seconds * rate)
                gain = 1.0 if kind == "kick" else rng.uniform(0.4, 1.2)
                sound = kick[: round(2 * beat * rate)] if kind == "kick" else struck("hat", rate, rng)
                audio[at : at + sound.shape[0]] += gain * sound
            found = onsets(np.stack([audio, audio]).astype(np.float32) * 0.4, rate_hz=rate)
            near = {kind: [] for _, kind in hits}
            for onset in found:
                apart, kind = min((abs(onset.seconds - seconds), kind) for seconds, kind in hits)
                self.assertLess(apart, 0.01, seed)
                near[kind].append(onset.low_share)
            self.assertEqual(len(near["kick"]), 4, seed)
            self.assertGreater(min(near["kick"]), 0.6, (seed, near))
            self.assertLess(max(near.get("hat", [0.0])), 0.2, (seed, near))

    def test_a_long_file_is_gone_through_in_parts(self):
        audio, hits = drum_loop(120.0, 48000, 6)
        again = np.concatenate([audio, audio, audio], axis=1)
        found = onsets(again, rate_hz=48000)
        self.assertEqual(len(found), 3 * len(hits))

    def test_silence_and_a_steady_tone_have_none_or_one(self):
        self.assertEqual(onsets(np.zeros((2, 48000), np.float32), rate_hz=48000), ())
        steady = np.sin(2 * np.pi * 220 * np.arange(96000) / 48000).astype(np.float32)
        self.assertEqual(len(onsets(np.stack([steady, steady]), rate_hz=48000)), 1)


class FactsTest(unittest.TestCase):
    def test_pitch_and_length_of_a_known_kick(self):
        for end, decay in ((48.0, 300.0), (62.0, 500.0)):
            hit = kick_sound(
                start_hz=300.0,
                end_hz=end,
                sweep_ms=40.0,
                decay_ms=decay,
                click=0.0,
                drive_db=0.0,
                rate_hz=48000,
                seed=1,
            )
            facts = drum_facts(np.repeat(hit, 2, axis=0), rate_hz=48000)
            self.assertAlmostEqual(facts.fundamental_hz, end, delta=1.5)
            # It falls by 60 dB in its decay time, a half cycle more or less; x/√(1 + x²) has taken 3.01 dB off its top.
            self.assertAlmostEqual(facts.tail_ms, decay * 23.01 / 60, delta=18.0)
            self.assertAlmostEqual(facts.length_ms, decay * 43.01 / 60, delta=18.0)

    def test_noise_has_no_fundamental(self):
        self.assertIsNone(drum_facts(noise(24000), rate_hz=48000).fundamental_hz)

    def test_a_fit_follows_a_straight_decay(self):
        # A hit that falls steadily by 20 dB in 200 ms asks for a duck that is straight from its depth to nothing.
        for fall_ms in (80.0, 200.0):
            envelope = -20.0 * np.arange(400) / fall_ms
            fit = fitted_shape(envelope, depth_db=9.0, longest_ms=400.0)
            self.assertLess(fit.deviation_db, 0.5)
            self.assertAlmostEqual(fit.hold_ms + fit.release_ms, fall_ms, delta=6.0)
            drawn = drawn_shape(
                depth_db=9.0,
                attack_frames=0,
                hold_frames=round(fit.hold_ms),
                release_frames=round(fit.release_ms),
                curve=fit.curve,
            )
            wanted = 9.0 * np.clip(1.0 - np.arange(drawn.shape[0]) / fall_ms, 0.0, 1.0)
            self.assertLess(float(np.abs(drawn - wanted).max()), 1.0)

    def test_a_fit_keeps_within_the_gap(self):
        fit = fitted_shape(np.zeros(900), depth_db=9.0, longest_ms=150.0)
        self.assertLessEqual(fit.hold_ms + fit.release_ms, 150.0)


class ResonanceTest(unittest.TestCase):
    def test_a_peak_is_found_where_it_was_put(self):
        sound = noise(4 * 48000)
        for hertz, q in ((2000.0, 8.0), (3150.0, 6.0), (6300.0, 10.0)):
            peaked = filtered(sound, Bell(frequency_hz=hertz, gain_db=15.0, q=q).sections(48000), looped=False)
            found = resonances(spectrum_of(peaked, rate_hz=48000), least_db=4.0)
            self.assertLess(abs(np.log2(found[0].frequency_hz / hertz)), 1 / 20)
            self.assertGreater(found[0].excess_db, 6.0)

    def test_slopes_and_harmonics_are_none(self):
        sloped = filtered(noise(4 * 48000), HighShelf(frequency_hz=3000.0, gain_db=-18.0).sections(48000), looped=False)
        self.assertEqual(resonances(spectrum_of(sloped, rate_hz=48000), least_db=4.0), ())
        t = np.arange(2 * 48000) / 48000
        saw = sum(np.sin(2 * np.pi * 110 * n * t) / n for n in range(1, 180)).astype(np.float32) * 0.3
        self.assertEqual(
            resonances(spectrum_of(np.stack([saw, saw]), rate_hz=48000), least_db=4.0, fundamental_hz=110.0), ()
        )


class BalanceTest(unittest.TestCase):
    def test_a_piece_against_itself_quieter_differs_in_loudness_alone(self):
        sound = noise(4 * 48000)
        pieces = [measure_piece(a, rate_hz=48000) for a in (sound, sound * np.float32(0.5))]
        found = against_piece(*pieces)
        self.assertAlmostEqual(found.loudness_difference_lu, 6.02, places=2)
        assert_allclose(found.difference_db[np.isfinite(found.difference_db)], 0.0, atol=0.01)
        assert_allclose(found.width_difference, 0.0, atol=1e-6)

    def test_a_long_piece_in_parts_is_the_whole(self):
        sound = noise(40 * 48000)
        whole = third_levels(measured(sound, 48000))
        assert_allclose(measure_piece(sound, rate_hz=48000).levels_db[3:], whole[3:], atol=0.25)

    def test_a_lift_shows_where_it_is(self):
        sound = noise(8 * 48000)
        lifted = filtered(sound, Bell(frequency_hz=1000.0, gain_db=9.0, q=4.0).sections(48000), looped=False)
        found = against_piece(*[measure_piece(a, rate_hz=48000) for a in (lifted, sound)])
        self.assertEqual(int(np.nanargmax(found.difference_db)), int(np.argmin(np.abs(band_centres(3) - 1000.0))))
        # White noise rises 1 dB per third: against a curve that does, nothing is left.
        curve = 10 * np.log10(band_centres(3))
        stem = measured(sound, 48000)
        assert_allclose(np.nan_to_num(against_curve(stem, curve).difference_db)[8:], 0.0, atol=0.6)


if __name__ == "__main__":
    unittest.main()
