"""Laws that a rig checks: ``rig.check(ic.laws.once_per_key("charge"))``."""

from .core.law_deeds import after_commit, nothing_left_behind, stops_when_asked
from .core.law_keys import once_per_key
from .core.law_runs import (
    attempts_at_most,
    each,
    finishes_within,
    holds,
    in_order,
    no_deadlock,
    no_overlap,
    nothing_lost,
    queue_below,
)
from .core.law_windows import covers
from .core.laws import Breach, BrokenLaw, Law, World

__all__ = [
    "Breach", "BrokenLaw", "Law", "World", "after_commit", "attempts_at_most", "covers", "each", "finishes_within",
    "holds", "in_order", "no_deadlock", "no_overlap", "nothing_left_behind", "nothing_lost", "once_per_key",
    "queue_below", "stops_when_asked",
]  # fmt: skip
