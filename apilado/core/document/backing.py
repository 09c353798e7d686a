"""Backing: tracks of audio to judge the bass against, such as drums, chords, or a whole loop.

They are laid as a recorded take is. They belong to the stack, and to nothing that is made of it: they are in no stem,
in no delivery and in no measurement of the bass. One that counts takes room in the room map.
"""

from __future__ import annotations

from typing import Annotated, ClassVar

from apilado.core.parameters import switch, text
from apilado.core.parts import Part
from apilado.core.sources.take import TakeSource

MOST_BACKING = 8


class BackingTrack(Part):
    """One track of audio that is heard with the stack."""

    label: ClassVar[str] = "Backing track"

    name: Annotated[str, text(label="Name", longest=40)] = "Backing"
    mute: Annotated[bool, switch(label="Mute")] = False
    counts: Annotated[
        bool,
        switch(label="Counts in the room map", help="Room map and ‘make room’ then reckon with it, and say so"),
    ] = False
    sound: TakeSource
