"""Shrinking: find the fewest moves, the fewest jobs and the earliest places that still break the same law."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from .plan import TIMED, Move, Plan
from .runs import RunResult, SearchedStory

LIMIT = 400
"""How many runs the shrinking of one plan can make."""

EARLIER = 12
"""How many earlier places are tried for one move."""


class RunsUsedUp(Exception):
    """The runs of this shrinking are used up."""


class Shrinker:
    """Makes one plan that breaks a law smaller. `runs` is how many runs it has made."""

    def __init__(self, story: SearchedStory, plan: Plan, law: str, enqueued: Sequence[str]) -> None:
        self._story = story
        self._law = law
        self._enqueued = enqueued
        self.plan = plan
        self.runs = 0
        self._seen: dict[Plan, bool] = {}

    def shrink(self) -> Plan:
        """Return the smallest plan found."""
        steps: tuple[Callable[[], None], ...] = (
            self._spell_out, self._keep_start, self._drop_moves, self._leave_out_jobs, self._move_earlier,
            self._fail_less_often, self._shorten, self._drop_moves,
        )  # fmt: skip
        try:
            for step in steps:
                step()
        except RunsUsedUp:
            pass
        return self.plan

    # --- the steps ----------------------------------------------------------------------------------

    def _spell_out(self) -> None:
        """Replace lots by the moves that they led to."""
        if self.plan.dice is not None:
            done = self._run(self.plan).done
            self._try(self.plan.with_moves(*done))

    def _keep_start(self) -> None:
        if self.plan.start is not None:
            self._try(replace(self.plan, start=None))

    def _drop_moves(self) -> None:
        """Drop moves, many at once as long as that works."""
        if self._story.ends is not None and len(self.plan.moves) == 1:
            return  # without its only move it is the run with which it was compared
        span = len(self.plan.moves)
        while span:
            at = 0
            while at < len(self.plan.moves):
                moves = self.plan.moves
                if not self._try(self.plan.with_moves(*moves[:at], *moves[at + span :])):
                    at += span
            span //= 2

    def _leave_out_jobs(self) -> None:
        """Leave out jobs that the story enqueues, and schedules that it adds."""
        names = list(self._enqueued)
        concerned = {move.place.who.partition("/")[0] for move in self.plan.moves}
        spare = [name for name in names if name not in concerned]
        if spare and self._try_without(spare):
            return
        span = max(1, len(names) // 2)
        while span:
            for at in range(0, len(names), span):
                some = {*names[at : at + span]} & {*self._kept()}
                if some:
                    self._try_without(some)
            span //= 2

    def _try_without(self, names: Iterable[str]) -> bool:
        gone = set(names)
        fewer = replace(self.plan, kept=tuple(name for name in self._kept() if name not in gone))
        # Without the moves the rest must hold the law. If not, the missing job would be what breaks it.
        if self.plan.moves and self._breaks(replace(fewer, moves=())):
            return False
        return self._try(fewer)

    def _kept(self) -> Sequence[str]:
        return self._enqueued if self.plan.kept is None else self.plan.kept

    def _move_earlier(self) -> None:
        """Move each fault to the earliest place that still breaks the law."""
        if self._story.ends is not None and len(self.plan.moves) == 1:
            return  # each run takes long, and a place that is only earlier shows no more
        for number in range(len(self.plan.moves)):
            move, before = self.plan.moves[number], self.plan.moves[:number]
            wants_switch = move.kind in ("switch", "first")
            seen = self._run(self.plan.with_moves(*before), notes_seams=not wants_switch, notes_switches=wants_switch)
            if wants_switch:
                found: Iterable[Move] = seen.points
            else:
                found = (one for _, moves in seen.seams for one in moves)
            earlier: list[Move] = []
            for one in found:
                if one == move:
                    break
                if one.kind == move.kind:
                    earlier.append(one)
            for one in earlier[:EARLIER]:
                if self._try(self.plan.with_moves(*before, one, *self.plan.moves[number + 1 :])):
                    break

    def _fail_less_often(self) -> None:
        """Find the fewest failures in a row that still break the law."""
        for number, move in enumerate(self.plan.moves):
            if move.kind == "fail_repeatedly" and isinstance(move.by, int):
                fewer = [Move(move.place, move.kind, n) for n in range(2, move.by)]
                for one in (Move(move.place, "fail"), *fewer):
                    moves = self.plan.moves
                    if self._try(self.plan.with_moves(*moves[:number], one, *moves[number + 1 :])):
                        break

    def _shorten(self) -> None:
        """Find the shortest durations, in whole seconds, that still break the law."""
        second = 1_000_000_000
        for number, move in enumerate(self.plan.moves):
            if move.kind not in TIMED or not isinstance(move.by, int):
                continue
            low, high = 0, -(-move.by // second)
            while high - low > 1:
                middle = (low + high) // 2
                moves = list(self.plan.moves)
                moves[number] = Move(move.place, move.kind, middle * second)
                if self._try(self.plan.with_moves(*moves)):
                    high = middle
                else:
                    low = middle

    # --- trying -------------------------------------------------------------------------------------

    def _try(self, plan: Plan) -> bool:
        """Replace the plan by another one if that still breaks the law; return True if it does."""
        if plan == self.plan or not self._breaks(plan):
            return False
        self.plan = plan
        return True

    def _breaks(self, plan: Plan) -> bool:
        known = self._seen.get(plan)
        if known is None:
            known = self._seen[plan] = any(one.law == self._law for one in self._run(plan).broken)
        return known

    def _run(self, plan: Plan, *, notes_seams: bool = False, notes_switches: bool = False) -> RunResult:
        if self.runs >= LIMIT:
            raise RunsUsedUp
        self.runs += 1
        return self._story.run(plan, notes_seams=notes_seams, notes_switches=notes_switches)
