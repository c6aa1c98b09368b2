"""The sun: firings at sunrise, sunset, noon, dawn or dusk of a place. Needs the extra ``ironclock[sun]``."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal, get_args

from ..errors import InputError
from ..foundation.durations import NS, Duration, spell, to_ns
from ..foundation.instants import instant_ns
from .schedule import HORIZON_NS, Schedule

Event = Literal["sunrise", "sunset", "noon", "dawn", "dusk"]
_DAY = 86_400 * NS
_YEARS = 2 * 366
"""How many days to look ahead: a polar night ends within one year."""


class Sun(Schedule):
    """One event of the sun each day, if it happens on that day, in whole seconds."""

    def __init__(self, event: Event, latitude: float, longitude: float, offset: int) -> None:
        self.event, self.latitude, self.longitude, self.offset = event, latitude, longitude, offset

    def on(self, date: dt.date) -> dt.datetime | None:
        """Return the instant of the event on a UTC date, without the offset. None if it does not happen."""
        from astral import Observer
        from astral import sun as astral_sun

        ask: Any = getattr(astral_sun, self.event)
        try:
            found: dt.datetime = ask(Observer(self.latitude, self.longitude), date=date, tzinfo=dt.timezone.utc)
        except ValueError:  # the sun does not reach that height on this day
            return None
        return found.replace(microsecond=0)

    def next_ns(self, ns: int) -> int | None:
        day = (ns - self.offset) // _DAY - 1
        for number in range(day, day + _YEARS):
            if not 0 <= number * _DAY < HORIZON_NS:
                continue
            found = self.on(dt.date(1970, 1, 1) + dt.timedelta(days=number))
            if found is not None and instant_ns(found) + self.offset > ns:
                return instant_ns(found) + self.offset
        return None

    def describe(self) -> str:
        when = f"at {self.event}"
        if self.offset:
            when = f"{spell(abs(self.offset))} {'after' if self.offset > 0 else 'before'} {self.event}"
        return f"every day {when} at {self.latitude:g}, {self.longitude:g}, if it happens"


def sun(event: Event, latitude: float, longitude: float, offset: Duration | str = 0) -> Sun:
    """Return a firing at each sunrise, sunset, noon, dawn or dusk of a place.

    Parameters:

    - `event`: ``"sunrise"``, ``"sunset"``, ``"noon"``, ``"dawn"`` or ``"dusk"``.
    - `latitude`, `longitude`: in degrees, north and east are positive.
    - `offset`: a duration after the event; text with a minus (``"-30m"``) is before it. Default 0.

    On polar days and nights an event that does not happen is left out. Needs the extra ``ironclock[sun]``. Raises
    `InputError` or `DurationError`. Source: the package `astral`, after the NOAA solar calculator.

    Example::

        lights = ic.sun("sunset", latitude=62.0, longitude=-6.8)
        rig.schedule("deck-lights", till.call(), lights)
    """
    if event not in get_args(Event):
        raise InputError(f"unknown event of the sun {event!r}; give one of {', '.join(get_args(Event))}")
    for name, value, limit in (("latitude", latitude, 90), ("longitude", longitude, 180)):
        if isinstance(value, bool) or not isinstance(value, (int, float)) or not -limit <= value <= limit:
            raise InputError(f"{name} is {value!r}; give degrees from -{limit} to {limit}")
    if isinstance(offset, str) and offset.startswith("-"):
        return Sun(event, latitude, longitude, -to_ns(offset[1:], what="offset"))
    return Sun(event, latitude, longitude, to_ns(offset, what="offset"))
