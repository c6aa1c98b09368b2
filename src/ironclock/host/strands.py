"""Strands: jobs that stand still in simulated time while the engine goes on.

The engine's loop runs in a greenlet and calls a job directly, so that a job that never sleeps costs no switch.
When one sleeps, the greenlet it runs in becomes that job's, and a spare one goes on with the loop; when it wakes,
the loop's greenlet becomes a spare, and the job's, once the job is over, is the loop again.
"""

from __future__ import annotations

import contextlib
import contextvars
import sys
import threading
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, cast

import greenlet

from ..core.task import Task
from .burial import bury

idle: list[_Strand] | None = None
"""Greenlets whose carriers are gone, to be used again; None where nobody keeps them. Making one takes the system longer
than a short run takes."""


@contextlib.contextmanager
def kept_idle() -> Iterator[None]:
    """Keep greenlets for the carriers to come, inside the block and in this thread."""
    global idle
    if idle is not None or threading.current_thread() is not threading.main_thread():
        yield
        return
    idle = []
    try:
        yield
    finally:
        idle = None


class _Seat:
    """Which carrier a greenlet belongs to, and whether it stands between two loops or somewhere in one."""

    __slots__ = ("rests", "strands")

    def __init__(self) -> None:
        self.strands: Strands | None = None
        self.rests = False


class _Strand(greenlet.greenlet):  # type: ignore[misc]
    """A greenlet that runs the loop of whichever carrier it belongs to, again and again."""

    seat: _Seat


def _new_strand() -> _Strand:
    # Its function holds the seat and not the greenlet: a frame that holds its own greenlet keeps it alive for ever.
    seat = _Seat()
    made = _Strand(partial(_work, seat))
    made.seat = seat
    return made


def _work(seat: _Seat, *_: Any) -> None:
    while True:
        strands = seat.strands
        assert strands is not None
        try:
            strands._loop()
        except greenlet.GreenletExit:
            raise
        except BaseException as error:
            strands._error = error
        strands._spares.append(cast(_Strand, greenlet.getcurrent()))
        main = strands._main
        assert main is not None
        del strands  # it may be given to another carrier where it stands
        seat.rests = True
        main.switch()
        seat.rests = False


class Strands:
    """The carrier of a rig: one loop at a time, any number of suspended attempts."""

    def __init__(self) -> None:
        self._main: greenlet.greenlet | None = None
        self._spares: list[_Strand] = []
        self._loop: Callable[[], None] = _nothing
        self._error: BaseException | None = None
        self._doomed: greenlet.greenlet | None = None
        self._wanted = False  # a suspended attempt asks for a fresh strand to go on with the loop
        self._abandoned: list[greenlet.greenlet] = []
        self._parked: dict[int, greenlet.greenlet] = {}

    leaving = greenlet.GreenletExit

    def run(self, loop: Callable[[], None]) -> None:
        """Run the loop on a greenlet of its own until it returns; raise what it raised."""
        self._loop = loop
        self._main = greenlet.getcurrent()
        events = _loop_aside()
        strand = self._spares.pop() if self._spares else self._fresh()
        strand.switch()
        while self._wanted:
            # Started from here and not from the strand that wants it: a greenlet inherits the recursion
            # depth of its starter, and a long row of sleepers would run into the limit.
            self._wanted = False
            if self._doomed is not None:
                doomed, self._doomed = self._doomed, None
                bury(doomed)
                del doomed
                _loop_aside()
            self._fresh().switch()
        if events is not None:
            _loop_back(events)
        error, self._error = self._error, None
        if error is not None:
            try:
                raise error
            finally:
                del error  # no knot of references through this frame

    def park(self, task: Task) -> None:
        """Suspend the running attempt here, and go on with the loop elsewhere."""
        if self._loop is _nothing:
            raise greenlet.GreenletExit  # the rig is closed: nothing sleeps any more
        here = task.strand = greenlet.getcurrent()
        self._parked[id(here)] = here
        events = _loop_aside()
        if task.own_locals:
            task.swap_locals()
        try:
            if self._spares:
                self._spares.pop().switch()
            else:
                assert self._main is not None
                self._wanted = True
                self._main.switch()
        finally:
            self._parked.pop(id(here), None)
            if task.own_locals:
                task.swap_locals()
            if events is not None:
                _loop_back(events)

    def resume(self, task: Task) -> None:
        """Let a suspended attempt go on in place of the present loop."""
        self._spares.append(cast(_Strand, greenlet.getcurrent()))
        task.strand.switch()

    def throw(self, task: Task, error: BaseException) -> None:
        """Let a suspended attempt go on with an error."""
        self._spares.append(cast(_Strand, greenlet.getcurrent()))
        task.strand.throw(error)

    def kill(self, task: Task) -> None:
        """End the running task here and now, and go on with the loop elsewhere; never returns."""
        self._doomed = greenlet.getcurrent()
        self._wanted = True
        assert self._main is not None
        self._main.switch()
        raise AssertionError("a dead worker went on")

    def bury(self, task: Task) -> None:
        """End a suspended task."""
        strand = task.strand
        if strand is not None:
            self._parked.pop(id(strand), None)
            task.strand = None
            events = _loop_aside()
            bury(strand)
            _loop_aside()
            if events is not None:
                _loop_back(events)

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

    def bury_all(self) -> None:
        """End every suspended attempt as the death of the process would, with none of its handlers run."""
        self._loop = _nothing
        for strand in list(self._parked.values()):
            bury(strand)
        self._parked.clear()
        if idle is not None:
            for spare in self._spares:
                if spare.seat.rests:
                    spare.seat.strands = None
                    idle.append(spare)
        self._spares.clear()

    def _fresh(self) -> _Strand:
        made = idle.pop() if idle else _new_strand()
        made.seat.strands = self
        made.gr_context = contextvars.copy_context()
        return made


def _nothing() -> None:
    return


def _loop_aside() -> Any:
    """Take down which event loop runs in this thread, and return it: each strand has its own."""
    events = sys.modules.get("asyncio.events")
    if events is None:
        return None
    running = events._get_running_loop()
    if running is not None:
        events._set_running_loop(None)
    return running


def _loop_back(running: Any) -> None:
    sys.modules["asyncio.events"]._set_running_loop(running)
