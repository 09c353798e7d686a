"""Chorus, flanger, phaser, ring, frequency shift and pitch shift: against closed forms, SciPy and librosa."""

import unittest

import librosa
import numpy as np
from scipy import signal

from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.dsp.curves import Curve, knots
from apilado.core.notes import Note
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Envelope, Voice
from apilado.core.sources.wave import Tone
from apilado.core.treatments.chorus import Chorus
from apilado.core.treatments.flanger import Flanger
from apilado.core.treatments.frequency_shift import FrequencyShift
from apilado.core.treatments.phaser import Phaser
from apilado.core.treatments.pitch_shift import PitchShift
from apilado.core.treatments.ring import Ring
from tests.support import RATES, noise, path_of, plain_stack, rendered, spectrum_db

RATE = 48000


def clock_of(seconds, rate=RATE, looped=True):
    return Clock(tempo_bpm=60.0, beats=float(seconds), rate_hz=rate, looped=looped)


def tone(hertz, clock, amplitude=0.5):
    return (amplitude * np.sin(2.0 * np.pi * hertz * np.arange(clock.frames) / clock.rate_hz)).astype(np.float32)[None]


def response(step, clock):
    """Of an impulse in a loop on both sides: what it does at each line, left."""
    impulse = np.zeros((2, clock.frames), np.float32)
    impulse[:, 0] = 1.0
    return np.fft.rfft(step.process(impulse, clock)[0].astype(np.float64))


