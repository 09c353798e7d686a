"""Use cases of the store as a whole: mending it, one file of everything, and back from that."""

from __future__ import annotations

import os
import re
import secrets
import shutil
import sqlite3
import zipfile
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Event, Thread
from time import monotonic

from apilado import memory
from apilado.actions.workspace import DATABASE_NAME, Workspace
from apilado.errors import ApiladoError, StorageFault, UnreadableFile
from apilado.store import sounds
from apilado.store.assets import PARTIAL, not_written
from apilado.store.database import Database
from apilado.store.examining import Examined, Fault, examine, hash_of, reading
from apilado.store.sounds import Origin
from apilado.store.tidying import Tidied, tidy

ASSET_NAME = re.compile(r"assets/[0-9a-f]{64}\.[a-z0-9]{2,4}")
RESTORING = ".restoring-"
ATTEMPTS = 3
IDLE_S, LOOKED_S = 300.0, 60.0
"""The store is tidied when nothing was written for so long; that is looked at so often."""
Told = Callable[[float, str], None]


def silent(share: float, doing: str) -> None:
    """Tells nobody."""


def mend(folder: Path, told: Told = silent) -> tuple[list[Fault], Examined]:
    """(what was mended, what is there afterwards).

    Raises:
        StorageFault: another process has the folder open, or it cannot be read or written.
    """
    with reading(folder / DATABASE_NAME):
        pass  # there is one
    workspace = Workspace(folder)  # this lets go of part files, and of deliveries that were broken off
    try:
        before = examine(folder, DATABASE_NAME)
        for fault in before.faults:
            _MENDS.get(fault.kind, _leave)(workspace, fault)
        with workspace.database.transaction() as connection:
            connection.execute("INSERT INTO sounds_words (sounds_words) VALUES ('rebuild')")
        _note_uses(workspace)
    finally:
        workspace.close()
    after = examine(folder, DATABASE_NAME, told)
    left = {(fault.kind, fault.where, fault.said) for fault in after.faults}
    return [fault for fault in before.faults if (fault.kind, fault.where, fault.said) not in left], after


def _leave(workspace: Workspace, fault: Fault) -> None:
    """What cannot be mended here."""


def _take_in(workspace: Workspace, fault: Fault) -> None:
    """A file that nothing names: audio by its own hash is entered in the Quarry again, anything else stays."""
    path = Path(fault.where)
    if path.is_file() and hash_of(path) == path.stem:
        try:
            workspace.assets.add(path.read_bytes(), path.name, Origin(name=f"found {path.stem[:12]}"))
        except ApiladoError:
            return


def _enter(workspace: Workspace, fault: Fault) -> None:
    with workspace.database.transaction() as connection:
        query = "SELECT sha256, file_name FROM assets WHERE sha256 NOT IN (SELECT asset FROM sounds)"
        for row in connection.execute(query).fetchall():
            sounds.entered(connection, row["sha256"], Origin(name=sounds.name_of(row["file_name"])))


def _remove(workspace: Workspace, fault: Fault) -> None:
    Path(fault.where).unlink(missing_ok=True)


_MENDS = {"stray file": _take_in, "entry": _enter, "part file": _remove, "stray delivery": _remove}


def _note_uses(workspace: Workspace) -> None:
    """Notes for what stands, and for casts, which sounds they use."""
    for listed in workspace.stacks.listed():
        with workspace.database.transaction() as connection:
            sounds.used(connection, "revision", listed.revision, listed.stack)
        for kept in workspace.casts.listed(listed.id):
            stack = workspace.casts.stack(listed.id, kept.id)
            with workspace.database.transaction() as connection:
                sounds.used(connection, "cast_id", kept.id, stack)


@dataclass(frozen=True)
class Backup:
    """One file of everything."""

    files: int
    bytes: int
    missing: tuple[str, ...]
    """Audio that the database names and whose file has gone."""


def backup(folder: Path, out: Path, told: Told = silent) -> Backup:
    """Writes the database and all audio into one file, while the program may work; deliveries are not in it.

    Raises:
        StorageFault: there is no store, or the file cannot be written; nothing is left of it.
    """
    partial = out.with_name(f"{out.name}.{secrets.token_hex(4)}{PARTIAL}")
    copied = partial.with_suffix(".sqlite3")
    try:
        for attempt in range(ATTEMPTS):
            told(0.0, "Copying the database")
            with reading(folder / DATABASE_NAME) as source, closing(sqlite3.connect(copied)) as target:
                source.backup(target)
                target.execute("PRAGMA journal_mode = DELETE")
                # Deliveries are not in a backup; what was under way then is told as broken off.
                target.execute("UPDATE jobs SET dismissed = 1 WHERE kind IN ('deliver', 'multisample')")
                target.commit()
            found = _archived(folder, copied, partial, told)
            # Unused audio may have been cleared meanwhile: then the copy of the database is of before.
            if not found.missing or attempt == ATTEMPTS - 1:
                break
        with partial.open("rb+") as file:
            os.fsync(file.fileno())
        size = partial.stat().st_size
        partial.replace(out)
        told(1.0, "Done")
        return Backup(found.files, size, found.missing)
    except OSError as error:
        raise StorageFault(not_written(out, error)) from error
    finally:
        partial.unlink(missing_ok=True)
        copied.unlink(missing_ok=True)


