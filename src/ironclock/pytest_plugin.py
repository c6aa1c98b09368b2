"""The pytest plugin: the `rig` fixture and marker, defaults in pyproject, and the story of the jobs under a failure.

The rig of the fixture is entered only around the test function, so that pytest's own durations stay real. Nothing of
Iron Clock is imported before a test asks for it.
"""

from __future__ import annotations

import contextlib
import re
import sys
import warnings
import weakref
from collections.abc import Callable, Generator, Iterator
from pathlib import Path
from types import CodeType, ModuleType, TracebackType
from typing import TYPE_CHECKING, Any

import pytest
from _pytest._code.code import ReprFileLocation

if TYPE_CHECKING:
    from .history.approval import Approval
    from .rig import PutIn, Rig
    from .simulation.jobs import Job
    from .suite.wide_expectations import WideExpectations

SETTINGS = {
    "start": 'Where the clock of each rig begins, as ISO 8601. Default: `"2031-03-03T09:00"`.',
    "zone": 'The time zone of each rig, a name of the tz database. Default: `"UTC"`.',
    "seed": "What is drawn by lot begins with it: a whole number or text. Default: `0`.",
    "payload": '`"json"` refuses arguments that do not survive JSON; `"any"` takes them all. Default: `"json"`.',
    "threads": '`"simulated"` or `"real"`: what a thread is that starts in a rig. Default: `"simulated"`.',
    "strict": (
        "`true`: a job that opens a socket, or starts a thread, is an error. `false`: it can. Default: it can, and a "
        "test is warned if a job reaches another machine."
    ),
    "stuck_after": 'After how much real time in which nothing moves a run ends with `StuckError`. Default: `"20s"`.',
    "allow": 'Loose ends that do not fail a test, such as `["unused faults"]`. Default: none.',
    "judged": 'Rigs whose loose ends fail a test: `"all"`, those of a `"fixture"`, `"none"`. Default: `"all"`.',
    "databases": "Databases whose clock follows each rig, see below. Default: none.",
    "taps": "A table of taps for each rig, see below. Default: none.",
    "laws": "Tables of laws, `[[tool.ironclock.laws]]`, that each test is searched for. Default: none.",
    "notice": 'Modules whose code `--ironclock-notice` changes, such as `["app.jobs"]`. Default: none.',
    "unnoticed": "Changes that no test has to notice, tables with `change` and `reason`. Default: none.",
    "budget": "How much `--ironclock-search` can take in all: a duration or a number of runs. Default: no limit.",
}
"""The settings in ``[tool.ironclock]``, and what they say."""
_SUITE_OPTIONS = (
    "search", "budget", "replay", "seams", "seams_min", "seams_page", "seams_json", "payloads", "notice",
    "notice_min", "notice_json",
)  # fmt: skip
"""The options that are about the whole suite."""
_OF_SUITE = ("budget", "laws", "notice", "unnoticed")
"""The settings that are about the whole suite, and not for the rig."""
_TOLD = 12  # jobs whose story stands under a failure
_TOLD_LINES = 40  # lines of one story, of which the last ones say most
_KEPT = 30  # rigs of one test, before those are dropped in which nothing is loose
_MOST_LINES = 18  # lines of stories beside loose ends
_TRACED = 3  # jobs whose traceback does
_OF_MISTAKES = (TypeError, AttributeError, NameError, LookupError, AssertionError, RecursionError)
# What a mistake in Iron Clock itself raises.
_made = pytest.StashKey["dict[str, list[tuple[pytest.FixtureDef[Any], Rig]]]"]()
_defaults = pytest.StashKey[dict[str, Any]]()
_rigs = pytest.StashKey["list[weakref.ref[Rig]]"]()
_judged = pytest.StashKey["list[Rig]"]()
_own = pytest.StashKey["_OwnRigs"]()
_followed = pytest.StashKey[bool]()
_without_rigs = pytest.StashKey[set[str]]()


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add the options of the plugin."""
    group = parser.getgroup("ironclock", "simulated time for jobs")
    group.addoption(
        "--ironclock-save", metavar="DIR", default=None,
        help="keep the history of every failed test that used a rig in this directory, as JSON Lines",
    )  # fmt: skip
    group.addoption(
        "--ironclock-approve", action="store_true",
        help="approve the histories that rig.matches(...) compares, and write them; and the payloads of the suite",
    )  # fmt: skip
    group.addoption(
        "--ironclock-search", action="store_true",
        help="run each test that uses a rig again under each single fault, and check the laws",
    )  # fmt: skip
    group.addoption(
        "--ironclock-budget", metavar="BUDGET", default=None,
        help="how much the search, or --ironclock-notice, can take in all: a duration, such as 2m, or a number of "
        "runs, such as '5000 runs'",
    )  # fmt: skip
    group.addoption(
        "--ironclock-replay", metavar="TOKEN", default=None,
        help="run one test with the fault of a token that the search has printed, and check the laws",
    )  # fmt: skip
    group.addoption(
        "--ironclock-seams", action="store_true",
        help="report which failures the suite has put at each job and effect, and which it never has",
    )  # fmt: skip
    group.addoption(
        "--ironclock-seams-min", metavar="PERCENT", default=None,
        help="fail if the fault coverage is below this share",
    )  # fmt: skip
    group.addoption(
        "--ironclock-seams-page",
        metavar="FILE",
        default=None,
        help="write the fault coverage, and what the tests notice, as an HTML page",
    )  # fmt: skip
    group.addoption(
        "--ironclock-notice", action="store_true",
        help="change one thing at a time in policies, schedules, effects and code, and tell what no test notices",
    )  # fmt: skip
    group.addoption(
        "--ironclock-notice-min", metavar="PERCENT", default=None,
        help="fail if a smaller share of these changes is noticed",
    )  # fmt: skip
    group.addoption("--ironclock-notice-json", metavar="FILE", default=None, help="write what the tests notice as JSON")
    group.addoption("--ironclock-seams-json", metavar="FILE", default=None, help="write the fault coverage as JSON")
    group.addoption(
        "--ironclock-payloads", metavar="FILE", default=None,
        help="compare the arguments of the jobs with those of older code, which are kept in this file",
    )  # fmt: skip


def pytest_configure(config: pytest.Config) -> None:
    """Register the marker."""
    config.addinivalue_line(
        "markers",
        "rig(start, zone, seed, policy, payload, threads, strict, stuck_after, allow): arguments for the rig fixture",
    )
    config.addinivalue_line(
        "markers",
        "laws(*laws, default=True): laws that must hold in this test, without faults and in the search; default=False "
        "leaves out those of every test",
    )
    asked = {name: config.getoption(f"ironclock_{name}") for name in _SUITE_OPTIONS}
    if any(value not in (None, False) for value in asked.values()):
        from .suite.plugin import SuitePlugin

        settings = {name: value for name, value in _settings(config).items() if name in _OF_SUITE}
        config.pluginmanager.register(SuitePlugin(config, asked, settings), "ironclock-suite")
    if hasattr(config, "workerinput"):  # a process of a parallel run has a thread that talks to the main process
        from .interpreter.patching.real_threads import note_runner_threads

        note_runner_threads()


def _let_coverage_follow(config: pytest.Config) -> None:
    """Let coverage follow jobs that sleep, if it measures this run. It traces every call for longer then: so only from
    the first test on that can make a rig."""
    if config.stash.get(_followed, False):
        return
    config.stash[_followed] = True
    coverage = sys.modules.get("coverage")
    current = None if coverage is None else getattr(coverage.Coverage, "current", lambda: None)()
    if current is not None and not _tells_greenlets_apart(current):
        config.issue_config_time_warning(
            pytest.PytestWarning(
                "coverage will miss lines after a sleep in a job; give it concurrency = ['thread', 'greenlet'] in its "
                "settings"
            ),
            2,
        )


def _tells_greenlets_apart(current: Any) -> bool:
    """Tell coverage's tracers which greenlet they trace, as its setting ``concurrency = greenlet`` does."""
    import greenlet

    collector = getattr(current, "_collector", None)
    tracers = getattr(collector, "tracers", None)
    if tracers is None:
        return "greenlet" in (current.get_option("run:concurrency") or ())
    for one in (collector, *tracers):
        if hasattr(one, "concur_id_func"):  # the newer way of measuring needs none
            one.concur_id_func = greenlet.getcurrent
    return True


