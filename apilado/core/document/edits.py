"""Edits: functions from a document to a document.

An edit is data (`AnyEdit`), so it can be posted, stored, offered as a remedy and grouped. It names layers by id and
notes by value, never by a position that another edit may have moved. `apply` returns the new document, or raises
and leaves the old one as it was.
"""

from __future__ import annotations

from functools import reduce
from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, TypeAdapter, ValidationError

from apilado.core.document.editing import Edit, let_go
from apilado.core.document.edits_borders import (
    AddCrossover,
    MergeLayers,
    MoveBand,
    MoveCrossover,
    PutSubUnder,
    RemoveCrossover,
    SplitLayer,
    SubInPlaceOf,
)
from apilado.core.document.edits_carving import AddPair, AddPoint, CopyPoint
from apilado.core.document.edits_layers import AddLayer, MoveLayer, RemoveLayer, SetDrumSound, SetSource
from apilado.core.document.edits_movements import (
    AddMovement,
    CopyMovement,
    DrawSteps,
    PullCourse,
    PullTravel,
    ShapeMovement,
)
from apilado.core.document.edits_pattern import ReplaceHit, ReplaceNote, SetBars, SetPattern, TransposePattern
from apilado.core.document.edits_sections import (
    BuildUp,
    GiveBack,
    Otherwise,
    PartSection,
    QuickNotes,
    SetSection,
    changed_in,
)
from apilado.core.document.edits_values import (
    AddPart,
    CopyChain,
    CopyPart,
    MovePart,
    RemovePart,
    SetHarmonic,
    SetLimit,
    SetShare,
    SetValue,
    TakeOver,
)
from apilado.core.document.forms import as_in_section, section_of
from apilado.core.document.reading import explain, is_text
from apilado.core.document.settings import KeepSetting, TakeSetting
from apilado.core.document.stack import Stack
from apilado.core.document.unchanged import kept_from, with_old_parts
from apilado.errors import InvalidEdit


class InSection(Edit):
    """An edit that is made in a section: what it changes is otherwise there, and stays as it was everywhere else."""

    of_the_whole: ClassVar[bool] = True

    op: Literal["in-section"] = "in-section"
    section: str = Field(min_length=1, max_length=40)
    edit: AnyEdit

    def meant(self, stack: Stack) -> Edit:
        section, before = section_of(stack, self.section), as_in_section(stack, self.section)
        return Otherwise(section=self.section, now=changed_in(section, stack, before, apply(before, self.edit)))

    def title(self, before: Stack, after: Stack) -> str:
        done = self.edit.title(as_in_section(before, self.section), as_in_section(after, self.section))
        return f"In {section_of(before, self.section).name}: {done[:1].lower()}{done[1:]}"

    def remark(self, before: Stack, after: Stack) -> str | None:
        return self.edit.remark(as_in_section(before, self.section), as_in_section(after, self.section))


class Several(Edit):
    """Edits done as one."""

    op: Literal["several"] = "several"
    name: str = Field(min_length=1, max_length=80)
    edits: tuple[AnyEdit, ...] = Field(min_length=1, max_length=64)

    def goes_into(self, section: str) -> bool:
        return any(edit.goes_into(section) for edit in self.edits)

    def title(self, before: Stack, after: Stack) -> str:
        return self.name


EDITS: tuple[type[Edit], ...] = (
    SetValue,
    TakeOver,
    MoveBand,
    MoveCrossover,
    AddCrossover,
    RemoveCrossover,
    SplitLayer,
    MergeLayers,
    PutSubUnder,
    SubInPlaceOf,
    SetLimit,
    AddLayer,
    RemoveLayer,
    MoveLayer,
    SetSource,
    SetDrumSound,
    AddPart,
    RemovePart,
    MovePart,
    CopyChain,
    CopyPart,
    AddMovement,
    ShapeMovement,
    PullCourse,
    DrawSteps,
    PullTravel,
    CopyMovement,
    SetHarmonic,
    KeepSetting,
    TakeSetting,
    AddPoint,
    AddPair,
    CopyPoint,
    SetShare,
    ReplaceNote,
    ReplaceHit,
    TransposePattern,
    SetBars,
    SetPattern,
    SetSection,
    PartSection,
    GiveBack,
    BuildUp,
    QuickNotes,
    InSection,
    Several,
)
AnyEdit = Annotated[
    SetValue
    | TakeOver
    | MoveBand
    | MoveCrossover
    | AddCrossover
    | RemoveCrossover
    | SplitLayer
    | MergeLayers
    | PutSubUnder
    | SubInPlaceOf
    | SetLimit
    | AddLayer
    | RemoveLayer
    | MoveLayer
    | SetSource
    | SetDrumSound
    | AddPart
    | RemovePart
    | MovePart
    | CopyChain
    | CopyPart
    | AddMovement
    | ShapeMovement
    | PullCourse
    | DrawSteps
    | PullTravel
    | CopyMovement
    | SetHarmonic
    | KeepSetting
    | TakeSetting
    | AddPoint
    | AddPair
    | CopyPoint
    | SetShare
    | ReplaceNote
    | ReplaceHit
    | TransposePattern
    | SetBars
    | SetPattern
    | SetSection
    | PartSection
    | GiveBack
    | BuildUp
    | QuickNotes
    | InSection
    | Several,
    Field(discriminator="op"),
]
Several.model_rebuild()
InSection.model_rebuild()
_ADAPTER: TypeAdapter[Edit] = TypeAdapter(AnyEdit)


def edit_from_data(data: Any) -> Edit:
    """An edit from parsed JSON.

    Raises:
        InvalidEdit: it is none.
    """
    if not is_text(data):
        raise InvalidEdit("this edit is not valid: it holds text that is no Unicode")
    try:
        return _ADAPTER.validate_python(data)
    except ValidationError as error:
        raise InvalidEdit(f"this edit is not valid: {explain(error, without=1)}") from None


def apply(stack: Stack, edit: Edit) -> Stack:
    """The document after the edit.

    Raises:
        InvalidEdit: the edit does not fit the document, or would make it invalid.
    """
    if isinstance(edit, Several):
        return reduce(apply, edit.edits, stack)
    before, data = (stack.model_dump(mode="json") for _ in range(2))
    edit = edit.meant(stack)
    edit.alter(data)
    let_go(stack, data)
    try:
        return kept_from(stack, Stack.model_validate(with_old_parts(stack, before, data)))
    except ValidationError as error:
        raise InvalidEdit(f"not changed: {explain(error)}") from None
