"""The simulation: its parts by name, how they are connected, and the few operations that need several of them.

It is pure: it patches nothing, does no input or output, and shows no interface. `Rig` adds those.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from ..errors import InputError, JobsLeftOpen, RigStateError, TapError, UnknownJob, nearest
from ..foundation.durations import spell
from ..foundation.instants import LATEST_NS, Timeline
from ..foundation.random_generators import RandomGenerators
from ..history.attention import Attention
from ..history.history import History
from ..history.narrative import job_story
from ..history.records import message_of
from .attempts import Attempts
from .broker import Broker
from .decisions import Decisions
from .delivery import Delivery
from .effects import Effects
from .event_loop import JOBS_CLOSED, EventLoop
from .faults.crash import CRASH
from .faults.judge import Judge
from .faults.kind import REAL_CALLS, SEAMS, Strike
from .faults.placed import PlacedFaults
from .faults.placing import Faults
from .faults.seam_faults import SeamFaults
from .host import Host, NoHost
from .jobs import OPEN, LiveAttempt, LiveJob, WhileRunning
from .life import JobLives
from .pools import Pool, Pools
from .queues import QueueControls
from .remembered_steps import RememberedSteps
from .requests import Requests
from .shutdown import Shutdown
from .task import Task, TaskSwitcher
from .world_change import WorldChange


class Simulation:
    """A simulated world of jobs: clock, queues, workers, faults, effects and history."""

    def __init__(
        self, timeline: Timeline, start_ns: int, seed: object = 0, switcher: TaskSwitcher | None = None,
        host: Host | None = None,
    ) -> None:  # fmt: skip
        self.timeline = timeline
        self.seed = seed
        # Each part gets what stands above it.
        loop = self.loop = EventLoop(timeline, start_ns, switcher)
        history = self.history = History(timeline, seed, loop)
        history.facts = self._facts
        self.attention = Attention()
        self.generators = RandomGenerators(seed)
        pools = self.pools = Pools()
        faults = self.placed_faults = PlacedFaults(timeline)
        judge = self.judge = Judge(loop, faults)
        lives = loop.lives = self.lives = JobLives(loop, history)
        self.host: Host = NoHost() if host is None else host
        self.faults = Faults(
            faults,
            timeline,
            seed,
            self._known_name,
            self.decide_tracking,
            loop.schedule_world_event,
            self.jump_wall_clock,
        )
        broker = self.broker = Broker(self, loop, history, pools, judge, lives, self.host)
        self.delivery = Delivery(loop, history, pools, judge, lives, broker)
        self.queue_controls = QueueControls(
            loop, history, pools, faults, broker.jobs, self._running_attempts, self.decide_tracking
        )
        self.attempts = Attempts(
            loop, history, pools, judge, lives, broker, self.delivery, self.queue_controls, self.generators, self.host
        )
        self.requests = Requests(loop, history, broker, self.host)
        self.seams = SeamFaults(loop, history, judge, self.requests, self.attempts)
        self.shutdown = Shutdown(loop, history, pools, lives, self.attempts, self.decide_tracking)
        self.effects = Effects(loop, history)
        self.remembered_steps = RememberedSteps(loop, history)
        # What the lower parts call in the higher ones.
        broker.on_due = self.attempts.due
        loop.is_idle[broker.on_due] = lambda job: job.state not in OPEN
        loop.dispatch = self.attempts.dispatch
        loop.prepare = self._prepare
        self.attempts.on_death.append(broker.transactions.worker_died)
        self._wall_clock_jumped_ns = 0
        self.schedule_names: dict[str, None] = {}
        """The names of the schedules that there were, in order."""
        self.real_seams: frozenset[str] = frozenset()
        """The kinds of real calls that are seams."""
        self.workers_have_clocks = False
        """True if workers of the application's own have wall clocks of other hosts."""

    @property
    def parts(self) -> tuple[object, ...]:
        """Every part that holds something of this world. Taking the world apart is one walk over them."""
        return (
            self.seams, self.shutdown, self.attempts, self.queue_controls, self.delivery, self.effects,
            self.remembered_steps, self.requests, self.broker.transactions, self.broker.admission, self.broker,
            self.faults, self.judge, self.placed_faults, self.lives, self.history, self.loop.switcher, self.loop,
        )  # fmt: skip

    # --- what the world needs -----------------------------------------------------------------------

    def decide_tracking(self) -> None:
        """Decide what this world needs beyond plain attempts. Called when a fault, a limit, a hook or a pool is new."""
        loop, attempts, judge, controls = self.loop, self.attempts, self.judge, self.queue_controls
        decisions, faults = judge.plan, list(judge.placed)
        # Faults that strike before the code of an attempt need less than the others.
        at_start = [fault for fault in faults if fault.aim.at == "start" and fault.kind.needs <= _BEFORE_CODE]
        elsewhere = [fault for fault in faults if fault.aim.at not in _OUTSIDE_CODE and fault not in at_start]
        inside = any(fault.aim.at not in ("start", "ack") for fault in elsewhere)
        delivery = any(fault.aim.at == "delivery" for fault in faults)
        judge.guards_queues = bool(judge.placed.outages) or any(fault.aim.at == "put" for fault in faults)
        decides_all = decisions is not None and decisions.only_jobs is None
        some = None if decisions is None else decisions.only_jobs
        attempts.tracked_jobs = frozenset() if some is None else some
        loop.fault_hook = self.seams.pass_seam if inside or decides_all else None
        if decisions is not None and attempts.tracked_jobs and decisions.asks_inside_jobs and not loop.fault_hook:
            loop.fault_hook = self.seams.pass_seam_of_tracked_jobs
        loop.several_wall_clocks = self.workers_have_clocks or any(pool.skew_ns for pool in self.pools.all)
        limited = bool(controls.by_name or judge.placed.outages)
        attempts.tracks_all = bool(
            limited or decides_all or elsewhere or attempts.around or loop.several_wall_clocks
        )  # fmt: skip
        attempts.keeps_jobs_waiting = bool(
            limited or delivery or (decisions is not None and decisions.asks_deliveries)
            or any(pool.stopped for pool in self.pools.all)
        )  # fmt: skip
        attempts.plain = not (attempts.tracks_all or attempts.tracked_jobs or attempts.keeps_jobs_waiting or at_start)
        attempts.forks = any(fault.does.hard for fault in faults)
        if any("crash" in fault.kind.needs for fault in faults):
            self.host.workers_will_die()
        for pool in self.pools.all:
            pool.gate = controls.gate if limited else None

    def decide_with(self, decisions: Decisions) -> None:
        """Ask these decisions where the run can go another way. Raises `RigStateError` after the first job."""
        if self.history or self.broker.jobs:
            raise RigStateError(
                "the story of this rig has begun; let the probe decide, or replay a token, before the first job"
            )
        self.loop.decisions = decisions
        if decisions.chooses_order:
            self.loop.chooses_order = decisions
        if decisions.kills_workers:
            self.host.workers_will_die()
        self.decide_tracking()

    def change_world(self, change: WorldChange) -> None:
        """Let one thing be another than the application says. Parameters: `change` says what."""
        self.broker.transactions.change = self.effects.change = change

    def worker_exits(self, task: Task, why: str) -> None:
        """Let the worker of the running task die: its code has ended its process. Never returns.

        Parameters: `why` says in words how, in place of a seam.
        """
        self.host.workers_will_die()
        self.attempts.crash_at_seam(task, why, Strike(kind=CRASH))

    def add_pool(self, pool: Pool) -> None:
        """Add workers. Raises `RigStateError` if one of their queues has workers already."""
        self.pools.add(pool)
        self.decide_tracking()

    def _prepare(self) -> None:
        """Do what must be done before the loop runs."""
        if not self.pools.all:
            self.add_pool(Pool(1))
        for fault in self.placed_faults:
            at = fault.aim.at
            when, _, effect = at.partition(" ")
            real = REAL_CALLS.get(effect.partition(" ")[0]) if " " in effect else None
            if real is not None and effect not in self.effects.names:
                if real not in self.real_seams:
                    raise InputError(
                        f"a fault has at={at!r}, and the real calls of this rig are no seams; give Rig(seams={real!r})"
                    )
            elif when in ("before", "after") and effect and at not in _NO_EFFECT and effect not in self.effects.names:
                near = nearest(effect, self.effects.names)
                raise InputError(f"a fault has at={at!r}, and there is no effect {effect!r}; {near}")

    # --- the wall clock -----------------------------------------------------------------------------

    @property
    def wall_clock_offset_ns(self) -> int:
        """How far the wall clock that the running task sees is ahead of the simulation's instants."""
        task = self.loop.current
        owner = None if task is None else task.owner
        return self._wall_clock_jumped_ns + (0 if owner is None else owner.pool.skew_ns)

    def jump_wall_clock(self, by_ns: int) -> None:
        """Set the wall clock forward or back."""
        self._wall_clock_jumped_ns += by_ns
        self.placed_faults.clock_jumps.append(self.loop.now)
        self.loop.forget_values()
        self.history.record("note", detail=f"the wall clock jumps by {spell(by_ns)}")

    # --- moving the clock ---------------------------------------------------------------------------

    def run_dry(self, limit_ns: int) -> None:
        """Run until no job is open. Raises `JobsLeftOpen` if that takes longer than the limit."""
        if self.lives.open_jobs or self.loop.waiters:  # a waiter can bring jobs in: a job table is one
            self.loop.run_until(min(self.loop.now + limit_ns, LATEST_NS - 1), JOBS_CLOSED)
        self.must_be_dry(limit_ns)

    def must_be_dry(self, limit_ns: int) -> None:
        """Raise `JobsLeftOpen` if jobs are open, after so much time."""
        if self.lives.open_jobs:
            jobs = self.broker.jobs
            left = [job for job in jobs if job.state in OPEN]
            shown = [self._where_it_waits(job) for job in left[:5]] + ["..."] * (len(left) > 5)
            shown += [
                f"attempt {attempt.number} of {attempt.job.id}, which was delivered again, still runs"
                for attempt in self.delivery.uncounted.values()
            ][:5]
            dead = "".join(f". {line}" for line in (*self.host.dead_workers(), *self.host.deadlocks()))
            raise JobsLeftOpen(
                f"{len(left)} of {len(jobs)} jobs are still open after {spell(limit_ns)}: {'; '.join(shown)}{dead}"
            )

    def _where_it_waits(self, job: LiveJob) -> str:
        """Return in words what an open job waits for."""
        if job.state == "running":
            attempt = job.running_attempt or job.attempts[-1]
            since = f"attempt {attempt.number} on {attempt.worker} since {self.timeline.text(attempt.started_ns)}"
            where = self.host.where_it_stands(attempt)
            return f"{job.id} is running ({since}{where and ', it waits ' + where})"
        if job.state == "ready":
            return f"{job.id} is ready ({self._why_ready(job)})"
        held = self.broker.admission.reason_held(job)
        return f"{job.id} is {job.state} {held or 'until ' + self.timeline.text(job.due_ns)}"

    def _why_ready(self, job: LiveJob) -> str:
        """Return in words why a job that is due has not started."""
        pool = self.pools.find(job.queue)
        if pool is None and self.pools.all:
            return f"no worker serves {job.queue!r}"
        why = None if pool is None else self.queue_controls.reason_to_wait(job)
        if why:
            return why
        if pool is None or (pool.free and not self.loop.running):
            return "due now; the clock has not moved since: advance or settle the rig"
        busy = [attempt for attempt in self.attempts.running() if attempt.pool is pool]
        listed = ", ".join(f"{attempt.worker}, which runs {attempt.job.id}" for attempt in busy[:3])
        return f"it waits for {listed}" if listed else "no worker is free"

    def must_know_queue(self, queue: str, default: str) -> None:
        """Raise `InputError` for a queue that no job has, and no job type or worker names.

        While the name can still appear it is only noted, as an unknown job type is.
        """
        broker = self.broker
        known = {default, *self.queue_controls.by_name}
        known |= {job.queue for job in broker.jobs} | {job_type.queue for job_type in broker.types.values()}
        known |= {name for pool in self.pools.all if not pool.serves_all for name in pool.queues}
        if queue in known:
            return
        if not self.host.can_meet_new_names():
            raise InputError(f"no job and no worker has the queue {queue!r}; {nearest(str(queue), known)}")
        self.attention.asked_for(str(queue), "queue")

    @contextmanager
    def noting_errors(self) -> Iterator[None]:
        """Note an error of the rig that leaves the block: the code under test can swallow it."""
        try:
            yield
        except (InputError, TapError, UnknownJob, RigStateError) as error:
            self.attention.raised(error)
            raise

    def tell_swallowed(self) -> None:
        """Write the errors of the rig that the code under test has swallowed into the history."""
        for error in self.attention.newly_swallowed():
            words = f"the code under test has swallowed {type(error).__name__}: {message_of(error)}"
            self.history.record("note", detail=words)

    # --- what its jobs ask (`JobHome`) --------------------------------------------------------------

    def attempts_of(self, job: LiveJob) -> list[LiveAttempt]:
        """Return every attempt at a job, in order."""
        return self.attempts.of(job)

    def withdraw(self, job: LiveJob, running: WhileRunning = "refuse") -> None:
        """Cancel a job. Raises `RigStateError` if it is closed, or running and `running` is ``"refuse"``."""
        if job.state == "running" and running != "refuse":
            self.shutdown.cancel(job, running)
        else:
            self.broker.withdraw(job)

    def story_of(self, job: LiveJob) -> str:
        """Return what happened to a job, in words."""
        more = f" ({self._why_ready(job)})" if job.state == "ready" else ""
        if job.type.by_default:
            more += f"; captured, with the policy of the rig: {job.type.retry.describe()}"
        return job_story(self.history, job, more)

    # --- what is connected before it exists ---------------------------------------------------------

    def _facts(self) -> dict[str, Any]:
        """Return what a law can ask of this world beside its entries."""
        return {
            "job_types": list(self.broker.types), "effects": list(self.effects.names),
            "addressed": sorted(self.effects.addressed),
            "schedules": list(self.schedule_names), "nothing_pending": self.loop.next_due_ns is None,
        }  # fmt: skip

    def _known_name(self, job: object) -> str:
        return self.broker.known_name(job)

    def _running_attempts(self) -> list[LiveAttempt]:
        return self.attempts.running()


_BEFORE_CODE = frozenset({"fail", "wait"})
"""What a fault can do to an attempt before its code runs although nothing else of the attempt is followed."""
_OUTSIDE_CODE = frozenset({"delivery", "put", "before commit"})
_NO_EFFECT = frozenset({*SEAMS, "before commit"})
