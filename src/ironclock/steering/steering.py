"""Steering one run: the pilot that follows a plan, writes down where the run could go another way, or draws lots."""

from __future__ import annotations

import random
from collections.abc import Sequence
from typing import Any

from ..core.clockwork import LAST, WORLD
from ..core.engine import Engine
from ..core.faults import Fault
from ..core.jobs import Attempt, Job
from ..core.pilot import Event
from ..core.task import Task
from .kinds import Model
from .plan import Move, Place, Plan

_OUTSIDE = frozenset(("delivery", "start", "ack"))
MOST_POINTS = 20_000
"""How many switches of one run are written down."""


class Steering:
    """The pilot of one run.

    `notes` says whether every seam is written down, in `seams` with the faults that fit there (those in `known` left
    out); `traces` whether visits are counted all the same; `switches` whether tasks can be switched, and the points
    where they can are written down in `points`.
    """

    def __init__(
        self, engine: Engine, plan: Plan, model: Model, *, notes: bool = False, known: frozenset[Place] = frozenset(),
        switches: bool = False, traces: bool = False,
    ) -> None:  # fmt: skip
        self._engine = engine
        self._model = model
        self._faults: dict[Place, Move] = {}
        self._switches: dict[Place, Move] = {}
        for move in plan.moves:
            (self._switches if move.kind in ("switch", "first") else self._faults)[move.place] = move
        self._numbers = {_number(move.place.who) for move in plan.moves}
        self._kept = None if plan.kept is None else frozenset(plan.kept)
        self._notes = notes
        self._known = known
        self._dice = None if plan.dice is None else Dice(*plan.dice)
        self.switching = switches or bool(self._switches) or self._dice is not None
        self._points_wanted = switches
        # A plan that touches a few jobs alone leaves all others to the engine's usual way.
        self.only = None if notes or traces or self.switching or -1 in self._numbers else frozenset(self._numbers)
        self.gates = self.only is None or any(move.place.where == "delivery" for move in plan.moves)
        self.inside = self.only is None or any(move.place.where not in _OUTSIDE for move in plan.moves)
        self._visits: dict[tuple[str, str], int] = {}
        self._skip: Task | None = None
        self.seams: list[tuple[Place, tuple[Move, ...]]] = []
        self.points: list[Move] = []
        """Every move that would switch, in the order of the run."""
        self.enqueued: list[str] = []
        """The jobs that the story itself enqueued, and the schedules that it added."""
        self.done: list[Move] = []
        """The moves that were made, in their order."""

    # --- what the engine asks -----------------------------------------------------------------------

    def passes(self, task: Task, where: str) -> Fault | None:
        return self._at(task.label, where, task)

    def starts(self, attempt: Attempt) -> Fault | None:
        struck = self._at(attempt.label, "start", attempt, False)
        if struck is not None and self.done[-1].kind == "takes":
            struck.by_ns -= attempt.job.type.takes_ns  # in place of what it takes by itself
        return struck

    def ends(self, attempt: Attempt) -> Fault | None:
        return self._at(attempt.label, "ack", attempt)

    def delivers(self, job: Job) -> Fault | None:
        if self.only is not None and job.number not in self.only:
            return None
        return self._at(job.id, "delivery", job, False)

    def commits(self, job: Job) -> Fault | None:
        return self._at(job.id, "before commit", job, False)

    def fires(self, schedule: str) -> Fault | None:
        return self._at(f"schedule {schedule}", "firing", schedule, False)

    def asks(self, request: str, where: str) -> Fault | None:
        return self._at(f"request {request}", where, request, False)

    def locks(self, task: Task, where: str) -> None:
        if self.switching:
            self._consider(self._place(task.label, where))

    def leaves_out(self, name: str) -> bool:
        self.enqueued.append(name)
        return self._kept is not None and name not in self._kept

    def at_line(self, where: str) -> None:
        """Take note that the running task comes to a line, where another may be switched in."""
        task = self._engine.current
        if self.switching and task is not None:
            self._consider(self._place(task.label, where))

    # --- what a person asks -------------------------------------------------------------------------

    def passed_by(self, who: str) -> dict[str, int]:
        """Return how often somebody passed each seam."""
        return {where: count for (name, where), count in self._visits.items() if name == who and where != "begin"}

    def whos(self) -> set[str]:
        """Return everybody who passed a seam, or was left out."""
        return {name for name, _ in self._visits} | set(self.enqueued)

    # --- seams --------------------------------------------------------------------------------------

    def _at(self, who: str, where: str, subject: Any, running: bool = True) -> Fault | None:
        place = self._place(who, where)
        if self._notes and place not in self._known:
            moves = self._model.at(place, subject)
            if moves:
                self.seams.append((place, moves))
        if running and self.switching:
            self._consider(place)
        move = self._faults.get(place)
        if move is None:
            return None
        self.done.append(move)
        return self._model.fault(move)

    def _place(self, who: str, where: str) -> Place:
        visit = self._visits[who, where] = self._visits.get((who, where), 0) + 1
        return Place(who, where, visit)

    # --- switches -----------------------------------------------------------------------------------

    def _consider(self, place: Place) -> None:
        """Let others go first, where the plan or the dice say so."""
        engine = self._engine
        task = engine.current
        if task is None or not engine.others_due:
            return
        move = Move(place, "switch")
        if self._dice is not None:
            wanted = self._dice.gives_way(task.label, [event_name(e) for e in engine.due_events()])
        else:
            wanted = place in self._switches
            if self._points_wanted and len(self.points) < MOST_POINTS:
                self.points.append(move)
        if wanted:
            self.done.append(move)
            self._skip = task
            engine.give_way()

    def chooses(self, events: Sequence[Event]) -> int:
        skipped, self._skip = self._skip, None
        places = _free(events, skipped)
        if len(places) < 2:
            return places[0] if places else 0
        names = [event_name(events[n]) for n in places]
        place = self._place(names[0], "due")
        if self._dice is not None:
            picked = self._dice.first(names)
        else:
            if self._points_wanted and len(self.points) < MOST_POINTS:
                self.points += [Move(place, "first", other) for other in names[1:]]
            move = self._switches.get(place)
            picked = names.index(str(move.by)) if move is not None and move.by in names else 0
        if picked:
            self.done.append(Move(place, "first", names[picked]))
        return places[picked]


