"""Templates, and what they may call."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from fastapi import Request
from jinja2 import Environment, FileSystemLoader, StrictUndefined
from markupsafe import Markup

from apilado import __version__
from apilado.core.document.editing import Edit
from apilado.core.document.edits import apply
from apilado.core.document.stack import Stack
from apilado.core.parameters import Parameter
from apilado.core.sketch import Sketch
from apilado.core.units import midi_to_name
from apilado.errors import InvalidEdit
from apilado.web.drawings.svg import points, tag

ENVIRONMENT = Environment(
    loader=FileSystemLoader(Path(__file__).parent / "templates"),
    autoescape=True,
    undefined=StrictUndefined,
    trim_blocks=True,
    lstrip_blocks=True,
)


SKETCH_WIDTH, SKETCH_HEIGHT = 34.0, 16.0
PLAIN = Parameter("", "number", "", None)


def formatted(value: Any, parameter: Parameter | None = None) -> str:
    """A value as it is written in a field: of a number as many digits as its step has, no idle zeros."""
    return (parameter or PLAIN).shown(value)


def measured(value: float) -> str:
    """A measured number in a sentence's company: one decimal, a true minus."""
    return f"{value:.1f}".replace("-", "−")


def does(edit: Edit, stack: Stack) -> str:
    """What an edit that is offered would do, in words; nothing where it does not fit."""
    try:
        return edit.title(stack, apply(stack, edit))
    except InvalidEdit:
        return ""


def sketch_points(sketch: Sketch) -> str:
    """The line of a drawing the size of a word, in its pixels."""
    heights = sketch.heights
    across, tall = (SKETCH_WIDTH - 2.0) / max(1, len(heights) - 1), SKETCH_HEIGHT - 2.0
    return points((1.0 + place * across, 1.0 + (1.0 - float(v)) * tall) for place, v in enumerate(heights))


def drawn(sketch: Sketch, address: str) -> str:
    """A drawing the size of a word, of the line of an address."""
    line = tag("polyline", points=sketch_points(sketch))
    size = {"width": SKETCH_WIDTH, "height": SKETCH_HEIGHT}
    return tag("svg", line, class_="sketch", role="img", aria_label=sketch.what, data_sketch=address, **size)


ENVIRONMENT.globals.update(
    version=__version__, drawn=drawn, formatted=formatted, measured=measured, note_name=midi_to_name, does=does
)
ENVIRONMENT.filters["svg"] = Markup
ENVIRONMENT.filters["log10"] = math.log10


def page(request: Request, template: str, **values: Any) -> str:
    """A rendered template."""
    return ENVIRONMENT.get_template(template).render(request=request, **values)
