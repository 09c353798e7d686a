"""How far sliders go: over the piece or the audio file, where a number that is typed may go further."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from apilado.core.document.addresses import find, parted
from apilado.core.document.declarations import value_at
from apilado.core.document.stack import Stack
from apilado.core.parameters import Parameter
from apilado.web.sheets.base import Field, Section

IN_A_SECOND = {"ms": 1000.0, "s": 1.0}


@dataclass(frozen=True)
class Reach:
    """Of the sliders of one stack."""

    stack: Stack
    seconds_of: Callable[[str], float]
    """How long an asset is; 0 where that is not known."""

    def of(self, path: str, parameter: Parameter) -> Parameter:
        """A parameter as its slider has it: as far as there is something, or as far as the value has gone."""
        whole = self._whole(path, parameter)
        if whole == 0.0:
            return parameter
        reached = max(whole, float(value_at(self.stack, path) or 0.0))
        steps = math.ceil((reached - parameter.low) / parameter.step - 1e-9)
        return replace(parameter, high=min(parameter.high, parameter.low + max(1, steps) * parameter.step))

    def in_sections(self, sections: tuple[Section, ...]) -> tuple[Section, ...]:
        """Sections with the sliders of all their fields."""
        return tuple(
            replace(
                each,
                fields=self._in_fields(each.fields),
                rest=self._in_fields(each.rest),
                children=self.in_sections(each.children),
            )
            for each in sections
        )

    def _in_fields(self, fields: tuple[Field, ...]) -> tuple[Field, ...]:
        return tuple(
            replace(each, slides=self.of(each.path, each.parameter)) if each.parameter.over else each for each in fields
        )

    def _whole(self, path: str, parameter: Parameter) -> float:
        if parameter.over == "piece":
            return self.stack.beats
        if parameter.over == "file":
            asset = getattr(find(self.stack, parted(path)[0]), "asset", "")
            return self.seconds_of(asset) * IN_A_SECOND[parameter.unit] if asset else 0.0
        return 0.0
