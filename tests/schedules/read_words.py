"""Reads the words of a cron expression back, and knows nothing of expressions: only of English, clocks and calendars."""

from __future__ import annotations

import calendar
import datetime as dt
import re
from collections.abc import Callable

MONTHS = list(calendar.month_name)
DAYS = list(calendar.day_name)  # from Monday
COUNTS = {"first": 1, "second": 2, "third": 3, "fourth": 4, "fifth": 5}
SIZES = {"second": 60, "minute": 60, "hour": 24}
NUMBER = r"\d+(?: to \d+)?"
NUMBERS = rf"{NUMBER}(?:(?:, | and ){NUMBER})*"
Fits = Callable[[dt.date], bool]


def split(words: str) -> tuple[str, str]:
    """Return the part about the time of day, and that about the date (with its first word)."""
    found = re.search(r"(?:^| )(?=(?:on|in) )", words)
    return (words, "") if found is None else (words[: found.start()], words[found.end() :])


def times(words: str) -> set[tuple[int, int, int]]:
    """Return the times of day that words name, as hours, minutes and seconds."""
    words = words.removeprefix("every day ")
    if words.startswith("hourly from "):
        first, last = (_clock(one) for one in words.removeprefix("hourly from ").split(" to "))
        return {(hour, *first[1:]) for hour in range(first[0], last[0] + 1)}
    if re.match(r"at \d\d:", words):
        return {_clock(one) for one in re.split(", | and ", words.removeprefix("at "))}
    values: dict[str, set[int]] = {}
    for part in words.removeprefix("at ").removesuffix(" of the day").split(" of "):
        unit, found = _unit(part)
        assert unit not in values, words
        values[unit] = found
    seconds = values.get("second", {0})
    minutes = values.get("minute", set(range(60)))
    assert "second" in values or "minute" in values, words
    return {(h, m, s) for h in values.get("hour", set(range(24))) for m in minutes for s in seconds}


def _clock(text: str) -> tuple[int, int, int]:
    hour, minute, second = [*map(int, text.split(":")), 0][:3]
    return hour, minute, second


def _unit(part: str) -> tuple[str, set[int]]:
    found = re.fullmatch(r"every (second|minute|hour)", part)
    if found:
        return found[1], set(range(SIZES[found[1]]))
    found = re.fullmatch(rf"every (\d+)(?:st|nd|rd|th)? (second|minute|hour)s?(?: \(({NUMBERS})\))?", part)
    if found:
        stepped = set(range(0, SIZES[found[2]], int(found[1])))
        assert found[3] is None or numbers(found[3]) == stepped, part
        return found[2], stepped
    found = re.fullmatch(rf"(second|minute|hour)s? ({NUMBERS})", part)
    assert found, part
    return found[1], numbers(found[2])


def numbers(words: str) -> set[int]:
    """Return the numbers of a list such as ``1, 3 and 8 to 17``."""
    spans = (re.split(" to ", one) for one in re.split(", | and ", words))
    return {number for span in spans for number in range(int(span[0]), int(span[-1]) + 1)}


def dates(words: str) -> Fits:
    """Return a function that says if words about a date fit one."""
    if not words:
        return lambda _: True
    found = re.fullmatch(r"in (.+)", words)
    if found:
        return _months(found[1])
    found = re.fullmatch(r"on (.+?) of (.+?)(?: (if that is|or on any) (.+?)(?: in (.+))?)?", words)
    if found is None:
        found = re.fullmatch(r"on (.+?)(?: in (.+))?", words)
        assert found, words
        week, months = _weekdays(found[1]), _months(found[2])
        return lambda date: months(date) and week(date)
    by_day, months = _month_days(found[1]), _months(found[2])
    if found[3] is None:
        return lambda date: months(date) and by_day(date)
    week = _weekdays(found[4])
    if found[3] == "if that is":
        return lambda date: months(date) and by_day(date) and week(date)
    assert found[5] in (None, found[2]), words
    return lambda date: months(date) and (by_day(date) or week(date))


def _months(words: str | None) -> Fits:
    if words is None or words == "the month":
        return lambda _: True
    named = {MONTHS.index(one) for one in re.split(", | and ", words)}
    return lambda date: date.month in named


def _listed(words: str, patterns: dict[str, Callable[..., Fits]]) -> Fits:
    """Return what fits one of the parts of a list, each of which is one of some patterns."""
    found, at = [], 0
    while at < len(words):
        for pattern, made in patterns.items():
            part = re.compile(rf"{pattern}(?:, | and |$)").match(words, at)
            if part:
                found.append(made(*part.groups()))
                at = part.end()
                break
        else:
            raise AssertionError(words[at:])
    return lambda date: any(one(date) for one in found)


def _month_days(words: str) -> Fits:
    return _listed(words, {
        rf"every \d+(?:st|nd|rd|th) day \(({NUMBERS})\)": lambda listed: _is_day(numbers(listed)),
        rf"days? ({NUMBERS})": lambda listed: _is_day(numbers(listed)),
        "the last day": lambda: lambda date: date.day == _length(date),
        r"the (\d+)(?:st|nd|rd|th) day before the last day":
            lambda back: lambda date: date.day == _length(date) - int(back),
        "the last workday": lambda: lambda date: date == _last_workday(date),
        r"the workday nearest day (\d+)": lambda day: lambda date: date == _nearest_workday(date, int(day)),
    })  # fmt: skip


def _is_day(listed: set[int]) -> Fits:
    return lambda date: date.day in listed


def _weekdays(words: str) -> Fits:
    day = "|".join(DAYS)
    return _listed(words, {
        "Monday to Friday": lambda: lambda date: date.weekday() < 5,
        f"({day})": lambda name: lambda date: DAYS[date.weekday()] == name,
        f"the last ({day})": lambda name: lambda date: DAYS[date.weekday()] == name and date.day > _length(date) - 7,
        f"the ({'|'.join(COUNTS)}) ({day})":
            lambda count, name: lambda date: DAYS[date.weekday()] == name and (date.day + 6) // 7 == COUNTS[count],
    })  # fmt: skip


def _length(date: dt.date) -> int:
    return calendar.monthrange(date.year, date.month)[1]


def _last_workday(date: dt.date) -> dt.date:
    day = date.replace(day=_length(date))
    return day - dt.timedelta(max(0, day.weekday() - 4))


def _nearest_workday(date: dt.date, number: int) -> dt.date | None:
    """Return the workday nearest to a day of the month of a date, in that month. None if the month has no such day."""
    if number > _length(date):
        return None
    day = date.replace(day=number)
    near = day + dt.timedelta({5: -1, 6: 1}.get(day.weekday(), 0))
    if near.month == day.month:
        return near
    return day + dt.timedelta(2 if number == 1 else -2)