def _can_make_rigs(item: pytest.Item) -> bool:
    """Return True if a test asks for a rig, or if its module, or one that this has imported, uses Iron Clock."""
    if "rig" in getattr(item, "fixturenames", ()):
        return True
    module = getattr(item, "module", None)
    without = item.config.stash.setdefault(_without_rigs, set())
    if module is None or module.__name__ in without:
        return False
    helpers = [value for value in vars(module).values() if isinstance(value, ModuleType)]
    if any(_uses_iron_clock(one) for one in (module, *helpers)):
        return True
    without.add(module.__name__)
    return False


def _uses_iron_clock(module: ModuleType) -> bool:
    for value in list(vars(module).values()):
        known = value.__name__ if isinstance(value, ModuleType) else getattr(value, "__module__", None)
        if isinstance(known, str) and known.partition(".")[0] == "ironclock":
            return True
    return False


@pytest.fixture
def rig(request: pytest.FixtureRequest) -> Iterator[Rig]:
    """A new rig, entered while the test function runs.

    Its arguments come from the `rig` marker, then from ``[tool.ironclock]`` in pyproject.toml.
    """
    from .errors import IronClockError
    from .rig import Rig, allow_by_marker

    arguments = {name: value for name, value in _settings(request.config).items() if name not in _OF_SUITE}
    taps = arguments.pop("taps", {})
    databases = arguments.pop("databases", ())
    arguments.pop("judged", None)
    for marker in reversed(list(request.node.iter_markers("rig"))):
        if marker.args:
            raise pytest.UsageError(
                f"the rig marker has the arguments {marker.args!r}; give keyword arguments, such as start=..."
            )
        arguments.update(marker.kwargs)
    try:
        made = Rig(**arguments)
        allow_by_marker(made, _allowed_by_its_own_marker(request.node))
        if taps:
            from .capture.configured_taps import put_taps

            put_taps(made.tap, taps)
        if databases:
            from .capture.configured_databases import found_databases

            for find in found_databases(databases):
                made.database(find, when_used=True)
    except TypeError as error:
        raise pytest.UsageError(f"the rig marker of {request.node.nodeid}: {error}") from None
    except IronClockError as error:
        raise pytest.UsageError(f"the rig of {request.node.nodeid}: {error}") from None
    yield made
    made.close()


