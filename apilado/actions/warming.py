"""Use case: compiling every kernel ahead of the first sound."""

from __future__ import annotations

import importlib

from apilado.actions.delivery import rendered_files
from apilado.actions.delivery_plan import DeliveryOptions
from apilado.actions.stacks import bundle_of
from apilado.actions.workspace import Workspace
from apilado.core.document.ducker import Ducker
from apilado.core.document.equaliser import POINTS
from apilado.core.document.layer import Layer
from apilado.core.document.path import Equaliser, Points, layer_path
from apilado.core.document.stack import SharedBus, Space, Stack
from apilado.core.shapes.registry import DUCK_SHAPES
from apilado.core.sources.tone import ToneSource
from apilado.core.sources.wave import Modulation, Tone
from apilado.core.treatments.registry import TREATMENTS

LATER = ("scipy.fft", "scipy.interpolate", "scipy.ndimage", "scipy.signal")
"""What the first sound needs and no page: it takes most of a second to load."""


def load_later() -> None:
    """Loads it, so that the first sound need not wait for it."""
    for name in LATER:
        importlib.import_module(name)


def everything_on(stack: Stack) -> Stack:
    """The stack with one of every treatment, EQ point and duck in use, its kick shaped, and its buses on."""
    treatments = tuple(model() for model in TREATMENTS)
    points = tuple(model() for model in POINTS)
    first, *others = stack.layers
    pushing = Tone(id="push", shape="saw", into=(Modulation(wave="pushed"),))
    waves = (pushing, Tone(id="pushed", shape="sine", copies=2, feedback=0.5), Tone(id="noise", shape="noise"))
    first = first.model_copy(update={"path": layer_path(*treatments[::2], Equaliser(points=points))})
    waving = Layer(name="waves", source=ToneSource(tones=waves), path=layer_path(*treatments[1::2]))
    duckers = tuple(
        Ducker(id=f"duck-{index}", shape=model(), reach="below" if index else "all")
        for index, model in enumerate(DUCK_SHAPES)
    )
    kick = stack.kick.model_copy(
        update={"attack_db": 3.0, "sustain_db": 3.0, "clip_db": 3.0, "eq": Points(points=points[:3])}
    )
    shared, space = SharedBus(on=True, path=treatments[::2]), Space(path=treatments[1::2])
    buses = {"bus": stack.bus.model_copy(update={"send": 0.1}), "space": space, "shared": shared}
    full = {"layers": (first, *others, waving), "duckers": duckers, "kick": kick, **buses}
    return Stack.model_validate(stack.model_copy(update=full).model_dump())


def warm(workspace: Workspace) -> None:
    """Renders and measures every stack of a workspace, then one with everything on, in both ways of rendering."""
    bundles = [bundle_of(workspace, listed.stack) for listed in workspace.stacks.listed()]
    stacks = [bundle.stack for bundle in bundles]
    for stack in [*stacks, everything_on(stacks[0])]:
        for extent in ("loop", "one-pass"):
            options = DeliveryOptions(extent=extent)
            files = rendered_files(stack, workspace.load, workspace.engine, options, lambda *_: None)
            sum(len(content) for _, content in files)
