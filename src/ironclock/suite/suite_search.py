"""The search of a suite: each test that has passed is run again under each single fault that fits its seams."""

from __future__ import annotations

import hashlib
import shlex
from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from types import CodeType
from zlib import crc32

import pytest

from ..errors import IronClockError, NotDeterministic
from ..history.history import History
from ..history.records import plain
from ..interpreter.border.watchdog import TOO_LONG
from ..interpreter.patching.clock_functions import REAL
from ..laws.key_laws import IDEMPOTENT
from ..laws.law import Law, StatedLaw, name_of_law
from ..rig import Rig, simulation_of
from ..search.determinism import told_entry
from ..search.ends import Ends
from ..search.fault_model import FaultModel
from ..search.findings import Finding
from ..search.interrupts import interrupts
from ..search.plan import Move, Plan
from ..search.probe import told_failures
from ..search.replay_token import Token, read
from ..search.runners import Runner, RunRequest
from ..search.runs import Played, RunResult, SearchedStory, leftovers_untold, told_error
from ..search.search import LawRaised, Scope, Search
from .budget import Budget
from .fault_coverage import subjects_of
from .ran_code import ProjectModules, code_digest, own_files
from .repeated_test import NoRig, RepeatedTest, history_marks, is_over
from .search_cache import BrokenInTest, SearchCache, SearchedTest
from .test_laws import TestLaws

MOST_RIGS = 4
"""How many rigs of one test are searched."""

LONGEST_RUN_S = 1.0
"""After how many real seconds, at least, a run is given up: a test can wait for something that never comes."""

_SHRINKS = 4
# The part of a test's time that is kept for repeating what was found, where a run takes long.

_LONGEST_PLAIN_S = 120.0  # the run without a fault before a replay
_FAULTS_AN_ENTRY = 3
# About how many faults fit, for each entry of a history.

_LONGER = 5
# How many times longer than the test itself a run can take.


@dataclass
class PassedTest:
    """A test that has passed, with what is needed to search it."""

    item: pytest.Item
    marks: list[array[int]]
    """The marks of the history of each of its rigs."""
    seconds: float
    """How long its call took, in real time."""
    codes: set[CodeType]
    """The functions of the project that it called."""
    laws: TestLaws
    seams: frozenset[str] = frozenset()
    """The kinds of real calls to the databases of its rigs, at which faults are placed as well."""


