"""What can be bounced of a stack: layers, the bus, everything; before the duck or after it; whole, or some bars."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.stack import MOST_BARS, MOST_LAYERS, Stack
from apilado.core.dsp.audio import sounding_until
from apilado.core.parameters import Model, choice, integer
from apilado.core.render.builder import summed
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import build, clock_of
from apilado.core.render.stage import Stage, stage
from apilado.core.units import beats_to_samples, ms_to_samples
from apilado.errors import InvalidEdit

SILENT_DB, AFTER_MS = -96.0, 50.0
"""A single pass ends this long after the last sample over this level."""
MOST_NAMED = 3


class Bounced(Model):
    """What of a stack is bounced, and how."""

    what: Annotated[
        Literal["layers", "bus", "stack"],
        choice(
            label="What",
            names={"layers": "layers", "bus": "the bus", "stack": "the whole stack"},
            help="The bus is all layers behind what they go through together; the whole stack has the drums too",
        ),
    ] = "layers"
    layers: tuple[str, ...] = Field(default=(), max_length=MOST_LAYERS, description="Ids of layers; none: all heard")
    duck: Annotated[
        Literal["after", "before"],
        choice(label="Duck", names={"after": "as it is ducked", "before": "before the duck"}, help="Of layers"),
    ] = "after"
    extent: Annotated[
        Literal["loop", "one-pass"],
        choice(label="Extent", names={"loop": "as a loop", "one-pass": "in one pass, with its tail"}),
    ] = "loop"
    first_bar: Annotated[
        int, integer(low=0, high=MOST_BARS, label="From bar", help="0: from the first to the last")
    ] = 0
    last_bar: Annotated[int, integer(low=0, high=MOST_BARS, label="To bar", help="0: to the last")] = 0

    def bars(self, stack: Stack) -> tuple[int, int]:
        """(the first bar, the last bar), counted from 1."""
        return max(1, self.first_bar), self.last_bar or stack.bars

    def is_whole(self, stack: Stack) -> bool:
        """Whether it takes every bar."""
        return self.bars(stack) == (1, stack.bars)

    def starts_beats(self, stack: Stack) -> float:
        """The beat that it begins on."""
        return float((self.bars(stack)[0] - 1) * stack.beats_per_bar)

    def beats(self, stack: Stack) -> float:
        """How many beats it takes, its tail apart."""
        first, last = self.bars(stack)
        return float((last - first + 1) * stack.beats_per_bar)

    def check(self, stack: Stack) -> None:
        """
        Raises:
            InvalidEdit: it names a layer or bars that the stack does not have, or there is nothing to bounce.
        """
        for name in self.layers:
            if stack.layer(name) is None:
                raise InvalidEdit(f"not bounced: there is no layer '{name[:40]}'")
        first, last = self.bars(stack)
        if not first <= last <= stack.bars:
            raise InvalidEdit(f"not bounced: bars {first} to {last} do not lie in the {stack.bars} bars of the piece")
        if self.what == "layers" and not self.named(stack):
            raise InvalidEdit("not bounced: no layer is heard")

    def named(self, stack: Stack) -> tuple[str, ...]:
        """The ids of the layers that it takes."""
        return self.layers or tuple(layer.id for layer in stack.audible_layers())

    def what_in_words(self, stack: Stack) -> str:
        """What of the stack it is."""
        if self.what != "layers":
            return {"bus": "bass", "stack": "mix"}[self.what]
        names = [layer.name for layer in stack.layers if layer.id in self.named(stack)]
        if len(names) == len(stack.layers) > 1:
            return "all layers"
        return ", ".join(names[:MOST_NAMED]) + (f" and {len(names) - MOST_NAMED} more" if names[MOST_NAMED:] else "")

    def told(self, stack: Stack) -> str:
        """What of the stack it is, and how it was taken."""
        said = [self.what_in_words(stack)]
        said += ["before the duck"] if self.what == "layers" and self.duck == "before" else []
        first, last = self.bars(stack)
        if not self.is_whole(stack):
            said.append(f"bar {first}" if first == last else f"bars {first} to {last}")
        return ", ".join([*said, "as a loop" if self.extent == "loop" else "in one pass"])


@dataclass(frozen=True)
class Taken:
    """What is to be rendered for a bounce, and what is cut out of it."""

    clock: Clock
    sound: Stage
    first: int
    """The frame that it begins at."""
    last: int | None
    """The frame that it ends before; None: where it has rung out."""


def taken(stack: Stack, bounced: Bounced, load: AssetLoader) -> Taken:
    """The stages of a bounce; nothing is computed yet.

    Raises:
        InvalidEdit: as `Bounced.check`.
    """
    bounced.check(stack)
    clock = clock_of(stack, looped=bounced.extent == "loop")
    graph = build(stack, clock, load)
    if bounced.what == "layers":
        made = graph.layers if bounced.duck == "after" else graph.before_duck
        named = bounced.named(stack)
        parts = [made[layer.id] for layer in stack.layers if layer.id in named]
        sound = parts[0] if len(parts) == 1 else summed(parts, clock.frames)
    else:
        sound = {"bus": graph.buses["bus"], "stack": graph.output}[bounced.what]
    begins = bounced.starts_beats(stack)

    def frame(beats: float) -> int:
        return beats_to_samples(beats, clock.tempo_bpm, clock.rate_hz)

    ends = frame(begins + bounced.beats(stack))
    if bounced.last_bar in (0, stack.bars):
        return Taken(clock, sound, frame(begins), clock.frames if clock.looped else None)
    return Taken(clock, sound, frame(begins), ends)


def rung_out(engine: Engine, sounds: list[Stage], clock: Clock, token: Token | None = None) -> int:
    """The frame of a single pass at which all of these have rung out, at the earliest its last beat's end.

    Raises:
        Overtaken: it is to stop.
    """
    ends = [engine.run([stage(sounding_until, each, floor_db=SILENT_DB)], token)[0] for each in sounds]
    return int(min(clock.frames, max(clock.loop_frames, *ends) + ms_to_samples(AFTER_MS, clock.rate_hz)))
