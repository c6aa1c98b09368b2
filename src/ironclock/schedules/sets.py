"""Schedules made of others: joined, with instants left out, within bounds, and late by jitter."""

from __future__ import annotations

import datetime as dt
import random
from typing import Any

from ..errors import InputError
from ..foundation.durations import spell
from ..foundation.instants import Timeline
from .schedule import Schedule

_LOOKS = 100_000
"""After how many firings in a row that are left out a schedule is over."""


class _Made(Schedule):
    """A schedule that is made of other schedules."""

    def __init__(self, *parts: Schedule) -> None:
        self.parts = parts
        self.from_end = any(part.from_end for part in parts)

    def _again(self, *parts: Schedule) -> Schedule:
        raise NotImplementedError

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        return self._again(*(part.in_zone(zone) for part in self.parts))

    def begun(self, ns: int) -> Schedule:
        return self._again(*(part.begun(ns) for part in self.parts))


class Join(_Made):
    """Every instant of either schedule. An instant of both fires once."""

    def _again(self, *parts: Schedule) -> Schedule:
        return Join(*parts)

    def next_ns(self, ns: int) -> int | None:
        return min((found for part in self.parts if (found := part.next_ns(ns)) is not None), default=None)

    def describe(self) -> str:
        return "; or ".join(part.describe() for part in self.parts)


class Without(_Made):
    """The instants of one schedule without those of another, or without certain local days."""

    def __init__(self, kept: Schedule, left_out: object, zone: dt.tzinfo | None = None) -> None:
        super().__init__(kept)
        self._left_out = left_out if isinstance(left_out, Schedule) else _days(left_out)
        self._zone = zone or kept.zone or dt.timezone.utc
        self._timeline = Timeline(self._zone)

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        out = self._left_out
        kept = self.parts[0]
        return Without(kept.in_zone(zone), out.in_zone(zone) if isinstance(out, Schedule) else out, kept.zone or zone)

    def _again(self, *parts: Schedule) -> Schedule:
        return Without(parts[0], self._left_out, self._zone)

    def next_ns(self, ns: int) -> int | None:
        at: int | None = ns
        for _ in range(_LOOKS):
            assert at is not None
            at = self.parts[0].next_ns(at)
            if at is None or not self._out(at):
                return at
        return None

    def _out(self, ns: int) -> bool:
        out = self._left_out
        if isinstance(out, Schedule):
            return out.next_ns(ns - 1) == ns
        return self._timeline.at(ns).date() in out

    def describe(self) -> str:
        out = self._left_out
        words = out.describe() if isinstance(out, Schedule) else ", ".join(d.isoformat() for d in sorted(out))
        return f"{self.parts[0].describe()}, except {words}"


def _days(given: Any) -> frozenset[dt.date]:
    try:
        days = frozenset(dt.date.fromisoformat(d) if isinstance(d, str) else d for d in given)
    except (TypeError, ValueError) as error:
        raise InputError(f"{given!r} cannot be left out; give a schedule, or dates ({error})") from None
    for day in days:
        if type(day) is not dt.date:
            raise InputError(f"the date is {day!r}; give datetime.date(2031, 7, 28) or '2031-07-28'")
    return days


class Within(_Made):
    """The instants of a schedule from `start` (included) to `end` (not included), in nanoseconds."""

    def __init__(self, inner: Schedule, start: int | None, end: int | None) -> None:
        super().__init__(inner)
        self._start, self._end = start, end

    def _again(self, *parts: Schedule) -> Schedule:
        return Within(parts[0], self._start, self._end)

    def next_ns(self, ns: int) -> int | None:
        found = self.parts[0].next_ns(ns if self._start is None else max(ns, self._start - 1))
        return found if found is None or self._end is None or found < self._end else None

    def describe(self) -> str:
        return self.parts[0].describe()


class Shifted(_Made):
    """The instants of a schedule, each later by a span in nanoseconds (earlier if it is negative)."""

    def __init__(self, inner: Schedule, by_ns: int) -> None:
        super().__init__(inner)
        self._by_ns = by_ns

    def _again(self, *parts: Schedule) -> Schedule:
        return Shifted(parts[0], self._by_ns)

    def next_ns(self, ns: int) -> int | None:
        found = self.parts[0].next_ns(ns - self._by_ns)
        return None if found is None else found + self._by_ns

    def describe(self) -> str:
        return f"{self.parts[0].describe()}, {spell(abs(self._by_ns))} {'later' if self._by_ns > 0 else 'earlier'}"


class Jitter:
    """Makes firings late by a random time up to a span. The same firing is always late by the same time."""

    def __init__(self, span: int, seed: object) -> None:
        self._span, self._seed = span, seed

    def late(self, ns: int) -> int:
        """Return how late the firing at `ns` is, in nanoseconds."""
        return int(random.Random(f"{self._seed}:{ns}").random() * self._span)
