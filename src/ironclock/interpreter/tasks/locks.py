"""Locks in simulated time: a task that waits for a lock is suspended while the rest of the rig continues.

The lock itself is the real one: it is taken for real as soon as it is free. Only the waiting is simulated. A reentrant
lock belongs to a real thread, and a rig has only one of them; so the task that holds it is noted here.
"""

from __future__ import annotations

import _thread
import queue
import sys
import threading
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from ...errors import StuckError
from ...foundation.durations import NS
from ...foundation.source_location import waiting_at
from ..patching.builtin_patching import Here
from ..patching.clock_functions import waiting_ns
from ..patching.patches import Function, Make, Methods, Patch
from ..patching.real_threads import GRACE, others_run, wait_for_others
from .circular_waits import waits_for_futures
from .held_locks import recent_locks
from .watched_threads import watched_threads

if TYPE_CHECKING:
    from ...simulation.task import Task
    from ..entered_rig import EnteredRig
    from .deadlocks import Deadlocks
    from .simulated_threads import SimulatedThreads

DAY_NS = 86_400 * NS

_Lock = type(_thread.allocate_lock())
_RLock: Any = _thread.RLock
_SimpleQueue = queue.SimpleQueue


_real_is_owned, _real_release = _RLock._is_owned, _RLock.release


def block(
    world: EnteredRig, take: Callable[[], Any], free: Callable[[], Any], timeout: float, what: str, lock: Any = None
) -> bool:
    """Let simulated time pass until `take` succeeds, at most `timeout` seconds (-1: no limit)."""
    loop = world.loop
    if watched_threads and lock is not None and loop.current is not None:
        deadlocks = world.threads.deadlocks
        if deadlocks is not None:
            return _watched(world, loop.current, deadlocks, take, free, timeout, what, lock)
    until = None if timeout < 0 else loop.now + waiting_ns(timeout)
    if until is not None and loop.current is not None and loop.current.sleeps is not None and not free():
        loop.current.sleeps(until, free)
    grace, span, looks = GRACE, NS, timeout < 0 and lock is not None
    while not take():
        if looks and sys._getframe(2).f_code is not _WAIT_CODE:  # not a condition's own line
            world.border.outside.before_next_move(world.threads.circular.look)
        looks = False
        if until is not None and loop.now >= until:
            if not timeout:
                world.clock.waited_for_nothing()
            return False
        if others_run():
            # One of them can release it at any real moment: simulated time moves in steps that grow.
            if wait_for_others(free, grace):
                continue
            grace, step = GRACE // 10, loop.now + span
            span = min(span * 2, DAY_NS)
            if loop.current is None and loop.next_due_ns is None and until is None:
                continue  # nothing simulated is left that could release it
            loop.wait(free, step if until is None else min(step, until))
            continue
        # A task can wake up and find that another was faster. The test's own code waits until nothing more happens.
        if until is None and loop.current is None:
            free = world.border.outside.within_reason(free, what)
        woken = loop.wait(free, until)
        if not woken and until is None and loop.current is None and not others_run() and not free():
            dead = "".join(f". {line}" for line in (*world.host.dead_workers(), *world.host.deadlocks()))
            raise StuckError(
                f"the test waits for {what}, and nothing is left that could release it, at {waiting_at()}; give the "
                f"wait a timeout, or release it in a job or thread{dead}"
            )
    if isinstance(lock, _Lock):
        world.threads.held_locks.note(world.loop.current, lock)
    return True


def _watched(
    world: EnteredRig, task: Task, deadlocks: Deadlocks, take: Callable[[], Any], free: Callable[[], Any],
    timeout: float, what: str, lock: Any,
) -> bool:  # fmt: skip
    """Wait as `block` does, and note who takes which lock."""
    where = deadlocks.comes(task)
    taken = bool(take())
    if not taken:
        if timeout < 0 and task.deadline_ns < 0:
            deadlocks.waits(task, lock, where)
        taken = block(world, take, free, timeout, what)
        deadlocks.goes_on(task)
    if taken:
        deadlocks.takes(task, lock, where)
    return taken


def leave_waits(gone: Iterable[Any]) -> None:
    """Take dead tasks out of the lines in which they wait for conditions, semaphores and queues."""
    for task in gone:
        frame = None if task.suspension is None else task.suspension.gr_frame
        while frame is not None:
            if frame.f_code is _WAIT_CODE:
                waiter, line = frame.f_locals.get("waiter"), vars(frame.f_locals["self"])["_waiters"]
                if waiter in line:
                    line.remove(waiter)
            frame = frame.f_back


_WAIT_CODE = threading.Condition.wait.__code__


