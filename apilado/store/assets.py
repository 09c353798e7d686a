"""Assets: files named by the SHA-256 of their content, written whole or not at all."""

from __future__ import annotations

import hashlib
import os
import re
from pathlib import Path

from apilado.core.dsp.audio import Audio
from apilado.core.formats.audio_files import check_extension, read_audio, resampled
from apilado.core.formats.bundles import Asset
from apilado.errors import NotFound
from apilado.store.database import Database

SHA256 = re.compile(r"[0-9a-f]{64}")
PARTIAL = ".part"


def write_whole(path: Path, content: bytes) -> None:
    """Writes a file so that it is there whole or not at all, even if the process dies in the middle."""
    partial = path.with_name(path.name + PARTIAL)
    with partial.open("wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    os.replace(partial, path)


class Assets:
    """Audio files in a folder, listed in the database."""

    def __init__(self, database: Database, folder: Path) -> None:
        self._database, self.folder = database, folder
        folder.mkdir(parents=True, exist_ok=True)
        for left in folder.glob(f"*{PARTIAL}"):
            left.unlink()

    def add(self, content: bytes, file_name: str) -> Asset:
        """Keeps an audio file that can be read; the same content twice is kept once.

        Raises:
            UnreadableFile: it is no audio that can be used.
        """
        extension = check_extension(file_name)
        read_audio(content, file_name)
        asset = Asset(hashlib.sha256(content).hexdigest(), extension, content)
        path = self._path(asset.sha256, extension)
        if not path.exists():
            write_whole(path, content)
        with self._database.transaction() as connection:
            connection.execute(
                "INSERT OR IGNORE INTO assets (sha256, extension, file_name, bytes) VALUES (?, ?, ?, ?)",
                (asset.sha256, extension, file_name, len(content)),
            )
        return asset

    def get(self, sha256: str) -> Asset:
        """An asset by its content's hash.

        Raises:
            NotFound: there is none.
        """
        with self._database.transaction() as connection:
            row = connection.execute("SELECT extension FROM assets WHERE sha256 = ?", (sha256,)).fetchone()
        if row is None or not SHA256.fullmatch(sha256):
            raise NotFound(f"there is no asset {sha256[:12]}…")
        return Asset(sha256, row["extension"], self._path(sha256, row["extension"]).read_bytes())

    def load(self, sha256: str, rate_hz: int) -> Audio:
        """The audio of an asset at a rate."""
        asset = self.get(sha256)
        audio, rate = read_audio(asset.content, f"{sha256[:12]}.{asset.extension}")
        return resampled(audio, rate, rate_hz)

    def _path(self, sha256: str, extension: str) -> Path:
        return self.folder / f"{sha256}.{extension}"
