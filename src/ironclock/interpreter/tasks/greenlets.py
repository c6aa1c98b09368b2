"""Greenlets: how jobs and threads are suspended in simulated time while the event loop continues.

The event loop runs in a greenlet and calls a job directly, so that a job that never sleeps costs no switch. When a job
sleeps, the greenlet that it runs in becomes the job's own, and another greenlet continues with the loop. When the job
wakes up, the greenlet of the loop becomes a spare one; when the job has ended, its greenlet is the loop again.
"""

from __future__ import annotations

import contextlib
import contextvars
import threading
from collections.abc import Callable, Iterator
from functools import partial
from types import FrameType
from typing import Any, cast

import greenlet

from ...simulation.task import Task
from ..running_loop import LoopOfThread, put_running_loop, take_running_loop
from .end_asyncio_loops import close_loop_of_dead, tasks_of
from .end_without_handlers import end_without_handlers
from .held_locks import HeldLocks, recent_locks

spare_pool: list[_LoopGreenlet] | None = None
"""Spare greenlets of switchers that are gone. None if nobody keeps them. To make one takes longer than a short run."""


@contextlib.contextmanager
def spares_kept() -> Iterator[None]:
    """Keep spare greenlets for the next switchers, inside the block and in the main thread."""
    global spare_pool
    if spare_pool is not None or threading.current_thread() is not threading.main_thread():
        yield
        return
    spare_pool = []
    try:
        yield
    finally:
        spare_pool = None


_MOST_EXITS = 100
"""How often a task can catch the exit when its rig is closed, and wait again."""


class _Owner:
    """Which switcher a greenlet works for, and whether it waits between two runs of the loop."""

    __slots__ = ("between_runs", "switcher")

    def __init__(self) -> None:
        self.switcher: GreenletSwitcher | None = None
        self.between_runs = False


class _LoopGreenlet(greenlet.greenlet):  # type: ignore[misc]
    """A greenlet that runs the event loop of its switcher, again and again."""

    owner: _Owner


def _new_greenlet() -> _LoopGreenlet:
    # Its function holds the owner and not the greenlet: a frame that holds its own greenlet is never freed.
    owner = _Owner()
    made = _LoopGreenlet(partial(_run_loops, owner))
    made.owner = owner
    return made


def _run_loops(owner: _Owner, *_: Any) -> None:
    while True:
        switcher = owner.switcher
        assert switcher is not None
        main = switcher.run_loop_once()
        del switcher  # the greenlet can be given to another switcher while it waits here
        owner.between_runs = True
        main.switch()
        owner.between_runs = False


