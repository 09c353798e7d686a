"""Parts of stacks that were kept."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from pydantic import ValidationError

from apilado.core.document.kept_part import KeptPart
from apilado.errors import InvalidDocument, NotFound
from apilado.store.database import Database
from apilado.store.sounds import LARGEST_ID, LATELY

MOST_LISTED = 200


@dataclass(frozen=True)
class Listed:
    """A kept part."""

    id: int
    part: KeptPart
    at: str


class Parts:
    """All kept parts of one database. Every change is one transaction; what is removed can be put back."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def keep(self, part: KeptPart) -> Listed:
        """Keeps a part, and notes which sounds it needs."""
        with self._database.transaction() as connection:
            number = connection.execute(
                "INSERT INTO parts (kind, name, part) VALUES (?, ?, ?)", (part.kind, part.name, part.model_dump_json())
            ).lastrowid
            for asset in part.asset_hashes():
                query = "INSERT OR IGNORE INTO part_sounds (part, sound) SELECT ?, id FROM sounds WHERE asset = ?"
                connection.execute(query, (number, asset))
            return _listed(_row(connection, number or 0))

    def found(self, words: str = "") -> tuple[Listed, ...]:
        """The parts whose kind, name or stack holds all of the words, the last that was kept first."""
        with self._database.reading() as connection:
            rows = connection.execute("SELECT * FROM parts WHERE removed_at IS NULL ORDER BY id DESC").fetchall()
        wanted = words.lower().split()
        listed = (_listed(row) for row in rows)
        return tuple(each for each in listed if all(word in _said(each) for word in wanted))[:MOST_LISTED]

    def get(self, number: int) -> Listed:
        """A part.

        Raises:
            NotFound: there is none.
            InvalidDocument: it is damaged.
        """
        with self._database.reading() as connection:
            return _listed(_row(connection, number))

    def rename(self, number: int, name: str) -> Listed:
        """Gives a part another name.

        Raises:
            NotFound: there is none.
            InvalidDocument: the name is not one.
        """
        part = self.get(number).part
        try:
            part = KeptPart.model_validate({**part.model_dump(), "name": name.strip()[:60]})
        except ValidationError:
            raise InvalidDocument("a part needs a name") from None
        with self._database.transaction() as connection:
            _row(connection, number)
            given = (part.name, part.model_dump_json(), number)
            connection.execute("UPDATE parts SET name = ?, part = ? WHERE id = ?", given)
            return _listed(_row(connection, number))

    def remove(self, number: int) -> Listed:
        """Takes a part out of the list.

        Raises:
            NotFound: there is none.
        """
        return self._marked(number, LATELY)

    def put_back(self, number: int) -> Listed:
        """Puts a part back into the list.

        Raises:
            NotFound: there is none.
        """
        return self._marked(number, "NULL")

    def _marked(self, number: int, at: str) -> Listed:
        with self._database.transaction() as connection:
            _row(connection, number)
            connection.execute(f"UPDATE parts SET removed_at = {at} WHERE id = ?", (number,))
            return _listed(_row(connection, number))


def _said(listed: Listed) -> str:
    part = listed.part
    return f"{part.kind} {part.name} {part.origin.stack} {part.origin.owner}".lower()


def _row(connection: sqlite3.Connection, number: int) -> sqlite3.Row:
    row: sqlite3.Row | None = None
    if 0 < number < LARGEST_ID:
        row = connection.execute("SELECT * FROM parts WHERE id = ?", (number,)).fetchone()
    if row is None:
        raise NotFound(f"there is no kept part {number}")
    return row


def _listed(row: sqlite3.Row) -> Listed:
    try:
        return Listed(row["id"], KeptPart.model_validate_json(row["part"]), row["at"])
    except ValidationError as error:
        raise InvalidDocument(f"the kept part '{row['name']}' cannot be read: {error.errors()[0]['msg']}") from None
