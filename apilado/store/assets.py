"""Assets: files named by the SHA-256 of their content, written whole or not at all."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import secrets
from pathlib import Path
from threading import BoundedSemaphore, Lock

from apilado.core.dsp.audio import Audio
from apilado.core.formats.audio_files import audio_seconds, check_audio, check_extension, read_at
from apilado.core.formats.bundles import Asset
from apilado.errors import ApiladoError, NotFound, StorageFault
from apilado.store import sounds
from apilado.store.database import Database
from apilado.store.sounds import Origin

SHA256 = re.compile(r"[0-9a-f]{64}")
PARTIAL = ".part"
MOST_DECODES = 2
"""Audio files that are decoded at the same time: each takes memory; the others wait."""


def write_whole(path: Path, content: bytes) -> None:
    """Writes a file so that it is there whole or not at all, even if the process dies in the middle.

    Raises:
        StorageFault: it cannot be written; nothing is left of it.
    """
    partial = path.with_name(f"{path.name}.{secrets.token_hex(4)}{PARTIAL}")
    try:
        with partial.open("wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.replace(partial, path)
    except OSError as error:
        partial.unlink(missing_ok=True)
        raise StorageFault(not_written(path, error)) from error


def not_written(path: Path, error: OSError) -> str:
    """Why a file could not be written, and what to do."""
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return f"there is no room left on the disk for '{path.name}': nothing was kept. Make room, and do it again"
    return f"'{path}' cannot be written: {error.strerror or error}. Check who owns the folder and what it permits"


class Assets:
    """Audio files in a folder, listed in the database."""

    def __init__(self, database: Database, folder: Path) -> None:
        self._database, self.folder = database, folder
        self._decoding = BoundedSemaphore(MOST_DECODES)
        self._seconds: dict[str, float] = {}
        folder.mkdir(parents=True, exist_ok=True)
        self._moving = Lock()
        """Held while a file and its row come, or go: never one without the other."""
        for left in folder.glob(f"*{PARTIAL}"):
            left.unlink()
        self._let_go_of_what_was_under_way()

    def add(self, content: bytes, file_name: str, origin: Origin | None = None) -> Asset:
        """Keeps an audio file that can be read, with its entry in the Quarry; the same content twice is kept once.

        Args:
            origin: where it comes from; without one it was brought as a file of that name.

        Raises:
            UnreadableFile: it is no audio that can be used.
            StorageFault: there is no room for it.
        """
        extension = check_extension(file_name)
        with self._decoding:
            check_audio(content, file_name)
        asset = Asset(hashlib.sha256(content).hexdigest(), extension, content)
        path = self._path(asset.sha256, extension)
        with self._moving:
            if not path.exists():
                self._under_way(path)
                write_whole(path, content)
            self._entered(asset, path, file_name, origin or Origin(name=sounds.name_of(file_name)))
        return asset

    def _under_way(self, path: Path) -> None:
        """Notes that a file comes or goes, so that nothing is left of it if the program ends in the middle."""
        with self._database.transaction() as connection:
            connection.execute("INSERT OR IGNORE INTO files_under_way (name) VALUES (?)", (path.name,))

    def _entered(self, asset: Asset, path: Path, file_name: str, origin: Origin) -> None:
        with self._database.transaction() as connection:
            connection.execute(
                "INSERT OR IGNORE INTO assets (sha256, extension, file_name, bytes) VALUES (?, ?, ?, ?)",
                (asset.sha256, asset.extension, file_name, len(asset.content)),
            )
            sounds.entered(connection, asset.sha256, origin)
            connection.execute("DELETE FROM files_under_way WHERE name = ?", (path.name,))

    def get(self, sha256: str) -> Asset:
        """An asset by its content's hash.

        Raises:
            NotFound: there is none.
            StorageFault: its file has gone.
        """
        extension = self._extension(sha256)
        if extension is None:
            raise NotFound(f"there is no asset {sha256[:12]}…")
        path = self._path(sha256, extension)
        try:
            return Asset(sha256, extension, path.read_bytes())
        except OSError as error:
            raise StorageFault(
                f"the audio file '{path.name}' cannot be read: {error.strerror or error}. "
                f"Put it back into '{self.folder}', or replace the sound that uses it"
            ) from error

    def path_of(self, sha256: str) -> Path:
        """The file of an asset.

        Raises:
            NotFound: there is none.
        """
        extension = self._extension(sha256)
        if extension is None or not self._path(sha256, extension).is_file():
            raise NotFound(f"there is no asset {sha256[:12]}…")
        return self._path(sha256, extension)

    def holds(self, sha256: str) -> bool:
        """Whether there is an asset of this content."""
        return self._extension(sha256) is not None

    def _extension(self, sha256: str) -> str | None:
        if not SHA256.fullmatch(sha256):
            return None
        with self._database.reading() as connection:
            row = connection.execute("SELECT extension FROM assets WHERE sha256 = ?", (sha256,)).fetchone()
        return None if row is None else str(row["extension"])

    def load(self, sha256: str, rate_hz: int) -> Audio:
        """The audio of an asset at a rate."""
        asset = self.get(sha256)
        with self._decoding:
            return read_at(asset.content, f"{sha256[:12]}.{asset.extension}", rate_hz)

    def beginning(self, sha256: str, rate_hz: int, seconds: float) -> Audio:
        """The first seconds of an asset at a rate."""
        asset = self.get(sha256)
        with self._decoding:
            return read_at(asset.content, f"{sha256[:12]}.{asset.extension}", rate_hz, most_seconds=seconds)

    def delete_unused(self, sha256: str) -> bool:
        """Deletes an asset that was removed from the Quarry and that nothing uses; whether it was so."""
        with self._moving:
            return self._deleted(sha256)

    def _deleted(self, sha256: str) -> bool:
        with self._database.transaction() as connection:
            condition = f"asset = ? AND {sounds.CLEARABLE} AND NOT {sounds.USED}"
            if not connection.execute(f"DELETE FROM sounds WHERE {condition}", (sha256,)).rowcount:
                return False
            row = connection.execute("SELECT extension FROM assets WHERE sha256 = ?", (sha256,)).fetchone()
            connection.execute("DELETE FROM assets WHERE sha256 = ?", (sha256,))
            path = self._path(sha256, row["extension"])
            connection.execute("INSERT OR IGNORE INTO files_under_way (name) VALUES (?)", (path.name,))
        path.unlink(missing_ok=True)
        with self._database.transaction() as connection:
            connection.execute("DELETE FROM files_under_way WHERE name = ?", (path.name,))
        return True

    def _let_go_of_what_was_under_way(self) -> None:
        """What an earlier run of the program did not live to bring in, or to delete."""
        with self._database.transaction() as connection:
            owned = "SELECT sha256 || '.' || extension FROM assets"
            query = f"SELECT name FROM files_under_way WHERE name NOT IN ({owned})"
            for row in connection.execute(query).fetchall():
                (self.folder / row["name"]).unlink(missing_ok=True)
            connection.execute("DELETE FROM files_under_way")

    def seconds_of(self, sha256: str) -> float:
        """How long the audio of an asset is; 0 where it cannot be read."""
        if sha256 not in self._seconds:
            try:
                asset = self.get(sha256)
                self._seconds[sha256] = audio_seconds(asset.content, f"{sha256[:12]}.{asset.extension}")
            except ApiladoError:
                return 0.0
        return self._seconds[sha256]

    def _path(self, sha256: str, extension: str) -> Path:
        return self.folder / f"{sha256}.{extension}"
