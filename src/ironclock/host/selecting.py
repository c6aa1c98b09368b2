"""Waiting for files and sockets: in a rig a wait that nothing real ends lasts simulated time.

The standard event loop waits for its next timer in a selector. There the wait is taken in simulated time,
once the selector has said that nothing real is ready.
"""

from __future__ import annotations

import selectors
from collections.abc import Callable
from typing import Any, TypeAlias

from .inplace import PythonFunction

Sleeper: TypeAlias = Callable[[], Callable[[float], None] | None]
"""Gives the calling thread's simulated sleep; None where it lives on the real clock."""

_KINDS = ("EpollSelector", "KqueueSelector", "DevpollSelector", "PollSelector", "SelectSelector")


def places() -> list[PythonFunction]:
    """Return the `select` of each kind of selector that this platform has."""
    found = (getattr(selectors, name, None) for name in _KINDS)
    # Some kinds share one function through a common base.
    functions = {id(kind.select): kind.select for kind in found if kind is not None}
    return [PythonFunction(function) for function in functions.values()]


def simulated(real: Callable[..., Any], sleeper: Sleeper) -> Callable[..., Any]:
    """Return a `select` that waits in simulated time for the threads that have any."""

    def select(selector: Any, timeout: float | None = None) -> Any:
        sleep = sleeper()
        if sleep is None or timeout is None or timeout <= 0:
            return real(selector, timeout)
        ready = real(selector, 0)
        if not ready:
            sleep(timeout)
            ready = real(selector, 0)
        return ready

    return select
