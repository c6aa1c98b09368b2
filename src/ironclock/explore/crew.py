"""The crew: who does the runs of a search, here or elsewhere, with the same results in the same order."""

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

from ..core.errors import InputError, IronClockError
from ..host.clock import kept_in_place
from ..host.strands import kept_idle
from ..steering.plan import Place, Plan
from .trial import Result, Trial

CHUNK = 64
"""How many runs go to another process at once."""

PATIENCE_S = 10.0
"""For how many seconds, at least, a cluster is waited for before its runs are made here as well: they are the same."""

SILENT = 2
"""After how many times in a row that nobody answers a cluster is given up."""

TRIES = 3
"""How often runs are given out whose process dies."""


_alone = threading.Lock()
_LATER: Future[list[Result]] = Future()
"""Stands for runs that are given out when it is their turn."""


class Order(NamedTuple):
    """One run that is wanted, and what of it."""

    plan: Plan
    notes: bool = False
    switches: bool = False


class Crew:
    """Does the runs in this process, one after the other."""

    def __init__(self, trial: Trial) -> None:
        self.trial = trial
        self.known: frozenset[Place] = frozenset()

    def map(self, orders: Iterable[Order]) -> Iterator[tuple[Order, Result]]:
        """Do runs; give each with its result, in order. The orders are asked for as they are needed."""
        with kept_in_place(), kept_idle():
            for order in orders:
                yield order, perform(self.trial, order, self.known)

    def close(self) -> None:
        """Let go of what the crew holds."""


class Abroad(Crew):
    """Lets an executor do the runs.

    `renew` makes another executor where one broke; without it this process goes on alone.
    """

    def __init__(
        self, trial: Trial, packed: bytes, executor: Executor, ahead: int, renew: Callable[[], Executor] | None = None
    ) -> None:
        super().__init__(trial)
        self._executor: Executor | None = executor
        self._ahead = ahead
        self._renew = renew
        self._packed = packed
        self._patience_s: float | None = None
        self._silent = 0  # how often in a row nobody answered

    def map(self, orders: Iterable[Order]) -> Iterator[tuple[Order, Result]]:
        source = iter(orders)
        under_way: deque[tuple[list[Order], Future[list[Result]] | None, int]] = deque()
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
                    if tries >= TRIES:
                        raise IronClockError(_killed(chunk)) from error
                    if isinstance(error, BrokenExecutor):
                        # Nothing is lost: what was under way is given out again, in its old order, and one after the
                        # other, so that it shows which of it kills its process.
                        self._replace_executor()
                        again = [(c, _LATER, t) for c, _, t in under_way]
                        under_way.clear()
                        under_way.extend(again)
                    under_way.appendleft((chunk, self._submit(chunk, known), tries + 1))
                    continue
                yield from zip(chunk, results, strict=True)
        finally:
            for _, future, _ in under_way:
                if future is not None and future is not _LATER:
                    future.cancel()

    def _wait(self, chunk: list[Order], future: Future[list[Result]]) -> list[Result]:
        """Return the results of runs that are under way; make them here where nobody answers."""
        if self._silent < SILENT:
            try:
                results = future.result(self._patience_s)
                self._silent = 0
                return results
            except TimeoutError:
                self._silent += 1
        if self._silent >= SILENT:
            self._executor = None  # it answers no more: this process goes on alone
        future.cancel()
        return self._here(chunk)

    def _submit(self, chunk: list[Order], known: bytes) -> Future[list[Result]] | None:
        if self._executor is None:
            return None
        try:
            return self._executor.submit(work, self._packed, known, chunk)
        except BrokenExecutor:
            self._replace_executor()
            return None if self._executor is None else self._executor.submit(work, self._packed, known, chunk)

    def _replace_executor(self) -> None:
        self._executor = None if self._renew is None else self._renew()

    def _here(self, chunk: list[Order]) -> list[Result]:
        return [perform(self.trial, order, self.known) for order in chunk]

    def close(self) -> None:
        _unpacked.pop(self._packed, None)
        if self._renew is not None and self._executor is not None:
            self._executor.shutdown(wait=True, cancel_futures=True)


def perform(trial: Trial, order: Order, known: frozenset[Place]) -> Result:
    """Do one run; one at a time, whatever threads an executor has: they share an interpreter, and while a worker dies
    in one run the handlers of its functions are gone for all."""
    with _alone:
        return trial.run(order.plan, notes=order.notes, known=known, switches=order.switches)


