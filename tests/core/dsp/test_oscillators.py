import unittest

import numpy as np
from numpy.testing import assert_allclose
from scipy import signal

from apilado.core.dsp.cycles import Cycle, cycle_table, shape_harmonics
from apilado.core.dsp.oscillators import (
    BLOCK,
    MovingPulse,
    MovingTone,
    WalkingTone,
    add_tone,
    copies_at,
    harmonics_below,
)

ONE = copies_at([(0.0, 1.0, 0.0)])


def tone(shape, frequency_hz, rate_hz=48000, frames=48000, levels=(), ratio=1.0, pulse_width=0.25):
    count = harmonics_below(frequency_hz * ratio, rate_hz)
    out = np.zeros((1, frames), np.float32)
    add_tone(
        out,
        cycle_table(Cycle(shape, pulse_width, levels), count),
        ONE,
        frequency_hz=frequency_hz * ratio,
        rate_hz=rate_hz,
        gain=np.ones(frames, np.float32),
    )
    return out[0]


class FourierSeriesTest(unittest.TestCase):
    """Fourier series of the classic waves, as in any handbook of mathematics."""

    def test_amplitudes(self):
        n = np.arange(1, 41)
        odd = n % 2 == 1
        expected = {
            "sine": np.where(n == 1, 1.0, 0.0),
            "saw": 2 / (np.pi * n),
            "square": np.where(odd, 4 / (np.pi * n), 0.0),
            "triangle": np.where(odd, 8 / (np.pi * n) ** 2, 0.0),
        }
        for shape, series in expected.items():
            wave = tone(shape, 100.0)  # 48000 frames of 100 Hz: harmonic n in bin 100·n exactly
            found = np.abs(np.fft.rfft(wave))[100 * n] / 24000
            with self.subTest(shape=shape):
                assert_allclose(found, series, atol=2e-4)

    def test_pulse_has_its_width(self):
        n = np.arange(1, 30)
        for width in (0.1, 0.25, 0.5):
            wave = tone("pulse", 100.0, pulse_width=width)
            found = np.abs(np.fft.rfft(wave))[100 * n] / 24000
            assert_allclose(found, np.abs(4 / (np.pi * n) * np.sin(np.pi * n * width)), atol=3e-4)
            self.assertAlmostEqual(np.mean(wave > np.mean(wave)), width, delta=0.01)

    def test_a_pulse_width_that_moves_is_its_fourier_series_at_every_moment(self):
        rate, hertz = 48000, 110.0
        t = np.arange(rate) / rate
        widths = 0.5 + 0.4 * np.sin(2 * np.pi * 3.0 * t)
        for levels in ((), (None, 0.3, 0.0)):
            out = np.zeros((1, rate), np.float32)
            sounding = MovingPulse(widths, levels, np.full(rate, hertz), rate)
            sounding.add(out, copies_at([(0.1, 1.005, 0.0)]), gain=np.full(rate, 0.5, np.float32))
            cycles = 0.1 + 1.005 * hertz * t
            wanted = np.zeros(rate)
            for n in range(1, int(18000 / hertz)):
                if n in (2, 3) and levels:
                    at = np.angle(np.exp(1j * (np.pi / 2 - np.pi * n * widths[0])) * np.sin(np.pi * n * widths[0]))
                    wanted += 0.5 * (levels[n - 1] or 0.0) * np.sin(2 * np.pi * n * cycles + at)
                    continue
                turned = np.cos(2 * np.pi * n * cycles - np.pi * n * widths)
                wanted += 0.5 * 4 / (np.pi * n) * np.sin(np.pi * n * widths) * turned
            # Nearer to half the rate harmonics fade, one after the other.
            low = signal.butter(8, 6000, fs=rate, output="sos")
            apart = signal.sosfilt(low, out[0] - wanted)[200:]
            self.assertLess(float(np.std(apart)), 1e-3 * float(np.std(wanted)))

    def test_triangle_and_saw_look_like_themselves(self):
        phase = np.arange(480) / 480.0
        triangle = tone("triangle", 100.0, frames=480)
        assert_allclose(triangle, 2 / np.pi * np.arcsin(np.sin(2 * np.pi * phase)), atol=0.01)
        saw = tone("saw", 100.0, frames=480)
        assert_allclose(saw[40:440], (1 - 2 * phase)[40:440], atol=0.03)

    def test_own_harmonics_replace_the_shapes(self):
        wave = tone("saw", 100.0, levels=(None, 0.0, 0.5))
        found = np.abs(np.fft.rfft(wave))[[100, 200, 300, 400]] / 24000
        assert_allclose(found, [2 / np.pi, 0.0, 0.5, 2 / np.pi / 4], atol=1e-4)

    def test_no_harmonic_above_half_the_rate(self):
        self.assertEqual(harmonics_below(1000.0, 48000), 23)
        self.assertEqual(harmonics_below(30000.0, 48000), 0)
        self.assertEqual(len(shape_harmonics("saw", 23)), 23)


