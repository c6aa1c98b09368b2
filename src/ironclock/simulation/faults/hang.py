"""A hang: an attempt waits until its timeout, or for ever."""

from __future__ import annotations

from .kind import FaultKind, Passing, Strike


class Hang(FaultKind):
    """It waits without an end. A search needs a timeout: without one nothing would ever end it."""

    name = "hang"
    words = "it hangs"
    seams = frozenset({"start", "before"})
    needs = frozenset({"wait"})
    uses_up = "attempt"
    cell = "late"
    excuses = frozenset({"in_order", "stops_when_asked"})
    keys = ("at", "visits")

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.wait(None)

    def fits(self, passing: Passing) -> bool:
        attempt = passing.attempt
        return super().fits(passing) and attempt is not None and attempt.job.type.timeout_ns is not None


HANG = Hang()
