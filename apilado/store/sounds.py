"""The Quarry's entries: every sound that was brought or bounced, found by words and by what it is."""

from __future__ import annotations

import re
import sqlite3
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Literal

from apilado.core.document.stack import Stack
from apilado.errors import InvalidEdit, NotFound
from apilado.store.database import Database

PAGE = 40
LONGEST_NAME, LONGEST_TAGS = 80, 200
WORD = re.compile(r"[^\W_]+")
LARGEST_ID = 2**63
LATELY = "strftime('%Y-%m-%dT%H:%M:%fZ', 'now')"
User = Literal["revision", "cast_id"]
_USERS = {"revision": "revision_sounds", "cast_id": "cast_sounds"}


@dataclass(frozen=True)
class Origin:
    """Where a sound comes from, and what was known of it when it came."""

    name: str
    kind: Literal["imported", "bounced", "frozen"] = "imported"
    """What was frozen is in no list: it goes with the layer that it is of."""
    made_of: str = ""
    """Of a bounce: what of the stack, in words."""
    stack: int | None = None
    revision: int | None = None
    tempo_bpm: float | None = None
    beats: float | None = None
    """How long it is in the music; None where that is not known."""
    key: str = ""


@dataclass(frozen=True)
class Measured:
    """What is measured of a sound."""

    seconds: float
    channels: int
    frequency_hz: float | None
    tempo_bpm: float | None
    loudness_lkfs: float
    spectrum: bytes
    """A level per sixth of an octave, a byte each; empty where it could not be read."""


@dataclass(frozen=True)
class Entry:
    """A sound in the list."""

    id: int
    asset: str
    name: str
    tags: str
    origin: str
    made_of: str
    stack: int | None
    revision: int | None
    tempo_bpm: float | None
    beats: float | None
    key: str
    measured: bool
    seconds: float
    channels: int
    frequency_hz: float | None
    loudness_lkfs: float | None
    spectrum: bytes
    pinned: bool
    removed: bool
    at: str


@dataclass(frozen=True)
class Filters:
    """Which sounds are looked for; what is empty is not asked for."""

    words: str = ""
    origin: str = ""
    tag: str = ""
    month: str = ""
    """As 2031-05."""
    key: str = ""
    used: str = ""
    """'used', or 'unused'."""
    pinned: bool = False
    shortest_s: float = 0.0
    longest_s: float = 0.0
    slowest_bpm: float = 0.0
    fastest_bpm: float = 0.0
    lowest_hz: float = 0.0
    """Of its pitch."""
    highest_hz: float = 0.0


@dataclass(frozen=True)
class Found:
    """A page of what was found."""

    entries: tuple[Entry, ...]
    count: int
    """Of all that were found."""
    following: int
    """Where the next page begins; 0 where there is none."""


@dataclass(frozen=True)
class Use:
    """A stack that a sound is used in: as it stands, in its history, or in a cast."""

    stack: int
    standing: bool


@dataclass(frozen=True)
class Facets:
    """What there is to filter by."""

    tags: tuple[str, ...] = ()
    months: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    count: int = field(default=0)


def entered(connection: sqlite3.Connection, asset: str, origin: Origin) -> None:
    """Enters a sound; one that is there already is put back into the list, and stays what it was."""
    connection.execute(
        "INSERT INTO sounds (asset, name, origin, made_of, stack, revision, tempo_bpm, beats, key) "
        "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (asset) DO UPDATE SET removed_at = NULL",
        (
            asset,
            origin.name[:LONGEST_NAME],
            origin.kind,
            origin.made_of,
            origin.stack,
            origin.revision,
            origin.tempo_bpm,
            origin.beats,
            origin.key,
        ),
    )


def name_of(file_name: str) -> str:
    """What a file is called in the list: its name without what tells its kind."""
    name = PurePosixPath(file_name).name
    kind = PurePosixPath(f"x{name}").suffix
    return (name.removesuffix(kind).strip() or "sound")[:LONGEST_NAME]


def used(connection: sqlite3.Connection, user: User, number: int, stack: Stack) -> None:
    """Notes which sounds a state of a stack, or a cast, uses."""
    for asset in stack.asset_hashes():
        connection.execute(
            f"INSERT OR IGNORE INTO {_USERS[user]} ({user}, sound) SELECT ?, id FROM sounds WHERE asset = ?",
            (number, asset),
        )


def in_words(text: str) -> str:
    """A query of FTS5 for what was typed: every word, each from its beginning; '' where there is none."""
    return " ".join(f'"{word}"*' for word in WORD.findall(text.lower())[:12])


def tidy_tags(text: str) -> str:
    """Tags as they are kept: single words, each once, in their order."""
    found = dict.fromkeys(word.lower() for word in re.split(r"[\s,;]+", text) if word)
    kept = ""
    for word in found:
        longer = f"{kept} {word}".strip()
        if len(longer) > LONGEST_TAGS:
            break
        kept = longer
    return kept


