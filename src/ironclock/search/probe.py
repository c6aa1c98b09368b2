"""The probe: search a story for faults, orders and timings that break a law, and shrink what is found."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from os import PathLike
from types import ModuleType
from typing import Any

from ..errors import InputError, LawError, RigStateError
from ..foundation.durations import Duration, spell
from ..interpreter.border.call_seams import checked_seams
from ..interpreter.installation import entered
from ..interpreter.patching.clock_functions import REAL
from ..laws.job_laws import no_deadlock, nothing_lost
from ..laws.law import Law
from ..schedules.schedule import Schedule
from ..simulation.faults.kind import ErrorLike
from .determinism import check_deterministic
from .fault_model import IN_A_ROW, checked_model
from .findings import Finding, Findings, finding_of
from .interrupts import interrupts
from .line_switches import Lines, module_names
from .other_process import OnlyImported, OtherSeed, in_child
from .other_starts import checked_kinds, other_starts
from .plan import Plan
from .runners import RemoteRunner, Runner, cluster, pack, processes
from .runs import RunResult, SearchedStory, Story, checked_laws, law_name
from .saved_runs import SavedRunner
from .search import LawRaised, Scope, Search
from .shrinking import Shrinker


@dataclass(frozen=True)
class Progress:
    """How far a search is. `probe` gives it to its `progress`."""

    runs: int
    """How many runs are done."""
    most: int
    """How many runs it will make at most."""
    broken: int
    """How many laws were found broken."""
    rate: float
    """Runs a second."""
    left_s: float
    """The seconds left, at that rate."""


def probe(
    story: Story, laws: Law | Iterable[Law] = (), *, runs: int | None = None, depth: int = 2,
    faults: Collection[str] | None = None, slow: Duration = "1m", delay: Duration = "1m",
    outage: Duration = "10m", in_a_row: int | Collection[int] = IN_A_ROW,
    errors: Mapping[str, ErrorLike] | None = None, orders: bool = True, preemptions: int = 2,
    seams: str | Collection[str] = (), lines: str | ModuleType | Iterable[str | ModuleType] = (),
    durations: Mapping[str, tuple[Duration, Duration]] | None = None, starts: Collection[str] | bool = False,
    seed: int | str = 0, rig: Mapping[str, Any] | None = None, first: bool = False,
    executor: Executor | None = None, processes: int = 1, cluster: str | None = None,
    resume: str | PathLike[str] | None = None, progress: Callable[[Progress], None] | None = None,
) -> Findings:  # fmt: skip
    """Run a story again and again, each time with other faults, orders and timings, and return which laws broke.

    Parameters:

    - `story`: a function that gets a new `Rig`, builds a world in it and runs it. It must do the same in each run.
    - `laws`: what must hold (`ironclock.laws`). Default: `nothing_lost()` and the assertions of the story.
      `no_deadlock()` is always one of them.
    - `runs`: how many runs at most, without shrinking. Default None: every single fault and 500 more, or 1,000 if that
      is more.
    - `depth`: how many faults at once. 1: each single fault. 2 (the default): pairs too. More: larger sets, drawn by
      lot, also at seams that only other faults lead to.
    - `faults`: the kinds of fault, of ``"fail"``, ``"fail_repeatedly"``, ``"outage"``, ``"crash"``, ``"hang"``,
      ``"slow"``, ``"deliver_twice"``, ``"lose_ack"``, ``"delay"``, ``"refuse_enqueue"``, ``"fetch_early"``,
      ``"miss_firing"``, ``"other_version"``. Default None: all of these. ``"exhaust"`` lets errors strike the last
      attempt of a job as well.
    - `slow`, `delay`, `outage`: the durations of those faults. Default one minute, one minute, ten minutes.
    - `in_a_row`: how often in a row ``"fail_repeatedly"`` lets an effect or a job fail, one number or several. Default
      2, 3, 5 and 10.
    - `errors`: by the name of an effect or a job, what ``"fail"`` raises. Default: an error that fits.
    - `orders`: True (the default) runs what is due at one instant in other orders too.
    - `preemptions`: how often a job can be interrupted for another one in these orders. Default 2.
    - `seams`: kinds of real calls at which faults are placed as well: ``"sql"``, ``"redis"``, ``"files"``,
      ``"http"``, ``"sockets"``, as in `Rig`. Default: none.
    - `lines`: modules at every line of which a job can be interrupted. Default: only at seams and locks.
    - `durations`: by the name of a job or an effect, a pair of the shortest and longest time that it takes.
    - `starts`: to which events the start of the story is moved, of ``"clock change"``, ``"month end"``, ``"leap day"``
      and ``"year end"``. True: all four. Default False: none.
    - `seed`: everything that is drawn by lot follows from it. Default 0.
    - `rig`: arguments of `Rig`, such as ``{"zone": "Atlantic/Faroe"}``.
    - `first`: True ends with the first law that is broken. Default False.
    - `executor`, `processes`, `cluster`: who does the runs: a `concurrent.futures.Executor`, a number of processes, or
      the Dask distributed cluster at an address. The findings are the same. Default: this process.
    - `resume`: a file that saves the runs, and from which an interrupted search continues. Default None.
    - `progress`: called with a `Progress` about ten times a second. Default None.

    An interrupt (Ctrl-C) ends the search and not the program. What was found so far is returned, and
    ``coverage.interrupted`` is True.

    Raises `NotDeterministic` if the story differs between two runs, `LawError` if a law raises anything but
    `AssertionError`, `InputError` for a value that cannot be used, and `RigStateError` inside a rig.

    Example::

        def story(rig):
            bank = rig.service(ic.services.Ledger("bank", idempotent=True))

            def charge_fare(booking):
                bank.post("passenger", "fares", 340, key=booking)

            charge = rig.job(charge_fare, retry=ic.Retry(attempts=3))
            rig.enqueue(charge.call("B-1"))
            rig.run_dry()

        ic.probe(story, [ic.laws.once_per_key("bank.post")]).check()
    """
    if in_child():
        raise OnlyImported
    if entered():
        raise RigStateError(
            "the probe makes its own rigs, and a rig is entered; call it outside `with rig:` and without the fixture"
        )
    if not callable(story):
        raise InputError(f"the story is {story!r}; give a function that gets a rig")
    world = dict(rig or {})
    chosen_seams = checked_seams(seams) | checked_seams(world.get("seams", ()))
    if chosen_seams:
        world["seams"] = tuple(sorted(chosen_seams))
    kinds = checked_kinds(starts)
    scope = _scope(runs, depth, preemptions, orders, seed, first)
    chosen = checked_laws(laws)
    own = not chosen
    if own:
        chosen = (nothing_lost(),)
    if not any(law_name(law, 0) == "no_deadlock" for law in chosen):
        chosen = (*chosen, no_deadlock())
    model = checked_model(faults, slow, delay, errors, durations, outage, in_a_row)
    searched = SearchedStory(story, chosen, model, world, module_names(lines), own)
    if sum((executor is not None, processes != 1, cluster is not None)) > 1:
        raise InputError("more than one of executor, processes and cluster is given; give one of them")
    code = Lines.of(searched.lines)
    code.install()
    try:
        with interrupts.between_runs():
            return _probe(searched, scope, kinds, executor, processes, cluster, resume, progress)
    finally:
        code.restore()


_LEAST_LIMIT_S = 5.0
_LONGER = 20
# A run is given up after so many times what the story takes, in real time.


def _probe(
    searched: SearchedStory, scope: Scope, starts: tuple[str, ...], executor: Executor | None, count: int,
    address: str | None, resume: str | PathLike[str] | None, progress: Callable[[Progress], None] | None,
) -> Findings:  # fmt: skip
    history = check_deterministic(searched, lambda searched, history: OtherSeed(searched, history).same())
    began = REAL["monotonic"]()
    plain = searched.run(Plan(), notes_seams=True)
    searched = replace(searched, longest_s=max(_LEAST_LIMIT_S, _LONGER * (REAL["monotonic"]() - began)))
    _must_answer(plain, Plan())
    _must_end(plain)
    if starts:
        scope = replace(scope, starts=other_starts(starts, dict(searched.world), _schedules(searched)))
    runner = _runner(searched, executor, count, address)
    other = OtherSeed(searched, history)
    try:
        if plain.uses_servers:
            other.check()  # not beside the search: both would write to one server
        if resume is not None:
            runner = SavedRunner(
                runner, resume, {"story": history.digest(), "scope": repr((scope, searched.model, searched.lines))}
            )
        runner.known = frozenset(place for place, _ in plain.seams)
        search = Search(runner, scope, plain, _teller(progress))
        search.coverage.preemptions = scope.preemptions
        search.coverage.notes += _notes(searched, plain)
        try:
            search.run()
        except KeyboardInterrupt:
            search.coverage.interrupted = True
        except LawRaised as error:
            _must_answer(RunResult(raised=error.words), error.plan)
        if isinstance(runner, SavedRunner) and runner.resumed:
            search.coverage.notes.append(f"{runner.resumed} of the runs were taken from {resume}")
        other.check()
        if other.note:
            search.coverage.notes.append(other.note)
    finally:
        other.drop()
        runner.close()
    return Findings(list(_told(searched, search)), search.coverage)


def _told(searched: SearchedStory, search: Search) -> Iterable[Finding]:
    """Shrink the smallest plan that broke each law, and yield what it shows."""
    for law in search.failures:
        found = told_failures(searched, search, law)
        if found is not None:
            yield found


def told_failures(searched: SearchedStory, search: Search, law: str, shrinks: bool = True) -> Finding | None:
    """Return what a search shows of a law that it found broken, after shrinking. None if it holds when the run is
    repeated: a note in the coverage says so. `shrinks` False: without shrinking."""
    failures = search.failures[law]
    plan, took = failures.smallest, 0
    if shrinks and plan != Plan():
        with searched.playing(plan) as played:
            enqueued = played.control.enqueued
        shrinker = Shrinker(searched, plan, law, enqueued)
        try:
            plan = shrinker.shrink()
        except KeyboardInterrupt:
            plan = shrinker.plan
        took = shrinker.runs
        search.coverage.shrinking += took
    told = finding_of(
        searched, plan, law, _error_names(searched), at_run=failures.at_run, shrunk_in=took, also=failures.count - 1
    )
    if told is None:
        search.coverage.notes.append(
            f"{law} was broken in run {failures.at_run}, and not when that run was repeated: a run with a fault "
            "leaves something behind for the next one, a global of a module or a file; make it new in the story"
        )
    return told


def _schedules(searched: SearchedStory) -> list[Schedule]:
    """Return the schedules that the story has."""
    with searched.playing(Plan()) as played:
        return [scheduled.schedule for scheduled in played.rig.schedules]


def _scope(
    runs: int | None, depth: int, preemptions: int, orders: bool, seed: object, first: bool
) -> Scope:  # fmt: skip
    for name, value, least in (("runs", runs, 1), ("depth", depth, 0), ("preemptions", preemptions, 0)):
        if value is None and name == "runs":
            continue
        if isinstance(value, bool) or not isinstance(value, int) or value < least:
            raise InputError(f"{name} is {value!r}; give a whole number, at least {least}")
    return Scope(runs, depth, preemptions, orders, (), seed, first)


def _runner(searched: SearchedStory, executor: Executor | None, count: int, address: str | None) -> Runner:
    if address is not None:
        return cluster(searched, address)
    if executor is not None:
        if not hasattr(executor, "submit"):
            raise InputError(f"executor is {executor!r}; give a concurrent.futures.Executor")
        ahead = 2 * (getattr(executor, "_max_workers", None) or 4)
        return RemoteRunner(searched, pack(searched), executor, ahead)
    return processes(searched, count)


def _error_names(searched: SearchedStory) -> dict[str, str]:
    """Return the import paths of the errors that were given."""
    names = {}
    for about, error in searched.model.errors.items():
        kind = error if isinstance(error, type) else type(error)
        names[about] = f"{kind.__module__}:{kind.__qualname__}"
    return names


def _notes(searched: SearchedStory, plain: RunResult) -> Iterable[str]:
    """Yield what a reader of the findings must know of the story itself."""
    if plain.ended:
        yield f"the story itself raises an error, without a fault: {plain.ended}"
    if not plain.seams:
        yield "the story passes no seam: no fault was tried; let it run a job, or give seams= for its real calls"
    if plain.failed_jobs:
        yield f"without a fault already: {', '.join(plain.failed_jobs)}"
    model = searched.model
    amounts, kinds = model.amounts, {kind.name for kind in model.kinds}
    tried = {"slow": amounts.slow_ns, "delay": amounts.delay_ns, "outage": amounts.outage_ns}
    longest = max((ns for kind, ns in tried.items() if kind in kinds), default=0)
    for number, law in enumerate(searched.laws):
        limit = getattr(law, "limit_ns", None)
        if limit is not None and longest and limit > 2 * longest:
            yield (
                f"{law_name(law, number)} allows {spell(limit)}, and the longest delay that was tried is "
                f"{spell(longest)}: give slow=, delay= or outage= of about {spell(limit // 2)} to come near it"
            )


def _must_end(plain: RunResult) -> None:
    """Raise `InputError` if the story raises an error before it comes to any seam: nothing would be searched."""
    if plain.ended and not plain.seams and not plain.ended.startswith("AssertionError"):
        raise InputError(
            f"the story raises an error although nothing goes wrong, and before it comes to a seam: {plain.ended}; let "
            "it run to its end without faults"
        )


def _must_answer(result: RunResult, plan: Plan) -> None:
    if result.raised:
        when = " and ".join(plan.describe()) or "nothing goes wrong"
        raise LawError(
            f"{result.raised}; a law must return its breaches, or raise AssertionError. It happened when {when}"
        )


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
