"""What is only listened to: a listener's state, in no document, no measurement and no delivery.

It has three parts. First which stack is heard: an earlier one (a cast), one with an edit as if it were made, one with a
part overdone or left out. Then what is heard of it: some parts alone, one EQ point, one band, what one step adds. Last
where it is heard. `render/listening.py` makes the sound of it.
"""

from __future__ import annotations

from typing import Any

from pydantic import Field

from apilado.core.document.addresses import find, owner_of, parted
from apilado.core.document.equaliser import Point
from apilado.core.document.layer import Layer
from apilado.core.document.path import ChainedBand
from apilado.core.document.stack import Bus, SharedBus, Space, Stack
from apilado.core.parameters import Model

MOST_ALONE = 24


class Audition(Model):
    """Which stack is heard, what of it, and where. What has gone from it is passed over."""

    alone: tuple[str, ...] = Field(
        default=(), max_length=MOST_ALONE, description="Owners, as layers/mid, kick or space"
    )
    point: str = Field(default="", max_length=120, description="Path of an EQ point, as kick/eq/points/k3f9, or a band")
    only: str = Field(default="", max_length=200, description="Address of a step or a part: only what it makes")
    overdo: str = Field(default="", max_length=200, description="Address of a part that is exaggerated")
    without: str = Field(default="", max_length=200, description="Address of a part that is left out")
    trial: dict[str, Any] | None = Field(default=None, description="An edit that is heard as if it were made")
    section: str = Field(default="", max_length=40, description="Id of the section that the edit would be made in")
    place: str = Field(default="", max_length=40, description="Where it is heard; nothing: here")
    dry: bool = Field(default=False, description="Whether what is heard alone is heard without its bus's treatment")
    backing: bool = Field(default=True, description="Whether the backing is heard with it")
    piece: bool = Field(default=False, description="Whether the finished piece is heard in its place")
    cast: int = Field(default=0, ge=0, description="Number of the cast that is heard; 0: the stack as it is now")

    def as_text(self) -> str:
        """All that it says; of a view that is one, nothing of what else it holds."""
        return self.model_dump_json(include=set(Audition.model_fields))

    def soloed(self, stack: Stack) -> tuple[str, ...]:
        """The parts heard alone that are there; none where everything is heard."""
        if not self.alone:
            return ()
        layers, drums = (f"layers/{layer.id}" for layer in stack.layers), map(stack.drum_owner, stack.drum_names())
        tracks = (f"backing/{track.id}" for track in stack.backing)
        there = {*layers, *drums, *tracks, "space"}
        return tuple(owner for owner in self.alone if owner in there)

    def listened(self, stack: Stack) -> tuple[str, Point] | None:
        """(address of its EQ, point) of the EQ point that is all that is heard, if it is there."""
        if not self.point:
            return None
        holder, _ = parted(self.point)
        eq, _ = parted(holder)
        point = find(stack, self.point) if eq in stack.equalisers() else None
        return (eq, point) if isinstance(point, Point) else None

    def band(self, stack: Stack) -> str | None:
        """The address of the band of a step that is all that is heard of it, if it is there."""
        found = find(stack, self.point) if self.point else None
        return self.point if isinstance(found, ChainedBand) else None

    def focus(self, stack: Stack) -> str | None:
        """The address of the EQ or the band within a part to which what is heard is narrowed."""
        listened = self.listened(stack)
        return self.band(stack) if listened is None else listened[0]

    def gone(self, stack: Stack) -> tuple[str, ...]:
        """What was to be heard and is not there any more: parts, a point, 'piece' for the finished piece."""
        lost = [owner for owner in self.alone if owner not in self.soloed(stack)]
        lost += [self.point] if self.point and self.focus(stack) is None else []
        return (*lost, *(["piece"] if self.piece and stack.reference is None else []))

    def layers(self, stack: Stack) -> tuple[Layer, ...]:
        """The layers that are heard."""
        focus = self.focus(stack)
        if focus is not None:
            owner = find(stack, owner_of(focus))
            if isinstance(owner, Bus | Space | SharedBus):
                return stack.audible_layers()
            return (owner,) if isinstance(owner, Layer) else ()
        soloed = self._soloed_besides(stack)
        return tuple(x for x in stack.audible_layers() if not soloed or f"layers/{x.id}" in soloed)

    def _soloed_besides(self, stack: Stack) -> tuple[str, ...]:
        """The layers and drums that are heard alone; with the space alone, everything goes on being sent to it."""
        return tuple(owner for owner in self.soloed(stack) if owner != "space")

    def space_alone(self, stack: Stack) -> bool:
        """Whether nothing but the space is heard: what is sent to it is not."""
        focus = self.focus(stack)
        return self.soloed(stack) == ("space",) if focus is None else owner_of(focus) == "space"

    def space(self, stack: Stack) -> bool:
        """Whether the space is heard: not where what is heard is narrowed to something outside it."""
        return stack.sounds("space") and (self.focus(stack) is None or self.space_alone(stack))

    def drums(self, stack: Stack) -> tuple[str, ...]:
        """The names of the drums that are heard."""
        focus, soloed = self.focus(stack), self._soloed_besides(stack)
        if focus is not None and not self.space_alone(stack):
            return tuple(name for name in stack.drum_names() if stack.drum_owner(name) == owner_of(focus))
        return tuple(
            name
            for name in stack.drum_names()
            if stack.sounds(stack.drum_owner(name)) and (not soloed or stack.drum_owner(name) in soloed)
        )

    def tracks(self, stack: Stack) -> tuple[str, ...]:
        """The addresses of the backing tracks that are heard: with the whole, or alone."""
        soloed = self.soloed(stack)
        if not self.backing or self.focus(stack) is not None or self.only:
            return ()
        there = (f"backing/{track.id}" for track in stack.backing)
        return tuple(owner for owner in there if stack.sounds(owner) and (not soloed or owner in soloed))


WHOLE = Audition()
"""Everything is heard as it stands."""
