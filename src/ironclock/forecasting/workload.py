"""The workload of a forecast: streams of jobs with their arrivals, durations and retries, the queues' limits, the
worker pools, and the services that the jobs call."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, TypeAlias

from ..errors import InputError, PolicyError, nearest
from ..foundation.distributions import Spread
from ..scenario.called_services import Breaker
from ..simulation.retry import Retry

Then: TypeAlias = Literal["retry", "dead", "dropped"]
"""What follows a failure: the retry policy decides, or the job is a dead letter or dropped at once."""


@dataclass(frozen=True)
class Outage:
    """A span in which attempts that start fail, take longer or hang.

    Parameters: `since` and `until` are seconds from the begin of the forecast; `share` is the share of attempts that it
    hits; `takes` is how long a failing attempt takes, in seconds, if that is not the usual time, or by how much an
    attempt is slower; `attempts` are the numbers of the attempts that it hits, all if it is empty; `how` is what it
    does; `then` is what follows a failure.
    """

    since: float
    until: float
    share: float = 1.0
    takes: float | None = None
    attempts: Sequence[int] = ()
    how: Literal["fails", "slower", "hangs"] = "fails"
    then: Then = "retry"

    def __post_init__(self) -> None:
        if not self.until > self.since:
            raise InputError(
                f"an outage ends at {self.until:g} s, and begins at {self.since:g} s; give an end after the begin"
            )
        if not 0 <= self.share <= 1:
            raise InputError(f"the share of the outage is {self.share!r}; give a share from 0 to 1")


@dataclass(frozen=True)
class Firings:
    """The firings of one schedule.

    Parameters: `times` are seconds since the begin; `overlap` is what a firing does while the job of the one before is
    open; `jitter` is by how many seconds at most a firing is late by chance; `poll` is how often the scheduler looks.
    """

    times: Sequence[float]
    overlap: Literal["allow", "skip", "wait"] = "allow"
    jitter: float = 0.0
    poll: float = 0.0


@dataclass(frozen=True)
class Stream:
    """One kind of job: how many arrive, how long an attempt takes, how often it fails, and what follows.

    Parameters: `rate` is jobs a second, or a function of the seconds since the begin; `bursts` are pairs of seconds
    since the begin and a number of jobs that arrive then; `fails` is the share of attempts that fail at their end;
    `timeout` is in seconds; `priority`: the lowest number of a queue starts first; `expires` is how many seconds a job
    waits for its first attempt; `calls` is the name of the service that its attempts call; `after_failure`,
    `after_timeout` and `after_refusal` (the service or its breaker refuses the call) say what follows. Streams of the
    same name are one job type and share a retry budget.
    """

    name: str
    takes: Spread
    rate: float | Callable[[float], float] = 0.0
    bursts: Sequence[tuple[float, float]] = ()
    queue: str = "default"
    fails: float = 0.0
    retry: Retry = Retry()
    timeout: float | None = None
    outages: Sequence[Outage] = ()
    priority: int = 0
    expires: float | None = None
    firings: Sequence[Firings] = ()
    calls: str | None = None
    after_failure: Then = "retry"
    after_timeout: Then = "retry"
    after_refusal: Then = "retry"

    def __post_init__(self) -> None:
        if not 0 <= self.fails <= 1:
            raise InputError(f"fails of {self.name} is {self.fails!r}; give a share from 0 to 1")
        if not callable(self.rate) and not self.rate >= 0:
            raise InputError(f"the rate of {self.name} is {self.rate!r}; give jobs a second, at least 0")

    @property
    def plain(self) -> bool:
        """True if whole cohorts of its jobs can be worked out at once."""
        return (
            self.expires is None and not self.firings and self.calls is None
            and self.retry.budget is None and self.retry.within is None
            and self.after_failure == self.after_timeout == "retry"
            and all(o.how == "fails" and o.then == "retry" and not o.attempts for o in self.outages)
        )  # fmt: skip


@dataclass(frozen=True)
class WorkerPool:
    """Workers that share queues.

    Parameters: `queues` is a mapping (by weight), a list (in strict order) or None (all queues as one line). `away` are
    spans in seconds in which workers do not work, as a pair (none of them works) or with their number as third.
    """

    size: int
    queues: Mapping[str, int] | Sequence[str] | None = None
    away: Sequence[tuple[float, float] | tuple[float, float, int]] = ()

    def __post_init__(self) -> None:
        if isinstance(self.size, bool) or not isinstance(self.size, int) or self.size < 1:
            raise PolicyError(f"workers is {self.size!r}; give a whole number, at least 1")

    @property
    def absences(self) -> list[tuple[float, float, int]]:
        """When how many workers are away: since, until, number."""
        return [(span[0], span[1], span[2] if len(span) > 2 else self.size) for span in self.away]


@dataclass(frozen=True)
class QueueLimit:
    """The limits of a queue.

    Parameters: `running` is how many of its jobs run at once at most; `rate` is a pair: how many can start in any span
    of so many seconds; `closed` are spans in seconds in which none can start.
    """

    running: int | None = None
    rate: tuple[int, float] | None = None
    closed: Sequence[tuple[float, float]] = ()


@dataclass(frozen=True)
class CalledService:
    """What jobs call, with a capacity.

    Parameters: `capacity` is how many calls at once it serves at full speed. A call that begins while `n` calls run,
    itself included, takes ``n / capacity`` times as long if n is higher (`beyond` is ``"slower"``), or fails at once
    with the chance ``1 - capacity / n`` (``"fails"``). `breaker` is the breaker in front of it.
    """

    capacity: int
    beyond: Literal["slower", "fails"] = "slower"
    breaker: Breaker | None = None


@dataclass(frozen=True)
class Workload:
    """Everything that a forecast needs.

    Parameters: `limits` are the limits of queues by name, `services` what the jobs call, by name; `start_ns` is the
    begin, in nanoseconds since the epoch; `left_out` names what the scenario has and the forecast does not count.
    """

    streams: Sequence[Stream]
    pools: Sequence[WorkerPool] = field(default_factory=lambda: (WorkerPool(1),))
    start_ns: int = 0
    zone: str = "UTC"
    left_out: Sequence[str] = ()
    limits: Mapping[str, QueueLimit] = field(default_factory=dict)
    services: Mapping[str, CalledService] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for stream in self.streams:
            if stream.calls is not None and stream.calls not in self.services:
                raise InputError(
                    f"{stream.name} calls {stream.calls!r}, and the workload has no such service; "
                    f"{nearest(stream.calls, self.services)}"
                )

    def pool_of(self, stream: Stream) -> int:
        """Return the number of the pool that serves a stream. Raises `PolicyError` if none does."""
        return pool_of(self.pools, stream.queue, stream.name)

    @property
    def plain(self) -> bool:
        """True if whole cohorts of jobs can be worked out at once: nothing depends on the single job or worker."""
        lines: dict[tuple[int, str], int] = {}
        for stream in self.streams:
            number = self.pool_of(stream)
            line = "*" if self.pools[number].queues is None else stream.queue
            if lines.setdefault((number, line), stream.priority) != stream.priority:
                return False
        whole = all(count >= pool.size for pool in self.pools for _, _, count in pool.absences)
        return whole and not self.limits and all(stream.plain for stream in self.streams)

    @property
    def outages(self) -> list[tuple[float, float]]:
        """Every span in which something is down, in seconds since the begin, in order."""
        spans = [(o.since, o.until) for s in self.streams for o in s.outages]
        away = [(since, until) for pool in self.pools for since, until, _ in pool.absences]
        closed = [span for limit in self.limits.values() for span in limit.closed]
        return sorted({*spans, *away, *closed})

    def smaller(self, times: float) -> tuple[Workload, tuple[str, ...]]:
        """Return a workload that is so many times smaller, with what it cannot show.

        Fewer workers serve fewer jobs in the same time. Backlogs and shares stay in proportion; the small waits that
        many workers would avoid do not.
        """

        def fewer(count: int) -> int:
            return max(1, round(count / times))

        def part(rate: float | Callable[[float], float]) -> float | Callable[[float], float]:
            return (lambda second: rate(second) / times) if callable(rate) else rate / times

        streams = [
            replace(s, rate=part(s.rate), bursts=[(at, count / times) for at, count in s.bursts]) for s in self.streams
        ]
        pools = [
            replace(
                pool, size=fewer(pool.size),
                away=[(since, until, min(fewer(pool.size), round(n / times))) for since, until, n in pool.absences],
            )
            for pool in self.pools
        ]  # fmt: skip
        limits = {
            name: replace(
                limit, running=None if limit.running is None else fewer(limit.running),
                rate=None if limit.rate is None else (fewer(limit.rate[0]), limit.rate[1]),
            )
            for name, limit in self.limits.items()
        }  # fmt: skip
        services = {name: replace(s, capacity=fewer(s.capacity)) for name, s in self.services.items()}
        words = (
            f"the jobs are too many to go through one by one: 1 of {times:,.1f} is, with 1 of {times:,.1f} workers; "
            "waits in hours without a backlog are too long, and the days differ more than they should; give fewer "
            "replications"
        )
        return replace(self, streams=streams, pools=pools, limits=limits, services=services), (words,)


def pool_of(pools: Sequence[WorkerPool], queue: str, whose: str) -> int:
    """Return the number of the pool that serves a queue. Raises `PolicyError` if none does."""
    for number, pool in enumerate(pools):
        if pool.queues is not None and queue in pool.queues:
            return number
    for number, pool in enumerate(pools):
        if pool.queues is None:
            return number
    raise PolicyError(f"no workers serve the queue {queue!r} of {whose}; add the queue to a pool")
