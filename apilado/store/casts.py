"""Casts: kept states of stacks."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from apilado.core.document.cast import MOST_CASTS, Cast
from apilado.core.document.reading import stack_to_compact_json
from apilado.core.document.stack import Stack
from apilado.errors import InvalidEdit, NotFound
from apilado.store import sounds
from apilado.store.database import Database
from apilado.store.stacks import LARGEST_ID, read_document

LATELY = "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')"


@dataclass(frozen=True)
class KeptCast:
    """A cast as it is listed."""

    id: int
    name: str
    judgement: str
    revision: int
    """The revision it was kept at."""
    at: str


class Casts:
    """All casts in one database. Every change is one transaction; what is removed can be put back."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def keep(self, stack_id: int, revision: int, *casts: Cast) -> list[KeptCast]:
        """Keeps states of a stack.

        Raises:
            InvalidEdit: it has as many as it can have.
        """
        with self._database.transaction() as connection:
            there = len(_rows(connection, stack_id))
            if there + len(casts) > MOST_CASTS:
                raise InvalidEdit(f"not kept: a stack has at most {MOST_CASTS} casts; remove one first")
            for cast in casts:
                added = connection.execute(
                    "INSERT INTO casts (stack, name, judgement, document, revision) VALUES (?, ?, ?, ?, ?)",
                    (stack_id, cast.name, cast.judgement, stack_to_compact_json(cast.stack), revision),
                ).lastrowid
                sounds.used(connection, "cast_id", added or 0, cast.stack)
            return [_kept(row) for row in _rows(connection, stack_id)[there:]]

    def listed(self, stack_id: int) -> list[KeptCast]:
        """The casts of a stack, the first that was kept first."""
        with self._database.reading() as connection:
            return [_kept(row) for row in _rows(connection, stack_id)]

    def stack(self, stack_id: int, cast_id: int) -> Stack:
        """The stack of a cast.

        Raises:
            NotFound: this stack has no such cast.
        """
        with self._database.reading() as connection:
            return read_document(_row(connection, stack_id, cast_id)["document"])

    def all_of(self, stack_id: int) -> tuple[Cast, ...]:
        """The casts of a stack with their documents."""
        with self._database.reading() as connection:
            rows = _rows(connection, stack_id)
        return tuple(
            Cast(name=row["name"], judgement=row["judgement"], stack=read_document(row["document"])) for row in rows
        )

    def change(self, stack_id: int, cast_id: int, *, name: str | None = None, judgement: str | None = None) -> KeptCast:
        """Another name, or another line of judgement.

        Raises:
            NotFound: this stack has no such cast.
        """
        with self._database.transaction() as connection:
            _row(connection, stack_id, cast_id)
            for column, value in (("name", name), ("judgement", judgement)):
                if value is not None:
                    connection.execute(f"UPDATE casts SET {column} = ? WHERE id = ?", (value, cast_id))
            return _kept(_row(connection, stack_id, cast_id))

    def remove(self, stack_id: int, cast_id: int) -> KeptCast:
        """Takes a cast out of the list.

        Raises:
            NotFound: this stack has no such cast.
        """
        with self._database.transaction() as connection:
            found = _kept(_row(connection, stack_id, cast_id))
            connection.execute(f"UPDATE casts SET removed_at = {LATELY} WHERE id = ?", (cast_id,))
            return found

    def put_back(self, stack_id: int, cast_id: int) -> KeptCast:
        """Puts back a cast that was removed.

        Raises:
            NotFound: this stack has no such cast.
            InvalidEdit: it has as many as it can have.
        """
        with self._database.transaction() as connection:
            _row(connection, stack_id, cast_id, removed=True)
            if len(_rows(connection, stack_id)) >= MOST_CASTS:
                raise InvalidEdit(f"not put back: a stack has at most {MOST_CASTS} casts; remove one first")
            connection.execute("UPDATE casts SET removed_at = NULL WHERE id = ?", (cast_id,))
            return _kept(_row(connection, stack_id, cast_id))


def _rows(connection: sqlite3.Connection, stack_id: int) -> list[sqlite3.Row]:
    query = "SELECT * FROM casts WHERE stack = ? AND removed_at IS NULL ORDER BY id"
    return connection.execute(query, (stack_id,)).fetchall()


def _row(connection: sqlite3.Connection, stack_id: int, cast_id: int, *, removed: bool = False) -> sqlite3.Row:
    query = f"SELECT * FROM casts WHERE stack = ? AND id = ? AND removed_at IS {'NOT NULL' if removed else 'NULL'}"
    row: sqlite3.Row | None = None
    if 0 < cast_id < LARGEST_ID:
        row = connection.execute(query, (stack_id, cast_id)).fetchone()
    if row is None:
        raise NotFound(f"this stack has no cast {cast_id}{' that was removed' if removed else ''}")
    return row


def _kept(row: sqlite3.Row) -> KeptCast:
    return KeptCast(row["id"], row["name"], row["judgement"], row["revision"], row["at"])
