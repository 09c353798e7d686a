"""Drawn ducks, ducks of one band, the shaping of a hit, saturation."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.clock import Clock
from apilado.core.dsp.audio import as_audio
from apilado.core.dsp.ducks import band_ducked, drawn_shape, shapes_at
from apilado.core.dsp.linear_phase import band_taps
from apilado.core.dsp.pitch import repitched
from apilado.core.dsp.shapers import saturated
from apilado.core.dsp.transients import shaped_hit
from apilado.core.measure.spectrum import spectrum_of
from apilado.core.shapes.drawn_duck import DrawnDuck
from apilado.core.shapes.keyed_duck import KeyedDuck
from apilado.core.shapes.registry import DUCK_SHAPES
from apilado.core.treatments.compressor import Compressor
from tests.support import RATES, noise, sine


def clock(rate=48000, tempo=120.0, looped=True):
    return Clock(tempo_bpm=tempo, beats=4.0, rate_hz=rate, looped=looped)


class DrawnTest(unittest.TestCase):
    def test_depth_hold_and_release_where_they_are_drawn(self):
        duck = DrawnDuck(depth_db=12.0, attack_ms=5.0, hold_ms=50.0, release_ms=100.0, curve=0.0)
        reduction = duck.reduction(np.zeros((2, 96000), np.float32), (48000,), clock())
        at = {ms: float(reduction[48000 + round(48 * ms)]) for ms in (-6, -2.5, 0, 49, 100, 149, 152)}
        for ms, wanted in ((-6, 0.0), (-2.5, 6.0), (0, 12.0), (49, 12.0), (100, 6.0), (149, 0.12), (152, 0.0)):
            self.assertAlmostEqual(at[ms], wanted, delta=0.05, msg=ms)

    def test_beats_follow_the_tempo(self):
        duck = DrawnDuck(lengths="beats", hold_beats=0.25, release_beats=0.5)
        for tempo in (60.0, 120.0, 174.0):
            self.assertAlmostEqual(duck.back_ms(clock(tempo=tempo)), 0.75 * 60000 / tempo, places=6)

    def test_a_loop_goes_on_round_its_seam_and_the_deeper_of_two_counts(self):
        shape = drawn_shape(depth_db=6.0, attack_frames=10, hold_frames=20, release_frames=70, curve=0.0)
        out = shapes_at(shape, (5,), 200, looped=True, lead=10)
        self.assertAlmostEqual(float(out[197]), float(shape[2]), places=6)
        self.assertAlmostEqual(float(out[5]), 6.0, places=6)
        both = shapes_at(shape, (20, 40), 200, looped=False, lead=10)
        assert_allclose(
            both,
            np.maximum(
                shapes_at(shape, (20,), 200, looped=False, lead=10), shapes_at(shape, (40,), 200, looped=False, lead=10)
            ),
        )
        longer = shapes_at(np.ones(450, np.float32), (0,), 200, looped=True, lead=0)
        assert_allclose(longer, 1.0)

    def test_the_curve_bends_the_way_back(self):
        middle = [
            float(drawn_shape(depth_db=10.0, attack_frames=0, hold_frames=0, release_frames=1000, curve=c)[500])
            for c in (-1.0, 0.0, 1.0)
        ]
        self.assertLess(middle[0], 1.0)
        self.assertAlmostEqual(middle[1], 5.0, delta=0.05)
        self.assertGreater(middle[2], 8.0)

    def test_shapes_can_be_shortened_to_an_end_and_overdone(self):
        for model in DUCK_SHAPES:
            shape, count = model(), 0
            while shape is not None and count < 200:
                before = shape.back_ms(clock())
                shape, count = shape.shortened(0.9), count + 1
                if shape is not None:
                    self.assertLess(shape.back_ms(clock()), before)
            self.assertLess(count, 200, model)
            key = np.zeros((2, 96000), np.float32)
            key[:, :9600] = sine(60.0, 0.2)
            usual = model().reduction(as_audio(key), (0,), clock())
            harder = model().overdone().reduction(as_audio(key), (0,), clock())
            self.assertGreater(float(harder.max()), float(usual.max()) + 15.0)


class KeyedTest(unittest.TestCase):
    """Against D. Giannoulis, M. Massberg, J. D. Reiss, JAES 60/6 (2012): eq. 4, and time constants by their definition."""

    @staticmethod
    def steady(level_db, frames=24000):
        return np.full((2, frames), 10 ** (level_db / 20), np.float32)

    def test_the_static_curve(self):
        for threshold, ratio, knee in ((-24.0, 4.0, 6.0), (-20.0, 2.0, 0.0), (-30.0, 10.0, 12.0), (-12.0, 1.5, 24.0)):
            duck = KeyedDuck(threshold_db=threshold, ratio=ratio, knee_db=knee, range_db=60.0, attack_ms=1.0)
            for level in np.arange(-42.0, 0.1, 3.0):
                over = level - threshold
                if 2 * abs(over) <= knee and knee > 0:
                    wanted = level + (1 / ratio - 1) * (over + knee / 2) ** 2 / (2 * knee)
                else:
                    wanted = threshold + over / ratio if over > 0 else level
                reduction = float(duck.reduction(self.steady(level), (), clock(looped=False))[-2000])
                self.assertAlmostEqual(level - reduction, wanted, delta=0.05)

    def test_attack_and_release_times_within_2_percent(self):
        # After the attack time 1 - 1/e of the way to the steady reduction is done; after the release time 1/e is left.
        for rate in RATES:
            for attack, release in ((5.0, 60.0), (20.0, 200.0)):
                key = np.zeros((2, 2 * rate), np.float32)
                key[:, : rate // 2] = 1.0
                duck = KeyedDuck(attack_ms=attack, release_ms=release, hold_ms=0.0, lookahead_ms=0.0, range_db=60.0)
                reduction = duck.reduction(key, (), clock(rate=rate, looped=False)).astype(float)
                top = reduction[rate // 2 - 10]
                risen = np.argmax(reduction >= (1 - np.exp(-1)) * top) / rate * 1000
                self.assertAlmostEqual(risen, attack, delta=0.02 * attack + 1000 / rate)
                # The attack's smoothing goes on under the release: far from the edge only the release is left.
                tail = reduction[rate // 2 :]
                first = np.argmax(tail < 0.2 * top)
                fallen = np.argmax(tail < 0.2 * top / np.e)
                self.assertAlmostEqual((fallen - first) / rate * 1000, release, delta=0.02 * release)


class KeyFilterTest(unittest.TestCase):
    def test_the_key_is_filtered(self):
        deaf = KeyedDuck(key_high_pass_hz=1000.0)
        key = sine(60.0, 2.0)
        self.assertGreater(float(KeyedDuck().reduction(key, (), clock()).max()), 10.0)
        self.assertLess(float(deaf.reduction(key, (), clock()).max()), 0.01)
        self.assertGreater(float(KeyedDuck(key_low_pass_hz=200.0).reduction(key, (), clock()).max()), 10.0)
        self.assertLess(float(KeyedDuck(key_low_pass_hz=200.0).reduction(sine(5000.0, 2.0), (), clock()).max()), 0.01)

    def test_rms_of_a_sine_lies_3_dB_under_its_peak(self):
        # A full-scale sine's RMS is -3.01 dB: with a ratio of 2 the reduction is half of what is over the threshold.
        settings = {
            "threshold_db": -20.0,
            "ratio": 2.0,
            "knee_db": 0.0,
            "range_db": 60.0,
            "attack_ms": 50.0,
            "release_ms": 400.0,
        }
        peak = float(np.mean(KeyedDuck(**settings).reduction(sine(997.0, 2.0), (), clock())[48000:]))
        rms = float(np.mean(KeyedDuck(**settings, detection="rms").reduction(sine(997.0, 2.0), (), clock())[48000:]))
        self.assertAlmostEqual(rms, (20.0 - 3.01) / 2, delta=0.1)
        self.assertAlmostEqual(peak, 20.0 / 2, delta=0.1)


class BandTest(unittest.TestCase):
    def level(self, audio, low, high):
        mid, side = spectrum_of(audio, rate_hz=48000).power_between(low, high)
        return 10 * np.log10(mid + side)

    def test_below_120_Hz_leaves_all_above_300_Hz_alone(self):
        sound = noise(4 * 48000)
        deep = DrawnDuck(depth_db=24.0, attack_ms=1.0, hold_ms=60.0, release_ms=120.0)
        hits = tuple(range(0, 4 * 48000, 24000))
        for shape, reduction in (
            ("held", np.full(4 * 48000, 12.0, np.float32)),
            ("moving", deep.reduction(sound, hits, Clock(120.0, 8.0, 48000, True))),
        ):
            out = band_ducked(sound, reduction, low_hz=0.0, high_hz=120.0, amount=1.0, rate_hz=48000, looped=True)
            for low in np.geomspace(300.0, 16000.0, 30):
                self.assertAlmostEqual(
                    self.level(out, low, low * 1.15), self.level(sound, low, low * 1.15), delta=0.05, msg=(shape, low)
                )
            if shape == "held":
                self.assertAlmostEqual(self.level(out, 25.0, 60.0), self.level(sound, 25.0, 60.0) - 12.0, delta=0.3)

    def test_held_down_the_band_is_down_by_as_much(self):
        for rate in RATES:
            taps = band_taps(0.0, 120.0, rate).response(np.array([30.0, 60.0, 120.0, 300.0, 1000.0]), rate).real
            left = 20 * np.log10(np.abs(1.0 - (1.0 - 10 ** (-12 / 20)) * taps**2))
            assert_allclose(left[:2], -12.0, atol=0.3)
            assert_allclose(taps[2] ** 2, 0.5, atol=0.003)
            assert_allclose(left[3:], 0.0, atol=0.05)

    def test_around_a_frequency_it_is_as_deep_as_it_says_in_the_middle(self):
        # Held at 12 dB: all of it at the geometric middle, however narrow, and half of what is taken at the edges.
        for rate in RATES:
            for centre, width in ((80.0, 0.5), (110.0, 1.0), (300.0, 0.5), (1000.0, 3.0)):
                low, high = centre / 2 ** (width / 2), centre * 2 ** (width / 2)
                at = np.array([low, centre, high])
                taps = band_taps(low, high, rate).response(at, rate).real
                left = 20 * np.log10(np.abs(1.0 - (1.0 - 10 ** (-12 / 20)) * taps**2))
                edge = 20 * np.log10(1.0 - (1.0 - 10 ** (-12 / 20)) / 2)
                with self.subTest(rate=rate, centre=centre, width=width):
                    assert_allclose(left, [edge, -12.0, edge], atol=0.05)

    def test_doing_nothing_it_is_the_sound_itself(self):
        sound = noise(9600)
        for reduction, amount in ((np.zeros(9600, np.float32), 1.0), (np.ones(9600, np.float32), 0.0)):
            assert_allclose(
                band_ducked(sound, reduction, low_hz=80.0, high_hz=160.0, amount=amount, rate_hz=48000, looped=True),
                sound,
                atol=0,
            )

    def test_around_a_frequency_leaves_both_sides_alone(self):
        sound = noise(4 * 48000)
        out = band_ducked(
            sound,
            np.full(4 * 48000, 18.0, np.float32),
            low_hz=150.0,
            high_hz=300.0,
            amount=1.0,
            rate_hz=48000,
            looped=True,
        )
        for low, high in ((25.0, 60.0), (700.0, 2000.0), (3000.0, 9000.0)):
            self.assertAlmostEqual(self.level(out, low, high), self.level(sound, low, high), delta=0.05)
        self.assertLess(self.level(out, 200.0, 230.0), self.level(sound, 200.0, 230.0) - 12.0)


class HitTest(unittest.TestCase):
    def hit(self):
        t = np.arange(24000) / 48000
        wave = (0.8 * np.exp(-t / 0.08) * np.sin(2 * np.pi * 55 * t)).astype(np.float32)
        wave[:240] += (0.5 * np.exp(-t[:240] / 0.001) * np.sin(2 * np.pi * 3000 * t[:240])).astype(np.float32)
        return np.stack([wave, wave])

    def energy(self, audio, first_ms, last_ms):
        return 10 * np.log10(np.sum(audio[:, round(48 * first_ms) : round(48 * last_ms)].astype(float) ** 2))

    def test_attack_and_sustain_move_what_they_name(self):
        hit = self.hit()
        for name, near, far in (("attack_db", (0, 6), (120, 300)), ("sustain_db", (120, 300), (0, 3))):
            for db in (-9.0, 9.0):
                shaped = shaped_hit(hit, **{"attack_db": 0.0, "sustain_db": 0.0, name: db}, rate_hz=48000)
                moved = self.energy(shaped, *near) - self.energy(hit, *near)
                other = self.energy(shaped, *far) - self.energy(hit, *far)
                self.assertGreater(moved * np.sign(db), 3.0, (name, db))
                self.assertLess(abs(other), 1.0, (name, db))
        self.assertIs(shaped_hit(hit, attack_db=0.0, sustain_db=0.0, rate_hz=48000), hit)

    def test_pitch_by_playing_faster(self):
        for semitones in (-12.0, 7.0, 12.0):
            out = repitched(sine(440.0, 1.0), semitones)
            self.assertAlmostEqual(out.shape[1], 48000 / 2 ** (semitones / 12), delta=2)
            spectrum = np.abs(np.fft.rfft(out[0] * np.hanning(out.shape[1])))
            self.assertAlmostEqual(np.argmax(spectrum) * 48000 / out.shape[1], 440.0 * 2 ** (semitones / 12), delta=2.0)


class SaturationTest(unittest.TestCase):
    def test_its_series_gives_the_harmonics(self):
        # tanh x = x - x³/3 + …: of a small sine a, the third harmonic is a³·g²/12, and of the bias b the second is a²·g·tanh b/2.
        a, g = 0.05, 2.0
        n = np.arange(48000)
        x = (a * np.sin(2 * np.pi * 100 * n / 48000)).astype(np.float32)
        for bias in (0.0, 0.3):
            spectrum = np.abs(np.fft.rfft(saturated(x, g, bias).astype(float))) / 24000
            self.assertAlmostEqual(spectrum[100] / a, 1.0, delta=0.01)
            self.assertAlmostEqual(spectrum[200], a * a * g * np.tanh(bias) / 2, delta=2e-5)
            if bias == 0.0:
                self.assertAlmostEqual(spectrum[300], a**3 * g * g / 12, delta=2e-6)


class NoteValueTest(unittest.TestCase):
    def test_a_release_in_note_values_follows_the_tempo(self):
        # A quarter at 120 bpm is half a second; a sixteenth 125 ms; a triplet eighth a third of a quarter.
        for note, tempo, ms in (
            ("1/4", 120.0, 500.0),
            ("1/16", 120.0, 125.0),
            ("1/8 triplet", 90.0, 222.222),
            ("1/32", 150.0, 50.0),
        ):
            detector = Compressor(timing="note", release_note=note).detector(tempo)
            self.assertAlmostEqual(detector.release_ms, ms, delta=0.01)
        self.assertEqual(Compressor(release_ms=77.0).detector(60.0).release_ms, 77.0)


if __name__ == "__main__":
    unittest.main()
