"""Requests: what one request to the application enqueued, and what runs after its response."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

from .jobs import Attempt, Job
from .policy import JobType, Policy, job_name

if TYPE_CHECKING:
    from .engine import Engine

Collected: TypeAlias = "tuple[Callable[..., Any], tuple[Any, ...], dict[str, Any]]"


class Request:
    """One request: its name, the `jobs` it enqueued, the `schedules` it added, and the `error` it ended with."""

    def __init__(self, name: str, on_error: str) -> None:
        self.name = name
        self.on_error = on_error
        self.jobs: list[Job] = []
        self.schedules: list[str] = []
        self.error: BaseException | None = None
        self.collected: list[Collected] = []
        """Functions that are to run, in order, after the response is sent."""
        self.background: Job | None = None
        """The job that runs them; None where there are none."""

    def run_collected(self) -> int:
        """Run what was collected, in order; return how many of them ran."""
        errors: list[BaseException] = []
        for number, (function, args, kwargs) in enumerate(self.collected, 1):
            try:
                function(*args, **kwargs)
            except Exception as error:
                if self.on_error == "stop":
                    error.add_note(f"function {number} of the {len(self.collected)} after the response of {self.name}")
                    raise
                errors.append(error)
        if errors:
            raise errors[0]
        return len(self.collected)


class Requests:
    """The requests of an engine; `open` holds the one that runs in each task."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.open: dict[Any, Request] = {}
        self.all: list[Request] = []

    @contextmanager
    def handle(self, name: str, on_error: Literal["stop", "go on"] = "stop") -> Iterator[Request]:
        """Note what the code inside leaves behind where it fails; where it does not, run what it collected later."""
        engine, task = self._engine, self._engine.current
        request, outer = Request(name, on_error), self.open.get(task)
        self.open[task] = request
        self.all.append(request)

        def told(job: Job) -> None:
            if engine.current is task:
                request.jobs.append(job)

        engine.enqueued.append(told)
        try:
            yield request
        except BaseException as error:
            request.error = error
            number = task.number if isinstance(task, Attempt) else 0
            request.jobs = [job for job in request.jobs if job in engine.jobs]
            engine.record("request-failed", None if task is None else task.job, number, request)
            raise
        finally:
            engine.enqueued.remove(told)
            if outer is None:
                self.open.pop(task, None)
            else:
                self.open[task] = outer
        if request.collected:
            label = job_name(request.collected[0][0]) if len(request.collected) == 1 else "after_response"
            type = JobType(request.run_collected, label, Policy())
            request.background = engine.enqueue(type, (), {}, engine.now)

    def current(self) -> Request | None:
        """Return the request that the running task is in."""
        return self.open.get(self._engine.current)

    def added(self, schedule: str) -> None:
        """Take note of a schedule that was added."""
        request = self.current()
        if request is not None:
            request.schedules.append(schedule)