def _allowed_by_its_own_marker(node: Any) -> Any:
    """Return the kinds of loose ends that the marker of one test allows, and of no other."""
    own = [] if hasattr(node, "callspec") else [marker for marker in node.own_markers if marker.name == "rig"]
    return next((marker.kwargs["allow"] for marker in own if "allow" in marker.kwargs), ())


def _settings(config: pytest.Config) -> dict[str, Any]:
    found = config.stash.get(_defaults, None)
    if found is None:
        found = config.stash[_defaults] = _read_settings(config.rootpath / "pyproject.toml")
    return found


def _read_settings(path: Path) -> dict[str, Any]:
    import tomllib

    from .errors import nearest

    if not path.is_file():
        return {}
    try:
        table = tomllib.loads(path.read_text(encoding="utf-8")).get("tool", {}).get("ironclock", {})
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise pytest.UsageError(f"{path}: {error}") from None
    values = {key: value for key, value in table.items() if not isinstance(value, dict)}
    taps = table.get("taps", {})
    for key in values:
        if key not in SETTINGS or key == "taps":
            near = nearest(key, SETTINGS)
            raise pytest.UsageError(f"{path}: [tool.ironclock] has no setting {key!r}; {near}")
    if values.get("judged", "all") not in ("all", "fixture", "none"):
        raise pytest.UsageError(f"{path}: judged is {values['judged']!r}; give 'all', 'fixture' or 'none'")
    return {**values, "taps": taps} if taps else values


