"""The search: which plans are tried, in which order, in how many runs, and which of them break a law."""

from __future__ import annotations

import hashlib
import random
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import accumulate, islice
from math import gcd
from typing import TypeVar

from ..interpreter.border.watchdog import TOO_LONG
from .coverage import Coverage
from .order import news_first
from .plan import LASTING, Move, Place, Plan
from .runners import Runner, RunRequest, perform
from .runs import Broken, RunResult

T = TypeVar("T")

RUNS = 1_000
"""How many runs a search makes by default; or all single faults and half as many more, if that is a larger number."""

KEPT = 8
"""How many plans that break the same law are kept. The rest are counted."""

ROUND = 128
"""How many sets of faults are drawn at once."""

_SHORTER = 10
# An outage that lasts until the end of the story is tried once more, with this part of its duration.

MOST_KEPT_SETS = 256
"""Of how many sets of several faults it is kept to which seams they lead. Of single faults it is kept always."""

DEPTH_OF_ORDERS = 3
"""The depth of the mistakes that random priorities look for: how many ordering constraints they need."""


@dataclass(frozen=True)
class Scope:
    """How far a search goes. `runs` None: as many as `RUNS` says."""

    runs: int | None = None
    depth: int = 2
    preemptions: int = 2
    orders: bool = True
    starts: tuple[str, ...] = ()
    seed: object = 0
    first: bool = False
    tried_before: int = 0
    """How many single faults an earlier search of the same story has tried: this one begins after them."""


@dataclass
class Failures:
    """The plans that broke one law: a few of them, and how many there were."""

    plans: list[tuple[Plan, Broken]] = field(default_factory=list)
    count: int = 0
    at_run: int = 0

    @property
    def smallest(self) -> Plan:
        """The plan with the fewest moves."""
        return min((plan for plan, _ in self.plans), key=lambda plan: plan.size)


class Found(Exception):
    """The search has found the first broken law, and was asked to end there."""


class LawRaised(Exception):
    """A law raised an error instead of an answer, under a plan."""

    def __init__(self, plan: Plan, words: str) -> None:
        super().__init__(words)
        self.plan = plan
        self.words = words


