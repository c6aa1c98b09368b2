"""What the options of pytest that are about a whole suite do: they gather, search, replay and report."""

from __future__ import annotations

import json
import shutil
import tempfile
import threading
from collections.abc import Generator, Mapping
from contextlib import AbstractContextManager, nullcontext, suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pytest

from ..errors import InputError, IronClockError, ReplayError
from ..interpreter.patching.clock_functions import REAL
from ..laws.law import BrokenLaw
from ..observers import observers
from ..rig import Rig, held, seams_of_databases
from ..search.ends import Ends
from ..search.fault_model import IN_A_ROW, checked_model
from ..search.replay_token import Token, read
from .budget import checked_budget
from .fault_coverage import FaultCoverage, checked_least
from .fault_coverage_page import page
from .notice import noticer
from .notice.notice_page import notice_part
from .notice.notice_report import report_notice
from .notice.outcomes import Asked, apply_exceptions, asked_from, checked_exceptions, checked_modules
from .payload_contracts import Comparison, PayloadContracts
from .ran_code import RanCode
from .repeated_test import history_marks
from .same_chance import same_chance
from .search_cache import SearchCache, SearchedTest, from_dict
from .suite_report import grouped, report_coverage, report_payloads, report_search
from .suite_search import PassedTest, SuiteSearch, ends_without_fault, keyed_effects, test_digest
from .test_laws import laws_of, laws_of_project

_FOLDER = "ironclock_folder"  # of what the processes of a parallel run write, in xdist's `workerinput`
_rigs = pytest.StashKey["list[Rig]"]()
_ended = pytest.StashKey[bool]()
_codes = pytest.StashKey[RanCode]()


_LAST_UNNOTICED = "ironclock/unnoticed"  # in pytest's cache, the changes that nobody noticed in the last session
_MOST_KEPT = 100
"""How many rigs of one test are read. Those of a test that makes thousands would fill the memory."""


def _is_left_out(item: pytest.Item) -> bool:
    """Return True if a marker asks for no law at all: the test is not searched, and its rigs are not kept."""
    marker = item.get_closest_marker("laws")
    if marker is None or marker.args or marker.kwargs.get("asserts"):
        return False
    return marker.kwargs.get("default") is False


