"""Recurrence rules of RFC 5545, through `python-dateutil` (needs the extra ``ironclock[rrule]``)."""

from __future__ import annotations

import datetime as dt
from typing import Any

from ..core.durations import NS
from ..core.errors import InputError
from ..core.timeline import instant_ns, to_zone
from .base import Schedule

_EPOCH = dt.datetime(1970, 1, 1)


class Rule(Schedule):
    """A rule in local time: a wall time that a clock change skips is shifted by the gap, a doubled one is the first."""

    def __init__(self, text: str, zone: dt.tzinfo | None, rule: Any) -> None:
        self.text, self.zone, self._rule = text, zone, rule

    def in_zone(self, zone: dt.tzinfo) -> Schedule:
        return self if self.zone is not None else Rule(self.text, zone, self._rule)

    def next_ns(self, ns: int) -> int | None:
        zone = self.zone or dt.timezone.utc
        # A wall time can lie up to a day's change before the instant it is shifted to.
        wall = (_EPOCH + dt.timedelta(microseconds=ns // 1_000)).replace(tzinfo=dt.timezone.utc).astimezone(zone)
        naive: dt.datetime | None = wall.replace(tzinfo=None) - dt.timedelta(days=1, hours=1)
        best: int | None = None
        while (naive := self._rule.after(naive)) is not None:
            found = instant_ns(naive.replace(tzinfo=zone))
            if found > ns and (best is None or found < best):
                best = found
            if best is not None and instant_ns(naive.replace(tzinfo=dt.timezone.utc)) > best + 2 * 86_400 * NS:
                break
            if found > ns + 2 * 86_400 * NS:
                break
        return best

    def describe(self) -> str:
        return f"by the rule {' '.join(self.text.split())}"


def rrule(text: str, zone: dt.tzinfo | str | None = None) -> Rule:
    """Return the schedule of an RFC 5545 recurrence rule (``"FREQ=WEEKLY;BYDAY=MO"``), with an optional DTSTART line.

    Without a DTSTART it starts at 1970-01-01T00:00 local time. Raises `InputError` for what does not parse.
    """
    from dateutil.rrule import rrulestr

    if not isinstance(text, str):
        raise InputError(f"a recurrence rule is text, not {text!r}")
    try:
        rule = rrulestr(text, dtstart=None if "DTSTART" in text.upper() else _EPOCH, cache=False)
        first = rule.after(dt.datetime(1, 1, 1)) if "COUNT" in text.upper() else None
    except Exception as error:  # dateutil raises many kinds
        raise InputError(f"{text!r} is no RFC 5545 recurrence rule: {error}") from None
    if first is not None and first.tzinfo is not None:
        raise InputError(f"{text!r}: give DTSTART as local time; the zone is zone=")
    return Rule(text, None if zone is None else to_zone(zone), rule)
