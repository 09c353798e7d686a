"""Drives: what comes of sines against series and handbooks, aliases, and what all of them promise."""

import unittest

import numpy as np
import pyloudnorm
from scipy.special import jv

from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.dsp.hysteresis import magnetised
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Tone
from apilado.core.treatments.bits import Bits
from apilado.core.treatments.drawn_curve import CurvePoint, DrawnCurve
from apilado.core.treatments.drive import Drive
from apilado.core.treatments.fold import Fold
from apilado.core.treatments.hard_clip import HardClip
from apilado.core.treatments.rectify import Rectify
from apilado.core.treatments.registry import TREATMENTS
from apilado.core.treatments.roughness import Roughness
from apilado.core.treatments.saturation import Saturation
from apilado.core.treatments.soft_clip import SoftClip
from apilado.core.treatments.tape import Tape
from apilado.core.units import gain_to_db
from tests.support import ENGINE, graph_of, noise, path_of, plain_stack

RATE, BEATS = 48000, 2.0
CLOCK = Clock(tempo_bpm=60.0, beats=BEATS, rate_hz=RATE, looped=True)
FRAMES = CLOCK.frames
DRIVES = tuple(model for model in TREATMENTS if issubclass(model, Drive))
CURVES = (SoftClip, HardClip, Saturation, Tape, Fold, Rectify, DrawnCurve)


def sine(cycles, level=1.0):
    """So many cycles in two seconds, both channels."""
    wave = level * np.sin(2.0 * np.pi * cycles * np.arange(FRAMES) / FRAMES)
    return np.stack([wave, wave]).astype(np.float32)


def harmonics(audio, cycles, count):
    """Amplitudes of the first harmonics of what repeats so many times in a loop, the mean first."""
    lines = np.fft.rfft(audio[0].astype(np.float64)) / (FRAMES / 2)
    return np.concatenate([[abs(lines[0]) / 2.0], np.abs(lines[cycles : cycles * count + 1 : cycles])])


def plain(model, **values):
    """A drive that changes no level by itself."""
    return model(**{"output_db": 0.0, "drive_db": 0.0, "blend": 1.0, **values})


class SeriesTest(unittest.TestCase):
    def series(self, found, expected):
        np.testing.assert_allclose(found[1:], expected, atol=1e-3)

    def test_a_round_fold_has_the_harmonics_of_bessel(self):
        # sin(z·sin θ) = 2 Σ J(2k+1)(z)·sin((2k+1)θ): Abramowitz and Stegun, 9.1.43.
        for drive_db in (0.0, 6.0, 12.0):
            z = np.pi / 2.0 * 10.0 ** (drive_db / 20.0)
            found = harmonics(plain(Fold, drive_db=drive_db).process(sine(200), CLOCK), 200, 9)
            self.series(found, [2.0 * abs(jv(n, z)) if n % 2 else 0.0 for n in range(1, 10)])

    def test_rectified_sines(self):
        # |sin θ| = 2/π - 4/π Σ cos 2kθ/(4k² - 1), and half of it with sin θ/2: the Fourier series of any handbook.
        even = [4.0 / np.pi / (n * n - 1.0) if n % 2 == 0 else 0.0 for n in range(1, 10)]
        full = harmonics(plain(Rectify).process(sine(200), CLOCK), 200, 9)
        self.series(full, even)
        half = harmonics(plain(Rectify, wave="half").process(sine(200), CLOCK), 200, 9)
        self.series(half, [0.5, *[each / 2.0 for each in even[1:]]])
        self.assertLess(max(full[0], half[0]), 1e-4)  # the mean has gone

    def test_clipped_and_folded_sines_are_their_fourier_series(self):
        def sharp(v):
            return np.arcsin(np.sin(np.pi / 2.0 * v)) * 2.0 / np.pi

        for model, curve, values in ((HardClip, lambda v: np.clip(v, -1.0, 1.0), {}), (Fold, sharp, {"turn": "sharp"})):
            for drive_db in (6.0, 14.0):
                gain = 10.0 ** (drive_db / 20.0)

                turns = (np.arange(200000) + 0.5) * np.pi / 200000

                bent = curve(gain * np.sin(turns))

                found = harmonics(plain(model, drive_db=drive_db, **values).process(sine(100), CLOCK), 100, 9)
                terms = [abs(2.0 * float(np.mean(bent * np.sin(n * turns)))) for n in range(1, 10)]
                self.series(found, [term if n % 2 else 0.0 for n, term in enumerate(terms, 1)])

    def test_a_trembling_delay_makes_the_side_tones_of_phase_modulation(self):
        # A delay of d·sin ωt turns a tone of f by 2πf·d: side tones of J(n) (J. Chowning, JAES 21/7, 1973).
        cycles, turns, depth_ms = 2000, 180, 0.2
        rough = Roughness(wave="sine", speed_hz=turns / 2.0, depth_ms=depth_ms, output_db=0.0)
        lines = np.abs(np.fft.rfft(rough.process(sine(cycles), CLOCK)[0].astype(np.float64))) / (FRAMES / 2)
        index = 2.0 * np.pi * (cycles / 2.0) * depth_ms / 1000.0
        for n in range(-4, 5):
            self.assertAlmostEqual(lines[cycles + n * turns], abs(jv(n, index)), delta=1e-3)


