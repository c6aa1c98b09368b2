"""Cron: which seconds of the calendar an expression means, and what happens to them at clock changes.

Day of the month and day of the week: if neither field begins with a star, a day that matches one of them counts
(POSIX.1-2017, crontab). If one begins with a star (``*/2`` too), both must match.

Clock changes: an expression whose minute or hour begins with a star follows the running clock. A time that the change
skips does not fire, a time that occurs twice fires twice. An expression with fixed times fires once a day: a skipped
time is shifted by the length of the gap, and of a time that occurs twice the first counts. `gap` and `fold` change
that.
"""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left
from calendar import monthrange
from functools import lru_cache
from typing import Any, Literal

from ..errors import CronError, InputError
from ..foundation.durations import NS
from ..foundation.instants import to_zone
from .cron_fields import Field, read
from .schedule import HORIZON_NS, Schedule
from .zone_offsets import Offsets, Period

Gap = Literal["shift", "skip"]
Fold = Literal["first", "both"]

_EPOCH = dt.date(1970, 1, 1)
_DAY = 86_400
_ALL_DAYS = (1 << 31) - 1
_ARRAY_NS = 9_150_000_000 * NS
"""How far from 1970 instants fit into an array of 64-bit nanoseconds."""


class Calendar:
    """The days and times of day that an expression matches, without a zone: local seconds since 1970."""

    def __init__(self, fields: list[Field]) -> None:
        second, minute, hour, self.day, month, self.weekday = fields
        self.seconds, self.minutes, self.hours = (sorted(f.values) for f in (second, minute, hour))
        self.months = month.values
        self._either = not self.day.star and not self.weekday.star
        self._masks: dict[tuple[int, int], int] = {}
        """The matching days as bits, by the length of the month and the weekday of its first day (0 is Sunday)."""

    def days(self, length: int, first: int) -> int:
        """Return the matching days of a month with this length and first weekday as bits; bit 0 is the first day."""
        found = self._masks.get((length, first))
        if found is None:
            found = self._masks[length, first] = self._days(length, first)
        return found

    def _days(self, length: int, first: int) -> int:
        whole = (1 << length) - 1
        day, weekday = self.day, self.weekday
        by_day = sum(1 << (d - 1) for d in day.values)
        by_day |= sum(1 << (length - 1 - back) for back in day.last if back < length)
        for target in [length] * day.last_workday + [d for d in day.nearest if d <= length]:
            by_day |= 1 << (_nearest_workday(target, length, first) - 1)
        by_week = 0
        for d in range(1, length + 1):
            name = (first + d - 1) % 7
            if (
                name in weekday.values
                or (name, (d + 6) // 7) in weekday.nth
                or (name in weekday.last_of and d + 7 > length)
            ):
                by_week |= 1 << (d - 1)
        return (by_day | by_week if self._either else by_day & by_week) & whole

    def possible(self) -> bool:
        """Return True if any day can ever match. Every combination that is tried here occurs within 400 years."""
        for month in self.months:
            for length in (28, 29) if month == 2 else (monthrange(2001, month)[1],):
                if any(self.days(length, first) for first in range(7)):
                    return True
        return False

    def next(self, local: int) -> int | None:
        """Return the first matching local second at or after `local`."""
        day = local // _DAY
        date = _EPOCH + dt.timedelta(days=day)
        year, month, skip = date.year, date.month, date.day - 1
        while year < 9998:
            if month in self.months:
                weekday, length = _month(year, month)
                mask = self.days(length, weekday) >> skip << skip
                while mask:
                    low = mask & -mask
                    number = low.bit_length()
                    start = (dt.date(year, month, number) - _EPOCH).days * _DAY
                    found = self._time(local - start if start == day * _DAY else 0)
                    if found is not None:
                        return start + found
                    mask ^= low
            skip = 0
            month += 1
            if month == 13:
                year, month = year + 1, 1
        return None

    def _time(self, tod: int) -> int | None:
        """Return the first matching time of day at or after `tod`, in seconds."""
        hours, minutes, seconds = self.hours, self.minutes, self.seconds
        hour, rest = divmod(tod, 3600)
        minute, second = divmod(rest, 60)
        i = bisect_left(hours, hour)
        if i < len(hours) and hours[i] == hour:
            j = bisect_left(minutes, minute)
            if j < len(minutes) and minutes[j] == minute:
                k = bisect_left(seconds, second)
                if k < len(seconds):
                    return hour * 3600 + minute * 60 + seconds[k]
                j += 1
            if j < len(minutes):
                return hour * 3600 + minutes[j] * 60 + seconds[0]
            i += 1
        if i < len(hours):
            return hours[i] * 3600 + minutes[0] * 60 + seconds[0]
        return None

    def span(self, low: int, high: int, offset: int) -> Any:
        """Return the matching local seconds in [low, high) as a NumPy array of instants, in nanoseconds."""
        import numpy as np

        first, last = low // _DAY, (high - 1) // _DAY
        start, end = _EPOCH + dt.timedelta(days=first), _EPOCH + dt.timedelta(days=last)
        days: list[int] = []
        for year in range(start.year, end.year + 1):
            for month in self.months:
                weekday, length = _month(year, month)
                base = (dt.date(year, month, 1) - _EPOCH).days
                if base > last or base + length <= first:
                    continue
                mask = self.days(length, weekday)
                days.extend(base + d for d in range(length) if mask >> d & 1)
        times = (
            np.array(self.hours, np.int64)[:, None, None] * 3600
            + np.array(self.minutes, np.int64)[:, None] * 60
            + np.array(self.seconds, np.int64)
        ).ravel()
        # Offset and unit are applied to the two short arrays, so that the long product needs one pass.
        dates = (np.sort(np.array(days, np.int64)) * _DAY - offset) * NS
        whole = (dates[:, None] + times * NS).ravel()
        first, last = np.searchsorted(whole, ((low - offset) * NS, (high - offset) * NS))
        return whole[first:last]


@lru_cache(maxsize=4096)
def _month(year: int, month: int) -> tuple[int, int]:
    """Return the weekday of the first day of a month (0 is Sunday), and the length of the month."""
    monday_based, length = monthrange(year, month)
    return (monday_based + 1) % 7, length


def _nearest_workday(day: int, length: int, first: int) -> int:
    """Return the workday that is nearest to a day, in the same month."""
    name = (first + day - 1) % 7
    if name == 6:
        return day - 1 if day > 1 else day + 2
    if name == 0:
        return day + 1 if day < length else day - 2
    return day


class Cron(Schedule):
    """A cron expression in a zone. `cron` returns it."""

    def __init__(
        self, expression: str, zone: dt.tzinfo | None, gap: Gap | None, fold: Fold | None, fields: list[Field]
    ) -> None:
        self.expression = expression
        """The expression."""
        self.zone = zone
        self.fields = fields
        """Its fields: what each of them allows."""
        self.calendar = Calendar(fields)
        """The days on which it fires."""
        self.running = fields[1].star or fields[2].star
        """True if it follows the running clock at clock changes. False: it has fixed times."""
        self._asked = gap, fold
        self.gap: Gap = gap or ("skip" if self.running else "shift")
        """What happens to a fixed time that a clock change skips."""
        self.fold: Fold = fold or ("both" if self.running else "first")
        """What happens to a fixed time that comes twice."""
        self._offsets = Offsets(zone or dt.timezone.utc)

    def in_zone(self, zone: dt.tzinfo) -> Cron:
        if self.zone is not None:
            return self
        return Cron(self.expression, zone, *self._asked, self.fields)

    def next_ns(self, ns: int) -> int | None:
        utc = ns // NS + 1
        while utc * NS < HORIZON_NS:
            period = self._offsets.at(utc)
            if period is None:
                return None
            regular, shifted = self._in(period, utc), self._shifted(period, utc)
            found = min((f for f in (regular, shifted) if f is not None), default=None)
            if found is not None:
                return found * NS
            # Nothing matches before this local time, whatever the offset is: continue close to it.
            local = self.calendar.next(period.end + min(period.offset, self._next_offset(period)))
            if local is None:
                return None
            utc = max(period.end, local - 2 * _DAY)
        return None

    def _next_offset(self, period: Period) -> int:
        later = self._offsets.at(period.end)
        return period.offset if later is None else later.offset

    def _in(self, period: Period, utc: int) -> int | None:
        low = max(utc, period.start) + period.offset
        if self.fold == "first":
            low = max(low, period.start + period.before)  # the clock has shown earlier times already
        local = self.calendar.next(low)
        return local - period.offset if local is not None and local < period.end + period.offset else None

    def _shifted(self, period: Period, utc: int) -> int | None:
        if self.gap != "shift" or period.offset <= period.before:
            return None
        local = self.calendar.next(max(utc, period.start) + period.before)
        if local is None or local >= period.start + period.offset:
            return None
        return local - period.before

    def span_ns(self, start: int, end: int) -> Any:
        try:
            import numpy as np
        except ImportError:
            return super().span_ns(start, end)
        if start < -_ARRAY_NS or end > _ARRAY_NS:  # before 1680 or after 2259, an array cannot hold the nanoseconds
            first, last = max(start, -_ARRAY_NS), min(end, _ARRAY_NS)
            inside = self.span_ns(first, last) if first < last else ()
            before = super().span_ns(start, min(end, -_ARRAY_NS)) if start < -_ARRAY_NS else []
            after = super().span_ns(max(start, _ARRAY_NS), end) if end > _ARRAY_NS else []
            return [*before, *map(int, inside), *after]
        utc, stop = -(-start // NS), -(-end // NS)
        pieces = []
        while utc < stop:
            period = self._offsets.at(utc)
            if period is None:
                break
            high = min(stop, period.end)
            low = utc + period.offset
            if self.fold == "first":
                low = max(low, period.start + period.before)
            until = high + period.offset
            piece = self.calendar.span(low, until, period.offset) if low < until else None
            if self.gap == "shift" and period.offset > period.before:
                until = min(high + period.before, period.start + period.offset)
                if utc + period.before < until:
                    extra = self.calendar.span(utc + period.before, until, period.before)
                    piece = extra if piece is None else np.union1d(piece, extra)
            if piece is not None:
                pieces.append(piece)
            utc = period.end
        return np.concatenate(pieces) if pieces else np.array([], np.int64)

    def describe(self) -> str:
        from .cron_words import cron_words

        words = cron_words(self.fields, self.running)
        usual: tuple[Gap, Fold] = ("skip", "both") if self.running else ("shift", "first")
        if self.gap != usual[0]:
            words += ", skipped times shifted" if self.gap == "shift" else ", skipped times left out"
        if self.fold != usual[1]:
            words += (
                ", times that occur twice fire once" if self.fold == "first" else ", times that occur twice fire twice"
            )
        return words if self.zone is None else f"{words} ({self.zone})"


class Reboot(Schedule):
    """`@reboot`: once, when the rig starts. Outside a rig it never fires."""

    def __init__(self, start_ns: int | None = None) -> None:
        self.start_ns = start_ns

    def begun(self, ns: int) -> Schedule:
        return Reboot(ns)

    def next_ns(self, ns: int) -> int | None:
        return self.start_ns if self.start_ns is not None and ns < self.start_ns else None

    def describe(self) -> str:
        return "once, at the start"


def cron(
    expression: str, zone: dt.tzinfo | str | None = None, *, gap: Gap | None = None, fold: Fold | None = None
) -> Schedule:
    """Return the schedule of a cron expression: five fields, or six with seconds first, or a nickname.

    Parameters:

    - `expression`: the text, such as ``"30 1 * * *"``, ``"*/15 * * * * *"`` or ``"@daily"``.
    - `zone`: the time zone in which it is read. Default None: the zone of the rig.
    - `gap`: what happens to a time that a clock change skips: ``"shift"`` by the length of the gap, or ``"skip"``.
    - `fold`: which of a time that occurs twice fires: ``"first"`` or ``"both"``.

    The defaults of `gap` and `fold` depend on the expression: fixed times shift and fire first, the others skip and
    fire both.

    Raises `CronError` if the expression cannot be read or can never fire, `InputError`, and `ZoneError`. Source of the
    five fields: POSIX.1-2017, crontab.

    Example::

        rig.schedule("close-till", till.call(), ic.cron("30 1 * * *"))
    """
    if gap not in (None, "shift", "skip"):
        raise InputError(f"gap is {gap!r}; give 'shift' or 'skip'")
    if fold not in (None, "first", "both"):
        raise InputError(f"fold is {fold!r}; give 'first' or 'both'")
    if isinstance(expression, str) and expression.strip().lower() == "@reboot":
        return Reboot()
    fields = read(expression)
    made = Cron(expression.strip(), None if zone is None else to_zone(zone), gap, fold, fields)
    if not made.calendar.possible():
        raise CronError(f"{expression!r} can never fire: no month has such a day; change the day or the month")
    return made
