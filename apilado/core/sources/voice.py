"""The voice that plays notes: how one begins, holds and ends, and how one leads to the next."""

from __future__ import annotations

from typing import Literal

from apilado.core.parameters import Model, choice, group, number

Mode = Literal["slides", "legato", "retrigger"]


class Envelope(Model):
    """Level over a note; decay and release are the times to fall by 60 dB."""

    attack_ms: float = number(2.0, low=0.5, high=2000.0, step=0.1, scale="log", unit="ms", label="Attack")
    decay_ms: float = number(400.0, low=5.0, high=10000.0, step=1.0, scale="log", unit="ms", label="Decay")
    sustain: float = number(0.8, low=0.0, high=1.0, label="Sustain")
    release_ms: float = number(80.0, low=2.0, high=5000.0, step=1.0, scale="log", unit="ms", label="Release")


class Voice(Model):
    """One voice: a note takes it from the one before."""

    mode: Mode = choice(
        "slides",
        label="Notes",
        names={"slides": "slide where marked", "legato": "slide where they touch", "retrigger": "begin anew each"},
        help="Whether a note that touches the one before glides on from it, or begins with an attack of its own",
    )
    glide_ms: float = number(60.0, low=0.0, high=2000.0, step=1.0, unit="ms", label="Glide")
    envelope: Envelope = group(Envelope, label="Envelope")
