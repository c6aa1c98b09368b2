"""Event loops for async jobs: the standard loop, on simulated time, one for each attempt that is under way."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine, Iterable
from typing import TYPE_CHECKING, Any

from ..core.jobs import Attempt
from .burial import bury_coroutines

if TYPE_CHECKING:
    from ..core.engine import Engine

_MOST_IDLE = 16


class EventLoops:
    """The event loops of a rig. A loop that an attempt left clean is used again: making one costs system calls."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._idle: list[asyncio.AbstractEventLoop] = []
        self._busy: dict[int, asyncio.AbstractEventLoop] = {}
        self._dying: list[tuple[Any, set[Any]]] = []

    def run(self, coroutine: Coroutine[Any, Any, Any]) -> Any:
        """Run a job's coroutine to its end; a timeout or a cancellation of the attempt cancels its task."""
        attempt = self._engine.current
        assert isinstance(attempt, Attempt)
        loop = self._idle.pop() if self._idle else asyncio.new_event_loop()
        self._busy[id(attempt)] = loop
        try:
            task = loop.create_task(coroutine)

            def interrupt() -> None:
                loop.call_soon_threadsafe(task.cancel)

            attempt.interrupt = interrupt
            try:
                return loop.run_until_complete(task)
            finally:
                attempt.interrupt = None
                self._finish(loop)
        finally:
            if not loop.is_closed():
                del self._busy[id(attempt)]
                if len(self._idle) < _MOST_IDLE:
                    self._idle.append(loop)
                else:
                    loop.close()

    def _finish(self, loop: asyncio.AbstractEventLoop) -> None:
        """Do what `asyncio.run` does at its end: cancel what is left, close async generators and the executor."""
        left = asyncio.all_tasks(loop)
        for task in left:
            task.cancel()
        if left:
            loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
            for task in left:
                if not task.cancelled() and task.exception() is not None:
                    loop.call_exception_handler({
                        "message": "unhandled exception at the end of an async job",
                        "exception": task.exception(), "task": task,
                    })  # fmt: skip
        if getattr(loop, "_asyncgens", None):
            loop.run_until_complete(loop.shutdown_asyncgens())
        if getattr(loop, "_default_executor", None) is not None:
            loop.run_until_complete(loop.shutdown_default_executor())
            loop.close()  # it takes no work any more
        for timer in getattr(loop, "_scheduled", ()):
            timer.cancel()

    def forget(self) -> None:
        """Leave the idle loops to another process, a forked child's parent."""
        self._idle.clear()

    def drop(self, attempt: Attempt) -> None:
        """Close the loop of an attempt whose worker has died."""
        loop = self._busy.pop(id(attempt), None)
        if loop is not None:
            tasks = asyncio.all_tasks(loop)  # those that die at this moment are done by then, with an error
            self._dying.append((loop, tasks))
            self._engine.schedule(self._engine.now, 0, self._bury, None)

    def _bury(self, _: object) -> None:
        """Close the loops of attempts that have died meanwhile."""
        while self._dying:
            _close(*self._dying.pop())

    def close(self) -> None:
        """Close every loop."""
        self._bury(None)
        for loop in [*self._idle, *self._busy.values()]:
            _close(loop)
        self._idle.clear()
        self._busy.clear()

    def __del__(self) -> None:
        self.close()


def _close(loop: Any, dead: Iterable[Any] = ()) -> None:
    """Close a loop, a dead attempt's too, which believes that it still runs; its tasks end with no handler run."""
    for task in dead:
        if task.done():
            task._log_traceback = False  # what ended it is no error of anybody's
    left = asyncio.all_tasks(loop)
    for task in left:
        task._log_destroy_pending = False  # type: ignore[attr-defined]
    bury_coroutines(task.get_coro() for task in left)
    loop._thread_id = None
    loop._ready.clear()
    loop._scheduled.clear()
    loop.close()