class SuitePlugin:
    """Gathers what the tests of a session do, searches them, and reports.

    Parameters: `asked` are the options of the suite, without ``--ironclock-``; `settings` are ``laws``, ``budget``,
    ``notice`` and ``unnoticed`` of ``[tool.ironclock]``. Raises `pytest.UsageError` for one that cannot be used.
    """

    def __init__(self, config: pytest.Config, asked: Mapping[str, Any], settings: Mapping[str, Any]) -> None:
        self._config = config
        self._searches = bool(asked["search"])
        self._notice_json = asked["notice_json"]
        self._notices = bool(asked["notice"] or self._notice_json or asked["notice_min"] is not None)
        self._least: float | None = None
        self._token: Token | None = None
        self._token_text = str(asked["replay"] or "").strip()
        try:
            self._least = checked_least(asked["seams_min"])
            self._budget = checked_budget(settings.get("budget") if asked["budget"] is None else asked["budget"])
            if asked["budget"] is not None and not (self._searches or self._notices):
                raise InputError(
                    "--ironclock-budget is for the search and for --ironclock-notice; give one of the two as well"
                )
            self._least_noticed = checked_least(asked["notice_min"], "--ironclock-notice-min")
            self._modules = checked_modules(settings.get("notice", []), "[tool.ironclock]")
            self._exceptions = checked_exceptions(settings.get("unnoticed", []), "[tool.ironclock]")
            self._project_laws = laws_of_project(settings.get("laws", []), "[tool.ironclock]")
            if asked["replay"] is not None:
                self._token = read(self._token_text)
            self._payload_path = None if asked["payloads"] is None else Path(asked["payloads"])
            self._older = None if self._payload_path is None else PayloadContracts.load(self._payload_path)
        except IronClockError as error:
            raise pytest.UsageError(str(error)) from None
        self._page, self._json = asked["seams_page"], asked["seams_json"]
        self._covers = bool(asked["seams"] or self._page or self._json or self._least is not None)
        self._coverage = FaultCoverage()
        self._contracts = PayloadContracts()
        self._ends: Ends | None = None
        self._passed: list[PassedTest] = []
        self._to_ask: list[noticer.PassedTest] = []
        self._asked = Asked()
        self._left_out: dict[str, str] = {}
        self.searched: list[SearchedTest] = []
        """What the search has found, by test."""
        self._interrupted = False
        self._failures = 0
        self._comparison = Comparison((), ())
        self._written = ""
        self._notes: list[str] = []
        self._told: list[str] = []
        self._tell_at = 0.0
        self._shown = False
        self._over = threading.Event()
        # A process of a parallel run writes what it has into a folder of the main process.
        self._worker = dict(getattr(config, "workerinput", {}))
        self._folder: Path | None = None
        if self._worker:
            self._folder = Path(self._worker[_FOLDER])

    # --- parallel runs ------------------------------------------------------------------------------

    @pytest.hookimpl(optionalhook=True)
    def pytest_configure_node(self, node: Any) -> None:
        """Tell a process of a parallel run where to write."""
        if self._folder is None:
            self._folder = Path(tempfile.mkdtemp(prefix="ironclock-"))
        node.workerinput[_FOLDER] = str(self._folder)

    def _write(self, name: str, data: Any) -> None:
        assert self._folder is not None
        with open(self._folder / f"{self._worker['workerid']}.{name}", "a", encoding="utf-8") as file:
            file.write(json.dumps(data) + "\n")

    def _read_processes(self) -> None:
        """Read what the processes of a parallel run have written."""
        if self._folder is None or self._worker:
            return
        for path in sorted(self._folder.iterdir()):
            for line in path.read_text(encoding="utf-8").splitlines():
                held = json.loads(line)
                if path.suffix == ".searched":
                    self.searched.append(from_dict(held))
                elif path.suffix == ".noticed":
                    self._asked.merge(asked_from(held))
                elif path.suffix == ".coverage":
                    self._coverage.merge(held)
                elif path.suffix == ".payloads":
                    self._contracts.merge(held)
        self.searched.sort(key=lambda one: one.test)
        shutil.rmtree(self._folder, ignore_errors=True)

    # --- each test ----------------------------------------------------------------------------------

    def pytest_collection_finish(self, session: pytest.Session) -> None:
        """Refuse a token if it is not for the one test that is chosen."""
        if self._token is None:
            return
        if len(session.items) != 1:
            raise pytest.UsageError(
                f"--ironclock-replay repeats one test, and {len(session.items)} are chosen; give its name, as in "
                "pytest PATH::TEST --ironclock-replay TOKEN"
            )
        nodeid = session.items[0].nodeid
        if self._token.test and self._token.test != test_digest(nodeid):
            raise pytest.UsageError(
                f"the replay token is of another test than {nodeid}; copy the whole line 'repeat it' of the finding"
            )

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_protocol(self, item: pytest.Item) -> Generator[None, object, object]:
        """Keep every rig that the test makes until it has been read."""
        if self._token is not None:
            self._ends = ends_without_fault(item, self._token, laws_of(item, self._project_laws))
        rigs = item.stash[_rigs] = []
        left_out = _is_left_out(item)

        def note(rig: Rig) -> None:
            if len(rigs) < _MOST_KEPT and not left_out:
                rigs.append(rig)
            if self._token is not None and len(rigs) == self._token.rig:
                rig.replay(self._token_text)

        observers.append(note)
        try:
            return (yield)
        finally:
            observers.remove(note)
            del item.stash[_rigs]
            item.stash[_ended] = False

    @pytest.hookimpl(wrapper=True, tryfirst=True)
    def pytest_runtest_call(self, item: pytest.Item) -> Generator[None, object, object]:
        """Note the code that the test runs; or, in a replay, say what the laws say, and not the test itself."""
        if _rigs not in item.stash:  # it is run again by the search
            return (yield)
        if self._token is not None:
            return (yield from self._replay(item))
        noting: AbstractContextManager[Any] = nullcontext()
        if self._searches:
            noting = item.stash[_codes] = RanCode()
        try:
            with noting:
                return (yield)
        finally:
            item.stash[_ended] = True

    def _replay(self, item: Any) -> Generator[None, object, object]:
        assert self._token is not None
        error: BaseException | None = None
        result: object = None
        try:
            with same_chance():
                result = yield
        except ReplayError:
            raise
        except Exception as raised:
            error = raised
        of_test_case = vars(item).pop("_excinfo", None)  # a `unittest.TestCase` raises nothing here
        if of_test_case:
            error = of_test_case[0].value
        rigs = item.stash[_rigs]
        if len(rigs) < self._token.rig:
            raise error or ReplayError(
                f"the replay token is about rig {self._token.rig} of the test, and it has made {len(rigs)}; the test "
                "has changed since, search it again"
            )
        rig = rigs[self._token.rig - 1]
        if error is not None:
            with suppress(IronClockError), held(rig):
                rig.run_dry()
        asked = laws_of(item, self._project_laws)
        if asked.asserts and isinstance(error, AssertionError):
            raise error
        chosen = tuple(asked.of(keyed_effects(rig)))
        if chosen:
            rig.check(*chosen)
        if self._ends is not None:
            breaches = self._ends.after_replay(rig, self._token.plan, error)
            if breaches:
                raise BrokenLaw("\n".join(f"{one.law}: {one.words}" for one in breaches), breaches)
        self._told.append(f"{item.nodeid}: with the token every law holds")
        if error is not None:
            self._told.append(
                f"  the test's own code raises {type(error).__name__}: {error}; a search counts that, and does not "
                "report it"
            )
        return result

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_makereport(
        self, item: pytest.Item, call: pytest.CallInfo[None]
    ) -> Generator[None, pytest.TestReport, pytest.TestReport]:
        """Read the rigs of a test when its own code has ended."""
        report = yield
        rigs = item.stash.get(_rigs, None)
        if call.when == "call" and rigs and item.stash.get(_ended, False):  # a part of a test reports before its end
            if self._covers:
                for rig in rigs:
                    self._coverage.read(rig, item.nodeid)
            if self._payload_path is not None:
                for rig in rigs:
                    self._contracts.read(rig)
            if report.passed and not hasattr(report, "wasxfail"):
                self._note_passed(item, call, rigs)
        return report

    def _note_passed(self, item: pytest.Item, call: pytest.CallInfo[None], rigs: list[Rig]) -> None:
        if hasattr(getattr(item, "obj", None), "hypothesis"):
            self._left_out[item.nodeid] = "it draws its own examples"
            return
        if self._notices:
            self._to_ask.append(noticer.PassedTest(item, call.duration))
        if not self._searches:
            return
        asked = laws_of(item, self._project_laws)
        if asked.none:
            return
        marks = [history_marks(rig.history, item) for rig in rigs]
        seams = frozenset(kind for rig in rigs for kind in seams_of_databases(rig))
        self._passed.append(PassedTest(item, marks, call.duration, item.stash[_codes].codes, asked, seams))

    # --- the session --------------------------------------------------------------------------------

    @pytest.hookimpl(wrapper=True, tryfirst=True)
    def pytest_runtestloop(self, session: pytest.Session) -> Generator[None, object, object]:
        """Search the tests that have passed when all have run."""
        watches = self._searches and not self._worker and self._config.pluginmanager.has_plugin("dsession")
        watcher = threading.Thread(target=self._watch_processes, daemon=True)
        if watches:
            watcher.start()
        try:
            result = yield
        finally:
            self._over.set()
            if watches:
                watcher.join()
                self._clear_line()
        if self._worker:
            if self._covers:
                self._write("coverage", self._coverage.as_dict())
            if self._payload_path is not None:
                self._write("payloads", self._contracts.as_dict())
        if self._searches and (self._passed or self._left_out) and not session.shouldstop:
            self._search()
        if self._notices and not session.shouldstop:
            self._ask()
        return result

    def _ask(self) -> None:
        """Ask the tests that have passed which changes they would notice."""
        cache = getattr(self._config, "cache", None)
        folder = None if cache is None else Path(cache.mkdir("ironclock-notice"))
        asking = noticer.Noticer(self._budget, self._modules, folder, self._tell_noticed)
        try:
            asking.run(self._to_ask, self._left_out)
        except InputError as error:
            raise pytest.UsageError(str(error)) from None
        finally:
            self._clear_line()
        if self._worker:
            self._write("noticed", asking.asked.as_dict())
        self._asked = asking.asked
        if asking.interrupted:
            raise KeyboardInterrupt

    def _tell_noticed(self, number: int, most: int, noticed: int) -> None:
        if not self._worker:
            self._show(f"asking the tests: change {number} of {most}, {noticed} noticed")

    def _compare_noticed(self) -> None:
        """Mark what is meant, and what is new since the last session."""
        self._notes = list(apply_exceptions(self._asked, self._exceptions))
        cache = getattr(self._config, "cache", None)
        if cache is None:
            return
        before = cache.get(_LAST_UNNOTICED, None)
        for one in self._asked.unnoticed if isinstance(before, list) else ():
            one.is_new = one.text not in before
        cache.set(_LAST_UNNOTICED, [one.text for one in self._asked.unnoticed])

    def _search(self) -> None:
        cache = getattr(self._config, "cache", None)
        folder = None if cache is None else cache.mkdir("ironclock-search")
        model = checked_model(None, "1m", "1m", None, None, "10m", IN_A_ROW)
        if self._worker and self._budget.runs is not None:
            self._budget.runs = max(1, self._budget.runs // int(self._worker.get("workercount", 1)))
        search = SuiteSearch(model, self._budget, SearchCache(folder, self._warn), self._tell, self._keep)
        try:
            search.run(self._passed, self._left_out)
        finally:
            self._clear_line()
        if search.interrupted:
            raise KeyboardInterrupt

    def _keep(self, found: SearchedTest) -> None:
        self.searched.append(found)
        if self._worker:
            self._write("searched", asdict(found))

    def _watch_processes(self) -> None:
        """Show how far the processes of a parallel run are with their searches, until the session ends."""
        while not self._over.wait(0.5):
            files = [] if self._folder is None else [*self._folder.glob("*.searched")]
            done = sum(path.read_bytes().count(b"\n") for path in files)
            if done:
                self._show(f"searching: {done} tests so far, in {len(files)} processes")

    def pytest_keyboard_interrupt(self) -> None:
        """Say in the report that the search is not complete."""
        self._interrupted = True

    def _warn(self, words: str) -> None:
        self._config.issue_config_time_warning(pytest.PytestWarning(words), 2)

    def _tell(self, number: int, most: int, runs: int, broken: int) -> None:
        """Show how far the search is."""
        if not self._worker:
            laws = f"{broken} law{'s' * (broken != 1)} broken"
            self._show(f"searching: test {number} of {most}, {runs:,} runs, {laws}")

    def _show(self, words: str) -> None:
        """Show words on one line of a terminal, and elsewhere a line now and then. Nothing in the first second."""
        now = REAL["monotonic"]()
        if now < self._tell_at:
            return
        if not self._tell_at:
            self._tell_at = now + 1
            return
        reporter = self._config.pluginmanager.get_plugin("terminalreporter")
        if reporter is None:
            return
        self._tell_at = now + (0.1 if reporter.isatty else 10)
        if not self._shown:
            self._shown = True
            reporter.write("\n")  # the line of dots stays
        if reporter.isatty:
            reporter.rewrite(words, erase=True)
        else:
            reporter.write_line(words)

    def _clear_line(self) -> None:
        reporter = self._config.pluginmanager.get_plugin("terminalreporter")
        if reporter is not None and reporter.isatty and self._shown:
            reporter.rewrite("", erase=True)
            reporter.rewrite("")

    @pytest.hookimpl(tryfirst=True)
    def pytest_sessionfinish(self, session: pytest.Session, exitstatus: int) -> None:
        """Put together what the processes have found, and decide if the session fails."""
        self._read_processes()
        if self._worker:
            return
        self._failures = len(grouped(self.searched))
        if self._notices:
            self._compare_noticed()
            self._failures += self._least_noticed is not None and self._asked.percent < self._least_noticed
            if self._notice_json is not None:
                text = json.dumps(self._asked.as_dict(), indent=1) + "\n"
                self._write_file(self._notice_json, text, "what the tests notice")
        if self._covers:
            self._write_coverage()
            self._failures += self._least is not None and self._coverage.percent < self._least
        if self._payload_path is not None:
            self._compare_payloads(self._payload_path)
            self._failures += len(self._comparison.broken)
        if self._failures and exitstatus == pytest.ExitCode.OK:
            session.exitstatus = pytest.ExitCode.TESTS_FAILED

    def _write_coverage(self) -> None:
        for one in self.searched:
            self._coverage.add_tried(one.cells, one.test)
        if self._page is not None:
            text = page(self._coverage, self._searches, notice_part(self._asked) if self._notices else "")
            self._write_file(self._page, text, "the fault coverage")
        if self._json is not None:
            text = json.dumps(self._coverage.as_dict(), indent=1) + "\n"
            self._write_file(self._json, text, "the fault coverage")

    def _write_file(self, path: str, text: str, what: str) -> None:
        try:
            Path(path).write_text(text, encoding="utf-8")
            self._told.append(f"{what} is in {path}")
        except OSError as error:
            self._told.append(f"{what} cannot be written to {path}: {error.strerror}")
            self._failures += 1

    def _compare_payloads(self, path: Path) -> None:
        older, approves = self._older, bool(self._config.getoption("--ironclock-approve"))
        if older is not None:
            self._comparison = self._contracts.compare(older)
        if self._comparison.broken and not approves:
            self._written = (
                "left as it is; change the code, or, if no older jobs are in flight, run pytest with "
                "--ironclock-approve"
            )
            return
        made = self._contracts if older is None else self._contracts.joined(older, not self._comparison.broken)
        if self._comparison.broken:
            self._comparison = Comparison((), (*self._comparison.notes, *self._comparison.broken))
        if older is not None and made.as_dict() == older.as_dict():
            self._written = "nothing has changed"
            return
        try:
            made.save(path)
        except InputError as error:
            self._comparison = Comparison((str(error),), ())
        self._written = f"written, with the payloads of {len(made.jobs)} jobs; commit it"

    def pytest_terminal_summary(self, terminalreporter: Any) -> None:
        """Report what was found."""
        if self._searches:
            report_search(terminalreporter, self.searched, self._interrupted)
        if self._covers:
            report_coverage(terminalreporter, self._coverage, self._searches, self._least)
        if self._notices:
            report_notice(terminalreporter, self._asked, self._notes, self._least_noticed, self._interrupted)
        if self._payload_path is not None:
            report_payloads(terminalreporter, self._comparison, self._payload_path, self._written)
        for line in self._told:
            terminalreporter.write_line(line)
        broken = grouped(self.searched)
        if broken:
            terminalreporter.stats["found by the search"] = [
                pytest.TestReport(found[0][0], ("", None, ""), {}, "failed", law, "call")  # other plugins read these
                for (law, _), found in broken.items()
            ]
