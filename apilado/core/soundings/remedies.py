"""Remedies: ways to mend a finding, each tried before it is offered.

A way is an edit that a rule suggests. It is rendered and measured as an edit is, through the same cache, and offered
only if its own finding gets better, no other gets worse by a class, and the stack is nearer to fine as a whole. So
whatever is offered may be pressed, in any order, and it comes to an end: every press takes away at least `LEAST_WON`
of what is left to mend. No rule needs code of its own for this.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from threading import Lock
from typing import Any, cast

from apilado.core.assets import AssetLoader
from apilado.core.document.editing import Edit
from apilado.core.document.edits import AnyEdit, Several, apply
from apilado.core.document.reading import stack_to_json
from apilado.core.document.stack import Stack
from apilado.core.render.engine import Engine, Token
from apilado.core.soundings.levels import moved_levels
from apilado.core.soundings.measures import Measures, measure
from apilado.core.soundings.registry import sound
from apilado.core.soundings.sounding import SEVERITY, Sounding, Status
from apilado.errors import InvalidEdit

LEAST_WON = 0.2
"""Of the burden of all findings: what is not worth a press is not offered."""
LOUDEST_CHANGE_LU = 3.0
QUIETLY_LU, LOUDNESS_WORTH = 1.0, 0.5
"""A remedy that changes the loudness by no more is preferred; else a change of 1 LU is worth so much of the burden."""
MOST_WAYS, MOST_TRIALS = 6, 12
"""How many ways of a finding are tried, and how many renders all that is tried for it may take."""
MOST_STEPS = 16
HEADROOM = "headroom"
LEVEL_RULES = (HEADROOM, "kick-level")
"""What moves with everything that is done: mended last, and together with what else is mended if that upsets them."""
MOST_UPSET, MOST_COMPANIONS = 2, 3
"""How many findings a way may upset to be tried together with ways of theirs, and how many of those."""
KEPT_TRIALS = 256
LONGEST_NAME = 80
HEARD_LKFS = -70.0


@dataclass(frozen=True)
class Findings:
    """What was found in a stack: its soundings, and how loud the mix is."""

    soundings: tuple[Sounding, ...]
    loudness_lkfs: float

    @property
    def burden(self) -> float:
        """How far all of it is from fine."""
        return sum(sounding.burden for sounding in self.soundings)

    @property
    def too_loud(self) -> bool:
        """Whether headroom is at fault."""
        return any(sounding.status == "fault" for sounding in self.of(HEADROOM))

    def counted(self, status: Status) -> int:
        """How many there are of a status."""
        return sum(sounding.status == status for sounding in self.soundings)

    def of(self, rule_id: str) -> tuple[Sounding, ...]:
        """The soundings of a rule, the worst first."""
        found = [sounding for sounding in self.soundings if sounding.id == rule_id]
        return tuple(sorted(found, key=lambda sounding: SEVERITY[sounding.status]))

    def like(self, other: Sounding) -> Sounding | None:
        """The same question's answer here, at the same place; at another where a rule has but one."""
        own = self.of(other.id)
        same = next((sounding for sounding in own if sounding.key == other.key), None)
        return same or (own[0] if len(own) == 1 else None)


@dataclass(frozen=True)
class Changed:
    """A finding before and after a remedy."""

    before: Sounding
    after: Sounding

    @property
    def said(self) -> str:
        """It in words: 'Plumb −148.0° → 4.0°'."""
        was, now = (each.shown_value or each.status for each in (self.before, self.after))
        return f"{self.before.title} {was} → {now}" if was != now else f"{self.before.title} {was}"


@dataclass(frozen=True)
class Trial:
    """What an edit was measured to do."""

    edit: Edit
    title: str
    stack: Stack
    findings: Findings
    mends: tuple[Changed, ...]
    """Those that get better by a class, or much better, its own first."""
    costs: tuple[Changed, ...]
    """Those that get worse within their class."""
    worse: tuple[Sounding, ...]
    """A finding of each rule that gets worse by a class."""
    may_be_quieter: bool
    """Whether headroom was at fault: then the loudness may change by as much as that takes."""
    won: float
    """How much of the whole burden it takes away."""
    loudness_lu: float

    @property
    def sentence(self) -> str:
        """What it mends and costs, in numbers."""
        said = ["; ".join(change.said for change in self.mends)]
        if self.costs:
            said.append("at the cost of " + ", ".join(change.said for change in self.costs))
        if abs(self.loudness_lu) >= 0.05:
            said.append(f"{self.loudness_lu:+.1f} LU".replace("-", "−"))
        if not self.costs:
            said.append("nothing else")
        return "; ".join(said)


