"""Real threads beside the one that has entered a rig: are there any, and how long a wait gives them."""

from __future__ import annotations

import gc
import sys
import time
from collections.abc import Callable
from types import CodeType, FrameType
from typing import Any

from .builtin_patching import Builtin
from .real_functions import real_get_ident

_real_sleep = Builtin(time.sleep).real
_process_time, _thread_time = Builtin(time.process_time).real, Builtin(time.thread_time).real


def _without_collection() -> dict[int, FrameType]:
    """Return the frame of each real thread, by its number.

    Until Python 3.12 a collection can begin while the interpreter makes this list, under a lock of its own. What is
    collected there, such as a connection that rolls back, would wait for that lock for ever if it asks as well.
    """
    enabled = gc.isenabled()
    gc.disable()
    try:
        return sys._current_frames()
    finally:
        if enabled:
            gc.enable()


current_frames = sys._current_frames if sys.version_info >= (3, 12) else _without_collection
GRACE = 50
"""How many looks, a real millisecond apart, find other real threads idle before a wait lets simulated time pass.

They are counted in looks, and not in seconds: on a busy machine both threads get their turns later.
"""
_MOST_LOOKS = 40 * GRACE
_IDLE_S = 0.0002
"""So much of the processor the others can use between two looks and count as idle: a wait like this one uses less."""

starting: list[Any] = []
"""Real threads that were started and have not come to their first line yet."""

runner_threads: set[int] = set()
"""Threads of the test runner. They have nothing to do with the code under test, and no wait counts on them."""


def others_run() -> bool:
    """Return True if there are real threads beside this one that could end a wait."""
    if starting:
        return True
    # No variable holds the frames: this one is among them, and would live on in a circle.
    count = len(current_frames()) - 1 - len(runner_threads)
    if count <= 0:
        return False
    # The workers of an older thread pool that wait for work do nothing by themselves.
    worker = pool_worker()
    return worker is None or count > [frame.f_code for frame in current_frames().values()].count(worker)


_waiting: set[int] = set()  # threads that wait for the others here, and would see one another move


def wait_for_others(free: Callable[[], Any], looks: int) -> bool:
    """Let real time pass until `free()` is true, or until so many looks in a row found no other real thread at work.

    Returns False if `free()` never was true. A thread that works all the time is waited for 2,000 looks.
    """
    me = real_get_ident()
    _waiting.add(me)
    try:
        places: dict[int, tuple[int, int]] = {}
        idle = looked = 0
        used = 0.0
        while not free():
            if idle >= looks or looked >= _MOST_LOOKS:
                return False
            # One that waits for the interpreter uses no processor. One in a short loop is always seen at one place.
            before, places = places, _places()
            used_before, used = used, _process_time() - _thread_time()
            at_work = places != before or used - used_before > _IDLE_S * len(_waiting)
            idle = 0 if at_work or starting else idle + 1
            looked += 1
            _real_sleep(0.001)
        return True
    finally:
        _waiting.discard(me)


def _places() -> dict[int, tuple[int, int]]:
    """Return the place in the code where each real thread stands, but for those that wait for the others."""
    left_out = _waiting | runner_threads
    return {number: (id(frame), frame.f_lasti) for number, frame in current_frames().items() if number not in left_out}


def pool_worker() -> CodeType | None:
    """Return the code in which a worker of a thread pool waits for work. None if nobody has made a pool."""
    pools = sys.modules.get("concurrent.futures.thread")
    return None if pools is None else pools._worker.__code__


def note_runner_threads() -> None:
    """Count every thread that runs now, but for this one, as a thread of the test runner."""
    from _thread import get_ident

    runner_threads.update(set(current_frames()) - {get_ident()})
