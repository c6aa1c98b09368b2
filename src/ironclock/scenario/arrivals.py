"""Arrivals: jobs that come at a rate, one after another, as a Poisson process."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

from ..errors import InputError
from ..foundation.durations import NS
from ..foundation.instants import Timeline
from .values import instant_of, rate_of

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
"""The weekdays, as `days` of arrivals names them."""


class Rate:
    """Jobs a second over time: always the same, or by time of day, and only within bounds if there are any.

    Parameters: `steps` are pairs: the second of the local day from which a rate holds, and the rate. `since` and
    `until` are the bounds, in nanoseconds since the epoch, or None. `days` are the weekdays on which it holds, from 0
    for Monday; None: all.
    """

    def __init__(
        self, timeline: Timeline, steps: list[tuple[int, float]], since: int | None, until: int | None,
        days: frozenset[int] | None = None,
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self._steps = steps
        self.since = since
        self.until = until
        self._days = days
        self.top = max(rate for _, rate in steps)
        """The highest rate."""

    @property
    def steady(self) -> bool:
        """True if it is always the same."""
        return len(self._steps) == 1 and self.since is None and self.until is None and self._days is None

    @classmethod
    def read(cls, table: dict[str, Any], timeline: Timeline, load: float = 1.0) -> Rate:
        """Return the rate of a table of arrivals. Raises `InputError`."""
        if ("rate" in table) == ("curve" in table):
            raise InputError("arrivals need a rate, or a curve of rates by time of day; give one of the two")
        if "rate" in table:
            steps = [(0, rate_of(table["rate"]) * load)]
        else:
            steps = [(_second(clock), rate_of(rate) * load) for clock, rate in table["curve"]]
            if steps != sorted(steps, key=lambda step: step[0]) or len({s for s, _ in steps}) < len(steps):
                raise InputError("the times of the curve are not in rising order; sort them")
            if steps[0][0] > 0:  # before the first time the last rate of the day before holds
                steps.insert(0, (0, steps[-1][1]))
        bounds = [timeline.ns(instant_of(table[key]), what=key) if key in table else None for key in ("from", "until")]
        days = frozenset(map(DAYS.index, table["days"])) if "days" in table else None
        return cls(timeline, steps, bounds[0], bounds[1], days)

    def at(self, ns: int) -> float:
        """Return the rate at an instant."""
        if (self.since is not None and ns < self.since) or (self.until is not None and ns >= self.until):
            return 0.0
        if len(self._steps) == 1 and self._days is None:
            return self._steps[0][1]
        local = self._timeline.at(ns)
        if self._days is not None and local.weekday() not in self._days:
            return 0.0
        second = local.hour * 3600 + local.minute * 60 + local.second
        return [rate for begins, rate in self._steps if begins <= second][-1]


def arrive(
    rate: Rate, start_ns: int, chance: random.Random, plan: Callable[[int, Callable[[Any], None], Any], None],
    put: Callable[[], object], until_ns: int,
) -> None:  # fmt: skip
    """Let jobs arrive at a rate from now on: each one schedules the next.

    Parameters: `plan` takes an instant, a function and its argument; `put` enqueues one job.

    Source: thinning of a Poisson process, Lewis and Shedler, Naval Research Logistics Quarterly 26 (1979), 403-413.
    """
    if rate.top <= 0:
        return

    def after(ns: int) -> int | None:
        while True:
            ns += max(1, round(chance.expovariate(rate.top) * NS))
            if ns >= until_ns or (rate.until is not None and ns >= rate.until):
                return None
            if chance.random() * rate.top < rate.at(ns):
                return ns

    def come(ns: int) -> None:
        following = after(ns)
        if following is not None:
            plan(following, come, following)
        put()

    first = after(max(start_ns, rate.since or 0))
    if first is not None:
        plan(first, come, first)


def _second(clock: str) -> int:
    hours, minutes = map(int, clock.split(":"))
    if hours > 23:
        raise InputError(f"the time of day is {clock}; give HH:MM")
    return hours * 3600 + minutes * 60
