"""A desk of asyncio workers: a queue, a time limit for each booking, and an orderly end."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable


class Desk:
    """Works off bookings with a few workers at once."""

    def __init__(self, confirm: Callable[[int], Awaitable[None]], limit_s: float = 5) -> None:
        self.queue: asyncio.Queue[int] = asyncio.Queue()
        self.confirmed: list[int] = []
        self.late: list[int] = []
        self._confirm = confirm
        self._limit_s = limit_s

    async def handle(self, booking: int) -> None:
        """Confirm one booking within the limit."""
        async with asyncio.timeout(self._limit_s):
            await self._confirm(booking)
        self.confirmed.append(booking)

    async def _work(self) -> None:
        while True:
            booking = await self.queue.get()
            try:
                await self.handle(booking)
            except TimeoutError:
                self.late.append(booking)
            finally:
                self.queue.task_done()

    async def run(self, bookings: list[int], workers: int = 3) -> None:
        """Work off bookings, and end when all are done."""
        for booking in bookings:
            self.queue.put_nowait(booking)
        async with asyncio.TaskGroup() as group:
            tasks = [group.create_task(self._work()) for _ in range(workers)]
            await self.queue.join()
            for task in tasks:
                task.cancel()