def free_locks_of(threads: SimulatedThreads, gone: Any) -> None:
    """Release the locks that dead tasks hold. (In production a lock is gone with the memory of its process.)

    Parameters: `gone` are the dead tasks. None: all tasks.
    """
    of_pools = [] if threads.executors is None else threads.executors.idle_semaphores()
    for semaphore in [semaphore for task, semaphore in threads.places if gone is None or task in gone]:
        if semaphore not in of_pools:
            semaphore.release()
    threads.places = [place for place in threads.places if gone is not None and place[0] not in gone]
    if threads.deadlocks is not None:
        taken = threads.deadlocks.taken_by(gone)
    else:
        taken = threads.held_locks.take_from(gone)
        taken += [lock for task, _, lock in threads.owned.values() if gone is not None and task in gone]
    for lock in taken:
        if isinstance(lock, _RLock):
            if threads.owned.pop(id(lock), None) is not None:
                while _real_is_owned(lock):
                    _real_release(lock)
        elif lock.locked():
            lock.release()


def _always(replacement: Callable[..., Any]) -> Make:
    return lambda _: replacement


def lock_patches(here: Here) -> list[Patch]:
    """Return the patches of everything in which threads wait for one another."""
    acquire, enter = _plain(_Lock.acquire, _Lock.locked, here)
    handle = getattr(_thread, "_ThreadHandle", None)
    return [
        Methods(_Lock, {"acquire": lambda _: acquire, "acquire_lock": lambda _: acquire, "__enter__": lambda _: enter}),
        Methods(_RLock, {name: _always(one) for name, one in _reentrant(here).items()}),
        Methods(_SimpleQueue, {"get": lambda real: _getter(real, here)}),
        *([] if handle is None else [Methods(handle, _handles(handle, here))]),
        Function(threading.Condition.wait, lambda real: _condition_wait(real, here)),
        *_semaphore_patches(here),
    ]


def _plain(real: Callable[..., Any], locked: Callable[[Any], bool], here: Here) -> tuple[Any, Any]:
    note = recent_locks.append

    def acquire(lock: Any, blocking: bool = True, timeout: float = -1) -> bool:
        if blocking and timeout == -1 and not watched_threads and real(lock, False):
            note(lock)
            return True
        world = here()
        if world is None or not blocking or not _sound(timeout):
            taken = bool(real(lock, blocking, timeout))
            if taken:
                note(lock)
            return taken
        return block(world, lambda: real(lock, False), lambda: not locked(lock), timeout, "a lock", lock)

    def enter(lock: Any) -> bool:
        if not watched_threads and real(lock, False):
            note(lock)
            return True
        return acquire(lock)

    return acquire, enter


def _sound(timeout: Any) -> bool:
    """Return True if the real method accepts a timeout. For others it raises its own errors."""
    return isinstance(timeout, (int, float)) and (timeout == -1 or 0 <= timeout <= threading.TIMEOUT_MAX)


def _reentrant(here: Here) -> dict[str, Callable[..., Any]]:
    """Return the methods of reentrant locks by name."""
    real_acquire, real_release = _RLock.acquire, _RLock.release
    real_owned, real_save, real_restore = _RLock._is_owned, _RLock._release_save, _RLock._acquire_restore
    real_count = getattr(_RLock, "_recursion_count", None)  # not in the first releases of each Python

    def holder(world: EnteredRig, lock: Any) -> list[Any] | None:
        held: list[Any] | None = world.threads.owned.get(id(lock))
        if held is not None and not real_owned(lock):  # released by a reference to the real method
            del world.threads.owned[id(lock)]
            return None
        return held

    def take(world: EnteredRig, lock: Any) -> bool:
        me, held = world.loop.current, holder(world, lock)
        if held is not None and held[0] is not me:
            return False
        if not real_acquire(lock, False):
            return False
        if held is not None:
            held[1] += 1
        else:
            world.threads.owned[id(lock)] = [me, 1, lock]
        return True

    def free(world: EnteredRig, lock: Any) -> bool:
        if holder(world, lock) is not None:
            return False
        if real_acquire(lock, False):
            real_release(lock)
            return True
        return False

    def acquire(lock: Any, blocking: bool = True, timeout: float = -1) -> bool:
        world = here()
        if world is None or not _sound(timeout) or (not blocking and timeout != -1):
            return bool(real_acquire(lock, blocking, timeout))
        if not blocking:
            return take(world, lock)
        return block(world, lambda: take(world, lock), lambda: free(world, lock), timeout, "a reentrant lock", lock)

    def release(lock: Any) -> None:
        world = here()
        if world is not None:
            held = holder(world, lock)
            if held is not None:
                if held[0] is not world.loop.current:
                    raise RuntimeError("cannot release un-acquired lock")
                held[1] -= 1
                if held[1] == 0:
                    del world.threads.owned[id(lock)]
        real_release(lock)

    def leave(lock: Any, *_: Any) -> None:
        release(lock)

    def is_owned(lock: Any) -> bool:
        world = here()
        held = None if world is None else holder(world, lock)
        if world is not None and held is not None:
            return held[0] is world.loop.current
        return bool(real_owned(lock))

    def release_save(lock: Any) -> Any:
        world = here()
        if world is not None:
            world.threads.owned.pop(id(lock), None)
        return real_save(lock)

    def acquire_restore(lock: Any, state: Any) -> None:
        world = here()
        if world is None:
            real_restore(lock, state)
            return
        acquire(lock)
        real_release(lock)
        real_restore(lock, state)
        world.threads.owned[id(lock)] = [world.loop.current, state[0], lock]

    def recursion_count(lock: Any) -> int:
        world = here()
        held = None if world is None else holder(world, lock)
        if world is not None and held is not None:
            return int(held[1]) if held[0] is world.loop.current else 0
        assert real_count is not None
        return int(real_count(lock))

    return {
        "acquire": acquire, "__enter__": acquire, "release": release, "__exit__": leave, "_is_owned": is_owned,
        "_release_save": release_save, "_acquire_restore": acquire_restore, "_recursion_count": recursion_count,
    }  # fmt: skip


