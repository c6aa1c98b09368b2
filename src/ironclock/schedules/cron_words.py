"""Cron expressions in plain English: the same words always mean the same instants."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from .cron_fields import Field

MONTHS = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
]
DAYS = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"]
_COUNTS = ("", "first", "second", "third", "fourth", "fifth")


def cron_words(fields: Sequence[Field], running: bool) -> str:
    """Return the fields of an expression in words. `running` is as in `Cron`."""
    second, minute, hour, day, month, weekday = fields
    time = _time(second, minute, hour, running)
    date = _date(day, month, weekday)
    if time.startswith("at ") and not date:
        return f"every day {time}"
    return f"{time} {date}".strip()


def _time(second: Field, minute: Field, hour: Field, running: bool) -> str:
    count = len(second.values) * len(minute.values) * len(hour.values)
    if not running and count <= 6 and len(second.values) == 1:
        (s,) = second.values
        tail = f":{s:02d}" if s else ""
        return "at " + _and(f"{h:02d}:{m:02d}{tail}" for h in sorted(hour.values) for m in sorted(minute.values))
    parts = []
    if second.values != {0}:
        parts.append(_counted(second, "second", 60))
    if second.values != {0} and minute.star and len(minute.values) == 60:
        if not second.star:
            parts.append("of every minute")
    else:
        parts.append(_counted(minute, "minute", 60))
    if not (hour.star and len(hour.values) == 24):
        if hour.star:
            parts.append(f"of every {_nth(hour.step)} hour")
        else:
            parts.append(f"of hour{'s' * (len(hour.values) > 1)} {_runs(hour.values)}")
    elif not minute.star:
        parts.append("of every hour")
    words = " ".join(parts)
    return words


def _counted(field: Field, unit: str, size: int) -> str:
    """Return a field of seconds or minutes in words. Only a star gives "every", so that clock changes stay clear."""
    if field.star and len(field.values) == size:
        return f"every {unit}"
    if field.star and field.values == frozenset(range(0, size, field.step)):
        return f"every {field.step} {unit}s"
    if field.star:
        return f"at every {unit} in {_runs(field.values)}"
    return f"at {unit}{'s' * (len(field.values) > 1)} {_runs(field.values)}"


def _date(day: Field, month: Field, weekday: Field) -> str:
    by_day, by_week = _days(day), _weekdays(weekday)
    if by_day and by_week:
        if day.star or weekday.star:
            words = f"on {by_day} if that is {by_week}"
        else:
            words = f"on {by_day} or on {by_week}"
    else:
        words = f"on {by_day or by_week}" if by_day or by_week else ""
    if len(month.values) < 12:
        words = f"{words} in {_and(MONTHS[m - 1] for m in sorted(month.values))}".strip()
    elif by_day and not by_week:
        words += " of the month"
    return words


def _days(day: Field) -> str:
    if day.star and len(day.values) == 31:
        return ""
    parts = []
    if day.values:
        parts.append(f"day{'s' * (len(day.values) > 1)} {_runs(day.values)}")
    parts += ["the last day" if not back else f"{back} day{'s' * (back > 1)} before the last" for back in day.last]
    if day.last_workday:
        parts.append("the last workday")
    parts += [f"the workday nearest day {d}" for d in sorted(day.nearest)]
    return _and(parts)


def _weekdays(weekday: Field) -> str:
    if weekday.star and len(weekday.values) == 7:
        return ""
    parts = []
    if weekday.values == {1, 2, 3, 4, 5}:
        parts.append("Monday to Friday")
    elif weekday.values:
        parts.append(_and(DAYS[d] for d in sorted(weekday.values, key=lambda d: (d - 1) % 7)))
    parts += [f"the {_COUNTS[n]} {DAYS[d]}" for d, n in sorted(weekday.nth, key=lambda x: (x[1], x[0]))]
    parts += [f"the last {DAYS[d]}" for d in sorted(weekday.last_of)]
    return _and(parts)


def _runs(values: Iterable[int]) -> str:
    """Return numbers in words, with runs of three or more joined: ``1, 3 and 8 to 17``."""
    left, parts = sorted(values), []
    while left:
        length = 1
        while length < len(left) and left[length] == left[0] + length:
            length += 1
        if length >= 3:
            parts.append(f"{left[0]} to {left[length - 1]}")
            left = left[length:]
        else:
            parts.append(str(left[0]))
            left = left[1:]
    return _and(parts)


def _and(parts: Iterable[str]) -> str:
    listed = list(parts)
    return listed[0] if len(listed) == 1 else ", ".join(listed[:-1]) + " and " + listed[-1] if listed else ""


def _nth(number: int) -> str:
    return f"{number}{'th' if 10 <= number % 100 <= 20 else {1: 'st', 2: 'nd', 3: 'rd'}.get(number % 10, 'th')}"
