"""Jobs: what takes its time, from when it is begun. Done or not at all; what the program did not live to finish is
told, and can be begun again."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Any, Literal

from apilado.core.document.reading import stack_to_compact_json
from apilado.core.document.stack import Stack
from apilado.errors import NotFound
from apilado.store.database import Database
from apilado.store.packing import packed, unpacked
from apilado.store.sounds import LARGEST_ID, LATELY
from apilado.store.stacks import read_document

State = Literal["running", "done", "failed", "stopped", "broken off"]


@dataclass(frozen=True)
class KeptJob:
    """A job as it is kept."""

    id: int
    kind: str
    stack_id: int
    revision: int
    title: str
    wanted: dict[str, Any]
    """What was asked for, as the kind of the job reads it."""
    state: State
    said: str
    """How it ended, in a sentence."""
    made: dict[str, Any]
    """What it made, as the kind of the job tells it."""
    at: str
    ended_at: str | None


class KeptJobs:
    """All jobs in one database. Every change is one transaction."""

    def __init__(self, database: Database) -> None:
        """Those that ran when the program ended are broken off."""
        self._database = database
        with database.transaction() as connection:
            connection.execute(
                f"UPDATE jobs SET state = 'broken off', ended_at = {LATELY}, "
                "said = 'The program ended before this was done.' WHERE state = 'running'"
            )

    def begin(self, kind: str, stack_id: int, revision: int, stack: Stack, title: str, wanted: dict[str, Any]) -> int:
        """Keeps a job that begins, with the document that it works on; its number."""
        with self._database.transaction() as connection:
            return (
                connection.execute(
                    "INSERT INTO jobs (kind, stack, revision, title, wanted, document) VALUES (?, ?, ?, ?, ?, ?)",
                    (kind, stack_id, revision, title, json.dumps(wanted), packed(stack_to_compact_json(stack))),
                ).lastrowid
                or 0
            )

    def end(self, number: int, state: State, said: str, made: dict[str, Any] | None = None) -> None:
        """Keeps how a job ended."""
        with self._database.transaction() as connection:
            connection.execute(
                f"UPDATE jobs SET state = ?, said = ?, made = ?, ended_at = {LATELY} WHERE id = ?",
                (state, said, json.dumps(made or {}), number),
            )

    def get(self, number: int) -> KeptJob:
        """A job by its number.

        Raises:
            NotFound: there is none, or it was removed from the list.
        """
        with self._database.reading() as connection:
            return _kept(_row(connection, number))

    def stack(self, number: int) -> Stack:
        """The document that a job works on.

        Raises:
            NotFound: there is no such job.
        """
        with self._database.reading() as connection:
            return read_document(unpacked(_row(connection, number)["document"]))

    def listed(self, *, stack_id: int | None = None, kinds: tuple[str, ...] = ()) -> tuple[KeptJob, ...]:
        """Jobs, the last first; of one stack, and of some kinds, if asked."""
        with self._database.reading() as connection:
            rows = connection.execute(
                "SELECT * FROM jobs WHERE NOT dismissed AND (? IS NULL OR stack = ?) ORDER BY id DESC",
                (stack_id, stack_id),
            ).fetchall()
        found = (_kept(row) for row in rows)
        return tuple(job for job in found if not kinds or job.kind in kinds)

    def dismiss(self, number: int) -> KeptJob:
        """Takes a job off the list.

        Raises:
            NotFound: there is no such job.
        """
        with self._database.transaction() as connection:
            found = _kept(_row(connection, number))
            connection.execute("UPDATE jobs SET dismissed = 1 WHERE id = ?", (number,))
            return found


def _row(connection: sqlite3.Connection, number: int) -> sqlite3.Row:
    row: sqlite3.Row | None = None
    if 0 < number < LARGEST_ID:
        row = connection.execute("SELECT * FROM jobs WHERE id = ? AND NOT dismissed", (number,)).fetchone()
    if row is None:
        raise NotFound(f"there is no job {number}; it may have been removed from the list")
    return row


def _kept(row: sqlite3.Row) -> KeptJob:
    return KeptJob(
        row["id"],
        row["kind"],
        row["stack"],
        row["revision"],
        row["title"],
        json.loads(row["wanted"]),
        row["state"],
        row["said"],
        json.loads(row["made"]),
        row["at"],
        row["ended_at"],
    )
