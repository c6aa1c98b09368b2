"""Queues and workers: which ready job a free worker takes next, and what limits the jobs of a queue."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Mapping
from heapq import heappop, heappush
from typing import Any, NamedTuple

from ..errors import PolicyError, RigStateError, nearest
from ..foundation.durations import Duration, spell, to_ns
from ..history.history import History
from .event_loop import EventLoop
from .faults import PlacedFaults
from .jobs import LiveAttempt, LiveJob


class Waiting(NamedTuple):
    """A ready job in its queue, in the order in which jobs leave it."""

    priority: int
    arrival: int
    job: LiveJob


class Queue:
    """The ready jobs of one name: the lowest priority number first, then in order of arrival."""

    __slots__ = ("_arrivals", "credit", "jobs", "name", "pool", "weight")

    def __init__(self, pool: Pool, name: str, weight: int) -> None:
        self.pool = pool
        self.name = name
        self.weight = weight
        self.credit = 0
        self.jobs: list[Waiting] = []
        self._arrivals = 0

    def push(self, job: LiveJob) -> None:
        self._arrivals += 1
        self.pool.waiting += 1
        heappush(self.jobs, Waiting(job.priority, self._arrivals, job))

    def head(self) -> LiveJob | None:
        """Return the next job that can start. Withdrawn jobs are removed."""
        jobs = self.jobs
        gate = self.pool.gate
        while jobs:
            waiting = jobs[0]
            job = waiting.job
            # A job that is not ready can still have a second delivery in its queue.
            if (job.state == "ready" or job.number in self.pool.second_deliveries) and (gate is None or gate(waiting)):
                return job
            heappop(jobs)
            self.pool.waiting -= 1
        return None

    def put_back(self, waiting: Waiting) -> None:
        """Put a job that could not start back into its old place."""
        self.pool.waiting += 1
        heappush(self.jobs, waiting)

    def pop(self) -> LiveJob:
        self.pool.waiting -= 1
        return heappop(self.jobs).job


class Pool:
    """Workers that share a set of queues, in strict order or by weight.

    Weights are kept exactly by smooth weighted round-robin: each time that a worker is free, every queue with work
    gains its weight as credit. The queue with the most credit is served, and pays back the sum of the weights.
    """

    __slots__ = (
        "_away", "_leaving", "free", "gate", "queues", "second_deliveries", "serves_all", "size", "skew_ns", "stopped",
        "waiting", "weighted",
    )  # fmt: skip

    def __init__(self, size: int, queues: Mapping[str, int] | Iterable[str] | None = None, skew_ns: int = 0) -> None:
        if isinstance(size, bool) or not isinstance(size, int) or size < 1:
            raise PolicyError(f"workers is {size!r}; give a whole number, at least 1")
        if isinstance(queues, str):
            raise PolicyError(f"queues is the text {queues!r}; give a list of names, or a mapping of name to weight")
        self.size = size
        self.skew_ns = skew_ns
        """How far the wall clock of these workers' hosts is ahead."""
        self.stopped = False
        self.gate: Callable[[Waiting], bool] | None = None
        """Answers if a waiting job can start. If it answers no, it keeps the job."""
        self.second_deliveries: Mapping[int, int] = {}
        """By job number, how many more deliveries of the same message wait."""
        self.waiting = 0
        """How many jobs are in the queues. Withdrawn jobs count until they are removed."""
        # A stack with the lowest number on top, so that every run chooses the same worker.
        self.free = [f"w{n}" for n in range(size, 0, -1)]
        self._away: list[str] = []
        self._leaving = 0  # how many more go away as soon as they have ended their job
        self.weighted = isinstance(queues, Mapping)
        self.serves_all = queues is None
        """True if the pool serves every queue, as one line of jobs."""
        self.queues: dict[str, Queue] = {}
        if isinstance(queues, Mapping):
            for name, weight in queues.items():
                if isinstance(weight, bool) or not isinstance(weight, int) or weight < 1:
                    raise PolicyError(f"the weight of queue {name!r} is {weight!r}; give a whole number, at least 1")
                self._add(name, weight)
        else:
            for name in queues or ():
                self._add(name)
        if self.serves_all:
            self._add("*")
        elif not self.queues:
            raise PolicyError("queues is empty; name at least one queue, or leave queues out to serve all of them")

    def _add(self, name: str, weight: int = 1) -> None:
        if not isinstance(name, str) or not name:
            raise PolicyError(f"the name of a queue is {name!r}; give text that is not empty")
        self.queues[name] = Queue(self, name, weight)

    def release(self, worker: str) -> None:
        """Let a worker that has ended its job take another one, unless it is to go away."""
        if self._leaving:
            self._leaving -= 1
            self._away.append(worker)
        else:
            self.free.append(worker)

    def send_away(self, count: int) -> None:
        """Let so many workers take no job any more; those that run one end it first."""
        now = min(count, len(self.free))
        self._away += self.free[:now]
        del self.free[:now]
        self._leaving += count - now

    def bring_back(self, count: int) -> None:
        """Let so many of the workers that were sent away take jobs again."""
        stay = min(count, self._leaving)
        self._leaving -= stay
        back = self._away[: count - stay]
        del self._away[: count - stay]
        self.free += back

    def queue(self, name: str) -> Queue | None:
        """Return the queue in which jobs of that name wait here. None if this pool does not serve it."""
        return self.queues["*"] if self.serves_all else self.queues.get(name)

    def push(self, job: LiveJob) -> None:
        """Put a ready job into its queue."""
        queue = self.queue(job.queue)
        assert queue is not None
        queue.push(job)

    def holds(self, job: LiveJob) -> bool:
        """Return True if a job is in its queue."""
        queue = self.queue(job.queue)
        return queue is not None and any(waiting.job is job for waiting in queue.jobs)

    def take(self) -> LiveJob | None:
        """Remove and return the job that a free worker gets next. None if there is none."""
        if not self.weighted:
            for queue in self.queues.values():
                if queue.head() is not None:
                    return queue.pop()
            return None
        waiting = [queue for queue in self.queues.values() if queue.head() is not None]
        if not waiting:
            return None
        best = waiting[0]
        total = 0
        for queue in waiting:
            queue.credit += queue.weight
            total += queue.weight
            if queue.credit > best.credit:
                best = queue
        best.credit -= total
        return best.pop()


