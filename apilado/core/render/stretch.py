"""A stretch of the piece: its endless repetition from any frame on, as it sounds there.

It is made of the stages of the whole loop. What of them has been rendered is cut out; every other one runs over the
stretch, from as much earlier as it remembers and until as much later as it looks ahead, which is thrown away. So an
edit is heard after a second and what the stages behind it remember has been rendered, however long the piece is. What
follows from notes, hits and curves alone is there exactly.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from apilado.core.clock import Clock
from apilado.core.dsp.audio import Audio
from apilado.core.render import steps
from apilado.core.render.stage import Stage, passing
from apilado.core.treatments.base import Treatment

LONGEST_LEVEL_S, HELD_LEVEL_S = 0.5, 0.05
"""A level is followed from so much before at most. What remembers it for longer begins, a little before the stretch,
with the reduction that it had in the last loop: there it is nearly the same."""
CURVES = (steps.course_of, steps.follow, steps.curve, steps.stepped, steps.join_curves)
"""What makes a curve: over the whole loop."""
MEASURED = (steps.level_gain, steps.agreement)
"""What is measured once over the whole loop: it is held as it was in the last one."""
WHOLE = (*CURVES, *MEASURED, steps.weighted_power)
"""What has no value for each frame: it is of the whole loop, as it is there or as it was in the last one."""
TAKES_WHOLE_CURVES = (steps.play_source,)
"""A note is played from its own start, along curves that have begun before the stretch."""
MOST_OF_THE_LOOP = 0.7
"""A stretch that needs more of the loop than that is not quicker than the whole."""
QUICK = (steps.hits_track, steps.duck_reduction, steps.open_point)
"""What may run over more than that: it is quick all the same."""
SUMS = (steps.mix, steps.sent)
"""What looks neither back nor ahead, and is made again in no time."""
RINGS_FROM_S, RINGS_ANEW_S, RINGS_OVER_S = 0.3, 0.05, 0.02
"""An echo or a room that is heard for longer than the first is given, up to so short before the stretch, what went into
it in the last loop, and goes over to what goes in now: what still rings of earlier is that of the last loop."""
FADES_BESIDES = 0.34
"""What fades in a row fades together: of all but the longest, so much is to be waited for besides. Two exponentials of
one length, one behind the other, have fallen by 60 dB after 1.34 times that of one; ones of other lengths sooner, and
a third and a fourth add less each."""
HELD_FADES = 0.55
"""Of what fades before a level that goes on from the last loop, so much is waited for: down to -36 dB instead of -66,
for behind that level a stretch is right within 30 dB, not 60."""
EXACT_S = 0.05
"""What runs before a stretch is there for what remembers it: up to so short before, its drives need not be oversampled.
What they mirror down then lies under what they make, and has faded when the stretch begins."""
RINGS_UP_TO_S = 12.0
"""What rings for longer would take longer to run than the whole loop."""
Held = Callable[[str, int], Any]
WentIn = Callable[[str], Stage | None]
CameOut = Callable[[Stage], Stage | None]
Window = tuple[int, int]
"""(first frame, frame behind the last) of the endless repetition."""


def trimmed(result: Any, *, first: int, frames: int) -> Any:
    """Some frames of a result; nothing of nothing."""
    return None if result is None else np.ascontiguousarray(result[..., first : first + frames])


def within(*inputs: Any, run: Callable[..., Any], cut: tuple[int, int], **given: Any) -> Any:
    """So many frames, from one on, of what is run."""
    return trimmed(run(*inputs, **given), first=cut[0], frames=cut[1])


def faded_in(new: Audio, *, over: int) -> Audio:
    """A sound that rises within its first frames."""
    found = new.copy()
    found[:, :over] *= np.linspace(0.0, 1.0, over, dtype=np.float32)
    return found


def faded_out(old: Audio, *, over: int, frames: int) -> Audio:
    """A sound that falls within its last frames as another one is `faded_in`, and silence behind it."""
    found = np.zeros((old.shape[0], frames), np.float32)
    sounding = found[:, : old.shape[1]]
    sounding[...] = old
    sounding[:, -over:] *= np.float32(1.0) - np.linspace(0.0, 1.0, over, dtype=np.float32)
    return found


def changed(new: Audio, old: Audio, *, over: int) -> Audio:
    """By how much a sound is another than it was, from its first frames on."""
    return faded_in(np.asarray(new - old), over=over)


def added(one: Audio, other: Audio) -> Audio:
    """The sum of two sounds, each of one channel or of two."""
    return np.asarray(one + other)


def cut_out(result: Any, *, begins: int, frames: int) -> Any:
    """Some frames of the repetition of a loop's result."""
    if result is None:
        return None
    total: int = result.shape[-1]
    first = begins % total
    if first + frames <= total:
        return np.ascontiguousarray(result[..., first : first + frames])
    places: NDArray[np.int64] = np.arange(first, first + frames) % total
    return np.ascontiguousarray(result[..., places])