@pytest.hookimpl(wrapper=True)
def pytest_runtest_protocol(item: pytest.Item, nextitem: pytest.Item | None) -> Generator[None, object, object]:
    """Remember every rig that the test makes, the fixture's included."""
    from .observers import observers

    if "coverage" in sys.modules and not item.config.stash.get(_followed, False) and _can_make_rigs(item):
        _let_coverage_follow(item.config)
    found: list[weakref.ref[Rig]] = []
    item.stash[_rigs] = found
    own = item.stash[_own] = _OwnRigs(lambda: str(_settings(item.config).get("judged", "all")))
    kept: list[Rig] = []
    if item.get_closest_marker("laws") is not None:
        item.stash[_judged] = kept  # its laws are asked when the test has ended

    approval: list[Approval] = []  # one object for all rigs: a search makes a thousand of them a second

    def note(rig: Rig) -> Approval:
        found.append(weakref.ref(rig))
        if observers[-1] is note:  # else it is the rig of a test session inside the test
            own.add(rig)
            own.watch(rig)
        if _judged in item.stash:
            kept.append(rig)
        if not approval:
            _keep_real_durations()
            _let_coverage_follow(item.config)  # a helper of the test can have made it
            from .history.approval import Approval

            approval.append(Approval(item.path.parent, bool(item.config.getoption("--ironclock-approve"))))
        return approval[0]

    observers.append(note)
    try:
        return (yield)
    finally:
        observers.remove(note)
        if _judged in item.stash:
            del item.stash[_judged]
        own.unwatch()
        del item.stash[_own]
        del item.stash[_rigs]  # the search of a suite runs the test again, and reports nothing of that


def _rig_of(item: pytest.Item | None) -> Rig | None:
    """Return the rig that the fixtures of a test have made so far."""
    module = sys.modules.get("ironclock.rig")  # if it is not loaded, the fixture `rig` is another one
    if module is None or item is None:
        return None
    names = getattr(item, "fixturenames", ())
    known = item.config.stash.get(_made, {})
    for name in names:
        for definition, made in known.get(name, ()):
            if definition in vars(item)["_request"]._arg2fixturedefs.get(name, ()):
                return made
    return None


def _keep_real_durations() -> None:
    """Let pytest measure in real time, also while a rig of a wider scope is entered between two tests."""
    from _pytest import timing

    from .interpreter.patching.clock_functions import REAL

    for name in ("time", "perf_counter", "sleep"):
        setattr(timing, name, REAL[name])


@pytest.hookimpl(wrapper=True, tryfirst=True)
def pytest_fixture_setup(
    fixturedef: pytest.FixtureDef[Any], request: pytest.FixtureRequest
) -> Generator[None, object, object]:
    """Run a fixture that comes after a rig inside that rig, its end included; note a fixture that makes a rig."""
    item = getattr(request, "_pyfuncitem", None)
    made = _rig_of(item)
    own = None if item is None else item.stash.get(_own, None)
    was_of_this_test = own is None or own.is_of_this_test
    if own is not None:
        own.is_of_this_test = fixturedef.scope == "function"
    if made is None:
        result = yield
    else:
        rig_module = sys.modules["ironclock.rig"]
        ending = contextlib.ExitStack()
        fixturedef.addfinalizer(ending.close)
        with rig_module.held(made):
            result = yield
        # Finalizers run from the last to the first.
        fixturedef.addfinalizer(lambda: ending.enter_context(rig_module.held(made)))
    if own is not None:
        own.is_of_this_test = was_of_this_test  # another fixture can have asked for this one in its middle
    module = sys.modules.get("ironclock.rig")
    if module is not None and isinstance(result, module.Rig):
        known = request.config.stash.setdefault(_made, {}).setdefault(fixturedef.argname, [])
        entry = (fixturedef, result)
        known.append(entry)
        fixturedef.addfinalizer(lambda: known.remove(entry))
    return result


@pytest.hookimpl(wrapper=True, tryfirst=True)
def pytest_runtest_call(item: pytest.Item) -> Generator[None, object, object]:
    """Enter the fixture's rig around the test function, or around the methods of a `unittest.TestCase`; judge the rigs
    of the test when it has passed."""
    made = _rig_of(item)
    own = item.stash.get(_own, None) or _OwnRigs(lambda: "fixture")  # the search of a suite runs a test again
    if made is not None:
        own.take(made)
    own.begin()
    if made is None:
        result = yield
        _check_laws(item)
    else:
        rig_module = sys.modules["ironclock.rig"]
        with rig_module.held(made):
            result = yield
        if not _has_failed(item):
            rig_module.must_fit(made)
        _check_laws(item)
    if not _has_failed(item):
        own.judge(_code_of(item))
    return result


