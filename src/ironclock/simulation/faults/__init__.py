"""Faults: what is made to go wrong. A kind of fault is an object in one of these files; `KINDS` lists them."""

from __future__ import annotations

from .crash import CRASH
from .deliveries import DELAY, DELIVER_TWICE, FETCH_EARLY, LOSE_ACK, MISS_FIRING, OTHER_VERSION
from .fail import FAIL
from .fail_repeatedly import FAIL_REPEATEDLY
from .hang import HANG
from .kind import FaultKind
from .outage import OUTAGE
from .refuse_enqueue import REFUSE_ENQUEUE
from .slow import SLOW, TAKES

KINDS: tuple[FaultKind, ...] = (
    FAIL, REFUSE_ENQUEUE, CRASH, DELIVER_TWICE, LOSE_ACK, HANG, SLOW, OTHER_VERSION, DELAY, FETCH_EARLY, MISS_FIRING,
    TAKES, FAIL_REPEATEDLY, OUTAGE,
)  # fmt: skip
"""Every kind of fault that comes with Iron Clock, in the order in which a search tries them at one seam."""
