"""The voice that plays notes: how one begins, holds and ends, and how one leads to the next."""

from __future__ import annotations

from typing import Annotated, Literal

from apilado.core.parameters import Model, choice, group, number

Mode = Literal["slides", "legato", "retrigger"]


class Envelope(Model):
    """Level over a note; decay and release are the times to fall by 60 dB."""

    attack_ms: Annotated[float, number(low=0.5, high=2000.0, step=0.1, scale="log", unit="ms", label="Attack")] = 2.0
    decay_ms: Annotated[float, number(low=5.0, high=10000.0, step=1.0, scale="log", unit="ms", label="Decay")] = 400.0
    sustain: Annotated[float, number(low=0.0, high=1.0, label="Sustain")] = 0.8
    release_ms: Annotated[float, number(low=2.0, high=5000.0, step=1.0, scale="log", unit="ms", label="Release")] = 80.0


class Voice(Model):
    """One voice: a note takes it from the one before."""

    mode: Annotated[
        Mode,
        choice(
            label="Notes",
            names={"slides": "slide where marked", "legato": "slide where they touch", "retrigger": "begin anew each"},
            help="Whether a note that touches the one before glides on from it, or begins with an attack of its own",
        ),
    ] = "slides"
    gives: Annotated[
        Literal["last", "lowest"],
        choice(
            label="Of notes held",
            names={"last": "the last", "lowest": "the lowest"},
            help="The last takes the voice from the one before; or a higher note waits until the lower one has ended",
        ),
    ] = "last"
    glide_ms: Annotated[float, number(low=0.0, high=2000.0, step=1.0, unit="ms", label="Glide")] = 60.0
    envelope: Envelope = group(Envelope, label="Envelope")