def _code_of(item: pytest.Item) -> CodeType | None:
    """Return the code of a test: an error that has come up to it is not hidden."""
    test = getattr(item, "obj", None)
    inner = getattr(getattr(test, "hypothesis", None), "inner_test", test)
    return getattr(inner, "__code__", None)


class _OwnRigs:
    """The rigs that a test and its fixtures make, and what is judged in them when it has passed.

    Parameters: `setting` returns the setting `judged`.
    """

    def __init__(self, setting: Callable[[], str]) -> None:
        self._setting = setting
        self.is_of_this_test = True
        """True if what is made now is made for this test alone."""
        self._older: dict[int, tuple[Rig, PutIn, frozenset[str]]] = {}
        # By identity: the rig; what was put into it, and its loose ends, before the test began.
        self._limit = _KEPT
        self._watched: WideExpectations | None = None

    def add(self, rig: Rig) -> None:
        """Note a new rig."""
        if self.is_of_this_test and self._setting() == "all":
            self._keep(rig)
            if len(self._older) > self._limit:
                self._drop()

    def watch(self, rig: Rig) -> None:
        """See from now on, until `unwatch`, if ``pytest.raises(Exception)`` takes an error of the rig."""
        if self._watched is None:
            from .suite.wide_expectations import WideExpectations

            self._watched = WideExpectations(sys.modules["ironclock.rig"].simulation_of(rig).attention)

    def unwatch(self) -> None:
        """Stop that."""
        if self._watched is not None:
            self._watched.end()
            self._watched = None

    def take(self, rig: Rig) -> None:
        """Note the rig of a fixture, which can be for several tests."""
        if self._setting() != "none":
            self._keep(rig)

    def _keep(self, rig: Rig) -> None:
        self._older[id(rig)] = rig, sys.modules["ironclock.rig"].PutIn(), frozenset()

    def begin(self) -> None:
        """Note what there is before the test begins."""
        self.is_of_this_test = True
        if not self._older:
            return
        rig_module = sys.modules["ironclock.rig"]
        for key, (rig, _, _) in self._older.items():
            older = rig_module.put_in(rig)
            known = rig_module.loose_ends_of(rig, None, older)
            self._older[key] = rig, older, frozenset(line for lines in known.values() for line in lines)

    def judge(self, test: CodeType | None) -> None:
        """Raise `LooseEnds` if the test has left loose ends, and warn of what it allows needlessly, and of jobs that
        have reached another machine."""
        if not self._older:
            return
        rig_module = sys.modules["ironclock.rig"]
        found: dict[str, list[str]] = {}
        unsaid: list[str] = []
        for rig, older, known in self._older.values():
            for kind, lines in rig_module.loose_ends_of(rig, test, older).items():
                new = [line for line in lines if line not in known]
                if new:
                    found.setdefault(kind, []).extend(new)
            unsaid += rig_module.warnings_of(rig)
        if found:
            from .errors import LooseEnds
            from .history.attention import told

            raise LooseEnds(told(found))
        for words in dict.fromkeys(unsaid):
            from .errors import RigWarning

            warnings.warn(RigWarning(words), stacklevel=1)

    def _drop(self) -> None:
        """Let go of rigs that have nothing to be judged: a test can make thousands."""
        rig_module = sys.modules["ironclock.rig"]
        self._older = {
            key: kept for key, kept in self._older.items()
            if rig_module.is_entered(kept[0]) or rig_module.loose_ends_of(kept[0], None, kept[1])
        }  # fmt: skip
        self._limit = 2 * len(self._older) + _KEPT


def _has_failed(item: pytest.Item) -> bool:
    """Return True if a method of a `unittest.TestCase` has failed: nothing is raised then."""
    return bool(getattr(item, "_excinfo", None))


def _check_laws(item: pytest.Item) -> None:
    """Raise `BrokenLaw` if a law of the marker `laws` does not hold in a rig of a test that has passed."""
    rigs = item.stash.get(_judged, None)
    if rigs is None or _has_failed(item):
        return
    from .suite.test_laws import laws_of

    asked = laws_of(item)
    if not rigs:
        raise pytest.UsageError(f"{item.nodeid} has laws, and the test makes no rig; take the marker away")
    asked.check_marked([rig.world for rig in rigs])


