"""Warnings about cron lines that do not do what they seem to say."""

from __future__ import annotations

import datetime as dt
import re
from calendar import monthrange
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ..errors import IronClockError
from ..foundation.durations import NS
from ..foundation.instants import Timeline
from .cron import Cron, cron
from .cron_fields import NICKNAMES, Field
from .crontab import Line
from .zone_offsets import Offsets

CROWD = 5
"""From how many jobs at one instant on there is a warning."""

_FORMAT = re.compile(r"\+[\w:.-]*$")  # of `date`, say: date +%F
_SIZES = {1: ("minute", 60), 2: ("hour", 24)}


@dataclass(frozen=True)
class Finding:
    """One warning: where, what, and a better expression if there is one."""

    file: str
    line: int
    level: str
    text: str
    better: str = ""

    def __str__(self) -> str:
        better = f"; better: {self.better}" if self.better else ""
        return f"{self.file}:{self.line}: {self.level}: {self.text}{better}"


def lint(lines: Sequence[Line], zone: str, start_ns: int) -> list[Finding]:
    """Return the warnings for some lines. They are read in `zone` if they have no zone, from an instant on."""
    found: list[Finding] = []
    crowds: dict[int, list[Line]] = defaultdict(list)
    for line in lines:
        try:
            made = cron(line.expression, line.zone or zone)
        except IronClockError as error:
            text = str(error)
            level = "never fires" if "never fire" in text else "error"
            found.append(Finding(line.file, line.number, level, text))
            continue
        if not isinstance(made, Cron):
            continue
        said = (
            *_steps(made),
            *_minutes(made),
            *_days(made),
            *_short_months(made),
            *_percent(line),
            *_changes(made, start_ns),
        )
        found += [Finding(line.file, line.number, *words) for words in said]
        if not made.running:
            first = made.next_ns(start_ns - 1)
            if first is not None:
                for ns in made.span_ns(first, first + 86_400 * NS)[:24]:
                    crowds[int(ns)].append(line)
    for ns, crowd in sorted(crowds.items()):
        if len(crowd) >= CROWD:
            at = Timeline(crowd[0].zone or zone).text(ns)
            where = ", ".join(str(line.number) for line in crowd)
            last = crowd[-1]
            minute, rest = _split(last.expression)
            better = f"{(int(minute) + 7) % 60 if minute.isdigit() else 7} {rest}"
            found.append(
                Finding(last.file, last.number, "crowd", f"{len(crowd)} jobs start at {at} (lines {where})", better)
            )
            break
    return sorted(found, key=lambda w: (w.file, w.line))


def _split(expression: str) -> tuple[str, str]:
    minute, _, rest = NICKNAMES.get(expression, expression).partition(" ")
    return minute, rest


def _steps(made: Cron) -> Iterator[tuple[str, str, str]]:
    words = NICKNAMES.get(made.expression, made.expression).split()
    for index, (name, size) in _SIZES.items():
        field: Field = made.fields[index]
        if field.star and field.step > 1 and size % field.step:
            fits = min((d for d in range(2, size + 1) if size % d == 0), key=lambda d: (abs(d - field.step), d))
            words[index + len(words) - 6] = f"*/{fits}"
            rest = size - max(field.values)
            yield "step", f"*/{field.step} does not divide {size} {name}s: the last wait is {rest}", " ".join(words)


def _days(made: Cron) -> Iterator[tuple[str, str, str]]:
    day, weekday = made.fields[3], made.fields[5]
    if not day.star and not weekday.star:
        words = NICKNAMES.get(made.expression, made.expression).split()
        by_day, by_week = " ".join([*words[:-1], "*"]), " ".join([*words[:-3], "*", *words[-2:]])
        text = "day of the month and day of the week are both set: a day that matches either one counts"
        yield "days", text, f"two lines, {by_day} and {by_week}"

    if not day.plain_star and not weekday.plain_star and (day.star or weekday.star):
        starred, name = (day, "day of the month") if day.star else (weekday, "day of the week")
        text = (
            f"*/{starred.step} in the {name} begins with a star, so a day must match both fields; without a star one "
            "of the two would be enough"
        )
        yield "days", text, ""


def _minutes(made: Cron) -> Iterator[tuple[str, str, str]]:
    minute, hour = made.fields[1], made.fields[2]
    if minute.plain_star and len(hour.values) == 1 and not hour.star:
        words = NICKNAMES.get(made.expression, made.expression).split()
        words[-5] = "0"
        (only,) = hour.values
        yield "minutes", f"it fires 60 times, in each minute from {only:02d}:00 to {only:02d}:59", " ".join(words)


def _short_months(made: Cron) -> Iterator[tuple[str, str, str]]:
    day, month = made.fields[3], made.fields[4]
    if day.star or not day.values or min(day.values) < 29 or not made.fields[5].star:
        return
    first = min(day.values)
    with_it = [number for number in month.values if first <= monthrange(2032, number)[1]]  # a leap year
    if len(with_it) < len(month.values) or (first == 29 and 2 in month.values):
        leap = ", and in February in leap years alone" if first == 29 and 2 in month.values else ""
        yield "short months", f"day {first} is there in {len(with_it)} of {len(month.values)} months{leap}", ""


def _percent(line: Line) -> Iterator[tuple[str, str, str]]:
    """Warn about a format of `date` that is cut off: a percent sign ends the command, and what follows is its standard
    input (crontab(5))."""
    if line.given is not None and _FORMAT.search(line.command):
        better = f"{line.command}%{line.given}".replace("%", "\\%")
        yield "percent", "an unescaped % ends the command, and the rest becomes its standard input", better


def _changes(made: Cron, start_ns: int) -> Iterator[tuple[str, str, str]]:
    """Warn about fixed times that a clock change of the next year skips, or lets occur twice."""
    if made.running or made.zone is None:
        return
    offsets, at = Offsets(made.zone), start_ns // NS
    end, timeline = at + 366 * 86_400, Timeline(made.zone)
    while (period := offsets.at(at)) is not None and period.end < end:
        at = period.end
        later = offsets.at(at)
        if later is None or later.offset == period.offset:
            continue
        low, high = sorted((at + period.offset, at + later.offset))
        hit = made.calendar.next(low)
        if hit is not None and hit < high:
            date = timeline.at(at * NS).date().isoformat()
            wall = (dt.datetime(1970, 1, 1) + dt.timedelta(seconds=hit)).strftime("%H:%M")
            kind = "skips" if later.offset > period.offset else "doubles"
            yield "clock change", f"{wall} is a time that {made.zone} {kind} on {date}", _elsewhere(made, high)


def _elsewhere(made: Cron, high: int) -> str:
    """Return the same expression one hour after the change."""
    words = made.expression.split()
    if len(words) < 5:
        return ""
    words[-4] = str(high % 86_400 // 3600 + (1 if high % 3600 else 0))
    return " ".join(words)
