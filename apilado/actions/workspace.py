"""What every action works on: the store, the engine and the renders under way."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from threading import Event, Lock

from apilado.actions.sent import Sent
from apilado.core.dsp.audio import Audio
from apilado.core.render.engine import Engine, Token
from apilado.core.render.graph import Graph
from apilado.core.soundings.remedies import Workbench
from apilado.errors import StorageFault
from apilado.store.assets import Assets, not_written
from apilado.store.casts import Casts
from apilado.store.database import Database
from apilado.store.folder_lock import FolderLock
from apilado.store.jobs import KeptJobs
from apilado.store.parts import Parts
from apilado.store.presets import Presets
from apilado.store.sounds import Sounds
from apilado.store.stacks import Stacks

DATABASE_NAME = "apilado.sqlite3"
MOST_FOREHEARD = 4
"""How many edits are rendered at a time while they are being kept: those of one page come one after the other."""
LET_BY_S = 0.25
"""How long an edit that was overtaken lets the newest by at most, before it is answered."""


@dataclass(frozen=True)
class LoopHeard:
    """By what a stack's loop was rendered, and at which revision of it."""

    graph: Graph
    revision: int


class Workspace:
    """One data folder, opened."""

    def __init__(self, folder: Path, *, cache_bytes: int = 512 * 2**20) -> None:
        """Opens or makes a data folder, for this process alone.

        Raises:
            StorageFault: another process has it open, or it cannot be read or written.
        """
        self.folder = folder
        self.deliveries = folder / "deliveries"
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self._held = FolderLock(folder)
            self.deliveries.mkdir(exist_ok=True)
            self.database = Database(folder / DATABASE_NAME)
            self.assets = Assets(self.database, folder / "assets")
        except OSError as error:
            raise StorageFault(not_written(Path(error.filename or folder), error)) from error
        self.stacks = Stacks(self.database)
        self.casts = Casts(self.database)
        self.sounds = Sounds(self.database)
        self.presets = Presets(self.database)
        self.parts = Parts(self.database)
        self.jobs = KeptJobs(self.database)
        kept = {f"{job.id}.zip" for job in self.jobs.listed(kinds=("deliver", "multisample")) if job.state == "done"}
        for left in self.deliveries.iterdir():
            if left.name not in kept:  # of a delivery that was broken off, or removed
                left.unlink()
        self.engine = Engine(cache_bytes)
        self.workbench = Workbench(self.load, self.engine)
        self.paces: dict[tuple[int, str], float] = {}
        """Of each stack, the seconds that a stretch has taken lately: the "first", the "next" piece of it, and those
        "further" ones that run beside a whole loop."""
        self.heard: dict[int, LoopHeard] = {}
        """By its number, what each stack was heard by last."""
        self.foreheard = ThreadPoolExecutor(MOST_FOREHEARD, thread_name_prefix="foreheard")
        """What renders a stretch of an edit before it is kept."""
        self.sent = Sent()
        self.closers: list[Callable[[], None]] = []
        """What is ended before the folder is closed: whoever works behind says so here."""
        self._coming: dict[tuple[int, str], Event] = {}
        self._tokens: dict[tuple[str, int, str], Token] = {}
        self._lock = Lock()

    def load(self, sha256: str, rate_hz: int) -> Audio:
        """The audio of an asset at a rate."""
        return self.assets.load(sha256, rate_hz)

    def newest(self, purpose: str, stack_id: int, client: str, *, behind: bool = False) -> Token:
        """A token for a render of this purpose; an earlier one of the same page for the same stack is overtaken.

        Args:
            behind: it gives way to all that is heard.
        """
        token = Token(behind=behind)
        with self._lock:
            before = self._tokens.get((purpose, stack_id, client))
            self._tokens[purpose, stack_id, client] = token
        if before is not None:
            before.overtake()
        return token

    def comes(self, stack_id: int, client: str) -> Event:
        """An edit of a page has come, by which those before it may be overtaken: what it gives is to be set as soon as
        its sound is on its way."""
        with self._lock:
            self._coming[stack_id, client] = coming = Event()
        return coming

    def let_by(self, stack_id: int, client: str) -> None:
        """Waits until the sound of the newest edit of a page is on its way, but not for long."""
        with self._lock:
            coming = self._coming.get((stack_id, client))
        if coming is not None:
            coming.wait(LET_BY_S)

    def overtake(self, purpose: str, stack_id: int, client: str | None = None) -> None:
        """Stops the renders of this purpose for a stack that has just been changed: those of one page, or of all."""
        with self._lock:
            running = self._tokens.items()
            of_stack = [(page, token) for (kind, stack, page), token in running if (kind, stack) == (purpose, stack_id)]
        tokens = [token for page, token in of_stack if client in (None, page)]
        for token in tokens:
            token.overtake()

    def close(self) -> None:
        """Ends the threads and closes the database."""
        for end in self.closers:
            end()
        self.foreheard.shutdown()
        self.engine.close()
        self.database.close()
        self._held.release()
