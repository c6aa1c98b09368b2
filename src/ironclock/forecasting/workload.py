"""The workload of a forecast: streams of jobs with their arrivals, durations and retries, and the worker pools."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from ..errors import InputError, PolicyError
from ..foundation.distributions import Spread
from ..simulation.retry import Retry


@dataclass(frozen=True)
class Outage:
    """A span in which attempts that start fail.

    Parameters: `since` and `until` are seconds from the begin of the forecast; `share` is the share of attempts that
    fail; `takes` is how long a failing attempt takes, in seconds, if that is not the usual time.
    """

    since: float
    until: float
    share: float = 1.0
    takes: float | None = None

    def __post_init__(self) -> None:
        if not self.until > self.since:
            raise InputError(
                f"an outage ends at {self.until:g} s, and begins at {self.since:g} s; give an end after the begin"
            )
        if not 0 <= self.share <= 1:
            raise InputError(f"the share of the outage is {self.share!r}; give a share from 0 to 1")


@dataclass(frozen=True)
class Stream:
    """One kind of job: how many arrive, how long an attempt takes, how often it fails, and what follows.

    Parameters: `rate` is jobs a second, or a function of the seconds since the begin; `bursts` are pairs of seconds
    since the begin and a number of jobs that arrive then; `fails` is the share of attempts that fail at their end;
    `timeout` is in seconds.
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

    def __post_init__(self) -> None:
        if not 0 <= self.fails <= 1:
            raise InputError(f"fails of {self.name} is {self.fails!r}; give a share from 0 to 1")
        if not callable(self.rate) and not self.rate >= 0:
            raise InputError(f"the rate of {self.name} is {self.rate!r}; give jobs a second, at least 0")


@dataclass(frozen=True)
class WorkerPool:
    """Workers that share queues.

    Parameters: `queues` is a mapping (by weight), a list (in strict order) or None (all queues as one line). `away` are
    spans in seconds in which none of the workers works.
    """

    size: int
    queues: Mapping[str, int] | Sequence[str] | None = None
    away: Sequence[tuple[float, float]] = ()

    def __post_init__(self) -> None:
        if isinstance(self.size, bool) or not isinstance(self.size, int) or self.size < 1:
            raise PolicyError(f"workers is {self.size!r}; give a whole number, at least 1")


@dataclass(frozen=True)
class Workload:
    """Everything that a forecast needs.

    `start_ns` is the begin, in nanoseconds since the epoch. `left_out` names what the scenario has and the forecast
    does not count.
    """

    streams: Sequence[Stream]
    pools: Sequence[WorkerPool] = field(default_factory=lambda: (WorkerPool(1),))
    start_ns: int = 0
    zone: str = "UTC"
    left_out: Sequence[str] = ()

    def pool_of(self, stream: Stream) -> int:
        """Return the number of the pool that serves a stream. Raises `PolicyError` if none does."""
        for number, pool in enumerate(self.pools):
            if pool.queues is not None and stream.queue in pool.queues:
                return number
        for number, pool in enumerate(self.pools):
            if pool.queues is None:
                return number
        raise PolicyError(f"no workers serve the queue {stream.queue!r} of {stream.name}; add the queue to a pool")

    @property
    def outages(self) -> list[tuple[float, float]]:
        """Every span in which something is down, in seconds since the begin, in order."""
        spans = [(o.since, o.until) for s in self.streams for o in s.outages]
        return sorted({*spans, *(span for pool in self.pools for span in pool.away)})
