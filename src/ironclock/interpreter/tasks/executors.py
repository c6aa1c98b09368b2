"""Thread pools: a pool has workers of its own in each rig, and real ones outside.

A `ThreadPoolExecutor` can be older than a rig, and can outlive it. Its real workers would live in real time inside a
rig, and simulated ones would never run again after it. So its queue, its threads and its count of idle workers are
exchanged when it is used in a rig, and put back when the rig is left.
"""

from __future__ import annotations

import queue
import threading
import weakref
from collections.abc import Callable
from typing import Any

from ..patching.builtin_patching import Here
from ..patching.late_patches import Function, Patch


class _Crew:
    """The workers of a pool, and the work that waits for them."""

    def __init__(self, work: Any, threads: Any, idle: Any) -> None:
        self.work, self.threads, self.idle = work, threads, idle

    @staticmethod
    def new() -> _Crew:
        return _Crew(queue.SimpleQueue(), set(), threading.Semaphore(0))

    @staticmethod
    def of(pool: Any) -> _Crew:
        return _Crew(pool._work_queue, pool._threads, pool._idle_semaphore)

    def put(self, pool: Any) -> None:
        pool._work_queue, pool._threads, pool._idle_semaphore = self.work, self.threads, self.idle


class Executors:
    """The pools that code of one rig uses."""

    def __init__(self) -> None:
        self._outside: weakref.WeakKeyDictionary[Any, _Crew] = weakref.WeakKeyDictionary()
        # The crews that pools have outside this rig.

    def enter(self, pool: Any) -> None:
        """Give a pool workers in this rig."""
        if pool not in self._outside:
            mine = _Crew.of(pool)
            # One without workers was made in this rig, or not used yet: nothing of it is real.
            self._outside[pool] = mine if mine.threads else _Crew.new()
            if mine.threads:
                _Crew.new().put(pool)

    def leave(self) -> None:
        """Give every pool the workers back that it has outside. What no worker has begun is cancelled."""
        for pool, crew in list(self._outside.items()):
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
            return real(pool, fn, *args, **kwargs)

        return submit

    return [Function(ThreadPoolExecutor.submit, make)]
