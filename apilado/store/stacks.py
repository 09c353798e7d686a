"""Stacks and their revisions."""

from __future__ import annotations

import json
import sqlite3
from collections import OrderedDict
from dataclasses import dataclass
from threading import Lock

from apilado.core.document.reading import stack_from_json, stack_to_compact_json
from apilado.core.document.stack import Stack
from apilado.errors import InvalidDocument, NotFound
from apilado.store import documents, sounds
from apilado.store.database import Database

PARSED_KEPT = 16
LARGEST_ID = 2**63


@dataclass(frozen=True)
class Revision:
    """A stack's document as it is now, and where it stands in its history."""

    stack_id: int
    id: int
    stack: Stack
    undo_title: str | None
    """What undo would take back; None at the beginning."""
    redo_title: str | None
    """What redo would bring; None at the end."""


@dataclass(frozen=True)
class Stepped:
    """Where undo or redo has led, and what it took back or brought again: its title, and the page that had done it."""

    revision: Revision
    title: str | None
    """None where there was nothing to do."""
    client: str | None


@dataclass(frozen=True)
class Step:
    """One step of a history: a document, and what made it."""

    stack: Stack
    title: str
    gesture: str | None = None
    client: str | None = None


@dataclass(frozen=True)
class Listed:
    """A stack on the shelf."""

    id: int
    revision: int
    stack: Stack
    changed_at: str


@dataclass(frozen=True)
class Unreadable:
    """A stack on the shelf whose document cannot be read, and why."""

    id: int
    name: str
    fault: str
    changed_at: str


