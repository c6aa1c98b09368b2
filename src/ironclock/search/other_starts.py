"""Other starts: before a clock change, the end of a month, a leap day, the end of a year.

A story starts on the day itself, the day before, and before the last run of each schedule that comes less often: so a
weekly or monthly job has run once when the event comes.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from typing import Any

from ..errors import InputError, nearest
from ..foundation.instants import Timeline, to_zone
from ..schedules.schedule import Schedule

KINDS = ("clock change", "month end", "leap day", "year end")
"""The events to which a start can be moved."""

_BEFORE = (dt.timedelta(hours=3), dt.timedelta(hours=26))
"""How long before the event the story starts: the same night, and the day before."""

_DAILY_NS = 26 * 3600 * 10**9  # a day with a clock change, and more


def checked_kinds(kinds: Collection[str] | bool) -> tuple[str, ...]:
    """Return kinds of events. Raises `InputError` for an unknown one."""
    if kinds is False:
        return ()
    chosen = KINDS if kinds is True else (kinds,) if isinstance(kinds, str) else tuple(kinds)
    for kind in chosen:
        if kind not in KINDS:
            raise InputError(f"unknown start {kind!r}; {nearest(str(kind), KINDS)}")
    return chosen


def other_starts(
    kinds: Collection[str], world: dict[str, Any], schedules: Collection[Schedule] = ()
) -> tuple[str, ...]:
    """Return starts shortly before the next event of each kind, as ISO 8601 text with an offset.

    For events at the end of a day the time of day is that of the rig: what the story does at that time of day, it does
    on the critical date.

    Parameters: `world` has the arguments of the rig. `schedules` are those of the story.
    """
    zone = to_zone(world.get("zone", "UTC"))
    timeline = Timeline(zone)
    start = timeline.at(timeline.ns(world.get("start", "2031-03-03T09:00")))
    found: list[dt.datetime] = []
    for kind in kinds:
        for event in _changes(zone, start) if kind == "clock change" else [_day_of(kind, start.date())]:
            if isinstance(event, dt.datetime):
                found += [event - before for before in _BEFORE]
                found.append(_same_time(event - dt.timedelta(days=1), start, zone))
                at = event
            else:
                found += [_same_time(event - dt.timedelta(days=before), start, zone) for before in (1, 0)]
                found.append(_at(dt.datetime.combine(event, dt.time(22)), zone))
                at = _at(dt.datetime.combine(event + dt.timedelta(days=kind != "leap day"), dt.time()), zone)
            for schedule in schedules:
                last = _last_run(schedule, timeline, start, at)
                if last is not None:
                    found.append(_same_time(last - dt.timedelta(days=1), start, zone))
    return tuple(dict.fromkeys(moment.astimezone(zone).isoformat() for moment in found if moment != start))


def _last_run(
    schedule: Schedule, timeline: Timeline, start: dt.datetime, event: dt.datetime
) -> dt.datetime | None:  # fmt: skip
    """Return the last run of a schedule before an event. None if it runs every day, or never."""
    first = schedule.next_ns(timeline.ns(start))
    second = None if first is None else schedule.next_ns(first)
    if first is None or second is None or second - first <= _DAILY_NS:
        return None
    until = timeline.ns(event)
    runs = schedule.span_ns(until - 2 * (second - first) - 7 * _DAILY_NS, until)
    return timeline.at(int(runs[-1])) if len(runs) else None


def _day_of(kind: str, day: dt.date) -> dt.date:
    return {"month end": _month_end, "leap day": _leap_day, "year end": _year_end}[kind](day)


def _changes(zone: dt.tzinfo, start: dt.datetime) -> list[dt.datetime]:
    """Return the next clock change of each direction, to the minute, within two years."""
    found: dict[bool, dt.datetime] = {}
    moment = start.astimezone(dt.timezone.utc)
    for _ in range(2 * 366):
        later = moment + dt.timedelta(days=1)
        before, after = (at.astimezone(zone).utcoffset() or dt.timedelta() for at in (moment, later))
        if before != after and (after > before) not in found:
            low, high = moment, later
            while high - low > dt.timedelta(minutes=1):
                middle = low + (high - low) / 2
                if (middle.astimezone(zone).utcoffset() or dt.timedelta()) == before:
                    low = middle
                else:
                    high = middle
            found[after > before] = high.replace(second=0, microsecond=0)
        moment = later
    return list(found.values())


def _month_end(day: dt.date) -> dt.date:
    first = (day.replace(day=1) + dt.timedelta(days=32)).replace(day=1)
    return first - dt.timedelta(days=1)


def _leap_day(day: dt.date) -> dt.date:
    for year in range(day.year, day.year + 9):
        if (year % 4 == 0 and year % 100 != 0) or year % 400 == 0:
            found = dt.date(year, 2, 29)
            if found > day:
                return found
    raise AssertionError("there is a leap day in any nine years")


def _year_end(day: dt.date) -> dt.date:
    return dt.date(day.year, 12, 31)


def _same_time(day: dt.date, start: dt.datetime, zone: dt.tzinfo) -> dt.datetime:
    return _at(dt.datetime.combine(day, start.time().replace(tzinfo=None)), zone)


def _at(wall: dt.datetime, zone: dt.tzinfo) -> dt.datetime:
    """Return a wall time in a zone. If the zone skips it: what a clock that was not set would show."""
    return wall.replace(tzinfo=zone).astimezone(dt.timezone.utc).astimezone(zone)
