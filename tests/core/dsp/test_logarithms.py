import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.dsp.logarithms import powers_of_two, to_decibels


class LogarithmsTest(unittest.TestCase):
    """Against the C library's, of any size and about the places where a number is parted."""

    def setUp(self):
        chance = np.random.default_rng(5)
        powers = 2.0 ** np.arange(-60, 20)
        edges = np.sqrt(0.5) * powers
        beside = [np.nextafter(each, way) for each in (powers, edges) for way in (0.0, np.inf)]
        self.sizes = np.concatenate([10.0 ** chance.uniform(-20.0, 4.0, 4000), powers, edges, *beside])

    def test_decibels(self):
        found = np.empty_like(self.sizes)
        to_decibels(self.sizes, np.empty(found.shape, np.int64), found)
        assert_allclose(found, 20.0 * np.log10(self.sizes), rtol=0.0, atol=1e-11)

    def test_powers(self):
        exponents = np.concatenate([np.log2(self.sizes), np.arange(-200.0, 200.0, 0.5)])
        found = np.empty_like(exponents)
        powers_of_two(exponents, np.empty(found.shape, np.int64), found)
        assert_allclose(found, 2.0**exponents, rtol=1e-11)

    def test_what_falls_without_end_stays_a_number(self):
        found = np.empty(2)
        powers_of_two(np.array([-1e9, -np.inf]), np.empty(2, np.int64), found)
        assert_allclose(found, 2.0**-1000)
