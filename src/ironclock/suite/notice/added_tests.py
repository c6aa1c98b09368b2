"""A test that would notice a change: an existing test with a line that goes to the place, and a line that looks.

What is suggested has been run: it passes as the code is, and fails under the change.
"""

from __future__ import annotations

import ast
import copy
import inspect
import textwrap
import unittest
from collections.abc import Iterator
from types import FunctionType, MethodType
from typing import Any

import pytest

from ...errors import IronClockError, LooseEnds
from ...rig import Rig
from .change import Change
from .trial import Ran, Trials

_GOES_ON = ("advance", "advance_to", "run_dry", "settle", "step")
_CHECKS = ("check", "matches", "allow")


class AddedTest:
    """Looks for a test that notices a change. Parameters: `trials` runs the test on which it is built."""

    def __init__(self, trials: Trials) -> None:
        self._trials = trials
        self._item: Any = trials.item
        self.runs = 0
        """How many runs were made."""

    def find(self, change: Change) -> str:
        """Return the code of a test that notices a change. Empty if none was found."""
        try:
            body = self._body()
        except (OSError, TypeError, SyntaxError):
            return ""
        if body is None:
            return ""
        for function in self._variants(body, change):
            found = self._completed(function, change)
            if found:
                return found
        return ""

    def _body(self) -> ast.FunctionDef | None:
        """Return the tree of the test. None for one that cannot be built upon."""
        function = self._function()
        if function is None or function.__closure__ is not None:
            return None
        node = ast.parse(textwrap.dedent(inspect.getsource(function))).body[0]
        if not isinstance(node, ast.FunctionDef) or "rig" not in [one.arg for one in node.args.args]:
            return None
        return node

    def _function(self) -> FunctionType | None:
        """Return the function of the test, also if it is a method. None for a test of another kind."""
        held = getattr(self._item, "obj", None)
        is_case = issubclass(getattr(self._item, "cls", None) or object, unittest.TestCase)
        function = None if is_case else getattr(held, "__func__", held)
        return function if isinstance(function, FunctionType) else None

    def _variants(self, test: ast.FunctionDef, change: Change) -> Iterator[ast.FunctionDef]:
        """Yield the test without its own assertions, with the lines that reach the place at one line or another."""
        kept = [one for one in test.body if not _asserts(one)]
        function = self._function()
        known = {} if function is None else function.__globals__
        needs = change.imports if change.imports.rpartition(" ")[2] not in known else ""
        reach = [node for line in (needs, *change.reach) for node in ast.parse(line).body]
        begins, moves = (
            next((n for n, one in enumerate(kept) if _calls(one, names)), len(kept))
            for names in ((*_GOES_ON, "enqueue"), _GOES_ON)
        )
        for at in dict.fromkeys((begins, moves, 0, len(kept))) if reach else (len(kept),):
            body = [*kept[:at], *reach, *kept[at:]]
            name = f"{test.name}_notices"
            yield _function(test, body or [ast.Pass()], name)

    def _completed(self, function: ast.FunctionDef, change: Change) -> str:
        for end in ("", "rig.run_dry()", 'rig.advance("1d")'):
            made = _with(function, end)
            before, values = self._look(made, None, change)
            if before is None or not values:
                continue
            _, others = self._look(made, change, change)
            differ = [look for look in values if others is not None and values[look] != others.get(look, values[look])]
            if not differ:
                continue
            looks = list(dict.fromkeys([*[one for one in values if one.startswith("[job.state")], differ[0]]))
            lines = [f"assert {look} == {values[look]}" for look in looks]
            whole = _with(made, *lines)
            if self._run(whole, None).error is None and self._run(whole, change).error is not None:
                return ast.unparse(ast.fix_missing_locations(whole))
        return ""

    def _look(
        self, function: ast.FunctionDef, change: Change | None, about: Change
    ) -> tuple[Ran | None, dict[str, str] | None]:
        """Run a test, and look at its rig in several ways at the end."""
        values: dict[str, str] = {}

        def read(rig: Rig) -> None:
            for look in _looks(about):
                try:
                    values[look] = repr(eval(look, {"rig": rig, "len": len, "str": str}))
                except Exception:
                    values.pop(look, None)

        ran = self._run(function, change, read)
        own = ran.error is None or isinstance(ran.error, LooseEnds)
        return (ran if own else None), values

    def _run(self, function: ast.FunctionDef, change: Change | None, read: Any = None) -> Ran:
        self.runs += 1
        item, real, own = self._item, self._item.obj, self._function()
        assert own is not None
        module = ast.fix_missing_locations(ast.Module([function], []))
        space = dict(own.__globals__)
        exec(compile(module, own.__code__.co_filename, "exec"), space)
        is_method = isinstance(real, MethodType)
        item.obj = MethodType(space[function.name], item.instance) if is_method else space[function.name]
        try:
            return self._trials.run(change, read)
        except (IronClockError, pytest.UsageError) as error:
            return Ran(error)
        finally:
            item.obj = None if is_method else real  # each run has an instance of its own


def _with(function: ast.FunctionDef, *lines: str) -> ast.FunctionDef:
    more = [node for line in lines if line for node in ast.parse(line).body]
    return _function(function, [*function.body, *more], function.name)


def _function(like: ast.FunctionDef, body: list[ast.stmt], name: str) -> ast.FunctionDef:
    made = copy.copy(like)
    made.name, made.body = name, body
    return made


def _asserts(node: ast.stmt) -> bool:
    return isinstance(node, ast.Assert) or _calls(node, _CHECKS)


def _calls(node: ast.stmt, names: tuple[str, ...]) -> bool:
    """Return True if a statement has a call of a method with one of these names."""
    return any(
        isinstance(one, ast.Call) and isinstance(one.func, ast.Attribute) and one.func.attr in names
        for one in ast.walk(node)
    )


def _looks(change: Change) -> list[str]:
    """Return what can be looked at at the end of a test, as expressions."""
    name = repr(change.name)
    if change.kind == "job":
        jobs = f"for job in rig.jobs({name})]"
        return [
            f"[job.state {jobs}", f"[len(job.attempts) {jobs}", f"[job.waits {jobs}",
            f"[[str(one.started_at) for one in job.attempts] {jobs}", f"[job.queue {jobs}", f"[job.priority {jobs}",
        ]  # fmt: skip
    if change.kind == "schedule":
        runs = f"rig.schedules[{name}].runs"
        return [f"len({runs})", f"[str(run.enqueued_at) for run in {runs}]"]
    if change.kind == "effect":
        return [f"len(rig.effects({name}, outcome='done'))", f"[effect.key for effect in rig.effects({name})]"]
    return [
        "[job.state for job in rig.jobs()]", "[len(job.attempts) for job in rig.jobs()]",
        "[(effect.name, effect.outcome) for effect in rig.effects]",
        "[[job.id, str(job.enqueued_at)] for job in rig.jobs()]",
    ]  # fmt: skip