class AliasTest(unittest.TestCase):
    def test_a_saw_has_no_alias_above_minus_80_db(self):
        for frequency in (41.2, 110.3, 233.08, 499.7):
            with self.subTest(frequency=frequency):
                frames = 1 << 16
                wave = tone("saw", frequency, frames=frames) * np.kaiser(frames, 16.0)
                level = np.abs(np.fft.rfft(wave))
                at = np.fft.rfftfreq(frames, 1 / 48000)
                nearest = np.abs(at / frequency - np.round(at / frequency)) * frequency
                outside = (nearest > 10 * 48000 / frames) & (at > frequency / 2)
                alias_db = 20 * np.log10(level[outside].max() / level.max())
                self.assertLess(alias_db, -80.0)

    def test_a_glide_has_neither(self):
        frames = 48000
        out = np.zeros((1, frames), np.float32)
        sweep = np.linspace(100.0, 400.0, frames)
        one = np.ones(frames, np.float32)
        MovingTone(Cycle(), sweep, 48000).add(out, ONE, gain=one)
        steps = np.concatenate([[0.0], np.cumsum(sweep[:-1])]) / 48000
        assert_allclose(out[0], np.sin(2 * np.pi * steps), atol=1e-4)

    def test_a_pitch_that_comes_down_gets_its_harmonics_back(self):
        # A saw from 24 semitones above 41.2 Hz: a sum of sines along the same phase, each faded over the sixth of an
        # octave in which it nears half the rate, as the ladder of tables says. What is left is alias.
        rate, frames = 48000, 48000
        track = 41.2 * 2.0 ** (2.0 * np.exp(-np.arange(frames) / 6000.0))
        out = np.zeros((1, frames), np.float32)
        MovingTone(Cycle("saw"), track, rate).add(out, ONE, gain=np.ones(frames, np.float32))
        phase = np.concatenate([[0.0], np.cumsum(track[:-1])]) / rate
        rungs = 6
        top = 0.499 * rate / track.min() * 2 ** (-1 / rungs)
        place = np.maximum(rungs * np.log2(int(top) / (0.499 * rate / track)) + 1.0, 0.0)
        counts = np.array([int(int(top) * 2.0 ** (-r / rungs)) for r in range(40)])
        rung, share = place.astype(int), place % 1.0
        wanted = np.zeros(frames)
        for n in range(1, int(top) + 1):
            weight = (counts[rung] >= n) * (1 - share) + (counts[rung + 1] >= n) * share
            wanted += weight * 2 / (np.pi * n) * np.sin(2 * np.pi * n * phase)
        error = out[0] - wanted
        self.assertLess(20 * np.log10(np.abs(error[100:]).max() / np.abs(wanted).max()), -60.0)
        spectrum = (
            np.abs(np.fft.rfft(error * np.hanning(frames))) / np.abs(np.fft.rfft(wanted * np.hanning(frames))).max()
        )
        self.assertLess(20 * np.log10(spectrum.max()), -80.0)

    def test_a_note_that_drops_ends_as_bright_as_one_that_does_not(self):
        from apilado.core.clock import Clock
        from apilado.core.notes import Note
        from apilado.core.sources.base import Score
        from apilado.core.sources.tone import ToneSource
        from apilado.core.sources.voice import Envelope, Voice
        from apilado.core.sources.wave import Tone

        clock = Clock(tempo_bpm=60.0, beats=4.0, rate_hz=48000, looped=True)
        held = Voice(envelope=Envelope(attack_ms=1.0, sustain=1.0))
        levels = {}
        for drop in (0.0, 12.0, 24.0, 48.0):
            source = ToneSource(tones=(Tone(shape="saw"),), velocity=0.0, drop_semitones=drop)
            out = source.render(Score((Note(length_beats=3.5, pitch=28),), 0, 1, held), clock, None)[0, 96000:144000]
            spectrum = np.abs(np.fft.rfft(out * np.hanning(48000)))
            n = np.arange(1, 480)
            levels[drop] = 20 * np.log10([spectrum[round(41.203 * k) - 2 : round(41.203 * k) + 3].max() for k in n])
        for drop in (12.0, 24.0, 48.0):
            assert_allclose(levels[drop], levels[0.0], atol=0.1)

    def test_the_left_is_left(self):
        for pan in (-1.0, -0.5, 0.5, 1.0):
            out = np.zeros((2, 4800), np.float32)
            one = np.ones(4800, np.float32)
            panned = copies_at([(0.0, 1.0, pan)])
            add_tone(out, cycle_table(Cycle(), 1), panned, frequency_hz=100.0, rate_hz=48000, gain=one)
            moved = np.zeros((2, 4800), np.float32)
            MovingTone(Cycle(), np.full(4800, 100.0), 48000).add(moved, panned, gain=one)
            left, right = np.sum(out**2, axis=1)
            self.assertEqual(left > right, pan < 0.0)
            assert_allclose(moved, out, atol=1e-5)

    def test_panning_is_equal_power(self):
        for pan in (-1.0, -0.3, 0.0, 0.8):
            out = np.zeros((2, 4800), np.float32)
            table = cycle_table(Cycle(), 1)
            gain = np.ones(4800, np.float32)
            add_tone(out, table, copies_at([(0.0, 1.0, pan)]), frequency_hz=100.0, rate_hz=48000, gain=gain)
            self.assertAlmostEqual(float(np.sum(out**2)), 4800.0, delta=2.0)


