"""Queues and workers: which ready job a free worker takes next."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from heapq import heappop, heappush
from typing import TypeAlias

from .errors import PolicyError
from .jobs import Job

Waiting: TypeAlias = "tuple[int, int, Job]"
"""A ready job in its queue: its priority, its place in the order of arrival, and itself."""


class Queue:
    """Ready jobs of one name, the lowest priority number first, then in order of arrival."""

    __slots__ = ("_arrivals", "credit", "jobs", "name", "pool", "weight")

    def __init__(self, pool: Pool, name: str, weight: int) -> None:
        self.pool = pool
        self.name = name
        self.weight = weight
        self.credit = 0
        self.jobs: list[Waiting] = []
        self._arrivals = 0

    def push(self, job: Job) -> None:
        self._arrivals += 1
        self.pool.waiting += 1
        heappush(self.jobs, (job.priority, self._arrivals, job))

    def head(self) -> Job | None:
        """Return the next job that may start, forgetting those that were withdrawn meanwhile."""
        jobs = self.jobs
        gate = self.pool.gate
        while jobs:
            waiting = jobs[0]
            job = waiting[2]
            # A job that is not ready may still have the second of two deliveries before it.
            if (job.state == "ready" or job.number in self.pool.doubles) and (gate is None or gate(waiting)):
                return job
            heappop(jobs)
            self.pool.waiting -= 1
        return None

    def put_back(self, waiting: Waiting) -> None:
        """Let a job that was kept back wait again, in its old place."""
        self.pool.waiting += 1
        heappush(self.jobs, waiting)

    def pop(self) -> Job:
        self.pool.waiting -= 1
        return heappop(self.jobs)[2]


class Pool:
    """Workers that share a set of queues, in strict order or by weight.

    Weights are kept exactly by smooth weighted round-robin: each time a worker is free, every queue that has
    work gains its weight in credit, the one with the most credit is served and pays back the sum.
    """

    __slots__ = ("doubles", "everything", "free", "gate", "queues", "size", "skew_ns", "stopped", "waiting", "weighted")

    def __init__(self, size: int, queues: Mapping[str, int] | Iterable[str] | None = None, skew_ns: int = 0) -> None:
        if isinstance(size, bool) or not isinstance(size, int) or size < 1:
            raise PolicyError(f"workers is {size!r}; give a whole number of at least 1")
        if isinstance(queues, str):
            raise PolicyError(f"queues is the text {queues!r}; give a list of names, or a mapping of name to weight")
        self.size = size
        self.skew_ns = skew_ns
        """How far the wall clock of this pool's hosts is ahead."""
        self.stopped = False
        self.gate: Callable[[Waiting], bool] | None = None
        """What must agree before a waiting job starts; where it does not, it keeps the job."""
        self.doubles: Mapping[int, int] = {}
        self.waiting = 0
        """Jobs in the queues, those withdrawn since included."""
        # A stack with the lowest number on top: the same worker is chosen in every run.
        self.free = [f"w{n}" for n in range(size, 0, -1)]
        self.weighted = isinstance(queues, Mapping)
        self.everything = queues is None
        """Whether the pool serves whatever queue a job names, all as one line."""
        self.queues: dict[str, Queue] = {}
        if isinstance(queues, Mapping):
            for name, weight in queues.items():
                if isinstance(weight, bool) or not isinstance(weight, int) or weight < 1:
                    raise PolicyError(f"the weight of queue {name!r} is {weight!r}; give a whole number of at least 1")
                self.add(name, weight)
        else:
            for name in queues or ():
                self.add(name)
        if self.everything:
            self.add("*")
        elif not self.queues:
            raise PolicyError("queues is empty; name at least one, or leave it out to serve them all")

    def add(self, name: str, weight: int = 1) -> Queue:
        """Add a queue that the pool serves from now on."""
        if not isinstance(name, str) or not name:
            raise PolicyError(f"{name!r} is no name for a queue")
        queue = self.queues[name] = Queue(self, name, weight)
        return queue

    def queue(self, name: str) -> Queue | None:
        """Return the queue that jobs of that name wait in here, or None where this pool does not serve it."""
        return self.queues["*"] if self.everything else self.queues.get(name)

    def push(self, job: Job) -> None:
        """Let a ready job wait here."""
        queue = self.queue(job.queue)
        assert queue is not None
        queue.push(job)

    def take(self) -> Job | None:
        """Remove and return the job that a free worker gets next, or None."""
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
