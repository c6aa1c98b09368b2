"""A test that is run again and again, each time with new fixtures, as a story of the search."""

from __future__ import annotations

import ast
import copy
import dis
import inspect
import shutil
import textwrap
from array import array
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import MethodType
from typing import Any
from zlib import crc32

import pytest

from ..errors import StuckError
from ..history.approval import Approval
from ..history.history import History
from ..interpreter.installation import ending_within
from ..observers import observed_by
from ..rig import Rig, held
from ..search.interrupts import interrupts
from ..search.run_control import RunControl
from ..search.runs import Played
from .same_chance import same_chance

_TELLERS = ("repr_failure", "_repr_failure_py")  # what makes a traceback of an error
FIRST_RUN_S = 120.0  # it also sets up what several tests share, such as a server


def folder_of(item: pytest.Item) -> Path | None:
    """Return the folder of the fixture `tmp_path` of a test that runs, if it uses one."""
    folder: Path | None = (getattr(item, "funcargs", None) or {}).get("tmp_path")
    return folder


def history_marks(history: History, item: pytest.Item) -> array[int]:
    """Return a number for each entry of a history. The folder of the test is hidden, as its name differs by run."""
    hidden = str(folder_of(item) or "").encode()
    return array("L", [crc32(line.replace(hidden, b"*") if hidden else line) for line in history.lines()])


class NoRig(Exception):
    """The test has made no rig this time."""


class TestAgain:
    """One test that is run again, phase by phase, without a report. Parameters: `item` is the test."""

    __test__ = False

    def __init__(self, item: pytest.Item) -> None:
        self.item: Any = item
        self._folder: Path | None = None  # of the last run

    def begin(self) -> None:
        """Get ready for a run."""
        state = vars(self.item)
        if "_request" in state and not state["_request"]:
            self.item._initrequest()
        # Nobody reads the traceback of a run, and to write it takes longer than the run.
        state.update(dict.fromkeys(_TELLERS, _not_told))
        hooks_of = self.item.session.gethookproxy
        self.item.session.gethookproxy = lambda path: _WithoutReports(hooks_of(path))

    def phase(self, when: Any) -> BaseException | None:
        """Do one phase of the test as pytest does; return its error."""
        item = self.item
        hook = getattr(item.ihook, f"pytest_runtest_{when}")
        arguments = {"item": item}
        if when == "teardown":
            self._folder = folder_of(item)
            arguments["nextitem"] = copy.copy(item)  # as if the same test came next: wider fixtures stay
        call: pytest.CallInfo[None] = pytest.CallInfo.from_call(lambda: hook(**arguments), when)
        if call.excinfo is not None:
            _pass_on(call.excinfo.value)
        # Fixtures can ask how a phase ended, as `tmp_path` does.
        item.ihook.pytest_runtest_makereport(item=item, call=call)
        return None if call.excinfo is None else call.excinfo.value

    def forget(self) -> None:
        """Forget what the run has left at the test: its fixtures, its instance, its folder."""
        state = vars(self.item)
        for name in _TELLERS:
            state.pop(name, None)
        vars(self.item.session).pop("gethookproxy", None)
        if "_request" in state:
            state.update(_request=False, funcargs=None)
        if isinstance(getattr(self.item, "obj", None), MethodType):
            state.pop("_instance", None)
            state["_obj"] = None
        if self._folder is not None:
            shutil.rmtree(self._folder, ignore_errors=True)  # the next run gets a folder of the same name


class RepeatedTest:
    """Runs a test again (`Player`).

    Parameters: `number` says which of the rigs that the test makes is searched, from 1. `longest_s`: after how many
    real seconds a run is given up.
    """

    def __init__(self, item: pytest.Item, number: int, longest_s: float) -> None:
        self._again = TestAgain(item)
        self._number = number
        self._longest_s = longest_s
        self._approval = Approval(item.path.parent)
        # The rigs of the first run can be those of fixtures of a wider scope, which other tests use as well.
        self._warms_up = True

    @contextmanager
    def __call__(self, begin: Callable[[Rig], RunControl], end: Callable[[Rig], None]) -> Iterator[Played]:
        rigs: list[Rig] = []
        controls: list[RunControl] = []

        def note(rig: Rig) -> Approval:
            rigs.append(rig)
            if len(rigs) == self._number:
                controls.append(begin(rig))
            return self._approval

        again = self._again
        sections: list[Any] = vars(again.item)["_report_sections"]
        had = len(sections)
        longest_s = FIRST_RUN_S if self._warms_up else self._longest_s
        with observed_by(note), same_chance():
            try:
                again.begin()
                with interrupts.at_once(), ending_within(longest_s):
                    error = again.phase("setup") or again.phase("call")
                if not controls:
                    raise NoRig
                rig = rigs[self._number - 1]
                if error is not None and not isinstance(error, StuckError):
                    # Its jobs continue without the test: its end says nothing about them.
                    try:
                        with held(rig), ending_within(longest_s / 4):
                            rig.run_dry()
                    except BaseException as more:
                        _pass_on(more)
                yield Played(rig, controls[0], error)
            finally:
                again.phase("teardown")
                again.forget()
                del sections[had:]
                if not self._warms_up:
                    for rig in rigs:
                        end(rig)
                self._warms_up = False


def is_over(item: pytest.Item, error: BaseException) -> bool:
    """Return True if an error is an assertion of a test after which only assertions follow: all that it does was done.

    Parameters: `error` is what the call of the test has raised.
    """
    function = inspect.unwrap(getattr(item, "obj", None) or _not_told)
    code, trace = getattr(function, "__code__", None), error.__traceback__
    while trace is not None and trace.tb_frame.f_code is not code:
        trace = trace.tb_next
    if code is None or trace is None or not isinstance(error, AssertionError):
        return False
    try:
        source = textwrap.dedent(inspect.getsource(function))
    except (OSError, TypeError):
        return False
    line = trace.tb_lineno - code.co_firstlineno + 1
    return _only_asserts_after(ast.parse(source).body, line)


def _only_asserts_after(block: list[ast.stmt], line: int) -> bool:
    """Return True if only assertions follow the statement at a line, which a block of statements has."""
    for number, statement in enumerate(block):
        if statement.lineno <= line <= (statement.end_lineno or statement.lineno):
            rest = all(isinstance(one, (ast.Assert, ast.Pass)) for one in block[number + 1 :])
            inner = [
                part
                for name in ("body", "orelse", "finalbody")
                for part in [getattr(statement, name, [])]
                if part and part[0].lineno <= line
            ]
            is_loop = isinstance(statement, (ast.For, ast.While, ast.AsyncFor))
            return rest and not is_loop and (not inner or _only_asserts_after(inner[-1], line))
    return False


class _WithoutReports:
    """The hooks of a test, but for its reports: a part of a test (``subTest``) reports before the test has ended."""

    def __init__(self, hooks: Any) -> None:
        self._hooks = hooks

    def __getattr__(self, name: str) -> Any:
        return getattr(self._hooks, name)

    def pytest_runtest_logreport(self, **_: Any) -> None:
        """Report nothing."""


def _pass_on(error: BaseException) -> None:
    """Raise an error again if it is Ctrl-C, and not a `KeyboardInterrupt` that the code of a test or a job raises."""
    if not isinstance(error, KeyboardInterrupt):
        return
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    if trace is None or dis.opname[trace.tb_frame.f_code.co_code[trace.tb_lasti]] != "RAISE_VARARGS":
        raise error


def _not_told(*_: object, **__: object) -> str:
    return "an error in a run of the search"