def lines_hz(clock):
    return np.arange(clock.frames // 2 + 1) * clock.rate_hz / clock.frames


class SweptDelayTest(unittest.TestCase):
    def test_at_rest_a_flanger_is_a_comb_with_feedback(self):
        # Closed form of a delay line with feedback: H = (1 - b) + b·z⁻ᵈ/(1 - g·z⁻ᵈ).
        clock = clock_of(2)
        for ms, back in ((2.0, 0.5), (1.03, -0.7), (0.31, 0.9)):
            step = Flanger(delay_ms=ms, depth_ms=0.0, feedback=back, mono_below_hz=0.0)
            late = np.exp(-2j * np.pi * lines_hz(clock) * ms / 1000.0)
            wanted = 0.5 + 0.5 * late / (1.0 - back * late)
            low = lines_hz(clock) < 6000.0
            np.testing.assert_allclose(response(step, clock)[low], wanted[low], atol=0.03, err_msg=f"{ms} {back}")

    def test_the_line_is_as_long_as_the_sine_says(self):
        clock = clock_of(2, looped=False)
        for sides, spread in ((0, 1.0), (1, 1.0), (1, 0.0)):
            step = Chorus(
                voices=1, delay_ms=10.0, depth_ms=4.0, speed_hz=0.5, blend=1.0, mono_below_hz=0.0, spread=spread
            )
            for at in (12000, 24000, 60000):
                impulse = np.zeros((2, clock.frames), np.float32)
                impulse[:, at] = 1.0
                heard = step.process(impulse, clock)[sides].astype(np.float64)
                came = float(np.sum(np.arange(clock.frames) * heard**2) / np.sum(heard**2)) - at
                turned = 2.0 * np.pi * (0.5 * (at + came) / RATE + 0.5 * sides * spread)
                self.assertAlmostEqual(came, RATE * (10.0 + 4.0 * np.sin(turned)) / 1000.0, delta=1.0)

    def test_a_chorus_shifts_a_tone_by_as_much_as_its_line_grows(self):
        # Doppler: f·(1 - d'(t)), d' = 2π·speed·depth at most.
        clock = clock_of(4)
        step = Chorus(voices=1, delay_ms=20.0, depth_ms=5.0, speed_hz=1.0, blend=1.0, mono_below_hz=0.0)
        heard = step.process(np.repeat(tone(1000.0, clock), 2, axis=0), clock)[0].astype(np.float64)
        found = np.diff(np.unwrap(np.angle(signal.hilbert(heard)))) * RATE / (2.0 * np.pi)
        most = 1000.0 * 2.0 * np.pi * 1.0 * 0.005
        self.assertAlmostEqual(float(found.max()), 1000.0 + most, delta=0.5)
        self.assertAlmostEqual(float(found.min()), 1000.0 - most, delta=0.5)

    def test_more_copies_are_no_louder_and_wide_only_above_the_border(self):
        clock = clock_of(4)
        sound = np.repeat(noise(clock.frames, channels=1), 2, axis=0)
        levels = []
        for voices in (1, 2, 3, 4):
            heard = Chorus(voices=voices, blend=1.0, mono_below_hz=300.0).process(sound, clock)
            levels.append(10.0 * np.log10(float(np.mean(heard**2))))
            side, mid = (np.abs(np.fft.rfft(heard[0] + sign * heard[1])) ** 2 for sign in (-1.0, 1.0))
            hertz = lines_hz(clock)
            deep, high = (hertz > 40.0) & (hertz < 150.0), (hertz > 1000.0) & (hertz < 4000.0)
            self.assertLess(10.0 * np.log10(np.sum(side[deep]) / np.sum(mid[deep])), -18.0)
            self.assertGreater(10.0 * np.log10(np.sum(side[high]) / np.sum(mid[high])), -6.0)
        self.assertLess(max(levels) - min(levels), 1.5)

    def test_the_sum_of_both_sides_knows_nothing_of_the_border(self):
        clock = clock_of(2)
        sound = noise(clock.frames)
        for kind in (Chorus, Flanger, Phaser):
            with_, without = (kind(mono_below_hz=hertz).process(sound, clock) for hertz in (200.0, 0.0))
            np.testing.assert_allclose(with_.sum(axis=0), without.sum(axis=0), atol=2e-6)
            self.assertGreater(float(np.abs(with_ - without).max()), 0.01)


class PhaserTest(unittest.TestCase):
    def test_at_rest_it_is_its_row_of_all_passes_beside_the_sound(self):
        # SciPy's bilinear transform of (1 - s/ω)/(1 + s/ω), the feedback closed without a delay.
        clock = clock_of(2)
        for stages, hertz, back in ((2, 200.0, 0.0), (6, 900.0, 0.6), (12, 2500.0, -0.8)):
            step = Phaser(stages=stages, centre_hz=hertz, depth_oct=0.0, feedback=back, mono_below_hz=0.0)
            bent = 2.0 * RATE * np.tan(np.pi * hertz / RATE)
            taps = signal.bilinear([-1.0 / bent, 1.0], [1.0 / bent, 1.0], RATE)
            row = signal.freqz(*taps, lines_hz(clock), fs=RATE)[1] ** stages
            np.testing.assert_allclose(response(step, clock), 0.5 + 0.5 * row / (1.0 - back * row), atol=1e-3)

    def test_half_as_many_notches_as_filters(self):
        clock = clock_of(2)
        for stages in (2, 4, 8, 12):
            step = Phaser(stages=stages, centre_hz=800.0, depth_oct=0.0, feedback=0.0, mono_below_hz=0.0)
            found = 20.0 * np.log10(np.abs(response(step, clock)) + 1e-9)
            self.assertEqual(len(signal.find_peaks(-found, height=25.0)[0]), stages // 2)

    def test_it_sweeps_as_far_as_its_depth(self):
        clock = clock_of(4, looped=False)
        step = Phaser(
            stages=2, centre_hz=800.0, depth_oct=1.0, speed_hz=0.25, feedback=0.0, spread=0.0, mono_below_hz=0.0
        )
        heard = step.process(noise(clock.frames), clock)[0]
        _, _, power = signal.spectrogram(heard, RATE, nperseg=4096, noverlap=2048)
        hertz = np.fft.rfftfreq(4096, 1.0 / RATE)
        within = (hertz > 250.0) & (hertz < 2500.0)
        for share, wanted in ((0.25, 1600.0), (0.75, 400.0)):
            middle = round(share * power.shape[1])
            mean = np.mean(power[:, middle - 6 : middle + 7], axis=1)[within]
            smooth = np.convolve(mean, np.ones(5) / 5.0, mode="same")
            self.assertAlmostEqual(float(np.log2(hertz[within][np.argmin(smooth[5:-5]) + 5] / wanted)), 0.0, delta=0.25)


class CarriedTest(unittest.TestCase):
    def test_a_ring_gives_sum_and_difference(self):
        clock = clock_of(2)
        found = spectrum_db(Ring(hertz=130.0).process(tone(500.0, clock), clock))
        self.assertEqual(sorted(np.argsort(found)[-2:] / 2.0), [370.0, 630.0])
        self.assertLess(float(np.sort(found)[-3]), float(np.max(found)) - 90.0)
        np.testing.assert_allclose(Ring(hertz=130.0).process(np.ones((1, clock.frames), np.float32), clock)[0, 0], 1.0)

    def test_a_ring_goes_with_the_notes_if_asked(self):
        notes = tuple(Note(start_beats=2.0 * n, length_beats=1.9, pitch=pitch) for n, pitch in enumerate((36, 48)))
        held = Voice(mode="retrigger", envelope=Envelope(attack_ms=1.0, sustain=1.0, release_ms=5.0))
        source = ToneSource(tones=(Tone(shape="sine"),), velocity=0.0)
        for follow, times in ((0.0, 1.0), (1.0, 2.0), (0.5, 2.0**0.5)):
            layer = Layer(id="a", source=source, path=path_of(Ring(hertz=300.0, follow=follow)))
            heard = rendered(plain_stack(tempo_bpm=60.0, layers=(layer,), pattern=notes, voice=held))["a"][0]
            for number, (tone_hz, ring_hz) in enumerate(((65.406, 300.0), (130.813, 300.0 * times))):
                piece = heard[round((2.0 * number + 0.3) * RATE) :][:RATE] * np.hanning(RATE)
                peaks = signal.find_peaks(np.abs(np.fft.rfft(piece)), height=1000.0)[0]
                np.testing.assert_allclose(peaks, [ring_hz - tone_hz, ring_hz + tone_hz], atol=1.5)

    def test_one_sideband_from_30_hz_up_at_every_rate(self):
        for rate in RATES:
            clock = clock_of(2, rate)
            for hertz in (30.0, 55.0, 1000.0, 0.3 * rate, 0.42 * rate):
                hertz = round(hertz * 2.0) / 2.0
                for direction, sign in (("up", 1.0), ("down", -1.0)):
                    step = FrequencyShift(hertz=20.0, direction=direction)
                    found = spectrum_db(step.process(tone(hertz, clock), clock))
                    wanted, image, carrier = (
                        round(2.0 * each) for each in (hertz + 20.0 * sign, hertz - 20.0 * sign, hertz)
                    )
                    self.assertEqual(int(np.argmax(found)), wanted, (rate, hertz, direction))
                    self.assertLess(max(found[abs(image)], found[carrier]) - found[wanted], -60.0, (rate, hertz))

    def test_a_shift_delays_nothing(self):
        clock = clock_of(2, looped=False)
        click = np.zeros((1, clock.frames), np.float32)
        click[0, 30000:30040] = np.hanning(40)
        heard = np.abs(signal.hilbert(FrequencyShift(hertz=300.0).process(click, clock)[0]))
        self.assertLess(abs(int(np.argmax(heard)) - int(np.argmax(click))), 4)

    def test_apart_the_left_goes_up_and_the_right_down(self):
        clock = clock_of(2)
        found = FrequencyShift(hertz=8.0, direction="apart").process(tone(400.0, clock), clock)
        self.assertEqual([float(np.argmax(spectrum_db(each[None]))) / 2.0 for each in found], [408.0, 392.0])

    def test_a_frequency_that_moves_comes_round_and_a_stretch_is_a_piece_of_it(self):
        clock = clock_of(2)
        at = knots(clock.frames)
        swept = Curve(at, 100.0 * 2.0 ** np.sin(2.0 * np.pi * at / clock.frames))
        sound, twice = noise(clock.frames), clock_of(4)
        both = Curve(np.concatenate([at[:-1], at + clock.frames]), np.concatenate([swept.values[:-1], swept.values]))
        for kind in (Ring, FrequencyShift):
            loop = kind.model_construct(**{**dict(kind()), "hertz": swept}).process(sound, clock)
            again = kind.model_construct(**{**dict(kind()), "hertz": both}).process(np.tile(sound, 2), twice)
            np.testing.assert_allclose(again, np.tile(loop, 2), atol=2e-4)
            stretch = clock.stretch(70000, 60000)
            piece = np.take(sound, np.arange(70000 - 9600, 70000 + 60000 + 9600) % clock.frames, axis=1)
            wide = clock.stretch(70000 - 9600, piece.shape[1])
            found = kind.model_construct(**{**dict(kind()), "hertz": swept}).process(piece, wide)[:, 9600:-9600]
            np.testing.assert_allclose(found, np.take(loop, stretch.around(), axis=1), atol=2e-4)


class PitchShiftTest(unittest.TestCase):
    def test_within_two_cents_by_librosa(self):
        clock = clock_of(4)
        for hertz in (55.0, 110.0, 220.0):
            saw = signal.sawtooth(2.0 * np.pi * hertz * np.arange(clock.frames) / RATE)
            sound = (0.3 * filtered_low(saw)).astype(np.float32)[None]
            for semitones, cents in ((7.0, 0.0), (-5.0, 0.0), (12.0, 30.0), (0.0, -40.0)):
                heard = PitchShift(semitones=semitones, cents=cents).process(sound, clock)[0]
                wanted = hertz * 2.0 ** ((semitones + cents / 100.0) / 12.0)
                found = librosa.yin(heard.astype(np.float64), fmin=25.0, fmax=900.0, sr=RATE, frame_length=8192)
                middle = float(np.median(found[4:-4]))
                self.assertLess(abs(1200.0 * np.log2(middle / wanted)), 2.0, (hertz, semitones, cents))

    def test_its_length_and_its_time_stay(self):
        clock = clock_of(4)
        clicks = np.zeros((2, clock.frames), np.float32)
        places = [24000, 72000, 150000]
        for place in places:
            clicks[:, place : place + 60] += np.hanning(60).astype(np.float32) * 0.8
        for semitones in (5.0, -5.0):
            heard = PitchShift(semitones=semitones).process(clicks, clock)
            self.assertEqual(heard.shape, clicks.shape)
            for place in places:
                near = np.abs(heard[0, place - 4000 : place + 4000])
                self.assertLess(abs(int(np.argmax(near)) - 4000 - 30), 0.005 * RATE, (semitones, place))

    def test_a_loop_has_no_jump_at_its_seam(self):
        clock = clock_of(3)
        heard = PitchShift(semitones=4.0).process(tone(110.0, clock), clock)[0]
        around = np.concatenate([heard[-2000:], heard[:2000]]).astype(np.float64)
        steps = np.abs(np.diff(around))
        self.assertLess(float(steps.max()), 1.3 * 0.5 * 2.0 * np.pi * 110.0 * 2.0 ** (4.0 / 12.0) / RATE)


def filtered_low(wave):
    return signal.sosfiltfilt(signal.butter(4, 3000.0, fs=RATE, output="sos"), wave)


if __name__ == "__main__":
    unittest.main()
