"""The outage calendar of a forecast: in an outage jobs take another time. Running jobs continue as they began."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeAlias

from .service_time import Service

Outside: TypeAlias = "tuple[tuple[float, ...], tuple[float, ...]]"
"""An outage: the share of each stream that fails, and how long that takes."""


class OutageCalendar:
    """How the jobs of one queue are served over time: in an outage, and outside one."""

    def __init__(self, make: Callable[[Outside | None], Service]) -> None:
        self._make = make
        self._known: dict[Outside | None, Service] = {}
        self._drawn: dict[int, int] = {}
        self.now: Service = self._of(None)
        """The service of jobs that start now."""
        self.all: list[Service] = [self.now]
        """The services of jobs that run now."""
        self.stretch = self.drawn = 0
        """The first bin for which the generators draw at once, and for how many bins."""

    def _of(self, outage: Outside | None) -> Service:
        if outage not in self._known:
            self._known[outage] = self._make(outage)
        return self._known[outage]

    def turn(self, outage: Outside | None) -> None:
        """Begin a block."""
        self.now = self._of(outage)
        self.all = [each for each in self._known.values() if each is self.now or not each.idle()]
        for each in self.all:
            if self._drawn.get(id(each)) != self.stretch:
                self._drawn[id(each)] = self.stretch
                each.draw(self.drawn)

    @property
    def alone(self) -> bool:
        """True if only jobs of one kind of service run."""
        return len(self.all) == 1
