"""Instants: text and datetimes on the outside, integer nanoseconds since 1970-01-01T00:00Z inside."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from typing import TypeAlias
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from .durations import NS
from .errors import InstantError, ZoneError

Instant: TypeAlias = "dt.datetime | str"
"""What an instant may be given as: an aware datetime, or ISO 8601 text (without an offset: in the rig's zone)."""

_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.timezone.utc)
_DAY_S = 86_400
# The rig's own clock replaces methods of datetime while it is entered; these are taken before.
_astimezone = dt.datetime.astimezone


def to_zone(value: dt.tzinfo | str) -> dt.tzinfo:
    """Return a time zone from its tz database name, or the tzinfo itself.

    Raises `ZoneError` when the tz database has no such name.
    """
    if isinstance(value, dt.tzinfo):
        return value
    if isinstance(value, str):
        try:
            return ZoneInfo(value)
        except (ZoneInfoNotFoundError, ValueError, OSError):
            pass
    raise ZoneError(f"zone {value!r} is not in the tz database; give a name such as 'Atlantic/Faroe' or 'UTC'")


def instant_ns(moment: dt.datetime) -> int:
    """Return an aware datetime as nanoseconds since the epoch, exactly."""
    past = moment - _EPOCH
    return ((past.days * _DAY_S + past.seconds) * 1_000_000 + past.microseconds) * 1_000


@lru_cache(maxsize=256)
def _text_ns(text: str, zone: dt.tzinfo, what: str) -> int:
    try:
        moment = dt.datetime.fromisoformat(text.strip())
    except ValueError:
        raise InstantError(
            f"{what} {text!r} is not ISO 8601; write '2031-03-29T21:00' or '2031-03-29T21:00+00:00'"
        ) from None
    if moment.tzinfo is None:
        wall, moment = moment, moment.replace(tzinfo=zone)
        back = _astimezone(_astimezone(moment, dt.timezone.utc), zone).replace(tzinfo=None)
        if back != wall:
            raise InstantError(f"{what} {text!r} does not exist in {zone}: the clock change skips it")
    return instant_ns(moment)


class Timeline:
    """Turns instants into nanoseconds and back, in one zone."""

    __slots__ = ("zone",)

    def __init__(self, zone: dt.tzinfo | str) -> None:
        self.zone = to_zone(zone)

    def ns(self, value: Instant, *, what: str = "instant") -> int:
        """Return an instant as nanoseconds since the epoch.

        Raises `InstantError` for text that is not ISO 8601, a naive datetime,
        or a wall time that the zone skips. A doubled wall time means the first.
        """
        if isinstance(value, str):
            return _text_ns(value, self.zone, what)
        if isinstance(value, dt.datetime):
            moment = value
            if moment.utcoffset() is None:
                raise InstantError(
                    f"{what} is the naive datetime {value.isoformat()}; give it a zone "
                    "(tzinfo=...), or write it as text, which is read in the rig's zone"
                )
        else:
            raise InstantError(f"{what} is {value!r} ({type(value).__name__}); give an aware datetime or ISO 8601 text")
        return instant_ns(moment)

    def at(self, ns: int) -> dt.datetime:
        """Return nanoseconds since the epoch as an aware datetime in the zone (microseconds kept)."""
        return _astimezone(_EPOCH + dt.timedelta(microseconds=ns // 1_000), self.zone)

    def text(self, ns: int) -> str:
        """Return an instant as ISO 8601 with offset, fractions only where there are any."""
        words = self.at(ns).isoformat(timespec="seconds")
        rest = ns % NS
        if rest:
            head, tail = words[:19], words[19:]
            words = head + "." + f"{rest:09d}".rstrip("0") + tail
        return words
