"""Requests: what one request to the application enqueued, and what runs after its response."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, Literal, TypeAlias

from ..history.history import History
from .broker import Broker
from .event_loop import EventLoop
from .host import Host
from .jobs import Job, LiveAttempt, LiveJob
from .policy import JobType, Policy, job_name

Collected: TypeAlias = "tuple[Callable[..., Any], tuple[Any, ...], dict[str, Any]]"
"""A function that is to run after the response, and its arguments."""

_request: ContextVar[LiveRequest | None] = ContextVar("_request", default=None)
# Follows a request into the threads of a pool in which a framework runs its functions.


class Request:
    """One request to the application. `Rig.request` gives it.

    Example::

        with rig.request("POST /bookings") as request:
            rig.enqueue(submit_manifest, "TL-204")
        assert [job.name for job in request.jobs] == ["submit_manifest"]
    """

    __slots__ = ("_live",)

    def __init__(self, live: LiveRequest) -> None:
        self._live = live

    @property
    def name(self) -> str:
        """Its name, as given to `Rig.request`."""
        return self._live.name

    @property
    def jobs(self) -> list[Job[Any]]:
        """The jobs that it has enqueued."""
        return [job.reader for job in self._live.enqueued]

    @property
    def schedules(self) -> list[str]:
        """The names of the schedules that it has added."""
        return list(self._live.schedules)

    @property
    def error(self) -> BaseException | None:
        """The error that it ended with. None if it succeeded."""
        return self._live.error

    @property
    def background(self) -> Job[Any] | None:
        """The job that runs the collected functions. None if there are none."""
        job = self._live.background_job
        return None if job is None else job.reader

    def __repr__(self) -> str:
        end = "" if self.error is None else f", {type(self.error).__name__}"
        counts = f"{len(self._live.enqueued)} jobs, {len(self._live.collected)} functions after it"
        return f"<request {self.name}: {counts}{end}>"


class LiveRequest:
    """One request, as the simulation keeps it."""

    def __init__(self, name: str, on_error: str, host: Host) -> None:
        self._host = host
        self.name = name
        self.on_error = on_error
        self.enqueued: list[LiveJob] = []
        self.schedules: list[str] = []
        self.error: BaseException | None = None
        self.collected: list[Collected] = []
        self.background_job: LiveJob | None = None
        self.reader = Request(self)

    def run_collected(self) -> int:
        """Run the collected functions in order; return how many have run."""
        errors: list[BaseException] = []
        for number, (function, args, kwargs) in enumerate(self.collected, 1):
            try:
                result = function(*args, **kwargs)
                if inspect.iscoroutine(result):
                    self._host.await_result(result)
            except Exception as error:
                if self.on_error == "stop":
                    error.add_note(f"function {number} of the {len(self.collected)} after the response of {self.name}")
                    raise
                errors.append(error)
        if errors:
            raise errors[0]
        return len(self.collected)


class Requests:
    """The requests of a simulation."""

    def __init__(self, loop: EventLoop, history: History, broker: Broker, host: Host) -> None:
        self._host = host
        self._loop = loop
        self._history = history
        self._broker = broker
        self._open: dict[Any, LiveRequest] = {}  # by task, the request that runs in it

    @contextmanager
    def handle(self, name: str, on_error: Literal["stop", "go on"] = "stop") -> Iterator[Request]:
        """Run one request inside the block. If it fails, the history shows what it has left behind. If it succeeds,
        the functions that it has collected run later as a job."""
        task = self._loop.current
        request, outer = LiveRequest(name, on_error, self._host), self._open.get(task)
        self._open[task] = request
        token = _request.set(request)

        def listener(job: LiveJob) -> None:
            if self.current() is request:
                request.enqueued.append(job)

        self._broker.listeners.append(listener)
        try:
            yield request.reader
        except BaseException as error:
            request.error = error
            number = task.number if isinstance(task, LiveAttempt) else 0
            request.enqueued = [job for job in request.enqueued if job in self._broker.jobs]
            self._history.record("request-failed", None if task is None else task.job, number, request.reader)
            raise
        finally:
            _request.reset(token)
            self._broker.listeners.remove(listener)
            if outer is None:
                self._open.pop(task, None)
            else:
                self._open[task] = outer
        if request.collected:
            label = job_name(request.collected[0][0]) if len(request.collected) == 1 else "after_response"
            type: JobType[..., int] = JobType(request.run_collected, label, Policy())
            request.background_job = self._broker.enqueue(type, (), {}, self._loop.now)

    def current(self) -> LiveRequest | None:
        """Return the request that runs in the running task. None if there is none."""
        task = self._loop.current
        found = self._open.get(task)
        if found is None and task is not None and not isinstance(task, LiveAttempt):
            followed = _request.get()
            if followed in self._open.values():
                return followed
        return found

    def schedule_added(self, name: str) -> None:
        """Note that the running request has added a schedule."""
        request = self.current()
        if request is not None:
            request.schedules.append(name)
