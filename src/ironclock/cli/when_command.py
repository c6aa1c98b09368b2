"""`ironclock when`: the next firings of a cron expression, with every clock change marked."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ..foundation.durations import NS, spell
from ..foundation.instants import Timeline
from ..schedules.cron import Cron
from ..schedules.zone_offsets import Offsets

if TYPE_CHECKING:
    from ..schedules.schedule import Schedule

_UTC = Timeline(dt.timezone.utc)


def changes(zone: dt.tzinfo, start: int, end: int) -> Iterator[tuple[int, int]]:
    """Yield the clock changes in (start, end]: when, and how far the clock jumps. Everything is in seconds."""
    offsets, at = Offsets(zone), start
    while (period := offsets.at(at)) is not None and period.end <= end:
        later = offsets.at(period.end)
        if later is not None and later.offset != period.offset:
            yield period.end, later.offset - period.offset
        at = period.end


def rows(schedule: Schedule, zone: dt.tzinfo, start_ns: int, count: int) -> Iterator[tuple[str, str, str]]:
    """Yield local time, UTC and a remark for each of the next firings, and for each clock change between them."""
    timeline = Timeline(zone)
    at, seen = start_ns - 1, start_ns // NS
    for _ in range(count):
        found = schedule.next_ns(at)
        if found is None:
            return
        for moment, jump in changes(zone, seen, found // NS):
            yield _local(timeline, moment * NS), _utc(moment * NS), _change(jump)
        seen = max(seen, found // NS)
        yield _local(timeline, found), _utc(found), _remark(schedule, timeline, found)
        at = found


def _local(timeline: Timeline, ns: int) -> str:
    return timeline.at(ns).strftime("%a %Y-%m-%d %H:%M:%S %z")


def _utc(ns: int) -> str:
    return _UTC.at(ns).strftime("%Y-%m-%d %H:%M:%SZ")


def _change(jump: int) -> str:
    way = "forward" if jump > 0 else "back"
    return f"~ the clock goes {way} by {spell(abs(jump) * NS)}"


def _remark(schedule: Schedule, timeline: Timeline, ns: int) -> str:
    if not isinstance(schedule, Cron):
        return ""
    moment = timeline.at(ns)
    local = round((moment.replace(tzinfo=None) - dt.datetime(1970, 1, 1)).total_seconds())
    if schedule.calendar.next(local) != local:
        return "shifted: the clock change skips its time"
    if moment.replace(fold=0).utcoffset() != moment.replace(fold=1).utcoffset():
        return "time that occurs twice, the second" if moment.fold else "time that occurs twice, the first"
    return ""
