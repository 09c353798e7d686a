"""What a listener hears, in one line of words."""

from __future__ import annotations

from dataclasses import dataclass

from apilado.core.document.addresses import find
from apilado.core.document.edits import edit_from_data
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.render.audition import Audition
from apilado.core.render.elsewhere import place_of
from apilado.core.render.listening import stack_for
from apilado.core.units import short_hz
from apilado.errors import ApiladoError


@dataclass(frozen=True)
class Word:
    """One word of the line, which is a control."""

    name: str
    said: str
    plain: bool
    """Whether it says that nothing is otherwise."""


def hearing_words(stack: Stack, audition: Audition, cast: str = "") -> list[Word]:
    """Which stack is heard, what of it, and where.

    Args:
        cast: the name of the cast that is heard, where it is one.
    """
    what = "the finished piece" if audition.piece else what_is_heard(stack, audition)
    place = place_of(audition.place).heard if audition.place else "here"
    return [
        Word("cast", f"‘{cast}’" if cast else "this stack", not cast),
        Word("what", what or "the whole", not what),
        Word("bus", _bus(stack, audition), not audition.dry),
        Word("place", place, not audition.place),
        Word("backing", _backing(stack, audition), audition.backing),
    ]


def _bus(stack: Stack, audition: Audition) -> str:
    """Whether what is heard alone goes through the bus; nothing where all is heard."""
    if not audition.soloed(stack) or audition.focus(stack) is not None:
        return ""
    return "before the bus" if audition.dry else "through the bus"


def _backing(stack: Stack, audition: Audition) -> str:
    """Whether the backing is heard; nothing where there is none that could be."""
    if not any(stack.sounds(f"backing/{track.id}") for track in stack.backing) or audition.soloed(stack):
        return ""
    return "with backing" if audition.backing else "without backing"


def what_is_heard(stack: Stack, audition: Audition) -> str:
    """What is heard where that is not the whole, in words; else nothing."""
    brought = _brought_alone(stack, audition)
    if brought:
        return brought
    said = [_alone(stack, audition)]
    if audition.only:
        said.append(f"only what {_named(stack, audition.only)} makes")
    if audition.without:
        said.append(f"without {_named(stack, audition.without)}")
    if audition.overdo:
        said.append(f"{_named(stack, audition.overdo)} overdone")
    if audition.trial is not None:
        said.append(f"with ‘{_title(stack, audition)}’ as if it were done")
    return ", ".join(each for each in said if each)


def _brought_alone(stack: Stack, audition: Audition) -> str:
    """What an edit that is tried would bring, where that alone is heard: a sound of the Quarry; else nothing."""
    if audition.trial is None or not audition.alone or audition.soloed(stack):
        return ""
    try:
        return _alone(stack_for(stack, audition), audition)
    except ApiladoError:
        return ""


def _alone(stack: Stack, audition: Audition) -> str:
    point, soloed = audition.listened(stack), audition.soloed(stack)
    if point is not None:
        owner, its = point
        return f"only what {its.label.lower()} {short_hz(its.frequency_hz)} of {stack.owner_name(owner)} touches"
    if (band := audition.band(stack)) is not None:
        return f"only {place_name(stack, band)}"
    return f"only {', '.join(stack.owner_name(owner) for owner in soloed)}" if soloed else ""


def _named(stack: Stack, path: str) -> str:
    return place_name(stack, path) if find(stack, path) is not None else "what has gone"


def _title(stack: Stack, audition: Audition) -> str:
    try:
        edit = edit_from_data(audition.trial)
        return edit.title(stack, stack_for(stack, audition.model_copy(update={"overdo": "", "without": ""})))
    except ApiladoError:
        return "a change that does not fit"
