"""Alarms: `signal.alarm` and `signal.setitimer` in simulated time, for code that limits itself with them.

At its instant the handler of SIGALRM is called. An error that the handler raises is raised in the code that set the
alarm: in a job or its thread where it waits, in the test's own code where it lets time pass.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import math
import os
import signal
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...foundation.durations import NS
from .builtin_patching import Here
from .patches import Builtins, Make, Patch
from .signal_handlers import as_set, handler_of_test

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task

NAMES = ("alarm", "setitimer", "getitimer")


class Alarms:
    """The one timer of a rig, as each process has one."""

    def __init__(self, loop: EventLoop) -> None:
        self._loop = loop
        self._due_ns = -1
        self._every_ns = 0
        self._set = 0
        self._task: Task | None = None
        self.rung = 0
        """How often an alarm has rung."""
        self.wakeup_fds: dict[Any, int] = {}
        """By worker, the descriptor that gets the numbers of signals: each worker is its own process."""

    @property
    def pending(self) -> bool:
        """True if an alarm is set."""
        return self._due_ns >= 0

    def left(self) -> tuple[float, float]:
        """Return the seconds until the alarm and between alarms, as `signal.getitimer` does."""
        return (0.0 if self._due_ns < 0 else (self._due_ns - self._loop.now) / NS, self._every_ns / NS)

    def arm(self, seconds: float, every: float = 0.0) -> tuple[float, float]:
        """Set the alarm (0 seconds: cancel it); return what was left of the one before."""
        if seconds < 0 or every < 0 or not math.isfinite(seconds + every):
            raise signal.ItimerError(22, "Invalid argument")
        before = self.left()
        loop = self._loop
        self._set += 1
        self._every_ns = round(every * NS) if seconds else 0
        self._due_ns = loop.now + max(1, round(seconds * NS)) if seconds else -1
        self._task = loop.current
        if seconds:
            loop.schedule(self._due_ns, 0, self._ring, self._set)
        return before

    def _ring(self, number: int) -> None:
        if number != self._set or self._due_ns < 0:
            return
        loop, task = self._loop, self._task
        self._due_ns = -1
        self.rung += 1
        if self._every_ns:
            self._due_ns = loop.now + self._every_ns
            loop.schedule(self._due_ns, 0, self._ring, number)
        if task is None:
            wake = signal.set_wakeup_fd(-1)
            signal.set_wakeup_fd(wake)
        else:
            wake = self.wakeup_fds.get(task.thread_key, -1)
        if wake >= 0:
            os.write(wake, bytes([signal.SIGALRM]))
        handler = signal.getsignal(signal.SIGALRM)
        if not callable(handler):
            return
        loop.current = task
        try:
            handler(signal.SIGALRM, None)
        except Exception as error:
            if task is None:
                raise
            if task.suspended:
                loop.current = None
                loop.raise_in(task, error)
        finally:
            if not loop.current or loop.current is task:
                loop.current = None


def alarm_patches(here: Here) -> list[Patch]:
    """Return the patches of `signal`'s alarms and handlers."""

    def alarm(real: Callable[..., Any]) -> Callable[..., Any]:
        def replacement(seconds: int) -> int:
            world = here()
            if world is None:
                return int(real(seconds))
            left: float = world.alarms.arm(seconds)[0]
            return math.ceil(left)

        return replacement

    def setitimer(real: Callable[..., Any]) -> Callable[..., Any]:
        def replacement(which: int, seconds: float, interval: float = 0.0) -> Any:
            world = here()
            if world is None or which != signal.ITIMER_REAL:
                return real(which, seconds, interval)
            return world.alarms.arm(seconds, interval)

        return replacement

    def getitimer(real: Callable[..., Any]) -> Callable[..., Any]:
        def replacement(which: int) -> Any:
            world = here()
            return real(which) if world is None or which != signal.ITIMER_REAL else world.alarms.left()

        return replacement

    def set_wakeup_fd(real: Callable[..., Any]) -> Callable[..., Any]:
        def replacement(fd: int, /, *, warn_on_full_buffer: bool = True) -> int:
            world = here()
            task = None if world is None else world.loop.current
            if world is None or task is None:
                return int(real(fd, warn_on_full_buffer=warn_on_full_buffer))
            worker = None if task.owner is None else task.owner.loop
            if worker is not None and worker.is_main(task):
                return int(worker.set_wakeup_fd(fd))
            fds: dict[Any, int] = world.alarms.wakeup_fds
            if not isinstance(task.thread_key, str):
                raise ValueError("set_wakeup_fd only works in main thread of the main interpreter")
            before = fds.get(task.thread_key, -1)
            fds[task.thread_key] = fd
            return before

        return replacement

    def set_handler(real: Callable[..., Any]) -> Callable[..., Any]:
        def replacement(number: int, handler: Any, /) -> Any:
            world = here()
            task = None if world is None else world.loop.current
            worker = None if task is None or task.owner is None else task.owner.loop
            if worker is not None and worker.is_main(task):
                return worker.set_handler(number, handler)
            if task is not None and not isinstance(task.thread_key, str):
                raise ValueError("signal only works in main thread of the main interpreter")
            if world is not None and task is None and callable(handler):
                handler = handler_of_test(number, handler, here)
            return as_set(real(number, handler))

        return replacement

    def get_handler(real: Callable[..., Any]) -> Callable[..., Any]:
        return lambda number, /: as_set(real(number))

    makers: dict[str, Make] = {
        "getsignal": get_handler, "set_wakeup_fd": set_wakeup_fd, "signal": set_handler,
        "alarm": alarm, "setitimer": setitimer, "getitimer": getitimer,
    }  # fmt: skip
    return [Builtins(_signal, makers)]
