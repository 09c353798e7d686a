"""What a delivery writes: its parts, the stretches of the piece, the names of the files."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from apilado.core.document.stack import Stack
from apilado.core.parameters import Model, choice, number, switch, text
from apilado.core.render.graph import Graph
from apilado.core.render.stage import Stage
from apilado.errors import ApiladoError

FIELD = re.compile(r"\{([^{}]*)\}")
NAME_FIELDS = ("stack", "tempo", "key", "part", "section", "rate", "state")
"""What a pattern of names may hold in braces."""
USUAL_NAMES = "{stack}-{tempo}-{key}-{part}"
LONGEST_NAME = 120


class DeliveryOptions(Model):
    """What to write, and how."""

    extent: Annotated[
        Literal["loop", "one-pass"],
        choice(label="Extent", names={"loop": "a loop", "one-pass": "one pass, with its tail"}),
    ] = "loop"
    sections: Annotated[
        Literal["together", "apart"],
        choice(label="Sections", names={"together": "in one piece", "apart": "each section apart"}),
    ] = "together"
    file_format: Annotated[Literal["wav", "flac"], choice(label="File", names={"wav": "WAV", "flac": "FLAC"})] = "wav"
    bits: Annotated[
        Literal["16", "24", "32f"],
        choice(label="Bits", names={"16": "16-bit", "24": "24-bit", "32f": "32-bit float"}),
    ] = "24"
    rate_hz: Annotated[Literal[44100, 48000, 96000], choice(label="Rate", unit="Hz")] = 48000
    mono: Annotated[
        Literal["stereo", "mono"],
        choice(label="Files of what is mono", names={"stereo": "two equal channels", "mono": "one channel"}),
    ] = "stereo"
    layers: Annotated[bool, switch(label="A stem of each layer")] = True
    bass: Annotated[bool, switch(label="Bass")] = True
    space: Annotated[bool, switch(label="Space", help="Where something is sent to it; the bass is without it")] = True
    kick: Annotated[bool, switch(label="Kick and drums")] = True
    mix: Annotated[bool, switch(label="Mix")] = True
    notes: Annotated[
        bool, switch(label="Pattern and hits as MIDI", help="With tempo and bars; sections are markers")
    ] = False
    curves: Annotated[
        bool, switch(label="Movements as controller curves", help="In a MIDI file: controllers 20 and up, 0 to 127")
    ] = False
    level: Annotated[
        Literal["as-it-is", "loudness", "peak"],
        choice(label="Level", names={"as-it-is": "the level they have", "loudness": "a loudness", "peak": "a peak"}),
    ] = "as-it-is"
    loudness_lufs: Annotated[
        float,
        number(
            low=-36.0, high=-6.0, step=0.1, unit="LUFS", label="Loudness of the mix", help="Integrated, ITU-R BS.1770"
        ),
    ] = -14.0
    peak_db: Annotated[float, number(low=-24.0, high=0.0, step=0.1, unit="dBTP", label="True peak of the mix")] = -1.0
    names: Annotated[str, text(label="Names", longest=LONGEST_NAME)] = Field(default="{part}")


def safe_name(name: str) -> str:
    """A name that any file system takes."""
    return re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-.") or "stack"


@dataclass(frozen=True)
class Part:
    """A part of the stack that gets files of its own."""

    key: str
    """What it is called in a name: mix, bass, space, kick, drum-…, layer-01-…"""
    find: Callable[[Graph], Stage]
    owner: str = ""
    """The address of the layer that it is, if it is one."""


def parts_of(stack: Stack, options: DeliveryOptions) -> list[Part]:
    """The parts that are wanted, in order."""

    def drum(name: str) -> Callable[[Graph], Stage]:
        return lambda graph: graph.drums[name]

    def layer(name: str) -> Callable[[Graph], Stage]:
        return lambda graph: graph.layers[name]

    found = []
    if options.mix:
        found.append(Part("mix", lambda graph: graph.output))
    if options.bass:
        found.append(Part("bass", lambda graph: graph.buses["bus"]))
    if options.space and stack.senders() and stack.sounds("space"):
        found.append(Part("space", lambda graph: graph.buses["space"]))
    if options.kick:
        found.append(Part("kick", drum("kick")))
        heard = [trigger for trigger in stack.triggers if not trigger.mute]
        found += [Part(f"drum-{safe_name(each.name)}-{each.id}", drum(each.id)) for each in heard]
    if options.layers:
        audible = {each.id for each in stack.audible_layers()}
        for place, each in enumerate(stack.layers, start=1):
            if each.id in audible:
                found.append(Part(f"layer-{place:02d}-{safe_name(each.name)}", layer(each.id), f"layers/{each.id}"))
    return found


@dataclass(frozen=True)
class Stretch:
    """Bars that are written to files of their own."""

    name: str
    first_bar: int
    last_bar: int

    def beats(self, stack: Stack) -> tuple[float, float]:
        """(the beat it begins on, the beat behind its last)."""
        return float((self.first_bar - 1) * stack.beats_per_bar), float(self.last_bar * stack.beats_per_bar)


def stretches_of(stack: Stack, options: DeliveryOptions) -> list[Stretch]:
    """The stretches of the piece: all of it, or each section and what lies between."""
    if options.sections == "together" or not stack.sections:
        return [Stretch("whole", 1, stack.bars)]
    found, bar = [], 1
    for section in sorted(stack.sections, key=lambda each: each.first_bar):
        if section.first_bar > bar:
            found.append(_between(bar, section.first_bar - 1))
        found.append(Stretch(section.name, section.first_bar, section.last_bar))
        bar = section.last_bar + 1
    return [*found, *([_between(bar, stack.bars)] if bar <= stack.bars else [])]


def _between(first: int, last: int) -> Stretch:
    return Stretch(f"bar {first}" if first == last else f"bars {first} to {last}", first, last)


def named(stack: Stack, options: DeliveryOptions, part: str, place: int, stretch: Stretch, state: int = 0) -> str:
    """The name of a file by the pattern of names, without what tells its kind.

    Args:
        place: of the stretch, counted from 1.
        state: the number of the revision.

    Raises:
        ApiladoError: the pattern holds a field that there is none of.
    """
    root, mode = stack.key.split()
    apart = options.sections == "apart" and bool(stack.sections)
    section = f"{place:02d}-{stretch.name}" if apart else ""
    values = {
        "stack": safe_name(stack.name).lower(),
        "tempo": f"{stack.tempo_bpm:g}",
        "key": f"{root.lower().replace('#', 's')}{mode[:3]}",
        "part": part,
        "section": section,
        "rate": str(options.rate_hz),
        "state": str(state),
    }

    def put(found: re.Match[str]) -> str:
        if found[1] not in values:
            there = ", ".join(f"{{{name}}}" for name in NAME_FIELDS)
            raise ApiladoError(f"a name has no field {{{found[1][:20]}}}; there are {there}")
        return values[found[1]]

    name = safe_name(FIELD.sub(put, options.names))
    return f"{safe_name(section)}/{name}" if apart and "{section}" not in options.names else name


def file_names(stack: Stack, options: DeliveryOptions, state: int = 0) -> list[str]:
    """The files of sound that a delivery will write.

    Raises:
        ApiladoError: the pattern of names is not valid, or gives two files one name.
    """
    stretches = stretches_of(stack, options)
    found = [
        f"{named(stack, options, part.key, place, stretch, state)}.{options.file_format}"
        for place, stretch in enumerate(stretches, start=1)
        for part in parts_of(stack, options)
    ]
    twice = next((name for name in found if found.count(name) > 1), None)
    if twice is not None:
        raise ApiladoError(f"two files would be called '{twice}': put {{part}} into the pattern of names")
    return found