LISTED = "origin <> 'frozen'"
CLEARABLE = "(removed_at NOT NULL OR origin = 'frozen')"
USED = (
    "(EXISTS (SELECT 1 FROM revision_sounds WHERE sound = sounds.id) "
    "OR EXISTS (SELECT 1 FROM cast_sounds WHERE sound = sounds.id) "
    "OR EXISTS (SELECT 1 FROM part_sounds JOIN parts ON parts.id = part_sounds.part "
    "WHERE sound = sounds.id AND parts.removed_at IS NULL))"
)


def _asked(filters: Filters) -> tuple[str, list[object]]:
    """(the conditions of a query, what they are about)."""
    said, values = ["removed_at IS NULL", LISTED], list[object]()

    def also(condition: str, *about: object) -> None:
        said.append(condition)
        values.extend(about)

    words = in_words(filters.words)
    if words:
        also("id IN (SELECT rowid FROM sounds_words WHERE sounds_words MATCH ?)", words)
    if filters.tag:
        also("' ' || tags || ' ' LIKE ? ESCAPE '\\'", f"% {_plain(filters.tag)} %")
    if filters.month:
        also("substr(at, 1, 7) = ?", filters.month)
    for column, wanted in (("origin", filters.origin), ("key", filters.key)):
        if wanted:
            also(f"{column} = ?", wanted)
    if filters.pinned:
        also("pinned")
    if filters.used in ("used", "unused"):
        also(USED if filters.used == "used" else f"NOT {USED}")
    for column, low, high in (
        ("seconds", filters.shortest_s, filters.longest_s),
        ("tempo_bpm", filters.slowest_bpm, filters.fastest_bpm),
        ("frequency_hz", filters.lowest_hz, filters.highest_hz),
    ):
        if low > 0.0:
            also(f"{column} >= ?", low)
        if high > 0.0:
            also(f"{column} <= ?", high)
    return " AND ".join(said), values


def _plain(text: str) -> str:
    return re.sub(r"([%_\\])", r"\\\1", text.lower())


