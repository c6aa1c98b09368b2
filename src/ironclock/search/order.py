"""The order in which single faults are tried: what is new comes first.

Seams that are alike (the same job type or loop, the same place in its code) are a group. One place of each group is
tried before a second one of any: first where most other groups are near, in the middle of the work and not in an
idle turn. Of the kinds, those come first that mistakes are made about most: a death, or an answer that is lost, right
after something was done.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from .plan import Move, Place

_NUMBERS = re.compile(r"[-/#]?\d+")
_ABOUT = re.compile(r"(\w+:\w+:)[^\s,]+")
# The end of a key that says whom it is about: lock:account:ada.
_NEAR = 8
"""How many seams before and after one are near."""

Group = tuple[str, str, str]
"""Who passes, without numbers; which seam; where in the code."""

_AFTER_FIRST = {"fail": 0, "crash": 0, "lose_ack": 1, "deliver_twice": 2, "slow": 4, "delay": 4}
_BEFORE_FIRST = {"fail": 2, "lose_ack": 1, "deliver_twice": 2, "slow": 3, "crash": 5, "delay": 4}
_OTHERS = 3


def news_first(seams: Sequence[tuple[Place, tuple[Move, ...]]], spots: Sequence[str]) -> tuple[list[Move], int]:
    """Return the moves of all seams in the order in which they are to be tried, and how many are the first of a group.

    Parameters: `seams` are the seams of the run without a fault in their order, with the moves that fit there; `spots`
    are their places in the code.
    """
    groups = [(*_group(place), spot) for (place, _), spot in zip(seams, spots or [""] * len(seams), strict=True)]
    members: dict[Group, list[int]] = {}
    for number, group in enumerate(groups):
        members.setdefault(group, []).append(number)
    turn: dict[int, int] = {}
    for found in members.values():
        near = {number: _news_near(number, groups, members) for number in found} if len(found) > 1 else {}
        for rank, number in enumerate(sorted(found, key=lambda number: (-near.get(number, 0), number))):
            turn[number] = rank
    ranked = [
        (turn[number], _class(move), len(members[groups[number]]), number, move.kind == "crash", at, move)
        for number, (_, moves) in enumerate(seams)
        for at, move in enumerate(moves)
    ]
    ranked.sort(key=lambda one: one[:-1])
    return [move for *_, move in ranked], sum(rank == 0 for rank, *_ in ranked)


def _group(place: Place) -> tuple[str, str]:
    return _NUMBERS.sub("", place.who), _NUMBERS.sub("", _ABOUT.sub(r"\1", place.where))


def _class(move: Move) -> int:
    first = _AFTER_FIRST if move.place.where.startswith("after") else _BEFORE_FIRST
    return first.get(move.kind, _OTHERS)


def _news_near(number: int, groups: Sequence[Group], members: dict[Group, list[int]]) -> float:
    """Return how much that is rare happens near a seam."""
    near = set(groups[max(0, number - _NEAR) : number + _NEAR + 1])
    return sum(1 / len(members[group]) for group in near)
