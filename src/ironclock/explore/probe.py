"""The probe: search a story for what breaks a law, and shrink what is found to the fewest."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass
from os import PathLike
from types import ModuleType
from typing import Any

from ..core.durations import Duration
from ..core.errors import InputError, IronClockError, RigStateError
from ..core.faults import ErrorLike
from ..core.law_runs import no_deadlock, nothing_lost
from ..core.laws import Law
from ..host.clock import entered
from ..steering.kinds import checked_model
from ..steering.lines import Lines, module_names
from ..steering.plan import Plan
from .crew import Abroad, Crew, cluster, pack, processes
from .elsewhere import Enough, OtherSeed, in_child
from .findings import Finding, Findings, tell
from .sameness import check_steady
from .saved import SavedCrew
from .search import LawRaised, Scope, Search
from .shrink import Shrinker
from .starts import other_starts
from .trial import Result, Story, Trial, checked_laws, law_name


class LawError(IronClockError):
    """A law that raised an error instead of an answer; the message says which, where, and under which faults."""


@dataclass(frozen=True)
class Progress:
    """How far a search is: runs done, the most it will take, laws found broken, runs a second, seconds left."""

    runs: int
    most: int
    broken: int
    rate: float
    left_s: float


def probe(
    story: Story, laws: Law | Iterable[Law] = (), *, runs: int | None = None, depth: int = 2,
    faults: Collection[str] | None = None, slow: Duration = "1m", delay: Duration = "1m",
    errors: Mapping[str, ErrorLike] | None = None, orders: bool = True, preemptions: int = 2,
    lines: str | ModuleType | Iterable[str | ModuleType] = (),
    durations: Mapping[str, tuple[Duration, Duration]] | None = None, starts: Collection[str] | bool = False,
    seed: int | str = 0, rig: Mapping[str, Any] | None = None, first: bool = False,
    executor: Executor | None = None, processes: int = 1, cluster: str | None = None,
    resume: str | PathLike[str] | None = None, progress: Callable[[Progress], None] | None = None,
) -> Findings:  # fmt: skip
    """Run a story again and again, each time with other faults, orders and timings, and return which laws broke.

    Parameters:

    - `story`: a function of a fresh `Rig` that sets a world up and runs it. It must do the same in each run.
    - `laws`: what must hold (see `ironclock.laws`). Where none is given: `nothing_lost()` and the story's own
      assertions. `no_deadlock()` is always among them.
    - `runs`: how many runs at most, shrinking aside. Where it is not given: every single fault, and 500 beyond
      them, or 1,000 in all where that is more.
    - `depth`: how many faults at once. 1: each single one. 2: pairs too. More: larger sets, drawn by lot.
    - `faults`: the kinds of fault, of ``"fail"``, ``"crash"``, ``"hang"``, ``"slow"``, ``"deliver_twice"``,
      ``"lose_ack"``, ``"delay"``, ``"refuse_enqueue"``, ``"fetch_early"``, ``"miss_firing"`` (all of them where it is
      not given), and ``"exhaust"``, which lets errors hit a job's last attempt. `slow` and `delay` are durations of
      theirs; `errors` says, by the name of an effect or a job, what ``"fail"`` raises.
    - `orders`: whether what is due at one instant runs in other orders too; `preemptions` is how often a job may be
      interrupted for another in them. `lines` are modules at every line of which that may happen; without them it
      may happen at seams and locks.
    - `durations`: by the name of a job or an effect, the shortest and longest time that it takes.
    - `starts`: where the story's start is moved to, of ``"clock change"``, ``"month end"``, ``"leap day"`` and
      ``"year end"``; True means all four.
    - `seed`: what is drawn by lot follows from it. `rig`: arguments of `Rig`, such as ``{"zone": "Atlantic/Faroe"}``.
    - `first`: end with the first law found broken.
    - `executor`, `processes`, `cluster`: who does the runs: any `concurrent.futures.Executor`, so many processes, or
      the Dask distributed cluster at an address. The findings are the same.
    - `resume`: a file that keeps what was run, and from which an interrupted search goes on.
    - `progress`: called with a `Progress` about ten times a second.

    An interrupt (Ctrl-C) ends the search, not the program: what was found so far is returned, and
    ``coverage.interrupted`` is set. Raises `UnsteadyStory` for a story that differs between two plain runs,
    `LawError` for a law that raises something else than `AssertionError`, `InputError` for what cannot be used.
    """
    if in_child():
        raise Enough
    if entered():
        raise RigStateError("the probe makes rigs of its own; call it outside `with rig:` and without the rig fixture")
    if not callable(story):
        raise InputError(f"the story is {story!r}; give a function of a rig")
    scope = _scope(runs, depth, preemptions, orders, starts, seed, first, dict(rig or {}))
    chosen = checked_laws(laws)
    own = not chosen
    if own:
        chosen = (nothing_lost(),)
    if not any(law_name(law, 0) == "no_deadlock" for law in chosen):
        chosen = (*chosen, no_deadlock())
    model = checked_model(faults, slow, delay, errors, durations)
    trial = Trial(story, chosen, model, dict(rig or {}), module_names(lines), own)
    if sum((executor is not None, processes != 1, cluster is not None)) > 1:
        raise InputError("give one of executor, processes and cluster")
    code = Lines.of(trial.lines)
    code.install()
    try:
        return _probe(trial, scope, executor, processes, cluster, resume, progress)
    finally:
        code.restore()


def _probe(
    trial: Trial, scope: Scope, executor: Executor | None, count: int, address: str | None,
    resume: str | PathLike[str] | None, progress: Callable[[Progress], None] | None,
) -> Findings:  # fmt: skip
    history = check_steady(trial, lambda trial, history: OtherSeed(trial, history).same())
    plain = trial.run(Plan(), notes=True)
    _must_answer(plain, Plan())
    crew = _crew(trial, executor, count, address)
    other = OtherSeed(trial, history)
    try:
        if resume is not None:
            crew = SavedCrew(
                crew, resume, {"story": history.digest(), "scope": repr((scope, trial.model, trial.lines))}
            )
        crew.known = frozenset(place for place, _ in plain.seams)
        search = Search(crew, scope, plain, _teller(progress))
        search.coverage.preemptions = scope.preemptions
        if plain.ended:
            search.coverage.notes.append(f"the story itself raises, with no fault: {plain.ended}")
        try:
            search.run()
        except KeyboardInterrupt:
            search.coverage.interrupted = True
        except LawRaised as error:
            _must_answer(Result(raised=error.words), error.plan)
        if isinstance(crew, SavedCrew) and crew.resumed:
            search.coverage.notes.append(f"{crew.resumed} of the runs were taken from {resume}")
        other.check()
        if other.note:
            search.coverage.notes.append(other.note)
    finally:
        other.drop()
        crew.close()
    return Findings(list(_told(trial, search)), search.coverage)


def _told(trial: Trial, search: Search) -> Iterable[Finding]:
    """Shrink the first plan that broke each law, and tell it."""
    errors = _error_names(trial)
    for law, failures in search.failures.items():
        plan, _ = min(failures.plans, key=lambda one: one[0].size)
        took = 0
        if plan != Plan():
            asked = trial.play(plan)
            asked[0].let_go()
            shrinker = Shrinker(trial, plan, law, asked[1].enqueued)
            try:
                plan = shrinker.shrink()
            except KeyboardInterrupt:
                plan = shrinker.plan
            took = shrinker.runs
            search.coverage.shrinking += took
        told = tell(trial, plan, law, errors, at_run=failures.at_run, shrunk_in=took, also=failures.count - 1)
        if told is not None:
            yield told
        else:
            search.coverage.notes.append(
                f"{law} was broken in run {failures.at_run}, and not when that was repeated: a run with a fault leaves "
                "something behind for the next one, a module's global or a file; make it afresh in the story"
            )


def _scope(
    runs: int | None, depth: int, preemptions: int, orders: bool, starts: Collection[str] | bool, seed: object,
    first: bool, world: dict[str, Any],
) -> Scope:  # fmt: skip
    for name, value, least in (("runs", runs, 1), ("depth", depth, 0), ("preemptions", preemptions, 0)):
        if value is None and name == "runs":
            continue
        if isinstance(value, bool) or not isinstance(value, int) or value < least:
            raise InputError(f"{name} is {value!r}; give a whole number of at least {least}")
    return Scope(runs, depth, preemptions, orders, other_starts(starts, world), seed, first)


def _crew(trial: Trial, executor: Executor | None, count: int, address: str | None) -> Crew:
    if address is not None:
        return cluster(trial, address)
    if executor is not None:
        if not hasattr(executor, "submit"):
            raise InputError(f"executor is {executor!r}; give a concurrent.futures.Executor")
        ahead = 2 * (getattr(executor, "_max_workers", None) or 4)
        return Abroad(trial, pack(trial), executor, ahead)
    return processes(trial, count)


def _error_names(trial: Trial) -> dict[str, str]:
    """Return the errors that were asked for by import path, as far as they have one."""
    names = {}
    for about, error in trial.model.errors.items():
        kind = error if isinstance(error, type) else type(error)
        names[about] = f"{kind.__module__}:{kind.__qualname__}"
    return names


def _must_answer(result: Result, plan: Plan) -> None:
    if result.raised:
        when = " and ".join(plan.describe()) or "nothing goes wrong"
        raise LawError(f"{result.raised}; a law returns its breaches, or raises AssertionError. It was when {when}")


def _teller(progress: Callable[[Progress], None] | None) -> Callable[[int, int, int], None]:
    if progress is None:
        return lambda runs, most, broken: None
    began, last = time.monotonic(), [0.0]

    def tell(runs: int, most: int, broken: int) -> None:
        now = time.monotonic()
        if now - last[0] >= 0.1 or runs == most:
            last[0] = now
            rate = runs / max(now - began, 1e-6)
            progress(Progress(runs, most, broken, rate, max(0, most - runs) / rate))

    return tell
