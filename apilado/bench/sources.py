"""What sources cost: six waves that modulate each other through two filters that move."""

from __future__ import annotations

from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import layer_path
from apilado.core.document.stack import Bus, Limiter, Stack
from apilado.core.notes import Note
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Modulation, Tone
from apilado.core.treatments.filter import Filter

RATIOS = (1.0, 2.0, 3.0, 1.41, 0.5)


def talking_stack(bars: int = 8) -> Stack:
    """One layer of five waves that push a sixth, or one another, through a filter that talks and one that opens."""
    pushers = [
        Tone(
            id=f"w{number}",
            shape="sine",
            tuning="ratio",
            ratio_to_note=ratio,
            into=(Modulation(id="m", wave=f"w{number + 1}" if number % 2 else "w5", index=1.2),),
        )
        for number, ratio in enumerate(RATIOS)
    ]
    filters = (Filter(id="mouth", shape="vowel"), Filter(id="lid", cutoff_hz=600.0, resonance=0.4))
    source = ToneSource(tones=(*pushers, Tone(id="w5", shape="sine")), filters=filters)
    here = "layers/a/source/filters"
    moved = (
        ("talk", f"{here}/mouth/vowel", 1.5),
        ("open", f"{here}/lid/cutoff_hz", 2.0),
    )
    return Stack(
        name="Talking",
        tempo_bpm=120.0,
        bars=bars,
        pattern=tuple(
            Note(start_beats=0.5 * step, length_beats=0.45, pitch=29 + step * 5 % 12) for step in range(8 * bars)
        ),
        layers=(Layer(id="a", name="a", source=source, path=layer_path()),),
        bus=Bus(path=(), limiter=Limiter(on=False)),
        movements=tuple(
            Movement(
                id=name,
                begins="note",
                then="repeats",
                length_beats=0.5,
                targets=(Target(id="t", path=path, travel=travel),),
            )
            for name, path, travel in moved
        ),
    )
