"""The workers that a log has seen: pools, and how many places they have."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Protocol

_FEW = 4
_FOREVER = 1 << 62


class SeenAttempt(Protocol):
    """What is asked of an attempt. Instants are nanoseconds since the epoch."""

    @property
    def started_ns(self) -> int: ...
    @property
    def ended_ns(self) -> int | None: ...
    @property
    def outcome(self) -> str: ...
    @property
    def error(self) -> str: ...
    @property
    def worker(self) -> str: ...


class SeenJob(Protocol):
    """What is asked of a job."""

    @property
    def queue(self) -> str: ...
    @property
    def attempts(self) -> Sequence[SeenAttempt]: ...


@dataclass(frozen=True)
class SeenPool:
    """Workers that have taken jobs of the same queues."""

    workers: frozenset[str]
    queues: tuple[str, ...]
    most: int
    """How many attempts ran at once at most."""
    busy_ns: int
    """How long all attempts took together."""

    @property
    def places(self) -> int:
        """How many attempts can run at once."""
        # Many names for few workers: each process had a new one.
        is_named = self.workers != {"?"} and len(self.workers) <= max(2 * self.most, _FEW)
        return max(len(self.workers) if is_named else 1, self.most)


def left_open(jobs: Iterable[SeenJob]) -> dict[int, int]:
    """Return, by the identity of an attempt without an end, when its worker took another one. Not in it: it never did,
    or the log does not name its workers."""
    by_worker: dict[str, list[SeenAttempt]] = {}
    for job in jobs:
        for attempt in job.attempts:
            by_worker.setdefault(attempt.worker, []).append(attempt)
    found = {}
    for worker, attempts in by_worker.items():
        if worker != "?" and any(attempt.ended_ns is None for attempt in attempts):
            attempts.sort(key=lambda attempt: attempt.started_ns)
            for attempt, following in pairwise(attempts):
                if attempt.ended_ns is None:
                    found[id(attempt)] = following.started_ns
    return found


def pools_in(jobs: Sequence[SeenJob]) -> list[SeenPool]:
    """Return the worker pools of a log, by their queues. A queue whose jobs never ran has one of its own."""
    gone = left_open(jobs)
    queues_of: dict[str, set[str]] = {}
    runs: dict[str, list[tuple[int, int]]] = {}
    busy: dict[str, int] = {}
    for job in jobs:
        mine = runs.setdefault(job.queue, [])
        for attempt in job.attempts:
            queues_of.setdefault(attempt.worker, set()).add(job.queue)
            ended = attempt.ended_ns
            mine.append((attempt.started_ns, gone.get(id(attempt), _FOREVER) if ended is None else ended))
            busy[job.queue] = busy.get(job.queue, 0) + (0 if ended is None else ended - attempt.started_ns)
    pools: list[tuple[set[str], set[str]]] = []
    for worker, queues in queues_of.items():
        alike = [pool for pool in pools if pool[1] & queues]
        pools = [pool for pool in pools if not pool[1] & queues]
        pools.append((set().union({worker}, *(p[0] for p in alike)), set().union(queues, *(p[1] for p in alike))))
    served: set[str] = set().union(*(queues for _, queues in pools))
    pools += [({"?"}, {queue}) for queue in runs if queue not in served]
    return [
        SeenPool(
            frozenset(workers),
            tuple(sorted(queues)),
            _at_once(run for queue in queues for run in runs[queue]),
            sum(busy.get(queue, 0) for queue in queues),
        )
        for workers, queues in sorted(pools, key=lambda pool: sorted(pool[1]))
    ]


def _at_once(runs: Iterable[tuple[int, int]]) -> int:
    """Return how many spans there are at once at most. One that ends where another begins is over before it."""
    steps = [step for since, until in runs for step in ((since, 1), (until, -1))]
    most = now = 0
    for _, step in sorted(steps):
        now += step
        most = max(most, now)
    return most
