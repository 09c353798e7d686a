"""Gate, transient and offset as steps of a path, against what is known of their signals."""

import unittest

import numpy as np

from apilado.core.clock import Clock
from apilado.core.treatments.gate import GateStep
from apilado.core.treatments.offset import Offset
from apilado.core.treatments.transient import Transient
from tests.support import noise

RATE = 48000
ONCE = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=False)
LOOP = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=RATE, looped=True)
FRAMES = LOOP.frames


def steps(*levels_db):
    """A tone of 200 Hz at one level after another, each as long."""
    gains = 10.0 ** (np.repeat(levels_db, FRAMES // len(levels_db)) / 20.0)
    wave = gains * np.sin(2.0 * np.pi * 200.0 * np.arange(FRAMES) / RATE)
    return np.stack([wave, wave]).astype(np.float32)


class GateTest(unittest.TestCase):
    def test_it_opens_above_its_threshold_and_shuts_below(self):
        gate = GateStep(threshold_db=-20.0, range_db=30.0, attack_ms=0.0, hold_ms=50.0, release_ms=20.0, back_db=0.0)
        taken = gate.reduction(steps(-30.0, -10.0, -30.0, -30.0), ONCE)
        quarter = FRAMES // 4
        np.testing.assert_allclose(taken[: quarter - 10], 30.0, atol=1e-4)
        np.testing.assert_allclose(taken[quarter + 500 : 2 * quarter], 0.0, atol=1e-4)
        # The level falls by 20 dB at 10 ms a factor of e, the hold goes by, then 30 dB come back at 20 ms a factor of e.
        falls = 0.010 * np.log(10.0 ** (10.0 / 20.0))
        shuts = 2 * quarter + round((falls + 0.050) * RATE)
        self.assertLess(float(taken[shuts - 300]), 0.01)
        self.assertAlmostEqual(float(taken[shuts + round(0.020 * RATE)]), 30.0 * (1.0 - np.exp(-1.0)), delta=0.8)

    def test_it_does_not_flutter_between_its_two_thresholds(self):
        wavering = steps(*([-19.0, -21.0] * 8))
        shut = [
            int(np.sum(np.diff((gate.reduction(wavering, ONCE) > 20.0).astype(int)) == 1))
            for gate in (GateStep(threshold_db=-20.0, hold_ms=0.0, release_ms=5.0, back_db=back) for back in (0.0, 6.0))
        ]
        self.assertGreater(shut[0], 4)
        self.assertEqual(shut[1], 0)

    def test_a_loop_begins_as_the_round_before_has_left_it(self):
        audio = steps(-40.0, -40.0, -10.0, -10.0)
        gate = GateStep(threshold_db=-20.0, hold_ms=40.0)
        once = gate.reduction(audio, LOOP)
        twice = Clock(tempo_bpm=60.0, beats=4.0, rate_hz=RATE, looped=True)
        np.testing.assert_allclose(
            gate.reduction(np.concatenate([audio, audio], axis=1), twice), np.tile(once, 2), atol=1e-5
        )
        self.assertLess(float(once[100]), 1e-9)  # held open over the seam


class TransientTest(unittest.TestCase):
    def test_attacks_and_what_follows_whatever_the_level(self):
        t = np.arange(FRAMES // 4) / RATE
        hit = np.exp(-t / 0.12) * np.sin(2.0 * np.pi * 90.0 * t)
        for level in (0.05, 0.8):
            audio = (level * np.stack([np.tile(hit, 4)] * 2)).astype(np.float32)
            for name, first, last in (("attack_db", 0.002, 0.010), ("sustain_db", 0.1, 0.25)):
                cut = slice(round(first * RATE), round(last * RATE))
                plain = Transient(attack_db=0.0).process(audio, LOOP)
                np.testing.assert_array_equal(plain, audio)
                found = Transient(**{"attack_db": 0.0, name: 9.0}).process(audio, LOOP)
                gain = 20.0 * np.log10(np.abs(found[0, cut]).max() / np.abs(audio[0, cut]).max())
                self.assertGreater(gain, 4.0, (name, level))
                self.assertLess(gain, 9.1)
        # Once round it is the same wherever the round begins.
        shaped = Transient(attack_db=6.0, sustain_db=-6.0)
        rolled = shaped.process(np.roll(audio, 1234, axis=1), LOOP)
        np.testing.assert_allclose(rolled, np.roll(shaped.process(audio, LOOP), 1234, axis=1), atol=2e-5)


class OffsetTest(unittest.TestCase):
    def test_level_pan_polarity_and_delay(self):
        audio = noise(FRAMES)
        np.testing.assert_array_equal(Offset().process(audio, LOOP), audio)
        found = Offset(level_db=-6.0206, polarity="inverted", delay_ms=10.0).process(audio, LOOP)
        np.testing.assert_allclose(found, -0.5 * np.roll(audio, 480, axis=1), atol=1e-5)
        left = Offset(pan=-1.0).process(audio, LOOP)
        np.testing.assert_array_equal(left[1], np.zeros(FRAMES, np.float32))
        np.testing.assert_allclose(left[0], audio[0], atol=1e-6)
        one = audio[:1]
        self.assertEqual(Offset(level_db=-3.0).process(one, LOOP).shape, one.shape)
        self.assertEqual(Offset(pan=0.5).process(one, LOOP).shape, audio.shape)
