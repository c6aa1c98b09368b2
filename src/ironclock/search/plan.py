"""Plans: with which moves, and where, a run of a story leaves its ordinary way."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import NamedTuple

from ..foundation.durations import spell
from ..simulation.faults import KINDS

WORDS = {
    **{kind.name: kind.words for kind in KINDS},
    "switch": "whatever else is due goes first",
    "first": "{by} goes first",
}
"""What each kind of move does, in words."""

TIMED = frozenset(kind.name for kind in KINDS if kind.is_timed)
"""The kinds that have a duration."""

LASTING = frozenset(kind.name for kind in KINDS if kind.is_lasting)
"""The kinds that begin at a place and go on at others."""


class Place(NamedTuple):
    """A point of a run: `who` comes to `where` for the `visit`-th time."""

    who: str
    where: str
    visit: int = 1

    def describe(self) -> str:
        """Return it in words."""
        name, slash, rest = self.who.partition("/")
        number, _, thread = rest.partition("/")
        parts = [name, f"attempt {number}" if slash else "", thread, self.where]
        times = "" if self.visit == 1 else f" (time {self.visit})"
        return ", ".join(filter(None, parts)) + times


class Move(NamedTuple):
    """What happens at a place. `by` is a duration in nanoseconds, a number of failures, or the name of who runs
    first. `words` say what it does if it is a fault of somebody's own kind."""

    place: Place
    kind: str
    by: int | str = 0
    words: str = ""

    def describe(self) -> str:
        """Return it in words."""
        is_timed = self.kind in TIMED or self.words
        by = spell(self.by) if isinstance(self.by, int) and is_timed else self.by
        return f"{self.place.describe()}: {(self.words or WORDS[self.kind]).format(by=by)}"


@dataclass(frozen=True)
class Plan:
    """The moves of one run, in the order in which they happen.

    `start` is the instant to which the start of the story is moved. `kept` names the jobs and schedules of the story
    that are not left out (None: all). `dice` lets the run choose its order by random priorities: a seed, the depth of
    the mistakes that it looks for, and how many switches there are.
    """

    moves: tuple[Move, ...] = ()
    start: str | None = None
    kept: tuple[str, ...] | None = None
    dice: tuple[str, int, int] | None = None

    def with_moves(self, *moves: Move) -> Plan:
        """Return the plan with these moves instead, and without lots."""
        return replace(self, moves=moves, dice=None)

    @property
    def kinds(self) -> frozenset[str]:
        """The kinds of its moves."""
        return frozenset(move.kind for move in self.moves)

    @property
    def size(self) -> tuple[int, int]:
        """How much it changes: the number of moves, and True if the start is moved."""
        return len(self.moves), self.start is not None

    def describe(self) -> list[str]:
        """Return it in words, one line for each move."""
        lines = [] if self.start is None else [f"the story starts at {self.start}"]
        lines += [move.describe() for move in self.moves]
        if self.dice is not None:
            lines.append(f"the order of what is due at one instant is drawn by lot ({self.dice[0]})")
        return lines
