"""Room map, masking, headroom: constructed cases with known answers."""

import unittest

import numpy as np
from numpy.testing import assert_allclose

from apilado.core.measure.bands import band_centres
from apilado.core.measure.ducking import headroom_won
from apilado.core.measure.passage import energy_grid as energy_grid_of
from apilado.core.measure.passage import grid_columns
from apilado.core.measure.room_map import centre_of, room_map, spread, thirds_of
from apilado.core.measure.stem import measured
from tests.support import noise, sine

COLUMNS = 64


def energy_grid(audio):
    return energy_grid_of(audio, measured(audio, 48000), columns=COLUMNS)


def gated(audio, parts):
    """The audio where `parts` (shares of its length) say, silence elsewhere."""
    out = np.zeros_like(audio)
    for first, last in parts:
        span = slice(round(first * audio.shape[1]), round(last * audio.shape[1]))
        out[:, span] = audio[:, span]
    return out


def grids(**sounds):
    return room_map({name: energy_grid(sound) for name, sound in sounds.items()})


class GridTest(unittest.TestCase):
    def test_energy_is_found_in_its_band_and_moment(self):
        for hertz in (50.0, 110.0, 260.0, 440.0, 5000.0):
            grid = energy_grid(gated(sine(hertz, 4.0), [(0.5, 0.75)]))
            row, column = np.unravel_index(np.argmax(grid), grid.shape)
            self.assertLess(abs(np.log2(band_centres(6)[row] / hertz)), 1 / 12 + 1 / 24, hertz)
            self.assertTrue(32 <= column < 48, column)
            self.assertLess(float(grid[:, :28].max()), 1e-6)
            self.assertAlmostEqual(float(thirds_of(grid)[:, 40].sum()), 1.0, delta=0.02)

    def test_white_noise_has_the_same_density_on_both_sides_of_the_turn(self):
        grid = energy_grid(noise(8 * 48000, channels=2))
        density = np.mean(grid, axis=1) / band_centres(6)
        assert_allclose(10 * np.log10(density[10:56] / np.median(density)), 0.0, atol=1.0)

    def test_columns_follow_the_beats(self):
        self.assertEqual([grid_columns(b) for b in (1.0, 16.0, 200.0)], [64, 128, 512])


class RoomMapTest(unittest.TestCase):
    def test_the_same_place_at_the_same_time_is_common(self):
        tone = 0.5 * sine(110.0, 4.0)
        same = grids(kick=tone, bass=tone)
        self.assertAlmostEqual(same.share("kick", "bass"), 1.0, places=3)
        self.assertLess(abs(np.log2(centre_of(same.common("kick", "bass")) / 110.0)), 1 / 6)

    def test_elsewhere_or_at_another_time_is_not(self):
        tone = 0.5 * sine(110.0, 4.0)
        self.assertLess(grids(kick=tone, bass=0.5 * sine(440.0, 4.0)).share("kick", "bass"), 0.01)
        apart = grids(kick=gated(tone, [(0.1, 0.3)]), bass=gated(tone, [(0.5, 0.9)]))
        self.assertLess(apart.share("kick", "bass"), 0.01)

    def test_half_of_the_time_is_half(self):
        tone = 0.5 * sine(110.0, 4.0)
        room = grids(kick=gated(tone, [(0.0, 0.25), (0.5, 0.75)]), bass=gated(tone, [(0.5, 0.75)]))
        self.assertAlmostEqual(room.share("kick", "bass"), 0.5, delta=0.03)
        self.assertAlmostEqual(room.share("bass", "kick"), 1.0, delta=0.03)

    def test_who_covers_whom_and_by_how_much(self):
        room = grids(loud=0.5 * sine(110.0, 4.0), soft=0.05 * sine(110.0, 4.0))
        band = int(np.argmin(np.abs(room.centres_hz - 110.0)))
        self.assertAlmostEqual(float(room.covered_db("soft", "loud")[band]), 20.0, delta=0.5)
        self.assertAlmostEqual(float(room.covered_db("loud", "soft")[band]), 0.0, delta=0.1)

    def test_covering_reaches_further_upwards(self):
        pattern = spread(np.eye(1, 31, 10).T)
        assert_allclose(10 * np.log10(pattern[11:14, 0]), [-8.0, -16.0, -24.0], atol=1e-9)
        assert_allclose(10 * np.log10(pattern[8:10, 0]), [-40.0, -20.0], atol=1e-9)

    def test_contested_where_two_are_near(self):
        room = grids(a=0.5 * sine(110.0, 4.0), b=0.25 * sine(110.0, 4.0), c=0.5 * sine(3000.0, 4.0))
        band = int(np.argmin(np.abs(room.centres_hz - 110.0)))
        self.assertAlmostEqual(float(room.contested_db()[band, 30]), -6.02, delta=0.1)
        self.assertLess(float(room.contested_db()[int(np.argmin(np.abs(room.centres_hz - 3150.0))), 30]), -50.0)
        self.assertEqual(float(grids(a=0.5 * sine(110.0, 4.0)).contested_db().max()), -150.0)


class HeadroomTest(unittest.TestCase):
    def test_as_a_whole_and_in_a_stretch(self):
        before = np.zeros((2, 1000), np.float32)
        before[:, 100], before[1, 600] = 1.0, 0.5
        after = before.copy()
        after[:, 100] = 0.5
        won = headroom_won(before, after)
        self.assertAlmostEqual(won.won_db, 6.02, places=2)
        self.assertAlmostEqual(won.before_db, 0.0, places=5)
        self.assertAlmostEqual(headroom_won(before[:, 500:], after[:, 500:]).won_db, 0.0, places=5)


if __name__ == "__main__":
    unittest.main()