@dataclass(frozen=True)
class _Lead:
    """What has to run before the first frame that is wanted, in seconds: of a stage and all that reads it."""

    whole_s: float = 0.0
    """Of what rings as loud as ever, one after another."""
    longest_s: float = 0.0
    summed_s: float = 0.0
    """Of what fades: the longest, and all together."""
    held: bool = False
    """Whether all that reads it stands behind a level that goes on from the last loop."""

    @property
    def seconds(self) -> float:
        return self.whole_s + self.longest_s + FADES_BESIDES * (self.summed_s - self.longest_s)

    def behind(self, own: _Lead) -> _Lead:
        """With that of a stage in front of it."""
        share = HELD_FADES if self.held else 1.0
        longest, summed = max(self.longest_s, share * own.longest_s), self.summed_s + share * own.summed_s
        return _Lead(self.whole_s + own.whole_s, longest, summed, self.held)

    def at_least(self, other: _Lead) -> _Lead:
        """What is enough for two that read the same."""
        summed = max(self.summed_s, other.summed_s)
        longest = max(self.longest_s, other.longest_s)
        return _Lead(max(self.whole_s, other.whole_s), longest, summed, self.held and other.held)


@dataclass(eq=False)
class NotAtOnce(Exception):
    """Something can only be made as a whole, or a stretch would take as long."""

    why: str


def stretch_of(
    targets: Sequence[Stage],
    clock: Clock,
    begins: int,
    frames: int,
    there: Callable[[Stage], bool] = lambda stage: False,
    *,
    most: float = math.inf,
    held: Held = lambda where, frame: None,
    went_in: WentIn = lambda where: None,
    came_out: CameOut = lambda step: None,
) -> list[Stage]:
    """The stages that render a stretch of what stages of a loop render.

    Args:
        clock: of the loop.
        begins: frame of the endless repetition, counted from a start of the loop; so many `frames` from there.
        there: says of a stage of the loop whether its result is at hand.
        most: how much of the loop any stage may have to run over, as a share of it.
        held: the gain reduction in dB of the part at an address at a frame, as it was in the last loop, if that is
            known: what follows a level for longer than a stretch looks back begins with it. Of what is measured
            once over the whole loop, that, whatever the frame.
        went_in: what went into the step at an address in the last loop, if that is at hand or summed of what is.
        came_out: what a step that is as it was has made of that, if it is at hand too.

    Raises:
        NotAtOnce: a part of it can only be made as a whole, or more of the loop would have to run than `most`.
    """
    return _Stretcher(clock, there, most, held, went_in, came_out).of(targets, (begins, begins + frames))


def _made_anywhere(each: Stage) -> bool:
    """Whether a curve can be made for a stretch alone: it neither follows a sound nor looks back."""
    alone = each.function is not steps.follow and not each.parameters.get("smooth_frames")
    return alone and all(_made_anywhere(source) for source in each.inputs)


def _takes_whole_curves(each: Stage) -> bool:
    treatment = each.parameters.get("treatment")
    return isinstance(treatment, Treatment) and treatment.takes_whole_curves


