"""Recurrence rules of RFC 5545, with `python-dateutil`. Needs the extra ``ironclock[rrule]``."""

from __future__ import annotations

import datetime as dt
from typing import Any

from ..errors import InputError
from ..foundation.instants import instant_ns, to_zone
from .schedule import Schedule

_EPOCH = dt.datetime(1970, 1, 1)
_AROUND = dt.timedelta(hours=25)
"""The longest jump of any clock (a skipped day), and a little more."""

_MOST = 100_000
_STEPS = {4: dt.timedelta(hours=1), 5: dt.timedelta(minutes=1), 6: dt.timedelta(seconds=1)}
"""The steps of fixed length, by the numbers that dateutil has for HOURLY, MINUTELY and SECONDLY."""


class Rule(Schedule):
    """A rule in local time. A skipped wall time is shifted by the gap; of one that occurs twice the first counts."""

    def __init__(self, text: str, zone: dt.tzinfo | None, rule: Any) -> None:
        self.text, self.zone, self._rule = text, zone, rule

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
        for naive in self._near(start).xafter(start):
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

    def _near(self, wall: Any) -> Any:
        """Return the rule with a begin shortly before a wall time, because it is worked out step by step."""
        rule = self._rule
        parts = vars(rule)
        if "_freq" not in parts or parts["_count"] is not None:
            return rule  # a set of rules, or a rule whose steps count from its own start
        changes: dict[str, Any] = {}
        step, begin = _STEPS.get(parts["_freq"]), parts["_dtstart"]
        if step is not None and wall > begin:
            step *= parts["_interval"]
            changes["dtstart"] = begin + max(0, (wall - begin) // step - 1) * step
        return rule.replace(**changes) if changes else rule

    def describe(self) -> str:
        return f"by the rule {' '.join(self.text.split())}"


def rrule(text: str, zone: dt.tzinfo | str | None = None) -> Rule:
    """Return the schedule of an RFC 5545 recurrence rule (``"FREQ=WEEKLY;BYDAY=MO"``), with an optional DTSTART line.

    Parameters: `text` is the rule; without a DTSTART it starts at 1970-01-01T00:00 local time. `zone` is its time zone,
    default None: the zone of the rig.

    A rule that never fires again is worked out to the year 9999; with a step of a second that takes seconds. Needs the
    extra ``ironclock[rrule]``. Raises `InputError`. Source: RFC 5545, 3.3.10.
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