class Dice:
    """Orders by random priorities, lowered at a few random steps.

    With n tasks, k steps and mistakes that need d ordering constraints, one run finds such a mistake with a
    probability of at least 1 / (n k^(d-1)). Source: Burckhardt, Kothari, Musuvathi, Nagarakatte, A randomized
    scheduler with probabilistic guarantees of finding bugs, ASPLOS 2010.
    """

    def __init__(self, seed: str, depth: int, steps: int) -> None:
        self._random = random.Random(seed)
        self._priorities: dict[str, float] = {}
        steps = max(steps, depth)
        self._changes = {step: depth - n for n, step in enumerate(self._random.sample(range(1, steps + 1), depth - 1))}
        self._step = 0

    def _priority(self, name: str) -> float:
        found = self._priorities.get(name)
        if found is None:
            found = self._priorities[name] = 1_000 + self._random.random()
        return found

    def gives_way(self, name: str, others: Sequence[str]) -> bool:
        """Take one step of the running task; return whether another has the higher priority now."""
        self._step += 1
        lowered = self._changes.get(self._step)
        if lowered is not None:
            self._priorities[name] = lowered
        mine = self._priority(name)
        return any([self._priority(other) > mine for other in others])

    def first(self, names: Sequence[str]) -> int:
        """Return the place of the one with the highest priority."""
        priorities = [self._priority(name) for name in names]
        return priorities.index(max(priorities))


def event_name(event: Event) -> str:
    """Return what an event is called in every run of the same story."""
    function, about = event[3], event[4]
    task = getattr(about, "task", about)
    if isinstance(task, Task):
        return task.label
    if isinstance(about, Job):
        return about.id
    owner = getattr(getattr(function, "__self__", None), "name", None)
    return f"schedule {owner}" if isinstance(owner, str) else getattr(function, "__name__", "an event").strip("_")


def _free(events: Sequence[Event], skipped: Task | None) -> list[int]:
    """Return the places of those events whose order nothing promises, the ordinary first one first."""
    priority = events[0][1]
    if priority == WORLD:
        return [0]
    found: list[int] = []
    queues = set()
    for place, event in enumerate(events):
        about = event[4]
        if event[1] not in (priority, LAST) or (skipped is not None and about is skipped):
            continue
        if isinstance(about, Job) and about.due_ns <= about.enqueued_ns:
            if about.queue in queues:  # a queue gives out what came first
                continue
            queues.add(about.queue)
        found.append(place)
    return found


def _number(who: str) -> int:
    digits = who.partition("/")[0].rpartition("-")[2]
    return int(digits) if digits.isdigit() else -1
