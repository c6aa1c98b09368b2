"""The budget of a search: so much time, or so many runs, and how it is spread over tests."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from ..errors import DurationError, InputError
from ..foundation.durations import NS, to_ns
from ..interpreter.patching.clock_functions import REAL

_RUNS = re.compile(r"\s*(\d[\d_]*)\s*runs?\s*")


@dataclass
class Budget:
    """How much a search can take in all. Both None: as much as it needs."""

    seconds: float | None = None
    runs: int | None = None
    _began: float = field(default_factory=lambda: float(REAL["monotonic"]()))

    @property
    def seconds_left(self) -> float | None:
        """The real time that is left."""
        return None if self.seconds is None else max(0.0, self.seconds - (REAL["monotonic"]() - self._began))

    def spend(self, runs: int) -> None:
        """Take runs off the budget."""
        if self.runs is not None:
            self.runs = max(0, self.runs - runs)

    def share(self, seconds: Sequence[float], runs: Sequence[float]) -> tuple[float | None, int | None]:
        """Return the seconds and the runs that the first of several tests gets.

        Parameters: `seconds` and `runs` are about how much each of the tests needs.
        """
        left = self.seconds_left
        return (
            None if left is None else level(left, seconds),
            None if self.runs is None else round(level(self.runs, runs)),
        )


def level(budget: float, needs: Sequence[float]) -> float:
    """Return how much the first of several needs gets at most: an equal part of the budget, and of what those that need
    less leave over (max-min fairness). If the budget is enough for all: all that the others do not need."""
    spare = budget - sum(needs)
    if spare >= 0:
        return needs[0] + spare
    left = budget
    for number, need in enumerate(sorted(needs)):
        equal = left / (len(needs) - number)
        if need >= equal:
            return equal
        left -= need
    return needs[0]  # the needs are as much as the budget, but for what rounding makes of their sum


def checked_budget(given: Any) -> Budget:
    """Return a budget: a duration such as ``"2m"``, or ``"5000 runs"``. None: without a limit. Raises `InputError`."""
    if given is None:
        return Budget()
    expected = "give a duration such as '2m', or a number of runs such as '5000 runs'"
    runs = _RUNS.fullmatch(given) if isinstance(given, str) else None
    if runs is not None:
        count = int(runs[1])
        if count < 1:
            raise InputError(f"the budget of the search is {given!r}, in which nothing can be run; {expected}")
        return Budget(runs=count)
    if isinstance(given, str) and given.strip() == "0":
        given = 0
    try:
        ns = to_ns(given, what="the budget")
    except (DurationError, TypeError):
        raise InputError(f"the budget of the search is {given!r}; {expected}") from None
    if ns <= 0:
        raise InputError(f"the budget of the search is {given!r}, in which nothing can be run; {expected}")
    return Budget(seconds=ns / NS)
