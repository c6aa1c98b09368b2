"""Shrinking: the fewest moves, the fewest jobs and the earliest places that still break the same law."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from ..steering.plan import TIMED, Move, Plan
from .trial import Result, Trial

LIMIT = 400
"""How many runs a shrinking takes at most."""

EARLIER = 12
"""How many earlier places are tried for one move."""


class Enough(Exception):
    """The runs that a shrinking may take are used up."""


class Shrinker:
    """Reduces one plan that breaks a law. `runs` counts what it took."""

    def __init__(self, trial: Trial, plan: Plan, law: str, enqueued: Sequence[str]) -> None:
        self._trial = trial
        self._law = law
        self._enqueued = enqueued
        self.plan = plan
        self.runs = 0
        self._seen: dict[Plan, bool] = {}

    def shrink(self) -> Plan:
        """Return the smallest plan found."""
        steps: tuple[Callable[[], None], ...] = (
            self._spell_out, self._keep_start, self._drop_moves, self._leave_out_jobs, self._move_earlier,
            self._shorten, self._drop_moves,
        )  # fmt: skip
        try:
            for step in steps:
                step()
        except Enough:
            pass
        return self.plan

    # --- the steps ----------------------------------------------------------------------------------

    def _spell_out(self) -> None:
        """Put the moves that were drawn by lot down one by one."""
        if self.plan.dice is not None:
            done = self._run(self.plan).done
            self._try(self.plan.with_moves(*done))

    def _keep_start(self) -> None:
        if self.plan.start is not None:
            self._try(replace(self.plan, start=None))

    def _drop_moves(self) -> None:
        """Drop moves, many at a time while that works."""
        span = len(self.plan.moves)
        while span:
            at = 0
            while at < len(self.plan.moves):
                moves = self.plan.moves
                if not self._try(self.plan.with_moves(*moves[:at], *moves[at + span :])):
                    at += span
            span //= 2

    def _leave_out_jobs(self) -> None:
        """Leave out jobs that the story enqueues and schedules that it adds."""
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
        # What is left must be sound without the moves, or the missing job itself would be what breaks the law.
        if self.plan.moves and self._breaks(replace(fewer, moves=())):
            return False
        return self._try(fewer)

    def _kept(self) -> Sequence[str]:
        return self._enqueued if self.plan.kept is None else self.plan.kept

    def _move_earlier(self) -> None:
        """Let each move happen at the earliest place, of those where the same kind of move can, that will do."""
        for number in range(len(self.plan.moves)):
            move, before = self.plan.moves[number], self.plan.moves[:number]
            wants_switch = move.kind in ("switch", "first")
            seen = self._run(self.plan.with_moves(*before), notes=not wants_switch, switches=wants_switch)
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

    def _shorten(self) -> None:
        """Find the shortest durations, in whole seconds, that still do."""
        second = 1_000_000_000
        for number, move in enumerate(self.plan.moves):
            if move.kind not in TIMED or not isinstance(move.by, int):
                continue
            low, high = 0, -(-move.by // second)
            while high - low > 1:
                middle = (low + high) // 2
                moves = list(self.plan.moves)
                moves[number] = move._replace(by=middle * second)
                if self._try(self.plan.with_moves(*moves)):
                    high = middle
                else:
                    low = middle

    # --- trying -------------------------------------------------------------------------------------

    def _try(self, plan: Plan) -> bool:
        """Take a plan over if it still breaks the law."""
        if plan == self.plan or not self._breaks(plan):
            return False
        self.plan = plan
        return True

    def _breaks(self, plan: Plan) -> bool:
        known = self._seen.get(plan)
        if known is None:
            known = self._seen[plan] = any(one.law == self._law for one in self._run(plan).broken)
        return known

    def _run(self, plan: Plan, *, notes: bool = False, switches: bool = False) -> Result:
        if self.runs >= LIMIT:
            raise Enough
        self.runs += 1
        return self._trial.run(plan, notes=notes, switches=switches)