def _archived(folder: Path, database: Path, out: Path, told: Told) -> Backup:
    with closing(sqlite3.connect(database)) as connection:
        names = [f"{sha}.{kind}" for sha, kind in connection.execute("SELECT sha256, extension FROM assets")]
    missing = []
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        archive.write(database, DATABASE_NAME, zipfile.ZIP_DEFLATED)
        for number, name in enumerate(names):
            told((number + 1) / (len(names) + 1), f"Copying audio, {number + 1} of {len(names)}")
            path = folder / "assets" / name
            if path.is_file():
                archive.write(path, f"assets/{name}")
            else:
                missing.append(name)
    return Backup(len(names) - len(missing), 0, tuple(missing))


def restore(file: Path, folder: Path, told: Told = silent) -> Examined:
    """Makes a data folder from a backup; whole or not at all.

    Raises:
        UnreadableFile: it is no backup, or damaged.
        FutureVersion: a newer Apilado has written it.
        StorageFault: the folder holds something already, or cannot be written.
    """
    if folder.exists() and any(folder.iterdir()):
        raise StorageFault(
            f"'{folder}' holds something already: nothing was restored. Choose another with --data, or move it away"
        )
    made = folder.with_name(f"{folder.name}{RESTORING}{secrets.token_hex(4)}")
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        for left in folder.parent.glob(f"{folder.name}{RESTORING}*"):
            shutil.rmtree(left, ignore_errors=True)
        _unpacked(file, made, told)
        try:
            Database(made / DATABASE_NAME).close()  # one of before is brought up to date
        except StorageFault:
            raise UnreadableFile(f"'{file.name}' is damaged: its database cannot be read") from None
        found = examine(made, DATABASE_NAME)
        damaged = [fault for fault in found.faults if fault.kind in ("database", "damaged audio")]
        if damaged:
            raise UnreadableFile(f"'{file.name}' is damaged: {damaged[0].where}: {damaged[0].said}")
        if folder.exists():
            folder.rmdir()
        made.rename(folder)
        told(1.0, "Done")
        return found
    except OSError as error:
        raise StorageFault(not_written(folder, error)) from error
    finally:
        shutil.rmtree(made, ignore_errors=True)


def _unpacked(file: Path, made: Path, told: Told) -> None:
    (made / "assets").mkdir(parents=True)
    try:
        with zipfile.ZipFile(file) as archive:
            names = archive.namelist()
            odd = [name for name in names if name != DATABASE_NAME and not ASSET_NAME.fullmatch(name)]
            if DATABASE_NAME not in names or odd or len(set(names)) < len(names):
                said = f"it holds '{odd[0]}'" if odd else f"it holds no {DATABASE_NAME}, or something twice"
                raise UnreadableFile(f"'{file.name}' is no backup of Apilado: {said}")
            for number, name in enumerate(names):
                told(number / len(names), f"Restoring, {number + 1} of {len(names)} files")
                with archive.open(name) as source, (made / name).open("wb") as target:
                    shutil.copyfileobj(source, target)
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
        raise UnreadableFile(f"'{file.name}' is no backup that can be read: {error}") from None


class Housekeeper:
    """Tidies the store, and gives memory back, while nobody works on it."""

    def __init__(self, workspace: Workspace, history_days: int) -> None:
        self._workspace, self._days = workspace, history_days
        self._stopped = Event()
        self._thread = Thread(target=self._run, name="housekeeper", daemon=True)
        workspace.closers.append(self.stop)

    def start(self) -> None:
        """Begins to look."""
        self._thread.start()

    def stop(self) -> None:
        """Ends it, and waits for what is under way."""
        self._stopped.set()
        if self._thread.is_alive():
            self._thread.join()

    def tidy_if_idle(self, tidied_at: float) -> tuple[Tidied | None, float]:
        """(what was done if nothing was written for a while, when that was).

        Args:
            tidied_at: when it was done last: again only if something was written since.
        """
        database = self._workspace.database
        if monotonic() - database.written_at < IDLE_S or database.written_at <= tidied_at:
            return None, tidied_at
        done = tidy(database, self._days)
        memory.give_back()
        return done, database.written_at

    def _run(self) -> None:
        tidied_at = 0.0
        while not self._stopped.wait(LOOKED_S):
            with suppress(ApiladoError):  # there will be a next time
                _, tidied_at = self.tidy_if_idle(tidied_at)