def read(table, cycles):
    """What lies in a table at so many cycles, straight between its points."""
    places = (cycles % 1.0) * (table.shape[0] - 1)
    return np.interp(places, np.arange(table.shape[0]), table.astype(np.float64))


def on_both_sides(waves, copies, gain):
    """Each copy at its place, at equal power; shape (2, frames)."""
    angles = (copies.pans + 1.0) * np.pi / 4
    return gain * np.sqrt(2.0) * np.stack([np.cos(angles) @ waves, np.sin(angles) @ waves])


class PlainTwinTest(unittest.TestCase):
    """What reads many copies at a time gives what reading one value after another gives."""

    def setUp(self):
        chance = np.random.default_rng(11)
        self.copies = copies_at(
            [(chance.uniform(-3, 3), chance.uniform(0.98, 1.02), chance.uniform(-1, 1)) for _ in range(5)]
        )
        self.frames = 2 * BLOCK + 37
        self.gain = chance.uniform(0, 1, self.frames).astype(np.float32)

    def played(self, add):
        """In stereo, and in mono beside it: both on top of what is there already."""
        stereo, mono = np.full((2, self.frames), 0.25, np.float32), np.full((1, self.frames), 0.25, np.float32)
        add(stereo)
        add(mono)
        return stereo - 0.25, mono[0] - 0.25

    def check(self, add, waves):
        stereo, mono = self.played(add)
        assert_allclose(stereo, on_both_sides(waves, self.copies, self.gain), atol=1e-6)
        assert_allclose(mono, self.gain * np.sum(waves, axis=0), atol=1e-6)

    def test_at_a_constant_pitch(self):
        for shape, hertz, rate in (("saw", 43.7, 48000), ("square", 1234.5, 44100), ("sine", 7000.0, 96000)):
            table = cycle_table(Cycle(shape), max(1, harmonics_below(hertz * 1.02, rate)))
            cycles = self.copies.phases[:, None] + self.copies.ratios[:, None] * (hertz / rate) * np.arange(self.frames)
            self.check(
                lambda out, t=table, f=hertz, r=rate: add_tone(
                    out, t, self.copies, frequency_hz=f, rate_hz=r, gain=self.gain
                ),
                np.array([read(table, each) for each in cycles]),
            )

    def test_along_a_pitch_that_moves_and_a_lag(self):
        track = 90.0 * 2.0 ** (1.5 * np.sin(np.arange(self.frames) / 150.0))
        for lags in (None, 0.3 + 0.2 * np.cos(np.arange(self.frames) / 200.0)):
            sounding = MovingTone(Cycle("saw"), track, 48000, lags)
            waves = []
            for phase, ratio in zip(self.copies.phases, self.copies.ratios, strict=True):
                cycles = phase + ratio * np.concatenate([[0.0], np.cumsum(track[:-1] / 48000)])
                cycles -= 0.0 if lags is None else lags
                places = np.clip(sounding.rungs + 6.0 * np.log2(ratio), 0.0, len(sounding.tables) - 2)
                lower = places.astype(int)
                all_rungs = np.array([read(table, cycles) for table in sounding.tables])
                now = np.arange(self.frames)
                waves.append(
                    all_rungs[lower, now] + (places - lower) * (all_rungs[lower + 1, now] - all_rungs[lower, now])
                )
            self.check(lambda out, s=sounding: s.add(out, self.copies, gain=self.gain), np.array(waves))

    def test_along_a_cycle_that_changes(self):
        ways = {"sync": np.linspace(1.0, 3.0, self.frames)}
        sounding = WalkingTone(Cycle("saw"), ways, 180.0, 48000)
        waves = np.zeros((5, self.frames))
        for first, end, (before, after) in sounding.walk.pieces():
            share = np.arange(end - first) / (end - first)
            for c in range(5):
                cycles = self.copies.phases[c] + self.copies.ratios[c] * 180.0 / 48000 * np.arange(first, end)
                a, b = read(before, cycles), read(after, cycles)
                waves[c, first:end] = a + share * (b - a)
        self.check(lambda out: sounding.add(out, self.copies, gain=self.gain), waves)
