"""Asks the tests of one process: which changes of what they touch would they notice?"""

from __future__ import annotations

import contextlib
import gc
import hashlib
import json
import warnings
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from types import CodeType

import pytest

from ...errors import IronClockError
from ...interpreter.patching.clock_functions import REAL
from ...rig import Rig
from ...search.interrupts import interrupts
from ...search.runs import leftovers_untold
from ..budget import Budget
from ..ran_code import ProjectModules, RanCode, own_files
from ..search_cache import file_of, write_whole
from .added_tests import AddedTest
from .change import Change
from .code_changes import CodeChange, Source, sources_of
from .outcomes import Asked, Tried
from .trial import Ran, Trials, is_of_change
from .world_changes import changes_of_world

LONGEST_RUN_S = 2.0
"""After how many real seconds, at least, a run is given up: a change can let a test wait for ever."""

_LONGER = 8
# How many times longer than the test itself a run can take.

_MOST_ADDED = 20
# For how many changes a test that notices them is looked for.

_ADDED_SHARE = 0.2
# The share of the budget that is kept for that.

_BUILT_UPON = 4
# How many tests are tried as the one to build upon.

_TRIES_SHARE = 0.5
# The share of the budget that is kept for trying changes: two runs of each test tell what it touches.


@dataclass
class PassedTest:
    """A test that has passed, and that uses a rig. `seconds`: how long its call took, in real time."""

    item: pytest.Item
    seconds: float


@dataclass
class _Test:
    """A test that can be asked: what it does without a change, and what earlier sessions know of it."""

    passed: PassedTest
    trials: Trials
    plain: Ran
    key: str
    known: dict[str, tuple[str, str]]
    """By change, what became of it in an earlier session, and how it was noticed."""
    answers: dict[str, tuple[str, str]] = field(default_factory=dict)

    @property
    def name(self) -> str:
        """Its node id."""
        return self.passed.item.nodeid


@dataclass
class _Place:
    """A change, with the tests that touch its place."""

    change: Change
    tests: list[_Test] = field(default_factory=list)


