"""Every step that a path can have, told from its declarations: what it is for, its values, their units and ranges."""

from __future__ import annotations

from collections.abc import Iterator

from pydantic import BaseModel

from apilado.core.document.path import BUS_STEPS
from apilado.core.parameters import Parameter, parameters_of, part_lists_of
from apilado.core.parts import Part

HEAD = """# Steps of a path

Made by `apilado steps`; a test keeps it so. *Moves* marks values that a movement may move.
"""


def steps_told() -> str:
    """All steps in Markdown, family by family, in the order in which they are offered."""
    families: dict[str, list[type[Part]]] = {}
    for model in BUS_STEPS:
        families.setdefault(str(getattr(model, "family", "")), []).append(model)
    lines = [HEAD]
    for family, models in families.items():
        lines.append(f"## {family}\n")
        for model in models:
            lines += _told(model)
    return "\n".join(lines)


def _told(model: type[BaseModel]) -> Iterator[str]:
    kind = model.model_fields["kind"].default
    yield f"### {getattr(model, 'label', kind)}, `{kind}`\n"
    yield f"{getattr(model, 'explains', '')}.\n"
    yield "| value | range | begins at | |"
    yield "|---|---|---|---|"
    yield from _rows(model, "")
    yield ""


def _rows(model: type[BaseModel], within: str) -> Iterator[str]:
    """A row for each value; those of what is listed in it once, behind what it is called."""
    for parameter in parameters_of(model):
        if parameter.name != "on":
            about = ". ".join(each for each in (parameter.help, "Moves" if parameter.moves else "") if each)
            yield f"| {within}{parameter.label} | {_range(parameter)} | {_begins(parameter)} | {about} |"
    for listed in part_lists_of(model):
        if len(listed.kinds) == 1:
            yield from _rows(listed.kinds[0], f"{within}{listed.noun}: ")
        else:
            most = f"up to {listed.most}"
            yield f"| {within}{listed.noun}s | {most} | none | {', '.join(_kinds(listed.kinds))} |"


def _kinds(models: tuple[type[BaseModel], ...]) -> Iterator[str]:
    for model in models:
        yield f"`{model.model_fields['kind'].default}`"


def _range(parameter: Parameter) -> str:
    if parameter.kind in ("number", "integer"):
        said = f"{parameter.shown(parameter.low)} to {parameter.shown(parameter.high)} {parameter.unit}".strip()
    elif parameter.kind == "choice":
        said = ", ".join(label for _, label in parameter.choices) + (f" {parameter.unit}" if parameter.unit else "")
    else:
        said = {"switch": "on, off", "reference": "a drum or a layer"}.get(parameter.kind, parameter.kind)
    return said.replace("-", "−") if parameter.kind in ("number", "integer") else said


def _begins(parameter: Parameter) -> str:
    if parameter.kind == "reference":
        return "its own sound"
    if parameter.kind == "switch":
        return "on" if parameter.default else "off"
    return (
        parameter.shown(parameter.default).replace("-", "−") if parameter.kind != "choice" else str(parameter.default)
    )
