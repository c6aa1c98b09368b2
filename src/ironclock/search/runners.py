"""Runners: who does the runs of a search, in this process or in others, with the same results in the same order."""

from __future__ import annotations

import importlib
import importlib.util
import pickle
import signal
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, Executor, Future
from functools import lru_cache
from itertools import islice
from typing import Any, NamedTuple

from ..errors import InputError, IronClockError
from ..interpreter.installation import kept_in_place
from ..interpreter.tasks.greenlets import spares_kept
from .interrupts import interrupts
from .plan import Place, Plan
from .runs import RunResult, SearchedStory

CHUNK = 64
"""How many runs go to another process at once."""

PATIENCE_S = 10.0
"""How many seconds, at least, to wait for a cluster. After that its runs are made here as well: they are the same."""

SILENT = 2
"""After how many waits in a row without an answer a cluster is given up."""

TRIES = 3
"""How often runs are given out again if their process dies."""


_alone = threading.Lock()
_LATER: Future[list[RunResult]] = Future()
"""Means runs that are given out when it is their turn."""


class RunRequest(NamedTuple):
    """One run that a search wants, and what it wants to know (see `RunControl`)."""

    plan: Plan
    notes_seams: bool = False
    notes_switches: bool = False


class Runner:
    """Does the runs in this process, one after the other."""

    def __init__(self, story: SearchedStory) -> None:
        self.story = story
        self.known: frozenset[Place] = frozenset()

    def map(self, requests: Iterable[RunRequest]) -> Iterator[tuple[RunRequest, RunResult]]:
        """Do runs; yield each request with its result, in order. Requests are taken as they are needed."""
        with kept_in_place(), spares_kept():
            for request in requests:
                yield request, perform(self.story, request, self.known)

    def close(self) -> None:
        """Close what the runner holds."""


class RemoteRunner(Runner):
    """Lets an executor do the runs.

    Parameters: `ahead` is how many chunks of runs are given out at once; `renew` makes another executor if one breaks.
    Without it this process continues alone. `close_executor` closes what is behind the executor.
    """

    def __init__(
        self, story: SearchedStory, packed: bytes, executor: Executor, ahead: int,
        renew: Callable[[], Executor] | None = None, close_executor: Callable[[], None] | None = None,
        patience_s: float | None = None,
    ) -> None:  # fmt: skip
        super().__init__(story)
        self._close_executor = close_executor
        self._executor: Executor | None = executor
        self._ahead = ahead
        self._renew = renew
        self._packed = packed
        self._patience_s = patience_s
        self._silent = 0  # waits in a row without an answer

    def map(self, requests: Iterable[RunRequest]) -> Iterator[tuple[RunRequest, RunResult]]:
        source = iter(requests)
        under_way: deque[tuple[list[RunRequest], Future[list[RunResult]] | None, int]] = deque()
        known = pickle.dumps(self.known)
        try:
            while True:
                while len(under_way) < self._ahead:
                    chunk = list(islice(source, CHUNK))
                    if not chunk:
                        break
                    under_way.append((chunk, self._submit(chunk, known), 1))
                if not under_way:
                    return
                chunk, future, tries = under_way.popleft()
                if future is _LATER:
                    future = self._submit(chunk, known)
                try:
                    results = self._here(chunk) if future is None else self._wait(chunk, future)
                except Exception as error:
                    if not _process_died(error):
                        raise
                    if tries >= TRIES and len(chunk) == 1:
                        raise IronClockError(_killed(chunk[0])) from error
                    if isinstance(error, BrokenExecutor):
                        # Nothing is lost: all runs that were given out are given out again, in the same order, and one
                        # after the other. So it shows which of them kills its process.
                        self._replace_executor()
                        again = [(c, _LATER, t) for c, _, t in under_way]
                        under_way.clear()
                        under_way.extend(again)
                    if tries >= TRIES:  # one of them ends its process: which one?
                        half = (len(chunk) + 1) // 2
                        under_way.extendleft((part, _LATER, TRIES) for part in (chunk[half:], chunk[:half]))
                    else:
                        under_way.appendleft((chunk, self._submit(chunk, known), tries + 1))
                    continue
                interrupts.check()
                yield from zip(chunk, results, strict=True)
        finally:
            for _, future, _ in under_way:
                if future is not None and future is not _LATER:
                    future.cancel()

    def _wait(self, chunk: list[RunRequest], future: Future[list[RunResult]]) -> list[RunResult]:
        """Return the results of runs that were given out. If nobody answers, make them here."""
        if self._silent < SILENT:
            try:
                results = future.result(self._patience_s)
                self._silent = 0
                return results
            except TimeoutError:
                self._silent += 1
        if self._silent >= SILENT:
            self._executor = None  # it does not answer any more: this process continues alone
        future.cancel()
        return self._here(chunk)

    def _submit(self, chunk: list[RunRequest], known: bytes) -> Future[list[RunResult]] | None:
        if self._executor is None:
            return None
        try:
            return self._executor.submit(work, self._packed, known, chunk)
        except BrokenExecutor:
            self._replace_executor()
            return None if self._executor is None else self._executor.submit(work, self._packed, known, chunk)

    def _replace_executor(self) -> None:
        self._executor = None if self._renew is None else self._renew()

    def _here(self, chunk: list[RunRequest]) -> list[RunResult]:
        return [perform(self.story, request, self.known) for request in chunk]

    def close(self) -> None:
        _unpacked.pop(self._packed, None)
        if self._close_executor is not None:
            self._close_executor()
        elif self._renew is not None and self._executor is not None:
            self._executor.shutdown(wait=True, cancel_futures=True)


