"""The control of one run: decisions that follow a plan, note where the run can go another way, or draw lots."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence

from ..foundation.source_location import in_application
from ..simulation.decisions import ARGUMENT, FUNCTION, PRIORITY, Event
from ..simulation.event_loop import LAST, WORLD, EventLoop
from ..simulation.faults.kind import Passing, Strike
from ..simulation.jobs import LiveJob
from ..simulation.task import Task
from .fault_model import FaultModel
from .plan import LASTING, Move, Place, Plan

_OUTSIDE = frozenset(("delivery", "start", "ack"))
MOST_POINTS = 20_000
"""How many switches of one run are noted."""


class RunControl:
    """The decisions of one run (`Decisions`).

    Parameters:

    - `notes_seams`: True notes every seam in `seams`, with the faults that fit there. Seams in `known` are left out.
    - `notes_switches`: True lets tasks be switched, and notes in `points` where they can be.
    - `counts_visits`: True counts the visits of every seam, even if nothing is noted.
    - `changes`: returns a number that grows with everything that happens. Between two visits of a seam in which nothing
      has happened, a fault makes no difference: such seams are noted once. Default None: every seam is noted.
    - `passes`: is called at each seam. Default None: nothing is.
    """

    def __init__(
        self, loop: EventLoop, plan: Plan, model: FaultModel, *, notes_seams: bool = False,
        known: frozenset[Place] = frozenset(), notes_switches: bool = False, counts_visits: bool = False,
        changes: Callable[[], int] | None = None, passes: Callable[[], None] | None = None,
    ) -> None:  # fmt: skip
        self._loop = loop
        self._passes = passes
        self._changes = changes
        self._model = model
        self._faults: dict[Place, Move] = {}
        self._switches: dict[Place, Move] = {}
        for move in plan.moves:
            (self._switches if move.kind in ("switch", "first") else self._faults)[move.place] = move
        numbers = {_job_number(move.place) for move in plan.moves}
        self._kept = None if plan.kept is None else frozenset(plan.kept)
        self._notes_seams = notes_seams
        self._is_plain = not plan.moves
        self._known = known
        self._lots = None if plan.dice is None else RandomPriorities(*plan.dice)
        self.chooses_order = notes_switches or bool(self._switches) or self._lots is not None
        self._notes_switches = notes_switches
        # A plan about a few jobs leaves all other jobs to the ordinary way of the simulation.
        lasting = any(move.kind in LASTING for move in plan.moves)
        asks_all = notes_seams or counts_visits or self.chooses_order or -1 in numbers or lasting
        self.only_jobs = None if asks_all else frozenset(numbers)
        self.asks_deliveries = asks_all or any(move.place.where == "delivery" for move in plan.moves)
        self.asks_inside_jobs = asks_all or any(move.place.where not in _OUTSIDE for move in plan.moves)
        self.kills_workers = any(move.kind == "crash" for move in plan.moves)
        self._visits: dict[tuple[str, str], int] = {}
        self._passed: dict[str, int] = {}
        self._seen_at: dict[tuple[str, str], int] = {}
        self._going_on: list[tuple[Move, list[int]]] = []
        """The faults that have begun and go on, each with how often it strikes yet, or the instant at which it ends."""
        self._struck: dict[str, tuple[str, ...]] = {}
        """By job name that a lasting fault has struck, at which seams it has not been unharmed since."""
        self._skip: Task | None = None
        self.seams: list[tuple[Place, tuple[Move, ...]]] = []
        self.spots: list[str] = []
        """Where in the code of the application each of them is, in a run without a plan."""
        self.folded = 0
        """How many seams were not noted because nothing had happened since the last visit."""
        self.points: list[Move] = []
        """Every move that would switch tasks, in the order of the run."""
        self.enqueued: list[str] = []
        """The jobs that the story itself enqueued, and the schedules that it added."""
        self.done: list[Move] = []
        """The moves that were made, in their order."""

    # --- what the simulation asks -------------------------------------------------------------------

    def strikes(self, passing: Passing) -> Strike | None:
        if self.only_jobs is not None and passing.job_number >= 0 and passing.job_number not in self.only_jobs:
            return None
        place = self._place(passing.who, passing.seam)
        if self._passes is not None:
            self._passes()
        if self._notes_seams:
            self._note_seam(place, passing)
        if passing.runs_code and self.chooses_order:
            self._consider(place)
        move = self._faults.get(place)
        if move is None:
            strike = self._goes_on(passing) if self._going_on else None
            if self._struck or strike is not None:
                self._note_recovery(place, strike)
            return strike
        self.done.append(move)
        if move.kind in LASTING:
            assert isinstance(move.by, int)
            self._going_on.append((move, [move.by - 1 if move.kind == "fail_repeatedly" else self._loop.now + move.by]))
            self._note_recovery(place, True)
        return self._model.strike(move, passing)

    def locks(self, task: Task, where: str) -> None:
        if self.chooses_order:
            self._consider(self._place(task.label, where))

    def leaves_out(self, name: str) -> bool:
        self.enqueued.append(name)
        return self._kept is not None and name not in self._kept

    def at_line(self, where: str) -> None:
        """Note that the running task comes to a line, where another task can run first."""
        task = self._loop.current
        if self.chooses_order and task is not None:
            self._consider(self._place(task.label, where))

    def calm(self) -> None:
        """Let no fault strike from now on."""
        self._faults.clear()
        self._going_on.clear()
        self._passes, self._notes_seams = None, False

    # --- what a person asks -------------------------------------------------------------------------

    def passed_by(self, who: str) -> dict[str, int]:
        """Return how often a job (or request, or schedule) passed each seam."""
        return {where: count for (name, where), count in self._visits.items() if name == who and where != "begin"}

    def whos(self) -> set[str]:
        """Return the names of all who passed a seam, or were left out."""
        return {name for name, _ in self._visits} | set(self.enqueued)

    @property
    def unspent(self) -> bool:
        """True if an effect or a job was to fail more often in a row than it was called."""
        return any(move.kind == "fail_repeatedly" for move, _ in self._going_on)

    @property
    def in_outage(self) -> bool:
        """True if an outage lasts until now. At the end of a story, nothing could be put right after it."""
        return any(move.kind == "outage" and self._loop.now < left[0] for move, left in self._going_on)

    @property
    def not_recovered(self) -> bool:
        """True if nothing of what a lasting fault has struck was tried again after its last strike, unharmed.

        At the end of such a story the code had no chance to put anything right. If faults may use up every attempt,
        that is asked for.
        """
        return not self._model.amounts.exhausts and (self.unspent or any(self._struck.values()))

    def _note_recovery(self, place: Place, strike: object) -> None:
        name = _job_name(place.who)
        if strike is not None:
            self._struck[name] = ("start", place.where)
        elif place.where in self._struck.get(name, ()):
            self._struck[name] = ()

    # --- seams --------------------------------------------------------------------------------------

    def _note_seam(self, place: Place, passing: Passing) -> None:
        where = place.where
        about = f"{_job_name(place.who)} {where}" if where == "start" else where
        passed = self._passed[about] = self._passed.get(about, 0) + 1
        if place in self._known:
            return
        if self._changes is not None and where not in ("delivery", "firing"):
            changes = self._changes()
            if self._seen_at.get(place[:2]) == changes:
                self.folded += 1
                return
            self._seen_at[place[:2]] = changes
        moves = self._model.at(place, passing, passed)
        if moves:
            self.seams.append((place, moves))
            if self._is_plain:
                self.spots.append(in_application())

    def _goes_on(self, passing: Passing) -> Strike | None:
        """Return the fault of one that began earlier and goes on, if it strikes here."""
        for one in self._going_on:
            move, left = one
            if move.kind == "outage" and self._loop.now >= left[0]:
                continue
            if self._model.goes_on(move, passing):
                if move.kind == "fail_repeatedly":
                    left[0] -= 1
                    if not left[0]:
                        self._going_on.remove(one)
                return self._model.strike(move, passing)
        return None

    def _place(self, who: str, where: str) -> Place:
        visit = self._visits[who, where] = self._visits.get((who, where), 0) + 1
        return Place(who, where, visit)

    # --- switches -----------------------------------------------------------------------------------

    def _consider(self, place: Place) -> None:
        """Let others run first if the plan or the lots say so."""
        loop = self._loop
        task = loop.current
        if task is None or not loop.others_due:
            return
        move = Move(place, "switch")
        if self._lots is not None:
            wanted = self._lots.gives_way(task.label, [event_name(e) for e in loop.due_events()])
        else:
            wanted = place in self._switches
            if self._notes_switches and len(self.points) < MOST_POINTS:
                self.points.append(move)
        if wanted:
            self.done.append(move)
            self._skip = task
            loop.give_way()

    def chooses(self, events: Sequence[Event]) -> int:
        skipped, self._skip = self._skip, None
        places = _free(events, skipped)
        if len(places) < 2:
            return places[0] if places else 0
        names = [event_name(events[n]) for n in places]
        place = self._place(names[0], "due")
        if self._lots is not None:
            picked = self._lots.first(names)
        else:
            if self._notes_switches and len(self.points) < MOST_POINTS:
                self.points += [Move(place, "first", other) for other in names[1:]]
            move = self._switches.get(place)
            picked = names.index(str(move.by)) if move is not None and move.by in names else 0
        if picked:
            self.done.append(Move(place, "first", names[picked]))
        return places[picked]


class RandomPriorities:
    """Orders of tasks by random priorities, which are lowered at a few random steps.

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
        """Count one step of the running task; return True if another task has a higher priority now."""
        self._step += 1
        lowered = self._changes.get(self._step)
        if lowered is not None:
            self._priorities[name] = lowered
        mine = self._priority(name)
        return any([self._priority(other) > mine for other in others])

    def first(self, names: Sequence[str]) -> int:
        """Return the index of the name with the highest priority."""
        priorities = [self._priority(name) for name in names]
        return priorities.index(max(priorities))