class BitsTest(unittest.TestCase):
    def test_the_noise_of_n_bits(self):
        # 6.02·n + 1.76 dB under a sine at full scale: W. R. Bennett, "Spectra of quantized signals", BSTJ 27, 1948.
        tone = sine(1994 + 1, 1.0)
        for bits in (4, 6, 8, 10, 12):
            found = plain(Bits, bits=float(bits), reading_hz=48000.0).process(tone, CLOCK)[0].astype(np.float64)
            lines = np.abs(np.fft.rfft(found)) ** 2
            ratio = 10.0 * np.log10(lines[1995] / (lines.sum() - lines[1995]))
            self.assertAlmostEqual(ratio, 6.02 * bits + 1.76, delta=1.0, msg=bits)

    def test_samples_are_held_and_mirror_their_tones(self):
        tone = sine(600)
        held = plain(Bits, bits=16.0, reading_hz=8000.0).process(tone, CLOCK)
        np.testing.assert_allclose(held[0], np.repeat(tone[0, ::6], 6), atol=1e-3)
        lines = np.abs(np.fft.rfft(held[0].astype(np.float64)))
        mirrored = 16000 - 600  # 8 kHz less 300 Hz, in lines of half a hertz
        # Held for six samples, a tone is as loud as Dirichlet's kernel says (A. Oppenheim, R. Schafer: Discrete-Time
        # Signal Processing, ch. 2; from memory).
        wanted = np.divide(*[np.sin(np.pi * f / 8000.0) / np.sin(np.pi * f / 48000.0) for f in (7700.0, 300.0)])
        self.assertAlmostEqual(lines[mirrored] / lines[600], wanted, places=3)
        filtered = plain(Bits, bits=16.0, reading_hz=8000.0, mirrors=False).process(tone, CLOCK)
        lines = np.abs(np.fft.rfft(filtered[0].astype(np.float64)))
        self.assertLess(20.0 * np.log10(lines[mirrored] / lines[600]), -60.0)


