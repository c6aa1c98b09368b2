"""The desk: where jobs are enqueued, routed, closed and put back. The engine moves them along from there."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from heapq import heappush
from typing import TYPE_CHECKING, Any

from .clockwork import WORLD, Clockwork
from .durations import spell
from .errors import PolicyError, RigStateError, StuckError, UnknownJob, nearest
from .faults import Faults
from .history import History
from .jobs import Attempt, Job
from .policy import Call, JobType, job_name
from .pool import Pool
from .timeline import Timeline
from .where import calling

if TYPE_CHECKING:
    from .admission import Admission
    from .delivery import Delivery
    from .effects import Effects
    from .memory import Memory
    from .queues import Controls
    from .requests import Requests
    from .stopping import Stopping
    from .transactions import Transactions

DEPTH_LIMIT = 10_000
"""How many jobs may enqueue one another at one instant before it is called a loop."""


class Desk(Clockwork):
    """The part of the engine that jobs come to and go from."""

    _due_event: Callable[[Any], None]
    """What happens when a job falls due."""
    controls: Controls
    delivery: Delivery
    stopping: Stopping
    admission: Admission
    effects: Effects
    transactions: Transactions
    requests: Requests
    memory: Memory

    def __init__(self, timeline: Timeline, start_ns: int, seed: object = 0) -> None:
        super().__init__(timeline, start_ns, seed)
        self.history = History(timeline, seed)
        self.jumped_ns = 0
        self.special = False
        """Whether every attempt needs more than its function's call: faults at seams, hooks, limits ..."""
        self.singled_out: frozenset[int] = frozenset()
        """The jobs whose attempts alone need more than that, by number."""
        self.gated = False
        """Whether a job that is due may have to wait although a worker is free."""
        self.lenient: Callable[[], bool] = lambda: True
        """Whether a name may come to be known later."""
        self.types: dict[str, JobType] = {}
        self.jobs: list[Job] = []
        self.pools: list[Pool] = []
        self.around_enqueue: list[Callable[[Call], AbstractContextManager[Any]]] = []
        self.around_attempt: list[Callable[[Attempt], AbstractContextManager[Any]]] = []
        self.enqueued: list[Callable[[Job], None]] = []
        """Told of every job that is enqueued."""
        self._routes: dict[str, Pool] = {}
        self._record = self.history.add
        self._numbers = 0  # of the jobs so far
        self._asked: dict[str, int] = {}  # enqueue calls so far by job name, for refuse_enqueue
        self.faults = Faults(timeline, seed, self.known_name, self.rearm, self.plan, self.jump)

    @property
    def wall_off_ns(self) -> int:
        """How far the wall clock is from the engine's instants, where it was set, or on a host that is wrong."""
        task = self.current
        return self.jumped_ns + (task.pool.skew_ns if isinstance(task, Attempt) else 0)

    def jump(self, by_ns: int) -> None:
        """Set the wall clock forward or back."""
        self.jumped_ns += by_ns
        self.forget_present()
        self.record("note", detail=f"the wall clock jumps by {spell(by_ns)}")

    # --- what a rig is told -------------------------------------------------------------------------

    def name_of(self, job: object) -> str:
        """Return the name of a job type given by name, callable or job type."""
        if isinstance(job, str):
            return job
        if isinstance(job, JobType):
            return job.name
        for known in self.types.values():
            if known.fn is job:
                return known.name
        return job_name(job)

    def known_name(self, job: object) -> str:
        """Return the name of a job type; raise `UnknownJob` for one that this world cannot come to know."""
        name = self.name_of(job)
        if name not in self.types and not self.lenient():
            raise UnknownJob(f"no job is called {name!r}; {nearest(name, self.types)}")
        return name

    def rearm(self) -> None:
        """Take note of what has become special about this world."""
        faults = self.faults
        pilot = self.pilot
        asked = pilot is not None and pilot.only is None
        self.singled_out = frozenset() if pilot is None or pilot.only is None else pilot.only
        self.passing = self.delivery.pass_seam if faults.seam or asked else None
        if pilot is not None and self.singled_out and pilot.inside and not self.passing:
            self.passing = self._pass_singled_out
        self.skewed = any(pool.skew_ns for pool in self.pools)
        self.special = bool(
            faults.seam or asked or faults.ack or faults.twice or faults.outages or self.controls.by_name
            or self.around_attempt or self.skewed
        )  # fmt: skip
        self.gated = bool(
            faults.delivery or faults.outages or self.controls.by_name or (pilot is not None and pilot.gates)
            or any(pool.stopped for pool in self.pools)
        )  # fmt: skip
        for pool in self.pools:
            pool.gate = self.controls.admit if self.controls.by_name or faults.outages else None

    def _pass_singled_out(self, where: str, about: str = "") -> None:
        """Pass a seam where only a few jobs have one."""
        task = self.current
        if task is not None and task.job is not None and task.job.number in self.singled_out:
            self.delivery.pass_seam(where, about)

    def plan(self, at_ns: int, function: Callable[[Any], None], argument: Any) -> None:
        """Put an event of the world itself on the heap, before anything else at its instant."""
        self.schedule(max(at_ns, self.now), WORLD, function, argument)

    def spend(self, type: JobType) -> int:
        """Return how long an attempt takes before its code runs, in nanoseconds."""
        return type.takes_ns if type.spread is None else type.spread.draw(self.generator(f"takes:{type.name}"))

    def record(self, what: str, job: Job | None = None, attempt: int = 0, detail: Any = None) -> None:
        """Write a line into the history, at this instant."""
        self._record((self.now, what, job, attempt, detail, 0, None, 0))

    def add_pool(self, pool: Pool) -> None:
        """Add workers; raise `RigStateError` when one of their queues has workers already."""
        for other in self.pools:
            shared = sorted(set(other.queues) & set(pool.queues))
            if shared:
                what = "every queue" if shared == ["*"] else f"queue {shared[0]!r}"
                raise RigStateError(f"{what} has its workers already; name other queues for the new ones")
        offset = sum(p.size for p in self.pools)
        pool.free = [f"w{offset + n}" for n in range(pool.size, 0, -1)]
        pool.doubles = self.delivery.doubles
        self.pools.append(pool)
        self._routes.clear()
        self.rearm()

    def enqueue(
        self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int,
        queue: str | None = None, priority: int | None = None, key: Any = None, hooked: bool = False,
    ) -> Job:  # fmt: skip
        """Enqueue a job that is due at `due_ns` (nanoseconds since the epoch, not before `now`)."""
        if self.around_enqueue and not hooked:
            with ExitStack() as stack:
                for hook in self.around_enqueue:
                    stack.enter_context(hook(Call(type, args, kwargs)))
                return self.enqueue(type, args, kwargs, due_ns, queue, priority, key, True)
        current = self.current
        if self.passing is not None:
            self.passing("enqueue", type.name)
        now = self.now
        if queue is None:
            queue = type.queue
        if priority is None:
            priority = type.priority
        if self.faults.enqueue or self.faults.outages:
            self._refuse(type, args, queue)
        if self.pools and self._route(queue) is None:
            raise PolicyError(f"{type.name} is asked into {self._unserved(queue)}")
        if type.admits:
            key = type.key_of(args, kwargs) if key is None else key
            kept = self.admission.only(type, args, kwargs, key)
            if kept is not None:
                return kept
        self._numbers += 1
        job = Job(self, type, self._numbers, args, kwargs, queue, priority, now, due_ns)  # type: ignore[arg-type]  # it is one
        if key is not None:
            job.key = key
        if self.pilot is not None and current is None and self.pilot.leaves_out(job.id):
            job.state = "withdrawn"
            return job
        if type.admits:
            self.admission.pend(job)
        if current is not None and current.job is not None:
            parent = current.job
            if due_ns <= now and parent.enqueued_ns == now:
                job.depth = parent.depth + 1
                if job.depth > DEPTH_LIMIT:
                    raise self.stop(StuckError(
                        f"{type.name} is enqueued without delay by {parent.name}, over {DEPTH_LIMIT} times in a row "
                        f"at {self.timeline.text(now)}, at {calling()}; give it a delay or an end"
                    ))  # fmt: skip
        if self.transactions.open and self.transactions.takes(job):
            return job
        self._enter(job)
        if self.passing is not None:
            self.passing("after enqueue")
        if self.transactions.open:
            self.transactions.early(job)
        return job

    def put(self, job: Job) -> None:
        """Enqueue a job that its transaction has kept back until now."""
        now = job.enqueued_ns = self.now
        job.due_ns = max(job.due_ns, now)
        if job.due_ns <= now:
            job.state = "ready"
        self._enter(job)

    def _enter(self, job: Job) -> None:
        now, due = self.now, job.due_ns
        self.jobs.append(job)
        self.open += 1
        self._record((now, "enqueued", job, 0, due, 0, None, 0))
        self._order += 1
        heappush(self._heap, (due, job.priority, self._order, self._due_event, job))
        if job.type.expires_ns >= 0:
            self.schedule(now + job.type.expires_ns, 0, self.admission.expire, job)
        if self.enqueued:
            for told in self.enqueued[:]:
                told(job)

    def withdraw(self, job: Job, running: str = "refuse") -> None:
        """Cancel a job; raise `RigStateError` where it has ended, or runs and may not be stopped."""
        if job.state == "running" and running != "refuse":
            self.stopping.cancel(job, running)
            return
        if job.state not in ("held", "ready", "backing-off"):
            more = "; say what becomes of a running one: running='ask', 'throw' or 'kill'" * (job.state == "running")
            raise RigStateError(
                f"{job.id} is {job.state}; only a held, ready or backing-off job can be withdrawn{more}"
            )
        self.close(job, "withdrawn", "withdrawn")

    def close(self, job: Job, state: Any, what: str, attempt: int = 0, detail: Any = None) -> None:
        """Give an open job its last state, with a line in the history."""
        job.state = state
        job.live = None
        self.open -= 1
        self.record(what, job, attempt, detail)
        if job.closed is not None:
            job.closed(job)

    def must_be_dead(self, job: Job) -> None:
        """Raise `RigStateError` unless the job is a dead letter of this engine."""
        if not isinstance(job, Job) or job.engine is not self:
            raise RigStateError(f"{job!r} is no job of this rig")
        if job.state != "dead":
            raise RigStateError(f"{job.id} is {job.state}, not dead; only a dead letter can be put back or discarded")

    def requeue_now(self, job: Job) -> None:
        """Put a dead job back with a fresh set of attempts, due now."""
        self.must_be_dead(job)
        job.spent = 0
        job.first_ns = -1
        job.due_ns = self.now
        job.state = "ready"
        self.open += 1
        self.record("requeued", job, 0, self.now)
        self.schedule(self.now, job.priority, self._due_event, job)

    def discard(self, job: Job) -> None:
        """Give a dead job up for good: it becomes `dropped`."""
        self.must_be_dead(job)
        job.state = "dropped"
        self.record("discarded", job)

    def route(self, queue: str) -> Pool:
        """Return the workers that serve a queue; raise `PolicyError` where there are none."""
        pool = self._routes.get(queue) or self._route(queue)
        if pool is None:
            raise PolicyError(f"there is no such {self._unserved(queue)}")
        return pool

    def _route(self, queue: str) -> Pool | None:
        pool = self._routes.get(queue)
        if pool is None:
            for candidate in self.pools:
                if candidate.queue(queue) is not None and (pool is None or not candidate.everything):
                    pool = candidate
            if pool is not None:
                self._routes[queue] = pool
        return pool

    def _unserved(self, queue: str) -> str:
        served = (name for pool in self.pools for name in pool.queues)
        return f"queue {queue!r}, which no worker serves; {nearest(queue, served)}"

    def _refuse(self, type: JobType, args: tuple[Any, ...], queue: str) -> None:
        number = self._asked[type.name] = self._asked.get(type.name, 0) + 1
        error = self.faults.outage_of(queue, self.now)
        for fault in self.faults.enqueue if error is None else ():
            if (fault.job is None or fault.job == type.name) and fault.strikes(self.now, number, args):
                error = fault.make()
                break
        if error is not None:
            self.record("refused", detail=(type.name, error))
            raise error