class Search:
    """One search. `failures` has what was found so far by law, `coverage` how far the search came."""

    def __init__(self, runner: Runner, scope: Scope, plain: RunResult, tell: Callable[[int, int, int], None]) -> None:
        self._runner = runner
        self._scope = scope
        self._plain = plain
        self._tell = tell
        in_story = [move for _, moves in plain.seams for move in moves]
        news, self._first_wave = news_first(plain.seams, plain.spots)
        begins = scope.tried_before % max(1, len(news))
        self._singles = news[begins:] + news[:begins]
        self._bad: set[Move] = set()
        self._kept_sets = 0
        self._same: dict[Move, Move] = {}
        self._in_outage: set[Move] = set()
        self._number = {move: number for number, move in enumerate(in_story)}
        self._after: dict[tuple[Move, ...], tuple[Move, ...]] = {}
        self._anyway = {one.law for one in plain.broken}
        self._hits: dict[Place, int] = {}
        self._room = 0
        self.failures: dict[str, Failures] = {}
        self.runs = 1
        self.coverage = Coverage(seams=len(plain.seams), fitting=len(self._singles), folded=plain.folded)
        self.coverage.passed = [place.describe() for place, _ in plain.seams]
        limit = scope.runs
        least = 1 + len(self._singles) + len(scope.starts) + RUNS // 2
        self._limit = max(RUNS, least) if limit is None else limit
        if plain.broken:
            self._note(Plan(), plain)

    def run(self) -> None:
        """Try everything until the runs are used up."""
        try:
            self._starts()
            self._single_faults()
            self._orders()
            self._pairs()
            self._by_lot()
        except Found:
            self.coverage.why.append("the rest, because the search was asked to end with its first finding")

    # --- the waves ----------------------------------------------------------------------------------

    def _starts(self) -> None:
        plans = [Plan(start=start) for start in self._scope.starts]
        for _ in self._try(RunRequest(plan) for plan in plans):
            self.coverage.starts += 1

    def _single_faults(self) -> None:
        """Try each single fault: first those of one place, then those that go on; and all of them first at one place of
        each group of seams.

        More failures in a row are tried only if fewer have all struck.
        """
        if not self._scope.depth:
            return
        deeper = self._scope.depth > 1
        numbers = sorted({move.by for move in self._singles if move.kind == "fail_repeatedly"}, key=int)
        in_vain: set[Place] = set()
        fewest = numbers[0] if numbers else 0
        for wave in (self._singles[: self._first_wave], self._singles[self._first_wave :]):
            self._try_singles([move for move in wave if move.kind not in LASTING], deeper, in_vain)
            lasting = [move for move in wave if move.kind in LASTING]
            self._try_singles(
                [move for move in lasting if move.kind != "fail_repeatedly" or move.by == fewest], deeper, in_vain
            )
        too_long = [move for move in self._singles if move in self._in_outage]
        shorter = [Move(move.place, move.kind, int(move.by) // _SHORTER) for move in too_long]
        self._singles = [move for move in self._singles if move not in self._in_outage] + shorter
        self._try_singles(shorter, deeper, in_vain)
        for number in numbers[1:]:
            more = [move for move in self._singles if move.kind == "fail_repeatedly" and move.by == number]
            same = {move for move in more if move.place in in_vain}
            self._singles = [move for move in self._singles if move not in same]
            self._try_singles([move for move in more if move not in same], deeper, in_vain)
        left = len(self._singles) + len(too_long) - self.coverage.tried
        self.coverage.fitting = len(self._singles) + len(too_long)
        if left:
            self.coverage.why.append(f"{left} single faults, because {self._limit} runs are used up")

    def _try_singles(self, moves: list[Move], deeper: bool, in_vain: set[Place]) -> None:
        for request, result in self._try(RunRequest(Plan((move,)), notes_seams=deeper) for move in moves):
            self.coverage.tried += 1
            move = request.plan.moves[0]
            if result.broken:
                self._bad.add(move)
            if result.in_outage:
                self._in_outage.add(move)
            if result.unspent:
                in_vain.add(move.place)
            self._note_after((move,), result)

    def _orders(self) -> None:
        """Try every order of what could run at one instant: with one move, two moves and so on, then random ones."""
        if not self._scope.orders:
            return
        if not self._left:
            self.coverage.why.append(
                f"other orders of what is due at one instant, because {self._limit} runs are used up"
            )
            return
        coverage = self.coverage
        coverage.switchable = len(self._further(()))
        if not coverage.switchable:
            return
        whole = self._left // 2 if self._scope.depth > 1 and self._singles else self._left
        self._room = share = whole * 2 // 3
        begun, level = self.runs, 1
        while True:
            before = coverage.schedules
            for _ in self._try(RunRequest(Plan(moves)) for moves in self._nodes(level, ())):
                coverage.schedules += 1
            if coverage.schedules == before or self._room <= 0:
                break
            level += 1
        coverage.orders_complete = self._room > 0
        if not coverage.orders_complete:
            self._random_orders(whole - min(share, self.runs - begun))

    def _nodes(self, depth: int, moves: tuple[Move, ...]) -> Iterator[tuple[Move, ...]]:
        """Yield every order with so many moves more, as long as there is room.

        The orders from which these continue are run again, and not kept: there are far fewer of them.
        """
        for move in self._further(moves):
            if self._room <= 0:
                return
            if depth == 1:
                self._room -= 1
                yield (*moves, move)
            else:
                yield from self._nodes(depth - 1, (*moves, move))

    def _further(self, moves: tuple[Move, ...]) -> list[Move]:
        """Return the moves that can come after these, with no more preemptions than allowed."""
        found = perform(self._runner.story, RunRequest(Plan(moves), notes_switches=True), frozenset())
        self.coverage.looking_ahead += 1
        self._room -= 1
        if moves and (found.broken or moves[-1] not in found.done or moves[-1] not in found.points):
            return []
        since = found.points.index(moves[-1]) + 1 if moves else 0
        full = sum(move.kind == "switch" for move in moves) >= self._scope.preemptions
        return [move for move in found.points[since:] if move.kind == "first" or not full]

    def _random_orders(self, count: int) -> None:
        count = min(self._left, count)
        steps = max(1, self.coverage.switchable)
        dice = ((f"{self._scope.seed}:{n}", DEPTH_OF_ORDERS, steps) for n in range(count))
        for _ in self._try(RunRequest(Plan(dice=one)) for one in dice):
            self.coverage.random_orders += 1

    def _pairs(self) -> None:
        if self._scope.depth < 2 or not self._left:
            return
        good = [move for move in self._singles if move not in self._bad]
        fresh = [(first, second) for first in good for second in self._after.get((first,), ())]
        pairs = len(good) * (len(good) - 1) // 2
        self.coverage.pairs = len(fresh) + pairs
        deeper = self._scope.depth > 2
        room = self._left * 2 // 3 if deeper else self._left
        # A second fault is likelier to matter at a seam that the first one leads to: half of the runs at least.
        chosen = [*_spread(len(fresh), max(room // 2, room - pairs), self._scope.seed)]
        rest = _spread(pairs, room - len(chosen), self._scope.seed)

        def plans() -> Iterator[RunRequest]:
            for number in chosen:
                yield RunRequest(Plan(fresh[number]), notes_seams=deeper)
            for number in rest:
                first, second = _pair(number)
                if good[first].place != good[second].place:
                    yield RunRequest(Plan((good[first], good[second])))
                else:
                    self.coverage.pairs -= 1

        for request, result in self._try(plans()):
            self.coverage.pairs_tried += 1
            if request.notes_seams:
                self._note_after(request.plan.moves, result)
        left = self.coverage.pairs - self.coverage.pairs_tried
        if left > 0:
            self.coverage.why.append(f"{left} pairs of faults, because {self._limit} runs are used up")

    def _by_lot(self) -> None:
        """Try larger sets of faults, drawn by lot, in rounds: each round knows what the runs before it have shown."""
        good = [move for move in self._singles if move not in self._bad]
        if self._scope.depth < 3 or not self._left or len(good) + len(self._after) < 3:
            return
        lots = random.Random(f"{self._scope.seed}:lots")
        drawn = DrawnSets(self._left)
        while self._left:
            plans: list[Plan] = []
            vain = 0
            while len(plans) < min(ROUND, self._left) and vain < ROUND:
                moves = self._drawn(good, lots)
                vain += 1
                if len(moves) > 2 and drawn.is_new(moves):
                    plans.append(self._with_order(moves, lots))
                    vain = 0
            if not plans:
                return  # every set was drawn
            for request, result in self._try(RunRequest(plan, notes_seams=True) for plan in plans):
                self.coverage.samples += 1
                self._note_after(request.plan.moves, result)
        self.coverage.why.append("most sets of three or more faults: they were drawn by lot")

    def _drawn(self, good: list[Move], lots: random.Random) -> tuple[Move, ...]:
        """Draw a set of faults. Half of them continue one that was tried, at a seam to which only that one has led."""
        size = lots.randint(3, self._scope.depth)
        moves: tuple[Move, ...] = ()
        if self._after and lots.random() < 0.5:
            moves = self._least_hit(list(self._after), lots, lambda known: known[-1].place)
        while len(moves) < size:
            further = self._after.get(moves, ()) or (self._after.get(moves[-1:], ()) if moves else ())
            among: Sequence[Move] = further if further and lots.random() < 0.7 else good
            taken = {move.place for move in moves}
            left = [move for move in among if move.place not in taken]
            if not left:
                break
            moves = self._in_order((*moves, self._least_hit(left, lots, lambda move: move.place)))
        for move in moves:
            self._hits[move.place] = self._hits.get(move.place, 0) + 1
        return moves

    def _least_hit(self, among: Sequence[T], lots: random.Random, place_of: Callable[[T], Place]) -> T:
        """Draw one of several. One whose seam was hit less often is drawn more often."""
        weights = list(accumulate(1 / (1 + self._hits.get(place_of(one), 0)) for one in among))
        return lots.choices(among, cum_weights=weights)[0]

    def _in_order(self, moves: tuple[Move, ...]) -> tuple[Move, ...]:
        """Return moves in the order of the plain run. Those at seams that it does not pass come last, as they are."""
        last = len(self._number)
        return tuple(sorted(moves, key=lambda move: self._number.get(move, last)))

    def _with_order(self, moves: tuple[Move, ...], lots: random.Random) -> Plan:
        if self.coverage.switchable and lots.random() < 0.3:
            return Plan(moves, dice=(str(lots.random()), DEPTH_OF_ORDERS, self.coverage.switchable))
        return Plan(moves)

    def _note_after(self, moves: tuple[Move, ...], result: RunResult) -> None:
        """Note the faults that fit at seams to which only these moves have led."""
        if not result.seams or result.broken:
            return
        if len(moves) > 1:
            if self._kept_sets == MOST_KEPT_SETS:
                return
            self._kept_sets += 1
        # Many sets lead to the same seams: their moves are kept once.
        self._after[moves] = tuple(self._same.setdefault(one, one) for _, fitting in result.seams for one in fitting)

    # --- trying -------------------------------------------------------------------------------------

    @property
    def _left(self) -> int:
        return max(0, self._limit - self.runs)

    def _try(self, requests: Iterable[RunRequest]) -> Iterator[tuple[RunRequest, RunResult]]:
        """Do runs while any are left, and note which laws they break."""
        done = self._runner.map(islice(requests, self._left))
        try:
            for request, result in done:
                self.runs += 1
                self.coverage.runs = self.runs
                new = self._note(request.plan, result)
                self._tell(self.runs, self._limit, len(self.failures))
                yield request, result
                if new and self._scope.first:
                    raise Found
        finally:
            close = getattr(done, "close", None)
            if close is not None:
                close()

    def _given_up(self, plan: Plan) -> None:
        """Note a run that was given up, the first one with what went wrong in it."""
        if not self.coverage.given_up:
            self.coverage.notes.append(
                f"the first run that took too long, and was given up: {'; '.join(plan.describe())}"
            )
        self.coverage.given_up += 1

    def _note(self, plan: Plan, result: RunResult) -> bool:
        """Note which laws a run broke. Return True if a law is broken for the first time."""
        if result.raised:
            raise LawRaised(plan, result.raised)
        if result.ended and plan.moves:
            self.coverage.ended_early += 1
            if TOO_LONG in result.ended:
                self._given_up(plan)
        self.coverage.in_outage += result.in_outage
        self.coverage.not_recovered += result.not_recovered
        new = False
        for law in dict.fromkeys(one.law for one in result.broken):
            if law in self._anyway and plan != Plan():
                continue  # it is broken without moves too
            failures = self.failures.get(law)
            if failures is None:
                failures = self.failures[law] = Failures(at_run=self.runs)
                new = True
            failures.count += 1
            if len(failures.plans) < KEPT:
                failures.plans.append((plan, next(one for one in result.broken if one.law == law)))
        return new


class DrawnSets:
    """Which sets of faults were drawn already, in a fixed amount of memory.

    A Bloom filter (Bloom, Space/time trade-offs in hash coding with allowable errors, 1970): fewer than one new
    set in 100,000 is taken for one that was drawn, and left out. Parameters: `most` is how many sets there can be.
    """

    _BITS_A_SET, _MARKS = 32, 8

    def __init__(self, most: int) -> None:
        self._marks = bytearray((most * self._BITS_A_SET >> 3) + 8)

    def is_new(self, moves: tuple[Move, ...]) -> bool:
        """Return True if a set was not drawn before, and note it."""
        digest = hashlib.sha256(repr(sorted(moves, key=repr)).encode()).digest()
        new = False
        for at in range(0, 4 * self._MARKS, 4):
            byte, bit = divmod(int.from_bytes(digest[at : at + 4]) % (8 * len(self._marks)), 8)
            new |= not self._marks[byte] >> bit & 1
            self._marks[byte] |= 1 << bit
        return new


def _spread(count: int, wanted: int, seed: object) -> Iterator[int]:
    """Yield `wanted` of the numbers below `count`, none twice: all of them in order, or a scattered part."""
    if wanted >= count:
        yield from range(count)
        return
    lots = random.Random(f"{seed}:pairs")
    step = lots.randrange(count // 3, count) | 1
    while gcd(step, count) != 1:
        step += 1
    at = lots.randrange(count)
    for _ in range(max(0, wanted)):
        yield at
        at = (at + step) % count


def _pair(number: int) -> tuple[int, int]:
    """Return the pair with this number in the order (0,1), (0,2), (1,2), (0,3) ..."""
    second = int((1 + (1 + 8 * number) ** 0.5) / 2)
    while second * (second - 1) // 2 > number:
        second -= 1
    while second * (second + 1) // 2 <= number:
        second += 1
    return number - second * (second - 1) // 2, second
