"""Executors: a thread pool has its own workers in each rig, and real ones outside.

A `ThreadPoolExecutor` can be older than a rig, and can outlive it. Its real workers would live in real time inside a
rig, and simulated ones would never run again after it. So its queue, its threads and its count of idle workers are
exchanged when it is used in a rig, and put back when the rig is left.
"""

from __future__ import annotations

import contextlib
import queue
import threading
import weakref
from collections import deque
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from ...simulation.jobs import LiveAttempt
from ..patching.builtin_patching import Here
from ..patching.clock_functions import REAL
from ..patching.patches import Function, Patch
from ..patching.real_functions import real_get_ident
from .thread_locals import FIRST_IDENT, IDENTS, state_of_this_thread

_PARTS = ("_work_queue", "_threads", "_idle_semaphore")


class _Crew:
    """The workers of a pool, and the work that waits for them."""

    def __init__(self, work: Any, threads: Any, idle: Any) -> None:
        self.work, self.threads, self.idle = work, threads, idle

    @staticmethod
    def new() -> _Crew:
        return _Crew(queue.SimpleQueue(), set(), threading.Semaphore(0))

    @staticmethod
    def of(pool: Any) -> _Crew:
        return _Crew(*(vars(pool)[name] for name in _PARTS))

    def put(self, pool: Any) -> None:
        vars(pool).update(zip(_PARTS, (self.work, self.threads, self.idle), strict=True))


class _OnBehalf:
    """A function that a worker of a pool runs for an attempt: for that time its thread belongs to the attempt."""

    def __init__(self, loop: Any, attempt: LiveAttempt, function: Callable[..., Any]) -> None:
        self._loop, self.attempt, self._function = loop, attempt, function

    def __call__(self, *args: Any, **kwargs: Any) -> Any:
        thread = self._loop.current
        if thread is None or thread is self.attempt:
            return self._function(*args, **kwargs)
        before = thread.belong_to(self.attempt)
        try:
            return self._function(*args, **kwargs)
        finally:
            thread.belong_to(before)


class Executors:
    """The pools that code of one rig uses."""

    def __init__(self) -> None:
        self._outside: weakref.WeakKeyDictionary[Any, _Crew] = weakref.WeakKeyDictionary()
        # The crews that pools have outside this rig.
        self.for_threads: weakref.WeakKeyDictionary[Any, deque[Callable[[], None]]] = weakref.WeakKeyDictionary()
        """By real thread that waits for work of this rig, the work for it."""

    def enter(self, pool: Any) -> None:
        """Give a pool workers in this rig."""
        if pool not in self._outside:
            mine = _Crew.of(pool)
            # One without workers was made in this rig, or not used yet: nothing of it is real.
            self._outside[pool] = mine if mine.threads else _Crew.new()
            if mine.threads:
                _Crew.new().put(pool)

    def at_work(self) -> Iterator[tuple[Any, Any, int]]:
        """Yield for each pool the queue of its work, its threads, and how many it can have."""
        for pool in self._outside:
            crew = _Crew.of(pool)
            yield crew.work, crew.threads, pool._max_workers

    def idle_semaphores(self) -> list[Any]:
        """Return the semaphores with which pools count their idle workers."""
        return [_Crew.of(pool).idle for pool in self._outside]

    def worker_died(self, attempt: LiveAttempt, dead: set[int], start: Callable[[Callable[[], Any]], Any]) -> None:
        """Make every pool usable by the next attempt: what it was to do for this attempt is gone.

        Parameters: `dead` are the identifiers of the threads that have died; `start` starts a simulated thread.
        """
        for pool in list(self._outside):
            crew = _Crew.of(pool)
            lost = {thread for thread in crew.threads if thread.ident in dead}
            crew.threads -= lost
            left = []
            while not crew.work.empty():
                left.append(crew.work.get_nowait())
            for item in left:
                if item is not None and isinstance(item.fn, _OnBehalf) and item.fn.attempt is attempt:
                    item.future.cancel()
                else:
                    crew.work.put(item)
            if lost:
                # The count of idle workers counts the dead as well. With none a pool starts workers, up to its limit.
                _Crew(crew.work, crew.threads, threading.Semaphore(0)).put(pool)
                if not crew.work.empty():
                    start(partial(_start_worker, pool))

    def leave(self) -> None:
        """Give every pool the workers back that it has outside. What no worker has begun is cancelled."""
        for pool, crew in list(self._outside.items()) if self._outside else ():
            inside = _Crew.of(pool)
            crew.put(pool)
            if pool._shutdown:
                crew.work.put(None)
            while not inside.work.empty():
                item = inside.work.get_nowait()
                if item is not None:
                    item.future.cancel()
        self._outside.clear()


def pool_patches(here: Here) -> list[Patch]:
    """Return the patch of `ThreadPoolExecutor.submit`."""
    from concurrent.futures import ThreadPoolExecutor

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def submit(pool: Any, fn: Any, /, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None and world.threads.simulates_pools:
                world.border.executors.enter(pool)
                attempt = world.threads.attempt()
                if attempt is not None:
                    fn = _OnBehalf(world.loop, attempt, fn)
            return real(pool, fn, *args, **kwargs)

        return submit

    return [Function(ThreadPoolExecutor.submit, make)]


def current_thread_patches(here: Here) -> list[Patch]:
    """Return the patch of asgiref's `CurrentThreadExecutor.submit`.

    A test that is a coroutine runs in a thread of a pool, and hands what is synchronous to the main thread, which
    waits for that (https://github.com/django/asgiref#threading). In a rig a simulated thread does that work: it has
    the main thread's identifier and thread-local values, so that a database connection is the same one.
    """
    from asgiref.current_thread_executor import CurrentThreadExecutor

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def submit(executor: Any, fn: Any, /, *args: Any, **kwargs: Any) -> Any:
            world = here()
            thread = executor._work_thread
            if (
                world is None or not world.threads.simulates_pools or thread.ident == real_get_ident()
                or FIRST_IDENT <= thread.ident < FIRST_IDENT + IDENTS
            ):  # fmt: skip
                return real(executor, fn, *args, **kwargs)  # nothing else waits, or it waits in this rig
            from concurrent.futures import Future

            future: Future[Any] = Future()

            def work() -> None:
                if not future.set_running_or_notify_cancel():
                    return
                try:
                    result = fn(*args, **kwargs)
                except BaseException as error:
                    future.set_exception(error)
                else:
                    future.set_result(result)

            waiting = world.border.executors.for_threads.setdefault(thread, deque())
            waiting.append(work)
            if len(waiting) == 1:
                state = real(executor, state_of_this_thread)
                while not state.done():
                    REAL["sleep"](1e-4)
                world.threads.stand_in(thread.ident, state.result(), lambda: _work_off(waiting))
            return future

        return submit

    return [Function(CurrentThreadExecutor.submit, make)]


def _start_worker(pool: Any) -> None:
    with contextlib.suppress(RuntimeError):  # the pool is shut down
        pool.submit(int)  # anything: for new work a pool starts a worker


def _work_off(waiting: deque[Callable[[], None]]) -> None:
    while waiting:
        waiting[0]()
        waiting.popleft()