@dataclass(frozen=True)
class Verdict:
    """What came of trying to mend a finding."""

    sounding: Sounding
    remedy: Trial | None
    reason: str = ""
    """Why there is none."""


@dataclass(frozen=True)
class Plan:
    """Remedies one after the other, each found on the stack that the one before leaves."""

    steps: tuple[Trial, ...]
    before: Findings
    after: Findings
    left: tuple[Verdict, ...]
    """What stays, and why."""

    @property
    def edit(self) -> Several | None:
        """All of it as one edit."""
        edits = tuple(cast(AnyEdit, step.edit) for step in self.steps)
        return Several(name=f"Mend all: {len(self.steps)} remedies", edits=edits) if edits else None

    @property
    def stack(self) -> Stack | None:
        """The stack at its end."""
        return self.steps[-1].stack if self.steps else None

    def as_data(self) -> dict[str, Any]:
        """Plain values for JSON."""
        return {
            "steps": [
                {"title": step.title, "sentence": step.sentence, "edit": step.edit.model_dump(mode="json")}
                for step in self.steps
            ],
            "left": [{**verdict.sounding.as_data(), "reason": verdict.reason} for verdict in self.left],
            "loudness_lkfs": [self.before.loudness_lkfs, self.after.loudness_lkfs],
        }

    @property
    def loudness_lu(self) -> float:
        """How the loudness changes from its beginning to its end."""
        return self.after.loudness_lkfs - self.before.loudness_lkfs


class Workbench:
    """Tries edits out, behind what is heard: results are kept by what the stack is, its stages by the engine."""

    def __init__(self, load: AssetLoader, engine: Engine) -> None:
        self._load, self._engine = load, engine
        self._kept: OrderedDict[str, Findings] = OrderedDict()
        self._lock = Lock()

    def measured(self, stack: Stack, token: Token | None = None) -> Measures:
        """A stack, measured.

        Raises:
            Overtaken: the token was overtaken before the end.
        """
        return measure(stack, self._load, self._engine, token)

    def findings(self, stack: Stack, token: Token | None = None) -> Findings:
        """What is found in a stack, kept for the next time that it is asked for.

        Raises:
            Overtaken: the token was overtaken before the end.
        """
        name = stack_to_json(stack)
        with self._lock:
            if name in self._kept:
                self._kept.move_to_end(name)
                return self._kept[name]
        found = found_in(self.measured(stack, token))
        found = replace(found, soundings=tuple(replace(each, ways=None) for each in found.soundings))
        with self._lock:
            self._kept[name] = found
            while len(self._kept) > KEPT_TRIALS:
                self._kept.popitem(last=False)
        return found

    def verdict(self, measures: Measures, before: Findings, own: Sounding, token: Token | None = None) -> Verdict:
        """The best of the ways to mend a finding that may be offered, or why there is none.

        Raises:
            Overtaken: the token was overtaken before the end.
        """
        return _Attempts(self, measures.stack, before, own, token).verdict()

    def plan(self, stack: Stack, token: Token | None = None, told: Callable[[Trial], None] = lambda step: None) -> Plan:
        """Mend all: remedies one after the other until nothing is left that has one.

        Faults come first, in the order of the work. It ends: every step takes away some of what is left, and there are
        at most `MOST_STEPS`. Each is `told` as soon as it is found.

        Raises:
            Overtaken: the token was overtaken before the end.
        """
        began = kept = self.findings(stack, token)
        steps: list[Trial] = []
        while True:
            measures = self.measured(stack, token)
            now = found_in(measures)
            if kept.too_loud:
                kept = now  # what headroom takes, it takes; from then on the loudness stays
            left: list[Verdict] = []
            step: Trial | None = None
            for own in sorted(now.soundings, key=lambda each: (SEVERITY[each.status], each.id in LEVEL_RULES)):
                if own.status == "fine" or len(steps) == MOST_STEPS:
                    continue
                verdict = self.verdict(measures, now, own, token)
                if verdict.remedy is not None and _keeps_loudness(kept, verdict.remedy):
                    step = verdict.remedy
                    break
                left.append(_too_loud(verdict) if verdict.remedy is not None else verdict)
            if step is None:
                return Plan(tuple(steps), began, now, tuple(left))
            steps.append(step)
            told(step)
            stack = step.stack


