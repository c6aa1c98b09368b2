"""A recording: what a log tells, as runs need it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ..foundation.instants import Timeline
from ..history.history import History
from .logged_jobs import LoggedJob
from .logged_policy import logged_deliveries, logged_retry
from .outages import LoggedOutage, outages_of
from .parts import Measured, measured_types
from .waiting import LoggedPool, pools_of


@dataclass(frozen=True, kw_only=True)
class LoggedType:
    """What a log shows of one job type."""

    table: Mapping[str, Any]
    """Its queue, its retries, and how its messages are delivered, as a scenario has them."""
    measured: Measured
    """How long its attempts took, and how often they failed, outside outages."""


@dataclass(frozen=True, kw_only=True)
class Recording:
    """What a log tells, as runs need it. Instants are nanoseconds since the epoch."""

    timeline: Timeline
    """The zone of the log."""
    jobs: Sequence[LoggedJob]
    """Its jobs, in the order in which they were enqueued."""
    outages: Sequence[LoggedOutage]
    """Its outages, in order."""
    end_ns: int
    """Its end."""
    knows_waits: bool
    """True if it says how long policies let jobs wait, as a saved history does."""
    is_sample: bool
    """True if it has only a share of the jobs. Then workers are not limited: every job starts when it did."""
    types: Mapping[str, LoggedType]
    """What it shows of each job type."""
    pools: Sequence[LoggedPool] = ()
    """Its workers."""
    held: frozenset[int] = frozenset()
    """The numbers of the jobs that nothing but the log explains: their attempts start when they did, if they can."""

    @classmethod
    def of(cls, history: History, jobs: Sequence[LoggedJob], knows_waits: bool, is_sample: bool) -> Recording:
        """Return the recording of jobs of a history."""
        outages = outages_of(jobs, history.end_ns)
        return cls(
            timeline=history.timeline, jobs=jobs, outages=outages, end_ns=history.end_ns, knows_waits=knows_waits,
            is_sample=is_sample, types=_types(jobs, outages, logged_deliveries(history) if knows_waits else {}),
        )  # fmt: skip

    @property
    def start_ns(self) -> int:
        """When its first job was enqueued."""
        return min(job.enqueued_ns for job in self.jobs)

    def holding(self, held: frozenset[int]) -> Recording:
        """Return it with its workers, and with the jobs of these numbers held until they started. (It changes what its
        jobs say of why they waited.)"""
        return replace(self, pools=pools_of(self.jobs, self.knows_waits, self.end_ns, held), held=held)


def _types(
    jobs: Sequence[LoggedJob], outages: Sequence[LoggedOutage], deliveries: Mapping[str, Mapping[str, Any]]
) -> dict[str, LoggedType]:
    by_type: dict[str, list[LoggedJob]] = {}
    for job in jobs:
        by_type.setdefault(job.name, []).append(job)
    measured = measured_types(jobs, outages)
    return {
        name: LoggedType(
            table={"queue": mine[0].queue, **deliveries.get(name, {}), "retry": logged_retry(mine)},
            measured=measured[name],
        )
        for name, mine in by_type.items()
    }


_NOT_REHEARSED = {
    "cancelled": "attempts that were cancelled",
    "lease-ended": "leases that ended while the attempt ran",
    "delivered-twice": "jobs that were delivered twice",
    "requeued": "dead letters that somebody put back",
    "expired": "jobs that expired",
    "lost": "jobs that were lost with their worker",
    "given-up": "jobs that were given up without an attempt",
    "overtaken": "attempts that were overtaken",
}


def not_rehearsed(history: History) -> list[str]:
    """Return in words what a log has, and is not rehearsed."""
    found = []
    for what, words in _NOT_REHEARSED.items():
        count = history.count_of(what)
        if count:
            found.append(f"{count:,} {words}")
    return found
