"""How layers meet at their borders note by note, and the settings under which they add up best.

Two layers a, b meet in one note with the spectra A(f), B(f) in the octave around their border. Start phase, polarity
and delay only turn them: with s the product of their polarities and τ the delay of b against a, the coherence gain is
10·log10(1 + s·R(τ)), R(τ) = 2·Re Σ conj(A)·B·e^(-2πi f τ) / Σ(|A|² + |B|²). A start phase of φ cycles of a layer's own
pitch f₀ moves a periodic sound by φ/f₀ earlier, treatments included as long as they answer alike to every cycle. R is
tabulated once for each meeting, and the settings are searched over the tables.

What the search promises is only as true as that: envelopes do not move with the phase, slides and drops turn it.
Whoever offers a setting renders it first (`soundings/alignment.py`).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from apilado.core.dsp import fourier as fft
from apilado.core.dsp.audio import Audio
from apilado.core.measure.notes import segment
from apilado.core.units import db_to_gain, ms_to_samples, power_to_db

Goal = Literal["worst", "mean"]

SETTLE_MS, LONGEST_MS = 15.0, 400.0
MOST_BINS = 96
APART_DB = -30.0
LONGEST_DELAY_MS = 12.0
STEPS_PER_CYCLE = 72
FLOOR = 1e-3
STARTS, COARSE_ROUNDS, ROUNDS = 4, 3, 8
ENOUGH_DB = 0.001
"""A simpler setting that comes this close to the best is preferred: it is within 2° of it."""
EXACT_POINTS = 64
"""So few delays are computed, not read from the table."""
UNRELATED, DRIFT_DEG = 0.35, 40.0
"""A phase that moves further than this between the halves of a note is no fixed phase."""


@dataclass(frozen=True, eq=False)
class NoteSpectrum:
    """One note of a stem, under a Hann window, and its two halves apart."""

    whole: NDArray[np.complex64]
    halves: tuple[NDArray[np.complex64], NDArray[np.complex64]]
    bin_hz: float


def note_spectra(audio: Audio, spans: tuple[tuple[int, int], ...], *, rate_hz: int) -> tuple[NoteSpectrum, ...]:
    """Spectra of notes, given as (first frame, frames), of a looped stem's mono sum."""
    settle, longest = ms_to_samples(SETTLE_MS, rate_hz), ms_to_samples(LONGEST_MS, rate_hz)
    # Twice as long as what is in it: products of two spectra are then sampled finely enough to be summed over a band.
    size = fft.next_fast_len(2 * longest, real=True)
    found = []
    for first, frames in spans:
        start = first + min(settle, frames // 4)
        count = max(64, min(frames - min(settle, frames // 4), longest))
        part = segment(audio, start, count)
        mono = (part[0] + part[1]) / 2.0
        half = count // 2
        halves = []
        for piece, at in ((mono[:half], 0), (mono[half : 2 * half], half)):
            placed = np.zeros(count, np.float32)
            placed[at : at + half] = piece * np.hanning(half).astype(np.float32)
            halves.append(fft.rfft(placed, size))
        whole = fft.rfft(mono * np.hanning(count).astype(np.float32), size)
        found.append(NoteSpectrum(whole, (halves[0], halves[1]), rate_hz / size))
    return tuple(found)


@dataclass(frozen=True, eq=False)
class Meeting:
    """Two layers at their border in one note."""

    lower: str
    upper: str
    border: int
    border_hz: float
    start_beats: float
    pitch: int
    fundamental_hz: float
    """Of the lower layer: the pitch in whose cycles its start phase is counted."""
    upper_hz: float
    """Of the upper layer, which may be transposed otherwise."""
    frequencies_hz: NDArray[np.float64]
    cross: NDArray[np.complex128]
    """conj(A)·B in each bin kept, over half of Σ(|A|² + |B|²): the real sum of it at τ = 0 is R(0)."""
    balance_db: float
    turns_deg: float
    """How far the phase moves between the note's halves."""
    power: float
    """Σ(|A|² + |B|²): what it counts among others."""
    present: float
    """R(0) as it is, over all bins: the strongest, which the tables are made of, speak for all but nearly."""

    @property
    def meets(self) -> bool:
        """Whether both are loud enough there for their phase to matter."""
        return self.balance_db > APART_DB

    @property
    def drifts(self) -> bool:
        """Whether their phase does not hold through the note, or they have little to do with each other."""
        return bool(abs(self.turns_deg) > DRIFT_DEG or self.kinship < UNRELATED)

    @property
    def phase_deg(self) -> float:
        """Phase of the upper against the lower, weighted by energy."""
        return math.degrees(np.angle(np.sum(self.cross)))

    @cached_property
    def harmonics_deg(self) -> tuple[tuple[int, float], ...]:
        """(number, phase of the upper against the lower) of the fundamental's harmonics in the octave."""
        found = []
        low, high = self.border_hz / math.sqrt(2.0), self.border_hz * math.sqrt(2.0)
        for number in range(math.ceil(low / self.fundamental_hz), math.floor(high / self.fundamental_hz) + 1):
            near = np.abs(self.frequencies_hz - number * self.fundamental_hz) < 0.2 * self.fundamental_hz
            total = complex(np.sum(self.cross[near]))
            if abs(total) > 1e-3:
                found.append((number, math.degrees(np.angle(total))))
        return tuple(found)

    @cached_property
    def table(self) -> tuple[float, NDArray[np.float64]]:
        """(step in seconds, R at multiples of it from -longest to +longest)."""
        step = 1.0 / (STEPS_PER_CYCLE * self.border_hz)
        reach = 2.0 * LONGEST_DELAY_MS / 1000.0 + 0.5 / self.fundamental_hz + 0.5 / self.upper_hz
        count = math.ceil(reach / step)
        delays = np.arange(-count, count + 1) * step
        turned = np.exp(-2j * np.pi * np.outer(delays, self.frequencies_hz)) @ self.cross
        return step, np.asarray(turned.real, np.float64)

    def response(self, delay_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """R at delays of the upper against the lower."""
        if delay_s.shape[0] <= EXACT_POINTS:
            turned = np.exp(-2j * np.pi * np.outer(delay_s, self.frequencies_hz)) @ self.cross
            return np.asarray(turned.real, np.float64)
        step, values = self.table
        place = delay_s / step + len(values) // 2
        place = np.clip(place, 0.0, len(values) - 1.001)
        below = place.astype(np.int64)
        share = place - below
        return np.asarray(values[below] * (1.0 - share) + values[below + 1] * share)

    def gain_db(self, delay_s: float = 0.0, sign: float = 1.0) -> float:
        """Coherence gain with the upper delayed and turned, as the strongest bins tell it."""
        return float(power_to_db(max(1.0 + sign * float(self.response(np.array([delay_s]))[0]), FLOOR)))

    @property
    def present_db(self) -> float:
        """Coherence gain as it is."""
        return float(power_to_db(max(1.0 + self.present, FLOOR)))

    @cached_property
    def kinship(self) -> float:
        """How much of the gain that two sounds of these levels could have is within reach of any delay: 0 to 1."""
        ratio = float(db_to_gain(self.balance_db))
        possible = 2.0 * ratio / (1.0 + ratio * ratio)
        return float(np.max(np.abs(self.table[1]))) / max(possible, 1e-9)

    @property
    def delay_ms(self) -> float:
        """Delay of the upper against the lower that R peaks at, within half a period of the border."""
        reach = 0.5 / self.border_hz
        delays = np.linspace(-reach, reach, 181)
        return 1000.0 * float(-delays[int(np.argmax(self.response(delays)))])


def meeting(
    names: tuple[str, str],
    border: tuple[int, float],
    note: tuple[float, int, float, float],
    lower: NoteSpectrum,
    upper: NoteSpectrum,
) -> Meeting:
    """Two spectra of one note at a border.

    Args:
        names: of the layer below and of the one above.
        border: (its number, its frequency in Hz).
        note: (start in beats, MIDI pitch, fundamental in Hz of the layer below and of the one above).
    """
    edges = border[1] / math.sqrt(2.0) / lower.bin_hz, border[1] * math.sqrt(2.0) / lower.bin_hz
    low, high = math.floor(edges[0] + 0.5), math.floor(edges[1] + 0.5) + 1
    # A bin is as wide as it is: of those at the octave's edges counts what lies inside.
    inside = np.ones(high - low)
    inside[0] -= edges[0] + 0.5 - low
    inside[-1] -= high - 0.5 - edges[1]
    a, b = (side.whole[low:high].astype(np.complex128) * np.sqrt(inside) for side in (lower, upper))
    power_a, power_b = float(np.sum(np.abs(a) ** 2)), float(np.sum(np.abs(b) ** 2))
    quiet, loud = min(power_a, power_b), max(power_a, power_b)
    cross = np.conj(a) * b / max((power_a + power_b) / 2.0, 1e-30)
    present = float(np.sum(cross.real))
    sizes = np.abs(cross)
    kept = np.sort(np.argsort(sizes)[-MOST_BINS:])
    # The strongest bins speak for all.
    cross *= np.sum(sizes) / max(float(np.sum(sizes[kept])), 1e-30)
    turns = [np.sum(np.conj(x[low:high]) * y[low:high]) for x, y in zip(lower.halves, upper.halves, strict=True)]
    # A sound that is in one half only has not turned.
    both = min(map(abs, turns)) > 0.1 * max(map(abs, turns))
    turned = turns[1] * np.conj(turns[0]) if both else 0.0
    return Meeting(
        lower=names[0],
        upper=names[1],
        border=border[0],
        border_hz=border[1],
        start_beats=note[0],
        pitch=note[1],
        fundamental_hz=note[2],
        upper_hz=note[3],
        frequencies_hz=np.asarray((low + kept) * lower.bin_hz, np.float64),
        cross=cross[kept],
        balance_db=float(power_to_db(quiet / loud)) if loud > 1e-9 else -150.0,
        turns_deg=math.degrees(np.angle(turned)) if abs(turned) > 0.0 else 0.0,
        power=power_a + power_b,
        present=present,
    )


@dataclass(frozen=True)
class Freedom:
    """What may be changed of a layer. Layers of one `family` share their start phase; '' has none."""

    name: str
    family: str = ""
    polarity: bool = True
    delay: bool = True


@dataclass(frozen=True)
class Setting:
    """A change of one layer against what it is now."""

    phase_cycles: float = 0.0
    """Of the note's fundamental, added to its start phase."""
    invert: bool = False
    delay_ms: float = 0.0


@dataclass(frozen=True)
class Solution:
    """The settings that were found, and what each meeting gains by them."""

    settings: dict[str, Setting]
    before_db: tuple[float, ...]
    after_db: tuple[float, ...]

    @property
    def changes(self) -> bool:
        """Whether anything is to be changed at all."""
        return any(setting != Setting() for setting in self.settings.values())


@dataclass
class _State:
    phase: dict[str, float]
    sign: dict[str, float]
    delay_s: dict[str, float]

    def copy(self) -> _State:
        return _State(dict(self.phase), dict(self.sign), dict(self.delay_s))


class _Search:
    """Coordinate search over the tables of all meetings, from several starts."""

    def __init__(
        self, meetings: Sequence[Meeting], layers: Sequence[Freedom], goal: Goal, wanted: Callable[[], None]
    ) -> None:
        self.wanted = wanted
        # Bars that are played alike meet alike: one of them speaks for all.
        alike: dict[tuple[object, ...], list[Meeting]] = {}
        for m in meetings:
            key = (m.lower, m.upper, m.pitch, round(m.gain_db(), 1), round(m.phase_deg / 4.0))
            alike.setdefault(key, []).append(m)
        self.weights = np.array([float(len(same)) for same in alike.values()])
        meetings = [same[0] for same in alike.values()]
        self.meetings, self.layers, self.goal = meetings, list(layers), goal
        self.family = {layer.name: layer.family for layer in layers}
        # The lowest layer stands; so does its family's phase.
        self.moving = self.layers[1:]
        fixed = layers[0].family
        self.families = sorted({layer.family for layer in self.moving if layer.family and layer.family != fixed})
        if fixed and not self.families and all(not layer.family for layer in self.moving):
            self.families = [fixed]  # it is the only one that has a phase to give
        lowest = min(meeting.border_hz for meeting in meetings)
        self.longest = min(LONGEST_DELAY_MS / 1000.0, 0.5 / lowest)

    def zero(self) -> _State:
        names = [layer.name for layer in self.layers]
        phases = dict.fromkeys({family for family in self.family.values() if family}, 0.0)
        return _State(phases, dict.fromkeys(names, 1.0), dict.fromkeys(names, 0.0))

    def lag(self, state: _State, meeting: Meeting) -> float:
        """Delay of the upper against the lower under a state."""
        lower, upper = self.family[meeting.lower], self.family[meeting.upper]
        turned = state.phase.get(upper, 0.0) / meeting.upper_hz - state.phase.get(lower, 0.0) / meeting.fundamental_hz
        return state.delay_s[meeting.upper] - state.delay_s[meeting.lower] - turned

    def gains(self, state: _State) -> NDArray[np.float64]:
        return np.array(
            [m.gain_db(self.lag(state, m), state.sign[m.lower] * state.sign[m.upper]) for m in self.meetings]
        )

    def score(self, gains: NDArray[np.float64]) -> NDArray[np.float64]:
        """Of gains of shape (meetings, …)."""
        mean = np.tensordot(self.weights, gains, axes=1) / np.sum(self.weights)
        # Where the worst cannot be helped the others still count a little.
        return np.asarray(gains.min(axis=0) + 1e-3 * mean if self.goal == "worst" else mean)

    def scan(self, state: _State, add: dict[str, NDArray[np.float64]], sign: float) -> NDArray[np.float64]:
        """Scores when each meeting's lag grows by `add[…]` of its upper and shrinks by that of its lower layer."""
        rows = []
        for m in self.meetings:
            grid = self.lag(state, m) + add.get(m.upper, np.zeros(1)) - add.get(m.lower, np.zeros(1))
            turned = sign if (m.upper in add) != (m.lower in add) else 1.0
            signs = state.sign[m.lower] * state.sign[m.upper] * turned
            rows.append(np.maximum(1.0 + signs * m.response(grid), FLOOR))
        widest = max(row.shape[0] for row in rows)
        values = np.array([np.broadcast_to(row, (widest,)) for row in rows])
        return self.score(np.asarray(power_to_db(values)))

    def improve_delay(
        self, state: _State, layers: Sequence[Freedom], *, polarity: bool, delay: bool, fine: bool
    ) -> None:
        """Moves some layers together, which changes only how they meet the others."""
        reach, count = (self.longest / 60.0, 61) if fine else (self.longest, 241)
        steps = np.linspace(-reach, reach, count) if delay else np.zeros(1)
        add = dict.fromkeys((layer.name for layer in layers), steps)
        options = [(self.scan(state, add, sign), sign) for sign in ((1.0, -1.0) if polarity else (1.0,))]
        scores, sign = max(options, key=lambda option: float(option[0].max()))
        for layer in layers:
            state.delay_s[layer.name] += float(steps[int(np.argmax(scores))])
            state.sign[layer.name] *= sign

    def improve_phase(self, state: _State, family: str, *, fine: bool) -> None:
        cycles = np.linspace(-1.0 / 90.0, 1.0 / 90.0, 41) if fine else np.arange(-90, 90) / 180.0
        members = [name for name, its in self.family.items() if its == family]
        rows = []
        for m in self.meetings:
            turned = (m.upper in members) / m.upper_hz - (m.lower in members) / m.fundamental_hz
            grid = self.lag(state, m) - turned * cycles
            rows.append(np.maximum(1.0 + state.sign[m.lower] * state.sign[m.upper] * m.response(grid), FLOOR))
        scores = self.score(np.asarray(power_to_db(np.array(rows))))
        phase = state.phase[family] + float(cycles[int(np.argmax(scores))])
        state.phase[family] = (phase + 0.5) % 1.0 - 0.5

    def best(self, *, phase: bool, polarity: bool, delay: bool) -> tuple[float, _State]:
        random = np.random.default_rng(1976)
        found: tuple[float, _State] | None = None
        for start in range(STARTS if phase or delay else 1):
            state = self.zero()
            if start:
                for family in self.families if phase else []:
                    state.phase[family] = random.uniform(-0.5, 0.5)
                for layer in self.moving:
                    if delay and layer.delay:
                        state.delay_s[layer.name] = random.uniform(-1.0, 1.0) * self.longest
                    if polarity and layer.polarity:
                        state.sign[layer.name] = random.choice((-1.0, 1.0))
            score = -math.inf
            for number in range(ROUNDS):
                self.wanted()
                fine = number >= COARSE_ROUNDS
                for family in self.families if phase else []:
                    self.improve_phase(state, family, fine=fine)
                for group in [*[self.moving[i:] for i in range(len(self.moving))], *[[x] for x in self.moving[:-1]]]:
                    turns = polarity and all(layer.polarity for layer in group)
                    moves = delay and all(layer.delay for layer in group)
                    if turns or moves:
                        self.improve_delay(state, group, polarity=turns, delay=moves, fine=fine)
                reached = float(self.score(self.gains(state)))
                if fine and reached < score + 1e-4:
                    break
                score = reached
            if found is None or score > found[0] + 1e-6:
                found = (score, state.copy())
        return found or (-math.inf, self.zero())


def solve(
    meetings: Sequence[Meeting],
    layers: Sequence[Freedom],
    goal: Goal = "worst",
    wanted: Callable[[], None] = lambda: None,
) -> Solution:
    """Start phases, polarities and delays that make the worst (or the mean) coherence gain greatest.

    Of settings within 2° of the best the plainest is taken. See `solutions`.
    """
    return solutions(meetings, layers, goal, wanted)[0]


def solutions(
    meetings: Sequence[Meeting],
    layers: Sequence[Freedom],
    goal: Goal = "worst",
    wanted: Callable[[], None] = lambda: None,
) -> tuple[Solution, ...]:
    """The settings worth trying, the best first; those within 2° of the best before it, the plainest first.

    Meetings that do not meet or drift have no say. The first layer stands. Tried are: nothing, start phases alone,
    polarity, both, delay alone, with polarity, and all of them. `wanted` is called now and then, and may raise to end
    the search.
    """
    judged = [m for m in meetings if m.meets and not m.drifts]
    before = tuple(m.gain_db() for m in meetings)
    if not judged or len(layers) < 2:
        return (Solution({layer.name: Setting() for layer in layers}, before, before),)
    search = _Search(judged, layers, goal, wanted)
    present = float(search.score(search.gains(search.zero())))
    choices = [(present, search.zero())]
    for phase, polarity, delay in (
        (True, False, False),
        (False, True, False),
        (True, True, False),
        (False, False, True),
        (False, True, True),
        (True, True, True),
    ):
        choices.append(search.best(phase=phase, polarity=polarity, delay=delay))
    most = max(score for score, _ in choices)
    good = [choice for choice in choices if choice[0] >= most - ENOUGH_DB]
    others = sorted((choice for choice in choices if choice[0] < most - ENOUGH_DB), key=lambda choice: -choice[0])
    return tuple(_solution(search, state, meetings, before) for _, state in (*good, *others))


def _solution(search: _Search, state: _State, meetings: Sequence[Meeting], before: tuple[float, ...]) -> Solution:
    after = tuple(m.gain_db(search.lag(state, m), state.sign[m.lower] * state.sign[m.upper]) for m in meetings)
    settings = {
        layer.name: Setting(
            phase_cycles=state.phase.get(layer.family, 0.0),
            invert=bool(state.sign[layer.name] < 0.0),
            delay_ms=1000.0 * state.delay_s[layer.name],
        )
        for layer in search.layers
    }
    return Solution(_without_common_delay(settings), before, after)


def _without_common_delay(settings: dict[str, Setting]) -> dict[str, Setting]:
    """The same settings with the least delay at zero: no layer can be early."""
    least = min(setting.delay_ms for setting in settings.values())
    return {name: replace(setting, delay_ms=setting.delay_ms - least) for name, setting in settings.items()}
