"""Use cases of casts: states of a stack that are kept to be heard against others."""

from __future__ import annotations

from apilado.actions.workspace import Workspace
from apilado.core.document.cast import LONGEST_JUDGEMENT, LONGEST_NAME, Cast
from apilado.errors import InvalidEdit
from apilado.store.casts import KeptCast
from apilado.store.stacks import Revision


def keep(workspace: Workspace, stack_id: int, name: str) -> KeptCast:
    """Keeps the stack as it is now under a name; without one, under the next letter or number that is free.

    Raises:
        InvalidEdit: the name is too long, or there are too many casts.
    """
    head = workspace.stacks.head(stack_id)
    taken = {cast.name for cast in workspace.casts.listed(stack_id)}
    free = (f"Cast {number}" for number in range(1, len(taken) + 2))
    called = _line(name, LONGEST_NAME, "the name of a cast") or next(each for each in free if each not in taken)
    return workspace.casts.keep(stack_id, head.id, Cast(name=called, stack=head.stack))[0]


def change(
    workspace: Workspace, stack_id: int, cast_id: int, *, name: str | None = None, judgement: str | None = None
) -> KeptCast:
    """Another name, or another line of judgement.

    Raises:
        InvalidEdit: a name is empty, or a line too long.
        NotFound: this stack has no such cast.
    """
    if name is not None:
        name = _line(name, LONGEST_NAME, "the name of a cast")
        if not name:
            raise InvalidEdit("not changed: a cast needs a name")
    if judgement is not None:
        judgement = _line(judgement, LONGEST_JUDGEMENT, "a judgement")
    return workspace.casts.change(stack_id, cast_id, name=name, judgement=judgement)


def open_alone(workspace: Workspace, stack_id: int, cast_id: int) -> Revision:
    """A cast as a stack of its own, with a history of its own.

    Raises:
        NotFound: this stack has no such cast.
    """
    stack = workspace.casts.stack(stack_id, cast_id)
    name = next(cast.name for cast in workspace.casts.listed(stack_id) if cast.id == cast_id)
    return workspace.stacks.create(stack.model_copy(update={"name": f"{stack.name[:40]} {name[:39]}"}), "Open a cast")


def _line(text: str, longest: int, what: str) -> str:
    line = " ".join(text.split())
    if len(line) > longest:
        raise InvalidEdit(f"not changed: {what} has at most {longest} letters")
    return line
