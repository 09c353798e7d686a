import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.measure.bands import NOMINAL_THIRDS, band_centres, band_edges, band_sums, line_sums, powers_between


class BandsTest(unittest.TestCase):
    def test_third_octave_centres(self):
        # IEC 61260-1, table E.1: exact base-ten mid-band frequencies of third-octaves.
        expected = [19.953, 25.119, 31.623, 39.811, 50.119, 63.096, 79.433, 100.0, 125.89, 158.49, 199.53]
        centres = band_centres(3)
        assert_allclose(centres[:11], expected, rtol=3e-5)
        self.assertAlmostEqual(centres[-1], 19953.0, delta=1.0)
        self.assertEqual(len(centres), 31)

    def test_nominal_names_are_the_nearest(self):
        for name, centre in zip(NOMINAL_THIRDS, band_centres(3), strict=True):
            value = float(name.rstrip("k")) * (1000 if name.endswith("k") else 1)
            self.assertAlmostEqual(value / centre, 1.0, delta=0.02)

    def test_edges_meet(self):
        for per_octave in (3, 6, 12):
            edges, centres = band_edges(per_octave), band_centres(per_octave)
            assert_allclose(np.sqrt(edges[:-1] * edges[1:]), centres, rtol=1e-9)

    def test_no_energy_is_lost_or_counted_twice(self):
        for bins in (4097, 100001):
            frequencies = np.linspace(0, 24000, bins)
            values = np.ones((2, bins))
            for per_octave in (3, 12):
                edges = band_edges(per_octave)
                sums = band_sums(values, frequencies, per_octave)
                widths = np.diff(edges) / (frequencies[1])
                assert_allclose(sums, np.stack([widths, widths]), rtol=1e-9)

    def test_powers_in_ranges_that_overlap_or_are_empty(self):
        rng = np.random.default_rng(8)
        lines = (rng.standard_normal(5000) + 1j * rng.standard_normal(5000)).astype(np.complex64)
        low = np.append(rng.integers(0, 4000, 60), [0, 5000, 17])
        high = np.append(low[:60] + rng.integers(0, 1000, 60), [5000, 5000, 17])
        squares = np.abs(lines).astype(np.float64) ** 2
        wanted = [np.sum(squares[first:last]) for first, last in zip(low, high, strict=True)]
        assert_allclose(powers_between(lines, low, high), wanted, rtol=1e-6, atol=1e-6)

    def test_sums_over_the_lines_of_two_spectra_are_those_of_each(self):
        for frames, rate in ((44100, 44100), (5000, 48000), (96001, 96000), (700, 48000)):
            rng = np.random.default_rng(frames)
            left, right = (np.fft.rfft(rng.standard_normal(frames)).astype(np.complex64) for _ in range(2))
            spacing = rate / frames
            frequencies = np.arange(left.shape[0]) * spacing
            for per_octave in (3, 12):
                found = line_sums(left, right, spacing, per_octave)
                each = [np.abs(left) ** 2, np.abs(right) ** 2, (left * np.conj(right)).real]
                wanted = [band_sums(values, frequencies, per_octave) for values in each]
                assert_allclose(found, wanted, rtol=1e-5, atol=1e-5 * float(np.max(wanted)))