class SuiteSearch:
    """Searches the tests of one process.

    Parameters: `model` is what can go wrong; `cache` has what was found before; `tell` is called after each run with
    the number of the test, the number of tests, the runs so far, and the broken laws so far; `keep` is called with what
    each test came to.
    """

    def __init__(
        self, model: FaultModel, budget: Budget, cache: SearchCache, tell: Callable[[int, int, int, int], None],
        keep: Callable[[SearchedTest], None],
    ) -> None:  # fmt: skip
        self._model = model
        self._budget = budget
        self._cache = cache
        self._tell = tell
        self._keep = keep
        self._causes: set[tuple[str, str]] = set()  # laws with their causes, of which a shrunk story is known
        self._runs = 0
        self.interrupted = False

    def run(self, passed: Sequence[PassedTest], left_out: Mapping[str, str]) -> None:
        """Search tests. `left_out`: the tests that cannot be searched, with the reason."""
        for test, reason in left_out.items():
            self._keep(SearchedTest(test, left_out=reason))
        modules = ProjectModules()
        todo: list[tuple[PassedTest, SearchedTest]] = []
        for one in passed:
            key = self._key(one, modules)
            known = self._cache.load(one.item.nodeid, key)
            new = SearchedTest(one.item.nodeid, key)
            if known is not None:
                self._causes.update((broken.law, broken.cause) for broken in known.broken)
                new.go_on(known)
            if known is not None and known.is_complete:
                self._keep(known)
            else:
                todo.append((one, new))
        # A guess: the number of faults grows with the length of the history.
        runs_needed = [2.0 + _FAULTS_AN_ENTRY * sum(map(len, one.marks)) for one, _ in todo]
        needed = [count * max(one.seconds, 0.002) for count, (one, _) in zip(runs_needed, todo, strict=True)]
        last: pytest.Item | None = None
        try:
            with leftovers_untold(), interrupts.between_runs():
                for number, (one, found) in enumerate(todo):
                    seconds, runs = self._budget.share(needed[number:], runs_needed[number:])
                    if last is not None:
                        _tear_down(last, one.item)
                    last = one.item
                    try:
                        self._search(one, found, seconds, runs, partial(self._tell_run, number + 1, len(todo)))
                    finally:
                        self._keep(found)
                    self._budget.spend(found.runs)
                    if not found.left_out:
                        self._cache.save(found)
        except KeyboardInterrupt:
            self.interrupted = True
        finally:
            if last is not None:
                _tear_down(last, None)

    def _tell_run(self, number: int, most: int) -> None:
        self._runs += 1
        self._tell(number, most, self._runs, len(self._causes))

    def _key(self, one: PassedTest, modules: ProjectModules) -> str:
        """Return the digest of all that the search of a test depends on."""
        files = [str(one.item.path), *(code.co_filename for code in one.codes), *_conftests(one.item)]
        held = (
            own_files(), one.item.nodeid, [marks.tobytes() for marks in one.marks], self._model_key(),
            [_law_key(law) for law in one.laws.all_given], one.laws.with_default, one.laws.asserts, sorted(one.seams),
            modules.digest(files, one.codes),
        )  # fmt: skip
        return hashlib.sha256(repr(held).encode()).hexdigest()

    def _model_key(self) -> str:
        return f"{plain(replace(self._model, kinds=()))} {sorted(kind.name for kind in self._model.kinds)}"

    def _search(
        self, one: PassedTest, found: SearchedTest, seconds: float | None, runs: int | None, tell: Callable[[], None]
    ) -> None:
        """Search one test, all of its rigs."""
        began = REAL["monotonic"]()
        try:
            for number, marks in enumerate(one.marks[:MOST_RIGS], 1):
                if len(marks):
                    until = None if seconds is None else began + seconds
                    left = None if runs is None else max(0, runs - found.runs)
                    _SearchOfRig(self._model, self._causes, one, number, marks, found, tell).run(until, left)
        except NotDeterministic as error:
            found.left_out = str(error)
        except NoRig:
            found.left_out = "its rig is made once for several tests; give its fixture the scope of one test"
        except LawRaised as error:
            found.left_out = f"{error.words}; a law must return its breaches"
        except IronClockError as error:
            found.left_out = f"{type(error).__name__}: {error}"
        found.seconds += REAL["monotonic"]() - began
        if len(one.marks) > MOST_RIGS:
            found.notes.append(f"only the first {MOST_RIGS} of its {len(one.marks)} rigs were searched")