def perform(story: SearchedStory, request: RunRequest, known: frozenset[Place]) -> RunResult:
    """Do one run. Only one at a time, however many threads an executor has: they share an interpreter, and while a
    worker dies in one run, its functions have no handlers for any thread."""
    with _alone:
        return story.run(
            request.plan, notes_seams=request.notes_seams, known=known, notes_switches=request.notes_switches
        )


def processes(story: SearchedStory, count: int) -> Runner:
    """Return a runner with processes on this machine. Raises `InputError` unless `count` is a whole number from 1."""
    if isinstance(count, bool) or not isinstance(count, int) or count < 1:
        raise InputError(f"processes is {count!r}; give a whole number, at least 1")
    if count == 1:
        return Runner(story)
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    # A forked process has the story already. Beside other threads forking is not safe, and the story is sent.
    forks = "fork" in multiprocessing.get_all_start_methods() and threading.active_count() == 1
    context = multiprocessing.get_context("fork" if forks else "spawn")
    if forks:
        packed = b"inherited %d" % id(story)
        _unpacked[packed] = story
    else:
        packed = pack(story)

    def made() -> Executor:
        return ProcessPoolExecutor(count, mp_context=context, initializer=_ignore_interrupts)

    return RemoteRunner(story, packed, made(), 2 * count, made)


def cluster(story: SearchedStory, address: str) -> Runner:
    """Return a runner on a Dask distributed cluster. Raises `IronClockError` if Dask is missing or does not answer."""
    if importlib.util.find_spec("distributed") is None:
        raise IronClockError("--cluster needs Dask distributed: pip install 'ironclock[cluster]'")
    distributed: Any = importlib.import_module("distributed")
    try:
        client = distributed.Client(address, timeout="10s", set_as_default=False)
    except (OSError, ValueError) as error:
        raise IronClockError(
            f"no Dask scheduler answers at {address!r}: {error}; start one, or give its address"
        ) from None
    cores = sum(client.ncores().values())
    begun = time.monotonic()
    story.run(Plan())
    patience_s = max(PATIENCE_S, 20 * CHUNK * (time.monotonic() - begun))
    executor = client.get_executor(pure=False, retries=TRIES)
    return RemoteRunner(
        story, pack(story), executor, max(4, 2 * cores), close_executor=client.close, patience_s=patience_s
    )


def _ignore_interrupts() -> None:
    """Ignore Ctrl-C, which reaches every process of a terminal: the process that searches ends the others."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


# --- in the other process -------------------------------------------------------------------------------

_unpacked: dict[bytes, SearchedStory] = {}


def work(packed: bytes, known: bytes, requests: list[RunRequest]) -> list[RunResult]:
    """Do runs that another process asked for."""
    story = _unpacked.get(packed)
    if story is None:
        _unpacked.clear()
        story = _unpacked[packed] = unpack(packed)
    places = _places(known)
    with kept_in_place(), spares_kept():
        return [perform(story, request, places) for request in requests]


@lru_cache(maxsize=2)
def _places(known: bytes) -> frozenset[Place]:
    places: frozenset[Place] = pickle.loads(known)
    return places


def pack(story: SearchedStory) -> bytes:
    """Return a story as bytes for another process. Raises `InputError` if it cannot be sent."""
    try:
        inner = pickle.dumps(story)
    except Exception as error:
        inner = _by_value(story, error)
    return pickle.dumps((sys.path, inner))


def unpack(packed: bytes) -> SearchedStory:
    """Return the story that another process packed."""
    paths, inner = pickle.loads(packed)
    sys.path += [path for path in paths if path not in sys.path]
    story: SearchedStory = pickle.loads(inner)
    return story


def _by_value(story: SearchedStory, error: Exception) -> bytes:
    """Pack a story that pickle cannot, if a package that can is installed (it comes with Dask distributed)."""
    if importlib.util.find_spec("cloudpickle") is not None:
        import cloudpickle

        try:
            packed: bytes = cloudpickle.dumps(story)
            return packed
        except Exception as also:
            error = also
    raise InputError(
        f"the story or one of its laws cannot be sent to another process: {error}; "
        "define them at the top level of a module, or search without processes and executors"
    ) from None


def _process_died(error: Exception) -> bool:
    return isinstance(error, BrokenExecutor) or type(error).__name__ in ("KilledWorker", "CancelledError")


def _killed(request: RunRequest) -> str:
    moves = " and ".join(request.plan.describe()) or "nothing goes wrong"
    return (
        f"the story ends its process when {moves}; a run must not do that: leave out what does it (a crash in C, a "
        "signal), and search again"
    )
