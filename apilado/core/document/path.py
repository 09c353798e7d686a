"""The path of a layer or a bus: the steps that a sound goes through, in the order in which they stand."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from apilado.core.document.equaliser import MOST_POINTS, AnyPoint, Phase
from apilado.core.parameters import Model, choice, parts, switch, tagged_union
from apilado.core.parts import Part
from apilado.core.treatments.base import Treatment
from apilado.core.treatments.registry import TREATMENTS

MOST_STEPS = 24


class Points(Model):
    """What has EQ points."""

    points: tuple[AnyPoint, ...] = parts("EQ point", most=MOST_POINTS)

    def in_words(self) -> str:
        return f"{len(self.points)} point{'' if len(self.points) == 1 else 's'}" if self.points else "no points"


class Split(Part):
    """Where the layer is cut to its band: what stands before it hears the whole sound, what it adds is cut as well."""

    label: ClassVar[str] = "Split"

    kind: Literal["split"] = "split"


class Equaliser(Part, Points):
    """An EQ: points that stand still, and points that a drum opens."""

    label: ClassVar[str] = "EQ"
    family: ClassVar[str] = "EQ"
    explains: ClassVar[str] = "Any number of points: bells, shelves, passes, a tilt, bells that a drum opens"

    kind: Literal["eq"] = "eq"
    on: Annotated[bool, switch(label="On")] = True
    phase: Annotated[Phase, choice(label="Phase", help="Linear phase turns no phase, and rings before")] = (
        "minimum-phase"
    )


BUS_STEPS: tuple[type[Part], ...] = (Equaliser, *TREATMENTS)
LAYER_STEPS: tuple[type[Part], ...] = (Split, *BUS_STEPS)

if TYPE_CHECKING:
    AnyBusStep = Equaliser | Treatment
    AnyStep = Split | Equaliser | Treatment
else:
    AnyBusStep = tagged_union(BUS_STEPS)
    AnyStep = tagged_union(LAYER_STEPS)


def layer_path(*steps: AnyBusStep) -> tuple[AnyStep, ...]:
    """The path of a layer that is cut to its band before anything else."""
    return (Split(), *steps)


def eqs_in(path: Iterable[Any]) -> tuple[Equaliser, ...]:
    """The EQs of a path."""
    return tuple(step for step in path if isinstance(step, Equaliser))


def treatments_in(path: Iterable[Any]) -> tuple[Treatment, ...]:
    """The treatments of a path."""
    return tuple(step for step in path if isinstance(step, Treatment))