class Sounds:
    """All entries of one database. Every change is one transaction; what is removed can be put back."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def found(self, filters: Filters, before: int = 0) -> Found:
        """A page of the sounds that are looked for, the last that came first.

        Args:
            before: where the page begins, as the one before told; 0: at the start.
        """
        condition, values = _asked(filters)
        with self._database.reading() as connection:
            count = connection.execute(f"SELECT count(*) FROM sounds WHERE {condition}", values).fetchone()[0]
            rows = connection.execute(
                f"SELECT * FROM sounds WHERE {condition} AND (? = 0 OR id < ?) ORDER BY id DESC LIMIT ?",
                [*values, before, before, PAGE + 1],
            ).fetchall()
        entries = tuple(_entry(row) for row in rows[:PAGE])
        return Found(entries, count, entries[-1].id if len(rows) > PAGE else 0)

    def facets(self) -> Facets:
        """What there is to filter by."""
        with self._database.reading() as connection:
            there = f"FROM sounds WHERE removed_at IS NULL AND {LISTED}"
            tags = {tag for (text,) in connection.execute(f"SELECT DISTINCT tags {there}") for tag in text.split()}
            months = [
                row[0] for row in connection.execute(f"SELECT DISTINCT substr(at, 1, 7) AS m {there} ORDER BY m DESC")
            ]
            keys = [row[0] for row in connection.execute(f"SELECT DISTINCT key {there} AND key <> '' ORDER BY key")]
            count = connection.execute(f"SELECT count(*) {there}").fetchone()[0]
        return Facets(tuple(sorted(tags)), tuple(months), tuple(keys), count)

    def entry(self, number: int) -> Entry:
        """One sound, removed or not.

        Raises:
            NotFound: there is none.
        """
        with self._database.reading() as connection:
            return _entry(_row(connection, number))

    def of_asset(self, asset: str) -> Entry | None:
        """The entry of an asset."""
        with self._database.reading() as connection:
            row = connection.execute("SELECT * FROM sounds WHERE asset = ?", (asset,)).fetchone()
        return None if row is None else _entry(row)

    def fresh_name(self, name: str) -> str:
        """A name that no sound in the list has yet: with a number behind it if need be."""
        with self._database.reading() as connection:
            query = "SELECT name FROM sounds WHERE name = ? OR name LIKE ? ESCAPE '\\'"
            shorter = name[: LONGEST_NAME - 5]
            taken = {row["name"] for row in connection.execute(query, (name, f"{_plain(shorter)} %"))}
        numbered = (f"{shorter} {number}" for number in range(2, 10_000))
        return next(each for each in (name[:LONGEST_NAME], *numbered) if each not in taken)

    def uses(self, number: int) -> tuple[Use, ...]:
        """The stacks that a sound is used in, those on the shelf."""
        with self._database.reading() as connection:
            rows = connection.execute(
                "SELECT stacks.id, max(revisions.id = stacks.head) AS standing FROM revision_sounds "
                "JOIN revisions ON revisions.id = revision JOIN stacks ON stacks.id = revisions.stack "
                "WHERE sound = ? AND deleted_at IS NULL GROUP BY stacks.id "
                "UNION SELECT casts.stack, 0 FROM cast_sounds JOIN casts ON casts.id = cast_id "
                "JOIN stacks ON stacks.id = casts.stack WHERE sound = ? AND deleted_at IS NULL",
                (number, number),
            ).fetchall()
        standing: dict[int, bool] = {}
        for row in rows:
            standing[row[0]] = standing.get(row[0], False) or bool(row[1])
        return tuple(Use(stack, now) for stack, now in standing.items())

    def change(
        self,
        number: int,
        *,
        name: str | None = None,
        tags: str | None = None,
        key: str | None = None,
        tempo_bpm: float | None = None,
        pinned: bool | None = None,
    ) -> Entry:
        """Changes what is given of a sound; a tempo of 0 is none.

        Raises:
            NotFound: there is none.
            InvalidEdit: a name that is empty.
        """
        values: dict[str, object] = {}
        if name is not None:
            if not name.strip():
                raise InvalidEdit("a sound needs a name")
            values["name"] = name.strip()[:LONGEST_NAME]
        if tags is not None:
            values["tags"] = tidy_tags(tags)
        values |= {} if key is None else {"key": key}
        values |= {} if tempo_bpm is None else {"tempo_bpm": tempo_bpm or None}
        values |= {} if pinned is None else {"pinned": int(pinned)}
        with self._database.transaction() as connection:
            _row(connection, number)
            for column, value in values.items():
                connection.execute(f"UPDATE sounds SET {column} = ? WHERE id = ?", (value, number))
            return _entry(_row(connection, number))

    def remove(self, number: int) -> Entry:
        """Takes a sound out of the list; its audio stays until unused audio is cleared.

        Raises:
            NotFound: there is none.
            InvalidEdit: a stack or a cast uses it.
        """
        with self._database.transaction() as connection:
            entry = _entry(_row(connection, number))
            if connection.execute(f"SELECT {USED} FROM sounds WHERE id = ?", (number,)).fetchone()[0]:
                raise InvalidEdit(f"'{entry.name}' is used, in a stack, in its history or in a cast: it stays")
            connection.execute(f"UPDATE sounds SET removed_at = {LATELY} WHERE id = ?", (number,))
            return entry

    def put_back(self, number: int) -> Entry:
        """Puts a sound back into the list.

        Raises:
            NotFound: there is none.
        """
        with self._database.transaction() as connection:
            _row(connection, number)
            connection.execute("UPDATE sounds SET removed_at = NULL WHERE id = ?", (number,))
            return _entry(_row(connection, number))

    def unmeasured(self, most: int = 16) -> tuple[Entry, ...]:
        """Sounds that are not measured yet, the last that came first."""
        query = (
            f"SELECT * FROM sounds WHERE spectrum IS NULL AND removed_at IS NULL AND {LISTED} ORDER BY id DESC LIMIT ?"
        )
        with self._database.reading() as connection:
            return tuple(_entry(row) for row in connection.execute(query, (most,)))

    def keep_measured(self, number: int, measured: Measured) -> None:
        """Keeps what was measured of a sound; a tempo that is known stays."""
        with self._database.transaction() as connection:
            connection.execute(
                "UPDATE sounds SET seconds = ?, channels = ?, frequency_hz = ?, tempo_bpm = coalesce(tempo_bpm, ?), "
                "loudness_lkfs = ?, spectrum = ? WHERE id = ?",
                (
                    measured.seconds,
                    measured.channels,
                    measured.frequency_hz,
                    measured.tempo_bpm,
                    measured.loudness_lkfs,
                    measured.spectrum,
                    number,
                ),
            )

    def clearable(self) -> tuple[tuple[str, int], ...]:
        """(asset, bytes) of each sound that was removed and that nothing uses."""
        query = f"SELECT asset, bytes FROM sounds JOIN assets ON sha256 = asset WHERE {CLEARABLE} AND NOT {USED}"
        with self._database.reading() as connection:
            return tuple((row["asset"], row["bytes"]) for row in connection.execute(query))


def _row(connection: sqlite3.Connection, number: int) -> sqlite3.Row:
    row: sqlite3.Row | None = None
    if 0 < number < LARGEST_ID:
        row = connection.execute("SELECT * FROM sounds WHERE id = ?", (number,)).fetchone()
    if row is None:
        raise NotFound(f"there is no sound {number} in the Quarry")
    return row


def _entry(row: sqlite3.Row) -> Entry:
    return Entry(
        id=row["id"],
        asset=row["asset"],
        name=row["name"],
        tags=row["tags"],
        origin=row["origin"],
        made_of=row["made_of"],
        stack=row["stack"],
        revision=row["revision"],
        tempo_bpm=row["tempo_bpm"],
        beats=row["beats"],
        key=row["key"],
        measured=row["spectrum"] is not None,
        seconds=row["seconds"] or 0.0,
        channels=row["channels"] or 0,
        frequency_hz=row["frequency_hz"],
        loudness_lkfs=row["loudness_lkfs"],
        spectrum=row["spectrum"] or b"",
        pinned=bool(row["pinned"]),
        removed=row["removed_at"] is not None,
        at=row["at"],
    )
