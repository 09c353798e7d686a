"""Settings of a tone: whole versions of its waves, between which a position walks.

What a setting keeps it keeps by its place in the source (`tones/k3f9xq2a/into/m1/index`). A place that is not there any
more is passed over.
"""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import Field

from apilado.core.parameters import Model, text
from apilado.core.parts import Part

MOST_SETTINGS, MOST_VALUES = 3, 400
PLACE_PATTERN = r"^tones/[a-z0-9-]+(/[a-z0-9_-]+){1,3}$"


class SettingValue(Model):
    """One value of a setting."""

    place: str = Field(pattern=PLACE_PATTERN, max_length=160, description="Where it lies in the source")
    value: float | bool | str | tuple[float | None, ...]


class Setting(Part):
    """A version of the waves of a tone."""

    label: ClassVar[str] = "Setting"
    added_by: ClassVar[str] = "keep-setting"

    name: Annotated[str, text(label="Name", longest=40)] = "Setting"
    values: tuple[SettingValue, ...] = Field(default=(), max_length=MOST_VALUES)

    def in_words(self) -> str:
        return self.name


def kept_values(tones: tuple[Any, ...]) -> tuple[SettingValue, ...]:
    """Everything that can be set of some waves, as it is."""
    found: list[SettingValue] = []
    for tone in tones:
        here = f"tones/{tone.id}"
        held = [(here, tone), *((f"{here}/into/{each.id}", each) for each in tone.into)]
        held += [(f"{here}/envelope", tone.envelope)] if tone.envelope is not None else []
        for place, part in held:
            found += [SettingValue(place=f"{place}/{name}", value=getattr(part, name)) for name in part.settable()]
    return tuple(found)
