"""Circular waits: tasks that wait without a limit for what only one of them could do.

A job that waits for work that it gave to its own pool is one: every worker of the pool waits as well. Such a wait ends
neither by simulated nor by real time. So it is a deadlock as soon as nothing else is left to do at its instant.
"""

from __future__ import annotations

import queue
import sys
import threading
from collections.abc import Callable, Iterable, Iterator
from functools import cache, cached_property
from types import CodeType, FrameType
from typing import TYPE_CHECKING, Any

from ...foundation.source_location import is_own, waiting_at
from .executors import Executors

if TYPE_CHECKING:
    from ...history.history import History
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task
    from .simulated_threads import SimulatedThread

_JOIN = threading.Thread.join.__code__


class _OfFutures:
    """The code of `concurrent.futures` that waits for futures, or does their work."""

    def __init__(self) -> None:
        import concurrent.futures as futures
        from concurrent.futures.thread import _WorkItem

        self.result = {futures.Future.result.__code__, futures.Future.exception.__code__}
        self.all_of = futures.wait.__code__
        self.next_of = futures.as_completed.__code__
        self.work = _WorkItem.run.__code__
        self.waits = {*self.result, self.all_of, self.next_of}


@cache
def _of_futures() -> _OfFutures:
    return _OfFutures()


def waits_for_futures(frame: FrameType | None) -> bool:
    """Return True if a frame, or the one that called it, waits for futures of a pool."""
    if frame is None or "concurrent.futures" not in sys.modules:  # to import it takes long
        return False
    waits = _of_futures().waits
    return frame.f_code in waits or (frame.f_back is not None and frame.f_back.f_code in waits)


class CircularWaits:
    """The circular waits of one rig.

    Parameters: `holder` returns the task that holds a lock. `alive` are the simulated threads by identifier.
    `executors` returns the thread pools.
    """

    def __init__(
        self, loop: EventLoop, history: History, holder: Callable[[Any], Task | None],
        alive: dict[int, SimulatedThread], executors: Callable[[], Executors | None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._holder = holder
        self._alive = alive
        self._executors = executors
        self.told: list[str] = []
        """The deadlocks found so far, in words."""
        self.seen = 0
        """How many of them an error has told the test."""
        self._known: set[Task] = set()

    def look(self) -> None:
        """Look for tasks that nothing can wake any more. Write those that are new into the history."""
        waiting = {w.task: w for w in self._loop.waiters if w.task is not None and not w.over and not w.has_end}
        if not waiting:
            return
        work = _Work(self._alive, self._executors)
        enders = {task: self._enders(task, work) for task in waiting}
        stuck = {task for task, groups in enders.items() if groups}
        while True:
            free = {task for task in stuck if not any(group <= stuck for group in enders[task])}
            if not free:
                break
            stuck -= free
        new = [task for task in waiting if task in stuck and task not in self._known]
        if new:
            self._known.update(stuck)
            self._write_down(new)

    def _write_down(self, tasks: list[Task]) -> None:
        words = [f"{task.label} waits {self._for_what(task)}, at {_place(task)}" for task in tasks]
        line = f"{'; '.join(words)}. Nothing is left that could end {'this' if len(words) == 1 else 'these waits'}"
        self.told.append(f"deadlock: {line}")
        first = next((task for task in tasks if task.job is not None), tasks[0])
        labels = [task.label for task in tasks]
        self._history.record("deadlocked", first.job, getattr(first, "number", 0), (labels, [line]))

    def _enders(self, task: Task, work: _Work) -> list[set[Task]]:
        """Return groups of tasks, of which each group could end a wait if all of it were free. Empty: unknown."""
        of_futures = _of_futures()
        for frame in _frames(task):
            code = frame.f_code
            if code in of_futures.result:
                return work.who_ends([frame.f_locals["self"]])
            if code is of_futures.all_of:
                found = frame.f_locals
                waited_for = list(found.get("not_done") or found["fs"])
                if found["return_when"] != "ALL_COMPLETED":
                    return work.who_ends(waited_for)
                return [group for future in waited_for for group in work.who_ends([future])]
            if code is of_futures.next_of:
                return work.who_ends(list(frame.f_locals.get("pending") or ()))
            if code is _JOIN:
                thread = self._alive.get(frame.f_locals["self"].ident or 0)
                return [] if thread is None or thread is task else [{thread}]
            lock = frame.f_locals.get("lock") if _is_wait_for_lock(code) else None
            holder = None if lock is None else self._holder(lock)
            if holder is not None and holder is not task:
                return [{holder}]
        return []

    def _for_what(self, task: Task) -> str:
        for frame in _frames(task):
            if frame.f_code in _of_futures().waits:
                return "for work of a pool whose workers all wait as well"
            if frame.f_code is _JOIN:
                return f"for the end of {self._alive[frame.f_locals['self'].ident].label}"
        return "for a lock"


class _Work:
    """What the pools of a rig have to do: which tasks could complete a future."""

    def __init__(self, alive: dict[int, SimulatedThread], executors: Callable[[], Executors | None]) -> None:
        self._alive = alive
        self._executors = executors

    @cached_property
    def _enders(self) -> dict[Any, set[Task]]:
        """By future, the tasks that could complete it. Looked up when somebody waits for one."""
        found: dict[Any, set[Task]] = {}
        executors, alive = self._executors(), self._alive
        for work, threads, most in () if executors is None else executors.at_work():
            workers = {alive[one.ident] for one in threads if one.ident in alive}
            # A worker that is not there yet can still start.
            if len(threads) >= most and len(workers) == len(threads):
                found.update({item.future: set(workers) for item in _items(work)})
        work_code = _of_futures().work
        for thread in alive.values():
            for frame in _frames(thread):
                item = frame.f_locals.get("self") if frame.f_code is work_code else None
                if item is not None:
                    found[item.future] = {thread}
        return found

    def who_ends(self, waited_for: Iterable[Any]) -> list[set[Task]]:
        """Return the tasks that could complete one of some futures, as one group. Empty: nobody knows them all."""
        group: set[Task] = set()
        for future in waited_for:
            if future not in self._enders:
                return []
            group |= self._enders[future]
        return [group] if group else []


def _items(work: queue.SimpleQueue[Any]) -> Iterator[Any]:
    """Yield what a pool's queue holds; the queue stays as it is."""
    held = []
    while not work.empty():
        held.append(work.get_nowait())
    for item in held:
        work.put(item)
    return (item for item in held if item is not None)


def _frames(task: Task) -> Iterator[FrameType]:
    """Yield the frames of a suspended task from the innermost on."""
    frame = getattr(task.suspension, "gr_frame", None) if task.suspended else None
    while frame is not None:
        yield frame
        frame = frame.f_back


def _is_wait_for_lock(code: CodeType) -> bool:
    return code.co_name == "block" and is_own(code.co_filename)


def _place(task: Task) -> str:
    return waiting_at(getattr(task.suspension, "gr_frame", None))