class _SearchOfRig:
    """The search of one rig of a test. What it finds goes into `found`."""

    def __init__(
        self, model: FaultModel, causes: set[tuple[str, str]], one: PassedTest, number: int, marks: array[int],
        found: SearchedTest, tell: Callable[[], None],
    ) -> None:  # fmt: skip
        self._one = one
        self._number = number
        self._marks = marks
        self._causes = causes
        self._found = found
        self._tell_run = tell
        self._player = RepeatedTest(one.item, number, max(LONGEST_RUN_S, _LONGER * one.seconds))
        world = {"seams": tuple(sorted(one.seams))} if one.seams else {}
        self._ends = Ends(partial(is_over, one.item), one.laws.ends_alike) if one.laws.compares_ends else None
        self._searched = SearchedStory(
            _no_story, (), model, world, asserts=one.laws.asserts, player=self._player, ends=self._ends
        )
        self._jobs: dict[str, list[str]] = {}

    def run(self, until: float | None, runs: int | None) -> None:
        """Search until an instant of the real monotonic clock, or so many runs."""
        found = self._found
        plain_run = self._play()
        found.runs += 1
        self._tell_run()
        if not (self._searched.laws or self._searched.asserts or (self._ends is not None and self._ends.are_known)):
            return
        if until is not None and self._ends is not None and self._ends.are_known:
            until -= (until - REAL["monotonic"]()) / _SHRINKS  # what is found is repeated, and that takes long as well
        runner = _TimedRunner(self._searched, until, self._note)
        runner.known = frozenset(place for place, _ in plain_run.seams)
        # The plain run counts as one; at least one fault is tried.
        scope = Scope(None if runs is None else max(2, runs), depth=1, orders=False, tried_before=found.tried_before)
        search = Search(runner, scope, plain_run, lambda runs, most, broken: None)
        interrupted = False
        try:
            search.run()
        except KeyboardInterrupt:
            interrupted = True  # what was found so far is told
        found.fitting += search.coverage.fitting
        found.tried += search.coverage.tried
        found.ended_early += search.coverage.ended_early
        found.in_outage += search.coverage.in_outage + search.coverage.not_recovered
        for law in search.failures:
            self._tell(search, law)
        if interrupted:
            raise KeyboardInterrupt

    def _play(self) -> RunResult:
        """Run the test without a fault: is it as it was, which seams does it pass, which laws can be asked of it?"""
        with self._searched.playing(Plan(), notes_seams=True) as played:
            history = played.rig.history
            marks, difference = self._compared(played, self._marks)
            chosen = list(self._one.laws.of(keyed_effects(played.rig)))
            asked = replace(self._searched, laws=tuple(chosen))
            broken, raised = asked.judge(played.rig, Plan())
            if raised:
                raise LawRaised(Plan(), raised)
            self._jobs = _effects_by_job(history)
            if self._ends is not None and not difference:
                self._ends.learn(played.rig, played.control)
            seen = RunResult(
                seams=tuple(played.control.seams), folded=played.control.folded, spots=tuple(played.control.spots)
            )
        if difference:
            # The suite's own run has drawn other lots, UUIDs for example. The runs of the search all draw the same.
            with self._searched.playing(Plan(), notes_seams=self._ends is not None) as played:
                _, difference = self._compared(played, marks)
                if self._ends is not None and not difference:
                    self._ends.learn(played.rig, played.control)
            self._found.runs += 1
        if difference:
            raise NotDeterministic(f"it differs between two runs: {difference}")
        anyway = {one.law for one in broken}
        for name in sorted(anyway):
            self._found.notes.append(f"{name} is broken without a fault already, and was left out")
        kept = tuple(law for name, law in zip(asked.law_names, chosen, strict=True) if name not in anyway)
        self._searched = replace(self._searched, laws=kept)
        return seen

    def _compared(self, played: Played, before: array[int]) -> tuple[array[int], str]:
        """Return the marks of a run without a fault, and in words where it begins to differ from another one."""
        if played.ended is not None:
            raise NotDeterministic(f"it fails if it is run again: {told_error(played.ended)}")
        marks = history_marks(played.rig.history, self._one.item)
        return marks, _difference(before, marks, played.rig.history)

    def _note(self, plan: Plan, result: RunResult) -> None:
        move = plan.moves[0]
        self._found.runs += 1
        self._tell_run()
        self._found.too_long += TOO_LONG in result.ended
        if not (result.in_outage or result.not_recovered):
            known = dict.fromkeys(self._found.cells)
            for cell in subjects_of(move, self._jobs):
                known[(*cell, bool(result.broken))] = None
            self._found.cells = list(known)

    def _tell(self, search: Search, law: str) -> None:
        """Add what a broken law shows, shrunk if it is the first time that this cause breaks it."""
        cause = cause_of(search.failures[law].smallest.moves)
        if any((one.law, one.cause) == (law, cause) for one in self._found.broken):
            return  # an earlier session has found it as well
        is_new = (law, cause) not in self._causes
        finding = told_failures(self._searched, search, law, shrinks=is_new)
        if finding is None:
            self._found.notes.append(search.coverage.notes[-1])
            return
        self._causes.add((law, cause))
        self._found.shrinking += finding.shrunk_in
        token = replace(read(finding.token), test=test_digest(self._one.item.nodeid), rig=self._number).text()
        repeat = f"pytest {shlex.quote(self._one.item.nodeid)} --ironclock-replay {token}"
        self._found.broken.append(BrokenInTest(law, cause, told_finding(finding), repeat, is_new))


def ends_without_fault(item: pytest.Item, token: Token, asked: TestLaws) -> Ends | None:
    """Run a test without a fault; return what compares the end of a replay with its end. None if nothing does."""
    if not asked.compares_ends or len(token.plan.moves) != 1:
        return None
    ends = Ends(partial(is_over, item), asked.ends_alike)
    world = {"seams": token.seams} if token.seams else {}
    player = RepeatedTest(item, token.rig, _LONGEST_PLAIN_S)
    story = SearchedStory(_no_story, (), FaultModel(), world, player=player, ends=ends)
    try:
        with story.playing(Plan(), notes_seams=True) as played:
            if played.ended is None:
                ends.learn(played.rig, played.control)
    except (NoRig, IronClockError):
        return None
    return ends if ends.are_known else None


