"""Ending asyncio loops as a killed process ends them: no handler of their tasks runs, and nothing is told of them."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from .end_without_handlers import end_coroutines


def tasks_of(asyncio_loop: Any) -> Collection[Any]:
    """Return the tasks of a loop that are not done. To be asked before its greenlet ends."""
    import asyncio  # when there is a loop, somebody has imported it

    return asyncio.all_tasks(asyncio_loop)


def close_loop_of_dead(asyncio_loop: Any, tasks: Collection[Any] = ()) -> None:
    """Close a loop, even one that believes that it still runs. Its tasks end without their handlers.

    Parameters: `tasks` are those that ended with the greenlet in which the loop ran.
    """
    for task in tasks:
        if task.done():
            task._log_traceback = False  # what ended it is nobody's error
    left = tasks_of(asyncio_loop)
    for task in left:
        task._log_destroy_pending = False
    end_coroutines(task.get_coro() for task in left)
    asyncio_loop._thread_id = None
    asyncio_loop._ready.clear()
    asyncio_loop._scheduled.clear()
    asyncio_loop.close()
