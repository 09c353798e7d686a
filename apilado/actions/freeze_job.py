"""Job: a layer's source and path kept as audio, so that they cost nothing."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from apilado.actions import stacks
from apilado.actions.bouncing import bounced_file
from apilado.actions.freezing import thaw_changed
from apilado.actions.jobs import Task, Wanted
from apilado.core.document.edits import Several, apply
from apilado.core.document.edits_values import SetValue
from apilado.core.document.frozen import MOST_RATES, FrozenSound
from apilado.core.document.layer import Layer
from apilado.core.document.naming import layer_name
from apilado.core.document.stack import SampleRate, Stack
from apilado.core.dsp.audio import sounding_until
from apilado.core.render.builder import Builder
from apilado.core.render.freezing import print_of, thawed
from apilado.core.render.graph import build, clock_of
from apilado.errors import InvalidEdit
from apilado.store.sounds import Origin

RUNG_OUT_DB = -140.0
"""A single pass is kept until it is this quiet."""


class Freeze(Wanted):
    """A layer that is to be frozen, at the stack's rate and at others if asked."""

    kind: ClassVar[str] = "freeze"

    layer: str = Field(max_length=40)
    rates_hz: tuple[SampleRate, ...] = Field(default=(), max_length=MOST_RATES)

    def title(self, stack: Stack) -> str:
        return f"Freeze {layer_name(self.layer, stack)}"

    def check(self, stack: Stack) -> None:
        if stack.layer(self.layer) is None:
            raise InvalidEdit(f"not frozen: there is no layer '{self.layer}'")

    def run(self, task: Task) -> dict[str, Any]:
        stack = thawed(task.stack, self.layer)
        layer = stack.layer(self.layer)
        if layer is None:
            raise InvalidEdit(f"not frozen: there is no layer '{self.layer}'")
        rates = sorted({stack.sample_rate, *self.rates_hz})
        sounds = []
        for number, rate_hz in enumerate(rates):
            task.tell(number / len(rates), f"Rendering at {rate_hz} Hz")
            sounds.append(self._kept(task, stack, layer, rate_hz))
        value = [sound.model_dump(mode="json") for sound in sounds]
        change = SetValue(path=f"layers/{self.layer}/frozen", value=value)
        name = f"Freeze {layer.name}"
        head = task.workspace.stacks.head(task.stack_id).stack
        if head.layer(self.layer) is None or thaw_changed(apply(head, change), task.workspace.load)[1]:
            raise InvalidEdit(f"not frozen: '{layer.name}' was changed meanwhile; freeze it again")
        stacks.edit(task.workspace, task.stack_id, Several(name=name, edits=(change,)))
        return {"said": f"‘{layer.name}’ is frozen: its source and path cost nothing until they are changed."}

    def _kept(self, task: Task, stack: Stack, layer: Layer, rate_hz: int) -> FrozenSound:
        workspace, found = task.workspace, dict[bool, str]()
        said, revision = f"{layer.name}, frozen"[:80], task.revision
        for looped in (True, False):
            graph = build(stack, clock_of(stack, looped=looped, rate_hz=rate_hz), workspace.load)
            (audio,) = workspace.engine.run([graph.shaped[layer.id]], task.token)
            kept = audio if looped else np.ascontiguousarray(audio[:, : max(1, sounding_until(audio, RUNG_OUT_DB))])
            origin = Origin(name=said, kind="frozen", stack=task.stack_id, revision=revision)
            found[looped] = workspace.assets.add(bounced_file(kept, rate_hz), "frozen.wav", origin).sha256
        builder = Builder(stack, clock_of(stack, looped=True, rate_hz=rate_hz), workspace.load)
        return FrozenSound(rate_hz=rate_hz, of=print_of(builder, layer), loop=found[True], one_pass=found[False])
