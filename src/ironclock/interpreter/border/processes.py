"""Child processes: waiting for one takes real time, and stops nobody else."""

from __future__ import annotations

import os
import select
import subprocess
from collections.abc import Callable
from types import FunctionType
from typing import Any, cast

from ..patching.builtin_patching import Here, PythonFunction, TypeEntry
from ..patching.clock_functions import waiting_ns
from .outside_waits import PROCESS, OutsideWait


def popen_wait(here: Here) -> tuple[PythonFunction, Callable[..., Any]]:
    """Return the function with which `Popen.wait` and `subprocess.run` wait, and its replacement."""
    place = PythonFunction(cast(FunctionType, subprocess.Popen._wait))  # type: ignore[attr-defined]

    def wait(self: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None or (timeout is not None and timeout <= 0) or self.returncode is not None:
            return place.real(self, timeout)
        if not _ended(world, self.pid, lambda: self.poll() is not None, timeout, "a child process's wait"):
            raise subprocess.TimeoutExpired(self.args, timeout or 0.0)
        self.poll()
        return self.returncode

    return place, wait


def _ended(world: Any, pid: int, look: Callable[[], Any], timeout: float | None, what: str) -> bool:
    """Wait for the end of a child process, at most `timeout` seconds."""
    if look():
        return True
    fds = []
    pidfd = -1
    if hasattr(os, "pidfd_open") and pid > 0:
        try:
            pidfd = os.pidfd_open(pid)
            fds = [(pidfd, select.POLLIN)]
        except OSError:
            pidfd = -1
    until = None if timeout is None else world.loop.now + waiting_ns(timeout)
    exchange = world.border.outside.exchange(PROCESS, "process")
    try:
        return bool(world.border.outside.wait(OutsideWait(what, [exchange], fds, look, until)))
    finally:
        if pidfd >= 0:
            os.close(pidfd)


def builtins(here: Here) -> list[tuple[Any, tuple[str, Callable[[Any], Any]]]]:
    """Return functions with the function that makes the replacement of each from the real one."""
    found: list[tuple[Any, tuple[str, Callable[[Any], Any]]]] = [
        (os, ("waitpid", lambda real: _waitpid(real, here))),
        (os, ("wait", lambda real: _wait(here))),
    ]
    starting: Any = getattr(subprocess, "_fork_exec", None)
    if starting is not None and type(starting) is type(len):
        import _posixsubprocess

        found.append((_posixsubprocess, ("fork_exec", lambda real: _starts(real, here))))
    return found


def _starts(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def fork_exec(*args: Any) -> Any:
        world = here()
        if world is not None:
            world.border.descriptors.started_child()
        return real(*args)

    return fork_exec


def _waitpid(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def waitpid(pid: int, options: int, /) -> Any:
        world = here()
        if world is None or options & os.WNOHANG:
            return real(pid, options)
        found: list[Any] = []

        def look() -> bool:
            got = real(pid, options | os.WNOHANG)
            if got[0]:
                found.append(got)
            return bool(found)

        _ended(world, pid, lambda: found or look(), None, "os.waitpid")
        return found[0]

    return waitpid


def _wait(here: Here) -> Callable[..., Any]:
    def wait() -> Any:
        return os.waitpid(-1, 0)

    return wait


def semaphore_entries(here: Here) -> list[tuple[TypeEntry, Any]]:
    """Return the waiting methods of semaphores that processes share, with their replacements."""
    import _multiprocessing  # type: ignore[import-not-found]

    kind: Any = _multiprocessing.SemLock
    entry, enter = TypeEntry(kind, "acquire"), TypeEntry(kind, "__enter__")
    real = entry.saved

    def acquire(one: Any, block: bool = True, timeout: float | None = None) -> bool:
        world = here()
        if world is None or not block or (timeout is not None and timeout <= 0):
            return bool(real(one, block, timeout))
        until = None if timeout is None else world.loop.now + waiting_ns(timeout)
        return bool(
            world.border.outside.wait_for("a semaphore that processes share", PROCESS, lambda: real(one, False), until)
        )

    def entering(one: Any) -> bool:
        return acquire(one)

    return [(entry, acquire), (enter, entering)]
