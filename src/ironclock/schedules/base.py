"""What every schedule answers, and the instants that it gives."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any, overload

from ..core.durations import NS
from ..core.errors import InstantError
from ..core.timeline import Instant, Timeline, instant_ns

HORIZON_NS = 253_370_764_800 * NS
"""The year 9999: nothing is looked for beyond it."""


class Firings(Sequence[dt.datetime]):
    """Instants in order, as aware datetimes made when they are asked for. `ns` holds them as nanoseconds."""

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
    """A set of instants. Subclasses answer `next_ns`, and `span_ns` where they know a faster way."""

    zone: dt.tzinfo | None = None
    """The zone it is read in; None takes the rig's, or the zone of the instant that is asked with."""

    from_end = False
    """Whether each firing counts from the end of the run before."""

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        """Return this schedule read in a zone, unless it has one of its own."""
        return self

    def begun(self, ns: int) -> Schedule:
        """Return this schedule as it is once added to a rig at `ns`: where it counts from there."""
        return self

    def next_ns(self, ns: int) -> int | None:
        """Return the first instant strictly after `ns`, both in nanoseconds since the epoch; None: never again."""
        raise NotImplementedError

    def span_ns(self, start: int, end: int) -> Any:
        """Return the instants in [start, end) in nanoseconds, in order."""
        found, at = [], self.next_ns(start - 1)
        while at is not None and at < end:
            found.append(at)
            at = self.next_ns(at)
        return found

    def describe(self) -> str:
        """Return the schedule in plain English."""
        raise NotImplementedError

    def after(self, instant: Instant) -> dt.datetime | None:
        """Return the first firing strictly after an instant (an aware datetime, or ISO 8601 text; without an
        offset in the schedule's zone, else UTC); None where it never fires again. Raises `InstantError`."""
        timeline, ns = self._read(instant)
        found = self._bound(timeline).next_ns(ns)
        return None if found is None else timeline.at(found)

    def between(self, start: Instant, end: Instant) -> Firings:
        """Return the firings from `start` (included) to `end` (not included). Raises `InstantError`."""
        timeline, first = self._read(start)
        last = timeline.ns(end, what="end")
        if last < first:
            raise InstantError(f"the end, {timeline.text(last)}, is before the start, {timeline.text(first)}")
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
