"""Seams: the points inside a running attempt or request at which a fault can strike."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...foundation.durations import NS
from ...history.history import History
from ..attempts import Attempts
from ..event_loop import EventLoop
from ..requests import Requests
from ..task import Task
from .judge import Judge
from .kind import About, Operation, Passing, Strike, Subject, subject_of

if TYPE_CHECKING:
    import asyncio

FOR_EVER = -1
"""A wait that does not end."""

_IN_TASK: frozenset[Operation] = frozenset({"fail", "wait", "crash"})
_IN_REQUEST: frozenset[Operation] = frozenset({"fail"})


class SeamFaults:
    """Lets faults strike at the seams that running code passes. `EventLoop.fault_hook` calls it."""

    def __init__(self, loop: EventLoop, history: History, judge: Judge, requests: Requests, attempts: Attempts) -> None:
        self._loop = loop
        self._history = history
        self._judge = judge
        self._requests = requests
        self._attempts = attempts

    def pass_seam(self, seam: str, job_name: str = "", waits: list[int] | None = None) -> None:
        """Pass a seam in the running code.

        Parameters: `job_name` is the job type that an enqueue asks for. `waits`: a list that gets how long the code has
        to wait, in nanoseconds (`FOR_EVER`: without an end), if it is a coroutine that waits for itself.
        """
        task = self._loop.current
        if task is not None:
            self._judge.strike(PassingInCode(self._loop, self._history, self._attempts, task, seam, job_name, waits))
        elif self._judge.plan is not None:
            request = self._requests.current()
            if request is not None:
                self._judge.strike(_PassingInRequest(self._history, request.name, seam, job_name))

    def pass_seam_of_tracked_jobs(self, seam: str, job_name: str = "", waits: list[int] | None = None) -> None:
        """Pass a seam in a world in which faults can strike only a few jobs."""
        task = self._loop.current
        attempt = None if task is None else task.owner
        if attempt is not None and attempt.job.number in self._attempts.tracked_jobs:
            self.pass_seam(seam, job_name, waits)


class PassingInCode(Passing):
    """Running code passes a seam: that of an attempt, or a thread of it, or a worker loop of the application's own."""

    can = _IN_TASK

    def __init__(
        self, loop: EventLoop, history: History, attempts: Attempts, task: Task, seam: str, job_name: str = "",
        waits: list[int] | None = None,
    ) -> None:  # fmt: skip
        owner = task.owner
        self._loop = loop
        self._history = history
        self._attempts = attempts
        self._task = task
        self._job_name = job_name
        self._waits = waits
        in_own_code = owner is task or (owner is not None and owner.loop is not None and owner.loop.is_main(task))
        self.about: About = "attempt" if in_own_code else "thread"
        super().__init__(seam, owner.label if in_own_code and owner is not None else task.label, owner)

    def subjects(self) -> list[Subject]:
        owner = self.attempt
        if owner is None:
            return []
        attempts = (owner,) if owner.loop is None else owner.loop.subjects(owner)
        for attempt in attempts:
            attempt.track()
        return [subject_of(attempt, attempt.visit(self.seam)) for attempt in attempts]

    def fail(self, error: BaseException, after_ns: int = 0) -> None:
        if after_ns:
            self.wait(after_ns)
        raise error

    def refuse(self, error: BaseException) -> None:
        self._history.record("refused", detail=(self._job_name, error))
        raise error

    def crash(self, strike: Strike) -> None:
        self._attempts.crash_at_seam(self._task, self.seam, strike)

    def wait(self, ns: int | None) -> None:
        if self._waits is not None:
            self._waits.append(FOR_EVER if ns is None else ns)
        else:
            wait_in_code(self._loop, FOR_EVER if ns is None else ns)


class _PassingInRequest(Passing):
    """A request of the test's own code passes a seam."""

    can = _IN_REQUEST
    about: About = "request"
    runs_code = False

    def __init__(self, history: History, request: str, seam: str, job_name: str) -> None:
        super().__init__(seam, f"request {request}")
        self._history = history
        self._job_name = job_name

    def fail(self, error: BaseException, after_ns: int = 0) -> None:
        raise error

    def refuse(self, error: BaseException) -> None:
        self._history.record("refused", detail=(self._job_name, error))
        raise error


async def pass_seam_in_coroutine(loop: EventLoop, seam: str) -> None:
    """Pass a seam in a coroutine. If a fault takes time there, only the coroutine waits, and not its whole loop."""
    if loop.fault_hook is None:
        return
    waits: list[int] = []
    loop.fault_hook(seam, "", waits)
    for ns in waits:
        await wait_in_coroutine(ns)


def wait_in_code(loop: EventLoop, ns: int) -> None:
    """Let the running code wait, in nanoseconds (`FOR_EVER`: without an end). This is not a seam."""
    if ns == FOR_EVER:
        loop.wait(_never)
    else:
        loop.sleep(ns, is_seam=False)


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