def event_name(event: Event) -> str:
    """Return the name of an event, the same in every run of the same story."""
    function, about = event[FUNCTION], event[ARGUMENT]
    task = getattr(about, "task", about)
    if isinstance(task, Task):
        return task.label
    if isinstance(about, LiveJob):
        return about.id
    owner = getattr(getattr(function, "__self__", None), "name", None)
    return f"schedule {owner}" if isinstance(owner, str) else getattr(function, "__name__", "an event").strip("_")


def _free(events: Sequence[Event], skipped: Task | None) -> list[int]:
    """Return the indexes of the events whose order nothing promises. The one that is first without a plan is first."""
    priority = events[0][PRIORITY]
    if priority == WORLD:
        return [0]
    found: list[int] = []
    queues = set()
    for place, event in enumerate(events):
        about = event[ARGUMENT]
        if event[PRIORITY] not in (priority, LAST) or (skipped is not None and about is skipped):
            continue
        if isinstance(about, LiveJob) and about.due_ns <= about.enqueued_ns:
            if about.queue in queues:  # jobs leave a queue in the order in which they came
                continue
            queues.add(about.queue)
        found.append(place)
    return found


def _job_name(who: str) -> str:
    return who.partition("/")[0].rpartition("-")[0]


def _job_number(place: Place) -> int:
    """Return the number of the job that comes to a place. -1 if it is not one of the rig's jobs: a worker loop, say."""
    job, is_attempt, _ = place.who.partition("/")
    digits = job.rpartition("-")[2]
    is_job = is_attempt or place.where in ("delivery", "before commit")
    return int(digits) if is_job and digits.isdigit() else -1
