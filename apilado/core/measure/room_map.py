"""Who has how much energy where and when, and who covers whom."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from apilado.core.measure.bands import band_centres, band_edges
from apilado.core.units import power_to_db

UPWARD_DB_PER_THIRD, DOWNWARD_DB_PER_THIRD = 8.0, 20.0
"""How a sound's covering of others falls off per third-octave away from it: the slopes of masking patterns of narrow
noise at middle levels (Zwicker, Fastl, *Psychoacoustics*, ch. 4; rounded, from memory)."""
AUDIBLE_DB = -50.0
"""Parts of a sound further than this under its own loudest moment do not count as covered."""


@dataclass(frozen=True, eq=False)
class RoomMap:
    """Power of each source per third-octave and moment; a full-scale sine is 1."""

    names: tuple[str, ...]
    power: NDArray[np.float64]
    """Shape (sources, bands, moments)."""

    @property
    def centres_hz(self) -> NDArray[np.float64]:
        """Mid-band frequency of each band."""
        return band_centres(3)

    def of(self, name: str) -> NDArray[np.float64]:
        """Power of one source, shape (bands, moments)."""
        found: NDArray[np.float64] = self.power[self.names.index(name)]
        return found

    def together(self, names: tuple[str, ...]) -> NDArray[np.float64]:
        """Power of several sources, added."""
        return np.asarray(sum((self.of(name) for name in names), np.zeros(self.power.shape[1:])))

    def common(self, a: str, b: str) -> NDArray[np.float64]:
        """Mean power per band that both have at the same moments: the smaller of the two, moment by moment."""
        return np.asarray(np.mean(np.minimum(self.of(a), self.of(b)), axis=1))

    def share(self, part: str, other: str) -> float:
        """How much of a part's energy lies where and when another has as much or more, 0 to 1."""
        own = float(np.sum(np.mean(self.of(part), axis=1)))
        return float(np.sum(self.common(part, other))) / own if own > 1e-12 else 0.0

    def covered_db(self, part: str, by: str) -> NDArray[np.float64]:
        """By how much another source covers a part, per band: 0 where it does not.

        The mean over the moments, weighted by the part's energy, of how far the other's masking pattern lies above it.
        """
        own, other = self.of(part), spread(self.of(by))
        audible = own > float(np.max(own, initial=0.0)) * 10.0 ** (AUDIBLE_DB / 10.0)
        over = np.where(audible, np.maximum(power_to_db(other) - power_to_db(own), 0.0), 0.0)
        weight = np.where(audible, own, 0.0)
        total = np.sum(weight, axis=1)
        mean = np.divide(np.sum(weight * over, axis=1), total, out=np.zeros(own.shape[0]), where=total > 1e-15)
        return np.asarray(mean, np.float64)

    def contested_db(self) -> NDArray[np.float64]:
        """How near the second strongest source comes to the strongest, per band and moment: 0 dB is a draw."""
        if len(self.names) < 2:
            return np.full(self.power.shape[1:], -150.0)
        ordered = np.sort(self.power, axis=0)
        quiet = ordered[-2] < float(np.max(ordered, initial=0.0)) * 10.0 ** (AUDIBLE_DB / 10.0)
        ratio = ordered[-2] / np.maximum(ordered[-1], 1e-15)
        return np.where(quiet, -150.0, power_to_db(ratio))


def spread(power: NDArray[np.float64]) -> NDArray[np.float64]:
    """The masking pattern of a sound: each band also covers its neighbours, less with distance. Same shape."""
    up, down = 10.0 ** (-UPWARD_DB_PER_THIRD / 10.0), 10.0 ** (-DOWNWARD_DB_PER_THIRD / 10.0)
    out = power.copy()
    for band in range(1, power.shape[0]):
        out[band] = np.maximum(out[band], out[band - 1] * up)
    for band in range(power.shape[0] - 2, -1, -1):
        out[band] = np.maximum(out[band], out[band + 1] * down)
    return out


def thirds_of(grid: NDArray[np.float32]) -> NDArray[np.float64]:
    """Sixth-octave rows, as `energy_grid` gives them, added up to third-octaves: shape (bands, moments)."""
    return np.asarray(_thirds() @ grid.astype(np.float64))


@lru_cache(maxsize=1)
def _thirds() -> NDArray[np.float64]:
    """1 where a sixth-octave lies in a third-octave, else 0; shape (thirds, sixths)."""
    sixths, edges = band_edges(6), band_edges(3)
    where = np.searchsorted(edges, np.sqrt(sixths[:-1] * sixths[1:])) - 1
    return np.asarray(np.arange(edges.shape[0] - 1)[:, None] == where, np.float64)


def room_map(grids: dict[str, NDArray[np.float32]]) -> RoomMap:
    """The room map of sources whose energies were measured at the same moments."""
    bands = band_centres(3).shape[0]
    power = np.array([thirds_of(grid) for grid in grids.values()]) if grids else np.zeros((0, bands, 1))
    return RoomMap(tuple(grids), power)


def centre_of(common: NDArray[np.float64]) -> float:
    """The frequency in Hz where a common energy lies: its strongest band, weighted with that band's neighbours."""
    centres = band_centres(3)
    best = int(np.argmax(common))
    near = slice(max(0, best - 1), best + 2)
    weights = common[near]
    total = float(np.sum(weights))
    if total <= 0.0:
        return float(centres[best])
    return float(np.exp(np.sum(weights * np.log(centres[near])) / total))