class Pools:
    """The worker pools of a simulation, and which of them serves which queue."""

    def __init__(self) -> None:
        self.all: list[Pool] = []
        self.second_deliveries: dict[int, int] = {}
        """By job number, how many more deliveries of the same message wait."""
        self.found: dict[str, Pool] = {}
        """What `find` has found, by queue. The hot path looks here first."""

    def add(self, pool: Pool) -> None:
        """Add workers. Raises `RigStateError` if another pool serves one of their queues."""
        for other in self.all:
            shared = sorted(set(other.queues) & set(pool.queues))
            if shared:
                what = "every queue" if shared == ["*"] else f"queue {shared[0]!r}"
                raise RigStateError(f"{what} has workers already; give the new workers other queues")
        offset = sum(p.size for p in self.all)
        pool.free = [f"w{offset + n}" for n in range(pool.size, 0, -1)]
        pool.second_deliveries = self.second_deliveries
        self.all.append(pool)
        self.found.clear()

    def find(self, queue: str) -> Pool | None:
        """Return the pool that serves a queue. None if no pool does."""
        pool = self.found.get(queue)
        if pool is None:
            for candidate in self.all:
                if candidate.queue(queue) is not None and (pool is None or not candidate.serves_all):
                    pool = candidate
            if pool is not None:
                self.found[queue] = pool
        return pool

    def of(self, queue: str) -> Pool:
        """Return the pool that serves a queue. Raises `PolicyError` if no pool does."""
        pool = self.find(queue)
        if pool is None:
            raise PolicyError(f"no worker serves {self.unserved(queue)}")
        return pool

    def unserved(self, queue: str) -> str:
        """Return words about a queue that no worker serves, with the nearest name."""
        served = (name for pool in self.all for name in pool.queues)
        return f"the queue {queue!r}; {nearest(queue, served)}"


