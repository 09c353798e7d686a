"""What a data folder holds, and whether it is whole. It only reads, so that it may run beside a program that works."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from apilado.core.document.reading import stack_from_json
from apilado.core.document.stack import Stack
from apilado.errors import InvalidDocument, StorageFault
from apilado.store import documents
from apilado.store.assets import PARTIAL
from apilado.store.database import fault_in_words, migrations
from apilado.store.sounds import USED

BLOCK = 2**20
Told = Callable[[float, str], None]


@dataclass(frozen=True)
class Fault:
    """Something that is not as it should be."""

    kind: str
    where: str
    said: str
    mendable: bool = False


@dataclass
class Examined:
    """What is there."""

    counts: dict[str, int] = field(default_factory=dict)
    bytes: dict[str, int] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)

    def as_data(self) -> dict[str, Any]:
        """As plain values."""
        return {"counts": self.counts, "bytes": self.bytes, "faults": [asdict(fault) for fault in self.faults]}


@contextmanager
def reading(path: Path) -> Iterator[sqlite3.Connection]:
    """A connection that only reads, beside whoever writes.

    Raises:
        StorageFault: there is no database, it is of another version, or damaged.
    """
    if not path.is_file():
        raise StorageFault(f"there is no store at '{path.parent}': no '{path.name}' lies there")
    try:
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True, timeout=5.0)) as connection:
            connection.row_factory = sqlite3.Row
            _check_version(path, connection)
            yield connection
    except sqlite3.DatabaseError as error:
        raise StorageFault(fault_in_words(path, str(error))) from error


def _check_version(path: Path, connection: sqlite3.Connection) -> None:
    there = {row[0] for row in connection.execute("SELECT number FROM migrations")}
    known = {number for number, _ in migrations()}
    if there - known:
        raise StorageFault(f"'{path}' was written by a newer Apilado")
    if known - there:
        raise StorageFault(f"'{path}' was written by an older Apilado: start this one with it once, then ask again")


def examine(
    folder: Path, database_name: str, told: Told = lambda share, doing: None, *, every: bool = False
) -> Examined:
    """Counts, sizes and faults of a data folder.

    Args:
        every: whether all documents of all histories are read through, not only what stands and the casts.

    Raises:
        StorageFault: it has no database that can be read.
    """
    found = Examined()
    path = folder / database_name
    with reading(path) as connection:
        told(0.0, "Reading the database")
        _counts(connection, found)
        found.bytes["database"] = sum(each.stat().st_size for each in folder.glob(f"{database_name}*"))
        _check_database(connection, found)
        told(0.1, "Reading the documents")
        _check_documents(connection, found, every=every)
        _check_words(connection, found)
        _check_assets(connection, folder / "assets", found, told)
        _check_deliveries(connection, folder / "deliveries", found)
    told(1.0, "Done")
    return found


def _counts(connection: sqlite3.Connection, found: Examined) -> None:
    for name, query in (
        ("stacks", "SELECT count(*) FROM stacks WHERE deleted_at IS NULL"),
        ("removed stacks", "SELECT count(*) FROM stacks WHERE deleted_at NOT NULL"),
        ("steps of undo", "SELECT count(*) FROM revisions"),
        ("casts", "SELECT count(*) FROM casts WHERE removed_at IS NULL"),
        ("sounds", "SELECT count(*) FROM sounds WHERE removed_at IS NULL AND origin <> 'frozen'"),
        ("frozen sounds", "SELECT count(*) FROM sounds WHERE origin = 'frozen'"),
        ("unused sounds", f"SELECT count(*) FROM sounds WHERE NOT {USED}"),
        ("audio files", "SELECT count(*) FROM assets"),
    ):
        found.counts[name] = connection.execute(query).fetchone()[0]
    found.bytes["audio"] = connection.execute("SELECT coalesce(sum(bytes), 0) FROM assets").fetchone()[0]
    unused = f"SELECT coalesce(sum(bytes), 0) FROM assets JOIN sounds ON asset = sha256 WHERE NOT {USED}"
    found.bytes["unused audio"] = connection.execute(unused).fetchone()[0]
    pages, size = (connection.execute(f"PRAGMA {name}").fetchone()[0] for name in ("freelist_count", "page_size"))
    found.bytes["free in the database"] = pages * size


def _check_database(connection: sqlite3.Connection, found: Examined) -> None:
    for row in connection.execute("PRAGMA integrity_check(20)"):
        if row[0] != "ok":
            found.faults.append(Fault("database", "the database", f"It is damaged: {row[0]}. Restore a backup"))
    for row in connection.execute("PRAGMA foreign_key_check"):
        said = f"Row {row[1]} names a row of {row[2]} that is not there"
        found.faults.append(Fault("database", f"table {row[0]}", said))


def _check_documents(connection: sqlite3.Connection, found: Examined, *, every: bool) -> None:
    here = {row["sha256"] for row in connection.execute("SELECT sha256 FROM assets")}
    standing = "" if every else "JOIN stacks ON stacks.head = revisions.id"
    query = f"SELECT revisions.id AS number, revisions.stack AS stack, {documents.FIELDS} FROM revisions {standing}"
    rows = [(f"stack {row['stack']}, step {row['number']}", row["number"], row) for row in connection.execute(query)]
    for where, number, row in rows:
        stack = _stack_in(where, lambda row=row: documents.read(row), found)  # type: ignore[misc]
        if stack is not None:
            _check_sounds(connection, where, stack, here, found, ("revision_sounds", "revision", number))
    for row in connection.execute("SELECT id, document FROM casts"):
        where = f"cast {row['id']}"
        stack = _stack_in(where, lambda row=row: row["document"], found)  # type: ignore[misc]
        if stack is not None:
            _check_sounds(connection, where, stack, here, found, ("cast_sounds", "cast_id", row["id"]))


def _stack_in(where: str, read: Callable[[], str], found: Examined) -> Stack | None:
    try:
        return stack_from_json(read())
    except InvalidDocument as error:
        found.faults.append(Fault("document", where, f"It cannot be read: {error}"))
        return None


def _check_sounds(
    connection: sqlite3.Connection,
    where: str,
    stack: Stack,
    here: set[str],
    found: Examined,
    user: tuple[str, str, int],
) -> None:
    table, column, number = user
    query = f"SELECT asset FROM {table} JOIN sounds ON sounds.id = sound WHERE {table}.{column} = ?"
    noted = {row["asset"] for row in connection.execute(query, (number,))}
    for sha in stack.asset_hashes():
        if sha not in here:
            said = f"It needs audio that is not here: {sha[:12]}…. Bring its file again, in the Quarry"
            found.faults.append(Fault("missing audio", where, said))
        elif sha not in noted:
            said = f"That it uses the audio {sha[:12]}… was not noted"
            found.faults.append(Fault("uses", where, said, mendable=True))


def _check_words(connection: sqlite3.Connection, found: Examined) -> None:
    (listed,) = connection.execute("SELECT count(*) FROM sounds").fetchone()
    (indexed,) = connection.execute("SELECT count(*) FROM sounds_words_docsize").fetchone()
    if listed != indexed:
        said = f"{indexed} of {listed} sounds are found by their words"
        found.faults.append(Fault("words", "the Quarry", said, mendable=True))
    query = "SELECT sha256 FROM assets WHERE sha256 NOT IN (SELECT asset FROM sounds)"
    for row in connection.execute(query):
        said = "It has no entry in the Quarry"
        found.faults.append(Fault("entry", f"audio {row['sha256'][:12]}…", said, mendable=True))


def hash_of(path: Path) -> str:
    """The SHA-256 of a file, read in blocks."""
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(BLOCK):
            digest.update(block)
    return digest.hexdigest()


def _check_assets(connection: sqlite3.Connection, folder: Path, found: Examined, told: Told) -> None:
    rows = connection.execute("SELECT sha256, extension, bytes FROM assets").fetchall()
    known = {f"{row['sha256']}.{row['extension']}": row for row in rows}
    there = {path.name: path for path in folder.iterdir()} if folder.is_dir() else {}
    for number, (name, row) in enumerate(known.items()):
        told(0.3 + 0.7 * number / len(known), "Reading the audio")
        where = f"audio {row['sha256'][:12]}…"
        if name not in there:
            found.faults.append(Fault("missing audio", where, f"Its file has gone. Put '{name}' back into '{folder}'"))
        elif hash_of(there[name]) != row["sha256"]:
            found.faults.append(Fault("damaged audio", where, f"The content of '{name}' is not what it was"))
    under_way = {row["name"] for row in connection.execute("SELECT name FROM files_under_way")}
    for name, path in there.items():
        if name not in known and name not in under_way:
            kind = "part file" if PARTIAL in path.suffixes else "stray file"
            said = "It was not written whole" if kind == "part file" else "Nothing in the database names it"
            found.faults.append(Fault(kind, str(path), said, mendable=True))


def _check_deliveries(connection: sqlite3.Connection, folder: Path, found: Examined) -> None:
    done = connection.execute(
        "SELECT id FROM jobs WHERE kind IN ('deliver', 'multisample') AND state = 'done' AND NOT dismissed"
    )
    known = {f"{row['id']}.zip" for row in done}
    there = {path.name: path for path in folder.iterdir()} if folder.is_dir() else {}
    found.counts["deliveries"] = len(known)
    found.bytes["deliveries"] = sum(path.stat().st_size for path in there.values())
    running = connection.execute("SELECT count(*) FROM jobs WHERE state = 'running'").fetchone()[0]
    for name in known - set(there):
        found.faults.append(Fault("delivery", name, "Its file has gone; remove it from the list"))
    for name in set(there) - known:
        if not running:
            said = "It belongs to no delivery that is done"
            found.faults.append(Fault("stray delivery", str(there[name]), said, mendable=True))
