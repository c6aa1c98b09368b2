"""What every schedule has, and the instants that it returns."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any, overload

from ..errors import InstantError
from ..foundation.durations import NS
from ..foundation.instants import Instant, Timeline, instant_ns

HORIZON_NS = 253_370_764_800 * NS
"""The year 9999: nothing is searched beyond it."""


class Firings(Sequence[dt.datetime]):
    """Instants in order, as aware datetimes that are made when somebody asks. `ns` has them as nanoseconds."""

    def __init__(self, ns: Any, timeline: Timeline) -> None:
        self.ns = ns
        self._timeline = timeline

    def __len__(self) -> int:
        return len(self.ns)

    @overload
    def __getitem__(self, index: int) -> dt.datetime: ...
    @overload
    def __getitem__(self, index: slice) -> Firings: ...
    def __getitem__(self, index: int | slice) -> dt.datetime | Firings:
        if isinstance(index, slice):
            return Firings(self.ns[index], self._timeline)
        return self._timeline.at(int(self.ns[index]))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and list(self) == list(other)

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        shown = ", ".join(self._timeline.text(int(ns)) for ns in self.ns[:5])
        return f"<{len(self)} firings: {shown}{', ...' if len(self) > 5 else ''}>"


class Schedule:
    """A set of instants. A subclass has `next_ns` and `describe`, and `span_ns` if it knows a faster way.

    ``a | b`` joins two schedules, ``a - b`` leaves the instants of one out (or dates).

    Example::

        rounds = ic.cron("0 8-18 * * 1-5") - ic.once("2031-07-28T12:00")
        print(rounds.describe(), rounds.after("2031-07-28T11:30"))
    """

    zone: dt.tzinfo | None = None
    """The zone in which it is read. None: the zone of the rig, or of the instant in the question."""

    from_end = False
    """True if each firing counts from the end of the run before."""

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        """Return this schedule in `zone`, or unchanged if it has a zone already."""
        return self

    def begun(self, ns: int) -> Schedule:
        """Return this schedule as it is when it is added to a rig at `ns`, if it counts from there."""
        return self

    def next_ns(self, ns: int) -> int | None:
        """Return the first instant after `ns`, both in nanoseconds since the epoch. None if there is none."""
        raise NotImplementedError

    def span_ns(self, start: int, end: int) -> Any:
        """Return the instants in [start, end) in nanoseconds, in order. Parameters: `start` is the first instant; `end`
        is the last instant, not included."""
        found, at = [], self.next_ns(start - 1)
        while at is not None and at < end:
            found.append(at)
            at = self.next_ns(at)
        return found

    def describe(self) -> str:
        """Return the schedule in plain English.

        The words of a cron expression say each of its firings: a test reads the words of 2,500 expressions back, with
        code that knows English, clocks and calendars and no expressions, and finds the same firings.
        """
        raise NotImplementedError

    def after(self, instant: Instant) -> dt.datetime | None:
        """Return the first firing after an instant. None if it never fires again.

        Parameters: `instant` is an aware datetime or ISO 8601 text. Text without an offset is in the zone of the
        schedule, or UTC if it has none. Raises `InstantError`.

        Example::

            rule = ic.cron("30 1 * * *", zone="Atlantic/Faroe")
            first = rule.after("2031-03-03T12:00+00:00")
        """
        timeline, ns = self._read(instant)
        found = self._bound(timeline).next_ns(ns)
        return None if found is None else timeline.at(found)

    def between(self, start: Instant, end: Instant) -> Firings:
        """Return the firings from `start` (included) to `end` (not included). Raises `InstantError`.

        Example::

            firings = ic.every("6h").between("2031-03-03T00:00+00:00", "2031-03-04T00:00+00:00")
            assert len(firings) == 4
        """
        timeline, first = self._read(start)
        last = timeline.ns(end, what="end")
        if last < first:
            raise InstantError(
                f"the end, {timeline.text(last)}, is before the start, {timeline.text(first)}; give the start first"
            )
        return Firings(self._bound(timeline).span_ns(first, last), timeline)

    def _bound(self, timeline: Timeline) -> Schedule:
        return self.in_zone(timeline.zone)

    def _read(self, instant: Instant) -> tuple[Timeline, int]:
        zone = self.zone
        if zone is None and isinstance(instant, dt.datetime) and instant.tzinfo is not None:
            zone = instant.tzinfo
        timeline = Timeline(zone or dt.timezone.utc)
        if isinstance(instant, dt.datetime) and instant.utcoffset() is not None:
            return timeline, instant_ns(instant)
        return timeline, timeline.ns(instant)

    def __or__(self, other: Schedule) -> Schedule:
        from .sets import Join

        return Join(self, other) if isinstance(other, Schedule) else NotImplemented

    def __sub__(self, other: object) -> Schedule:
        from .sets import Without

        return Without(self, other)

    def __repr__(self) -> str:
        return f"<schedule: {self.describe()}>"