class QueueControl:
    """One queue of a rig: pause it, limit it, ask how long it is. `Rig.queue` gives it.

    Example::

        harbour = rig.queue("harbour")
        harbour.limit(running=2, rate=(10, "1m"))
        harbour.pause()
        rig.advance("1h")
        assert harbour.depth == 3
        harbour.resume()
    """

    def __init__(self, name: str, loop: EventLoop, history: History, pools: Pools, jobs: list[LiveJob]) -> None:
        self.name = name
        """The queue's name."""
        self._paused = False
        self._loop = loop
        self._history = history
        self._pools = pools
        self._jobs = jobs
        self._limit: int | None = None
        self._per_key: int | None = None
        self._rate: tuple[int, int] | None = None
        self._running = 0
        self._by_key: dict[Any, int] = {}
        self._starts: deque[int] = deque()
        self._kept_back: list[Waiting] = []
        self._release_ns = -1

    @property
    def depth(self) -> int:
        """How many jobs of the queue are ready and wait for a worker."""
        return sum(1 for job in self._jobs if job.queue == self.name and job.state == "ready")

    @property
    def running(self) -> int:
        """How many jobs of the queue are running."""
        return sum(1 for job in self._jobs if job.queue == self.name and job.state == "running")

    def limit(
        self, running: int | None = None, *, per_key: int | None = None, rate: tuple[int, Duration] | None = None
    ) -> None:
        """Limit the queue. The new limits replace all earlier ones.

        Parameters (each default None: no such limit):

        - `running`: how many of its jobs can run at once.
        - `per_key`: how many jobs with the same key can run at once (`key` in `Policy`).
        - `rate`: a pair such as ``(10, "1m")``: how many jobs can start in any span of that duration.

        Raises `PolicyError`, or `DurationError` for the span.

        Example::

            rig.queue("default").limit(running=2, rate=(100, "1m"))
        """
        for what, value in (("running", running), ("per_key", per_key)):
            if value is not None and (isinstance(value, bool) or not isinstance(value, int) or value < 1):
                raise PolicyError(f"{what} is {value!r}; give a whole number, at least 1")
        self._rate = None
        if rate is not None:
            if not isinstance(rate, (tuple, list)) or len(rate) != 2:
                raise PolicyError(f"rate is {rate!r}; give a pair such as (10, '1m')")
            count, span = rate
            if isinstance(count, bool) or not isinstance(count, int) or count < 1:
                raise PolicyError(f"rate allows {count!r} starts; give a whole number, at least 1")
            span_ns = to_ns(span, what="the span of rate")
            if span_ns == 0:
                raise PolicyError("the span of rate is 0; give a duration such as '1m'")
            self._rate = count, span_ns
        self._limit, self._per_key = running, per_key
        self._reopen()

    @property
    def paused(self) -> bool:
        """True while no job of the queue can start. `pause` and `resume` change it."""
        return self._paused

    def pause(self) -> None:
        """Let no job of the queue start until `resume`. Jobs that are running continue.

        Example::

            rig.queue("default").pause()
        """
        self._paused = True
        self._history.record("note", detail=f"queue {self.name!r} is paused")

    def resume(self) -> None:
        """Let jobs of the queue start again.

        Example::

            rig.queue("default").pause()
            rig.advance("1h")
            rig.queue("default").resume()
        """
        self._paused = False
        self._history.record("note", detail=f"queue {self.name!r} goes on")
        self._reopen()

    # --- what the simulation asks -------------------------------------------------------------------

    def reason_to_wait(self, job: LiveJob) -> str:
        """Return in words why a job of this queue cannot start now. Empty if it can."""
        if self._paused:
            return f"queue {self.name!r} is paused"
        if self._limit is not None and self._running >= self._limit:
            return f"{self._running} jobs of queue {self.name!r} are running, its limit"
        if self._per_key is not None and self._by_key.get(_hashable(job.key), 0) >= self._per_key:
            return f"{self._per_key} jobs with the key {job.key!r} are running, its limit"
        if self._rate is not None:
            count, span = self._rate
            while self._starts and self._starts[0] <= self._loop.now - span:
                self._starts.popleft()
            if len(self._starts) >= count:
                return f"{count} jobs have started in the last {spell(span)}, its rate"
        return ""

    def keep_back(self, waiting: Waiting) -> None:
        """Keep a job that cannot start until something changes."""
        self._kept_back.append(waiting)
        if self._rate is not None and len(self._starts) >= self._rate[0]:
            at = self._starts[0] + self._rate[1]
            if at != self._release_ns:
                self._release_ns = at
                self._loop.schedule_world_event(at, self._reopen, None)

    def count_start(self, job: LiveJob) -> None:
        """Count a job that starts."""
        self._running += 1
        if self._per_key is not None:
            key = _hashable(job.key)
            self._by_key[key] = self._by_key.get(key, 0) + 1
        if self._rate is not None:
            self._starts.append(self._loop.now)

    def count_end(self, job: LiveJob) -> None:
        """Count a job that runs no more."""
        self._running = max(0, self._running - 1)
        if self._per_key is not None:
            key = _hashable(job.key)
            self._by_key[key] = max(0, self._by_key.get(key, 0) - 1)
        self._reopen()

    def _reopen(self, _: object = None) -> None:
        kept, self._kept_back = self._kept_back, []
        for waiting in kept:
            queue = self._pools.of(self.name).queue(self.name)
            assert queue is not None
            queue.put_back(waiting)
        self._loop.work_to_dispatch = True

    def __repr__(self) -> str:
        return f"<queue {self.name}: {self.depth} ready, {self.running} running{', paused' * self.paused}>"