class _TimedRunner(Runner):
    """Does runs in this process until an instant of the real monotonic clock. `note` is called with each result."""

    def __init__(self, story: SearchedStory, until: float | None, note: Callable[[Plan, RunResult], None]) -> None:
        super().__init__(story)
        self._until = until
        self._note = note
        self._ran = False

    def map(self, requests: Iterable[RunRequest]) -> Iterator[tuple[RunRequest, RunResult]]:
        if self._is_over():
            return
        for request, result in super().map(requests):
            self._ran = True
            self._note(request.plan, result)
            yield request, result
            if self._is_over():
                return

    def _is_over(self) -> bool:
        """Return True if the time is up. At least one run is made."""
        return self._ran and self._until is not None and bool(REAL["monotonic"]() >= self._until)


def _no_story(_: Rig) -> None:
    raise AssertionError("a test plays in its own way")


def test_digest(nodeid: str) -> str:
    """Return a short digest of the name of a test, for a token."""
    return f"{crc32(nodeid.encode()):08x}"


def cause_of(moves: Sequence[Move]) -> str:
    """Return what goes wrong in a plan, without the numbers of jobs and attempts."""
    causes = []
    for move in moves:
        who = move.place.who.partition("/")[0]
        job = who if who.startswith(("schedule ", "request ")) else who.rpartition("-")[0] or who
        causes.append(f"{job}, {move.place.where}: {move.kind}")
    return "; ".join(causes)


def told_finding(finding: Finding) -> str:
    """Return a finding in words, without its token, which stands in the command that repeats it."""
    return "\n".join(line for line in str(finding).splitlines() if not line.startswith("  replay: "))


def keyed_effects(rig: Rig) -> list[str]:
    """Return the names of the effects of a rig whose keys say what was done."""
    simulation = simulation_of(rig)
    found: dict[str, None] = {}
    for effect in simulation.effects:
        service = effect.name.partition(".")[0]
        is_deed = effect.key is not None and service not in simulation.effects.addressed
        if is_deed and effect.data.get("method") not in IDEMPOTENT:
            found[effect.name] = None
    return list(found)


def _effects_by_job(history: History) -> dict[str, list[str]]:
    """Return, for each job type of which there are jobs, the effects that they do."""
    found: dict[str, dict[str, None]] = {}
    for record in history.records():
        if record.job is not None and record.what in ("enqueued", "effect"):
            effects = found.setdefault(record.job.type.name, {})
            if record.what == "effect":
                effects[record.detail.name] = None
    return {job: list(effects) for job, effects in found.items()}


def _difference(before: array[int], now: array[int], history: History) -> str:
    """Return in words where two runs begin to differ. Empty if they do not."""
    for number, (one, other) in enumerate(zip(before, now, strict=False)):
        if one != other:
            return (
                f"entry {number + 1} is {told_entry(history, number)!r} in the second run, and was another in the first"
            )
    if len(before) > len(now):
        return f"the second run ends after {len(now)} entries, and the first had {len(before)}"
    if len(now) > len(before):
        more = told_entry(history, len(before))
        return f"the second run has an entry {len(before) + 1}, {more!r}, and the first has ended before it"
    return ""


def _conftests(item: pytest.Item) -> list[str]:
    """Return the files of fixtures that a test can use."""
    files = [str(getattr(plugin, "__file__", "") or "") for plugin in item.config.pluginmanager.get_plugins()]
    return [file for file in files if Path(file).name == "conftest.py" and Path(file).parent in item.path.parents]


def _tear_down(item: pytest.Item, following: pytest.Item | None) -> None:
    """End the fixtures of wider scopes that a test has set up and the following one does not use."""
    vars(item.session)["_setupstate"].teardown_exact(following)


def _law_key(law: Law) -> str:
    if isinstance(law, StatedLaw):
        return str(plain(law))
    code = getattr(law, "__code__", None)
    return f"{name_of_law(law)} {'' if code is None else code_digest(code)}"
