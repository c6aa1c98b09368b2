"""What a forecast is about: kinds of jobs with their arrivals, durations and retries, and the workers they share."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from ..core.errors import InputError, PolicyError
from ..core.retry import Retry
from ..core.spreads import Spread


@dataclass(frozen=True)
class Outage:
    """A span in which attempts that start fail.

    Parameters: `since` and `until` in seconds from the forecast's begin; `share` of the attempts that fail; `takes`
    how long an attempt that fails takes, in seconds, where that is not as usual.
    """

    since: float
    until: float
    share: float = 1.0
    takes: float | None = None

    def __post_init__(self) -> None:
        if not self.until > self.since:
            raise InputError(f"an outage ends at {self.until:g} s, which is not after its begin, {self.since:g} s")
        if not 0 <= self.share <= 1:
            raise InputError(f"the outage's share is {self.share!r}; give a share from 0 to 1")


@dataclass(frozen=True)
class Stream:
    """One kind of job: how many come, how long an attempt takes, how often it fails and what follows.

    Parameters: `rate` jobs a second, or a function of the seconds since the begin; `bursts` pairs of seconds since
    the begin and a number of jobs that come at that instant; `fails` the share of attempts that fail at their end;
    `timeout` in seconds.
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
            raise InputError(f"{self.name} fails with the share {self.fails!r}; give a share from 0 to 1")
        if not callable(self.rate) and not self.rate >= 0:
            raise InputError(f"the rate of {self.name} is {self.rate!r}; give jobs a second, not less than 0")


@dataclass(frozen=True)
class Crew:
    """Workers that share queues: by weight where `queues` is a mapping, in strict order where it is a list; all
    queues as one line where it is None. `away` are spans, in seconds, in which none of them works."""

    size: int
    queues: Mapping[str, int] | Sequence[str] | None = None
    away: Sequence[tuple[float, float]] = ()

    def __post_init__(self) -> None:
        if isinstance(self.size, bool) or not isinstance(self.size, int) or self.size < 1:
            raise PolicyError(f"workers is {self.size!r}; give a whole number of at least 1")


@dataclass(frozen=True)
class Plant:
    """Everything that a forecast is about. `start_ns` is the begin, in nanoseconds since the epoch; `left_out` names
    what is in a scenario and has no part in its forecast."""

    streams: Sequence[Stream]
    crews: Sequence[Crew] = field(default_factory=lambda: (Crew(1),))
    start_ns: int = 0
    zone: str = "UTC"
    left_out: Sequence[str] = ()

    def crew_of(self, stream: Stream) -> int:
        """Return which crew serves a stream; raise `PolicyError` where none does."""
        for number, crew in enumerate(self.crews):
            if crew.queues is not None and stream.queue in crew.queues:
                return number
        for number, crew in enumerate(self.crews):
            if crew.queues is None:
                return number
        raise PolicyError(f"queue {stream.queue!r} of {stream.name} has no workers")

    @property
    def outages(self) -> list[tuple[float, float]]:
        """Every span in which something is down, in seconds since the begin, in order."""
        spans = [(o.since, o.until) for s in self.streams for o in s.outages]
        return sorted({*spans, *(span for crew in self.crews for span in crew.away)})
