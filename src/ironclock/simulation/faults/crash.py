"""A crash: the worker dies where it is."""

from __future__ import annotations

from .kind import FaultKind, Passing, Strike


class Crash(FaultKind):
    """The worker dies. No handler runs, and what it had open is taken back."""

    name = "crash"
    words = "the worker dies"
    seams = frozenset({
        "start", "before", "after", "halfway", "sleep", "enqueue", "after enqueue", "commit", "after commit", "ack",
    })  # fmt: skip
    needs = frozenset({"crash"})
    uses_up = "delivery"
    cell = "worker dies"
    excuses = frozenset({"in_order", "attempts_at_most"})
    rank = 1
    keys = ("at", "visits", "down")

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.crash(strike)


CRASH = Crash()
