"""The code that a test runs, as a digest: as long as it is the same, a search of the test finds the same.

The digest has each function of the project that was called, and what the modules of the project do when they are
imported. Comments, line numbers, and functions that the test does not call are not in it. Installed packages and the
standard library are taken to stay as they are.
"""

from __future__ import annotations

import ast
import hashlib
import sys
import threading
from collections.abc import Iterable, Iterator
from functools import cache
from pathlib import Path
from types import CodeType, FrameType, ModuleType
from typing import Any

from ..foundation.source_location import is_installed, is_own

_TOOL = 4  # an id for tools of `sys.monitoring` that is not set aside for a debugger, a profiler or coverage


class RanCode:
    """Notes the functions of the project that are called inside the block.

    Python 3.12 and later tell each function once (`sys.monitoring`). Before that, every call is looked at.
    """

    def __init__(self) -> None:
        self.codes: set[CodeType] = set()
        self._ids: set[int] = set()

    def __enter__(self) -> RanCode:
        monitoring = getattr(sys, "monitoring", None)
        if monitoring is None:
            self._profile_before = sys.getprofile()
            threading.setprofile(self._called)
            sys.setprofile(self._called)
        elif monitoring.get_tool(_TOOL) is None:
            monitoring.use_tool_id(_TOOL, "ironclock")
            monitoring.register_callback(_TOOL, monitoring.events.PY_START, self._started)
            monitoring.set_events(_TOOL, monitoring.events.PY_START)
            monitoring.restart_events()
        return self

    def __exit__(self, *_: object) -> None:
        monitoring = getattr(sys, "monitoring", None)
        if monitoring is None:
            sys.setprofile(self._profile_before)
            threading.setprofile(self._profile_before)
        elif monitoring.get_tool(_TOOL) == "ironclock":
            monitoring.set_events(_TOOL, 0)
            monitoring.register_callback(_TOOL, monitoring.events.PY_START, None)
            monitoring.free_tool_id(_TOOL)
        self._ids.clear()

    def _started(self, code: CodeType, _offset: int) -> Any:
        self._note(code)
        return sys.monitoring.DISABLE  # type: ignore[attr-defined,unused-ignore]

    def _called(self, frame: FrameType, event: str, _: Any) -> None:
        if event == "call":
            self._note(frame.f_code)

    def _note(self, code: CodeType) -> None:
        if id(code) not in self._ids:
            self._ids.add(id(code))
            if is_of_project(code.co_filename):
                self.codes.add(code)  # this keeps it, so that its id stays its own


def is_of_project(file: str) -> bool:
    """Return True for a file that is neither Iron Clock's, nor Python's, nor of an installed package."""
    return not (is_own(file) or is_installed(file) or file.startswith("<"))


@cache
def own_files() -> str:
    """Return the sizes and times of the files of Iron Clock itself: another version searches in another way."""
    folder = Path(__file__).parents[1]
    files = sorted(folder.rglob("*.py"))
    return repr([(file.name, (stat := file.stat()).st_size, stat.st_mtime_ns) for file in files])


class ProjectModules:
    """The modules of the project that are imported now, and what they do when they are imported."""

    def __init__(self) -> None:
        self._by_file = {file: module for module in list(sys.modules.values()) if (file := _file_of(module))}
        self._read: dict[str, tuple[bytes, set[str]]] = {}

    def digest(self, files: Iterable[str], codes: Iterable[CodeType]) -> str:
        """Return the digest of functions, and of what these modules and all that they import do on import."""
        total = hashlib.sha256()
        total.update(repr(sorted(code_digest(code) for code in codes)).encode())
        for _, imported in sorted(self._closure(files).items()):
            total.update(imported)
        return total.hexdigest()

    def _closure(self, files: Iterable[str]) -> dict[str, bytes]:
        found: dict[str, bytes] = {}
        left = [file for file in files if is_of_project(file)]
        while left:
            file = left.pop()
            if file not in found:
                found[file], others = self._module(file)
                left += others - found.keys()
        return found

    def _module(self, file: str) -> tuple[bytes, set[str]]:
        """Return the digest of what a module does on import, and the files of the project that it imports."""
        read = self._read.get(file)
        if read is None:
            try:
                tree = ast.parse(Path(file).read_bytes())
            except (OSError, SyntaxError, ValueError):
                tree = ast.parse("")
            module = self._by_file.get(file)
            package = "" if module is None else str(getattr(module, "__package__", "") or "")
            files = {_file_of(sys.modules.get(name)) for name in _imports(tree, package)}
            digest = hashlib.sha256(ast.dump(_WithoutBodies().visit(tree)).encode()).digest()
            read = self._read[file] = digest, {one for one in files if one and is_of_project(one)}
        return read


class _WithoutBodies(ast.NodeTransformer):
    """Drops the code of functions, which import does not run, and keeps their decorators and defaults."""

    def visit_FunctionDef(self, node: ast.FunctionDef) -> Any:
        node.body = []
        return self.generic_visit(node)

    def visit_AsyncFunctionDef(self, node: ast.AsyncFunctionDef) -> Any:
        node.body = []
        return self.generic_visit(node)


def _file_of(module: ModuleType | None) -> str:
    return str(getattr(module, "__file__", "") or "")


def _imports(tree: ast.AST, package: str) -> Iterator[str]:
    """Yield the name of every module that a module can import."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            for alias in node.names:
                yield from _with_packages(alias.name)
        elif isinstance(node, ast.ImportFrom):
            parts = package.split(".")[: len(package.split(".")) - node.level + 1] if node.level else []
            base = ".".join(filter(None, [*parts, node.module or ""]))
            yield from _with_packages(base)
            for alias in node.names:
                yield f"{base}.{alias.name}"


def _with_packages(name: str) -> Iterator[str]:
    parts = name.split(".")
    for count in range(1, len(parts) + 1):
        yield ".".join(parts[:count])


def code_digest(code: CodeType) -> str:
    """Return a digest of a function's code, without its place in the file."""
    consts = [
        code_digest(one)
        if isinstance(one, CodeType)
        else repr(sorted(map(repr, one)))
        if isinstance(one, frozenset)
        else repr(one)
        for one in code.co_consts
    ]
    held = (
        code.co_name, code.co_code, code.co_names, code.co_varnames, code.co_freevars, code.co_cellvars, consts,
        code.co_argcount, code.co_posonlyargcount, code.co_kwonlyargcount, code.co_flags, code.co_exceptiontable,
    )  # fmt: skip
    return hashlib.sha256(repr(held).encode()).hexdigest()
