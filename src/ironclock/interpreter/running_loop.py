"""Which asyncio loop runs in this real thread. asyncio itself is looked up, so that it is never loaded for this."""

from __future__ import annotations

import sys
from collections.abc import AsyncGenerator, Callable
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, NamedTuple

from ..foundation.durations import NS

if TYPE_CHECKING:
    from ..simulation.event_loop import EventLoop

_ROUNDS = 1000  # how often tasks of both loops can wake one another at one instant


def running_loop() -> Any:
    """Return the running loop. None if there is none, or if nobody has imported asyncio."""
    events = sys.modules.get("asyncio.events")
    return None if events is None else events._get_running_loop()


class LoopOfThread(NamedTuple):
    """A loop that runs in a thread, with what Python calls there for asynchronous generators: both are the thread's."""

    asyncio_loop: Any
    first_iteration: Callable[[AsyncGenerator[Any, Any]], None] | None
    finalizer: Callable[[AsyncGenerator[Any, Any]], None] | None


def take_running_loop() -> LoopOfThread | None:
    """Let no loop run in this real thread any more; return the one that did. None: none did."""
    running = running_loop()
    if running is None:
        return None
    taken = LoopOfThread(running, *sys.get_asyncgen_hooks())
    sys.modules["asyncio.events"]._set_running_loop(None)
    sys.set_asyncgen_hooks(None, None)
    return taken


def put_running_loop(taken: LoopOfThread | None) -> None:
    """Let a loop run in this real thread again. None: nothing is done."""
    if taken is not None:
        sys.modules["asyncio.events"]._set_running_loop(taken.asyncio_loop)
        sys.set_asyncgen_hooks(taken.first_iteration, taken.finalizer)


async def advance_async(loop: EventLoop, entered: Callable[[], AbstractContextManager[Any]], until_ns: int) -> None:
    """Let simulated time pass in a coroutine of the test, up to an instant, itself included."""
    import asyncio

    with entered():
        while loop.now < until_ns:
            await asyncio.sleep((until_ns - loop.now) / NS)
    await settle_async(loop, entered)


async def settle_async(loop: EventLoop, entered: Callable[[], AbstractContextManager[Any]]) -> None:
    """Run what is due now, in the rig and in the event loop that runs, and what that makes due now."""
    import asyncio

    with entered():
        ready: Any = vars(asyncio.get_running_loop())["_ready"]
        for _ in range(_ROUNDS):
            await asyncio.sleep(0)
            loop.advance_to(loop.now)
            if not ready:
                return
