"""What is known of a stack from the whole loop that was rendered last: a stretch behind an edit goes on from there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from apilado.core.clock import Clock
from apilado.core.render.engine import Engine
from apilado.core.render.graph import Graph, reductions_in
from apilado.core.render.stage import Stage
from apilado.core.render.stretch import CURVES, SUMS


@dataclass(frozen=True)
class LastLoop:
    """The loop before an edit, if there was one."""

    engine: Engine
    graph: Graph | None
    clock: Clock
    """Of the loop behind the edit: what is another length long tells nothing."""
    _reductions: Mapping[str, Stage] = field(init=False, repr=False)
    _measured: Mapping[str, Stage] = field(init=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_reductions", reductions_in(self.graph) if self.graph else {})
        object.__setattr__(self, "_measured", self.graph.measured if self.graph else {})

    def held(self, where: str, frame: int) -> Any:
        """The gain reduction of a part at a frame; of what is measured once over the whole loop, that. None where it is
        not known."""
        if where in self._measured:
            return self.engine.at_hand(self._measured[where])
        return self.engine.value_at(self._reductions[where], frame) if where in self._reductions else None

    def went_in(self, where: str) -> Stage | None:
        """What went into a step, if that loop was as long and it is at hand."""
        if self.graph is None or self.graph.clock.loop_frames != self.clock.loop_frames:
            return None
        passed = self.graph.passed.get(where)
        return passed.before if passed is not None and self._soon_there(passed.before) else None

    def came_out(self, step: Stage) -> Stage | None:
        """What the same step made of what went into it, with the values that it has now, if that is at hand."""
        passed = self.graph.passed.get(step.where) if self.graph is not None else None
        if passed is None or self.went_in(step.where) is None:
            return None
        of_it = [each for each in (passed.after, *passed.after.inputs) if each.function is step.function]
        given = [passed.before.key, *(each.key for each in step.inputs[1:])]
        same = [each for each in of_it if each.parameters == step.parameters and [k.key for k in each.inputs] == given]
        return next(filter(self.engine.holds, same), None)

    def _soon_there(self, stage: Stage) -> bool:
        """Whether it is at hand, or all that it is summed of is; the curves of that are made in no time."""
        summed = [each for each in stage.inputs if each.function not in CURVES] if stage.function in SUMS else []
        return self.engine.holds(stage) or (bool(summed) and all(map(self._soon_there, summed)))