class GreenletSwitcher:
    """The task switcher of a rig: one run of the loop at a time, and any number of suspended tasks."""

    exits = greenlet.GreenletExit

    def __init__(self) -> None:
        self.held_locks = HeldLocks()
        """Which task has taken which lock."""
        self._main: greenlet.greenlet | None = None
        self._spares: list[_LoopGreenlet] = []
        self.enter_thread: Callable[[Task | None], None] | None = None
        """Puts the thread-local values of a task in place, or of the test (None)."""
        self._loop: Callable[[], None] = _closed
        self._exits_to: greenlet.greenlet | None = None
        self._closer: greenlet.greenlet | None = None  # where `close` goes on when a task waits again and again
        self._exits_left = _MOST_EXITS
        self._error: BaseException | None = None
        self._ending: tuple[greenlet.greenlet, LoopOfThread | None] | None = None
        # A running task that is to end without its handlers, and the asyncio loop that runs in it.
        self._wants_greenlet = False  # a suspended task asks for a new greenlet to continue with the loop
        self._abandoned: list[greenlet.greenlet] = []
        self._suspended: dict[int, greenlet.greenlet] = {}
        self._asyncio_loops: dict[int, LoopOfThread] = {}  # those that run in suspended tasks
        self._asyncio_loop_here: LoopOfThread | None = None

    def run(self, loop: Callable[[], None]) -> None:
        """Run the loop in a greenlet until it returns. Raises what the loop raises."""
        self._loop = loop
        if recent_locks:
            self.held_locks.note_recent(None)
        self._main = greenlet.getcurrent()
        events = take_running_loop()
        try:
            first = self._spare() if self._spares else self._fresh()
            first.switch()
            while self._wants_greenlet:
                # Started from here, not from the greenlet that asks: a greenlet inherits the recursion depth of its
                # starter, and a long row of sleeping tasks would reach the limit.
                self._wants_greenlet = False
                if self._ending is not None:
                    ending, self._ending = self._ending, None
                    _end(*ending)
                    del ending
                self._fresh().switch()
        finally:
            if self.enter_thread is not None:
                self.enter_thread(None)
            put_running_loop(events)
        if not self._suspended:
            self._let_spares_rest()
        error, self._error = self._error, None
        if error is not None:
            try:
                raise error
            finally:
                del error  # no cycle of references through this frame

    @property
    def frame_of_test(self) -> FrameType | None:
        """The frame in which the test's own code waits for a run of the loop. None outside a run."""
        return None if self._main is None else self._main.gr_frame

    def run_loop_once(self) -> greenlet.greenlet:
        """Run the loop in the current greenlet, which is a spare one afterwards; return the greenlet to switch to."""
        try:
            self._loop()
        except greenlet.GreenletExit:
            raise
        except BaseException as error:
            self._error = error
        self._spares.append(cast(_LoopGreenlet, greenlet.getcurrent()))
        assert self._main is not None
        return self._main

    def suspend(self, task: Task, then: Task | None = None) -> None:
        """Suspend the running task, and continue a suspended one, or the loop in another greenlet."""
        if self._exits_to is not None:
            self._exits_to.switch()  # for good
        if self._loop is _closed:
            self._exits_left -= 1
            if self._exits_left < 0 and self._closer is not None:
                self._closer.switch()  # for good
            raise greenlet.GreenletExit  # the rig is closed: nothing can sleep any more
        if recent_locks:
            self.held_locks.note_recent(task)
        here = task.suspension = greenlet.getcurrent()
        self._suspended[id(here)] = here
        events = take_running_loop()
        if events is not None:
            self._asyncio_loops[id(here)] = events
        try:
            if then is not None:
                then.suspension.switch()
            elif self._spares:
                self._spare().switch()
            else:
                assert self._main is not None
                self._wants_greenlet = True
                self._main.switch()
        finally:
            self._suspended.pop(id(here), None)
            self._asyncio_loops.pop(id(here), None)
            task.suspension = None  # its greenlet runs other things later, whose frames hold the rig unseen
            if self.enter_thread is not None:
                self.enter_thread(task)
            put_running_loop(events)

    def resume(self, task: Task) -> None:
        """Continue a suspended task in place of the present run of the loop."""
        self._spares.append(cast(_LoopGreenlet, greenlet.getcurrent()))
        task.suspension.switch()

    def throw(self, task: Task, error: BaseException) -> None:
        """Continue a suspended task with an error."""
        self._spares.append(cast(_LoopGreenlet, greenlet.getcurrent()))
        task.suspension.throw(error)

    def note_running_asyncio_loop(self) -> None:
        """Keep the asyncio loop that runs in the running task: its thread-local values are freed before it ends."""
        self._asyncio_loop_here = take_running_loop()

    def end_running(self, task: Task) -> None:
        """End the running task now, without its handlers, and continue with the loop. Never returns."""
        asyncio_loop, self._asyncio_loop_here = self._asyncio_loop_here, None
        self._ending = greenlet.getcurrent(), take_running_loop() or asyncio_loop
        self._wants_greenlet = True
        assert self._main is not None
        self._main.switch()
        raise AssertionError("a task that has ended went on")

    def end_suspended(self, task: Task) -> None:
        """End a suspended task without its handlers."""
        suspension = task.suspension
        if suspension is not None:
            self._suspended.pop(id(suspension), None)
            task.suspension = None
            events = take_running_loop()
            _end(suspension, self._asyncio_loops.pop(id(suspension), None))
            put_running_loop(events)

    def abort(self, error: BaseException) -> None:
        """End the whole run with an error. The running task stays where it is for good."""
        here = greenlet.getcurrent()
        if self._main is not None and here is not self._main:
            self._abandoned.append(here)
            self._main.throw(error)

    @property
    def has_suspended(self) -> bool:
        """True if a task is suspended."""
        return bool(self._suspended)

    def close(self) -> None:
        """End every suspended task with an exit that `except Exception` does not stop, as a process that ends does. One
        that catches the exit again and again ends without its handlers."""
        self._loop = _closed
        self._closer = greenlet.getcurrent()
        for suspension in list(self._suspended.values()):
            self._exits_left = _MOST_EXITS
            suspension.parent = self._closer
            events = self._asyncio_loops.get(id(suspension))
            with contextlib.suppress(BaseException):
                suspension.throw(greenlet.GreenletExit)
            if not suspension.dead:
                take_running_loop()
                _end(suspension, events)
        self._closer = None
        self._suspended.clear()
        self._spares.clear()

    def exit(self, task: Task, error: BaseException) -> None:
        """End a suspended task with an exit, which its handlers see. If it sleeps again it ends without them."""
        suspension, task.suspension = task.suspension, None
        if suspension is None or suspension.dead:
            return
        events = take_running_loop()
        self._exits_to = suspension.parent = greenlet.getcurrent()
        try:
            with contextlib.suppress(BaseException):
                suspension.throw(error)
        finally:
            self._exits_to = None
            take_running_loop()
            self._suspended.pop(id(suspension), None)
            _end(suspension, self._asyncio_loops.pop(id(suspension), None))
            put_running_loop(events)

    def end_all(self) -> None:
        """End every suspended task without its handlers."""
        self._loop = _closed
        for suspension in list(self._suspended.values()):
            _end(suspension, self._asyncio_loops.pop(id(suspension), None))
        self._suspended.clear()
        self._let_spares_rest()
        if spare_pool is not None:
            spare_pool.extend(self._spares)
        self._spares.clear()

    def _let_spares_rest(self) -> None:
        """Cut what ties the spare greenlets to this switcher, once no task is suspended.

        The garbage collector does not see what the frame of a suspended greenlet holds. A spare that held its switcher
        would keep the whole rig alive for ever.
        """
        # One that stopped in the middle of a run of the loop is dropped: its frames hold the loop.
        self._spares = [spare for spare in self._spares if spare.owner.between_runs]
        for spare in self._spares:
            spare.owner.switcher = None

    def _spare(self) -> _LoopGreenlet:
        spare = self._spares.pop()
        spare.owner.switcher = self
        return spare

    def _fresh(self) -> _LoopGreenlet:
        made = spare_pool.pop() if spare_pool else _new_greenlet()
        made.owner.switcher = self
        made.gr_context = contextvars.copy_context()
        return made


def _end(suspension: greenlet.greenlet, running: LoopOfThread | None) -> None:
    """End a greenlet without its handlers, with the asyncio loop that runs in it. None: no loop does."""
    tasks = () if running is None else tasks_of(running.asyncio_loop)
    end_without_handlers(suspension)
    take_running_loop()
    if running is not None:
        close_loop_of_dead(running.asyncio_loop, tasks)


def _closed() -> None:
    return
