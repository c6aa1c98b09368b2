"""Waiting for files and sockets: in a rig a wait that nothing real ends lasts simulated time.

The standard event loop waits for its next timer in a selector. There the wait is taken in simulated time,
once the selector has said that nothing real is ready.
"""

from __future__ import annotations

import selectors
from collections.abc import Callable
from types import CodeType, FunctionType
from typing import Any

_KINDS = ("EpollSelector", "KqueueSelector", "DevpollSelector", "PollSelector", "SelectSelector")


class Selecting:
    """The `select` of one kind of selector, replaced in place by its code."""

    def __init__(self, function: FunctionType, sleep: Callable[[], Callable[[float], None] | None]) -> None:
        self._function = function
        self._saved = function.__code__
        real = FunctionType(self._saved, function.__globals__, function.__name__, function.__defaults__)

        def select(selector: Any, timeout: float | None = None) -> Any:
            simulated = sleep()
            if simulated is None or timeout is None or timeout <= 0:
                return real(selector, timeout)
            ready = real(selector, 0)
            if not ready:
                simulated(timeout)
                ready = real(selector, 0)
            return ready

        self._replacement: CodeType = _calling(select)

    def put(self) -> None:
        """Let every selector of this kind, made earlier too, wait in simulated time."""
        self._function.__code__ = self._replacement

    def restore(self) -> None:
        """Make it what it was."""
        self._function.__code__ = self._saved


def _template(self, timeout=None):  # type: ignore[no-untyped-def]
    stand_in = "stand-in"
    return stand_in(self, timeout)  # type: ignore[operator]


def _calling(stand_in: Callable[..., Any]) -> CodeType:
    code = _template.__code__
    constants: tuple[Any, ...] = tuple(stand_in if c == "stand-in" else c for c in code.co_consts)
    return code.replace(co_consts=constants)


def all_kinds(sleep: Callable[[], Callable[[float], None] | None]) -> list[Selecting]:
    """Return one for each kind of selector that this platform has; `sleep` gives the calling thread's, or None."""
    found = (getattr(selectors, name, None) for name in _KINDS)
    # Some kinds share one function through a common base.
    functions = {id(kind.select): kind.select for kind in found if kind is not None}
    return [Selecting(function, sleep) for function in functions.values()]
