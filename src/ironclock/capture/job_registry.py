"""The job registry: the job types of a rig, and the checks on everything that is enqueued by a user or a tap."""

from __future__ import annotations

from collections.abc import Callable
from types import MethodType
from typing import Any

from ..errors import InputError, InstantError, PolicyError, RigStateError, UnknownJob, nearest
from ..foundation.durations import NS, Duration, spell, to_ns
from ..foundation.instants import LATEST_NS, Instant, within_time
from ..simulation.broker import Broker
from ..simulation.event_loop import EventLoop
from ..simulation.jobs import Job
from ..simulation.policy import Call, JobType, Policy, job_name
from ..simulation.world_change import Enqueued
from .payload import Payload, check_payload, through_json
from .readings import Enqueue, must_read_delay
from .targets import find

_ONE_YEAR = 366 * 86_400


class JobRegistry:
    """The way into the queues of a rig."""

    def __init__(self, loop: EventLoop, broker: Broker, policy: Policy, payload: Payload) -> None:
        check_payload(payload)
        self._loop = loop
        self._broker = broker
        self._policy = policy
        self.payload: Payload = payload

    def register(self, fn: Callable[..., Any], name: str | None, policy: Policy) -> JobType[..., Any]:
        """Return a new job type. Raises `InputError` if the callable or its name cannot be used."""
        known = name if name is not None else job_name(fn)
        if not callable(fn):
            raise InputError(f"the job is {fn!r} ({type(fn).__name__}), which cannot be called; give a function")
        if not isinstance(known, str) or not known:
            raise InputError(f"name is {name!r}; give text that is not empty")
        types = self._broker.types
        other = types.get(known)
        if other is not None and not other.has(fn):
            raise InputError(f"the job name {known!r} is taken by {other.fn!r}; give this job another name=")
        if other is not None and other.asked != policy:
            raise InputError(
                f"{known} is registered already, as {other!r}, and now with another policy; give it one policy, or "
                "another name= as well"
            )
        if other is not None:
            return other
        made = self._made(fn, known, policy)
        made.check_key()
        types[known] = made
        return made

    def call_of(self, work: Any, args: tuple[Any, ...], kwargs: dict[str, Any], how: Any) -> Call[Any]:
        """Return a call of a job type of this rig.

        Parameters: `work` is a call, a job type or a function; `how` is the policy of a function that is not known
        yet, or its `retry`.
        """
        if isinstance(work, (Call, JobType)) or not callable(work):
            if not isinstance(how, Policy):
                raise InputError(f"retry is {how!r}, and {work!r} has a policy already; give retry= to rig.job(...)")
            if isinstance(work, JobType):
                return work.call(*args, **kwargs)
            if args or kwargs:
                raise InputError(f"{work!r} has its arguments already; leave out {args!r} {kwargs!r}")
            return self.known_call(work, "enqueue")
        if isinstance(how, Policy):
            return self.type_of(work, how).call(*args, **kwargs)
        known = next((one.name for one in self._broker.types.values() if one.has(work)), None)
        return self.register(work, known or self._free_name(work), self._policy.changed(retry=how)).call(
            *args, **kwargs
        )

    def known_call(self, call: object, what: str) -> Call[Any]:
        """Return the call. Raises unless it is a call of a job type of this rig."""
        if not isinstance(call, Call):
            hint = "; bind its arguments with .call(...)" if isinstance(call, JobType) else ""
            raise InputError(f"{what} takes a call of a job type, not {call!r}{hint}")
        types = self._broker.types
        if types.get(call.type.name) is not call.type:
            raise UnknownJob(
                f"{call.type.name!r} is not a job type of this rig; register it with rig.job(...), "
                f"{nearest(call.type.name, types)}"
            )
        return call

    def enqueue(
        self, call: Call[Any], after: Duration | None = None, at: Instant | None = None, queue: str | None = None,
        priority: int | None = None, key: Any = None, payload: Payload | None = None,
    ) -> Job[Any]:  # fmt: skip
        """Enqueue a call of a job type of this rig. `payload`: in place of the payload of the rig."""
        call = self.known_call(call, "enqueue")
        job_type, args, kwargs = call.type, call.args, call.kwargs
        now = due = self._loop.now
        if type(after) is int and 0 <= after < _ONE_YEAR and at is None:
            due += after * NS  # as `to_ns` says, without its questions: most delays are such numbers
        elif after is not None:
            if at is not None:
                raise InputError(f"{job_type.name} has after={after!r} and at={at!r}; give one of the two")
            due = now + to_ns(after, what="after")
        elif at is not None:
            timeline = self._loop.timeline
            due = timeline.ns(at, what="at")
            if due < now:
                raise InstantError(
                    f"{job_type.name} has at={timeline.text(due)}, before the rig's now, {timeline.text(now)}; give an "
                    "instant that is not past"
                )
        if 0 <= job_type.expires_ns < due - now:
            raise InputError(
                f"{job_type.name} is due {spell(due - now)} after it is enqueued, and expires after "
                f"{spell(job_type.expires_ns)}: it would be dropped before it can start; give a shorter delay, or a "
                "longer expires"
            )
        if due >= LATEST_NS:
            within_time(due, f"{job_type.name} is due at an instant that")
        if queue is not None and (not isinstance(queue, str) or not queue):
            raise PolicyError(f"queue is {queue!r}; give a name as text")
        if priority is not None and (isinstance(priority, bool) or not isinstance(priority, int)):
            raise PolicyError(f"priority is {priority!r}; give a whole number (the lowest runs first)")
        change = self._broker.change
        if change is not None and change.enqueue is not None:
            after_ns, queue, priority = change.enqueue(job_type.name, Enqueued(due - now, queue, priority))
            due = now + after_ns
        copies = False
        if (payload or self.payload) == "json":
            args, kwargs, copies = through_json(job_type.name, args, kwargs)
        return self._broker.enqueue(job_type, args, kwargs, due, queue, priority, key, copies).reader

    def enqueue_asked(self, asked: Enqueue, payload: Payload, label: str) -> Job[Any]:
        """Enqueue what a tapped call has asked for. `label` says what is tapped."""
        job_type = self.type_of(asked.job, asked.policy)
        if asked.kwargs:
            must_read_delay(label, asked, job_type)
        call = job_type.call(*asked.args, **asked.kwargs)
        return self.enqueue(call, asked.after, asked.at, asked.queue, asked.priority, None, payload)

    def type_of(self, job: Any, policy: Policy | None = None) -> JobType[..., Any]:
        """Return the job type that a tapped call means: a job type, a callable, a known name or a dotted path."""
        if isinstance(job, JobType):
            return job
        types = self._broker.types
        if isinstance(job, str):
            found = types.get(job)
            if found is not None:
                return found
            if ":" not in job and "." not in job:
                raise UnknownJob(
                    f"a tapped call asked for the job {job!r}, which is not a job type of this rig; register it with "
                    f"rig.job(...), or give a dotted path; {nearest(job, types)}"
                )
            job = find(job)[2]
        for known in types.values():
            if known.has(job) or (isinstance(job, MethodType) and known.fn == job):
                return known
        name = self._free_name(job)
        made = self._made(job, name, policy or self._policy)
        made.by_default = policy is None
        types[name] = made
        return made

    def _made(self, fn: Callable[..., Any], name: str, policy: Policy) -> JobType[..., Any]:
        """Return a new job type. In a changed world another policy can hold than the one that was asked for."""
        change = self._broker.change
        holds = policy if change is None or change.policy is None else change.policy(name, policy)
        made: JobType[..., Any] = JobType(fn, name, holds)
        if holds is not policy:
            made.asked = policy
        return made

    def placeholder(self, name: str) -> JobType[..., Any]:
        """Return the job type of a name whose jobs the application runs itself. It is made if it is missing."""
        known = self._broker.types.get(name)
        if known is None:
            known = self._broker.types[name] = JobType(_not_run_here, name, self._policy)
        return known

    def _free_name(self, job: Any) -> str:
        """Return a name for a callable that is not a job type yet, such as ``send`` or ``send-2``."""
        name = base = job_name(job)
        count = 2
        while name in self._broker.types:
            name, count = f"{base}-{count}", count + 1
        return name


def _not_run_here(*args: Any, **kwargs: Any) -> None:
    raise RigStateError("the application's own workers run this job, and not the rig")
