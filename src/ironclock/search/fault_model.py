"""The fault model: which kinds of fault fit at which seam, and what each does there."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..errors import EnqueueRefused, InputError, ResponseLost, ServiceError, nearest
from ..foundation.durations import NS, Duration, to_ns
from ..simulation.faults import ErrorLike, LiveFault, checked_error
from ..simulation.jobs import LiveAttempt
from ..simulation.task import Task
from .plan import Move, Place

FAULTS = (
    "fail", "crash", "hang", "slow", "deliver_twice", "lose_ack", "delay", "refuse_enqueue", "fetch_early",
    "miss_firing",
)  # fmt: skip
"""The kinds of fault that the probe places."""

EXHAUST = "exhaust"
"""Only if asked for: errors strike the last attempt of a job as well, so that it becomes a dead letter."""

_AT = {
    "start": ("fail", "crash", "deliver_twice", "hang", "slow"),
    "before": ("fail", "crash", "hang", "slow"),
    "after": ("fail", "crash", "slow"),
    "sleep": ("crash", "slow"),
    "enqueue": ("refuse_enqueue", "crash"),
    "after enqueue": ("fail", "crash"),
    "commit": ("fail", "crash"),
    "after commit": ("fail", "crash"),
    "ack": ("crash", "lose_ack"),
    "delivery": ("delay",),
    "before commit": ("fetch_early",),
    "firing": ("delay", "miss_firing"),
}
_IN_REQUESTS = frozenset({"fail", "refuse_enqueue"})
_IN_THREADS = frozenset({"fail", "slow", "refuse_enqueue"})
_FAULT_KINDS: dict[str, Any] = {
    "deliver_twice": "twice", "refuse_enqueue": "refuse", "fetch_early": "early", "miss_firing": "miss",
    "takes": "slow",
}  # fmt: skip


@dataclass(frozen=True)
class FaultModel:
    """What can go wrong: the kinds of fault, how long the slow ones last, which errors are raised, what varies.

    `durations` has, by the name of a job or an effect, the nanoseconds that it can take.
    """

    kinds: frozenset[str] = frozenset(FAULTS)
    slow_ns: int = 60 * NS
    delay_ns: int = 60 * NS
    errors: Mapping[str, ErrorLike] = field(default_factory=dict)
    durations: Mapping[str, tuple[int, ...]] = field(default_factory=dict)

    def at(self, place: Place, subject: Any) -> tuple[Move, ...]:
        """Return every fault that fits at a place. `subject` is the attempt, task or name that passes it."""
        where = place.where
        fitting = _AT.get(where) or _AT.get(where.partition(" ")[0], ())
        moves = [
            Move(place, kind, self._by(kind))
            for kind in fitting
            if kind in self.kinds and _fits(kind, subject, place.who) and not self._meant_to_die(kind, subject, where)
        ]
        about = place.who.rpartition("-")[0] if where == "start" else where.removeprefix("before ")
        if self.durations and (where == "start" or where.startswith("before ")):
            moves += [Move(place, "takes", ns) for ns in self.durations.get(about, ())]
        return tuple(moves)

    def _meant_to_die(self, kind: str, subject: Any, where: str) -> bool:
        """Return True if a job would become a dead letter as its policy says: that is not a finding.

        The only attempt of a job is spared only at its start: its code can deal with an error inside it.
        """
        if not isinstance(subject, LiveAttempt) or EXHAUST in self.kinds:
            return False
        job = subject.job
        if kind in ("fail", "hang"):
            last = job.failures + 1 >= job.type.retry.attempts
            return last and (job.failures > 0 or where == "start")
        limit = job.type.policy.deliveries
        return kind in ("crash", "lose_ack") and limit is not None and subject.job.unacknowledged + 1 >= limit

    def _by(self, kind: str) -> int:
        return self.slow_ns if kind in ("slow", "miss_firing") else self.delay_ns if kind == "delay" else 0

    def fault(self, move: Move) -> LiveFault:
        """Return a move as a fault of the simulation."""
        by = move.by if isinstance(move.by, int) else 0
        kind = _FAULT_KINDS.get(move.kind, move.kind)
        return LiveFault(kind, None, None, None, None, None, None, self._error(move), by, None, move.place.where)

    def _error(self, move: Move) -> ErrorLike | None:
        if move.kind == "refuse_enqueue":
            return EnqueueRefused("the queue refuses the job (placed by the probe)")
        if move.kind != "fail":
            return None
        side, _, effect = move.place.where.partition(" ")
        job = move.place.who.partition("/")[0].rpartition("-")[0]
        given = self.errors.get(effect) or self.errors.get(job)
        if given is not None:
            return given
        if side == "before":
            return ServiceError(f"{effect} fails (placed by the probe)")
        if side == "after" and effect not in ("enqueue", "commit"):
            return ResponseLost(f"the answer of {effect} is lost (placed by the probe)")
        return ConnectionError("an error placed by the probe")


def _fits(kind: str, subject: Any, who: str) -> bool:
    if isinstance(subject, LiveAttempt):
        type = subject.job.type
        if kind == "hang":
            return type.timeout_ns is not None  # without a timeout nothing would ever end it
        return kind != "lose_ack" or type.policy.ack == "late"
    if isinstance(subject, Task):
        return kind in _IN_THREADS
    return kind in _IN_REQUESTS if who.startswith("request ") else True


def checked_model(
    faults: Collection[str] | None, slow: Duration, delay: Duration,
    errors: Mapping[str, ErrorLike] | None, durations: Mapping[str, tuple[Duration, Duration]] | None,
) -> FaultModel:  # fmt: skip
    """Return a model of what can go wrong. Raises `InputError` for an unknown kind or a range that is empty."""
    chosen = FAULTS if faults is None else (faults,) if isinstance(faults, str) else tuple(faults)
    for kind in chosen:
        if kind not in (*FAULTS, EXHAUST):
            raise InputError(f"unknown kind of fault {kind!r}; {nearest(str(kind), (*FAULTS, EXHAUST))}")
    ranges: dict[str, tuple[int, ...]] = {}
    for name, given in (durations or {}).items():
        if not isinstance(given, (tuple, list)) or len(given) != 2:
            raise InputError(f"the duration of {name!r} is {given!r}; give a pair, (shortest, longest)")
        low, high = (to_ns(one, what=f"the duration of {name!r}") for one in given)
        if high < low:
            raise InputError(
                f"the duration of {name!r} ends at {given[1]!r}, below its start {given[0]!r}; give (shortest, longest)"
            )
        # The two ends, the middle, and a value close to each end, where one duration passes another.
        values = (high, low, (low + high) // 2, high - (high - low) // 10, low + (high - low) // 10)
        ranges[name] = tuple(dict.fromkeys(values))
    raised = {name: checked_error(error) for name, error in (errors or {}).items()}
    return FaultModel(frozenset(chosen), to_ns(slow, what="slow"), to_ns(delay, what="delay"), raised, ranges)
