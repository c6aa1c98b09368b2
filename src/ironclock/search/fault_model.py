"""The fault model: which kinds of fault fit at which seam, and what each does there."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..errors import EnqueueRefused, InputError, ResponseLost, ServiceError, nearest
from ..foundation.durations import NS, Duration, to_ns
from ..simulation.faults import ErrorLike, LiveFault, checked_error
from ..simulation.jobs import LiveAttempt
from ..simulation.task import Task
from .plan import LASTING, Move, Place

FAULTS = (
    "fail", "fail_repeatedly", "outage", "crash", "hang", "slow", "deliver_twice", "lose_ack", "delay",
    "refuse_enqueue", "fetch_early", "miss_firing", "other_version",
)  # fmt: skip
"""The kinds of fault that the probe places."""

IN_A_ROW = (2, 3, 5, 10)
"""How many failures in a row are tried."""

EXHAUST = "exhaust"
"""Only if asked for: errors strike the last attempt of a job as well, so that it becomes a dead letter."""

_AT = {
    "start": ("fail", "crash", "deliver_twice", "hang", "slow", "other_version"),
    "before": ("fail", "crash", "hang", "slow"),
    "after": ("fail", "crash", "slow"),
    "halfway": ("crash",),
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
    "takes": "slow", "other_version": "other",
}  # fmt: skip


@dataclass(frozen=True)
class FaultModel:
    """What can go wrong: the kinds of fault, how long the slow ones last, which errors are raised, what varies.

    `durations` has, by the name of a job or an effect, the nanoseconds that it can take.
    """

    kinds: frozenset[str] = frozenset(FAULTS)
    slow_ns: int = 60 * NS
    delay_ns: int = 60 * NS
    outage_ns: int = 600 * NS
    in_a_row: tuple[int, ...] = IN_A_ROW
    errors: Mapping[str, ErrorLike] = field(default_factory=dict)
    durations: Mapping[str, tuple[int, ...]] = field(default_factory=dict)

    def at(self, place: Place, subject: Any, passed: int = 0) -> tuple[Move, ...]:
        """Return every fault that fits at a place.

        Parameters: `subject` is the attempt, task or name that passes it. `passed` says how often anybody has passed
        such a seam so far, this time included.
        """
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
        return (*moves, *self._lasting(place, subject, passed))

    def _lasting(self, place: Place, subject: Any, passed: int) -> Iterator[Move]:
        """Yield the faults that begin at a place and go on.

        They begin where such a seam is passed for the first, second, fourth, eighth time and so on: to begin a little
        later makes less and less of a difference.
        """
        is_effect = place.where.startswith("before ") and place.where != "before commit"
        if passed & (passed - 1) or not (is_effect or place.where == "start"):
            return
        if place.where == "start" and not isinstance(subject, LiveAttempt):
            return
        if self._meant_to_die("fail", subject, place.where):
            return
        if "fail_repeatedly" in self.kinds:
            most = subject.job.type.retry.attempts - subject.job.failures - 1 if place.where == "start" else 1 << 30
            if EXHAUST in self.kinds:
                most += 1
            yield from (Move(place, "fail_repeatedly", n) for n in self.in_a_row if 1 < n <= most)
        if "outage" in self.kinds and is_effect:
            yield Move(place, "outage", self.outage_ns)

    def goes_on(self, move: Move, where: str, who: str, subject: Any) -> bool:
        """Return True if a fault that began earlier strikes at a seam as well."""
        began = move.place.where
        if began == "start":
            there = where == "start" and who.partition("/")[0] == move.place.who.partition("/")[0]
        elif move.kind == "outage":
            there = where.startswith("before ") and service_of(where) == service_of(began)
        else:
            there = where == began
        return there and not self._meant_to_die("fail", subject, where)

    def _meant_to_die(self, kind: str, subject: Any, where: str) -> bool:
        """Return True if a job would become a dead letter as its policy says: that is not a finding.

        The only attempt of a job is spared only at its start: its code can deal with an error inside it.
        """
        attempt = subject.owner if isinstance(subject, Task) else None
        if attempt is None or EXHAUST in self.kinds:
            return False
        job = attempt.job
        if kind in ("fail", "hang", "refuse_enqueue"):
            last = job.failures + 1 >= job.type.retry.attempts
            return last and (job.failures > 0 or where == "start")
        limit = job.type.policy.deliveries
        return kind in ("crash", "lose_ack") and limit is not None and job.unacknowledged + 1 >= limit

    def _by(self, kind: str) -> int:
        return self.slow_ns if kind in ("slow", "miss_firing") else self.delay_ns if kind == "delay" else 0

    def fault(self, move: Move) -> LiveFault:
        """Return a move as a fault of the simulation."""
        by = move.by if isinstance(move.by, int) else 0
        kind = _FAULT_KINDS.get(move.kind, move.kind)
        if move.kind == "fail" or move.kind in LASTING:
            return self.failure(move.place.who, move.place.where)
        error = None
        if move.kind == "refuse_enqueue":
            error = EnqueueRefused("the queue refuses the job (placed by the probe)")
        return LiveFault(kind, None, None, None, None, None, None, error, by, None, move.place.where)

    def failure(self, who: str, where: str) -> LiveFault:
        """Return an error at a seam as a fault of the simulation."""
        return LiveFault("fail", None, None, None, None, None, None, self._error(who, where), 0, None, where)

    def _error(self, who: str, where: str) -> ErrorLike:
        side, _, effect = where.partition(" ")
        job = who.partition("/")[0].rpartition("-")[0]
        given = self.errors.get(effect) or self.errors.get(job)
        if given is not None:
            return given
        if side == "before":
            return ServiceError(f"{effect} fails (placed by the probe)")
        if side == "after" and effect not in ("enqueue", "commit"):
            return ResponseLost(f"the answer of {effect} is lost (placed by the probe)")
        return ConnectionError("an error placed by the probe")


def service_of(seam: str) -> str:
    """Return what is away in an outage: the service of ``before SERVICE.OPERATION``, or the effect itself if it has
    none. For a real call it is the database, the files or the sockets, and for a request the host."""
    about = seam.partition(" ")[2]
    kind, _, call = about.partition(" ")
    if kind == "http":
        return f"http {call.partition(' ')[2].partition('/')[0]}"
    return kind if kind in ("sql", "file", "socket") else about.partition(".")[0]


def _fits(kind: str, subject: Any, who: str) -> bool:
    if isinstance(subject, LiveAttempt):
        type = subject.job.type
        if kind == "other_version":
            return type.deployment is not None
        if kind == "hang":
            return type.timeout_ns is not None  # without a timeout nothing would ever end it
        return kind != "lose_ack" or type.policy.ack == "late"
    if kind == "other_version":
        return False
    if isinstance(subject, Task):
        return kind in _IN_THREADS
    return kind in _IN_REQUESTS if who.startswith("request ") else True


def checked_model(
    faults: Collection[str] | None, slow: Duration, delay: Duration,
    errors: Mapping[str, ErrorLike] | None, durations: Mapping[str, tuple[Duration, Duration]] | None,
    outage: Duration, in_a_row: int | Collection[int],
) -> FaultModel:  # fmt: skip
    """Return a model of what can go wrong. Raises `InputError` for an unknown kind, a range that is empty, or numbers
    of failures that are none."""
    chosen = FAULTS if faults is None else _several(faults)
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
    numbers = _several(in_a_row)
    for number in numbers:
        if isinstance(number, bool) or not isinstance(number, int) or number < 2:
            raise InputError(f"in_a_row has {number!r}; give numbers of failures, each at least 2")
    return FaultModel(
        frozenset(chosen), to_ns(slow, what="slow"), to_ns(delay, what="delay"), to_ns(outage, what="outage"),
        tuple(sorted(set(numbers))), raised, ranges,
    )  # fmt: skip


def _several(given: Any) -> tuple[Any, ...]:
    """Return one value, or a collection of values, as a tuple."""
    return tuple(given) if isinstance(given, Iterable) and not isinstance(given, str) else (given,)
