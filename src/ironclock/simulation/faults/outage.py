"""Outages: for a while, a whole service is away, or the queue server."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from .fail import FAIL
from .fail_repeatedly import begins_lasting, is_before_effect
from .kind import Amounts, ErrorLike, FaultKind, Passing, Strike


class Outage(FaultKind):
    """A whole service is away, from one of its calls on."""

    name = "outage"
    words = "an outage of {by}"
    seams = frozenset({"before"})
    needs = frozenset({"fail"})
    strikes = frozenset({"attempt", "thread", "request"})
    uses_up = "attempt"
    is_timed = True
    is_lasting = True
    cell = "outage"
    excuses = FAIL.excuses

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.fail(strike.make_error())

    def fits(self, passing: Passing) -> bool:
        return is_before_effect(passing.seam) and super().fits(passing)

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        return (tried.outage_ns,) if begins_lasting(passing, passed) else ()

    def error(self, seam: str) -> ErrorLike:
        return FAIL.error(seam)

    def goes_on(self, began: str, passing: Passing, is_same_job: bool) -> bool:
        return passing.seam.startswith("before ") and service_of(passing.seam) == service_of(began)


def service_of(seam: str) -> str:
    """Return what is away in an outage: the service of ``before SERVICE.OPERATION``, or the effect itself if it has
    none. For a real call it is the database, the files or the sockets, and for a request the host."""
    about = seam.partition(" ")[2]
    kind, _, call = about.partition(" ")
    if kind == "http":
        return f"http {call.partition(' ')[2].partition('/')[0]}"
    return kind if kind in ("sql", "redis", "file", "socket") else about.partition(".")[0]


class QueueOutage(NamedTuple):
    """An outage of the queue server: of one queue (None: all), from one instant to another, the end not included."""

    queue: str | None
    since: int
    until: int

    def strikes(self, queue: str, now: int) -> bool:
        """Return True if a queue is away at an instant."""
        return self.since <= now < self.until and self.queue in (None, queue)


OUTAGE = Outage()
