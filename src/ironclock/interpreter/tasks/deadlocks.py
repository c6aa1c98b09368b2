"""Deadlocks: tasks that wait for one another's locks, found when the last of them begins to wait."""

from __future__ import annotations

import sys
from collections.abc import Container
from os.path import basename
from types import FrameType
from typing import TYPE_CHECKING, Any

from ...foundation.source_location import frame_of_caller, users_call

if TYPE_CHECKING:
    from ...history.history import History
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task


class Deadlocks:
    """Who took which lock where, in one rig."""

    def __init__(self, loop: EventLoop, history: History) -> None:
        self._loop = loop
        self._history = history
        self._taken: dict[int, tuple[Task, str, Any]] = {}
        self._waiting: dict[Task, tuple[int, str]] = {}
        self._last: dict[Task, FrameType] = {}  # by task, the call of a library in which it came to a lock

    def comes(self, task: Task) -> str:
        """Note that a task comes to a lock, where another task can run first; return the place."""
        frame, call = users_call(frame_of_caller(1))
        if frame is None or _is_traced(frame):
            return ""
        where = f"{basename(frame.f_code.co_filename)}:{frame.f_lineno}"
        # One call of the user can take several locks inside a library: that is one place. The frame of the call is
        # kept, since a number for it, such as its address, can be that of a later call.
        if call is None or self._last.get(task) is not call:
            if call is None:
                self._last.pop(task, None)
            else:
                self._last[task] = call
            assert self._loop.decisions is not None
            self._loop.decisions.locks(task, f"the lock at {where}")
        return where

    def takes(self, task: Task, lock: Any, where: str) -> None:
        """Note that a task has taken a lock."""
        self._taken[id(lock)] = task, where, lock

    def waits(self, task: Task, lock: Any, where: str) -> None:
        """Note that a task waits for a lock without a limit; if that closes a circle, write it into the history."""
        self._waiting[task] = id(lock), where
        circle = [task]
        while True:
            wanted = self._waiting.get(circle[-1])
            held = None if wanted is None else self._taken.get(wanted[0])
            # A task that waits for a lock that it took itself uses it as a signal: somebody else will release it.
            if held is None or held[0] is circle[-1]:
                return
            if held[0] is task:
                self._write_down(circle)
                return
            if held[0] in circle:
                return
            circle.append(held[0])

    def goes_on(self, task: Task) -> None:
        """Note that a task waits no more."""
        self._waiting.pop(task, None)

    def taken_by(self, gone: Container[Task] | None) -> list[Any]:
        """Return and forget the locks that these tasks have taken last. None: all locks."""
        found = [key for key, (task, _, _) in self._taken.items() if gone is None or task in gone]
        return [self._taken.pop(key)[2] for key in found]

    def _write_down(self, circle: list[Task]) -> None:
        words = []
        for task in circle:
            wanted, where = self._waiting[task]
            holder, taken, _ = self._taken[wanted]
            words.append(f"{task.label} waits at {where} for the lock that {holder.label} took at {taken}")
        task = circle[0]
        self._history.record("deadlocked", task.job, getattr(task, "number", 0), ([t.label for t in circle], words))


def _is_traced(frame: FrameType | None) -> bool:
    """Return True if a frame is called by the trace function, which measures coverage or debugs: it is not the user."""
    trace = sys.gettrace()
    if trace is None:
        return False
    code = getattr(getattr(trace, "__func__", trace), "__code__", None)
    while frame is not None:
        if frame.f_code is code:
            return True
        frame = frame.f_back
    return False
