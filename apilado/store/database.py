"""The database: one file, WAL, foreign keys; migrations recorded in their own transaction."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from importlib import resources
from pathlib import Path
from threading import Lock
from time import monotonic

from apilado.errors import FutureVersion, StorageFault


class Database:
    """One connection, used by one thread at a time."""

    def __init__(self, path: Path) -> None:
        """Opens or creates the file and brings it up to date.

        Raises:
            FutureVersion: a newer Apilado has written it.
            StorageFault: it is no database, damaged, or cannot be written.
        """
        self.path = path
        self._lock = Lock()
        self.written_at = monotonic()
        """When a transaction that may write ended last."""
        with self._told():
            self._connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
            self._connection.row_factory = sqlite3.Row
            # FULL: a commit that was acknowledged survives a power cut, not only a killed process.
            for pragma in ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON", "busy_timeout = 5000"):
                self._connection.execute(f"PRAGMA {pragma}")
        with self.transaction() as connection:
            migrate(connection)

    def close(self) -> None:
        """Closes the file."""
        with self._lock:
            self._connection.close()

    @contextmanager
    def transaction(self) -> Iterator[sqlite3.Connection]:
        """A transaction that may write: committed at the end, rolled back on an exception."""
        with self._lock, self._told(), self._begun("BEGIN IMMEDIATE"):
            yield self._connection
        self.written_at = monotonic()

    def give_back(self, least_bytes: int, least_share: float) -> int:
        """Gives free pages back to the disk, where they are as many; how many bytes that were."""
        with self._lock, self._told():
            free, pages, size = (
                self._connection.execute(f"PRAGMA {name}").fetchone()[0]
                for name in ("freelist_count", "page_count", "page_size")
            )
            if free * size < least_bytes or free < least_share * pages:
                return 0
            self._connection.execute("VACUUM")
            self._connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            return int(free * size)

    @contextmanager
    def reading(self) -> Iterator[sqlite3.Connection]:
        """One state of the database to read from: whoever writes meanwhile is neither waited for nor seen."""
        with self._lock, self._told(), self._begun("BEGIN DEFERRED"):
            yield self._connection

    @contextmanager
    def _begun(self, statement: str) -> Iterator[None]:
        self._connection.execute(statement)
        try:
            yield
        except BaseException:
            with suppress(sqlite3.Error):
                self._connection.execute("ROLLBACK")
            raise
        try:
            self._connection.execute("COMMIT")
        except sqlite3.Error:
            with suppress(sqlite3.Error):
                self._connection.execute("ROLLBACK")
            raise

    @contextmanager
    def _told(self) -> Iterator[None]:
        """What SQLite says in a sentence that tells what to do."""
        try:
            yield
        except sqlite3.IntegrityError:
            raise
        except sqlite3.DatabaseError as error:
            raise StorageFault(fault_in_words(self.path, str(error))) from error


def fault_in_words(path: Path, error: str) -> str:
    """What an error of SQLite means for who works here, and what to do."""
    if "full" in error:
        return f"there is no room left on the disk for '{path}': nothing was changed. Make room, and do it again"
    if "locked" in error or "busy" in error:
        return f"another program is writing to '{path}': nothing was changed. Do it again when it is done"
    if "readonly" in error or "read-only" in error or "unable to open" in error:
        return (
            f"'{path}' cannot be written: check who owns the folder and what it permits, or choose another with --data"
        )
    return (
        f"'{path}' cannot be read as a database ({error}). Move it away, or put back a copy of it; "
        "the audio beside it is untouched"
    )


def migrations() -> list[tuple[int, str]]:
    """(number, SQL) of every migration, ascending, from the files `migrations/NNNN_name.sql`."""
    folder = resources.files("apilado.store") / "migrations"
    files = sorted((f for f in folder.iterdir() if f.name.endswith(".sql")), key=lambda f: f.name)
    return [(int(file.name[:4]), file.read_text(encoding="utf-8")) for file in files]


def migrate(connection: sqlite3.Connection) -> None:
    """Runs the migrations that this database has not seen, inside the caller's transaction."""
    connection.execute("CREATE TABLE IF NOT EXISTS migrations (number INTEGER PRIMARY KEY)")
    done = {row[0] for row in connection.execute("SELECT number FROM migrations")}
    known = migrations()
    unknown = done - {number for number, _ in known}
    if unknown:
        raise FutureVersion(f"the database was written by a newer Apilado (migration {max(unknown)})")
    for number, script in known:
        if number not in done:
            for statement in statements(script):
                connection.execute(statement)
            connection.execute("INSERT INTO migrations (number) VALUES (?)", (number,))


def statements(script: str) -> Iterator[str]:
    """The single statements of a script (executescript would commit the transaction)."""
    part = ""
    for line in script.splitlines(keepends=True):
        part += line
        if sqlite3.complete_statement(part):
            yield part
            part = ""
    if part.strip():
        yield part
