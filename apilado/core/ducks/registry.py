"""Every kind of duck there is. A new one is a file beside this one and a line here."""

from __future__ import annotations

from typing import TYPE_CHECKING

from apilado.core.ducks.base import DuckShape
from apilado.core.ducks.drawn import DrawnDuck
from apilado.core.ducks.keyed import KeyedDuck
from apilado.core.parameters import tagged_union

DUCK_SHAPES: tuple[type[DuckShape], ...] = (KeyedDuck, DrawnDuck)

if TYPE_CHECKING:
    AnyDuckShape = DuckShape
else:
    AnyDuckShape = tagged_union(DUCK_SHAPES)
