"""Asyncio loops for async jobs: the standard loop in simulated time, one for each attempt that runs."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import Any

from ...simulation.event_loop import EventLoop
from ...simulation.jobs import LiveAttempt
from .end_asyncio_loops import close_loop_of_dead

_MOST_IDLE = 16


class AsyncioLoops:
    """The asyncio loops of a rig. A loop that an attempt left clean is used again: to make one costs system calls."""

    def __init__(self, loop: EventLoop) -> None:
        self._loop = loop
        self._idle: list[asyncio.AbstractEventLoop] = []
        self._busy: dict[int, asyncio.AbstractEventLoop] = {}

    def run(self, coroutine: Coroutine[Any, Any, Any]) -> Any:
        """Run a job's coroutine to its end. A timeout or a cancellation of the attempt cancels its asyncio task."""
        attempt = self._loop.current
        assert isinstance(attempt, LiveAttempt)
        asyncio_loop = self._idle.pop() if self._idle else asyncio.new_event_loop()
        self._busy[id(attempt)] = asyncio_loop
        try:
            task = asyncio_loop.create_task(coroutine)

            def interrupt() -> None:
                asyncio_loop.call_soon_threadsafe(task.cancel)

            attempt.interrupt = interrupt
            try:
                return asyncio_loop.run_until_complete(task)
            finally:
                attempt.interrupt = None
                self._finish(asyncio_loop)
        finally:
            if not asyncio_loop.is_closed():
                del self._busy[id(attempt)]
                if len(self._idle) < _MOST_IDLE:
                    self._idle.append(asyncio_loop)
                else:
                    asyncio_loop.close()

    def _finish(self, asyncio_loop: asyncio.AbstractEventLoop) -> None:
        """Do what `asyncio.run` does at its end: cancel what is left, close async generators and the executor."""
        left = asyncio.all_tasks(asyncio_loop)
        for task in left:
            task.cancel()
        if left:
            asyncio_loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
            for task in left:
                if not task.cancelled() and task.exception() is not None:
                    asyncio_loop.call_exception_handler({
                        "message": "unhandled exception at the end of an async job",
                        "exception": task.exception(), "task": task,
                    })  # fmt: skip
        if getattr(asyncio_loop, "_asyncgens", None):
            asyncio_loop.run_until_complete(asyncio_loop.shutdown_asyncgens())
        if getattr(asyncio_loop, "_default_executor", None) is not None:
            asyncio_loop.run_until_complete(asyncio_loop.shutdown_default_executor())
            asyncio_loop.close()  # it takes no work any more
        for timer in getattr(asyncio_loop, "_scheduled", ()):
            timer.cancel()

    def close_idle(self) -> None:
        """Close the loops that nothing runs in: their rig is left."""
        while self._idle:
            close_loop_of_dead(self._idle.pop())

    def forget(self) -> None:
        """Forget the idle loops: in a forked child they belong to the parent."""
        self._idle.clear()

    def drop(self, attempt: LiveAttempt) -> None:
        """Forget the loop of an attempt whose worker has died: it ends with the attempt's greenlet."""
        self._busy.pop(id(attempt), None)

    def close(self) -> None:
        """Close every loop."""
        for asyncio_loop in [*self._idle, *self._busy.values()]:
            close_loop_of_dead(asyncio_loop)
        self._idle.clear()
        self._busy.clear()

    def __del__(self) -> None:
        self.close()
