"""One run of a rehearsal: the rig of a scenario whose jobs are those of a log, and play the parts that they get."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any

from ..errors import DuplicateJob, EnqueueRefused, InputError, IronClockError, JobsLeftOpen
from ..foundation.durations import NS
from ..history.history import History
from ..observers import unobserved
from ..rig import simulation_of
from ..scenario.scenario import Scenario, advance_in_steps
from ..simulation.faults.kind import FaultKind, Passing, Strike
from ..simulation.faults.placed import Aim, PlacedFault
from ..simulation.jobs import OPEN, WAITING, LiveAttempt, LiveJob
from ..simulation.policy import JobType
from .candidate import Candidate
from .logged_jobs import Act, LoggedEffect, LoggedJob
from .logged_policy import LoggedErrors, follows
from .parts import Casting, Part, Role
from .played_jobs import PlayedJob, played_jobs
from .recording import Recording

_REST_NS = 7 * 86_400 * NS
"""How long after the end of the log a run goes on at least, for jobs that are still open then."""


@dataclass(frozen=True, kw_only=True)
class Run:
    """What became of the jobs of a log in one run."""

    name: str
    history: History
    by_number: Mapping[int, PlayedJob]
    """By the number of a job of the log, what became of it. Not in it: it never came in."""
    new: Sequence[PlayedJob]
    """The jobs that the log does not have."""
    from_log: int
    """How many attempts repeated one of the log."""
    drawn: int
    """How many were drawn by the model."""
    unsure: int
    """How many started when the log does not say if an outage was over."""
    unsure_jobs: frozenset[int]
    """The numbers of the jobs with such an attempt."""
    refused: int
    """How many jobs of the log were refused when they were enqueued."""
    doubled: Mapping[str, int]
    """By a job type that comes from the log and from real code, how many jobs the code has enqueued."""

    @property
    def jobs(self) -> list[PlayedJob]:
        """All jobs."""
        return [*self.by_number.values(), *self.new]


def run_of(
    recording: Recording, candidate: Candidate, *, seed: int | str = 0, draws_ends: bool = False,
    progress: Callable[[float], None] | None = None,
) -> Run:  # fmt: skip
    """Let the jobs of a log happen once more, under a candidate. Parameters: `draws_ends` as in `Casting`; `progress`
    gets the share that is done."""
    with unobserved():  # these rigs are no part of the test that rehearses
        stage = _Stage(recording, candidate, seed, draws_ends)
    rig = stage.world.rig
    with rig:
        stage.world.begin()
        stage.begin()
        advance_in_steps(rig, recording.end_ns + 1_000, progress)  # to the next microsecond: a datetime has no less
        rest = max(_REST_NS, recording.end_ns - recording.start_ns)
        with suppress(JobsLeftOpen):
            rig.run_dry(rest / NS)
    made = stage.result()
    rig.close()
    stage.forget()
    return made


_FIRST = -1_000


class _Stage:
    """The rig of a run, and what its jobs do."""

    def __init__(self, recording: Recording, candidate: Candidate, seed: int | str, draws_ends: bool) -> None:
        self._recording = recording
        self._candidate = candidate
        measured = {name: logged.measured for name, logged in recording.types.items()}
        self.casting = Casting(recording.outages, measured, seed, draws_ends)
        self._roles: dict[int, Role] = {}  # by the number of a live job
        self._refused = 0
        self._entering: LoggedJob | None = None  # the job of the log that comes in at the moment
        self._new = 0
        self._rests = {key: ns for pool in recording.pools for key, ns in pool.rests_ns.items()}
        tables = self._tables(seed)
        self.world = Scenario(candidate.source.but(tables), candidate.folders).world()
        self.simulation = simulation_of(self.world.rig)
        self._loop = self.simulation.loop
        self._types = self.world.jobs
        self._errors = LoggedErrors(self._known_errors())
        for name, job_type in self._types.items():
            self._give_code(name, job_type)
        self._place_faults()
        if not recording.is_sample:
            for pool in self.simulation.pools.all:
                pool.rests = self
        if candidate.setup is not None:
            try:
                candidate.setup(self.world.rig)
            except IronClockError:
                raise
            except Exception as error:
                raise InputError(f"the setup raised {type(error).__name__}: {error}") from error
        left_out = candidate.from_code | candidate.scheduled
        mine = [job for job in recording.jobs if job.name not in left_out]
        self._arrivals = [job for job in mine if not job.is_child]  # a child comes in with the job that enqueues it
        self._acts = sorted((act, job.number) for job in mine for act in job.acts)
        self._acts_done = 0
        self._live: dict[int, LiveJob] = {}  # by the number of a job of the log, those with which somebody does more
        self._next = 0
        self._reordered = {name for name in self._types if "priority" in candidate.table_of(name)}
        self._moved = {name for name in self._types if "queue" in candidate.table_of(name)}

    # --- the world ----------------------------------------------------------------------------------

    def _known_errors(self) -> Iterator[type[BaseException]]:
        """Yield the error types that the policies name, and those that the code of the jobs knows."""
        for handler in self._candidate.handlers.values():
            for value in getattr(inspect.unwrap(handler), "__globals__", {}).values():
                if isinstance(value, type) and issubclass(value, Exception):
                    yield value
        for job_type in self._types.values():
            retry = job_type.retry
            yield from (kind for kind in (*retry.on, *retry.never_on, *retry.drop_on) if kind is not Exception)

    def _tables(self, seed: int | str) -> dict[str, Any]:
        recording, candidate = self._recording, self._candidate
        at = recording.timeline.at
        jobs = {name: {**logged.table, **candidate.table_of(name)} for name, logged in recording.types.items()}
        if recording.is_sample:
            workers: Any = [{"count": max(1, len(recording.jobs))}]
        else:
            workers = [{"count": pool.seen.places, "queues": list(pool.seen.queues)} for pool in recording.pools]
            workers = candidate.tables.get("workers", workers)
        more = {key: value for key, value in candidate.tables.items() if key not in ("jobs", "policies", "workers")}
        if "schedules" in more:  # they fire as long as the log tells
            end = at(recording.end_ns)
            more["schedules"] = {name: {"end": end, **table} for name, table in more["schedules"].items()}
        return {
            "start": at(recording.start_ns).replace(microsecond=0), "zone": str(recording.timeline.zone), "seed": seed,
            "workers": workers, "jobs": jobs, **more,
        }  # fmt: skip

    def _give_code(self, name: str, job_type: JobType[..., Any]) -> None:
        """Let the attempts of a job type end as their parts say."""
        if name not in self._candidate.handlers:
            job_type.fn = self._modelled
        elif self._candidate.fails_at.get(name) == "end":
            job_type.fn = self._failing_at_end(job_type.fn)

    def _place_faults(self) -> None:
        places: dict[str, FaultKind] = {"start": _Begins(self)}
        for job in self._recording.jobs:
            if any(attempt.outcome == "crashed" or not attempt.is_heard for attempt in job.attempts):
                places |= {"ack": _Dies(self), "delivery": _ComesLate(self)}
                break
        for place in self._candidate.fails_at.values():
            if place not in ("start", "end"):
                places[place] = _FailsInside(self)
        for place, kind in places.items():
            self.simulation.placed_faults.add(PlacedFault(aim=Aim(at=place), does=Strike(kind=kind)))
        self.simulation.decide_tracking()

    # --- jobs come in -------------------------------------------------------------------------------

    def begin(self) -> None:
        """Let the jobs of the log come in, each at its time."""
        self.simulation.broker.listeners.append(self._came_in)
        self._wait_for_next()

    def _wait_for_next(self) -> None:
        arrival = self._arrivals[self._next] if self._next < len(self._arrivals) else None
        act = self._acts[self._acts_done][0] if self._acts_done < len(self._acts) else None
        if arrival is not None and (act is None or (arrival.enqueued_ns, arrival.place) < act[:2]):
            self._loop.schedule_world_event(arrival.enqueued_ns, self._let_in, arrival)
        elif act is not None:
            self._loop.schedule_world_event(act.ns, self._do_act, act)

    def _let_in(self, arrival: LoggedJob) -> None:
        self._next += 1
        self._enqueue(arrival, arrival.due_ns)
        self._wait_for_next()

    def _do_act(self, act: Act) -> None:
        number = self._acts[self._acts_done][1]
        self._acts_done += 1
        if number in self._live:
            self._do_more(act, self._live[number], self._recording.jobs[number])
        self._wait_for_next()

    def _do_more(self, act: Act, live: LiveJob, job: LoggedJob) -> None:
        if act.what == "requeued":
            following = job.attempts[live.attempts_made : live.attempts_made + 1]
            late = following[0].late_ns if following else 0
            if late:
                self._loop.schedule_world_event(act.ns + late, self._put_back, live)
            else:
                self._put_back(live)
        elif act.what == "withdrawn" and live.state in WAITING:
            self.simulation.withdraw(live)

    def _put_back(self, live: LiveJob) -> None:
        if live.state == "dead":
            self.role_of(live).now = None  # what its last attempt left behind is over
            self.simulation.broker.requeue(live)

    def _enqueue(self, job: LoggedJob, due_ns: int, by: LiveAttempt | None = None) -> None:
        candidate = self._candidate
        late = job.attempts[0].late_ns if job.attempts else 0
        args, kwargs = candidate.arguments_of(job)
        queue = None if job.name in self._moved else job.queue
        due = max(due_ns, self._loop.now) + late
        # A job that is held goes before others when it is due: it did so in the log.
        priority = _FIRST if job.number in self._recording.held else job.priority or None
        if job.name in self._reordered:
            priority = None
        self._entering = job
        try:
            live = self.simulation.broker.enqueue(self._types[job.name], args, kwargs, due, queue, priority, job.key)
        except (EnqueueRefused, DuplicateJob):
            self._refused += 1
            return
        finally:
            was_kept_out, self._entering = self._entering is not None, None
        if was_kept_out:
            self._refused += 1  # the policy is unique, and another job is there in its place
        elif by is not None:
            live.enqueued_by = by.job, by.number
        if job.acts:
            self._live[job.number] = live
        if job.given_up is not None and not candidate.table_of(job.name):
            self._loop.schedule_world_event(job.given_up[0], self._give_up, live)

    def _came_in(self, live: LiveJob) -> None:
        """Give a job that comes in its role."""
        job, self._entering = self._entering, None
        if job is None:
            self._new += 1
            live.name_as(f"{live.type.name}-new-{self._new}")
            self._roles[live.number] = self.casting.new_role(live.type.name, self._new)
        else:
            live.name_as(job.id)
            self._roles[live.number] = self.casting.role(job)

    def _give_up(self, live: LiveJob) -> None:
        """Close a job that its queue gave up without an attempt, as its policy said that the log does not show."""
        job = self.role_of(live).job
        assert job is not None
        assert job.given_up is not None
        _, what, why = job.given_up
        if live.state in WAITING and live.attempts_made == len(job.attempts):
            self.simulation.lives.close(live, "dropped" if what == "expired" else "dead", what, 0, why)

    # --- attempts -----------------------------------------------------------------------------------

    def role_of(self, live: LiveJob) -> Role:
        """Return the role of a job."""
        return self._roles[live.number]

    def begins(self, passing: Passing, attempt: LiveAttempt) -> None:
        """Give an attempt its part, and let it take the time of the part. An attempt of the application's own code
        takes that before its code runs."""
        role = self.role_of(attempt.job)
        now = self._loop.now
        part = self.casting.next_part(role, attempt.number, now)
        is_modelled = role.name not in self._candidate.handlers
        if part.outcome == "running" or (part.outcome == "timed-out" and attempt.job.type.timeout_ns is not None):
            passing.wait(None)
            if part.logged is not None and part.logged.gone_ns is not None:
                gone = now + part.logged.gone_ns - part.logged.started_ns
                self._loop.schedule_world_event(gone, self._leave, attempt)
        elif part.outcome in ("done", "crashed") or self._fails_inside(role.name):
            passing.take(part.takes_ns)
        else:
            passing.fail(self.error_of(role, part), part.takes_ns)
        if is_modelled:
            for effect in part.effects:
                self._loop.schedule_world_event(now + effect.after_ns, self._write_effect, (attempt, effect))
        if part.logged is not None:
            for number, after_ns in part.logged.children:
                child = self._recording.jobs[number]
                if child.name not in self._candidate.from_code:
                    self._loop.schedule_world_event(now + after_ns, self._enqueue_child, (attempt, child))

    def _leave(self, attempt: LiveAttempt) -> None:
        """Let the worker of an attempt that never ends take another one, as it did in the log."""
        if attempt.outcome == "running":
            attempt.pool.release(attempt.worker)
            self._loop.work_to_dispatch = True

    def _fails_inside(self, name: str) -> bool:
        return self._candidate.fails_at.get(name, "start") != "start"

    def place_of_failure(self, attempt: LiveAttempt) -> str:
        """Return the seam at which attempts at such a job fail."""
        return self._candidate.fails_at.get(attempt.job.type.name, "start")

    def error_of(self, role: Role, part: Part) -> BaseException:
        """Return a new error of an attempt that fails."""
        logged = part.logged
        follow = None if logged is None or role.job is None else follows(role.job, logged.number)
        if part.outcome == "timed-out":
            return self._errors.timeout(part.error, follow)
        return self._errors.make(part.error, follow)

    def _write_effect(self, what: tuple[LiveAttempt, LoggedEffect]) -> None:
        attempt, effect = what
        if attempt.outcome == "running":
            self.simulation.effects.write(effect.name, effect.key, effect.outcome, {}, attempt)

    def _enqueue_child(self, what: tuple[LiveAttempt, LoggedJob]) -> None:
        attempt, child = what
        self._enqueue(child, self._loop.now + child.due_ns - child.enqueued_ns, attempt)

    def _modelled(self, *args: Any, **kwargs: Any) -> Any:
        """The code of a job that is not the application's own: its part says what it returns."""
        role, part = self._running()
        if part.outcome not in ("done", "crashed"):
            raise self.error_of(role, part)
        return None if part.logged is None else part.logged.result

    def _running(self) -> tuple[Role, Part]:
        attempt = self._loop.current
        assert isinstance(attempt, LiveAttempt)
        role = self.role_of(attempt.job)
        assert role.now is not None
        return role, role.now

    def _failing_at_end(self, fn: Callable[..., Any]) -> Callable[..., Any]:
        """Return the code of a job that fails after its work, if its part says that it fails."""

        @functools.wraps(fn)
        def whole(*args: Any, **kwargs: Any) -> Any:
            result = fn(*args, **kwargs)
            if inspect.isawaitable(result):
                result = self.simulation.host.await_result(result)
            self._fail_if_due()
            return result

        return whole

    def _fail_if_due(self) -> None:
        role, part = self._running()
        if part.outcome in ("failed", "timed-out"):
            raise self.error_of(role, part)

    def after(self, attempt: LiveAttempt) -> int:
        """Return how long a worker takes no other job after an attempt, in nanoseconds. See `Rests`."""
        role = self.role_of(attempt.job)
        part, job = role.now, role.job
        if attempt.job.state not in OPEN and attempt.job.type.lease_ns < 0:  # else another attempt can still run
            role.now = None
        if part is None or part.logged is None or job is None:
            return 0
        return self._rests.get((job.number, part.logged.number), 0)

    def lateness(self, number: int) -> int:
        """Return how much later a job is delivered whose worker has died, in nanoseconds. Parameters: `number` is that
        of the live job."""
        role = self._roles.get(number)
        if role is None or role.job is None or role.now is None:
            return 0
        logged = role.now.logged
        if role.now.outcome != "crashed" and (logged is None or logged.is_heard):
            return 0
        role.now = None  # it is late once
        if logged is None:
            return 0
        if logged.number >= len(role.job.attempts):  # nobody took it again before the log ended
            return max(0, self._recording.end_ns - self._loop.now) if self._recording.knows_waits else 0
        following = role.job.attempts[logged.number]
        if self._types[role.name].lease_ns >= 0:  # it is the end of the lease that delivers it again
            return following.late_ns
        return max(0, following.ready_ns - (logged.ended_ns or 0) + following.late_ns)

    # --- the end ------------------------------------------------------------------------------------

    def result(self) -> Run:
        """Return what became of the jobs."""
        history = self.simulation.history
        by_number: dict[int, PlayedJob] = {}
        new: list[PlayedJob] = []
        for number, job in played_jobs(history).items():
            logged = self._roles[number].job
            if logged is None:
                new.append(job)
            else:
                job.asked_ns = max(logged.due_ns, job.enqueued_ns)
                by_number[logged.number] = job
        counts = self.casting.counts
        return Run(
            name=self._candidate.name, history=history, by_number=by_number, new=new, from_log=counts["log"],
            drawn=counts["drawn"], unsure=counts["unsure"], unsure_jobs=frozenset(self.casting.unsure),
            refused=self._refused, doubled=self._doubled(new),
        )  # fmt: skip

    def _doubled(self, new: Sequence[PlayedJob]) -> dict[str, int]:
        count: dict[str, int] = {}
        for job in new:
            if job.name in self._types and job.name not in self._candidate.from_code | self._candidate.scheduled:
                count[job.name] = count.get(job.name, 0) + 1
        return count

    def forget(self) -> None:
        """Let go of what only the run needed: the history of the run holds its rig, which holds this."""
        self._roles.clear()
        self._rests = {}
        self._arrivals = []
        self.casting = Casting((), {}, 0, False)
        self._live.clear()