def _getter(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def get(self: Any, block: bool = True, timeout: float | None = None) -> Any:
        world = here()
        if world is None or not block or (timeout is not None and timeout < 0):
            return real(self, block, timeout)
        taken: list[Any] = []

        def take() -> bool:
            try:
                taken.append(real(self, False))
            except queue.Empty:
                return False
            return True

        limit = -1 if timeout is None else timeout
        if _block(world, take, lambda: not self.empty(), limit, "an item of a queue"):
            return taken[0]
        raise queue.Empty

    return get


_block = block


def _handles(handle_type: Any, here: Here) -> dict[str, Make]:
    """Return the methods of thread handles, with which Python 3.13 joins threads."""
    real_join, real_done = handle_type.join, handle_type.is_done

    def thread_of(world: EnteredRig | None, handle: Any) -> Any:
        found = None if world is None else world.threads.handles.get(id(handle))
        return None if found is None else found[1]

    def join(handle: Any, timeout: float | None = None) -> None:
        world = here()
        thread = thread_of(world, handle)
        if world is None or thread is None:
            if timeout is None:
                real_join(handle)
            else:
                real_join(handle, timeout)
        elif thread is world.loop.current:
            raise RuntimeError("Cannot join current thread")
        elif not thread.done:
            limit = -1 if timeout is None or timeout < 0 else timeout
            if limit < 0:
                world.border.outside.before_next_move(world.threads.circular.look)
            block(world, lambda: thread.done, lambda: thread.done, limit, "the end of a thread")

    def is_done(handle: Any) -> bool:
        thread = thread_of(here(), handle)
        return bool(real_done(handle)) if thread is None else bool(thread.done)

    return {"join": lambda _: join, "is_done": lambda _: is_done}


def _condition_wait(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return the replacement of `threading.Condition.wait`.

    A condition that was made before the rig was entered holds the real methods of its lock. During the wait it gets
    those that are in place now.
    """

    def wait(self: Any, timeout: float | None = None) -> Any:
        lock = self._lock
        world = here()
        if world is not None and timeout is not None and timeout <= 0:
            world.clock.waited_for_nothing()
        elif world is not None and timeout is None and waits_for_futures(sys._getframe(2)):
            world.border.outside.before_next_move(world.threads.circular.look)
        if world is None or type(lock) is not _RLock:
            return real(self, timeout)
        kept = self._release_save, self._acquire_restore, self._is_owned
        for name in ("_release_save", "_acquire_restore", "_is_owned"):
            setattr(self, name, getattr(lock, name))
        try:
            return real(self, timeout)
        finally:
            self._release_save, self._acquire_restore, self._is_owned = kept

    return wait


def _semaphore_patches(here: Here) -> list[Patch]:
    """Return the patches of `acquire` and `release` of `threading.Semaphore`.

    They note who has taken a place, so that the place of a worker that dies is free again. A semaphore that one task
    takes and another one gives back counts something else than places.
    """

    def acquires(real: Callable[..., Any]) -> Callable[..., Any]:
        def acquire(self: Any, blocking: bool = True, timeout: float | None = None) -> Any:
            taken = real(self, blocking, timeout)
            world = here()
            threads = None if world is None else world.threads
            if taken and world is not None and threads is not None and threads.notes_places:
                task = world.loop.current
                if task is not None and self not in threads.counters:
                    threads.places.append((task, self))
            return taken

        return acquire

    def releases(real: Callable[..., Any]) -> Callable[..., None]:
        def release(self: Any, n: int = 1) -> None:
            world = here()
            if world is not None and world.threads.notes_places:
                _gives_back(world.threads, world.loop.current, self)
            real(self, n)

        return release

    return [
        Function(threading.Semaphore.acquire, acquires),
        Function(threading.Semaphore.release, releases),
        Function(threading.BoundedSemaphore.release, releases),
    ]


def _gives_back(threads: Any, task: Any, semaphore: Any) -> None:
    for number, (holder, held) in enumerate(threads.places):
        if held is semaphore and holder is task:
            del threads.places[number]
            return
    threads.counters.add(semaphore)
    threads.places = [place for place in threads.places if place[1] is not semaphore]
