"""Seams: the points inside a running attempt or request at which a fault can strike."""

from __future__ import annotations

from ..history.history import History
from .attempts import Attempts
from .event_loop import EventLoop
from .faults import LiveFault, PlacedFaults
from .jobs import LiveAttempt
from .requests import Requests
from .task import Task


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

    def pass_seam(self, seam: str, job_name: str = "") -> None:
        """Pass a seam in the running code. `job_name`: the job type that an enqueue asks for."""
        loop = self._loop
        task = loop.current
        if loop.decisions is not None:
            if task is not None:
                struck = loop.decisions.passes(task, seam)
            else:
                request = self._requests.current()
                struck = None if request is None else loop.decisions.asks(request.name, seam)
            if struck is not None:
                self._strike(task, seam, struck, job_name)
        if not isinstance(task, LiveAttempt):
            return
        task.track()
        visit = task.visit(seam)
        for fault in self._faults.seam:
            if fault.at != seam or not fault.hits(task.job.type.name):
                continue
            if fault.visits is not None and visit not in fault.visits:
                continue
            if fault.strikes(loop.now, task.number, task):
                self._strike(task, seam, fault, job_name)

    def pass_seam_of_tracked_jobs(self, seam: str, job_name: str = "") -> None:
        """Pass a seam in a world in which faults can strike only a few jobs."""
        task = self._loop.current
        if task is not None and task.job is not None and task.job.number in self._attempts.tracked_jobs:
            self.pass_seam(seam, job_name)

    def _strike(self, task: Task | None, seam: str, fault: LiveFault, job_name: str) -> None:
        """Let a fault strike the running code at a seam."""
        loop = self._loop
        if fault.kind in ("fail", "refuse"):
            error = fault.make()
            if fault.kind == "refuse":
                self._history.record("refused", detail=(job_name, error))
            raise error
        if fault.kind == "crash":
            assert isinstance(task, LiveAttempt)
            self._attempts.crash_at_seam(task, seam, fault)
        # The time that the fault takes is no seam itself.
        fault_hook, loop.fault_hook = loop.fault_hook, None
        try:
            if fault.kind == "hang":
                loop.wait(_never)
            else:
                loop.sleep(fault.by_ns)
        finally:
            loop.fault_hook = fault_hook


def _never() -> bool:
    return False
