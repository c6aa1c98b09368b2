"""The fault model: which kinds of fault a search tries at which seam, and how much of each."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..errors import InputError, nearest
from ..foundation.durations import Duration, to_ns
from ..simulation.faults import KINDS
from ..simulation.faults.kind import Amounts, ErrorLike, FaultKind, Passing, Strike
from ..simulation.faults.placing import checked_error
from .plan import Move, Place

FAULTS = tuple(kind.name for kind in KINDS if kind.is_default)
"""The kinds of fault that the probe places."""

EXHAUST = "exhaust"
"""Only if asked for: errors strike the last attempt of a job as well, so that it becomes a dead letter."""

IN_A_ROW = Amounts().in_a_row
"""How many failures in a row are tried."""

_KNOWN = {kind.name: kind for kind in KINDS}


@dataclass(frozen=True)
class FaultModel:
    """What can go wrong: the kinds of fault, how much of each, and which errors are raised."""

    kinds: tuple[FaultKind, ...] = KINDS
    amounts: Amounts = field(default_factory=Amounts)
    errors: Mapping[str, ErrorLike] = field(default_factory=dict)

    def at(self, place: Place, passing: Passing, passed: int = 0) -> tuple[Move, ...]:
        """Return every fault that fits at a place.

        Parameters: `passing` is who passes it. `passed` says how often anybody has passed such a seam so far, this time
        included.
        """
        where, amounts = place.where, self.amounts
        moves: list[Move] = []
        for kind in self.kinds:
            if kind.fits_at(where) and kind.fits(passing) and (amounts.exhausts or not kind.ends_job(passing)):
                words = "" if kind.name in _KNOWN else kind.words
                moves += [Move(place, kind.name, by, words) for by in kind.amounts(passing, amounts, passed)]
        return tuple(moves)

    def kind(self, move: Move) -> FaultKind:
        """Return the kind of fault of a move."""
        return next((kind for kind in self.kinds if kind.name == move.kind), None) or _KNOWN[move.kind]

    def goes_on(self, move: Move, passing: Passing) -> bool:
        """Return True if a fault that began earlier strikes at a seam as well."""
        kind = self.kind(move)
        is_same_job = passing.who.partition("/")[0] == move.place.who.partition("/")[0]
        return kind.goes_on(move.place.where, passing, is_same_job) and (
            self.amounts.exhausts or not kind.ends_job(passing)
        )

    def strike(self, move: Move, passing: Passing) -> Strike:
        """Return what strikes when a move is made, or goes on, at a seam."""
        kind = self.kind(move)
        by = move.by if isinstance(move.by, int) and not kind.is_lasting else 0
        raises = kind.error(passing.seam)
        if raises is not None and move.kind != "refuse_enqueue":
            effect = passing.seam.partition(" ")[2]
            job = passing.who.partition("/")[0].rpartition("-")[0]
            raises = self.errors.get(effect) or self.errors.get(job) or raises
        return Strike(kind=kind, by_ns=by, raises=raises)


def checked_model(
    faults: Collection[str | FaultKind] | None, slow: Duration, delay: Duration,
    errors: Mapping[str, ErrorLike] | None, durations: Mapping[str, tuple[Duration, Duration]] | None,
    outage: Duration, in_a_row: int | Collection[int],
) -> FaultModel:  # fmt: skip
    """Return a model of what can go wrong. Raises `InputError` for an unknown kind, a range that is empty, or numbers
    of failures that are none."""
    kinds, exhausts = kinds_of(FAULTS if faults is None else _several(faults))
    ranges: dict[str, tuple[int, ...]] = {}
    for name, pair in (durations or {}).items():
        if not isinstance(pair, (tuple, list)) or len(pair) != 2:
            raise InputError(f"the duration of {name!r} is {pair!r}; give a pair, (shortest, longest)")
        low, high = (to_ns(end, what=f"the duration of {name!r}") for end in pair)
        if high < low:
            raise InputError(
                f"the duration of {name!r} ends at {pair[1]!r}, below its start {pair[0]!r}; give (shortest, longest)"
            )
        # The two ends, the middle, and a value close to each end, where one duration passes another.
        values = (high, low, (low + high) // 2, high - (high - low) // 10, low + (high - low) // 10)
        ranges[name] = tuple(dict.fromkeys(values))
    raised = {name: checked_error(error) for name, error in (errors or {}).items()}
    numbers = _several(in_a_row)
    for number in numbers:
        if isinstance(number, bool) or not isinstance(number, int) or number < 2:
            raise InputError(f"in_a_row has {number!r}; give numbers of failures, each at least 2")
    amounts = Amounts(
        slow_ns=to_ns(slow, what="slow"), delay_ns=to_ns(delay, what="delay"), outage_ns=to_ns(outage, what="outage"),
        in_a_row=tuple(sorted(set(numbers))), durations=ranges, exhausts=exhausts,
    )  # fmt: skip
    return FaultModel(kinds, amounts, raised)


def kinds_of(asked: Iterable[str | FaultKind]) -> tuple[tuple[FaultKind, ...], bool]:
    """Return the kinds of fault that are asked for by name or as objects, and True if `exhaust` is.

    Raises `InputError` for an unknown one.
    """
    names = {"takes"}  # it has its own parameter, and tries nothing without it
    own: list[FaultKind] = []
    for kind in asked:
        if isinstance(kind, FaultKind):
            own += [kind] * (kind.name not in _KNOWN)
            names.add(kind.name)
        elif kind in FAULTS or kind == EXHAUST:
            names.add(kind)
        else:
            raise InputError(f"unknown kind of fault {kind!r}; {nearest(str(kind), (*FAULTS, EXHAUST))}")
    return (*(kind for kind in KINDS if kind.name in names), *own), EXHAUST in names


def _several(given: Any) -> tuple[Any, ...]:
    """Return one value, or a collection of values, as a tuple."""
    return tuple(given) if isinstance(given, Iterable) and not isinstance(given, str) else (given,)