class Noticer:
    """Asks the tests of one process.

    Parameters: `modules` are the names of the modules whose code is changed. `folder` is where answers are kept, None:
    nowhere. `tell` is called with the number of the change, the number of changes, and how many were noticed.
    """

    def __init__(
        self, budget: Budget, modules: Sequence[str], folder: Path | None, tell: Callable[[int, int, int], None]
    ) -> None:
        self._budget = budget
        self._modules = modules
        self._folder = folder
        self._tell = tell
        self._places: dict[tuple[str, str], _Place] = {}
        self._tests: list[_Test] = []
        self._project = ProjectModules()
        self._sources: dict[str, Source] = {}
        self._of_code: dict[str, list[tuple[int, Change]]] = {}  # by file, the changes of each line
        self.asked = Asked()
        """What came of it."""
        self.interrupted = False

    def run(self, passed: Iterable[PassedTest], left_out: Mapping[str, str]) -> None:
        """Ask tests. `left_out`: the tests that cannot be asked, with the reason."""
        began = REAL["monotonic"]()
        self.asked.left_out.update(left_out)
        last: pytest.Item | None = None
        try:
            with leftovers_untold(), _without_warnings(), interrupts.between_runs():
                for one in sorted(passed, key=lambda test: test.seconds):
                    if self._tests and self._is_over(_TRIES_SHARE):
                        self.asked.left_out[one.item.nodeid] = "the budget was used up"
                        continue
                    last = one.item
                    self._get_to_know(one)
                self._try_all()
        except KeyboardInterrupt:
            self.interrupted = True
        finally:
            self._keep_answers()
            if last is not None:
                vars(last.session)["_setupstate"].teardown_exact(None)
            self.asked.tests = len(self._tests)
            self.asked.seconds = REAL["monotonic"]() - began

    # --- what a test touches ------------------------------------------------------------------------

    def _get_to_know(self, one: PassedTest) -> None:
        """Run a test twice without a change, and note what it touches."""
        trials = Trials(one.item, max(LONGEST_RUN_S, _LONGER * one.seconds))
        changes: dict[tuple[str, str], Change] = {}
        lines: set[tuple[str, int]] = set()
        codes: set[CodeType] = set()

        def read(rig: Rig) -> None:
            changes.update(((change.text, change.after), change) for change in changes_of_world(rig))

        try:
            _turn_to(one.item)
            with RanCode() as ran:
                first = trials.run(read=read)
            codes = ran.codes
            sources = sources_of(self._modules, self._sources)
            with ExitStack() as stack:
                for source in sources:
                    stack.enter_context(source.noting_lines(lines.add))
                plain = trials.run()
        except IronClockError as error:
            self.asked.left_out[one.item.nodeid] = f"{type(error).__name__}: {error}"
            return
        self.asked.runs += 2
        if plain.rigs != first.rigs:
            self.asked.left_out[one.item.nodeid] = (
                "its rig is made once for several tests; give its fixture the scope of one test"
            )
            vars(one.item.session)["_setupstate"].teardown_exact(None)  # the others would meet that rig
            return
        if first.how or plain.how:
            self.asked.left_out[one.item.nodeid] = f"it fails if it is run again: {first.how or plain.how}"
            return
        if plain.marks != first.marks:
            self.asked.left_out[one.item.nodeid] = "it is not deterministic: two runs have other histories"
            return
        if plain.contents != first.contents:
            plain.contents = {}
        key = self._key(one.item, plain, codes)
        test = _Test(one, trials, plain, key, self._known(one.item, key))
        self._tests.append(test)
        for change in (*changes.values(), *self._of_lines(sources, lines)):
            place = self._places.setdefault((change.text, change.after), _Place(change))
            place.tests.append(test)

    def _of_lines(self, sources: Iterable[Source], lines: set[tuple[str, int]]) -> Iterator[Change]:
        """Yield the changes of statements that have run."""
        for source in sources:
            if source.file not in self._of_code:
                self._of_code[source.file] = _of_source(source)
            yield from (change for line, change in self._of_code[source.file] if (source.file, line) in lines)

    # --- trying -------------------------------------------------------------------------------------

    def _try_all(self) -> None:
        """Try each change, those that would do most first."""
        places = sorted(self._places.values(), key=lambda place: (-place.change.weight, place.change.text))
        for place in places:  # the shortest history first: about the fastest, and the same order each time
            place.tests.sort(key=lambda test: (len(test.plain.marks), test.name))
        tried = [self._not_tried(place) for place in places]
        self.asked.changes += tried
        for number, (place, one) in enumerate(zip(places, tried, strict=True), 1):
            if self._is_over(_ADDED_SHARE):
                break
            self._try(place, one)
            self._tell(number, len(places), self.asked.noticed)
        added = 0
        for place, one in zip(places, tried, strict=True):
            if one.state == "unnoticed" and added < _MOST_ADDED and not self._is_over(0.0):
                added += 1
                one.test_to_add = self._added_test(place)

    def _not_tried(self, place: _Place) -> Tried:
        change = place.change
        return Tried(change.text, change.kind, change.name, change.words, change.before, change.after, change.weight)

    def _is_over(self, share: float) -> bool:
        """Return True if the budget is used up but for a share of it."""
        if self._budget.runs is not None:
            return self.asked.runs >= self._budget.runs * (1 - share)
        left = self._budget.seconds_left
        return left is not None and left <= (self._budget.seconds or 0.0) * share

    def _try(self, place: _Place, one: Tried) -> None:
        """Let the tests that touch a place run with a change, until one notices it."""
        differs = False
        for test in place.tests:
            how, why = self._answer(place.change, test, one)
            if how == "no change":
                continue
            one.tests.append(test.name)
            if how == "noticed":
                one.state, one.noticed_by, one.how = "noticed", test.name, why
                one.difference = []
                return
            differs = differs or how == "passed"
        if not one.tests:
            return
        one.state = "unnoticed" if differs or place.change.missing else "the same"
        if not differs:
            one.why = place.change.missing

    def _answer(self, change: Change, test: _Test, one: Tried) -> tuple[str, str]:
        """Return what became of one change in one test, and how it was noticed."""
        text = f"{change.text} {change.after}"
        known = test.known.get(text)
        if known is not None and (known[0] != "passed" or one.difference):
            self.asked.kept += 1
            test.answers[text] = known
            return known
        _turn_to(test.passed.item)
        if change.applied is not None:
            change.applied.clear()
        try:
            ran = test.trials.run(change, than=test.plain)
        except IronClockError as error:
            ran = Ran(error)
        self.asked.runs += 1
        if is_of_change(ran.error) or change.applied == []:
            answer = ("no change", "")
        elif ran.error is not None:
            answer = ("noticed", ran.how)
        else:
            if not test.plain.contents:
                ran.contents = {}
            answer = ("passed" if ran.differs(test.plain) else "same", "")
            if answer[0] == "passed" and not one.difference:
                one.difference = (
                    _difference(test.plain.history, ran.history) if ran.marks != test.plain.marks
                    else _other_contents(test.plain.contents, ran.contents)
                )  # fmt: skip
        test.answers[text] = answer
        return answer

    def _added_test(self, place: _Place) -> str:
        """Return a test that notices a change, as code. Empty if none was found."""
        for test in place.tests[:_BUILT_UPON]:
            _turn_to(test.passed.item)
            adding = AddedTest(test.trials)
            found = adding.find(place.change)
            self.asked.runs += adding.runs
            if found:
                return found
        return ""

    # --- what earlier sessions know -----------------------------------------------------------------

    def _key(self, item: pytest.Item, plain: Ran, codes: set[CodeType]) -> str:
        files = [str(item.path), *(code.co_filename for code in codes)]
        held = own_files(), item.nodeid, plain.marks.tobytes(), self._project.digest(files, codes)
        return hashlib.sha256(repr(held).encode()).hexdigest()

    def _known(self, item: pytest.Item, key: str) -> dict[str, tuple[str, str]]:
        if self._folder is None:
            return {}
        try:
            held = json.loads(file_of(self._folder, item.nodeid).read_text(encoding="utf-8"))
            if held["key"] != key:
                return {}
            return {text: (str(how), str(why)) for text, (how, why) in held["answers"].items()}
        except (OSError, ValueError, KeyError, TypeError, AttributeError):
            return {}  # it is asked again, and the file is written anew

    def _keep_answers(self) -> None:
        if self._folder is None:
            return
        with contextlib.suppress(OSError):  # the next session asks again
            for test in self._tests:
                held = {"key": test.key, "answers": {**test.known, **test.answers}}
                write_whole(file_of(self._folder, test.name), held)


