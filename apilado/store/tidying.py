"""Keeping the database small: old history is thinned, what nothing needs goes, free pages are given back."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass

from apilado.store import documents
from apilado.store.database import Database

PACKED_AT_ONCE = 200
FREE_BYTES, FREE_SHARE = 4 * 2**20, 0.2
"""Free pages are given back from so many bytes, and so much of the file, on."""
HOUR = 13
"""Characters of a time up to its hour."""
YESTERDAY = "strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-1 day')"
RULE = (
    "Steps of undo that are older than {days} days are thinned: of each hour its last one stays, and what was undone "
    "and left goes. Stacks that were removed from the Shelf longer ago go for good. The audio stays until unused "
    "audio is cleared in the Quarry."
)


@dataclass(frozen=True)
class Tidied:
    """What was done."""

    steps: int = 0
    """Of undo, that went."""
    stacks: int = 0
    packed: int = 0
    bases: int = 0
    freed_bytes: int = 0

    def in_words(self) -> str:
        """What was done, in a line."""
        said = [
            f"{count} {noun}{'' if count == 1 else 's'} {done}"
            for count, noun, done in (
                (self.steps, "step", "of undo thinned"),
                (self.stacks, "removed stack", "let go"),
                (self.packed, "document", "packed"),
            )
            if count
        ]
        said += [f"{self.freed_bytes / 2**20:.1f} MiB given back"] if self.freed_bytes else []
        return ", ".join(said) or "nothing to tidy"


def rule_in_words(days: int) -> str:
    """What is thinned, as it is told."""
    return RULE.format(days=days) if days else "Nothing of the history is thinned: every step of undo is kept."


def tidy(database: Database, days: int) -> Tidied:
    """Thins what is older than so many days, packs, and gives free pages back; 0 days: nothing is thinned.

    Each step is a transaction of its own: the program may end in between.
    """
    stacks = steps = packed = 0
    if days:
        with database.transaction() as connection:
            before = f"strftime('%Y-%m-%dT%H:%M:%fZ', 'now', '-{int(days)} days')"
            (limit,) = connection.execute(f"SELECT {before}").fetchone()
            stacks = _let_stacks_go(connection, limit)
            numbers = [row["id"] for row in connection.execute("SELECT id FROM stacks")]
        for number in numbers:
            with database.transaction() as connection:
                steps += _thin(connection, number, limit)
    while True:
        with database.transaction() as connection:
            count = documents.pack_plain(connection, PACKED_AT_ONCE)
        packed += count
        if count < PACKED_AT_ONCE:
            break
    with database.transaction() as connection:
        bases = documents.drop_idle_bases(connection)
        ended = "dismissed OR (state IN ('done', 'failed', 'stopped') AND kind NOT IN ('deliver', 'multisample'))"
        connection.execute(f"DELETE FROM jobs WHERE ({ended}) AND ended_at < {YESTERDAY}")
    return Tidied(steps, stacks, packed, bases, database.give_back(FREE_BYTES, FREE_SHARE))


def _let_stacks_go(connection: sqlite3.Connection, limit: str) -> int:
    """Deletes the stacks that were removed before a time, with all that is theirs."""
    gone = [row["id"] for row in connection.execute("SELECT id FROM stacks WHERE deleted_at < ?", (limit,))]
    for number in gone:
        connection.execute("UPDATE stacks SET head = NULL WHERE id = ?", (number,))
        rows = connection.execute("SELECT id FROM revisions WHERE stack = ? ORDER BY id DESC", (number,)).fetchall()
        # A revision is younger than the one that it came from: the youngest goes first.
        connection.executemany("DELETE FROM revisions WHERE id = ?", [(row["id"],) for row in rows])
        connection.execute("DELETE FROM stacks WHERE id = ?", (number,))
    return len(gone)


def _thin(connection: sqlite3.Connection, stack: int, limit: str) -> int:
    """Thins the history of one stack; how many steps went."""
    rows = {
        row["id"]: row
        for row in connection.execute("SELECT id, parent, at, title FROM revisions WHERE stack = ?", (stack,))
    }
    (head,) = connection.execute("SELECT head FROM stacks WHERE id = ?", (stack,)).fetchone()
    way = _way(rows, head)
    named = {row[0] for row in connection.execute("SELECT revision FROM sounds WHERE stack = ?", (stack,))}
    kept = {number for number, row in rows.items() if row["at"] >= limit or number in named} | {way[0], head}
    last = {rows[number]["at"][:HOUR]: number for number in way}
    kept |= set(last.values())
    # What is kept of a branch hangs on what it came from.
    for number in [*kept]:
        if number not in way:
            kept |= {each for each in _up(rows, number) if each not in way}
    gone = [number for number in rows if number not in kept]
    for number in kept:
        passed = 0
        parent = rows[number]["parent"]
        while parent is not None and parent not in kept:
            parent, passed = rows[parent]["parent"], passed + 1
        if passed:
            title = f"{rows[number]['title']}, and {passed} step{'' if passed == 1 else 's'} before it"
            connection.execute("UPDATE revisions SET parent = ?, title = ? WHERE id = ?", (parent, title, number))
    connection.executemany("DELETE FROM revisions WHERE id = ?", [(number,) for number in sorted(gone, reverse=True)])
    return len(gone)


def _up(rows: dict[int, sqlite3.Row], number: int | None) -> list[int]:
    """A revision and all that it came from, the oldest first."""
    found = []
    while number is not None:
        found.append(number)
        number = rows[number]["parent"]
    return found[::-1]


def _way(rows: dict[int, sqlite3.Row], head: int) -> list[int]:
    """From the first revision to the head, and on to what redo would bring."""
    children: dict[int, int] = {}
    for number, row in rows.items():
        if row["parent"] is not None:
            children[row["parent"]] = max(number, children.get(row["parent"], 0))
    found, at = _up(rows, head), head
    while at in children:
        at = children[at]
        found.append(at)
    return found
