"""A refused enqueue: the queue does not take a job."""

from __future__ import annotations

from ...errors import EnqueueRefused
from .kind import ErrorLike, FaultKind, Passing, Strike


class RefuseEnqueue(FaultKind):
    """To enqueue raises an error in the code that enqueues."""

    name = "refuse_enqueue"
    words = "the queue refuses the job"
    seams = frozenset({"enqueue"})
    needs = frozenset({"fail"})
    strikes = frozenset({"attempt", "thread", "request"})
    uses_up = "attempt"
    cell = "outage"
    excuses = frozenset({"in_order", "no_firing_refused"})
    place_words = "refuse enqueue"
    keys = ("error",)

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.refuse(strike.make_error())

    def error(self, seam: str) -> ErrorLike:
        return EnqueueRefused("the queue refuses the job (placed by the probe)")


REFUSE_ENQUEUE = RefuseEnqueue()
