"""Jobs: what takes its time runs in the background, tells how far it is, and can be stopped.

A kind of job is one file beside this one and a line in `job_kinds.py`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from threading import Lock, Thread
from typing import Any, ClassVar

from pydantic import ValidationError

from apilado.actions.workspace import Workspace
from apilado.core.document.reading import explain
from apilado.core.document.stack import Stack
from apilado.core.parameters import Model
from apilado.core.render.engine import Token
from apilado.errors import ApiladoError, InvalidEdit, NotFound, Overtaken
from apilado.store.jobs import KeptJob

MOST_AT_ONCE = 8
"""Of all stacks; more are refused."""
Told = Callable[[float, str], None]
"""(share that is done, what is being done)."""


@dataclass
class Task:
    """What a job works on, and whom it tells."""

    workspace: Workspace
    number: int
    stack_id: int
    revision: int
    stack: Stack
    token: Token = field(default_factory=lambda: Token(waited_for=False))
    share: float = 0.0
    doing: str = "Waiting"
    kept: str = "Nothing of it was kept."
    """What there is of it if it ends here."""

    def tell(self, share: float, doing: str) -> None:
        """How far it is.

        Raises:
            Overtaken: it is to stop.
        """
        self.token.check()
        self.share, self.doing = share, doing


class Wanted(Model):
    """What a job of some kind is asked for; subclasses do it."""

    kind: ClassVar[str]
    done_said: ClassVar[str] = "Done."

    def title(self, stack: Stack) -> str:
        """What it is called in the list."""
        raise NotImplementedError

    def check(self, stack: Stack) -> None:
        """
        Raises:
            ApiladoError: it cannot be done with this stack.
        """

    def run(self, task: Task) -> dict[str, Any]:
        """Does it; what was made, as plain values. `said` in it is how it ended, if there is more to tell.

        Raises:
            ApiladoError: it cannot be done.
            Overtaken: it was stopped.
        """
        raise NotImplementedError

    def let_go(self, workspace: Workspace, number: int) -> None:
        """Lets go of what the job of that number made for itself, when it is removed from the list."""


@dataclass(frozen=True)
class Job:
    """A job as it is shown."""

    kept: KeptJob
    share: float
    doing: str

    @property
    def runs(self) -> bool:
        return self.kept.state == "running"


class Jobs:
    """The jobs of one workspace."""

    def __init__(self, workspace: Workspace, kinds: Mapping[str, type[Wanted]]) -> None:
        self._workspace, self._kinds = workspace, kinds
        self._tasks: dict[int, Task] = {}
        self._threads: dict[int, Thread] = {}
        self._lock = Lock()
        workspace.closers.append(self.close)

    def start(self, stack_id: int, wanted: Wanted, *, of: tuple[int, Stack] | None = None) -> Job:
        """Begins a job on a stack as it is now, or as it was.

        Args:
            of: (revision, document) of an earlier state.

        Raises:
            NotFound: there is no such stack.
            InvalidEdit: too much is under way.
            ApiladoError: it cannot be done with this stack.
        """
        head = self._workspace.stacks.head(stack_id)
        revision, stack = of or (head.id, head.stack)
        wanted.check(stack)
        with self._lock:
            if len(self._tasks) >= MOST_AT_ONCE:
                raise InvalidEdit(f"not begun: {MOST_AT_ONCE} jobs are under way; wait for one, or stop one")
            data = wanted.model_dump(mode="json")
            number = self._workspace.jobs.begin(wanted.kind, stack_id, revision, stack, wanted.title(stack)[:120], data)
            task = Task(self._workspace, number, stack_id, revision, stack)
            self._tasks[number] = task
            thread = Thread(target=self._run, args=(task, wanted), name=f"{wanted.kind} {number}", daemon=True)
            self._threads[number] = thread
        thread.start()
        return self.get(number)

    def again(self, number: int) -> Job:
        """Begins a job that was not done once more, on the document that it had.

        Raises:
            NotFound: there is none.
            InvalidEdit: it is done, or under way.
        """
        kept = self._workspace.jobs.get(number)
        if kept.state in ("running", "done"):
            raise InvalidEdit(f"'{kept.title}' is {'under way' if kept.state == 'running' else 'done'} already")
        wanted, stack = self._read(kept), self._workspace.jobs.stack(number)
        begun = self.start(kept.stack_id, wanted, of=(kept.revision, stack))
        self._workspace.jobs.dismiss(number)
        return begun

    def get(self, number: int) -> Job:
        """A job by its number.

        Raises:
            NotFound: there is none.
        """
        return self._shown(self._workspace.jobs.get(number))

    def listed(self, *, stack_id: int | None = None, kinds: tuple[str, ...] = ()) -> list[Job]:
        """Jobs, the last first."""
        return [self._shown(kept) for kept in self._workspace.jobs.listed(stack_id=stack_id, kinds=kinds)]

    def stop(self, number: int) -> Job:
        """Stops a job before its next step; nothing of it is kept.

        Raises:
            NotFound: there is none.
        """
        task = self._tasks.get(number)
        if task is not None:
            task.token.overtake()
        return self.get(number)

    def remove(self, number: int) -> Job:
        """Takes a job off the list, with what it wrote to files; one that is under way is stopped.

        Raises:
            NotFound: there is none.
        """
        self.stop(number)
        self.wait(number)
        kept = self._workspace.jobs.dismiss(number)
        if kept.kind in self._kinds:
            self._kinds[kept.kind].model_construct().let_go(self._workspace, number)
        return Job(kept, 1.0, "")

    def wait(self, number: int) -> Job:
        """Waits until a job is no longer under way.

        Raises:
            NotFound: there is none.
        """
        thread = self._threads.get(number)
        if thread is not None:
            thread.join()
        return self.get(number)

    def close(self) -> None:
        """Stops all, and waits for it."""
        with self._lock:
            waiting = list(self._threads.items())
        for number, _ in waiting:
            self.stop(number)
        for _, thread in waiting:
            thread.join()

    def _shown(self, kept: KeptJob) -> Job:
        task = self._tasks.get(kept.id)
        return Job(kept, task.share if task else 1.0, task.doing if task else "")

    def _read(self, kept: KeptJob) -> Wanted:
        kind = self._kinds.get(kept.kind)
        if kind is None:
            raise NotFound(f"'{kept.title}' is of a kind that there is no longer: {kept.kind}")
        try:
            return kind.model_validate(kept.wanted)
        except ValidationError as error:
            raise InvalidEdit(f"'{kept.title}' cannot be begun again: {explain(error)}") from None

    def _run(self, task: Task, wanted: Wanted) -> None:
        jobs = self._workspace.jobs
        try:
            made = wanted.run(task)
            said = str(made.pop("said", wanted.done_said))
            jobs.end(task.number, "done", said, made)
        except Overtaken:
            jobs.end(task.number, "stopped", f"Stopped. {task.kept}")
        except ApiladoError as error:
            message = str(error)
            more = f" {task.kept}" if task.kept != Task.kept else ""
            jobs.end(task.number, "failed", f"{message[:1].upper()}{message[1:]}.{more}")
        except Exception as error:
            jobs.end(task.number, "failed", f"It failed: {error}. {task.kept}")
            raise
        finally:
            with self._lock:
                self._tasks.pop(task.number, None)
                self._threads.pop(task.number, None)
