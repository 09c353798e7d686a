"""One process at a time works on a data folder: two would delete each other's deliveries and caches."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path

from apilado.errors import StorageFault

LOCK_NAME = "in-use"


class FolderLock:
    """Held from its making until `release`, or until the process ends, however it ends."""

    def __init__(self, folder: Path) -> None:
        """Takes the folder.

        Raises:
            StorageFault: another process has it.
        """
        path = folder / LOCK_NAME
        self._file = os.open(path, os.O_RDWR | os.O_CREAT, 0o644)
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            owner = os.read(self._file, 20).decode(errors="replace").strip()
            os.close(self._file)
            raise StorageFault(
                f"'{folder}' is open in another Apilado (process {owner or 'unknown'}): close that one, or choose "
                "another folder with --data. What only reads may run beside it: `store`, `backup`, `render`, `check`"
            ) from None
        os.ftruncate(self._file, 0)
        os.write(self._file, str(os.getpid()).encode())

    def release(self) -> None:
        """Gives the folder back; again does nothing: the number of a closed file may be another's by now."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1