class _OfStage(FaultKind):
    """What all kinds of fault of a run have in common: they ask its stage."""

    def __init__(self, stage: _Stage) -> None:
        self._stage = stage


class _Begins(_OfStage):
    """An attempt begins, and gets its part."""

    name = "part"
    words = "it plays its part"
    seams = frozenset({"start"})
    needs = frozenset({"fail", "wait"})

    def strike(self, passing: Passing, strike: Strike) -> None:
        assert passing.attempt is not None
        self._stage.begins(passing, passing.attempt)


class _FailsInside(_OfStage):
    """An attempt whose part fails does so at a seam inside its code."""

    name = "part_fails"
    words = "it fails as its part says"
    seams = frozenset({"before", "after"})
    needs = frozenset({"fail"})

    def strike(self, passing: Passing, strike: Strike) -> None:
        attempt = passing.attempt
        if attempt is None or self._stage.place_of_failure(attempt) != passing.seam:
            return
        role = self._stage.role_of(attempt.job)
        if role.now is not None and role.now.outcome in ("failed", "timed-out"):
            passing.fail(self._stage.error_of(role, role.now))


class _Dies(_OfStage):
    """The worker of an attempt dies whose part says so, after its code; or nobody hears that it is done."""

    name = "part_dies"
    words = "its worker dies"
    seams = frozenset({"ack"})
    needs = frozenset({"crash"})

    def strike(self, passing: Passing, strike: Strike) -> None:
        assert passing.attempt is not None
        part = self._stage.role_of(passing.attempt.job).now
        if part is None:
            return
        if part.outcome == "crashed":
            passing.crash(replace(strike, by_ns=self._stage.after(passing.attempt)))
        elif part.logged is not None and not part.logged.is_heard and "lose_ack" in passing.can:
            passing.lose_ack()


class _ComesLate(_OfStage):
    """A job whose worker has died is delivered again as much later as in the log."""

    name = "part_late"
    words = "its delivery is late"
    seams = frozenset({"delivery"})
    needs = frozenset({"come_late"})

    def strike(self, passing: Passing, strike: Strike) -> None:
        late = self._stage.lateness(passing.job_number)
        if late:
            passing.come_late(late)
