"""Strands: jobs that stand still in simulated time while the engine goes on.

The engine's loop runs in a greenlet and calls a job directly, so that a job that never sleeps costs no switch.
When one sleeps, the greenlet it runs in becomes that job's, and a spare one goes on with the loop; when it wakes,
the loop's greenlet becomes a spare, and the job's, once the job is over, is the loop again.
"""

from __future__ import annotations

import contextvars
from collections.abc import Callable
from typing import Any

import greenlet

from ..core.jobs import Attempt


class Strands:
    """The carrier of a rig: one loop at a time, any number of suspended attempts."""

    def __init__(self) -> None:
        self._main: greenlet.greenlet | None = None
        self._spares: list[greenlet.greenlet] = []
        self._loop: Callable[[], None] = _nothing
        self._error: BaseException | None = None
        self._abandoned: list[greenlet.greenlet] = []

    def run(self, loop: Callable[[], None]) -> None:
        """Run the loop on a greenlet of its own until it returns; raise what it raised."""
        self._loop = loop
        self._main = greenlet.getcurrent()
        self._take().switch()
        error, self._error = self._error, None
        if error is not None:
            try:
                raise error
            finally:
                del error  # no knot of references through this frame

    def park(self, attempt: Attempt) -> None:
        """Suspend the running attempt here, and go on with the loop elsewhere."""
        attempt.strand = greenlet.getcurrent()
        self._take().switch()

    def resume(self, attempt: Attempt) -> None:
        """Let a suspended attempt go on in place of the present loop."""
        self._spares.append(greenlet.getcurrent())
        attempt.strand.switch()

    def throw(self, attempt: Attempt, error: BaseException) -> None:
        """Let a suspended attempt go on with an error."""
        self._spares.append(greenlet.getcurrent())
        attempt.strand.throw(error)

    def abort(self, error: BaseException) -> None:
        """End the whole run with an error, leaving the running attempt where it stands for good."""
        here = greenlet.getcurrent()
        if self._main is not None and here is not self._main:
            self._abandoned.append(here)
            self._main.throw(error)

    def _take(self) -> greenlet.greenlet:
        if self._spares:
            return self._spares.pop()
        fresh = greenlet.greenlet(self._work)
        fresh.gr_context = contextvars.copy_context()
        return fresh

    def _work(self, *_: Any) -> None:
        while True:
            try:
                self._loop()
            except greenlet.GreenletExit:
                raise
            except BaseException as error:
                self._error = error
            self._spares.append(greenlet.getcurrent())
            assert self._main is not None
            self._main.switch()


def _nothing() -> None:
    return