def _what_stands_still(rigs: list[Rig]) -> list[tuple[str, str]]:
    """Return the sections of a report about workers that have ended and tasks that nothing can wake."""
    from .rig import dead_workers_of, deadlocks_of

    told = (
        ("dead workers", [line for rig in rigs for line in dead_workers_of(rig)]),
        ("deadlocks", [line for rig in rigs for line in deadlocks_of(rig)]),
    )
    return [(title, "\n".join(lines)) for title, lines in told if lines]


@pytest.hookimpl(wrapper=True, tryfirst=True)
def pytest_runtest_makereport(
    item: pytest.Item, call: pytest.CallInfo[None]
) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """Add the story of the jobs to the report of a failed test, and save its history if that was asked for."""
    if call.excinfo is not None and item.stash.get(_rigs, None):
        _hide_own_frames()
    report = yield
    if hasattr(report, "wasxfail") and call.excinfo is not None and _is_loose_end(call.excinfo.value):
        report.outcome = "failed"  # what the test says less than it seems is not the mistake that it expects
        del report.wasxfail
    if call.excinfo is not None and report.failed and _is_loose_end(call.excinfo.value):
        report.longrepr = told = call.excinfo.getrepr(style="value")  # the frames are those of the plugin
        path, line, _ = item.location
        told.reprcrash = ReprFileLocation(path, (line or 0) + 1, str(call.excinfo.value).splitlines()[0])
    if report.failed and call.when in ("setup", "call"):
        rigs = _rigs_of(item)
        loose = str(call.excinfo.value) if call.excinfo is not None and _is_loose_end(call.excinfo.value) else None
        for job, error in _failed_jobs(rigs, call.excinfo):
            if loose is not None and repr(job) not in loose:
                continue  # the test has looked at it
            report.sections.append((f"{job.id} failed in attempt {len(job.attempts)}", _traceback(item, error)))
        report.sections.extend(_what_stands_still(rigs))
        for number, rig in enumerate(rigs, 1):
            title = "jobs of the rig" if len(rigs) == 1 else f"jobs of rig {number} of {len(rigs)}"
            report.sections.append((title, _told_safely(rig, loose)))
            directory = item.config.getoption("--ironclock-save")
            if directory:
                report.sections.append(("history", _saved(rig, Path(directory), item.nodeid, number, len(rigs))))
    return report


@pytest.hookimpl(tryfirst=True)
def pytest_exception_interact(node: pytest.Item | pytest.Collector, call: pytest.CallInfo[Any]) -> None:
    """Let ``--pdb`` begin where a job failed, with the test's own lines above it."""
    rigs = _rigs_of(node) if isinstance(node, pytest.Item) else []
    if not rigs or call.excinfo is None or not node.config.getoption("usepdb"):
        return
    error = call.excinfo.value
    frames = _users_frames(error.__traceback__)
    failed = _failed_jobs(rigs, call.excinfo)
    if failed:
        job, of_job = failed[-1]
        frames += _users_frames(of_job.__traceback__)
        reporter = node.config.pluginmanager.get_plugin("terminalreporter")
        if reporter is not None:
            reporter.ensure_newline()
            reporter.write_line(f"The debugger begins where {job.id} failed; `up` leads to the line of the test.")
            reporter.write(_traceback(node, of_job))
    trace = None
    for one in reversed(frames):
        trace = TracebackType(trace, one.tb_frame, one.tb_lasti, one.tb_lineno)
    if trace is not None:
        call.excinfo = pytest.ExceptionInfo.from_exception(error.with_traceback(trace))


def _rigs_of(item: pytest.Item) -> list[Rig]:
    """Return the rigs of a test in which something happened."""
    rigs = [rig for ref in item.stash.get(_rigs, []) if (rig := ref()) is not None and len(rig.history)]
    if hasattr(getattr(item, "obj", None), "hypothesis"):
        return rigs[-1:]  # the one of the smallest example that fails
    return rigs


def _failed_jobs(
    rigs: list[Rig], raised: pytest.ExceptionInfo[BaseException] | None
) -> list[tuple[Job[Any], BaseException]]:  # fmt: skip
    """Return the last jobs that failed for good, with their errors, without those that the test's own error shows."""
    shown = []
    error = None if raised is None else raised.value
    while error is not None and error not in shown:
        shown.append(error)
        error = error.__cause__ or error.__context__
    found = [
        (job, job.error)
        for rig in rigs
        for job in rig.jobs(state="dead")
        if job.error is not None and job.error.__traceback__ is not None and job.error not in shown
    ]
    return found[-_TRACED:]


