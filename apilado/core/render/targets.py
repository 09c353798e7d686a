"""What moves each value of a stack: its movements, and the notes, where a step follows them."""

from __future__ import annotations

from collections.abc import Iterator

from apilado.core.document.addresses import joined
from apilado.core.document.movement import Movement, Target
from apilado.core.document.stack import Stack
from apilado.core.shapes.drawn_course import CoursePoint, DrawnCourse

AS_HIGH = Movement(
    id="notes",
    name="Follows the notes",
    shape=DrawnCourse(points=(CoursePoint(at=0.0, value=1.0), CoursePoint(at=1.0, value=1.0))),
    begins="note",
    then="holds",
    scaled="pitch",
)
"""As many octaves as a note lies over C2, from its start on."""
MIDDLE_PITCH = 36
"""C2."""
Moving = tuple[Movement, Target]


def targets_of(stack: Stack) -> dict[str, list[Moving]]:
    """(movement, target) of what moves the value at each address that something moves."""
    found: dict[str, list[Moving]] = {}
    for path, moving in (*_by_movements(stack), *_by_notes(stack)):
        found.setdefault(path, []).append(moving)
    return found


def _by_movements(stack: Stack) -> Iterator[tuple[str, Moving]]:
    for movement in stack.movements:
        for target in movement.targets if movement.on else ():
            yield target.path, (movement, target)


def _by_notes(stack: Stack) -> Iterator[tuple[str, Moving]]:
    """Of the steps that follow the notes, on the layers and the buses; where there are none nothing is followed."""
    for owner in stack.owners():
        for address, step in stack.treatments(owner):
            for name, octaves in step.follows_notes() if stack.played() else ():
                path = joined(address, name)
                yield path, (AS_HIGH, Target(id="notes", path=path, travel=octaves))
