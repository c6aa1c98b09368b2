"""Intervals and single instants: `every`, `every_after` and `once`."""

from __future__ import annotations

import datetime as dt

from ..errors import PolicyError
from ..foundation.durations import Duration, spell, to_ns
from ..foundation.instants import Instant, Timeline
from .schedule import HORIZON_NS, Schedule


class Every(Schedule):
    """A fixed rate. It counts from the instant at which it is added to a rig; outside a rig from 1970-01-01T00:00Z."""

    def __init__(self, period: int, anchor: int = 0) -> None:
        self.period = period
        self.anchor = anchor

    def begun(self, ns: int) -> Schedule:
        return type(self)(self.period, ns) if self.anchor == 0 else self

    def next_ns(self, ns: int) -> int | None:
        found = self.anchor + ((ns - self.anchor) // self.period + 1) * self.period
        found = max(found, self.anchor + self.period) if self.anchor else found
        return found if found < HORIZON_NS else None

    def describe(self) -> str:
        return f"every {spell(self.period)}"


class EveryAfter(Every):
    """A fixed delay: in a rig each firing counts from the end of the run before."""

    from_end = True

    def next_ns(self, ns: int) -> int | None:
        found = ns + self.period
        return found if found < HORIZON_NS else None

    def describe(self) -> str:
        return f"{spell(self.period)} after the end of each run"


class Once(Schedule):
    """One instant."""

    def __init__(self, instant: Instant, zone: dt.tzinfo = dt.timezone.utc) -> None:
        self._instant = instant
        self._ns = Timeline(zone).ns(instant)

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        return Once(self._instant, zone)

    def next_ns(self, ns: int) -> int | None:
        return self._ns if self._ns > ns else None

    def describe(self) -> str:
        return f"once, at {self._instant if isinstance(self._instant, str) else self._instant.isoformat()}"


def every(period: Duration) -> Every:
    """Return a fixed rate: the same time between any two firings.

    Parameters: `period` is a duration. Raises `DurationError` or `PolicyError`.

    Example::

        rig.schedule("poll", till.call(), ic.every("10m"))
    """
    return Every(_positive(period))


def every_after(period: Duration) -> EveryAfter:
    """Return a fixed delay: each firing counts from the end of the last run.

    Parameters: `period` is a duration. Raises `DurationError` or `PolicyError`.

    Example::

        rig.schedule("poll", till.call(), ic.every_after("10m"))
    """
    return EveryAfter(_positive(period))


def once(instant: Instant) -> Once:
    """Return a schedule with a single firing. Parameters: `instant` is when. Raises `InstantError`.

    Example::

        rig.schedule("launch", till.call(), ic.once("2031-04-01T06:00"))
    """
    return Once(instant)


def _positive(period: Duration) -> int:
    ns = to_ns(period, what="period")
    if ns == 0:
        raise PolicyError(f"period is {period!r}; give a duration longer than 0")
    return ns
