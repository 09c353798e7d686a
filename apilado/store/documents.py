"""The documents of revisions as rows: packed against a base that those of one stack share while they stay alike."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from apilado.store.packing import is_worth_it, packed, unpacked

FIELDS = "revisions.document AS document, (SELECT document FROM bases WHERE id = revisions.base) AS base_document"
"""What a query asks for of a revision to read its document."""


@dataclass(frozen=True)
class Row:
    """A document as it is kept."""

    document: bytes
    base: int


def written(connection: sqlite3.Connection, document: str, near: int | None) -> Row:
    """Packs a document against the base of a revision that is like it; against itself where it no longer is.

    Args:
        near: the revision that it came from.
    """
    row = connection.execute(
        "SELECT bases.id, bases.document FROM revisions JOIN bases ON bases.id = base WHERE revisions.id = ?", (near,)
    ).fetchone()
    if row is not None:
        against_another = packed(document, unpacked(row["document"]))
        # What the base takes alone is what this would: so it need not be packed twice.
        if is_worth_it(len(against_another), len(row["document"])):
            return Row(against_another, int(row["id"]))
    alone = packed(document)
    base = connection.execute("INSERT INTO bases (document) VALUES (?)", (alone,)).lastrowid or 0
    return Row(packed(document, document), base)


def read(row: sqlite3.Row) -> str:
    """The document of a revision, asked for by FIELDS.

    Raises:
        InvalidDocument: it is damaged.
    """
    base = row["base_document"]
    return unpacked(row["document"], "" if base is None else unpacked(base))


def drop_idle_bases(connection: sqlite3.Connection) -> int:
    """Lets go of the bases that no revision is packed against any more; how many."""
    return connection.execute(
        "DELETE FROM bases WHERE id NOT IN (SELECT base FROM revisions WHERE base NOT NULL)"
    ).rowcount


def pack_plain(connection: sqlite3.Connection, most: int) -> int:
    """Packs revisions that are kept as they are, the oldest first; how many."""
    rows = connection.execute(
        "SELECT id, parent, document FROM revisions WHERE base IS NULL ORDER BY id LIMIT ?", (most,)
    ).fetchall()
    for row in rows:
        kept = written(connection, unpacked(row["document"]), row["parent"])
        connection.execute(
            "UPDATE revisions SET document = ?, base = ? WHERE id = ?", (kept.document, kept.base, row["id"])
        )
    return len(rows)
