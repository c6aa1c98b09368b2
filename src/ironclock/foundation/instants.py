"""Instants: text and datetimes for users; inside, whole nanoseconds since 1970-01-01T00:00Z."""

from __future__ import annotations

import datetime as dt
from functools import cache, lru_cache
from typing import TypeAlias

from ..errors import InstantError, ZoneError
from .durations import NS

Instant: TypeAlias = "dt.datetime | str"
"""How an instant can be given: an aware datetime, or ISO 8601 text. Text without an offset is in the rig's zone."""

EARLIEST_NS = -62_135_510_400 * NS
"""The second day of the year 1: no instant is before it. A day is left at each end for the zones."""
LATEST_NS = 253_402_214_400 * NS
"""The last day of the year 9999: every instant is before it. `datetime` ends there."""

_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.timezone.utc)
_DAY_S = 86_400
# While a rig is entered, methods of datetime are replaced. This is the real one.
_astimezone = dt.datetime.astimezone


def to_zone(value: dt.tzinfo | str) -> dt.tzinfo:
    """Return a time zone from its tz database name, or the tzinfo itself.

    Raises `ZoneError` if the tz database does not have that name.
    """
    if isinstance(value, dt.tzinfo):
        return value
    if isinstance(value, str):
        try:
            return _named_zone(value)
        except (LookupError, ValueError, OSError):
            pass
    raise ZoneError(f"zone {value!r} is not in the tz database; give a name such as 'Atlantic/Faroe' or 'UTC'")


@cache
def _named_zone(name: str) -> dt.tzinfo:
    from zoneinfo import ZoneInfo  # only here: to import it costs more than many a test needs

    return ZoneInfo(name)


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
            f"{what} {text!r} is not ISO 8601; give '2031-03-29T21:00' or '2031-03-29T21:00+00:00'"
        ) from None
    if moment.tzinfo is None:
        wall, moment = moment, moment.replace(tzinfo=zone)
        try:
            back = _astimezone(_astimezone(moment, dt.timezone.utc), zone).replace(tzinfo=None)
        except OverflowError:  # at the very ends of time
            back = wall
        if back != wall:
            raise InstantError(
                f"{what} {text!r} does not exist in {zone}, because the clock change skips it; give another time, or "
                "an offset"
            )
    return within_time(instant_ns(moment), f"{what} {text!r}")


class Timeline:
    """Turns instants into nanoseconds and back, in one zone."""

    __slots__ = ("zone",)

    def __init__(self, zone: dt.tzinfo | str) -> None:
        self.zone = to_zone(zone)

    def ns(self, value: Instant, *, what: str = "instant") -> int:
        """Return an instant as nanoseconds since the epoch.

        Raises `InstantError` for text that is not ISO 8601, for a naive datetime, and for a wall time that the zone
        skips. A wall time that occurs twice means the first.
        """
        if isinstance(value, str):
            return _text_ns(value, self.zone, what)
        if isinstance(value, dt.datetime):
            moment = value
            if moment.utcoffset() is None:
                raise InstantError(
                    f"{what} is the naive datetime {value.isoformat()}; give it a zone "
                    "(tzinfo=...), or give text, which is read in the rig's zone"
                )
        else:
            raise InstantError(f"{what} is {value!r} ({type(value).__name__}); give an aware datetime or ISO 8601 text")
        return within_time(instant_ns(moment), what)

    def at(self, ns: int) -> dt.datetime:
        """Return nanoseconds since the epoch as an aware datetime in the zone, in microseconds."""
        if not EARLIEST_NS <= ns < LATEST_NS:
            within_time(ns)
        return _astimezone(_EPOCH + dt.timedelta(microseconds=ns // 1_000), self.zone)

    def text(self, ns: int) -> str:
        """Return an instant as ISO 8601 with its offset. A fraction of a second is left out if it is 0."""
        ns = min(max(ns, EARLIEST_NS), LATEST_NS - NS)  # a job can be due after the end of time
        return instant_text(self.at(ns), ns % NS)


class InstantTexts:
    """The texts of many instants of one timeline. It does what `Timeline.text` does, faster."""

    __slots__ = ("_minutes", "_timeline")

    def __init__(self, timeline: Timeline) -> None:
        self._timeline = timeline
        self._minutes: dict[int, tuple[str, str]] = {}  # what stands before and after the seconds of a minute

    def text(self, ns: int) -> str:
        """Return an instant as ISO 8601, as `Timeline.text` does."""
        minute, rest = divmod(ns, _MINUTE_NS)
        around = self._minutes.get(minute)
        if around is None:
            first = self._timeline.text(minute * _MINUTE_NS)
            if len(first) != _MINUTE_LENGTH or first[17:19] != "00":
                return self._timeline.text(ns)  # the offset has seconds: the clock can change within the minute
            if len(self._minutes) > _MOST_MINUTES:
                self._minutes.clear()
            around = self._minutes[minute] = first[:17], first[19:]
        seconds, fraction = divmod(rest, NS)
        if fraction:
            return f"{around[0]}{seconds:02d}.{f'{fraction:09d}'.rstrip('0')}{around[1]}"
        return f"{around[0]}{seconds:02d}{around[1]}"


_MINUTE_NS = 60 * NS
_MINUTE_LENGTH = len("2031-03-29T21:00:00+00:00")
_MOST_MINUTES = 10_000


def within_time(ns: int, what: str = "instant") -> int:
    """Return an instant in nanoseconds. Raises `InstantError` if it is before the year 1 or at the end of 9999."""
    if not EARLIEST_NS <= ns < LATEST_NS:
        end = "at or after 9999-12-31" if ns > 0 else "before 0001-01-02"
        raise InstantError(f"{what} is {end}, where time ends for datetime; give one between the two")
    return ns


def instant_text(moment: dt.datetime, fraction_ns: int | None = None) -> str:
    """Return an aware datetime as ISO 8601 with its offset, in the form of `Timeline.text`.

    Parameters: `fraction_ns` are the nanoseconds of its second. Default: its microseconds.
    """
    words = moment.isoformat(timespec="seconds")
    rest = moment.microsecond * 1_000 if fraction_ns is None else fraction_ns
    if rest:
        words = words[:19] + "." + f"{rest:09d}".rstrip("0") + words[19:]
    return words
