"""Choices of a delivery that were kept by a name."""

from __future__ import annotations

import json
from typing import Any

from apilado.errors import InvalidEdit, NotFound
from apilado.store.database import Database

MOST_PRESETS, LONGEST_NAME = 40, 60


class Presets:
    """All presets of one database."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def listed(self) -> dict[str, dict[str, Any]]:
        """The options of each, by its name, in the order of their names."""
        with self._database.reading() as connection:
            rows = connection.execute("SELECT name, options FROM presets ORDER BY name COLLATE NOCASE").fetchall()
        return {row["name"]: json.loads(row["options"]) for row in rows}

    def keep(self, name: str, options: dict[str, Any]) -> str:
        """Keeps options by a name, in place of what had that name; the name as it is kept.

        Raises:
            InvalidEdit: no name, or there are as many as there can be.
        """
        name = name.strip()[:LONGEST_NAME]
        if not name:
            raise InvalidEdit("a preset needs a name")
        with self._database.transaction() as connection:
            others = connection.execute("SELECT count(*) FROM presets WHERE name <> ?", (name,)).fetchone()[0]
            if others >= MOST_PRESETS:
                raise InvalidEdit(f"not kept: there are at most {MOST_PRESETS} presets; remove one first")
            connection.execute(
                "INSERT OR REPLACE INTO presets (name, options) VALUES (?, ?)", (name, json.dumps(options))
            )
        return name

    def remove(self, name: str) -> None:
        """Removes a preset.

        Raises:
            NotFound: there is none of that name.
        """
        with self._database.transaction() as connection:
            if not connection.execute("DELETE FROM presets WHERE name = ?", (name,)).rowcount:
                raise NotFound(f"there is no preset '{name[:60]}'")
