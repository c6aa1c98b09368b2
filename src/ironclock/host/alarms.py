"""Alarms: `signal.alarm` and `signal.setitimer` in simulated time, for code that bounds itself with them.

At its instant the handler of SIGALRM is called. What it raises is raised in whoever set the alarm: a job or a thread
of one where it stands still, the test's own code where it lets time pass.
"""

from __future__ import annotations

import math
import os
import signal
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..core.durations import NS

if TYPE_CHECKING:
    from ..core.engine import Engine
    from ..core.task import Task

NAMES = ("alarm", "setitimer", "getitimer")


class Alarms:
    """The one real-time timer of a rig, as a process has one."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._due_ns = -1
        self._every_ns = 0
        self._set = 0
        self._task: Task | None = None

    @property
    def pending(self) -> bool:
        """Whether there is an alarm to come."""
        return self._due_ns >= 0

    def left(self) -> tuple[float, float]:
        """Return the seconds until the alarm and between alarms, as `signal.getitimer` does."""
        return (0.0 if self._due_ns < 0 else (self._due_ns - self._engine.now) / NS, self._every_ns / NS)

    def arm(self, seconds: float, every: float = 0.0) -> tuple[float, float]:
        """Set the alarm, 0 to take it back; return what was left of the one before."""
        if seconds < 0 or every < 0 or not math.isfinite(seconds + every):
            raise signal.ItimerError(22, "Invalid argument")
        before = self.left()
        engine = self._engine
        self._set += 1
        self._every_ns = round(every * NS) if seconds else 0
        self._due_ns = engine.now + max(1, round(seconds * NS)) if seconds else -1
        self._task = engine.current
        if seconds:
            engine.schedule(self._due_ns, 0, self._ring, self._set)
        return before

    def _ring(self, number: int) -> None:
        if number != self._set or self._due_ns < 0:
            return
        engine, task = self._engine, self._task
        self._due_ns = -1
        if self._every_ns:
            self._due_ns = engine.now + self._every_ns
            engine.schedule(self._due_ns, 0, self._ring, number)
        wake = signal.set_wakeup_fd(-1)
        signal.set_wakeup_fd(wake)
        if wake >= 0:
            os.write(wake, bytes([signal.SIGALRM]))
        handler = signal.getsignal(signal.SIGALRM)
        if not callable(handler):
            return
        engine.current = task
        try:
            handler(signal.SIGALRM, None)
        except Exception as error:
            if task is None:
                raise
            if task.parked:
                engine.current = None
                engine.raise_in(task, error)
        finally:
            if not engine.current or engine.current is task:
                engine.current = None


def replacements(here: Callable[[], Any]) -> list[tuple[str, Callable[[Any], Any]]]:
    """Return, for functions of `signal` by name, what makes the stand-in from the real one."""

    def alarm(real: Callable[..., Any]) -> Callable[..., Any]:
        def stand_in(seconds: int) -> int:
            world = here()
            if world is None:
                return int(real(seconds))
            left: float = world.alarms.arm(seconds)[0]
            return math.ceil(left)

        return stand_in

    def setitimer(real: Callable[..., Any]) -> Callable[..., Any]:
        def stand_in(which: int, seconds: float, interval: float = 0.0) -> Any:
            world = here()
            if world is None or which != signal.ITIMER_REAL:
                return real(which, seconds, interval)
            return world.alarms.arm(seconds, interval)

        return stand_in

    def getitimer(real: Callable[..., Any]) -> Callable[..., Any]:
        def stand_in(which: int) -> Any:
            world = here()
            return real(which) if world is None or which != signal.ITIMER_REAL else world.alarms.left()

        return stand_in

    return [("alarm", alarm), ("setitimer", setitimer), ("getitimer", getitimer)]
