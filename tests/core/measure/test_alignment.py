"""The solver against known answers; judged by an independent computation with SciPy."""

import unittest

import numpy as np
from scipy import signal

from apilado.core.measure.alignment import Freedom, meeting, note_spectra, solve
from tests.support import noise

RATE = 48000
FRAMES = 24000


def stereo(x):
    return np.stack([x, x]).astype(np.float32)


def meetings_of(stems, borders, fundamental=50.0):
    """Meetings of neighbouring stems at the borders between them, in one long note."""
    spectra = [note_spectra(stereo(x), ((0, FRAMES),), rate_hz=RATE)[0] for x in stems]
    names = [str(i) for i in range(len(stems))]
    return [
        meeting(
            (names[i], names[i + 1]), (i, borders[i]), (0.0, 31, fundamental, fundamental), spectra[i], spectra[i + 1]
        )
        for i in range(len(borders))
    ]


def gain_db(a, b, border):
    """Coherence gain in the octave around a border, by SciPy's power spectral densities."""

    def power(x):
        at, density = signal.welch(x, fs=RATE, window="hann", nperseg=len(x) // 2)
        return density[(at >= border / 2**0.5) & (at <= border * 2**0.5)].sum()

    return 10 * np.log10(power(a + b) / (power(a) + power(b)))


class KnownAnswersTest(unittest.TestCase):
    def test_two_sines_with_a_known_phase_offset(self):
        random = np.random.default_rng(11)
        t = np.arange(FRAMES) / RATE
        for _ in range(20):
            hertz, offset = random.uniform(85.0, 130.0), random.uniform(-175.0, 175.0)
            stems = [np.sin(2 * np.pi * hertz * t), np.sin(2 * np.pi * hertz * t + np.radians(offset))]
            layers = (Freedom("0", polarity=False, delay=False), Freedom("1", "b", polarity=False, delay=False))
            found = solve(meetings_of(stems, (110.0,), fundamental=hertz), layers)
            error = (360.0 * found.settings["1"].phase_cycles + offset + 180.0) % 360.0 - 180.0
            self.assertLess(abs(error), 2.0, (hertz, offset))

    def test_a_pulse_with_a_known_delay_and_polarity(self):
        random = np.random.default_rng(12)
        sos = signal.butter(2, (60.0, 400.0), "band", fs=RATE, output="sos")
        for _ in range(20):
            x = np.zeros(FRAMES)
            x[10000] = 30.0
            x = signal.sosfiltfilt(sos, x)
            delay, sign = int(random.integers(-150, 151)), random.choice((-1.0, 1.0))
            stems = [x, sign * np.roll(x, delay)]
            found = solve(meetings_of(stems, (150.0,)), (Freedom("0"), Freedom("1")))
            lag = found.settings["1"].delay_ms - found.settings["0"].delay_ms
            self.assertLess(abs(lag * RATE / 1000.0 + delay), 1.0, (delay, sign))
            self.assertEqual(found.settings["1"].invert, sign < 0.0)

    def test_three_and_four_layers_with_known_offsets(self):
        random = np.random.default_rng(13)
        for count in (3, 4) * 6:
            source = noise(FRAMES, seed=int(random.integers(1e6)))[0].astype(float)
            borders = (120.0, 600.0, 2400.0)[: count - 1]
            delays = [0, *(int(random.integers(-6, 7)) for _ in range(count - 1))]
            signs = [1.0, *random.choice((-1.0, 1.0), count - 1)]
            stems = [s * np.roll(source, d) for s, d in zip(signs, delays, strict=True)]
            found = solve(meetings_of(stems, borders), [Freedom(str(i)) for i in range(count)])
            base = found.settings["0"].delay_ms
            for index in range(1, count):
                setting = found.settings[str(index)]
                self.assertLess(abs((setting.delay_ms - base) * RATE / 1000.0 + delays[index]), 1.0)
                self.assertEqual(setting.invert, signs[index] < 0.0)
            self.assertGreater(min(found.after_db), 2.9)

    def test_promises_are_kept(self):
        random = np.random.default_rng(14)
        t = np.arange(FRAMES) / RATE
        for _ in range(6):
            phases = random.uniform(0, 2 * np.pi, 4)
            low = sum(np.sin(2 * np.pi * 50 * n * t + p) / n for n, p in zip((1, 2, 3), phases, strict=False))
            high = sum(np.sin(2 * np.pi * 50 * n * t + 1.3 * p) / n for n, p in zip((2, 3, 4), phases, strict=False))
            (m,) = meetings_of([low, high], (110.0,))
            self.assertAlmostEqual(m.gain_db(), gain_db(low, high, 110.0), delta=0.5)
            found = solve([m], (Freedom("0"), Freedom("1")))
            lag = (found.settings["1"].delay_ms - found.settings["0"].delay_ms) * RATE / 1000.0
            moved = np.roll(high, round(lag)) * (-1.0 if found.settings["1"].invert else 1.0)
            self.assertAlmostEqual(found.after_db[0], gain_db(low, moved, 110.0), delta=0.5)
            self.assertGreaterEqual(found.after_db[0], found.before_db[0] - 0.11)


class OwnPitchTest(unittest.TestCase):
    def test_start_phases_are_counted_in_a_layers_own_pitch(self):
        # The upper plays an octave over the lower: a start phase of c cycles moves it by c/100 s, not by c/50 s.
        t = np.arange(FRAMES) / RATE
        random = np.random.default_rng(7)
        for _ in range(6):
            offset = random.uniform(0.1, 0.9)

            def upper(earlier_s, offset=offset):
                return sum(np.sin(2 * np.pi * n * (100.0 * (t + earlier_s) + offset)) / n for n in (1, 2, 3))

            lower = sum(np.sin(2 * np.pi * n * 50.0 * t) / n for n in range(1, 7))
            spectra = [note_spectra(stereo(x), ((0, FRAMES),), rate_hz=RATE)[0] for x in (lower, upper(0.0))]
            met = meeting(("a", "b"), (0, 120.0), (0.0, 31, 50.0, 100.0), *spectra)
            free = [Freedom("a"), Freedom("b", "b", polarity=False, delay=False)]
            found = solve([met], free)
            cycles = found.settings["b"].phase_cycles
            after = gain_db(lower, upper(cycles / 100.0), 120.0)
            self.assertAlmostEqual(found.after_db[0], after, delta=0.2)
            self.assertGreater(after, gain_db(lower, upper(0.0), 120.0) - 0.1)


class CommonDelayTest(unittest.TestCase):
    def test_what_all_layers_would_wait_for_is_taken_off_all(self):
        # Of the two either is late by 3 ms: it cannot be made earlier, so the other waits, and nobody more than that.
        sound = signal.sosfilt(signal.butter(2, [60, 300], "bandpass", fs=RATE, output="sos"), noise(FRAMES, seed=3)[0])
        late = np.roll(sound, round(0.003 * RATE))
        for pair, wait in (((late, sound), 3.0), ((sound, late), -3.0)):
            found = solve(meetings_of(pair, (110.0,)), [Freedom("0"), Freedom("1")])
            delays = [found.settings[name].delay_ms for name in ("0", "1")]
            self.assertAlmostEqual(min(delays), 0.0, places=9)
            self.assertAlmostEqual(delays[1] - delays[0], wait, delta=0.1)


class HarmonicsTest(unittest.TestCase):
    def test_phases_at_the_harmonics_near_the_border(self):
        t = np.arange(FRAMES) / RATE
        low = sum(np.sin(2 * np.pi * 50 * n * t) for n in (1, 2, 3))
        high = sum(np.sin(2 * np.pi * 50 * n * t + np.radians(20.0 * n)) for n in (2, 3))
        (m,) = meetings_of([low, high], (120.0,))
        self.assertEqual([n for n, _ in m.harmonics_deg], [2, 3])
        for number, degrees in m.harmonics_deg:
            self.assertAlmostEqual(degrees, 20.0 * number, delta=1.0)


class LimitsTest(unittest.TestCase):
    def test_the_plainest_setting_wins(self):
        t = np.arange(FRAMES) / RATE
        wave = np.sin(2 * np.pi * 110 * t)
        aligned = solve(meetings_of([wave, 0.5 * wave], (110.0,)), (Freedom("0"), Freedom("1", "b")))
        self.assertFalse(aligned.changes)
        opposed = solve(meetings_of([wave, -wave], (110.0,)), (Freedom("0"), Freedom("1")))
        self.assertTrue(opposed.settings["1"].invert)
        self.assertEqual((opposed.settings["0"].delay_ms, opposed.settings["1"].delay_ms), (0.0, 0.0))

    def test_drifting_layers_have_no_say(self):
        t = np.arange(FRAMES) / RATE
        (m,) = meetings_of([np.sin(2 * np.pi * 110 * t), np.sin(2 * np.pi * 112.5 * t)], (110.0,))
        self.assertTrue(m.drifts)
        self.assertFalse(solve([m], (Freedom("0"), Freedom("1"))).changes)

    def test_the_worst_and_the_mean_are_different_goals(self):
        t = np.arange(FRAMES) / RATE
        stems = [[np.sin(2 * np.pi * 100 * t), np.sin(2 * np.pi * 100 * t + p)] for p in (0.0, 0.0, 2.2)]
        meetings = [meetings_of(pair, (100.0,), fundamental=100.0)[0] for pair in stems]
        layers = (Freedom("0"), Freedom("1"))
        worst, mean = solve(meetings, layers, "worst"), solve(meetings, layers, "mean")
        self.assertGreater(min(worst.after_db), min(mean.after_db) + 0.5)
        self.assertGreater(np.mean(mean.after_db), np.mean(worst.after_db))
