"""Slowness: something takes longer, or takes one of the times that it can take."""

from __future__ import annotations

from collections.abc import Iterable

from .kind import Amounts, FaultKind, Passing, Strike


class Slow(FaultKind):
    """It takes so much longer."""

    name = "slow"
    words = "it takes {by} more"
    seams = frozenset({"start", "before", "after", "sleep"})
    needs = frozenset({"wait"})
    strikes = frozenset({"attempt", "thread"})
    is_timed = True
    cell = "late"
    excuses = frozenset({"stops_when_asked"})
    place_words = "slow by {by}"
    keys = ("by", "at", "visits")

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.wait(strike.by_ns)

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        return (tried.slow_ns,)


class Takes(FaultKind):
    """It takes one of the durations that the search was given for it, in place of its own."""

    name = "takes"
    words = "it takes {by}"
    seams = frozenset({"start", "before"})
    needs = frozenset({"wait"})
    strikes = frozenset({"attempt", "thread", "request"})
    is_timed = True
    cell = "late"
    is_default = False

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.take(strike.by_ns)

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        return tried.durations.get(passing.durations_of, ())


SLOW, TAKES = Slow(), Takes()
