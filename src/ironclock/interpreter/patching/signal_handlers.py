"""Signal handlers: what a real signal raises reaches the test, whichever task runs when it comes.

Python calls handlers in the main thread. Simulated threads run in it as well, so that a `KeyboardInterrupt`, or the
error of a time limit, would be raised in one of them: it would be the thread's error, and the test would go on.
"""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable
from typing import Any

from .builtin_patching import Here
from .real_functions import real_getsignal, real_signal

_NAMES = ("SIGINT", "SIGTERM", "SIGALRM", "SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGVTALRM", "SIGPROF")
_NUMBERS = [int(getattr(signal, name)) for name in _NAMES if hasattr(signal, name)]


class HandlerOfTest:
    """A handler that code outside the rig, or the test's own code, has set."""

    def __init__(self, handler: Callable[[int, Any], Any], here: Here) -> None:
        self.handler = handler
        self._here = here

    def __call__(self, number: int, frame: Any) -> Any:
        world = self._here()
        if world is None or world.loop.current is None:
            return self.handler(number, frame)
        try:
            return self.handler(number, frame)
        except BaseException as error:
            world.loop.raise_in_test(error)


class SignalHandlers:
    """A patch: while it is in place, the handlers that are set raise their errors in the test."""

    def __init__(self, here: Here) -> None:
        self._here = here

    def put(self) -> None:
        if threading.current_thread() is threading.main_thread():
            for number in _NUMBERS:
                handler = real_getsignal(number)
                if callable(handler) and not isinstance(handler, HandlerOfTest):
                    real_signal(number, HandlerOfTest(handler, self._here))

    def restore(self) -> None:
        if threading.current_thread() is threading.main_thread():
            for number in (*_NUMBERS, *_set_in_rig):
                handler = real_getsignal(number)
                if isinstance(handler, HandlerOfTest):
                    real_signal(number, handler.handler)
            _set_in_rig.clear()


def handler_of_test(number: int, handler: Callable[[int, Any], Any], here: Here) -> HandlerOfTest:
    """Return a handler that the test's own code sets, as it is installed."""
    if number in signal.valid_signals():  # else to set it fails
        _set_in_rig.add(int(number))
    return HandlerOfTest(handler, here)


_set_in_rig: set[int] = set()  # the signals whose handlers the test's own code has set


def as_set(handler: Any) -> Any:
    """Return a handler as it was set."""
    return handler.handler if isinstance(handler, HandlerOfTest) else handler
