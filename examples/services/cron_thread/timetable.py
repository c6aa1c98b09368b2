"""A thread that runs functions by cron lines of our own: minute and hour, in the zone of the harbour."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable
from zoneinfo import ZoneInfo

HARBOUR = ZoneInfo("Atlantic/Faroe")


class Timetable:
    """Functions with the minutes and hours at which they run."""

    def __init__(self) -> None:
        self._lines: list[tuple[set[int], set[int], Callable[[dt.datetime], None]]] = []

    def add(self, line: str, function: Callable[[dt.datetime], None]) -> None:
        """Add a line, such as ``"30 1"`` or ``"0,30 *"``."""
        minutes, hours = (
            set(range(most)) if part == "*" else {int(value) for value in part.split(",")}
            for part, most in zip(line.split(), (60, 24), strict=True)
        )
        self._lines.append((minutes, hours, function))

    def run(self) -> None:
        """Look at the beginning of every minute, for ever."""
        while True:
            time.sleep(60 - time.time() % 60)
            moment = dt.datetime.now(HARBOUR).replace(second=0, microsecond=0)
            for minutes, hours, function in self._lines:
                if moment.minute in minutes and moment.hour in hours:
                    function(moment)
