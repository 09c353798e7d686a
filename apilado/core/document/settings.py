"""Settings of a source: what they keep, put into it; and the edits that keep and take them."""

from __future__ import annotations

from typing import Any, Literal, TypeVar

from pydantic import Field

from apilado.core.document.addresses import find, get, joined, parted, replaced
from apilado.core.document.declarations import parameter_at
from apilado.core.document.editing import Data, Edit
from apilado.core.document.naming import place_name
from apilado.core.document.stack import Stack
from apilado.core.parts import new_id
from apilado.core.sources.base import Source
from apilado.core.sources.settings import MOST_SETTINGS, Setting, kept_values
from apilado.errors import InvalidEdit

S = TypeVar("S", bound=Source)


def unset(source: S) -> S:
    """A source without its settings: one version of it."""
    if not source.versions()[0]:
        return source
    return source.model_copy(update={"settings": (), "at_setting": 0.0})


def set_to(source: S, setting: Setting) -> S:
    """A source with what a setting keeps in the places that are still there."""
    for each in setting.values:
        parameter = parameter_at(source, each.place)
        if parameter is not None and find(source, parted(each.place)[0]) is not None:
            value = parameter.parsed(list(each.value) if isinstance(each.value, tuple) else each.value)
            source = replaced(source, each.place, tuple(value) if isinstance(value, list) else value)
    return source


class KeepSetting(Edit):
    """Keeps the waves of the source at `path` as they are, as one more setting of it."""

    op: Literal["keep-setting"] = "keep-setting"
    path: str = Field(pattern=r"^layers/[a-z0-9-]+/source$")
    id: str = Field(default_factory=new_id, max_length=40)

    def meant(self, stack: Stack) -> Edit:
        source = get(stack, self.path)
        settings, _ = source.versions()
        if not source.waves():
            raise InvalidEdit(f"{place_name(stack, self.path)} has no waves whose setting could be kept")
        if len(settings) >= MOST_SETTINGS:
            raise InvalidEdit(f"a tone has {MOST_SETTINGS} settings at most, besides what it is set to")
        name = f"setting {len(settings) + 1}"
        kept = Setting(id=self.id, name=name, values=kept_values(source.tones)).model_dump(mode="json")
        return _Put(path=self.path, kept=kept)

    def title(self, before: Stack, after: Stack) -> str:
        return f"Keep a setting of {place_name(after, self.path)}"


class TakeSetting(Edit):
    """Sets the waves of a source to what the setting at `path` keeps; the setting stays."""

    op: Literal["take-setting"] = "take-setting"
    path: str = Field(pattern=r"^layers/[a-z0-9-]+/source/settings/[a-z0-9-]+$")

    def meant(self, stack: Stack) -> Edit:
        setting, holder = get(stack, self.path), parted(parted(self.path)[0])[0]
        return _Put(path=holder, tones=set_to(get(stack, holder), setting).model_dump(mode="json")["tones"])

    def title(self, before: Stack, after: Stack) -> str:
        return f"Set to {place_name(before, self.path)}"


class _Put(Edit):
    """What those two come to."""

    op: Literal["put-setting"] = "put-setting"
    path: str
    kept: Data | None = None
    tones: list[Any] | None = None

    def alter(self, data: Data) -> None:
        source = get(data, self.path)
        if self.kept is not None:
            source["settings"] = [*source["settings"], self.kept]
        if self.tones is not None:
            source["tones"] = self.tones

    def title(self, before: Stack, after: Stack) -> str:
        return f"Settings of {place_name(after, joined(self.path))}"
