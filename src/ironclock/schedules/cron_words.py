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
    time = _fixed(second, minute, hour) if not running else ""
    date = _date(day, month, weekday)
    if not time:
        time = _counted_time(second, minute, hour)
    if time.startswith(("at ", "hourly ")) and not date and not hour.star:
        return f"every day {time}"
    return f"{time} {date}".strip()


def _fixed(second: Field, minute: Field, hour: Field) -> str:
    """Return a few times of day, or full hours one after the other. Empty if there are others."""
    if len(second.values) > 1:
        return ""
    (s,) = second.values
    tail = f":{s:02d}" if s else ""
    hours = sorted(hour.values)
    if len(minute.values) == 1 and len(hours) > 2 and hours == list(range(hours[0], hours[-1] + 1)):
        (m,) = minute.values
        return f"hourly from {hours[0]:02d}:{m:02d}{tail} to {hours[-1]:02d}:{m:02d}{tail}"
    if len(minute.values) * len(hours) > 6:
        return ""
    return "at " + _and(f"{h:02d}:{m:02d}{tail}" for h in hours for m in sorted(minute.values))


def _counted_time(second: Field, minute: Field, hour: Field) -> str:
    """Return what the seconds, minutes and hours count.

    A star follows the running clock at clock changes, and a list has fixed times. So the two never have the same words,
    unless a star somewhere else makes them the same.
    """
    parts = []
    every_minute = minute.star and len(minute.values) == 60
    if second.values != {0}:
        parts.append(_unit(second, "second", 60, listed=True))
        if not (every_minute and parts[0].startswith("every ")):
            parts.append("of every minute" if every_minute else _of(_unit(minute, "minute", 60, listed=hour.star)))
    else:
        parts.append("every minute" if every_minute else _unit(minute, "minute", 60, listed=hour.star))
    if not (hour.star and len(hour.values) == 24):
        parts.append(_of(_unit(hour, "hour", 24, listed=False, nth=True)))
    elif parts[-1].startswith(("at ", "of minute")):
        parts.append("of every hour")
    return " ".join(parts)


def _of(words: str) -> str:
    return f"of {words.removeprefix('at ')}"


def _unit(field: Field, unit: str, size: int, *, listed: bool, nth: bool = False) -> str:
    """Return the values of a field with their unit.

    Parameters: `listed`: True if a star that does not fit evenly is told as a list. `nth`: True counts instead of
    giving a period.
    """
    plain = f"at {unit}{'s' * (len(field.values) > 1)} {_runs(field.values)}"
    if not field.star:
        return plain
    if len(field.values) == size:
        return f"every {unit}"
    if nth and field.values == {0}:  # a step over the whole day
        return f"at {unit} 0 of the day"
    evenly = size % field.step == 0 and field.values == frozenset(range(0, size, field.step))
    if evenly:
        return f"every {_nth(field.step)} {unit}" if nth else f"every {field.step} {unit}s"
    if listed:
        return plain
    return f"at every {_nth(field.step)} {unit} ({_runs(field.values)})"


def _date(day: Field, month: Field, weekday: Field) -> str:
    by_day, by_week = _days(day), _weekdays(weekday)
    limited = len(month.values) < 12
    months = _and(MONTHS[m - 1] for m in sorted(month.values)) if limited else "the month"
    if by_day and by_week and (day.star or weekday.star):
        return f"on {by_day} of {months} if that is {by_week}"
    if by_day and by_week:
        return f"on {by_day} of {months} or on any {by_week}" + f" in {months}" * limited
    if by_day:
        return f"on {by_day} of {months}"
    if by_week:
        return f"on {by_week}" + f" in {months}" * limited
    return f"in {months}" if limited else ""


def _days(day: Field) -> str:
    if day.star and len(day.values) == 31:
        return ""
    parts = []
    if day.star and day.step > 1 and len(day.values) > 6:
        parts.append(f"every {_nth(day.step)} day ({_runs(day.values)})")
    elif day.values:
        parts.append(f"day{'s' * (len(day.values) > 1)} {_runs(day.values)}")
    parts += ["the last day" if not back else f"the {_nth(back)} day before the last day" for back in day.last]
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
