import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.measure.bands import NOMINAL_THIRDS, band_centres, band_edges, band_sums


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
