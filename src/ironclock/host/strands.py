"""Strands: jobs that stand still in simulated time while the engine goes on.

The engine's loop runs in a greenlet and calls a job directly, so that a job that never sleeps costs no switch.
When one sleeps, the greenlet it runs in becomes that job's, and a spare one goes on with the loop; when it wakes,
the loop's greenlet becomes a spare, and the job's, once the job is over, is the loop again.
"""

from __future__ import annotations

import contextlib
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
        self._wanted = False  # a suspended attempt asks for a fresh strand to go on with the loop
        self._abandoned: list[greenlet.greenlet] = []
        self._parked: dict[int, greenlet.greenlet] = {}

    leaving = greenlet.GreenletExit

    def run(self, loop: Callable[[], None]) -> None:
        """Run the loop on a greenlet of its own until it returns; raise what it raised."""
        self._loop = loop
        self._main = greenlet.getcurrent()
        strand = self._spares.pop() if self._spares else self._fresh()
        strand.switch()
        while self._wanted:
            # Started from here and not from the strand that wants it: a greenlet inherits the recursion
            # depth of its starter, and a long row of sleepers would run into the limit.
            self._wanted = False
            self._fresh().switch()
        error, self._error = self._error, None
        if error is not None:
            try:
                raise error
            finally:
                del error  # no knot of references through this frame

    def park(self, attempt: Attempt) -> None:
        """Suspend the running attempt here, and go on with the loop elsewhere."""
        if self._loop is _nothing:
            raise greenlet.GreenletExit  # the rig is closed: nothing sleeps any more
        here = attempt.strand = greenlet.getcurrent()
        self._parked[id(here)] = here
        try:
            if self._spares:
                self._spares.pop().switch()
            else:
                assert self._main is not None
                self._wanted = True
                self._main.switch()
        finally:
            self._parked.pop(id(here), None)

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

    def close(self) -> None:
        """End every suspended attempt, as a process that ends does: with an exit that no `except Exception` stops."""
        self._loop = _nothing
        for strand in list(self._parked.values()):
            for _ in range(100):  # a job that catches the exit and sleeps again
                if strand.dead:
                    break
                strand.parent = greenlet.getcurrent()
                with contextlib.suppress(BaseException):
                    strand.throw(greenlet.GreenletExit)
        self._spares.clear()

    def _fresh(self) -> greenlet.greenlet:
        made = greenlet.greenlet(self._work)
        made.gr_context = contextvars.copy_context()
        return made

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
