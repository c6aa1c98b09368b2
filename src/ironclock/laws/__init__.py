"""Laws that a rig checks: ``rig.check(ic.laws.once_per_key("charge"))``."""

from typing import TYPE_CHECKING, Any

from ..errors import WrongName, nearest
from .job_laws import (
    attempts_at_most,
    each,
    finishes_within,
    holds,
    in_order,
    no_deadlock,
    no_overlap,
    nothing_lost,
    queue_below,
    stops_when_asked,
)
from .key_laws import no_key_twice, once_per_key
from .law import Breach, BrokenLaw, Law, World
from .transaction_laws import after_commit, nothing_left_behind
from .window_laws import covers, no_firing_refused

__all__ = [
    "Breach", "BrokenLaw", "Law", "World", "after_commit", "attempts_at_most", "covers", "each", "finishes_within",
    "holds", "in_order", "no_deadlock", "no_firing_refused", "no_key_twice", "no_overlap", "nothing_left_behind",
    "nothing_lost", "once_per_key", "queue_below", "stops_when_asked",
]  # fmt: skip

if not TYPE_CHECKING:  # with it, static tools would accept every misspelled name

    def __getattr__(name: str) -> Any:
        if name.startswith("_"):
            raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
        raise WrongName(f"there is no law {name!r}; {nearest(name, [n for n in __all__ if n[0].islower()])}")
