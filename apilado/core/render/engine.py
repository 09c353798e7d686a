"""Runs stages: from the cache, or computed, several at a time, each once."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager, nullcontext
from enum import IntEnum
from functools import partial
from threading import Condition, Event, Lock, local
from time import thread_time
from typing import Any

import numpy as np

from apilado.core.clock import Clock
from apilado.core.dsp.breaking_off import broken_off_by
from apilado.core.render.cache import DEFAULT_LIMIT_BYTES, StageCache
from apilado.core.render.cores import Keeping, cores
from apilado.core.render.paces import expected_ns, took
from apilado.core.render.stage import Stage
from apilado.errors import Overtaken

MEASURED_SHARE = 0.25
"""Of the cache."""
HEARD = "apilado.core.render."
MOST_CHAINS = 4096


BYTES_A_FRAME = 8
"""Of a sound of two channels."""
MORE_THAN_IT_MAKES = 2
"""Inputs that a stage lets go of: it makes one result."""


class Rank(IntEnum):
    """What gives way to what: a render waits between its pieces while one of a higher rank is under way."""

    BEHIND = 0
    """What is tried behind what is heard."""
    USUAL = 1
    SOON = 2
    """What is wanted as soon as can be, such as a stretch of what is playing."""


_HIGHER = {rank: tuple(higher for higher in Rank if higher > rank) for rank in Rank}


class Token:
    """Says whether a render is still wanted."""

    def __init__(self, *, behind: bool = False, waited_for: bool = True) -> None:
        self._overtaken = Event()
        self.rank = Rank.BEHIND if behind else Rank.USUAL
        self.waited_for = waited_for and not behind
        """Whether what runs behind waits for its end: not for that of a job, which may take minutes."""
        self.spent: dict[bytes, float] = {}
        """Seconds that this render has computed at each stage, by its key; what came from the cache is not in it."""

    def overtake(self) -> None:
        """Tells the render to stop before its next stage, or its next piece of a long one."""
        self._overtaken.set()

    def check(self) -> None:
        """Raises Overtaken if a newer render has made this one pointless."""
        if self._overtaken.is_set():
            raise Overtaken("a newer render is wanted")


class Engine:
    """Computes stages in pools of threads (kernels release the GIL) over one shared cache.

    Each rank has threads of its own, and waits between its pieces while anything of a higher one is rendered. To let
    the system put it off instead would be wrong: it may hold the interpreter's lock, for which the others wait.
    """

    def __init__(self, cache_bytes: int = DEFAULT_LIMIT_BYTES, threads: int | None = None) -> None:
        self.cache = StageCache(round((1.0 - MEASURED_SHARE) * cache_bytes))
        """What is heard."""
        self.measured = StageCache(round(MEASURED_SHARE * cache_bytes))
        """What is measured of it: a room of its own, or the spectra of a long piece would put out what is heard."""
        self._chains: OrderedDict[bytes, float] = OrderedDict()
        """By its key, the seconds that a stage took with all that it was made of."""
        among = cores()
        self._threads = threads or len(among)
        self._at_work = dict.fromkeys(Rank, 0)
        """How many stages of each rank are being computed."""
        self._waiting = dict.fromkeys(Rank, 0)
        """How much is called for that no thread has begun with."""
        self._threads_of = {Rank.BEHIND: max(1, self._threads - 1), Rank.USUAL: self._threads, Rank.SOON: self._threads}
        self.pools = {
            rank: ThreadPoolExecutor(count, rank.name.lower(), Keeping(among).take if rank > Rank.BEHIND else None)
            for rank, count in self._threads_of.items()
        }
        self._way = _Way()
        self._running: dict[bytes, _UnderWay] = {}
        self._lock = Lock()

    def close(self) -> None:
        """Waits for what is running and ends the threads."""
        for pool in self.pools.values():
            pool.shutdown()

    def at_hand(self, stage: Stage) -> Any | None:
        """The result of a stage, if it has been computed and kept."""
        return self._cache_of(stage).get(stage.key)

    def value_at(self, stage: Stage, frame: int) -> float | None:
        """Of a stage that gives a value for each frame, the one at a frame, as far as that is known."""
        return self._cache_of(stage).value_at(stage.key, frame)

    def threads_of(self, rank: Rank) -> int:
        """How many stages of a rank are computed at a time."""
        return self._threads_of[rank]

    def call(self, rank: Rank, work: Callable[[], None]) -> None:
        """A thread of a rank does something as soon as it is free."""
        with self._lock:
            self._waiting[rank] += 1
        self.pools[rank].submit(self._begin, rank, work)

    def _begin(self, rank: Rank, work: Callable[[], None]) -> None:
        with self._lock:
            self._waiting[rank] -= 1
        work()

    def waiting(self, rank: Rank) -> int:
        """How much has been called for that no thread of a rank has begun with."""
        return self._waiting[rank]

    def use(self, stage: Stage) -> None:
        """The result of a stage is in use, once more, until `let_go`."""
        self._cache_of(stage).use(stage.key)

    def let_go(self, stage: Stage) -> None:
        """The result of a stage is in use once less."""
        self._cache_of(stage).let_go(stage.key)

    def _cache_of(self, stage: Stage) -> StageCache:
        return self.cache if stage.function.__module__.startswith(HEARD) else self.measured

    def _cost(self, stage: Stage, seconds: float) -> float:
        """What a result counts as where room is short: what it took itself; what is to last, with all that it was made
        of."""
        chain = seconds + sum(self._chains.get(source.key, 0.0) for source in stage.inputs)
        with self._lock:
            self._chains[stage.key] = chain
            self._chains.move_to_end(stage.key)
            while len(self._chains) > MOST_CHAINS:
                self._chains.popitem(last=False)
        return chain if stage.lasting else seconds

    def holds(self, stage: Stage) -> bool:
        """Whether the result of a stage is at hand."""
        return self.at_hand(stage) is not None

    def run(self, stages: Sequence[Stage], token: Token | None = None, *, soon: bool = False) -> list[Any]:
        """The results of the stages, in order; a stage is computed as soon as all its inputs are.

        Args:
            soon: whether they are wanted as soon as can be, whatever room it takes: then what has the longest way to
                them comes first.

        Raises:
            Overtaken: the token was overtaken before the end.
        """
        token = token or Token()
        rank = max(Rank.SOON if soon else token.rank, self._way.mine())
        with self._way.taken(rank) if token.waited_for else nullcontext():
            return _Run(self, stages, token, rank).results()

    def going_first(self, rank: Rank = Rank.USUAL) -> AbstractContextManager[None]:
        """Within it, what is of a lower rank waits as it does while something of this one is rendered; what this thread
        renders has it too."""
        return self._way.taken(rank)

    def check(self, token: Token, rank: Rank = Rank.BEHIND) -> None:
        """Raises Overtaken if a newer render has made this one pointless; what has to give way waits here until it may
        go on.

        Args:
            rank: of the render, if that is higher than its token's.
        """
        token.check()
        self._way.wait_until_free(max(token.rank, rank, self._way.mine()))
        token.check()

    def once(self, stage: Stage, inputs: Sequence[Any], token: Token, rank: Rank) -> Any:
        """A stage's result from its inputs; where another run is computing it already, that one's.

        Nothing waits for what is of a lower rank: that waits for it, or may get no turn for long on a busy machine.
        """
        if not stage.kept:
            return self._computed(stage, inputs, token, rank)
        cache, mine = self._cache_of(stage), _UnderWay(rank)
        while True:
            found = cache.get(stage.key)
            if found is not None:
                return found
            with self._lock:
                other = self._running.get(stage.key)
                if other is None or other.rank < rank:
                    self._running[stage.key] = mine
                    break
            other.done.wait()  # it computes, and waits for nobody: its inputs were there before it began
        try:
            found = cache.get(stage.key)  # finished between the look and the claim
            if found is None:
                found = self._computed(stage, inputs, token, rank)
                cache.put(stage.key, found, self._cost(stage, token.spent[stage.key]))
            return found
        finally:
            with self._lock:
                if self._running.get(stage.key) is mine:
                    del self._running[stage.key]
            mine.done.set()

    def _computed(self, stage: Stage, inputs: Sequence[Any], token: Token, rank: Rank) -> Any:
        two = stage.each_channel and inputs[0].shape[0] == 2
        work = partial(self._shared, self.pools[rank]) if two and self._idle(rank) else _timed
        with self._lock:
            self._at_work[rank] += 1
        try:
            result, seconds = work(stage, inputs, partial(self.check, token, rank))
        finally:
            with self._lock:
                self._at_work[rank] -= 1
        token.spent[stage.key] = seconds
        return frozen(result)

    def _idle(self, rank: Rank) -> bool:
        """Whether a thread has nothing to do: those of lower ranks are not counted, they wait."""
        return rank > Rank.BEHIND and self._at_work[rank] + 1 < self._threads

    @staticmethod
    def _shared(
        pool: ThreadPoolExecutor, stage: Stage, inputs: Sequence[Any], check: Callable[[], None]
    ) -> tuple[Any, float]:
        """(a stage's result, the seconds it took both threads), each of which makes a channel."""
        sound, *others = inputs
        helped = pool.submit(_timed, stage, [sound[1:], *others], check)
        try:
            left, seconds = _timed(stage, [sound[:1], *others], check)
        finally:
            alone = helped.cancel()  # no thread has begun with it
        right, more = _timed(stage, [sound[1:], *others], check) if alone else helped.result()
        return np.concatenate([left, right]), seconds + more


class _Way:
    """Which runs are under way, for which those of lower ranks wait."""

    def __init__(self) -> None:
        self._runs, self._free, self._here = dict.fromkeys(Rank, 0), Condition(), local()

    def mine(self) -> Rank:
        """The highest rank that this thread has taken the way for: it does not wait for itself."""
        return getattr(self._here, "rank", Rank.BEHIND)

    @contextmanager
    def taken(self, rank: Rank) -> Iterator[None]:
        with self._free:
            self._runs[rank] += 1
        before = self.mine()
        self._here.rank = max(before, rank)
        try:
            yield
        finally:
            self._here.rank = before
            with self._free:
                self._runs[rank] -= 1
                self._free.notify_all()

    def wait_until_free(self, rank: Rank) -> None:
        if self._is_free(rank):  # as nearly always: then nobody is kept from taking it
            return
        with self._free:
            self._free.wait_for(lambda: self._is_free(rank))

    def _is_free(self, rank: Rank) -> bool:
        return not any(self._runs[higher] for higher in _HIGHER[rank])


class _UnderWay:
    """A stage that is being computed."""

    def __init__(self, rank: Rank) -> None:
        self.rank, self.done = rank, Event()


class _Run:
    """One call of `Engine.run`: which stages wait for how many inputs, and what is there already.

    Of the stages that could be computed, the one with the longest way to a target comes first, so that no thread is
    left alone with it at the end: where they are wanted soon, and where the cache has room for all that is made.

    Else one that lets go of more than it makes comes first, such as the sum of two layers that nothing else reads any
    more; then the one that is first on the way to the first target: what one layer is made of is let go before the next
    layer is begun, as far as the threads allow.
    """

    def __init__(self, engine: Engine, targets: Sequence[Stage], token: Token, rank: Rank) -> None:
        self._engine, self._targets, self._token, self._rank = engine, targets, token, rank
        self._there: dict[bytes, Any] = {}
        self._in_hand: dict[bytes, Stage] = {}
        self._missing: dict[bytes, int] = {}
        self._dependents: dict[bytes, list[Stage]] = {}
        self._readers: dict[bytes, int] = {}
        self._ready: list[Stage] = []
        """Those that could be computed."""
        self._order: list[Stage] = []
        """What is to be computed, as it is reached on the way from the first input to the last target."""
        self._places: dict[bytes, int] = {}
        """The place of each there."""
        self._frames: dict[bytes, int] = {}
        """Over how many frames a stage runs: as its clock says, else as what it is made of."""
        self._ways: dict[bytes, float] = {}
        """How long a stage and what waits for it take, on the longest way, where that comes first; of what is wanted
        soon, over how many frames they run: it is not worth reckoning more."""
        self._lock = Lock()
        self._finished = Event()
        self._failure: BaseException | None = None
        self._at_it = 0
        """How many threads compute for it, or are called to."""
        self._called = 0
        """How many of them have not come yet."""
        for stage in targets:
            self._visit(stage)
            self._readers[stage.key] = self._readers.get(stage.key, 0) + 1
        room = 0 < BYTES_A_FRAME * sum(self._frames.values()) <= engine.cache.limit_bytes
        if rank is Rank.SOON or (room and rank is Rank.USUAL):
            self._measure_ways()

    def results(self) -> list[Any]:
        with self._lock:
            self._call_threads(len(self._ready))
            if not self._at_it:
                self._finished.set()
        self._finished.wait()
        for stage in self._in_hand.values():
            self._engine.let_go(stage)
        if self._failure is not None:
            try:
                raise self._failure
            finally:
                self._failure = None  # it holds its frames, this one among them, and all sounds that are in them
        return [self._there[stage.key] for stage in self._targets]

    def _visit(self, stage: Stage) -> None:
        if stage.key in self._there or stage.key in self._missing:
            return
        found = self._engine.at_hand(stage)
        if found is not None:
            self._take(stage, found)
            return
        self._missing[stage.key] = 0
        for source in stage.inputs:
            self._visit(source)
            self._readers[source.key] = self._readers.get(source.key, 0) + 1
            if source.key not in self._there:
                self._missing[stage.key] += 1
                self._dependents.setdefault(source.key, []).append(stage)
        self._places[stage.key] = len(self._order)
        self._order.append(stage)
        clock = stage.parameters.get("clock")
        beside = max((self._frames.get(source.key, 0) for source in stage.inputs), default=0)
        self._frames[stage.key] = clock.frames if isinstance(clock, Clock) else beside
        if self._missing[stage.key] == 0:
            self._ready.append(stage)

    def _take(self, stage: Stage, result: Any) -> None:
        self._there[stage.key] = result
        if stage.kept:  # else the cache knows nothing of it
            self._in_hand[stage.key] = stage
            self._engine.use(stage)

    def _call_threads(self, most: int) -> None:
        """So many threads, as far as the engine has them, compute one stage after another."""
        for _ in range(min(most, self._engine.threads_of(self._rank) - self._at_it)):
            self._at_it += 1
            self._call_one()

    def _call_one(self) -> None:
        self._called += 1
        self._engine.call(self._rank, self._compute_all)

    def _compute_all(self) -> None:
        """What one thread does, until there is nothing that it could compute; between two stages others may have it."""
        with self._lock:
            self._called -= 1
            stage = self._next()
        while stage is not None:
            result, failure = self._compute(stage)
            with self._lock:
                self._failure = self._failure or failure
                if self._failure is None:
                    self._take(stage, result)
                    self._release(stage.inputs)
                    self._make_ready(stage)
                    if self._rank is not Rank.SOON and stage.key in self._token.spent:
                        took(stage, self._frames[stage.key], self._token.spent[stage.key])
                if self._engine.waiting(self._rank) > self._called:
                    self._call_one()
                    return
                stage, result, failure = self._next(), None, None  # this frame is held by a failure

    def _compute(self, stage: Stage) -> tuple[Any, BaseException | None]:
        """(the result of a stage, or what it has failed by)."""
        try:
            self._engine.check(self._token, self._rank)
            if self._failure is None:
                inputs = [self._there[source.key] for source in stage.inputs]
                return self._engine.once(stage, inputs, self._token, self._rank), None
        except BaseException as error:
            return None, error
        return None, None

    def _next(self) -> Stage | None:
        """What is computed next; None where nothing is left for this thread, which goes then."""
        if self._failure is None and self._ready:
            stage = min(self._ready, key=self._turn)
            self._ready.remove(stage)
            return stage
        self._at_it -= 1
        if self._at_it == 0:
            self._finished.set()
        return None

    def _make_ready(self, stage: Stage) -> None:
        """What has waited for a stage last: this thread computes one, and others are called for the rest."""
        for waiting in self._dependents.get(stage.key, ()):
            self._missing[waiting.key] -= 1
            if self._missing[waiting.key] == 0:
                self._ready.append(waiting)
        self._call_threads(len(self._ready) - 1)

    def _measure_ways(self) -> None:
        for stage in reversed(self._order):  # each behind all that reads it
            waiting, frames = self._dependents.get(stage.key, ()), self._frames[stage.key]
            own = float(frames) if self._rank is Rank.SOON else expected_ns(stage, frames)
            self._ways[stage.key] = own + max((self._ways[each.key] for each in waiting), default=0.0)

    def _turn(self, stage: Stage) -> tuple[float, bool, int]:
        """What is computed first comes first."""
        if self._ways:
            return -self._ways[stage.key], False, self._places[stage.key]
        let_go = {source.key for source in stage.inputs if self._readers[source.key] == 1}
        return 0, len(let_go) < MORE_THAN_IT_MAKES, self._places[stage.key]

    def _release(self, sources: Sequence[Stage]) -> None:
        """Lets go of what nothing in this run reads any more; the cache keeps what it has room for."""
        for source in sources:
            self._readers[source.key] -= 1
            if self._readers[source.key] == 0:
                self._there.pop(source.key, None)
                if self._in_hand.pop(source.key, None):
                    self._engine.let_go(source)


def _timed(stage: Stage, inputs: Sequence[Any], check: Callable[[], None]) -> tuple[Any, float]:
    """(a stage's result, the seconds that it took this thread: what else runs meanwhile is none of them)."""
    begun = thread_time()
    with broken_off_by(check):
        return stage.result(*inputs), thread_time() - begun


def frozen(result: Any) -> Any:
    """The result with its arrays made read-only: what is shared is never changed."""
    if isinstance(result, np.ndarray):
        result.flags.writeable = False
    return result
