"""Every source there is. A new one is a file beside this one and a line here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from apilado.core.parameters import tagged_union
from apilado.core.sources.base import Source
from apilado.core.sources.layer_sound import LayerSound
from apilado.core.sources.sample import SampleSource
from apilado.core.sources.take import TakeSource
from apilado.core.sources.tone import ToneSource

SOURCES: tuple[type[Source], ...] = (ToneSource, SampleSource, TakeSource, LayerSound)

if TYPE_CHECKING:
    AnySource = Source
else:
    AnySource = tagged_union(SOURCES)
