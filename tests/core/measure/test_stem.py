import unittest

import numpy as np

from apilado.core.measure.bands import band_centres
from apilado.core.measure.ducking import hit_recoveries
from apilado.core.measure.passage import energy_grid, outline
from apilado.core.measure.stem import fold_down_loss_db, measured
from tests.support import noise, sine


def high_passed(frequencies_hz):
    """What a Butterworth high-pass of the fourth order at 250 Hz leaves of power."""
    ratio = (frequencies_hz / 250.0) ** 8
    return ratio / (1.0 + ratio)


class StemTest(unittest.TestCase):
    def test_a_full_scale_sine_reads_zero(self):
        stem = measured(sine(115.0, 1.0), 48000)
        self.assertAlmostEqual(stem.level_db(), 0.0, places=2)
        self.assertAlmostEqual(float(stem.fine_db.max()), 0.0, delta=0.05)
        mid, side = stem.power_between(80.0, 140.0)
        self.assertAlmostEqual(mid, 1.0, places=2)
        self.assertEqual(side, 0.0)

    def test_what_a_filter_leaves_is_told_from_lines_and_bands(self):
        # Sines at full scale each, below, at and above the frequency where lines give way to bands.
        for hertz in (40.0, 120.0, 997.0, 1000.0, 1003.0, 1030.0, 4000.0):
            for channels in ((1, 1), (1, 0)):
                tone = sine(hertz, 2.0) * np.array([[channels[0]], [channels[1]]], np.float32)
                found = measured(tone, 48000).power_through(high_passed)
                share = float(np.mean(channels))
                self.assertAlmostEqual(found / (share * float(high_passed(np.array([hertz]))[0])), 1.0, delta=0.01)
        with self.assertRaises(ValueError):
            measured(sine(250.0, 2.0), 48000).power_between(500.0, 2000.0)

    def test_width_lean_and_correlation(self):
        tone = sine(1000.0, 1.0)
        band = int(np.argmax(measured(tone, 48000).mid_power))
        for audio, width, lean, correlation in (
            (tone, 0.0, 0.0, 1.0),
            (np.stack([tone[0], -tone[1]]), 1.0, 0.0, -1.0),
            (np.stack([tone[0], 0 * tone[1]]), 0.5, -1.0, None),
            (np.stack([0 * tone[0], tone[1]]), 0.5, 1.0, None),
        ):
            stem = measured(np.ascontiguousarray(audio, np.float32), 48000)
            self.assertAlmostEqual(float(stem.width[band]), width, places=4)
            self.assertAlmostEqual(float(stem.lean[band]), lean, places=4)
            if correlation is not None:
                self.assertAlmostEqual(float(stem.correlation[band]), correlation, places=4)

    def test_fold_down(self):
        tone = sine(200.0, 1.0)
        self.assertAlmostEqual(fold_down_loss_db(measured(tone, 48000)), 0.0, places=3)
        unrelated = measured(noise(96000), 48000)
        self.assertAlmostEqual(fold_down_loss_db(unrelated), -3.01, delta=0.15)
        opposed = measured(np.stack([tone[0], -tone[1]]), 48000)
        self.assertLess(fold_down_loss_db(opposed), -60.0)

    def test_passage(self):
        tone = sine(float(band_centres(6)[30]), 2.0)
        grid = energy_grid(tone, measured(tone, 48000), columns=96)
        self.assertAlmostEqual(float(grid.max()), 1.0, delta=0.12)
        shape = outline(sine(10.0, 1.0), first=0, last=48000, columns=20)
        self.assertAlmostEqual(float(shape.high.max()), 1.0, places=3)
        self.assertAlmostEqual(float(shape.low.min()), -1.0, places=3)


class RecoveryTest(unittest.TestCase):
    def test_depth_time_and_what_is_left(self):
        rate, frames = 1000, 1000
        reduction = np.zeros(frames, np.float32)
        reduction[0:200] = np.linspace(12, 0, 200)
        reduction[500:1000] = np.linspace(12, 4, 500)
        first, second = hit_recoveries(reduction, ((0.0, 0), (2.0, 500)), rate_hz=rate, lookahead_frames=0)
        self.assertAlmostEqual(first.depth_db, 12.0)
        self.assertAlmostEqual(first.recovery_ms, 182.0, delta=2.0)
        self.assertEqual(first.gap_ms, 500.0)
        self.assertIsNone(second.recovery_ms)
        self.assertAlmostEqual(second.left_db, 4.0)