def _traceback(item: pytest.Item | pytest.Collector, error: BaseException) -> str:
    style = item.config.getoption("tbstyle")
    told = pytest.ExceptionInfo.from_exception(error)
    text = str(told.getrepr(style="long" if style == "auto" else style, abspath=False))
    return f"    {text}" if text.startswith(("def ", "async def ", "@")) else text  # pytest strips it


def _users_frames(trace: TracebackType | None) -> list[TracebackType]:
    from .foundation.source_location import is_own

    found = []
    while trace is not None:
        if not is_own(trace.tb_frame.f_code.co_filename):
            found.append(trace)
        trace = trace.tb_next
    return found


def _hide_own_frames() -> None:
    """Leave the frames of Iron Clock out of tracebacks, unless a mistake in Iron Clock was raised there."""
    for name, module in list(sys.modules.items()):
        if name.partition(".")[0] == "ironclock":
            module.__dict__["__tracebackhide__"] = _is_hidden


def _is_loose_end(error: BaseException) -> bool:
    from .errors import LooseEnds

    return isinstance(error, LooseEnds)


def _is_hidden(raised: pytest.ExceptionInfo[BaseException] | None) -> bool:
    from .errors import IronClockError
    from .foundation.source_location import is_own

    if raised is None or isinstance(raised.value, IronClockError) or not isinstance(raised.value, _OF_MISTAKES):
        return True
    return not is_own(str(raised.traceback[-1].frame.code.path))


def _told_safely(rig: Rig, loose: str | None) -> str:
    """Return the stories of a rig, or why they cannot be told: a report must not end the run of the tests. Parameters:
    `loose` are the loose ends in words, if they are why the test failed: then a few lines are enough."""
    try:
        return _told(rig) if loose is None else _told_in_short(rig, loose)
    except Exception as error:
        return f"the stories of {object.__repr__(rig)} cannot be told: {type(error).__name__}: {error}"


def _told(rig: Rig) -> str:
    jobs = rig.jobs()
    # If there are many, those that are not done say most.
    chosen = list(jobs)
    if len(chosen) > _TOLD:
        chosen = sorted(jobs, key=lambda job: (job.state == "done", job.number))[:_TOLD]
        chosen.sort(key=lambda job: job.number)
    lines = [repr(rig), *(_shortened(job.story()) for job in chosen)]
    if len(jobs) > len(chosen):
        lines.append(f"... and {len(jobs) - len(chosen)} more jobs (--ironclock-save DIR keeps them all)")
    return "\n".join(lines)


def _told_in_short(rig: Rig, loose: str) -> str:
    """Return the stories of the jobs that loose ends name. If they name none, those of the first jobs."""
    jobs = rig.jobs()
    concerned = [job for job in jobs if repr(job) in loose]
    lines = [repr(rig)]
    told = 0
    for job in concerned or jobs:
        story = _shortened(job.story()).splitlines()
        if told and len(lines) + len(story) > _MOST_LINES:
            break
        lines += story
        told += 1
    if told < len(jobs):
        lines.append(f"... and {len(jobs) - told} more jobs (--ironclock-save DIR keeps them all)")
    return "\n".join(lines)


def _shortened(story: str) -> str:
    """Return a story without its middle, if it is long: a job that was tried hundreds of times."""
    lines = story.splitlines()
    if len(lines) <= _TOLD_LINES:
        return story
    first, last = _TOLD_LINES // 4, _TOLD_LINES - _TOLD_LINES // 4
    left_out = f"    ... {len(lines) - first - last:,} lines ..."
    return "\n".join([*lines[:first], left_out, *lines[-last:]])


def _saved(rig: Rig, directory: Path, nodeid: str, number: int, count: int) -> str:
    directory.mkdir(parents=True, exist_ok=True)
    name = re.sub(r"[^\w.\[\]-]+", "_", nodeid)[-150:] + (f".{number}" if count > 1 else "")
    path = directory / f"{name}.jsonl"
    rig.history.save(path)
    return f"saved to {path}; look at it with: ironclock show {path}"