class TapeTest(unittest.TestCase):
    def loop(self, amplitude, width):
        """(field, magnetisation) once around, when the loop has closed."""
        field = (amplitude * np.sin(2.0 * np.pi * np.arange(8 * 2000) / 2000)).astype(np.float32)
        found, _ = magnetised(field, np.zeros(2), 0, width=width)
        return field[-2000:], found[-2000:]

    def test_the_shape_of_its_loop(self):
        # Jiles and Atherton 1986: it lags, remembers, saturates; its half width is about k where the loop is wide open.
        for width in (0.05, 0.1, 0.2):
            field, found = self.loop(3.0, width)
            falling = slice(500, 1500)
            kept = found[1000]  # the field is back at zero
            self.assertGreater(kept, 0.02)
            coercive = -float(np.interp(0.0, found[falling][::-1], field[falling][::-1]))
            self.assertLess(abs(coercive / width - 0.8), 0.25, (width, coercive))
            self.assertLess(float(np.abs(found).max()), 0.95)
            np.testing.assert_allclose(found[:1000], -found[1000:], atol=2e-3)  # it closes, and is odd

    def test_small_fields_are_magnified_less(self):
        # The law of Rayleigh: permeability grows with the field.
        gains = [float(np.abs(self.loop(amplitude, 0.1)[1]).max()) / amplitude for amplitude in (0.01, 0.05, 0.1, 0.2)]
        self.assertEqual(gains, sorted(gains))

    def test_odd_harmonics_alone_and_more_of_them_with_the_level(self):
        shares = []
        for level in (0.2, 0.6, 1.0):
            found = harmonics(plain(Tape, drive_db=9.0).process(sine(200, level), CLOCK), 200, 7)
            self.assertLess(max(found[2], found[4], found[6]) / found[1], 1e-4)
            shares.append(found[3] / found[1])
        self.assertEqual(shares, sorted(shares))


class DrawnTest(unittest.TestCase):
    def test_it_goes_through_its_points_and_never_beyond_them(self):
        rng = np.random.default_rng(5)
        for odd in (True, False):
            for _ in range(20):
                points = tuple(
                    CurvePoint(input=float(x), output=float(y)) for x, y in rng.uniform(-1.0, 1.0, (5, 2)).round(3)
                )
                drawn = plain(DrawnCurve, points=points, odd=odd)
                at = np.array(drawn.through())
                np.testing.assert_allclose(drawn.transfer(at[:, 0].astype(np.float32)), at[:, 1], atol=1e-2)
                between = np.linspace(-1.0, 1.0, 801, dtype=np.float32)
                out = drawn.transfer(between)
                place = np.clip(np.searchsorted(at[:, 0], between), 1, at.shape[0] - 1)
                low, high = (f(at[place - 1, 1], at[place, 1]) for f in (np.minimum, np.maximum))
                self.assertTrue(np.all((out > low - 1e-2) & (out < high + 1e-2)))

    def test_both_halves_alike_make_odd_harmonics_alone(self):
        found = harmonics(plain(DrawnCurve).process(sine(200), CLOCK), 200, 6)
        self.assertLess(max(found[2::2]), 1e-5)
        self.assertGreater(found[3], 0.01)
        uneven = plain(DrawnCurve, odd=False, points=(CurvePoint(input=1.0, output=1.0),))
        found = harmonics(uneven.process(sine(200), CLOCK), 200, 6)
        self.assertGreater(found[2], 0.1)


class AliasTest(unittest.TestCase):
    def test_what_is_not_a_harmonic(self):
        """Sines of 1 and 4.4 kHz at 24 dB of drive, four times oversampled."""
        for model in CURVES:
            for values in ({}, {"turn": "sharp"}) if model is Fold else ({},):
                # A sharp fold turns without end: as good as its kind allows.
                allowed = -46.0 if values else -59.0
                for cycles in (2002, 8802):
                    drive = plain(model, drive_db=24.0, oversampling=4, **values)
                    lines = np.abs(np.fft.rfft(drive.process(sine(cycles), CLOCK)[0].astype(np.float64)))[:40000]
                    loudest = lines.max()
                    lines[::cycles] = 0.0
                    self.assertLess(20.0 * np.log10(lines.max() / loudest), allowed, (model.__name__, values, cycles))


