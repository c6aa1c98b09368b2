"""Child processes: waiting for one takes real time, and stops nobody else."""

from __future__ import annotations

import os
import select
import signal
import subprocess
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...errors import RigStateError
from ...foundation.durations import NS
from ..patching.builtin_patching import Here
from ..patching.clock_functions import REAL, waiting_ns
from ..patching.patches import Builtins, Function, Make, Methods, Patch
from ..patching.real_functions import poll_for
from ..patching.system import open_process
from .outside_waits import IN_PLACE_S, PROCESS, OutsideWait, OutsideWaits

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ..entered_rig import EnteredRig

_OFTEN_S = 5.0  # who asks again within so many simulated seconds waits for the end of the child
_SELDOM_COSTS = 10  # how much sooner than that others have waited long enough
_LOOK_S = 0.001


def _popen_wait(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return the replacement of the function with which `Popen.wait` and `subprocess.run` wait."""

    def wait(self: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None or (timeout is not None and timeout <= 0) or self.returncode is not None:
            return real(self, timeout)
        ended = lambda: world.border.child_polls.looking(self.poll) is not None  # noqa: E731
        if not _ended(world, self.pid, ended, timeout, "a child process's wait"):
            raise subprocess.TimeoutExpired(self.args, timeout or 0.0)
        self.poll()
        return self.returncode

    return wait


def _ended(world: EnteredRig, pid: int, look: Callable[[], Any], timeout: float | None, what: str) -> bool:
    """Wait for the end of a child process, at most `timeout` seconds."""
    if look():
        return True
    pidfd = open_process(pid)
    fds = [(pidfd, select.POLLIN)] if pidfd >= 0 else []
    until = None if timeout is None else world.loop.now + waiting_ns(timeout)
    exchange = world.border.outside.exchange(PROCESS, "process")
    try:
        return bool(world.border.outside.wait(OutsideWait(what, [exchange], fds, look, until)))
    finally:
        if pidfd >= 0:
            os.close(pidfd)


def process_patches(here: Here) -> list[Patch]:
    """Return the patches of what starts, ends and waits for processes."""
    import _multiprocessing  # type: ignore[import-not-found]
    import _posixsubprocess

    functions: dict[str, Make] = {
        "waitpid": lambda real: _waitpid(real, here),
        "wait": lambda real: _wait(here),
        "_exit": lambda real: _ends_process(real, here, lambda status: f"os._exit({status})"),
        "abort": lambda real: _ends_process(real, here, lambda: "os.abort()"),
        "kill": lambda real: _ends_process(real, here, _kill_in_words),
    }
    acquire = _acquires(_multiprocessing.SemLock.acquire, here)
    return [
        Builtins(os, functions),
        Builtins(_posixsubprocess, {"fork_exec": lambda real: _starts(real, here)}),
        Methods(
            _multiprocessing.SemLock, {"acquire": lambda _: acquire, "__enter__": lambda _: lambda one: acquire(one)}
        ),
        Function(subprocess.Popen._wait, lambda real: _popen_wait(real, here)),  # type: ignore[attr-defined]
    ]


def _ends_process(real: Callable[..., Any], here: Here, told: Callable[..., str]) -> Callable[..., Any]:
    """Return a function that ends the process, for code of a rig: in a job it is its worker that dies.

    Parameters: `told` says a call in words. It is empty for one that does not end this process.
    """

    def ends(*args: Any, **kwargs: Any) -> Any:
        world = here()
        why = "" if world is None or os.getpid() != world.border.pid else told(*args, **kwargs)
        if world is None or not why:
            return real(*args, **kwargs)
        task = world.loop.current
        if task is not None and task.owner is not None:
            world.border.worker_exits(task, why)
        elif world.loop.decisions is not None:
            raise RigStateError(f"the story calls {why}, which would end the search; let it return, or raise an error")
        return real(*args, **kwargs)

    return ends


def _kill_in_words(pid: int, number: int) -> str:
    return "os.kill with SIGKILL" if pid == os.getpid() and number == signal.SIGKILL else ""


class ChildPolls:
    """Code that asks again and again if a child has ended: its clock goes no faster than the child's, which is real.

    If it asks only now and then, whether the child is still there, it hardly waits.
    """

    def __init__(self, loop: EventLoop, waits: OutsideWaits) -> None:
        self._loop = loop
        self._waits = waits
        self._looks = False
        self._asked: dict[int, tuple[int, float, float]] = {}
        # By number of the process: when it was asked for last, in simulated and in real time, and how many real
        # seconds it can still be waited for.

    def looking(self, ask: Callable[[], Any]) -> Any:
        """Ask for the end of a child at once, for a wait that has a grace of its own."""
        self._looks = True
        try:
            return ask()
        finally:
            self._looks = False

    def poll(self, pid: int, ask: Callable[[], Any]) -> Any:
        """Ask for the end of a child: at once, and if it runs and simulated time has passed, for as long again."""
        answer = ask()
        if answer[0]:
            self._asked.pop(pid, None)
            return answer
        if self._looks:
            return answer
        now, now_s = self._loop.now, REAL["monotonic"]()
        before, before_s, left_s = self._asked.get(pid, (now, now_s, PROCESS.grace_s))
        passed_s = (now - before) / NS
        waits_for_end = passed_s <= _OFTEN_S
        rest_s = min((passed_s if waits_for_end else IN_PLACE_S) - (now_s - before_s), left_s)
        if rest_s > 0:
            self._waits.looks_for_real = True
            began = now_s
            pidfd = open_process(pid)
            try:
                while not answer[0] and (still_s := began + rest_s - REAL["monotonic"]()) > 0:
                    if pidfd >= 0:
                        poll_for(pidfd, select.POLLIN, max(1, round(still_s * 1000)))
                    else:
                        REAL["sleep"](_LOOK_S)
                    answer = ask()
            finally:
                self._waits.looks_for_real = False
                if pidfd >= 0:
                    os.close(pidfd)
            left_s -= (REAL["monotonic"]() - began) * (1 if waits_for_end else _SELDOM_COSTS)
        self._asked[pid] = now, REAL["monotonic"](), left_s
        return answer


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
        if world is None:
            return real(pid, options)
        if options & os.WNOHANG:
            return world.border.child_polls.poll(pid, lambda: real(pid, options))
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


def _acquires(real: Callable[..., Any], here: Here) -> Callable[..., bool]:
    """Return the replacement of the method with which semaphores wait that processes share."""

    def acquire(one: Any, block: bool = True, timeout: float | None = None) -> bool:
        world = here()
        if world is None or not block or (timeout is not None and timeout <= 0):
            return bool(real(one, block, timeout))
        until = None if timeout is None else world.loop.now + waiting_ns(timeout)
        return bool(
            world.border.outside.wait_for("a semaphore that processes share", PROCESS, lambda: real(one, False), until)
        )

    return acquire