def processes(trial: Trial, count: int) -> Crew:
    """Return a crew of processes on this machine. Raises `InputError` for a number that cannot be."""
    if isinstance(count, bool) or not isinstance(count, int) or count < 1:
        raise InputError(f"processes is {count!r}; give a whole number of at least 1")
    if count == 1:
        return Crew(trial)
    import multiprocessing
    from concurrent.futures import ProcessPoolExecutor

    # A forked process has the story as it is; beside other threads forking is not safe, and the story is sent.
    forks = "fork" in multiprocessing.get_all_start_methods() and threading.active_count() == 1
    context = multiprocessing.get_context("fork" if forks else "spawn")
    if forks:
        packed = b"inherited %d" % id(trial)
        _unpacked[packed] = trial
    else:
        packed = pack(trial)

    def made() -> Executor:
        return ProcessPoolExecutor(count, mp_context=context, initializer=_leave_interrupts_to_the_parent)

    return Abroad(trial, packed, made(), 2 * count, made)


def cluster(trial: Trial, address: str) -> Crew:
    """Return a crew on a Dask distributed cluster. Raises `IronClockError` where that is not installed, or away."""
    if importlib.util.find_spec("distributed") is None:
        raise IronClockError("--cluster needs Dask distributed: pip install 'ironclock[cluster]'")
    distributed: Any = importlib.import_module("distributed")
    try:
        client = distributed.Client(address, timeout="10s", set_as_default=False)
    except (OSError, ValueError) as error:
        raise IronClockError(f"no Dask scheduler answers at {address!r}: {error}") from None
    cores = sum(client.ncores().values())
    made = _OnCluster(trial, pack(trial), client.get_executor(pure=False, retries=TRIES), max(4, 2 * cores))
    made.client = client
    begun = time.monotonic()
    trial.run(Plan())
    made._patience_s = max(PATIENCE_S, 20 * CHUNK * (time.monotonic() - begun))
    return made


class _OnCluster(Abroad):
    client: Any

    def close(self) -> None:
        self.client.close()


def _leave_interrupts_to_the_parent() -> None:
    """Ctrl-C reaches every process of a terminal; the one that searches ends the others."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


# --- in the other process -------------------------------------------------------------------------------

_unpacked: dict[bytes, Trial] = {}


def work(packed: bytes, known: bytes, orders: list[Order]) -> list[Result]:
    """Do runs that another process ordered."""
    trial = _unpacked.get(packed)
    if trial is None:
        _unpacked.clear()
        trial = _unpacked[packed] = unpack(packed)
    places = _places(known)
    with kept_in_place(), kept_idle():
        return [perform(trial, order, places) for order in orders]


@lru_cache(maxsize=2)
def _places(known: bytes) -> frozenset[Place]:
    places: frozenset[Place] = pickle.loads(known)
    return places


def pack(trial: Trial) -> bytes:
    """Return a trial as bytes for another process; raise `InputError` where it cannot go there."""
    try:
        inner = pickle.dumps(trial)
    except Exception as error:
        inner = _by_value(trial, error)
    return pickle.dumps((sys.path, inner))


def unpack(packed: bytes) -> Trial:
    """Return the trial that another process packed."""
    paths, inner = pickle.loads(packed)
    sys.path += [path for path in paths if path not in sys.path]
    trial: Trial = pickle.loads(inner)
    return trial


def _by_value(trial: Trial, error: Exception) -> bytes:
    """Pack what plain pickle cannot, where a package that can is at hand (it comes with Dask distributed)."""
    if importlib.util.find_spec("cloudpickle") is not None:
        import cloudpickle

        try:
            packed: bytes = cloudpickle.dumps(trial)
            return packed
        except Exception as also:
            error = also
    raise InputError(
        f"the story or one of its laws cannot be sent to another process: {error}; "
        "define them at the top level of a module, or search without processes and executors"
    ) from None


def _process_died(error: Exception) -> bool:
    return isinstance(error, BrokenExecutor) or type(error).__name__ in ("KilledWorker", "CancelledError")


def _killed(chunk: list[Order]) -> str:
    plans = "; ".join(" and ".join(order.plan.describe()) or "no fault" for order in chunk[:3])
    return f"a process died {TRIES} times over the same {len(chunk)} runs, which begin with: {plans}"