class QueueControls:
    """The controlled queues of a simulation by name. `gate` answers if a waiting job can start."""

    def __init__(
        self, loop: EventLoop, history: History, pools: Pools, faults: PlacedFaults, jobs: list[LiveJob],
        running: Callable[[], list[LiveAttempt]], changed: Callable[[], None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._pools = pools
        self._faults = faults
        self._jobs = jobs
        self._running = running
        self._changed = changed
        self.by_name: dict[str, QueueControl] = {}

    def of(self, name: str) -> QueueControl:
        """Return the control of a queue. Raises `PolicyError` if no worker serves it."""
        found = self.by_name.get(name)
        if found is None:
            self._loop.prepare()
            self._pools.of(name)
            found = self.by_name[name] = QueueControl(name, self._loop, self._history, self._pools, self._jobs)
            for attempt in self._running():
                if attempt.job.queue == name:
                    found.count_start(attempt.job)
                    attempt.track()
            self._changed()
        return found

    def reason_to_wait(self, job: LiveJob) -> str:
        """Return in words why a ready job cannot start. Empty if no limit is the reason."""
        control = self.by_name.get(job.queue)
        return "" if control is None else control.reason_to_wait(job)

    def gate(self, waiting: Waiting) -> bool:
        """Return True if a job can start now. If not, it is kept until that changes."""
        job = waiting.job
        outage_end = self._faults.outage_until(job.queue, self._loop.now)
        if outage_end is not None:
            self._loop.schedule_world_event(outage_end, self._put_back, waiting)
            return False
        control = self.by_name.get(job.queue)
        if control is None or not control.reason_to_wait(job):
            return True
        control.keep_back(waiting)
        return False

    def _put_back(self, waiting: Waiting) -> None:
        queue = self._pools.of(waiting.job.queue).queue(waiting.job.queue)
        assert queue is not None
        queue.put_back(waiting)
        self._loop.work_to_dispatch = True

    def count_start(self, job: LiveJob) -> None:
        """Count a job that starts, if its queue has limits."""
        control = self.by_name.get(job.queue)
        if control is not None:
            control.count_start(job)

    def count_end(self, job: LiveJob) -> None:
        """Count a job that runs no more, if its queue has limits."""
        control = self.by_name.get(job.queue)
        if control is not None:
            control.count_end(job)


def _hashable(key: Any) -> Any:
    try:
        hash(key)
    except TypeError:
        return repr(key)
    return key
