"""What sources cost: each kind by itself, and six waves that modulate each other through two filters that move."""

from __future__ import annotations

import numpy as np

from apilado.core.assets import AssetLoader
from apilado.core.clock import Clock
from apilado.core.document.layer import Layer
from apilado.core.document.movement import Movement, Target
from apilado.core.document.path import layer_path
from apilado.core.document.stack import Bus, Limiter, Stack
from apilado.core.notes import Note
from apilado.core.sources.base import Source
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.voice import Voice
from apilado.core.sources.wave import Modulation, Tone
from apilado.core.treatments.filter import Filter

RATIOS = (1.0, 2.0, 3.0, 1.41, 0.5)
NO_ASSET = "0" * 64


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


def played_stacks() -> dict[str, tuple[Stack, AssetLoader]]:
    """A stack for each kind of source, of one layer without anything behind it, and what loads its sound."""
    tune = tuple(Note(start_beats=0.5 * step, length_beats=0.45, pitch=29 + step * 5 % 12) for step in range(32))
    sound = (0.3 * np.random.default_rng(1).standard_normal((2, 2 * 48000))).astype(np.float32)
    clock = Clock(tempo_bpm=120.0, beats=16.0, rate_hz=48000, looped=True)
    tone = Tone(id="a", shape="saw", copies=7, spread=0.8)
    slid = tuple(note.model_copy(update={"length_beats": 0.5, "slide": n % 2 == 1}) for n, note in enumerate(tune))
    given: dict[str, tuple[Source, tuple[Note, ...]]] = {
        "a saw in seven copies": (ToneSource(tones=(tone,)), tune),
        "the same, gliding": (ToneSource(tones=(tone,)), slid),
        "the same, each note begun anywhere": (
            ToneSource(tones=(tone.model_copy(update={"phase": "free"}),)),
            tune,
        ),
        "a sample": (SampleSource(asset=NO_ASSET), tune),
        "a take": (TakeSource(asset=NO_ASSET), ()),
    }
    voice = Voice(glide_ms=120.0)
    bare = Bus(path=(), limiter=Limiter(on=False))
    return {
        name: (
            Stack(
                name=name,
                tempo_bpm=clock.tempo_bpm,
                bars=4,
                pattern=notes,
                layers=(Layer(id="a", name="a", source=source, voice=voice, path=layer_path()),),
                bus=bare,
            ),
            lambda sha256, rate_hz: sound,
        )
        for name, (source, notes) in given.items()
    }
