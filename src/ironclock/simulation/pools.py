"""Pools: the workers, the queues that they serve, and which ready job a free worker takes next."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from heapq import heappop, heappush
from typing import NamedTuple

from ..errors import PolicyError, RigStateError, nearest
from .jobs import LiveJob, Rests


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
        "_away", "free", "gate", "lets_go", "queues", "rests", "second_deliveries", "serves_all", "size", "skew_ns",
        "stopped", "waiting", "weighted",
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
        self.rests: Rests | None = None
        """Says how long a worker takes no other job after an attempt. None: it takes one at once."""
        self.second_deliveries: Mapping[int, int] = {}
        """By job number, how many more deliveries of the same message wait."""
        self.waiting = 0
        """How many jobs are in the queues. Withdrawn jobs count until they are removed."""
        # A stack with the lowest number on top, so that every run chooses the same worker.
        self.free = [f"w{n}" for n in range(size, 0, -1)]
        self._away: list[str] = []
        self.lets_go = 0
        """How many more workers go away as soon as they have ended their job."""
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
        if self.lets_go:
            self.lets_go -= 1
            self._away.append(worker)
        else:
            self.free.append(worker)

    def send_away(self, count: int) -> None:
        """Let so many workers take no job any more; those that run one end it first."""
        now = min(count, len(self.free))
        self._away += self.free[:now]
        del self.free[:now]
        self.lets_go += count - now

    def bring_back(self, count: int) -> None:
        """Let so many of the workers that were sent away take jobs again."""
        stay = min(count, self.lets_go)
        self.lets_go -= stay
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
