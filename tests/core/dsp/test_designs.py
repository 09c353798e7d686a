import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np
from numpy.testing import assert_allclose
from scipy import signal

from apilado.actions.warming import LATER
from apilado.commands.telling import forget_kernels
from apilado.core.dsp import fourier
from apilado.core.dsp.designs import convolution, kaiser_window, sinc_taps_for, taps_needed
from apilado.core.dsp.kernels import kernel
from tests.support import noise


class DesignsTest(unittest.TestCase):
    """What is named here is what SciPy and the source say of it: J. F. Kaiser, "Nonrecursive digital filter design
    using the I0-sinh window function", IEEE ISCAS 1974."""

    def test_a_low_pass_stops_as_far_and_as_soon_as_it_says(self):
        for stop_db, width in ((60.0, 0.05), (90.0, 0.1)):
            taps = sinc_taps_for(taps_needed(stop_db, width) | 1, 0.4, stop_db)
            at, response = signal.freqz(taps, worN=8192)
            beyond = np.abs(response[at / np.pi > 0.4 + width / 2])
            self.assertLess(20 * np.log10(np.max(beyond)), -stop_db + 0.5)
            self.assertGreater(20 * np.log10(np.max(beyond)), -stop_db - 6.0)
            self.assertAlmostEqual(float(np.sum(taps)), 1.0, places=9)

    def test_the_window_is_kaisers(self):
        # Of 60 dB and more: beta = 0.1102 (A - 8.7).
        assert_allclose(kaiser_window(101, 72.0), signal.windows.kaiser(101, 0.1102 * (72.0 - 8.7)), rtol=1e-12)

    def test_a_convolution_is_along_the_frames(self):
        sound, taps = noise(3000, seed=2), noise(1, seed=3)[:, :1] * np.ones((1, 5), np.float32)
        wanted = np.stack([np.convolve(channel, taps[0], "valid") for channel in sound])
        assert_allclose(convolution(sound, taps[:1], mode="valid"), wanted, atol=1e-6)


class KernelsTest(unittest.TestCase):
    def test_what_was_compiled_before_is_forgotten_and_nothing_else(self):
        with tempfile.TemporaryDirectory() as folder:
            inner = Path(folder) / "dsp" / "__pycache__"
            inner.mkdir(parents=True)
            for name in ("filters._kernel-1.py311.nbi", "filters._kernel-1.py311.1.nbc", "filters.cpython-311.pyc"):
                (inner / name).touch()
            self.assertEqual(forget_kernels(Path(folder)), 2)
            self.assertEqual([each.name for each in inner.iterdir()], ["filters.cpython-311.pyc"])

    def test_a_division_by_zero_is_what_ieee_754_says(self):
        @kernel
        def over(a, b):
            return a / b

        self.assertEqual(over(1.0, 0.0), np.inf)


class LaterTest(unittest.TestCase):
    def test_no_page_waits_for_what_only_sounds_need(self):
        told = "import sys, apilado.web.app, apilado.actions.workspace; print(*sorted(sys.modules))"
        loaded = subprocess.run([sys.executable, "-c", told], check=True, capture_output=True, text=True).stdout.split()
        self.assertIn("apilado.core.dsp.oversampling", loaded)
        self.assertEqual([name for name in LATER if name in loaded], [])

    def test_transforms_are_there_when_they_are_asked_for(self):
        lines = fourier.rfft(np.sin(2 * np.pi * 3 * np.arange(32) / 32))
        self.assertEqual(int(np.argmax(np.abs(lines))), 3)
        with self.assertRaises(AttributeError):
            _ = fourier.nothing_of_the_kind
