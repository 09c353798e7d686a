"""Delay and reverb: against closed forms, decay curves of ISO 3382-1, and what the trade asks of a room under a bass."""

import itertools
import unittest
from unittest.mock import patch

import numpy as np
from scipy import signal
from scipy.linalg import hadamard as hadamard_matrix

from apilado.core.clock import Clock
from apilado.core.dsp.curves import Curve, knots
from apilado.core.dsp.rooms import SPREADERS_MS, Room, in_room, line_frames
from apilado.core.treatments.delay import NOTE_BEATS, Delay
from apilado.core.treatments.reverb import Reverb
from tests.support import RATES, noise

RATE = 48000


def clock_of(seconds, rate=RATE, looped=True, bpm=60.0):
    return Clock(tempo_bpm=bpm, beats=seconds * bpm / 60.0, rate_hz=rate, looped=looped)


def impulse(clock):
    sound = np.zeros((2, clock.frames), np.float32)
    sound[:, 0] = 1.0
    return sound


def plain(**values):
    return Delay(mono_below_hz=0.0, blend=1.0, dry_stays=False, **values)


class DelayTest(unittest.TestCase):
    def test_echoes_come_to_the_sample_at_every_rate(self):
        for rate in RATES:
            clock = clock_of(3, rate, looped=False)
            heard = plain(left_ms=11.0, right_ms=250.0, feedback=0.5).process(impulse(clock), clock)
            for side, ms in enumerate((11.0, 250.0)):
                late = round(ms * rate / 1000.0)
                wanted = np.zeros(clock.frames)
                echoes = np.arange(1, (clock.frames - 1) // late + 1)
                wanted[echoes * late] = 0.5 ** (echoes - 1.0)
                np.testing.assert_allclose(heard[side], wanted, atol=1e-6)

    def test_note_values_are_what_they_say_at_odd_tempi(self):
        for note, beats in NOTE_BEATS.items():
            clock = clock_of(4, looped=False, bpm=87.3)
            heard = plain(left_note=note, right_note="1/8").process(impulse(clock), clock)
            self.assertEqual(int(np.argmax(heard[0])), round(beats * 60.0 / 87.3 * RATE), note)
            self.assertEqual(int(np.argmax(heard[1])), round(0.5 * 60.0 / 87.3 * RATE))

    def test_ping_pong_goes_from_side_to_side(self):
        clock = clock_of(2, looped=False)
        heard = plain(left_ms=100.0, right_ms=150.0, feedback=0.6, ping_pong=True).process(impulse(clock), clock)
        for side, ms, gain in ((0, 100, 1.0), (1, 250, 0.6), (0, 350, 0.36), (1, 500, 0.216)):
            self.assertAlmostEqual(float(heard[side, ms * 48]), gain, places=5)
            self.assertEqual(float(heard[1 - side, ms * 48]), 0.0)

    def test_each_echo_has_gone_through_the_filters_once_more(self):
        clock = clock_of(2, looped=False)
        step = plain(left_ms=200.0, right_ms=200.0, feedback=0.8, low_cut_hz=300.0, high_cut_hz=3000.0)
        heard = step.process(impulse(clock), clock)[0].astype(np.float64)
        spectra = [np.abs(np.fft.rfft(heard[n * 9600 : (n + 1) * 9600])) for n in (1, 2, 3)]
        for low, high in itertools.pairwise(spectra):
            np.testing.assert_allclose(high[4:2000], 0.8 * low[4:2000] * spectra[0][4:2000], rtol=0.02, atol=1e-3)
        at = [round(hertz / 5.0) for hertz in (300.0, 3000.0)]
        np.testing.assert_allclose(20.0 * np.log10(spectra[0][at]), -3.0, atol=0.6)

    def test_the_dry_centre_stays_and_opposed_sides_vanish_in_mono(self):
        clock = clock_of(2)
        middle = np.repeat(noise(clock.frames, channels=1), 2, axis=0)
        step = Delay(left_ms=14.0, right_ms=14.0, opposed=True, blend=0.7, mono_below_hz=0.0)
        heard = step.process(middle, clock)
        np.testing.assert_allclose(heard.mean(axis=0), middle[0], atol=1e-6)
        np.testing.assert_allclose((heard[0] - heard[1]) / 2.0, 0.7 * np.roll(middle[0], 672), atol=1e-6)

    def test_a_loop_shorter_than_its_echoes_is_the_sum_of_all_rounds(self):
        clock = clock_of(0.5)
        once = clock_of(40, looped=False)
        step = plain(left_ms=700.0, right_ms=333.0, feedback=0.7, high_cut_hz=4000.0)
        sound = noise(clock.frames)
        whole = step.process(np.pad(sound, ((0, 0), (0, once.frames - clock.frames))), once).astype(np.float64)
        folded = whole.reshape(2, -1, clock.frames).sum(axis=1)
        np.testing.assert_allclose(step.process(sound, clock), folded, atol=2e-5)

    def test_a_time_that_moves_comes_round(self):
        clock, twice = clock_of(1), clock_of(2)
        at = knots(clock.frames)
        values = 40.0 + 15.0 * np.sin(2.0 * np.pi * at / clock.frames)
        both = Curve(np.concatenate([at[:-1], at + clock.frames]), np.concatenate([values[:-1], values]))
        sound = noise(clock.frames)
        made = {**dict(plain(feedback=0.6, right_ms=21.0))}
        loop = Delay.model_construct(**{**made, "left_ms": Curve(at, values)}).process(sound, clock)
        again = Delay.model_construct(**{**made, "left_ms": both}).process(np.tile(sound, 2), twice)
        np.testing.assert_allclose(again, np.tile(loop, 2), atol=1e-5)


def t30(response, rate):
    """RT60 from -5 to -35 dB of the decay curve, integrated backwards (ISO 3382-1)."""
    energy = np.cumsum((response.astype(np.float64) ** 2)[::-1])[::-1]
    curve = 10.0 * np.log10(np.maximum(energy / energy[0], 1e-12))
    first, last = int(np.argmax(curve < -5.0)), int(np.argmax(curve < -35.0))
    return -60.0 / np.polyfit(np.arange(first, last) / rate, curve[first:last], 1)[0]


class RoomTest(unittest.TestCase):
    def test_blocks_are_what_comes_frame_by_frame(self):
        # Lines that are shorter than a block of the kernel, and longer; all-passes of a few frames.
        for size, rate, damping in ((2.0, 8000, 1.0), (10.0, 8000, 0.3), (60.0, 8000, 0.0), (4.0, 48000, 0.5)):
            room, sound = Room(0.7, size, damping), noise(2500)
            with patch("apilado.core.dsp.rooms.BLOCKS_AT_ONCE", 2):  # in many pieces
                found = in_room(sound, room, rate_hz=rate, looped=False)
            np.testing.assert_allclose(found, frame_by_frame(sound, room, rate), atol=1e-6)


def frame_by_frame(sound, room, rate):
    """A room as it is told: all-passes, lines, low-passes, a Hadamard matrix."""
    spreaders = [[[0.0] * max(2, round(ms * rate / 1000.0)) for ms in side] for side in SPREADERS_MS]
    lengths = np.array(line_frames(room.size_m, rate))
    low = 10.0 ** (-3.0 * lengths / (room.decay_s * rate))
    high = low ** (1.0 + 19.0 * room.damping)
    poles = (low - high) / (low + high)
    lines, damped = np.zeros((16, lengths.max())), np.zeros(16)
    hadamard, each, out = hadamard_matrix(16), np.arange(16), np.empty(sound.shape)
    for n in range(sound.shape[1]):
        fresh = []
        for side, rings in enumerate(spreaders):
            now = float(sound[side, n]) * room.level()
            for ring in rings:
                old = ring.pop(0)
                ring.append(now - 0.55 * old)
                now = old + 0.55 * ring[-1]
            fresh.append(now)
        places = n % lengths
        damped = lines[each, places] * low * (1.0 - poles) + poles * damped
        out[0, n] = 0.5 * np.sum(damped[0::4] - damped[2::4])
        out[1, n] = 0.5 * np.sum(damped[1::4] - damped[3::4])
        lines[each, places] = 0.25 * hadamard @ damped + np.tile(fresh, 8)
    return out


class ReverbTest(unittest.TestCase):
    def test_it_dies_away_in_the_time_it_says(self):
        for rate in RATES:
            for decay, size in ((0.5, 10.0), (1.2, 10.0), (3.0, 40.0), (0.8, 3.0), (8.0, 60.0)):
                self.assertGreater(decay, 10.0 * size / 343.0)  # at least ten times as long as its lines
                clock = clock_of(1.2 * decay + 0.5, rate, looped=False)
                room = {"pre_delay_ms": 0.0, "damping": 0.0, "low_cut_hz": 0.0, "high_cut_hz": 20000.0, "blend": 1.0}
                heard = Reverb(decay_s=decay, size_m=size, **room).process(impulse(clock), clock)
                for side in heard:
                    self.assertLess(abs(t30(side, rate) / decay - 1.0), 0.1, (rate, decay, size))

    def test_damping_lets_the_top_die_sooner_and_the_bottom_as_before(self):
        clock = clock_of(4, looped=False)
        bands = [signal.butter(3, (low, 2.0 * low), "band", fs=RATE, output="sos") for low in (150.0, 8000.0)]
        found = {}
        for damping in (0.0, 0.5):
            step = Reverb(decay_s=2.0, damping=damping, low_cut_hz=0.0, high_cut_hz=20000.0, blend=1.0)
            heard = step.process(impulse(clock), clock)[0].astype(np.float64)
            found[damping] = [t30(signal.sosfilt(band, heard), RATE) for band in bands]
        self.assertAlmostEqual(found[0.5][0] / found[0.0][0], 1.0, delta=0.15)
        self.assertLess(found[0.5][1] / found[0.0][1], 0.5)

    def test_nothing_lies_below_its_low_cut(self):
        clock = clock_of(8)
        sound = noise(clock.frames, amplitude=0.2)
        for hertz in (150.0, 400.0):
            cut, open_ = (
                np.abs(np.fft.rfft(Reverb(low_cut_hz=each, blend=1.0).process(sound, clock)[0].astype(np.float64))) ** 2
                for each in (hertz, 0.0)
            )
            for octaves in (1.0, 2.0):
                middle = round(8.0 * hertz / 2.0**octaves)
                near = slice(round(middle * 0.9), round(middle * 1.1))
                taken = 10.0 * np.log10(np.sum(cut[near]) / np.sum(open_[near]))
                self.assertAlmostEqual(taken, -24.0 * octaves, delta=1.0)

    def test_its_sides_are_alike_in_level_and_not_in_shape(self):
        clock = clock_of(3, looped=False)
        heard = Reverb(blend=1.0, low_cut_hz=0.0).process(impulse(clock), clock).astype(np.float64)
        left, right = np.sqrt(np.mean(heard**2, axis=1))
        self.assertLess(abs(20.0 * np.log10(left / right)), 1.0)
        self.assertLess(abs(float(np.corrcoef(heard[:, 2400:])[0, 1])), 0.15)
        mono = Reverb(blend=1.0, width=0.0).process(impulse(clock), clock)
        np.testing.assert_array_equal(mono[0], mono[1])

    def test_noise_is_as_loud_in_any_room(self):
        clock = clock_of(6)
        sound = noise(clock.frames)
        for decay, size in ((0.4, 8.0), (1.2, 10.0), (2.5, 4.0), (6.0, 40.0)):
            room = {"damping": 0.0, "low_cut_hz": 0.0, "high_cut_hz": 20000.0, "blend": 1.0}
            heard = Reverb(decay_s=decay, size_m=size, **room).process(sound, clock)
            self.assertAlmostEqual(10.0 * np.log10(float(np.mean(heard**2) / np.mean(sound**2))), 0.0, delta=1.5)

    def test_it_comes_after_its_pre_delay(self):
        clock = clock_of(1, looped=False)
        for ms in (0.0, 80.0):
            room = {"low_cut_hz": 0.0, "high_cut_hz": 20000.0, "blend": 1.0, "size_m": 10.0}
            heard = np.abs(Reverb(pre_delay_ms=ms, **room).process(impulse(clock), clock)).max(axis=0)
            begins = int(np.argmax(heard > 3e-5)) / 48.0 - ms
            self.assertTrue(10.0 < begins < 20.0, (ms, begins))  # the shortest way in ten metres

    def test_a_loop_shorter_than_its_tail_is_the_sum_of_all_rounds(self):
        clock, once = clock_of(0.4), clock_of(8, looped=False)
        sound, step = noise(clock.frames), Reverb(decay_s=2.5, blend=1.0)
        whole = step.process(np.pad(sound, ((0, 0), (0, once.frames - clock.frames))), once).astype(np.float64)
        folded = whole.reshape(2, -1, clock.frames).sum(axis=1)
        np.testing.assert_allclose(step.process(sound, clock), folded, atol=1e-5 * np.abs(folded).max())


if __name__ == "__main__":
    unittest.main()