class BaseTest(unittest.TestCase):
    def test_blend_0_is_its_absence(self):
        audio = noise(FRAMES)
        for model in DRIVES:
            drive = model(blend=0.0, before_high_pass_hz=90.0, after_low_pass_hz=3000.0)
            np.testing.assert_array_equal(drive.process(audio, CLOCK), audio)

    def test_nothing_is_added_where_nothing_is_driven_whatever_is_filtered(self):
        lines = np.fft.rfft(noise(FRAMES).astype(np.float64))
        lines[:, 16000:] = 0.0  # what is oversampled is flat as far as that
        quiet = np.fft.irfft(lines, FRAMES)
        quiet = (0.9 / np.abs(quiet).max() * quiet).astype(np.float32)
        for values in ({}, {"before_high_pass_hz": 300.0}, {"before_low_pass_hz": 900.0, "after_low_pass_hz": 2000.0}):
            for drive in (plain(HardClip, **values), Roughness(output_db=0.0, depth_ms=0.0, **values)):
                apart = np.abs(drive.process(quiet, CLOCK) - quiet)
                self.assertLess(float(apart.max()), 1e-3, (type(drive).__name__, values))

    def test_what_is_not_driven_goes_by(self):
        low, high = sine(160, 0.5), sine(4000, 0.5)
        drive = plain(HardClip, drive_db=18.0, before_high_pass_hz=700.0)
        found = harmonics(drive.process(low + high, CLOCK), 160, 1)
        alone = harmonics(low, 160, 1)
        self.assertLess(abs(20.0 * np.log10(found[1] / alone[1])), 1.5)
        driven = harmonics(plain(HardClip, drive_db=18.0).process(low + high, CLOCK), 160, 1)
        self.assertGreater(abs(20.0 * np.log10(driven[1] / alone[1])), 3.0)

    def test_what_is_added_ends_at_its_filter(self):
        drive = plain(HardClip, drive_db=24.0)
        dark = drive.model_copy(update={"after_low_pass_hz": 400.0})
        bright, tamed = (harmonics(each.process(sine(200), CLOCK), 200, 21) for each in (drive, dark))
        # 12 dB per octave: a harmonic at 2100 Hz is 28.8 dB down (Butterworth of the second order, common practice).
        self.assertAlmostEqual(20.0 * np.log10(tamed[21] / bright[21]), -28.8, delta=1.0)

    def test_an_impulse_stays_where_it_is(self):
        impulse = np.zeros((2, FRAMES), np.float32)
        impulse[:, 5000] = 0.9
        for model in DRIVES:
            if model is not Roughness:
                found = plain(model).process(impulse, CLOCK)
                self.assertEqual(int(np.argmax(np.abs(found[0]))), 5000, model.__name__)

    def test_three_rates_agree_in_level(self):
        for model in DRIVES:
            levels = []
            for rate in (44100, 48000, 96000):
                clock = Clock(tempo_bpm=60.0, beats=2.0, rate_hz=rate, looped=True)
                wave = 0.7 * np.sin(2.0 * np.pi * 110.0 * np.arange(clock.frames) / rate)
                found = model().process(np.stack([wave, wave]).astype(np.float32), clock)
                levels.append(float(gain_to_db(np.sqrt(np.mean(found**2)))))
            self.assertLess(max(levels) - min(levels), 0.2, model.__name__)

    def test_a_level_is_kept(self):
        for model in CURVES:
            step = model(id="d", drive_db=18.0, keep_level=True)
            source = ToneSource(tones=(Tone(shape="saw"),))
            stack = plain_stack(layers=(Layer(id="a", source=source, path=path_of(step)),))
            graph = graph_of(stack)
            passed = graph.passed["layers/a/path/d"]
            before, behind = ENGINE.run([passed.before, passed.after])
            meter = pyloudnorm.Meter(graph.clock.rate_hz)
            loudness = [meter.integrated_loudness(np.tile(each, 8).T.astype(np.float64)) for each in (before, behind)]
            self.assertLess(abs(loudness[1] - loudness[0]), 0.1, model.__name__)
            # In a single pass by the gain of the loop.
            once = graph_of(stack, looped=False)
            gains = ENGINE.run([each.measured["layers/a/path/d"] for each in (graph, once)])
            self.assertEqual(gains[0], gains[1])
