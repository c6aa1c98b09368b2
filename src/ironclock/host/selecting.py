"""Waiting for files and sockets: in a rig a wait that nothing real ends lasts simulated time.

The standard event loop waits for its next timer in a selector. There the wait is taken in simulated time,
once the selector has said that nothing real is ready.
"""

from __future__ import annotations

import selectors
from collections.abc import Callable
from typing import Any

from ..core.durations import NS
from .inplace import PythonFunction
from .locks import GRACE_S, others_run

_KINDS = ("EpollSelector", "KqueueSelector", "DevpollSelector", "PollSelector", "SelectSelector")


def places() -> list[PythonFunction]:
    """Return the `select` of each kind of selector that this platform has."""
    found = (getattr(selectors, name, None) for name in _KINDS)
    # Some kinds share one function through a common base.
    functions = {id(kind.select): kind.select for kind in found if kind is not None}
    return [PythonFunction(function) for function in functions.values()]


def simulated(real: Callable[..., Any], here: Callable[[], Any]) -> Callable[..., Any]:
    """Return a `select` that waits in simulated time for the threads that have any."""

    def select(selector: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None or (timeout is not None and timeout <= 0):
            return real(selector, timeout)
        ready = real(selector, 0)
        if ready:
            return ready
        watched = len(selector._fd_to_key)
        if watched <= 1 and timeout is not None and not world.threads.alive and not world.engine.watches:
            # An event loop with nothing but timers, and nobody who could wake it.
            world.sleep(timeout)
            return real(selector, 0)
        return _wait(world, lambda: real(selector, 0), timeout, watched > 1)

    return select


def _wait(world: Any, look: Callable[[], Any], timeout: float | None, files: bool) -> Any:
    """Wait in simulated time, unless something real is about to come; return what is ready."""
    engine = world.engine
    found: list[Any] = []

    def ready() -> bool:
        found[:] = look()
        return bool(found)

    until = None if timeout is None else engine.now + round(timeout * NS)
    while not ready():
        if (files or others_run()) and world.real_wait(ready, GRACE_S):
            break
        if until is None and engine.next_due_ns is None and not engine.uneven_now:
            world.real_wait(ready, GRACE_S)  # only something real can end this
            if engine.current is not None:
                engine.wait(ready, None)
            continue
        engine.wait(ready, until)
        if until is not None and engine.now >= until:
            break
    return found or look()
