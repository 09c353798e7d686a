"""Every kind of job. A new one is a file beside this one and a line here."""

from __future__ import annotations

from types import MappingProxyType

from apilado.actions.bouncing import Bounce, Crush
from apilado.actions.delivery import Deliver
from apilado.actions.freeze_job import Freeze
from apilado.actions.jobs import Wanted
from apilado.actions.multisampling import Multisample

KINDS: tuple[type[Wanted], ...] = (Bounce, Crush, Freeze, Deliver, Multisample)
JOB_KINDS = MappingProxyType({kind.kind: kind for kind in KINDS})
