"""Offsets of a zone over time: the periods between its clock changes, found with questions to the zone."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_right
from dataclasses import dataclass

_EPOCH = dt.datetime(1970, 1, 1)
_NONE = dt.timedelta()
_FIRST_YEAR, _LAST_YEAR = 1, 9998


@dataclass(frozen=True, slots=True)
class Period:
    """A period with one offset. Everything is in seconds; `before` is the offset of the period before it."""

    start: int
    end: int
    offset: int
    before: int


class Offsets:
    """The periods of one zone, found year by year. The end of a year always ends a period."""

    def __init__(self, zone: dt.tzinfo) -> None:
        self.zone = zone
        self._epoch = _EPOCH.replace(tzinfo=zone)
        self._years: dict[int, tuple[list[int], list[Period]]] = {}

    def at(self, utc: int) -> Period | None:
        """Return the period of an instant (seconds since the epoch). None beyond the calendar."""
        days = utc // 86_400
        if not -719_162 <= days < 2_932_531:
            return None
        year = (_EPOCH + dt.timedelta(days=days)).year
        if not _FIRST_YEAR < year < _LAST_YEAR:
            return None
        starts, periods = self._years.get(year) or self._look(year)
        return periods[bisect_right(starts, utc) - 1]

    def _look(self, year: int) -> tuple[list[int], list[Period]]:
        begin = (dt.datetime(year, 1, 1) - _EPOCH).days * 86_400
        end = (dt.datetime(year + 1, 1, 1) - _EPOCH).days * 86_400
        bounds = [(begin, self._offset(begin), self._offset(begin - 1))]
        known = bounds[0][1]
        for moment in range(begin, end, 21_600):
            later = min(moment + 21_600, end - 1)
            offset = self._offset(later)
            if offset != known:
                change = self._change(moment, later, known)
                bounds.append((change, offset, known))
                known = offset
        starts = [b[0] for b in bounds]
        ends = [*starts[1:], end]
        periods = [Period(s, e, o, b) for (s, o, b), e in zip(bounds, ends, strict=True)]
        self._years[year] = starts, periods
        return starts, periods

    def _change(self, low: int, high: int, offset: int) -> int:
        """Return the first second after `low` at which the offset is no longer `offset`."""
        while high - low > 1:
            middle = (low + high) // 2
            if self._offset(middle) == offset:
                low = middle
            else:
                high = middle
        return high

    def _offset(self, utc: int) -> int:
        # fromutc reads the wall time as UTC: that is what an instant is here.
        shift = self.zone.fromutc(self._epoch + dt.timedelta(seconds=utc)).utcoffset() or _NONE
        return shift.days * 86_400 + shift.seconds
