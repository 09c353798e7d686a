"""The forms that a stack takes over its piece: as a whole, and as its sections have it.

A section is the same stack with a few values set. What renders a stack asks for those forms that differ in what it
reads, and for the bars of each: where no section differs there is one form, the stack itself.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from apilado.core.clock import Clock
from apilado.core.document.addresses import find, joined, owner_of, parted, replaced, within
from apilado.core.document.declarations import parameter_at, still_because, value_at
from apilado.core.document.section import Change, PieceSection
from apilado.core.document.stack import Stack
from apilado.errors import InvalidEdit

FOLLOW = "follow"
"""What a step calls by how much it follows the notes."""
Plan = tuple[tuple[int, int], ...]
"""(bar counted from 0, number of the form) from where on a form holds; the first at bar 0, no two alike in a row."""
FramePlan = tuple[tuple[int, int], ...]
"""The same with frames from the start of the loop in place of bars."""


@dataclass(frozen=True)
class Forms:
    """Forms of a stack, the whole first, and where each of them holds."""

    stacks: tuple[Stack, ...]
    plan: Plan = ((0, 0),)

    @property
    def one(self) -> bool:
        """Whether no section differs."""
        return len(self.stacks) == 1


def moves_at(stack: Stack, path: str) -> bool:
    """Whether what a section changes at an address is a value that may move: it steps as part of its curve."""
    return not still_because(stack, path)


def is_mute(path: str) -> bool:
    """Whether an address is that of the mute of a layer or a drum, which opens and shuts a sum."""
    return path == joined(owner_of(path), "mute")


def of_a_movement(path: str) -> bool:
    """Whether what lies at an address changes a curve: something of a movement, or how a step follows the notes."""
    return within(path, "movements") or parted(path)[1] == FOLLOW


def rendered_twice(stack: Stack) -> Callable[[str], bool]:
    """Says which changes are rendered in both forms and joined: all that neither step in a curve nor open a sum."""
    return lambda path: not (is_mute(path) or of_a_movement(path) or moves_at(stack, path))


def changed(stack: Stack, changes: Sequence[Change]) -> Stack:
    """A stack with some of its values otherwise; it is not validated again."""
    for change in changes:
        stack = replaced(stack, change.path, _meant(stack, change))
    return stack


def _meant(stack: Stack, change: Change) -> Any:
    """The value of a change as it lies in a model."""
    parameter = parameter_at(stack, change.path)
    value = change.value if parameter is None else parameter.parsed(change.value)
    return tuple(value) if isinstance(value, list) else value


def forms_of(stack: Stack, takes: Callable[[str], bool] = lambda path: True) -> Forms:
    """The forms of a stack that differ in what is taken.

    Args:
        takes: says by its address whether a value that a section changes is of concern.
    """
    taken = [[c for c in s.changes if takes(c.path) and differs(stack, c)] for s in stack.sections]
    if not any(taken):
        return Forms((stack,))
    numbers: dict[tuple[tuple[str, str], ...], int] = {(): 0}
    stacks, at = [stack], []
    for section, differing in zip(stack.sections, taken, strict=True):
        name = tuple(sorted((change.path, repr(change.value)) for change in differing))
        if name not in numbers:
            numbers[name] = len(stacks)
            stacks.append(changed(stack, differing))
        at.append((section, numbers[name]))
    return Forms(tuple(stacks), _planned(at, stack.bars))


def values_over(stack: Stack, path: str) -> tuple[tuple[int, float], ...]:
    """(bar counted from 0, the number at an address) from where on it is that; one where no section differs."""
    found = forms_of(stack, lambda each: each == path)
    return tuple((bar, float(value_at(found.stacks[number], path))) for bar, number in found.plan)


def stepping(stack: Stack) -> tuple[str, ...]:
    """The addresses of the values that may move and that some section has otherwise."""
    paths = [c.path for s in stack.sections for c in s.changes if differs(stack, c) and moves_at(stack, c.path)]
    return tuple(dict.fromkeys(paths))


def differs(stack: Stack, change: Change) -> bool:
    """Whether a section's value is another than that of the whole."""
    return bool(_meant(stack, change) != value_at(stack, change.path))


def heard_over(stack: Stack, owner: str) -> Plan:
    """(bar counted from 0, whether it is heard: 1 or 0) of a layer or a drum over the piece."""
    mute = joined(owner, "mute")
    found = forms_of(stack, lambda path: path == mute)
    return tuple((bar, int(not value_at(found.stacks[number], mute))) for bar, number in found.plan)


def in_frames(plan: Plan, stack: Stack, clock: Clock) -> FramePlan:
    """A plan by the frames of a clock."""
    return tuple((clock.sample_at(float(bar * stack.beats_per_bar)), number) for bar, number in plan)


def _planned(at: Sequence[tuple[PieceSection, int]], bars: int) -> Plan:
    """Which form holds from which bar on, the whole between sections."""
    numbers = [0] * bars
    for section, number in at:
        numbers[section.first_bar - 1 : section.last_bar] = [number] * (section.last_bar - section.first_bar + 1)
    return tuple((bar, n) for bar, n in enumerate(numbers) if bar == 0 or n != numbers[bar - 1])


def section_of(stack: Stack, section_id: str) -> PieceSection:
    """The section of that id.

    Raises:
        InvalidEdit: there is none.
    """
    found = find(stack, joined("sections", section_id))
    if not isinstance(found, PieceSection):
        raise InvalidEdit("the section is not there any more")
    return found


def as_shown(stack: Stack, section_id: str) -> Stack:
    """A stack as it stands in the section that is chosen; as a whole where none is, or where that has gone."""
    there = section_id and find(stack, joined("sections", section_id)) is not None
    return as_in_section(stack, section_id) if there else stack


def as_in_section(stack: Stack, section_id: str) -> Stack:
    """A stack as it stands in one of its sections, to be looked at and changed there: its values, and the notes and
    hits of the whole piece written out, the section's own among them."""
    written_out = stack.model_copy(
        update={
            "pattern": stack.played(),
            "pattern_bars": 0,
            "kick": stack.kick.model_copy(update={"hits": stack.hits("kick")}),
            "triggers": tuple(t.model_copy(update={"hits": stack.hits(t.id)}) for t in stack.triggers),
        }
    )
    return changed(written_out, section_of(stack, section_id).changes)