class Stacks:
    """All stacks in one database. Every change is one transaction."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def create(self, stack: Stack, title: str = "New stack") -> Revision:
        """A new stack with this document."""
        with self._database.transaction() as connection:
            stack_id = connection.execute("INSERT INTO stacks DEFAULT VALUES").lastrowid or 0
            self._append(connection, stack_id, None, Step(stack, title))
            return self._head(connection, stack_id)

    def head(self, stack_id: int) -> Revision:
        """The stack as it is now.

        Raises:
            NotFound: there is no such stack.
        """
        with self._database.reading() as connection:
            return self._head(connection, stack_id)

    def head_id(self, stack_id: int) -> int:
        """The number of the revision a stack is at; cheap."""
        with self._database.reading() as connection:
            return self._head_id(connection, stack_id)

    def raw(self, stack_id: int) -> str:
        """The document of a stack as it is kept, readable or not."""
        with self._database.reading() as connection:
            return self._document(connection, self._head_id(connection, stack_id))

    def name(self, stack_id: int) -> str:
        """How a stack is called, readable or not."""
        try:
            found = _name_in(self.raw(stack_id))
        except InvalidDocument:
            found = ""
        return found or f"Stack {stack_id}"

    def at(self, stack_id: int, revision: int) -> Stack | None:
        """The document of a revision of a stack; None where that has gone.

        Raises:
            NotFound: there is no such stack.
        """
        with self._database.reading() as connection:
            self._head_id(connection, stack_id)
            query = f"SELECT {documents.FIELDS} FROM revisions WHERE id = ? AND stack = ?"
            row = connection.execute(query, (revision, stack_id)).fetchone()
        return None if row is None else read_document(documents.read(row))

    def append(self, stack_id: int, expected_head: int, *steps: Step, instead_of: int = 0) -> Revision | None:
        """New revisions on top of `expected_head`; None, and nothing changed, if the head is another by now.

        Args:
            instead_of: how many of the last revisions these replace, as `under_way` gave them.
        """
        with self._database.transaction() as connection:
            if self._head_id(connection, stack_id) != expected_head:
                return None
            parent: int | None = expected_head
            replaced = []
            for _ in range(instead_of):
                replaced.append(parent)
                parent = connection.execute("SELECT parent FROM revisions WHERE id = ?", (parent,)).fetchone()["parent"]
            for step in steps:
                parent = self._append(connection, stack_id, parent, step)
            for gone in replaced:
                connection.execute("DELETE FROM revisions WHERE id = ?", (gone,))
            return self._head(connection, stack_id)

    def under_way(self, head: Revision, gesture: str, most: int) -> list[Step]:
        """The last steps, from that of a gesture (a drag that goes on) to the head; none if it is not among the last
        `most`, or if something hangs on one of them that was taken back: that has to stay.
        """
        rows: list[sqlite3.Row] = []
        at, above = head.id, None
        with self._database.reading() as connection:
            while at is not None and len(rows) < most and not (rows and rows[0]["gesture"] == gesture):
                row = connection.execute(
                    "SELECT id, parent, title, gesture, client, "
                    "(SELECT count(*) FROM revisions AS later WHERE later.parent = here.id AND later.id IS NOT ?) "
                    "AS hanging FROM revisions AS here WHERE id = ?",
                    (above, at),
                ).fetchone()
                if row is None or row["hanging"]:
                    return []
                rows.insert(0, row)
                at, above = row["parent"], at
            if rows[0]["gesture"] != gesture:
                return []
            return [
                Step(
                    head.stack if row["id"] == head.id else self._stack(connection, row["id"]),
                    row["title"],
                    row["gesture"],
                    row["client"],
                )
                for row in rows
            ]

    def undo(self, stack_id: int) -> Stepped:
        """Back to the document before the last change; where there is none, nothing changes."""
        with self._database.transaction() as connection:
            head = self._head_id(connection, stack_id)
            taken = connection.execute("SELECT parent, title, client FROM revisions WHERE id = ?", (head,)).fetchone()
            if taken["parent"] is None:
                return Stepped(self._head(connection, stack_id), None, None)
            connection.execute("UPDATE stacks SET head = ? WHERE id = ?", (taken["parent"], stack_id))
            return Stepped(self._head(connection, stack_id), taken["title"], taken["client"])

    def redo(self, stack_id: int) -> Stepped:
        """Forward again to what was undone last; where there is nothing, nothing changes."""
        with self._database.transaction() as connection:
            head = self._head_id(connection, stack_id)
            child = connection.execute(
                "SELECT id, title, client FROM revisions WHERE parent = ? ORDER BY id DESC LIMIT 1", (head,)
            ).fetchone()
            if child is None:
                return Stepped(self._head(connection, stack_id), None, None)
            connection.execute("UPDATE stacks SET head = ? WHERE id = ?", (child["id"], stack_id))
            return Stepped(self._head(connection, stack_id), child["title"], child["client"])

    def delete(self, stack_id: int) -> None:
        """Takes a stack off the shelf; `restore` brings it back."""
        self._mark(stack_id, "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')", deleted=False)

    def restore(self, stack_id: int) -> None:
        """Puts a deleted stack back."""
        self._mark(stack_id, "NULL", deleted=True)

    def listed(self) -> list[Listed]:
        """The stacks on the shelf that can be read, the last changed first."""
        return [item for item in self.shelved() if isinstance(item, Listed)]

    def shelved(self) -> list[Listed | Unreadable]:
        """All stacks on the shelf, the last changed first; one that cannot be read hides none of the others."""
        with self._database.reading() as connection:
            rows = connection.execute(
                f"SELECT stacks.id, revisions.id AS revision, {documents.FIELDS}, at FROM stacks "
                "JOIN revisions ON revisions.id = head WHERE deleted_at IS NULL ORDER BY at DESC, stacks.id"
            ).fetchall()
        return [_shelved(row) for row in rows]

    def check(self, revision: int, engine: str) -> tuple[int, int, str] | None:
        """(faults, looks, widths as JSON) that this engine found in a revision, or None."""
        with self._database.reading() as connection:
            row = connection.execute(
                "SELECT faults, looks, widths FROM checks WHERE revision = ? AND engine = ?", (revision, engine)
            ).fetchone()
        return (row["faults"], row["looks"], row["widths"]) if row else None

    def keep_check(self, revision: int, engine: str, faults: int, looks: int, widths: str) -> None:
        """Keeps what was found in a revision; one that has gone meanwhile is passed over."""
        with self._database.transaction() as connection:
            connection.execute(
                "INSERT OR REPLACE INTO checks (revision, engine, faults, looks, widths) "
                "SELECT id, ?, ?, ?, ? FROM revisions WHERE id = ?",
                (engine, faults, looks, widths, revision),
            )

    def _mark(self, stack_id: int, at: str, *, deleted: bool) -> None:
        _check_id(stack_id)
        state = "NOT NULL" if deleted else "NULL"
        with self._database.transaction() as connection:
            query = f"UPDATE stacks SET deleted_at = {at} WHERE id = ? AND deleted_at IS {state}"
            if connection.execute(query, (stack_id,)).rowcount == 0:
                raise NotFound(f"there is no stack {stack_id}")

    @staticmethod
    def _append(connection: sqlite3.Connection, stack_id: int, parent: int | None, step: Step) -> int:
        document = stack_to_compact_json(step.stack)
        kept = documents.written(connection, document, parent)
        READINGS.keep(document, step.stack)
        revision = connection.execute(
            "INSERT INTO revisions (stack, parent, title, gesture, client, document, base) "
            "VALUES (?, ?, ?, ?, ?, ?, ?)",
            (stack_id, parent, step.title, step.gesture, step.client, kept.document, kept.base),
        ).lastrowid
        sounds.used(connection, "revision", revision or 0, step.stack)
        connection.execute("UPDATE stacks SET head = ? WHERE id = ?", (revision, stack_id))
        return revision or 0

    @staticmethod
    def _head_id(connection: sqlite3.Connection, stack_id: int) -> int:
        _check_id(stack_id)
        row = connection.execute("SELECT head FROM stacks WHERE id = ? AND deleted_at IS NULL", (stack_id,)).fetchone()
        if row is None:
            raise NotFound(f"there is no stack {stack_id}")
        return int(row["head"])

    @staticmethod
    def _stack(connection: sqlite3.Connection, revision: int) -> Stack:
        return read_document(Stacks._document(connection, revision))

    @staticmethod
    def _document(connection: sqlite3.Connection, revision: int) -> str:
        query = f"SELECT {documents.FIELDS} FROM revisions WHERE id = ?"
        return documents.read(connection.execute(query, (revision,)).fetchone())

    def _head(self, connection: sqlite3.Connection, stack_id: int) -> Revision:
        head = self._head_id(connection, stack_id)
        row = connection.execute("SELECT parent, title FROM revisions WHERE id = ?", (head,)).fetchone()
        child = connection.execute(
            "SELECT title FROM revisions WHERE parent = ? ORDER BY id DESC LIMIT 1", (head,)
        ).fetchone()
        return Revision(
            stack_id=stack_id,
            id=head,
            stack=self._stack(connection, head),
            undo_title=None if row["parent"] is None else row["title"],
            redo_title=None if child is None else child["title"],
        )


class Readings:
    """The stacks in the documents that were read or written last: they are not read again."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._known: OrderedDict[str, Stack] = OrderedDict()
        self._lock = Lock()

    def of(self, document: str) -> Stack:
        """The stack in a document."""
        with self._lock:
            known = self._known.get(document)
        stack = stack_from_json(document) if known is None else known
        self.keep(document, stack)
        return stack

    def keep(self, document: str, stack: Stack) -> None:
        """A stack is what a document holds."""
        with self._lock:
            self._known[document] = stack
            self._known.move_to_end(document)
            while len(self._known) > self._most:
                self._known.popitem(last=False)


READINGS = Readings(PARSED_KEPT)


def read_document(document: str) -> Stack:
    """The stack in a document."""
    return READINGS.of(document)


def _check_id(stack_id: int) -> None:
    if not 0 < stack_id < LARGEST_ID:
        raise NotFound(f"there is no stack {stack_id}")


def _shelved(row: sqlite3.Row) -> Listed | Unreadable:
    document = ""
    try:
        document = documents.read(row)
        return Listed(row["id"], row["revision"], stack_from_json(document), row["at"])
    except InvalidDocument as error:
        return Unreadable(row["id"], _name_in(document) or f"Stack {row['id']}", str(error), row["at"])


def _name_in(document: str) -> str:
    """The name that a document gives itself, if it can be made out."""
    try:
        data = json.loads(document)
    except ValueError:
        return ""
    return str(data.get("name", ""))[:80] if isinstance(data, dict) else ""
