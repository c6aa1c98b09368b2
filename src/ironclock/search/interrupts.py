"""Ctrl-C and SIGTERM during a search: they end it between two runs, with no rig entered. The second ends it now."""

from __future__ import annotations

import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any


class Interrupts:
    """What Ctrl-C has asked for in this process."""

    def __init__(self) -> None:
        self._asked = False

    @contextmanager
    def between_runs(self) -> Iterator[None]:
        """Let Ctrl-C and SIGTERM come between two runs, inside the block. A handler of the user's own stays."""
        if (
            threading.current_thread() is not threading.main_thread()
            or signal.getsignal(signal.SIGINT) is not signal.default_int_handler
        ):
            yield
            return
        self._asked = False
        dies_of_sigterm = signal.getsignal(signal.SIGTERM) is signal.SIG_DFL
        signal.signal(signal.SIGINT, self._note)
        if dies_of_sigterm:
            signal.signal(signal.SIGTERM, self._note)
        try:
            yield
        finally:
            signal.signal(signal.SIGINT, signal.default_int_handler)
            if dies_of_sigterm:
                signal.signal(signal.SIGTERM, signal.SIG_DFL)

    @contextmanager
    def at_once(self) -> Iterator[None]:
        """Let Ctrl-C come inside the block as it does in any program: what runs there can count on it."""
        if signal.getsignal(signal.SIGINT) != self._note:
            yield
            return
        signal.signal(signal.SIGINT, signal.default_int_handler)
        try:
            yield
        finally:
            signal.signal(signal.SIGINT, self._note)

    def _note(self, *_: Any) -> None:
        if self._asked:
            self._asked = False
            raise KeyboardInterrupt
        self._asked = True

    def check(self) -> None:
        """Raise `KeyboardInterrupt` if somebody has asked for it."""
        if self._asked:
            self._asked = False
            raise KeyboardInterrupt


interrupts = Interrupts()  # of the process, as its signals are
