"""Every setting: its name, default and help, in one table. The command line builds its options from it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass(frozen=True)
class Setting:
    """One setting."""

    name: str
    default: Any
    help: str


SETTINGS: tuple[Setting, ...] = (
    Setting("host", "127.0.0.1", "address to listen on; beyond loopback the address that is printed holds a key"),
    Setting("allow_host", "", "names under which a bench beyond loopback may be asked for, with commas between them"),
    Setting("port", 8765, "port to listen on"),
    Setting("data", Path("data"), "folder of the database, the assets and the deliveries"),
    Setting("history_days", 90, "steps of undo older than this are thinned while nobody works; 0 keeps all"),
    Setting("cache_mib", 512, "memory for rendered stages, in MiB"),
)


def default(name: str) -> Any:
    """The default of a setting."""
    return next(setting.default for setting in SETTINGS if setting.name == name)