@contextmanager
def _without_warnings() -> Iterator[None]:
    """Tell nobody of warnings inside the block, such as those about coroutines that a change leaves behind."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        yield
        gc.collect()


def _of_source(source: Source) -> list[tuple[int, Change]]:
    """Return every change of a module with its line. Those with the same words in one function are numbered."""
    found: list[tuple[int, Change]] = []
    seen: Counter[tuple[str, str]] = Counter()
    for slip in source.slips:
        code = CodeChange(source, slip)
        before, after = code.lines
        seen[code.function, slip.words] += 1
        number = seen[code.function, slip.words]
        words = slip.words if number == 1 else f"{slip.words}, place {number}"
        found.append((slip.line, Change("code", code.function, words, before, after, slip.weight, code=code)))
    return found


def _difference(plain: list[str], changed: list[str]) -> list[str]:
    """Return the first lines in which two histories differ."""
    for one, other in zip(plain, changed, strict=False):
        if one != other:
            short = [text.partition(" {'")[0] for text in (one, other)]  # without the arguments, which are there twice
            return short if short[0] != short[1] else [one, other]
    if len(plain) > len(changed):
        return [plain[len(changed)], "(nothing)"]
    if len(changed) > len(plain):
        return ["(nothing)", changed[len(plain)]]
    return []


def _other_contents(plain: dict[str, str], changed: dict[str, str]) -> list[str]:
    """Return the first table or key in which two runs have left something else."""
    place = next(one for one in (*plain, *changed) if plain.get(one) != changed.get(one))
    return [f"{place}: {held.get(place, '(nothing)')}" for held in (plain, changed)]


def _turn_to(item: pytest.Item) -> None:
    """End the fixtures of wider scopes that this test does not use."""
    vars(item.session)["_setupstate"].teardown_exact(item)