def _rings_on(each: Stage) -> bool:
    """Whether it repeats or spreads all that comes along its path, not the bars of one form alone."""
    treatment = each.parameters.get("treatment")
    rings = isinstance(treatment, Treatment) and treatment.rings_on and each.function is steps.treat
    return rings and each.inputs[0].function is not steps.let_in


class _Stretcher:
    def __init__(
        self,
        clock: Clock,
        there: Callable[[Stage], bool],
        most: float,
        held: Held,
        went_in: WentIn = lambda where: None,
        came_out: CameOut = lambda step: None,
    ) -> None:
        self.clock, self.there, self.most, self.held = clock, there, most, held
        self.went_in, self.came_out = went_in, came_out
        self.order: list[Stage] = []
        """What has to run, each behind its inputs."""
        self.windows: dict[bytes, Window] = {}
        """Of each, the frames that are wanted of it."""
        self.leads: dict[bytes, _Lead] = {}
        """Of each, what those behind it need before; then its own with it."""
        self.memories: dict[bytes, tuple[int, int]] = {}
        """Of each, the frames before and behind that it runs over besides."""
        self.made: dict[bytes, Stage] = {}
        self.before: dict[bytes, Stage] = {}
        """Of what rings for long, what went into it in the last loop."""
        self.after: dict[bytes, Stage] = {}
        """Of that, what came out of it, where it is at hand."""
        self.begins = 0
        self._clocks: dict[Window, Clock] = {}
        self._pieces: dict[tuple[bytes, Window], Stage] = {}
        self._curves: dict[tuple[bytes, Clock], Stage] = {}
        self._timed: dict[bytes, bool] = {}
        self._known: dict[bytes, bool] = {}

    def of(self, targets: Sequence[Stage], window: Window) -> list[Stage]:
        self.begins = window[0]
        for target in targets:
            self._visit(target)
            self._want(target, window, _Lead())
        for each in reversed(self.order):
            first, last = self.windows[each.key]
            lead = self.leads[each.key].behind(self._own_lead(each))
            if not lead.held and any(map(self._goes_on, (each, *each.inputs))):
                lead = replace(lead, held=True)
            before = max(0, first - window[0] + self._up_to(lead.seconds))
            behind = self._up_to(each.memory.ahead_s)
            self.memories[each.key] = before, behind
            long = last - first + before + behind > self.most * self.clock.loop_frames
            rings_on = each.key in self.before
            if each.key in self.after:
                self.memories[each.key] = min(before, self._seconds(RINGS_ANEW_S)), behind
            if long and not rings_on and each.function not in QUICK:
                raise NotAtOnce(f"{each.name} would run over most of the loop")
            if rings_on:
                before = min(before, self._seconds(RINGS_ANEW_S))
                lead = _Lead((window[0] - first + before) / self.clock.rate_hz)
            for source in each.inputs:
                self._want(source, (first - before, last + behind), lead)
        for each in self.order:
            self.made[each.key] = self._run(each)
        return [self._piece(target, window) for target in targets]

    def timed(self, each: Stage) -> bool:
        """Whether a result has a value for each frame of the loop."""
        if each.key not in self._timed:
            clock = each.parameters.get("clock")
            looped = isinstance(clock, Clock) and clock.looped
            own = looped or "frames" in each.parameters  # a sum of nothing is silence, as long as the loop
            timed = each.function not in WHOLE and (own or any(self.timed(source) for source in each.inputs))
            self._timed[each.key] = timed
        return self._timed[each.key]

    def known(self, each: Stage) -> bool:
        """Whether a result is at hand: asked once, so that all that is made here agrees about it."""
        if each.key not in self._known:
            self._known[each.key] = self.there(each)
        return self._known[each.key]

    def _visit(self, each: Stage) -> None:
        if each.key in self.memories or each.key in self.made or self.known(each):
            return
        if each.function in MEASURED:
            self._hold(each)
            return
        if not self.timed(each):
            self._check_whole(each)
            return
        if math.isinf(each.memory.rings_s):
            raise NotAtOnce(f"{each.where or each.name} can only be made as a whole")
        for source in each.inputs:
            self._visit(source)
        self.memories[each.key] = 0, 0
        rings_s = each.memory.rings_s
        if rings_s > RINGS_FROM_S and _rings_on(each) and each.inputs[0].key in self.memories:
            last, out = self.went_in(each.where), self.came_out(each)
            if last is not None and (rings_s < RINGS_UP_TO_S or out is not None):
                self.before[each.key] = last
            if last is not None and out is not None:
                self.after[each.key] = out
        self.order.append(each)

    def _own_lead(self, each: Stage) -> _Lead:
        """What a stage itself needs to know of before."""
        memory, fading = each.memory, [each.memory.fades_s]
        if memory.levels_s <= LONGEST_LEVEL_S:
            fading.append(memory.levels_s)
            return _Lead(memory.rings_s, max(fading), sum(fading))
        held = self._goes_on(each)
        return _Lead(memory.rings_s + (HELD_LEVEL_S if held else LONGEST_LEVEL_S), max(fading), sum(fading))

    def _goes_on(self, each: Stage) -> bool:
        """Whether a level is followed for long that is known of the last loop."""
        return each.memory.levels_s > LONGEST_LEVEL_S and self.held(each.where, 0) is not None

    def _hold(self, each: Stage) -> None:
        """What is measured over the whole loop is as it was in the last one, until the next is there.

        Raises:
            NotAtOnce: it was not heard before.
        """
        value = self.held(each.where, 0)
        if value is None:
            raise NotAtOnce("it is measured over the whole loop, and there was none before")
        self.made[each.key] = passing(steps.known, value=value)

    def _check_whole(self, each: Stage) -> None:
        """
        Raises:
            NotAtOnce: a curve follows a sound that would have to be rendered whole.
        """
        for source in each.inputs:
            if not self.known(source):
                if self.timed(source) and source.function is not steps.hits_track:
                    raise NotAtOnce("a movement follows a sound that is not rendered yet")
                self._check_whole(source)

    def _want(self, each: Stage, window: Window, lead: _Lead) -> None:
        if each.key in self.memories:
            first, last = self.windows.get(each.key, window)
            self.windows[each.key] = min(first, window[0]), max(last, window[1])
            self.leads[each.key] = lead.at_least(self.leads.get(each.key, lead))

    def _run(self, each: Stage) -> Stage:
        """What makes the frames that are wanted of a stage."""
        before, behind = self.memories[each.key]
        first, last = self.windows[each.key]
        run = first - before, last + behind
        if each.key in self.after:
            return self._run_besides(each, run)
        if each.key in self.before and before > self._seconds(RINGS_ANEW_S):
            return self._run_apart(each, run)
        return self._over(each, run)

    def _run_besides(self, each: Stage, run: Window) -> Stage:
        """What rings for long, where it makes of a sum what it makes of each part: what it made in the last loop, and
        what it makes of that by which its sound is another now."""
        first, last = self.windows[each.key]
        old, new = self._last(self.before[each.key], run), self._piece(each.inputs[0], run)
        other = passing(changed, new, old, over=self._seconds(RINGS_OVER_S))
        there = passing(cut_out, self.after[each.key], begins=first, frames=last - first)
        return passing(added, there, self._over(each, run, other))

    def _run_apart(self, each: Stage, run: Window) -> Stage:
        """What rings for long, where it makes of a sum what it makes of each part: of what went in in the last loop up
        to shortly before the stretch, which waits for nothing, and of what goes in from there on."""
        over = self._seconds(RINGS_OVER_S)
        anew = self.windows[each.key][0] - self._seconds(RINGS_ANEW_S), run[1]
        old, new = self._last(self.before[each.key], (run[0], anew[0] + over)), self._piece(each.inputs[0], anew)
        falling, rising = passing(faded_out, old, over=over, frames=run[1] - run[0]), passing(faded_in, new, over=over)
        return passing(added, self._over(each, run, falling), self._over(each, anew, rising))

    def _last(self, each: Stage, window: Window) -> Stage:
        """Some frames of the last loop: cut out of it, or summed of what is cut out."""
        if each.function not in SUMS or self.there(each):
            return passing(cut_out, each, begins=window[0], frames=window[1] - window[0])
        clock = self._clock(window)
        curves = {source.key: self._curve(source, clock) for source in each.inputs if source.function in CURVES}
        inputs = [curves.get(source.key) or self._last(source, window) for source in each.inputs]
        return passing(each.function, *inputs, **self._parameters(each, clock))

    @staticmethod
    def _parameters(each: Stage, clock: Clock) -> dict[str, Any]:
        """Those of a stage on another clock."""
        own = {"clock": clock, "frames": clock.frames}
        return {**each.parameters, **{name: value for name, value in own.items() if name in each.parameters}}

    def _over(self, each: Stage, run: Window, sound: Stage | None = None) -> Stage:
        """A stage run over some frames, of which those that are wanted of it are cut out; of a sound that is given, or
        of its own."""
        first, last = self.windows[each.key]
        clock = self._clock(run)
        if each.where and each.memory.levels_s > LONGEST_LEVEL_S:
            clock = replace(clock, held_db=self.held(each.where, run[0]) or 0.0)
        whole = each.function in TAKES_WHOLE_CURVES or _takes_whole_curves(each)
        given = [] if sound is None else [sound]
        own = [self._input(source, run, clock, whole=whole) for source in each.inputs[len(given) :]]
        told: dict[str, Any] = {"context": each.context, "each_channel": each.each_channel}
        told |= self._parameters(each, clock)
        if run == (first, last):
            return passing(each.function, *given, *own, **told)
        return passing(within, *given, *own, run=each.function, cut=(first - run[0], last - first), **told)

    def _clock(self, run: Window) -> Clock:
        """The clock of some frames: the same one for all that runs over them, so that its text is made once."""
        if run not in self._clocks:
            rough = max(0, self.begins - run[0] - self._seconds(EXACT_S))
            self._clocks[run] = self.clock.stretch(run[0], run[1] - run[0], rough)
        return self._clocks[run]

    def _seconds(self, seconds: float) -> int:
        return round(seconds * self.clock.rate_hz)

    def _up_to(self, seconds: float) -> int:
        return math.ceil(seconds * self.clock.rate_hz)

    def _input(self, each: Stage, window: Window, clock: Clock, *, whole: bool) -> Stage:
        if each.function in CURVES:
            return each if whole else self._curve(each, clock)
        return self._piece(each, window) if self.timed(each) else self.made.get(each.key, each)

    def _curve(self, each: Stage, clock: Clock) -> Stage:
        """What a curve does in a stretch: cut out of the loop's where that is there or has to be, else made for it."""
        if (each.key, clock) not in self._curves:
            self._curves[each.key, clock] = self._cut_curve(each, clock)
        return self._curves[each.key, clock]

    def _cut_curve(self, each: Stage, clock: Clock) -> Stage:
        if self.known(each) or not _made_anywhere(each):
            return passing(steps.cut_curve, each, clock=clock)
        inputs = [self._curve(source, clock) for source in each.inputs]
        return passing(each.function, *inputs, context=each.context, **self._parameters(each, clock))

    def _piece(self, each: Stage, window: Window) -> Stage:
        """Some frames of a stage: cut out of the loop, or out of what runs of it."""
        if (each.key, window) not in self._pieces:
            self._pieces[each.key, window] = self._cut_piece(each, window)
        return self._pieces[each.key, window]

    def _cut_piece(self, each: Stage, window: Window) -> Stage:
        first, last = window
        if each.key not in self.made:
            return passing(cut_out, each, begins=first, frames=last - first)
        begins, ends = self.windows[each.key]
        if (begins, ends) == window:
            return self.made[each.key]
        return passing(trimmed, self.made[each.key], first=first - begins, frames=last - first)
