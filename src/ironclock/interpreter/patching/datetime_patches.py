"""Patches of `datetime`: what `datetime.now` and its like answer in threads that have entered a rig."""

from __future__ import annotations

import datetime as dt

from .builtin_patching import Here, private_descriptor
from .patches import Methods, Patch, References

_real_now = private_descriptor(dt.datetime, "now")
_real_utcnow = private_descriptor(dt.datetime, "utcnow")
_real_today = private_descriptor(dt.date, "today")
_real_fromtimestamp = private_descriptor(dt.datetime, "fromtimestamp")
_real_date_fromtimestamp = private_descriptor(dt.date, "fromtimestamp")
_real_timestamp = dt.datetime.timestamp
_real_astimezone = dt.datetime.astimezone


def datetime_patches(here: Here) -> list[Patch]:
    """Return the patches of `datetime.datetime` and `datetime.date`."""

    def now(cls: type[dt.datetime], tz: dt.tzinfo | None = None) -> dt.datetime:
        world = here()
        if world is None:
            return _real_now.__get__(None, cls)(tz)  # type: ignore[no-any-return]
        return world.clock.now(cls, tz)

    def utcnow(cls: type[dt.datetime]) -> dt.datetime:
        world = here()
        return _real_utcnow.__get__(None, cls)() if world is None else world.clock.utcnow(cls)

    def today(cls: type[dt.date]) -> dt.date:
        world = here()
        return _real_today.__get__(None, cls)() if world is None else world.clock.today(cls)

    def fromtimestamp(cls: type[dt.datetime], timestamp: float, tz: dt.tzinfo | None = None) -> dt.datetime:
        world = here()
        if world is None:
            return _real_fromtimestamp.__get__(None, cls)(timestamp, tz)  # type: ignore[no-any-return]
        return world.clock.fromtimestamp(cls, timestamp, tz)

    def date_fromtimestamp(cls: type[dt.date], timestamp: float, /) -> dt.date:
        world = here()
        if world is None:
            return _real_date_fromtimestamp.__get__(None, cls)(timestamp)  # type: ignore[no-any-return]
        return world.clock.date_fromtimestamp(cls, timestamp)

    def moment_timestamp(self: dt.datetime) -> float:
        world = here()
        return _real_timestamp(self) if world is None else world.clock.timestamp(self)

    def moment_astimezone(self: dt.datetime, tz: dt.tzinfo | None = None) -> dt.datetime:
        world = here()
        return _real_astimezone(self, tz) if world is None else world.clock.astimezone(self, tz)

    return [
        Methods(
            dt.datetime,
            {
                "now": lambda _: classmethod(now), "utcnow": lambda _: classmethod(utcnow),
                "fromtimestamp": lambda _: classmethod(fromtimestamp), "timestamp": lambda _: moment_timestamp,
                "astimezone": lambda _: moment_astimezone,
            },
        ),
        Methods(
            dt.date,
            {"today": lambda _: classmethod(today), "fromtimestamp": lambda _: classmethod(date_fromtimestamp)},
        ),
        References(dt.datetime, "now", now),
        References(dt.datetime, "utcnow", utcnow),
        References(dt.date, "today", today),
    ]  # fmt: skip
