"""Intake: whatever asks for a job comes through here, checked, into the engine."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..core.durations import Duration, to_ns
from ..core.engine import Engine
from ..core.errors import InputError, InstantError, PolicyError, UnknownJob, nearest
from ..core.jobs import Job
from ..core.policy import Call, JobType, Policy, job_name
from ..core.timeline import Instant
from .payload import Payload, check_payload, through_json
from .readings import Enqueue
from .targets import find


class Intake:
    """The way into one rig's queues."""

    def __init__(self, engine: Engine, policy: Policy, payload: Payload) -> None:
        check_payload(payload)
        self._engine = engine
        self._policy = policy
        self.payload: Payload = payload

    def register(self, fn: Callable[..., Any], name: str | None, policy: Policy) -> JobType:
        """Return a new job type; raise `InputError` where that cannot be."""
        known = name if name is not None else job_name(fn)
        if not callable(fn):
            raise InputError(f"a job is a callable, not {fn!r} ({type(fn).__name__})")
        if not isinstance(known, str) or not known:
            raise InputError(f"name is {name!r}; give text")
        types = self._engine.types
        other = types.get(known)
        if other is not None and other.fn is not fn:
            raise InputError(f"the job name {known!r} stands for {other.fn!r} already; give this one another name")
        made = types[known] = JobType(fn, known, policy)
        return made

    def must_know(self, call: object, what: str) -> Call:
        """Return the call; raise unless it is one of a job type of this rig."""
        if not isinstance(call, Call):
            hint = "; bind its arguments with .call(...)" if isinstance(call, JobType) else ""
            raise InputError(f"{what} takes a call of a job type, not {call!r}{hint}")
        types = self._engine.types
        if types.get(call.type.name) is not call.type:
            raise UnknownJob(f"{call.type.name!r} is no job type of this rig; {nearest(call.type.name, types)}")
        return call

    def enqueue(
        self, call: Call, after: Duration | None = None, at: Instant | None = None, queue: str | None = None,
        priority: int | None = None, key: Any = None,
    ) -> Job:  # fmt: skip
        """Enqueue a call of a job type that the rig knows."""
        call = self.must_know(call, "enqueue")
        return self._put(call.type, call.args, call.kwargs, after, at, queue, priority, key, self.payload)

    def order(self, order: Enqueue, payload: Payload) -> Job:
        """Enqueue what a tapped call asked for."""
        type = self.type_of(order.job, order.policy)
        call = type.call(*order.args, **order.kwargs)
        return self._put(
            type, call.args, call.kwargs, order.after, order.at, order.queue, order.priority, None, payload
        )

    def _put(
        self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any], after: Duration | None,
        at: Instant | None, queue: str | None, priority: int | None, key: Any, payload: Payload,
    ) -> Job:  # fmt: skip
        timeline = self._engine.timeline
        now = due = self._engine.now
        if after is not None:
            if at is not None:
                raise InputError(f"{type.name}: give after={after!r} or at={at!r}, not both")
            due = now + to_ns(after, what="after")
        elif at is not None:
            due = timeline.ns(at, what="at")
            if due < now:
                raise InstantError(
                    f"{type.name}: at is {timeline.text(due)}, before the rig's now, {timeline.text(now)}"
                )
        if queue is not None and (not isinstance(queue, str) or not queue):
            raise PolicyError(f"queue is {queue!r}; give a name")
        if priority is not None and (isinstance(priority, bool) or not isinstance(priority, int)):
            raise PolicyError(f"priority is {priority!r}; give a whole number (the lowest runs first)")
        copies = False
        if payload == "json":
            args, kwargs, copies = through_json(type.name, args, kwargs)
        job = self._engine.enqueue(type, args, kwargs, due, queue, priority, key)
        job.copies = copies
        return job

    def type_of(self, job: Any, policy: Policy | None = None) -> JobType:
        """Return the job type that a tapped call means: a job type, a callable, a known name or a dotted path."""
        if isinstance(job, JobType):
            return job
        types = self._engine.types
        if isinstance(job, str):
            found = types.get(job)
            if found is not None:
                return found
            if ":" not in job and "." not in job:
                raise UnknownJob(
                    f"a tapped call asked for the job {job!r}, which this rig does not know; register it with "
                    f"rig.job(...), or give a dotted path; {nearest(job, types)}"
                )
            job = find(job)[2]
        for known in types.values():
            if known.fn is job:
                return known
        name = job_name(job)
        base, count = name, 2
        while name in types:
            name, count = f"{base}-{count}", count + 1
        made = types[name] = JobType(job, name, policy or self._policy)
        return made