def _keeps_loudness(kept: Findings, trial: Trial) -> bool:
    """Whether the loudness stays about what it was."""
    return kept.too_loud or abs(trial.findings.loudness_lkfs - kept.loudness_lkfs) <= LOUDEST_CHANGE_LU


class _Attempts:
    """The ways to mend one finding, tried one after the other; at most so many renders."""

    def __init__(
        self, workbench: Workbench, stack: Stack, before: Findings, own: Sounding, token: Token | None
    ) -> None:
        self.workbench, self.stack, self.before, self.own, self.token = workbench, stack, before, own, token
        self.left = MOST_TRIALS

    def verdict(self) -> Verdict:
        own, tried = self.own, list[Trial]()
        if own.status == "fine":
            return Verdict(own, None, "There is nothing to mend: it is fine.")
        for way in _first(own.ways() if own.ways else (), MOST_WAYS):
            trial = self.tried(way)
            if trial is None:
                continue
            if not acceptable(trial, own) or abs(trial.loudness_lu) > QUIETLY_LU:
                trial = self.together(trial)
            tried.append(trial)
            if acceptable(trial, own) and _mended(trial, own) and abs(trial.loudness_lu) <= QUIETLY_LU:
                return Verdict(own, trial)
        offered = [trial for trial in tried if acceptable(trial, own)]
        if offered:
            return Verdict(own, max(offered, key=lambda trial: (_mended(trial, own), _worth(trial))))
        return Verdict(own, None, _why_not(tried, own))

    def tried(self, edit: Edit) -> Trial | None:
        """What an edit does to the finding and to all others; None where it does not fit, or does nothing."""
        try:
            changed = apply(self.stack, edit)
        except InvalidEdit:
            return None
        if changed == self.stack or self.left <= 0:
            return None
        self.left -= 1
        after = self.workbench.findings(changed, self.token)
        return compared(edit, edit.title(self.stack, changed), changed, self.before, after, self.own)

    def together(self, trial: Trial) -> Trial:
        """A way with what it upsets mended in the same remedy, where it does not do alone.

        First the bass is brought back to about the loudness that it had; then a way of each finding that became worse
        is tried on top of it.
        """
        own = self.own
        if abs(trial.loudness_lu) > QUIETLY_LU and own.id not in LEVEL_RULES:
            matched = self.both(trial, moved_levels(trial.stack, 0.0, -trial.loudness_lu))
            if matched is not None and abs(matched.loudness_lu) < abs(trial.loudness_lu):
                trial = matched if matched.won > trial.won - LEAST_WON or not acceptable(trial, own) else trial
        while trial.worse and len(trial.worse) <= MOST_UPSET and _helped(trial, own) and self.left > 0:
            found = found_in(self.workbench.measured(trial.stack, self.token))
            upset, better = found.like(trial.worse[0]), None
            for way in _first(upset.ways() if upset is not None and upset.ways else (), MOST_COMPANIONS):
                again = self.both(trial, way)
                if again is not None and acceptable(again, own):
                    return again if _mended(again, own) else self.furthered(again)
                if again is not None and len(again.worse) < len((better or trial).worse):
                    better = again
            if better is None:
                break
            trial = better
        return trial

    def furthered(self, trial: Trial) -> Trial:
        """A way that helps and does not mend, with another way of its own finding on top of it, if that mends."""
        now = found_in(self.workbench.measured(trial.stack, self.token)).like(self.own)
        for way in _first(now.ways() if now is not None and now.ways else (), 1):
            again = self.both(trial, way)
            if again is not None and acceptable(again, self.own) and _mended(again, self.own):
                return again
        return trial

    def both(self, trial: Trial, more: Edit | None) -> Trial | None:
        """What a way does together with another edit."""
        if more is None:
            return None
        try:
            other = more.title(trial.stack, apply(trial.stack, more))
        except InvalidEdit:
            return None
        said = f"{trial.title}; {other[0].lower()}{other[1:]}"
        name = said if len(said) <= LONGEST_NAME else f"{trial.title[:60]}, and more"
        return self.tried(Several(name=name, edits=(cast(AnyEdit, trial.edit), cast(AnyEdit, more))))


