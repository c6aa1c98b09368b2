"""Seams: the points inside a running attempt or request at which a fault can strike."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..foundation.durations import NS
from ..history.history import History
from .attempts import Attempts
from .event_loop import EventLoop
from .faults import LiveFault, PlacedFaults
from .requests import Requests
from .task import Task

if TYPE_CHECKING:
    import asyncio

FOR_EVER = -1
"""A wait that does not end."""


class SeamFaults:
    """Lets faults strike at the seams that running code passes. `EventLoop.fault_hook` calls it."""

    def __init__(
        self, loop: EventLoop, history: History, faults: PlacedFaults, requests: Requests, attempts: Attempts
    ) -> None:
        self._loop = loop
        self._history = history
        self._faults = faults
        self._requests = requests
        self._attempts = attempts

    def pass_seam(self, seam: str, job_name: str = "", waits: list[int] | None = None) -> None:
        """Pass a seam in the running code.

        Parameters: `job_name` is the job type that an enqueue asks for. `waits`: a list that gets how long the code has
        to wait, in nanoseconds (`FOR_EVER`: without an end), if it is a coroutine that waits for itself.
        """
        loop = self._loop
        task = loop.current
        if loop.decisions is not None:
            if task is not None:
                struck = loop.decisions.passes(task, seam)
            else:
                request = self._requests.current()
                struck = None if request is None else loop.decisions.asks(request.name, seam)
            if struck is not None:
                self._strike(task, seam, struck, job_name, waits)
        attempt = None if task is None else task.owner
        if attempt is None:
            return
        for subject in (attempt,) if attempt.loop is None else attempt.loop.subjects(attempt):
            subject.track()
            visit = subject.visit(seam)
            for fault in self._faults.seam:
                if fault.at != seam or not fault.hits(subject.job.type.name):
                    continue
                if fault.visits is not None and visit not in fault.visits:
                    continue
                if fault.strikes(loop.now, subject.number, subject):
                    self._strike(task, seam, fault, job_name, waits)

    def pass_seam_of_tracked_jobs(self, seam: str, job_name: str = "", waits: list[int] | None = None) -> None:
        """Pass a seam in a world in which faults can strike only a few jobs."""
        task = self._loop.current
        if task is not None and task.job is not None and task.job.number in self._attempts.tracked_jobs:
            self.pass_seam(seam, job_name, waits)

    def _strike(self, task: Task | None, seam: str, fault: LiveFault, job_name: str, waits: list[int] | None) -> None:
        """Let a fault strike the running code at a seam."""
        loop = self._loop
        if fault.kind in ("fail", "refuse"):
            error = fault.make()
            if fault.kind == "refuse":
                self._history.record("refused", detail=(job_name, error))
            raise error
        if fault.kind == "crash":
            assert task is not None
            self._attempts.crash_at_seam(task, seam, fault)
        if waits is not None:
            waits.append(FOR_EVER if fault.kind == "hang" else fault.by_ns)
            return
        if fault.kind == "hang":
            loop.wait(_never)
        else:
            loop.sleep(fault.by_ns, is_seam=False)


async def pass_seam_in_coroutine(loop: EventLoop, seam: str) -> None:
    """Pass a seam in a coroutine. If a fault takes time there, only the coroutine waits, and not its whole loop."""
    if loop.fault_hook is None:
        return
    waits: list[int] = []
    loop.fault_hook(seam, "", waits)
    for ns in waits:
        await wait_in_coroutine(ns)


async def wait_in_coroutine(ns: int) -> None:
    """Let a coroutine wait, in nanoseconds (`FOR_EVER`: without an end). This is not a seam."""
    import asyncio

    running = asyncio.get_running_loop()
    over = running.create_future()
    if ns != FOR_EVER:
        running.call_later(ns / NS, _set, over)
    await over


def _set(over: asyncio.Future[None]) -> None:
    if not over.done():
        over.set_result(None)


def _never() -> bool:
    return False
