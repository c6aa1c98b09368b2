"""Recurrence rules of RFC 5545, with `python-dateutil`. Needs the extra ``ironclock[rrule]``."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_right
from collections.abc import Iterator
from typing import Any

from ..errors import InputError
from ..foundation.instants import instant_ns, to_zone
from .schedule import Schedule

_EPOCH = dt.datetime(1970, 1, 1)
_AROUND = dt.timedelta(hours=25)
"""The longest jump of any clock (a skipped day), and a little more."""

_MOST = 100_000
_STEPS = {
    2: dt.timedelta(weeks=1), 3: dt.timedelta(days=1), 4: dt.timedelta(hours=1), 5: dt.timedelta(minutes=1),
    6: dt.timedelta(seconds=1),
}  # fmt: skip
"""The steps of fixed length, by the numbers that dateutil has for WEEKLY, DAILY, HOURLY, MINUTELY and SECONDLY."""
_KEPT = 1_000
"""How many of the last wall times a walk remembers."""


class _Walk:
    """A walk through the wall times of a rule, from one on."""

    def __init__(self, begin: dt.datetime, rule: Any) -> None:
        self._begin = begin  # everything after it is known, or still to come
        self._more: Iterator[dt.datetime] = rule.xafter(begin)
        self._found: list[dt.datetime] = []

    def knows(self, wall: dt.datetime) -> bool:
        """Return True if the walk can answer what comes after a wall time, without a long way."""
        return self._begin <= wall

    def after(self, wall: dt.datetime) -> Iterator[dt.datetime]:
        """Yield the wall times after one, in order."""
        if len(self._found) > 2 * _KEPT:
            self._begin = self._found[-_KEPT]
            del self._found[: len(self._found) - _KEPT + 1]
        at = bisect_right(self._found, wall)
        while True:
            while at < len(self._found):
                yield self._found[at]
                at += 1
            following = next(self._more, None)
            if following is None:
                return
            self._found.append(following)
            if following <= wall:
                at = len(self._found)


def near(rule: Any, wall: dt.datetime) -> Any:
    """Return a rule, or a set of rules, that begins shortly before a wall time: it is worked out step by step."""
    parts = vars(rule)
    if "_rrule" in parts:  # a set
        made = type(rule)()
        for one in parts["_rrule"]:
            made.rrule(near(one, wall))
        for one in parts["_exrule"]:
            made.exrule(near(one, wall))
        for one in parts["_rdate"]:
            made.rdate(one)
        for one in parts["_exdate"]:
            made.exdate(one)
        return made
    step, begin = _STEPS.get(parts["_freq"]), parts["_dtstart"]
    if step is None or parts["_count"] is not None or wall <= begin:
        return rule  # its steps are months or years, or count from its own start
    step *= parts["_interval"]
    return rule.replace(dtstart=begin + max(0, (wall - begin) // step - 1) * step)


class Rule(Schedule):
    """A rule in local time. A skipped wall time is shifted by the gap; of one that occurs twice the first counts."""

    def __init__(self, text: str, zone: dt.tzinfo | None, rule: Any) -> None:
        self.text, self.zone, self._rule = text, zone, rule
        self._walk: _Walk | None = None

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        return self if self.zone is not None else Rule(self.text, zone, self._rule)

    def next_ns(self, ns: int) -> int | None:
        zone = self.zone or dt.timezone.utc
        wall = (_EPOCH + dt.timedelta(microseconds=ns // 1_000)).replace(tzinfo=dt.timezone.utc).astimezone(zone)
        plain = wall.replace(tzinfo=None, fold=0)
        # Near a clock change a wall time can be shifted past a later one. Everywhere else they are in order.
        start = plain - _AROUND if self._changes(plain) else plain - dt.timedelta(microseconds=1)
        best: int | None = None
        last = plain
        for naive in self._after(start):
            found = instant_ns(naive.replace(tzinfo=zone))
            if found > ns and (best is None or found < best):
                best, last = found, naive
            if best is not None and (naive > last + _AROUND or not self._changes(last)):
                break
        return best

    def _changes(self, wall: dt.datetime) -> bool:
        """Return True if the clock changes near a wall time."""
        moments = (wall - _AROUND, wall, wall + _AROUND)
        return len({moment.replace(tzinfo=self.zone).utcoffset() for moment in moments}) > 1

    def _after(self, wall: dt.datetime) -> Iterator[dt.datetime]:
        """Yield the wall times of the rule after one, in order. Questions that go on in time share one walk."""
        walk = self._walk
        if walk is None or not walk.knows(wall):
            walk = self._walk = _Walk(wall, near(self._rule, wall))
        return walk.after(wall)

    def describe(self) -> str:
        return f"by the rule {' '.join(self.text.split())}"


def rrule(text: str, zone: dt.tzinfo | str | None = None) -> Rule:
    """Return the schedule of an RFC 5545 recurrence rule (``"FREQ=WEEKLY;BYDAY=MO"``), with an optional DTSTART line.

    Parameters: `text` is the rule; without a DTSTART it starts at 1970-01-01T00:00 local time. `zone` is its time zone,
    default None: the zone of the rig.

    A rule that never fires again is worked out to the year 9999; with a step of a second that takes seconds. Needs the
    extra ``ironclock[rrule]``. Raises `InputError`. Source: RFC 5545, 3.3.10.

    Example::

        tide_table = ic.rrule("FREQ=MONTHLY;BYDAY=1MO;BYHOUR=6")
        rig.schedule("tide-table", till.call(), tide_table)
    """
    from dateutil.rrule import rrulestr

    if not isinstance(text, str):
        raise InputError(f"the recurrence rule is {text!r}; give text")
    try:
        rule = rrulestr(text, dtstart=None if "DTSTART" in text.upper() else _EPOCH, cache=False)
        start = getattr(rule, "_dtstart", None)
    except Exception as error:  # dateutil raises errors of many kinds
        raise InputError(f"{text!r} is not a recurrence rule of RFC 5545: {error}") from None
    if (getattr(rule, "_count", None) or 0) > _MOST:
        raise InputError(f"{text!r} has a COUNT over {_MOST}; give an UNTIL instead")
    if start is not None and start.tzinfo is not None:
        raise InputError(f"{text!r} has a zone in DTSTART; give local time there, and the zone as zone=")
    return Rule(text, None if zone is None else to_zone(zone), rule)
