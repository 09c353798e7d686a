"""The path of a layer or a bus: the steps that a sound goes through, in the order in which they stand."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from apilado.core.banded import LEAST_BANDS, MOST_BANDS, Band, Banded, begun
from apilado.core.document.addresses import joined
from apilado.core.document.equaliser import MOST_POINTS, AnyPoint, Phase
from apilado.core.identity import ByIdentity
from apilado.core.parameters import Model, choice, number, parts, switch, tagged_union
from apilado.core.parts import Part
from apilado.core.treatments.base import Treatment, Turning
from apilado.core.treatments.registry import TREATMENTS

MOST_STEPS = 24
MOST_CHAINED = 12
"""Steps in a chain of a container."""
_WALKED, _TREATMENTS = ByIdentity(256), ByIdentity(256)
"""The steps of paths, and the treatments among them."""


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


CHAINED: tuple[type[Part], ...] = (Equaliser, *TREATMENTS)
"""What can stand in a chain of a container: no split, and no container."""

if TYPE_CHECKING:
    AnyChained = Equaliser | Treatment
else:
    AnyChained = tagged_union(CHAINED)


@dataclass(frozen=True)
class Strand:
    """A chain of a container, and what goes into it."""

    where: str
    """The address of what has the chain within the container; '' for the container itself."""
    path: tuple[AnyChained, ...]
    band: Banded | None = None
    number: int = 0
    """The band of that, counted from 0, that goes in; without one it is the whole sound."""


class Container(Part):
    """A step that holds chains of its own, side by side: their sum, at their levels, is what comes out."""

    label: ClassVar[str]
    family: ClassVar[str] = "Chains"
    explains: ClassVar[str] = ""
    dry: ClassVar[bool] = False
    """Whether what goes in comes out besides."""

    on: Annotated[bool, switch(label="On")] = True

    def strands(self) -> tuple[Strand, ...]:
        """Its chains, in their order."""
        raise NotImplementedError

    def turns_phase(self) -> Turning:
        """How it turns the phases of what goes through it, besides what is in its chains."""
        return ""

    def aligns(self) -> bool:
        """Whether its chain is moved so that it agrees best with the dry sound."""
        return False


def chain() -> Any:
    """Declares the steps of a chain."""
    return parts("step", most=MOST_CHAINED, ordered=True)


def strand_level(begins: str) -> Any:
    """Declares the level of a chain."""
    return number(low=-60.0, high=24.0, step=0.1, unit="dB", label="Level", moves=True, help=begins)


class ChainedBand(Band):
    """A band with a chain of its own."""

    leading: ClassVar[tuple[str, ...]] = ("level_db",)

    level_db: Annotated[float, strand_level("Of the band, behind its chain")] = 0.0
    path: tuple[AnyChained, ...] = chain()

    def in_words(self) -> str:
        steps = [step.label if step.label.isupper() else step.label.lower() for step in self.path if step.on]
        level = f"{self.level_db:+g} dB".replace("-", "−") if self.level_db else ""
        return ", ".join(each for each in (" → ".join(steps), level) if each)


class Bands(Banded, Container):
    """Two to four bands, each with a chain of its own."""

    label: ClassVar[str] = "Bands"
    explains: ClassVar[str] = "Cuts the sound in two to four bands, each with treatments, EQs and a level of its own"

    kind: Literal["bands"] = "bands"
    bands: tuple[ChainedBand, ...] = parts(
        "band", least=LEAST_BANDS, most=MOST_BANDS, begin=lambda: begun(ChainedBand, 250.0, 2000.0)
    )

    def in_bands(self) -> tuple[ChainedBand, ...]:
        return self.bands

    def turns_phase(self) -> Turning:
        return "fixed" if self.phase == "minimum-phase" else ""

    def in_words(self) -> str:
        ends = ", ".join(f"{band.from_hz:.0f}" for band in self.bands[1:])
        return f"{len(self.bands)} bands, cut at {ends} Hz"

    def strands(self) -> tuple[Strand, ...]:
        return tuple(
            Strand(joined("bands", each.id), each.path, self, number) for number, each in enumerate(self.bands)
        )


class Aside(Container):
    """A chain beside the sound, which is put under it."""

    label: ClassVar[str] = "Parallel chain"
    explains: ClassVar[str] = "A copy of the sound through a chain of its own, put under it at any level"
    dry: ClassVar[bool] = True
    leading: ClassVar[tuple[str, ...]] = ("level_db",)

    kind: Literal["aside"] = "aside"
    level_db: Annotated[float, strand_level("Of what comes out of the chain; the sound itself stays as it is")] = -12.0
    align: Annotated[
        bool,
        switch(
            label="Align",
            help="Moves the chain by up to 5 ms, and turns it over, so that it agrees best with the sound; measured "
            "over the whole loop",
        ),
    ] = True
    path: tuple[AnyChained, ...] = chain()

    def in_words(self) -> str:
        steps = [step.label if step.label.isupper() else step.label.lower() for step in self.path if step.on]
        return f"{' → '.join(steps) or 'nothing in it'}, {self.level_db:+g} dB".replace("-", "−")

    def strands(self) -> tuple[Strand, ...]:
        return (Strand("", self.path),)

    def aligns(self) -> bool:
        return self.align and bool(self.path)


CONTAINERS: tuple[type[Container], ...] = (Bands, Aside)
BUS_STEPS: tuple[type[Part], ...] = (*CHAINED, *CONTAINERS)
LAYER_STEPS: tuple[type[Part], ...] = (Split, *BUS_STEPS)

if TYPE_CHECKING:
    AnyBusStep = Equaliser | Treatment | Container
    AnyStep = Split | Equaliser | Treatment | Container
else:
    AnyBusStep = tagged_union(BUS_STEPS)
    AnyStep = tagged_union(LAYER_STEPS)


def layer_path(*steps: AnyBusStep) -> tuple[AnyStep, ...]:
    """The path of a layer that is cut to its band before anything else."""
    return (Split(), *steps)


def eqs_in(path: Iterable[Any]) -> tuple[Equaliser, ...]:
    """The EQs of a path, without those in its containers."""
    return tuple(step for step in path if isinstance(step, Equaliser))


def every_step(holder: str, path: tuple[AnyStep, ...]) -> tuple[tuple[str, AnyStep], ...]:
    """(address, step) of each step of a path, those in its containers behind these.

    Args:
        holder: the address of what has the path.
    """
    found: tuple[tuple[str, AnyStep], ...] = _WALKED.get(lambda: tuple(_walked(holder, path)), path, beside=holder)
    return found


def _walked(holder: str, path: Iterable[AnyStep]) -> Iterator[tuple[str, AnyStep]]:
    for step in path:
        here = joined(holder, "path", step.id)
        yield here, step
        for strand in step.strands() if isinstance(step, Container) else ():
            yield from _walked(joined(here, strand.where), strand.path)


def every_treatment(holder: str, path: tuple[AnyStep, ...]) -> tuple[tuple[str, Treatment], ...]:
    """(address, treatment) of each treatment of a path, those in its containers too."""

    def chosen() -> tuple[tuple[str, Treatment], ...]:
        return tuple((address, step) for address, step in every_step(holder, path) if isinstance(step, Treatment))

    found: tuple[tuple[str, Treatment], ...] = _TREATMENTS.get(chosen, path, beside=holder)
    return found
