"""Errors that one thread raises in another: `PyThreadState_SetAsyncExc`, with which libraries end what takes too long.

The error comes when the thread goes on, as outside: a sleep is not cut short.
(https://docs.python.org/3/c-api/init.html#c.PyThreadState_SetAsyncExc)
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...simulation.jobs import LiveAttempt
from ..patching.builtin_patching import Here
from ..patching.patches import Attribute, Patch
from ..patching.real_functions import real_get_ident
from .simulated_threads import SimulatedThread

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig


def asynchronous_error_patches(here: Here) -> list[Patch]:
    """Return the patch of the function of the C API, as `ctypes` calls it."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def set_error(thread: Any, error: Any) -> int:
            world = here()
            ident, kind = getattr(thread, "value", thread), getattr(error, "value", error)
            given = None if kind is None else ctypes.py_object(kind)  # the caller's types are those of this function
            if world is None:
                return int(real(ctypes.c_ulong(ident), given))
            current, task = world.loop.current, _task_of(world, ident)
            if task is not None and task is not current:
                task.error_to_raise = None if kind is None else _made(kind)
                return 1
            if task is None and ident == real_get_ident() and current is not None:  # the test itself
                if kind is not None:
                    world.loop.raise_in_test(_made(kind))
                return 1
            return int(real(ctypes.c_ulong(ident if task is None else real_get_ident()), given))

        return set_error

    return [Attribute(ctypes.pythonapi, "PyThreadState_SetAsyncExc", make)]


def _made(kind: Any) -> BaseException:
    made: BaseException = kind() if isinstance(kind, type) else kind
    return made


def _task_of(world: EnteredRig, ident: int) -> Any:
    """Return the simulated thread, or the attempt on a worker, with an identifier. None if there is none."""
    thread = world.threads.alive.get(ident)
    if isinstance(thread, SimulatedThread):
        return thread
    current = world.loop.current
    tasks = [current, *(waiter.task for waiter in world.loop.waiters), *(event[4] for event in world.loop.events())]
    for task in tasks:
        if isinstance(task, LiveAttempt) and world.threads.states.ident_of_worker(task.worker) == ident:
            return task
    return None
