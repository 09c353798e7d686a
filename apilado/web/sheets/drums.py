"""The sheet of the kick, or of another drum."""

from __future__ import annotations

from types import MappingProxyType

from apilado.core.document.addresses import joined
from apilado.core.document.kick import KICK_SOUNDS, Drum
from apilado.core.document.stack import MOST_TRIGGERS, Stack
from apilado.web.sheets.base import AUDIO_ACCEPT, HITS_ACCEPT, Action, Line, Section, fields_of
from apilado.web.sheets.movements import movement_lines, place_words
from apilado.web.sheets.parts import pairs_asked, part_section
from apilado.web.sheets.sends import first_send, send_lines

SIXTEENTH = 0.25
PATTERNS: MappingProxyType[str, tuple[float, tuple[float, ...]]] = MappingProxyType(
    {
        "Every beat": (1.0, (0.0,)),
        "One and three": (4.0, (0.0, 2.0)),
        "Two and four": (4.0, (1.0, 3.0)),
        "Between the beats": (1.0, (0.5,)),
        "Broken": (4.0, (0.0, 2.5)),
        "Stumbling": (4.0, (0.0, 0.75, 2.5)),
        "Dotted": (1.5, (0.0,)),
        "Rolling": (4.0, (0.0, 1.5, 3.0, 3.5)),
    }
)
"""Common patterns under names of our own: (length in beats, hits within it), repeated to the end of the loop."""


def pattern_hits(name: str, beats: float) -> list[float]:
    """The hits of a pattern over a loop."""
    length, hits = PATTERNS[name]
    rounds = int(beats / length) + 1
    return sorted(at for n in range(rounds) for hit in hits if (at := n * length + hit) < beats)


def rotated(hits: tuple[float, ...], by_beats: float, beats: float) -> list[float]:
    """The hits moved in time; what leaves the loop at one end comes in at the other."""
    return sorted({round((hit + by_beats) % beats, 6) for hit in hits if hit < beats})


def drum_name(stack: Stack, selected: str) -> str:
    """The drum that a selection means: `kick`, or `trigger:ID`."""
    kind, _, name = selected.partition(":")
    return name if kind == "trigger" and name in stack.drum_names() else "kick"


def drum_sections(stack: Stack, selected: str) -> tuple[Section, ...]:
    """The drums, and everything of the chosen one."""
    name = drum_name(stack, selected)
    drum, path = stack.drum(name), stack.drum_owner(name)
    sound = drum.sound
    chooser = [
        Action(shown, select="kick" if key == "kick" else f"trigger:{key}", chosen=key == name)
        for key, shown in stack.drum_names().items()
    ]
    if len(stack.triggers) < MOST_TRIGGERS:
        part = {"name": f"Trigger {len(stack.triggers) + 1}", "hits": list(stack.kick.hits)}
        part["sound"] = stack.kick.sound.model_dump(mode="json")
        chooser.append(Action("Add a trigger", {"op": "add", "path": "triggers", "part": part}))
    own = ("name", "level_db", "mute", "polarity", "offset_ms")
    synthesise = {"op": "set-drum-sound", "drum": name, "sound": {"kind": "synth"}}
    actions = [Action("Use an audio file", upload=name, accept=AUDIO_ACCEPT)]
    if sound.kind != "synth":
        actions.append(Action("Synthesise it", synthesise))
    label = next(model.label for model in KICK_SOUNDS if isinstance(sound, model))
    remove, users = (), _users(stack, name)
    if name != "kick" and not users:
        asks = pairs_asked(stack, path)
        remove = (Action("Remove this trigger", {"op": "remove", "path": path}, danger=True, asks=asks),)
    return (
        Section("Drums", (), tuple(chooser), chooser=True, note="A muted trigger ducks and keys without being heard."),
        Section(
            "Source",
            fields_of(sound, f"{path}/sound", without=("file_name",)),
            tuple(actions),
            note=f"File: {sound.file_name}" if sound.kind == "sample" else "",
            line=Line(f"{path}/sound", sound.file_name if sound.kind == "sample" else label.lower()),
            key=f"{path}/sound",
        ),
        Section(
            "Shape",
            fields_of(drum, path, "attack_db", "sustain_db", "clip_db"),
            line=Line(f"{path}/shape", shape_words(drum)),
            key=f"{path}/shape",
        ),
        part_section(stack, drum.eq, joined(path, "eq"), "EQ"),
        _hits_section(stack, name, path),
        Section(
            "Place",
            (*fields_of(drum, path, *own), *first_send(stack, path)),
            remove,
            note=f"Used by {users}: it cannot be removed." if users and name != "kick" else "",
            line=Line(f"{path}/place", place_words(drum)),
            key=f"{path}/place",
        ),
        *send_lines(stack, path),
        *movement_lines(stack, path),
    )


def shape_words(drum: Drum) -> str:
    """What is done to each hit, in a few words."""
    told = (("attack", drum.attack_db), ("sustain", drum.sustain_db), ("clip", drum.clip_db))
    return ", ".join(f"{name} {value:+g} dB".replace("-", "−") for name, value in told if value) or "as it is"


def _users(stack: Stack, name: str) -> str:
    """What follows a drum, in words: a drum in use cannot go."""
    duckers = [f"'{ducker.name}'" for ducker in stack.duckers if ducker.trigger == name]
    bells = [
        f"a keyed bell of '{stack.owner_name(address)}'"
        for address, eq in stack.equalisers().items()
        for point in eq.points
        if point.follows() == name
    ]
    return ", ".join([*duckers, *bells])


def _hits_section(stack: Stack, name: str, path: str) -> Section:
    drum = stack.drum(name)
    within = [hit for hit in drum.hits if hit < stack.beats]

    def put(label: str, hits: list[float]) -> Action:
        return Action(label, {"op": "set", "path": f"{path}/hits", "value": hits})

    patterns = tuple(put(label, pattern_hits(label, stack.beats)) for label in PATTERNS)
    moves = (
        put("A sixteenth earlier", rotated(drum.hits, -SIXTEENTH, stack.beats)),
        put("A sixteenth later", rotated(drum.hits, SIXTEENTH, stack.beats)),
        put("None", []),
    )
    copies = tuple(
        put(f"As {shown}", list(stack.drum(other).hits))
        for other, shown in stack.drum_names().items()
        if other != name and stack.drum(other).hits != drum.hits
    )
    return Section(
        "Hits",
        fields_of(drum, path, "hits"),
        (*moves, *copies, Action("From a MIDI file or an audio loop", upload=f"hits:{name}", accept=HITS_ACCEPT)),
        line=Line(f"{path}/hits", f"{len(within)} hits"),
        key=f"{path}/hits",
        note=f"{len(within)} hits. Double-click in the Time strip adds one; drag moves it; Delete removes it.",
        children=(Section("Patterns", (), patterns, folded=True),),
    )
