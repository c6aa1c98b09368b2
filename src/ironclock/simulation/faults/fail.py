"""An error: an attempt fails, or a call inside it."""

from __future__ import annotations

from ...errors import ResponseLost, ServiceError
from .kind import ErrorLike, FaultKind, Passing, Strike


class Fail(FaultKind):
    """It raises an error. At the start of an attempt, time can pass first."""

    name = "fail"
    words = "an error"
    seams = frozenset({"start", "before", "after", "after enqueue", "commit", "after commit"})
    needs = frozenset({"fail"})
    strikes = frozenset({"attempt", "thread", "request"})
    uses_up = "attempt"
    excuses = frozenset({"in_order"})
    keys = ("error", "at", "visits", "takes")

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.fail(strike.make_error(), strike.by_ns)

    def error(self, seam: str) -> ErrorLike:
        side, _, effect = seam.partition(" ")
        if side == "before":
            return ServiceError(f"{effect} fails (placed by the probe)")
        if side == "after" and effect not in ("enqueue", "commit"):
            return ResponseLost(f"the answer of {effect} is lost (placed by the probe)")
        return ConnectionError("an error placed by the probe")


FAIL = Fail()
