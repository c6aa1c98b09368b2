"""Why jobs of a log waited: because all workers were busy, or for a reason that the log does not tell.

The first follows from the work before, and is worked out again in a rehearsal. The second is taken over as it was.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from heapq import heappop, heappush

from ..foundation.durations import NS
from ..scenario.seen_workers import SeenPool, pools_in
from .logged_jobs import LoggedAttempt, LoggedJob

_FOREVER = 1 << 62
_LONG_AGO = -_FOREVER
_SOON_NS = NS
_LOW, _ALIKE, _SHARE, _FEW = 0.05, 1.01, 0.2, 3


@dataclass
class LoggedPool:
    """The workers of a log that take jobs of the same queues."""

    seen: SeenPool
    rests_ns: dict[tuple[int, int], int] = field(default_factory=dict)
    """By job and attempt, how long its worker took no other job although one waited. Not in it: not at all."""


def pools_of(
    jobs: Sequence[LoggedJob], knows_waits: bool, end_ns: int, pinned: Collection[int] = ()
) -> list[LoggedPool]:  # fmt: skip
    """Return the worker pools of a log, and note in each attempt when its job was ready, and how late it started.

    Parameters: `knows_waits`: the log says how long the policy lets a job wait after a failed attempt, as a saved
    history does. If not, that wait and the one for a worker are told apart. `end_ns` is the end of the log. `pinned`
    are the numbers of jobs that nothing but the log explains: they wait again as long as they did.
    """
    least = {} if knows_waits else _least_waits(jobs)
    pools = [LoggedPool(pool) for pool in pools_in(jobs)]
    by_queue = {queue: pool for pool in pools for queue in pool.seen.queues}
    runs: dict[int, list[tuple[LoggedJob, LoggedAttempt]]] = {id(pool): [] for pool in pools}
    for job in jobs:
        runs[id(by_queue[job.queue])] += [(job, attempt) for attempt in job.attempts]
    for pool in pools:
        last = _explain(pool, sorted(runs[id(pool)], key=_in_order), least, pinned)
        if knows_waits and any(job.state == "ready" and by_queue[job.queue] is pool for job in jobs):
            for number, attempt, since in last:  # jobs wait, and its worker has not come back before the end
                pool.rests_ns[number, attempt] = max(0, end_ns - since)
    return pools


def _least_waits(jobs: Sequence[LoggedJob]) -> dict[tuple[str, int], int]:
    """Return, by job type and number of the attempt, the wait after it, where that is always the same but for the time
    in which no worker was free. With jitter there is no such wait."""
    waits: dict[tuple[str, int], list[int]] = {}
    for job in jobs:
        for attempt in job.attempts:
            if attempt.has_failed and attempt.then >= 0:
                waits.setdefault((job.name, attempt.number), []).append(attempt.then)
    least = {}
    for key, found in waits.items():
        low = sorted(found)[int(_LOW * (len(found) - 1))]
        alike = sum(wait <= low * _ALIKE for wait in found)
        if alike >= max(_FEW, _SHARE * len(found)):
            least[key] = low
    return least


def _end_of(attempt: LoggedAttempt) -> int:
    """Return when its worker could take another one."""
    ended = attempt.gone_ns if attempt.ended_ns is None else attempt.ended_ns
    return _FOREVER if ended is None else ended


def _in_order(run: tuple[LoggedJob, LoggedAttempt]) -> tuple[int, int, int, int]:
    """Return the place of an attempt: by its start, and at one instant as in the log, or those first that are over at
    once."""
    job, attempt = run
    return attempt.started_ns, attempt.place, _end_of(attempt), job.number


def _explain(
    pool: LoggedPool, runs: Sequence[tuple[LoggedJob, LoggedAttempt]],
    least: dict[tuple[str, int], int], pinned: Collection[int],
) -> list[tuple[int, int, int]]:  # fmt: skip
    """Go through the attempts of a pool in order. Each takes the place that was free for the longest time. Return the
    job, attempt and end of those whose worker died and took nothing more."""
    free: list[tuple[int, int, int]] = [(_LONG_AGO, -1, n) for n in range(pool.seen.places)]
    busy: list[tuple[int, int, int]] = []
    crashed: set[tuple[int, int]] = set()
    for job, attempt in runs:
        started, number = attempt.started_ns, job.number
        while busy and busy[0][0] <= started:
            heappush(free, heappop(busy))
        if not free:  # attempts that overlap by less than the log can say
            heappush(free, heappop(busy))
        since, by_job, by_attempt = heappop(free)
        attempt.ready_ns = ready = _ready(job, attempt)
        before = job.attempts[attempt.number - 2] if attempt.number > 1 else None
        if before is not None and before.has_failed and number not in pinned:
            soonest = (before.ended_ns or 0) + least.get((job.name, before.number), _FOREVER)
            if soonest < since and started - since <= _SOON_NS and ready == started:
                attempt.ready_ns = ready = soonest  # it was due, and waited for this worker
        attempt.late_ns = 0
        # Whoever dies can be away for a while: a job waits for that if no other worker is free.
        waits_for_dead = (by_job, by_attempt) in crashed and not free and started > max(since, ready)
        if (ready < since or waits_for_dead) and number not in pinned:
            if since < started:
                pool.rests_ns[by_job, by_attempt] = started - since
        else:
            attempt.late_ns = max(0, started - ready)
        if attempt.outcome == "crashed":
            crashed.add((number, attempt.number))
        heappush(busy, (_end_of(attempt), number, attempt.number))
    return [(number, attempt, since) for since, number, attempt in (*free, *busy) if (number, attempt) in crashed]


def _ready(job: LoggedJob, attempt: LoggedAttempt) -> int:
    """Return when a job was ready for an attempt, as the log says."""
    if attempt.number == 1:
        return job.due_ns
    before = job.attempts[attempt.number - 2]
    if before.again_ns is not None:
        return before.again_ns
    ended = before.started_ns if before.ended_ns is None else before.ended_ns
    return min(attempt.started_ns, ended + max(0, before.then))