def found_in(measures: Measures) -> Findings:
    """What is found in a stack that was measured."""
    return Findings(tuple(sound(measures)), measures.output_loudness.integrated_lkfs)


def compared(edit: Edit, title: str, changed: Stack, before: Findings, after: Findings, own: Sounding) -> Trial:
    """What an edit did, from what was found before and after it."""
    mends, costs, worse = [], [], []
    for rule_id in dict.fromkeys(sounding.id for sounding in (*before.soundings, *after.soundings)):
        was, now = before.of(rule_id), after.of(rule_id)
        if _classes_worse(was, now):
            worse.append((now or was)[0])
            continue
        for each in was:
            other = after.like(each)
            if other is None:
                continue
            change = Changed(each, other)
            if other.burden < each.burden - LEAST_WON / 2.0:
                mends.append(change)
            elif other.burden > each.burden + LEAST_WON / 2.0:
                costs.append(change)
    mends.sort(key=lambda change: change.before.key != own.key)
    heard = min(before.loudness_lkfs, after.loudness_lkfs) > HEARD_LKFS
    return Trial(
        edit=edit,
        title=title,
        stack=changed,
        findings=after,
        mends=tuple(mends),
        costs=tuple(costs),
        worse=tuple(worse),
        may_be_quieter=before.too_loud,
        won=before.burden - after.burden,
        loudness_lu=after.loudness_lkfs - before.loudness_lkfs if heard else 0.0,
    )


def _classes_worse(before: tuple[Sounding, ...], after: tuple[Sounding, ...]) -> bool:
    """Whether the findings of a rule are worse by a class: the worst of them, or the next worst, and so on."""
    was, now = ([SEVERITY[each.status] for each in found] for found in (before, after))
    fine = SEVERITY["fine"]
    longest = max(len(was), len(now))
    return any(b < a for a, b in zip(_filled(was, longest, fine), _filled(now, longest, fine), strict=True))


def _filled(values: list[int], count: int, by: int) -> list[int]:
    return values + [by] * (count - len(values))


def acceptable(trial: Trial, own: Sounding) -> bool:
    """Whether a trial may be offered as the remedy of a finding."""
    loud = trial.may_be_quieter or abs(trial.loudness_lu) <= LOUDEST_CHANGE_LU
    return _helped(trial, own) and not trial.worse and trial.won >= LEAST_WON and loud


def _helped(trial: Trial, own: Sounding) -> bool:
    return any(change.before.key == own.key for change in trial.mends) or trial.findings.like(own) is None


def _worth(trial: Trial) -> float:
    """What a trial is worth among others: what it wins, less what it changes of the loudness."""
    return trial.won - LOUDNESS_WORTH * abs(trial.loudness_lu)


def _mended(trial: Trial, own: Sounding) -> bool:
    """Whether its own finding is fine; of levels, whether all of them are."""
    left = [trial.findings.like(own)]
    if own.id in LEVEL_RULES:
        left += [each for rule in LEVEL_RULES for each in trial.findings.of(rule)]
    return all(each is None or each.status == "fine" for each in left)


def _first(ways: Iterable[Edit | None], most: int) -> Iterator[Edit]:
    """The first ways that are any."""
    count = 0
    for way in ways:
        if way is not None:
            yield way
            count += 1
        if count == most:
            return


def _too_loud(verdict: Verdict) -> Verdict:
    remedy = verdict.remedy
    change = remedy.loudness_lu if remedy else 0.0
    return Verdict(verdict.sounding, None, f"It would change the loudness by {change:+.1f} LU.".replace("-", "−"))


def _why_not(tried: list[Trial], own: Sounding) -> str:
    """Why no way that was tried is offered."""
    if not tried:
        return "No change of the stack would mend it; it is for the ear to decide."
    ways = "One way was" if len(tried) == 1 else f"{len(tried)} ways were"
    spoiled = dict.fromkeys(each.title for trial in tried for each in trial.worse)
    if spoiled and all(trial.worse for trial in tried):
        return f"{ways} tried; each makes worse: {', '.join(spoiled)}."
    if all(abs(trial.loudness_lu) > LOUDEST_CHANGE_LU for trial in tried):
        return f"{ways} tried; each changes the loudness by more than {LOUDEST_CHANGE_LU:.0f} LU."
    return f"{ways} tried; none makes it better without a cost elsewhere." if spoiled else f"{ways} tried; none helps."
