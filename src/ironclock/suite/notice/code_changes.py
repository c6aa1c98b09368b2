"""The changes of code: a function of the application gets another body in this process, and never on disk.

A change is one small slip, as people make it: an error that is swallowed, a `return` too early, `<=` for `<`. The
module is parsed, the slip is made in its tree, and the function gets the code that comes out of that.
"""

from __future__ import annotations

import ast
import copy
import gc
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from types import CodeType, FunctionType, ModuleType
from typing import Any, TypeAlias

from ...errors import InputError

_SEEN = "__ironclock_seen__"
_Functions: TypeAlias = "ast.FunctionDef | ast.AsyncFunctionDef"
_BOUNDS: dict[type[ast.cmpop], type[ast.cmpop]] = {ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt}
_SIGNS = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}
_BLOCKS = ("body", "orelse", "finalbody")


@dataclass(frozen=True)
class Slip:
    """One slip in the tree of a module: where, what in words, how the lines look, and how much it would do.

    Parameters: `line` is the line of the statement; `make` makes the slip in a copy of the tree, in which the node has
    the number `node`.
    """

    function: str
    line: int
    words: str
    weight: int
    node: int
    make: Callable[[ast.AST, ast.AST], None]


class CodeChange:
    """A function of the application with another body.

    Parameters: `source` is its module; `slip` says what is another.
    """

    def __init__(self, source: Source, slip: Slip) -> None:
        self._source = source
        self._slip = slip

    @property
    def function(self) -> str:
        """The name of the function, as ``app.jobs.charge``."""
        return f"{self._source.name}.{self._slip.function}"

    @cached_property
    def lines(self) -> tuple[str, str]:
        """The statement without and with the change."""
        tree = self._source.slipped(self._slip)
        before = self._source.text.splitlines()
        function, changed = self._source.function(self._slip.function), _function_of(tree, self._slip.function)
        old = ast.unparse(function).splitlines()
        new = ast.unparse(changed).splitlines()
        start = next((n for n, (one, other) in enumerate(zip(old, new, strict=False)) if one != other), len(old))
        end = next(
            (n for n, (one, other) in enumerate(zip(old[::-1], new[::-1], strict=False)) if one != other), 0
        )  # fmt: skip
        end = min(end, len(old) - start, len(new) - start)
        removed = "\n".join(line.strip() for line in old[start : len(old) - end])
        added = "\n".join(line.strip() for line in new[start : len(new) - end])
        return removed or before[self._slip.line - 1].strip(), added

    @contextmanager
    def in_place(self) -> Iterator[None]:
        """Let the function have the changed code inside the block. Raises `InputError` if it cannot have it."""
        with self._source.replaced(self._source.slipped(self._slip), {self._slip.function}):
            yield


class Source:
    """The source of one imported module. Raises `InputError` if it cannot be read.

    Parameters: `module` is the module.
    """

    def __init__(self, module: ModuleType) -> None:
        self.name = module.__name__
        self.file = str(getattr(module, "__file__", "") or "")
        self._module = module
        try:
            with open(self.file, "rb") as file:
                self.text = file.read().decode("utf-8")
            self.tree = ast.parse(self.text)
        except (OSError, SyntaxError, ValueError) as error:
            raise InputError(
                f"[tool.ironclock] notice has {self.name!r}, whose source cannot be read ({error}); name a module that "
                "is a Python file"
            ) from None
        self._functions = dict(_functions_of(self.tree))

    @cached_property
    def _living(self) -> list[tuple[str, FunctionType]]:
        """The function objects of the module with their names, decorated ones too."""
        space = vars(self._module)
        functions = [one for one in gc.get_objects() if type(one) is FunctionType and one.__globals__ is space]
        named = [(one.__code__.co_qualname, one) for one in functions]
        return [(name, one) for name, one in named if name in self._functions]

    def function(self, name: str) -> _Functions:
        """Return the tree of a function."""
        return self._functions[name]

    @cached_property
    def slips(self) -> list[Slip]:
        """Every slip that can be made, in the order of the lines."""
        nodes = {id(node): number for number, node in enumerate(ast.walk(self.tree))}
        found = []
        for name, function in self._functions.items():
            for line, words, weight, node, make in _slips_of(function):
                found.append(Slip(name, line, words, weight, nodes[id(node)], make))
        return sorted(found, key=lambda slip: slip.line)

    def slipped(self, slip: Slip) -> ast.Module:
        """Return the tree of the module with a slip in it."""
        tree = copy.deepcopy(self.tree)
        for number, node in enumerate(ast.walk(tree)):
            if number == slip.node:
                slip.make(tree, node)
                break
        return ast.fix_missing_locations(tree)

    @contextmanager
    def noting_lines(self, seen: Callable[[tuple[str, int]], None]) -> Iterator[None]:
        """Call `seen` with the file and the line of each statement of the functions that runs inside the block."""
        tree = copy.deepcopy(self.tree)
        for _, function in _functions_of(tree):
            _note_lines(function)
        space = vars(self._module)
        space[_SEEN] = lambda line: seen((self.file, line))
        try:
            with self.replaced(ast.fix_missing_locations(tree), set(self._functions)):
                yield
        finally:
            space.pop(_SEEN, None)

    @contextmanager
    def replaced(self, tree: ast.Module, names: set[str]) -> Iterator[None]:
        """Let some functions have the code of another tree inside the block."""
        new = dict(_codes_of(compile(tree, self.file, "exec", dont_inherit=True)))
        made: list[tuple[FunctionType, CodeType]] = []
        try:
            for name, function in self._living:
                code = new.get(name) if name in names else None
                if code is not None and code.co_freevars == function.__code__.co_freevars:
                    made.append((function, function.__code__))
                    function.__code__ = code
            yield
        finally:
            for function, code in made:
                function.__code__ = code


def sources_of(names: Iterable[str], known: dict[str, Source]) -> list[Source]:
    """Return the sources of modules that are imported, and of the modules in their packages.

    Parameters: `names` are those of ``[tool.ironclock] notice``. `known` are the sources that were read, by module; new
    ones are added.
    """
    modules = dict(sys.modules)
    found = []
    for given in names:
        for name, module in sorted(modules.items()):
            inside = name == given or name.startswith(f"{given}.")
            if inside and str(getattr(module, "__file__", "") or "").endswith(".py"):
                if name not in known:
                    known[name] = Source(module)
                found.append(known[name])
    return found


def _functions_of(tree: ast.Module) -> Iterator[tuple[str, _Functions]]:
    """Yield the functions of a module and the methods of its classes, with their names. Inner functions are parts."""

    def inside(body: Iterable[ast.stmt], prefix: str) -> Iterator[tuple[str, _Functions]]:
        for node in body:
            if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
                yield f"{prefix}{node.name}", node
            elif isinstance(node, ast.ClassDef):
                yield from inside(node.body, f"{prefix}{node.name}.")
            elif isinstance(node, (ast.If, ast.Try)):
                yield from inside(node.body, prefix)

    yield from inside(tree.body, "")


def _function_of(tree: ast.Module, name: str) -> _Functions:
    return dict(_functions_of(tree))[name]


def _codes_of(code: CodeType, prefix: str = "") -> Iterator[tuple[str, CodeType]]:
    for const in code.co_consts:
        if isinstance(const, CodeType):
            name = f"{prefix}{const.co_name}"
            yield name, const
            if not const.co_flags & 0x2:  # CO_NEWLOCALS: a class has none, and its methods are inside it
                yield from _codes_of(const, f"{name}.")


def _note_lines(function: _Functions) -> None:
    for node in list(ast.walk(function)):
        for name in _BLOCKS:
            block = getattr(node, name, None)
            if not isinstance(block, list) or not block or not isinstance(block[0], ast.stmt):
                continue
            noted: list[ast.stmt] = []
            for statement in block:
                is_docstring = statement is block[0] and _is_text(statement)
                if not is_docstring and not isinstance(statement, (ast.Global, ast.Nonlocal)):
                    call = ast.Call(ast.Name(_SEEN, ast.Load()), [ast.Constant(statement.lineno)], [])
                    noted.append(ast.copy_location(ast.Expr(call), statement))
                noted.append(statement)
            setattr(node, name, noted)


def _is_text(node: ast.stmt) -> bool:
    return isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)


# --- slips --------------------------------------------------------------------------------------------

_Found: TypeAlias = "tuple[int, str, int, ast.AST, Callable[[ast.AST, ast.AST], None]]"


def _slips_of(function: _Functions) -> Iterator[_Found]:
    yield from _early_return(function)
    for node in ast.walk(function):
        if isinstance(node, ast.ExceptHandler) and any(isinstance(one, ast.Raise) for one in ast.walk(node)):
            caught = "every error" if node.type is None else ast.unparse(node.type)
            yield node.body[0].lineno, f"{caught} is swallowed", 90, node, _swallow
        elif isinstance(node, ast.Compare):
            yield from _other_bounds(node)
        elif isinstance(node, ast.Expr):
            yield from _of_statement(node)
        elif isinstance(node, ast.Call):
            yield from _of_clock(node)
            yield from _of_key(node)
        for name in _BLOCKS:
            block = getattr(node, name, None)
            if isinstance(block, list):
                yield from _exchanged(block)


def _early_return(function: _Functions) -> Iterator[_Found]:
    calls = [one for one in function.body if _called(one) is not None]
    if calls and any(not _is_text(one) for one in function.body[: function.body.index(calls[-1])]):
        last = calls[-1]

        def make(tree: ast.AST, node: ast.AST) -> None:
            _put(tree, node, [ast.Return(None), node])

        yield last.lineno, f"it returns before {_short(last)}", 80, last, make


def _called(statement: ast.stmt) -> ast.Call | None:
    """Return the call that a statement is. None if it is something else."""
    if not isinstance(statement, ast.Expr):
        return None
    value = statement.value.value if isinstance(statement.value, ast.Await) else statement.value
    return value if isinstance(value, ast.Call) else None


def _short(node: ast.AST) -> str:
    text = " ".join(ast.unparse(node).split())
    return text if len(text) <= 50 else f"{text[:47]}..."


def _swallow(_: ast.AST, node: ast.AST) -> None:
    assert isinstance(node, ast.ExceptHandler)
    node.body = [ast.copy_location(ast.Pass(), node.body[0])]


def _other_bounds(node: ast.Compare) -> Iterator[_Found]:
    for number, sign in enumerate(node.ops):
        other = _BOUNDS.get(type(sign))
        if other is not None:

            def make(_: ast.AST, found: ast.AST, number: int = number, other: type[ast.cmpop] = other) -> None:
                assert isinstance(found, ast.Compare)
                found.ops[number] = other()

            words = f"{_SIGNS[other]} for {_SIGNS[type(sign)]} in {_short(node)}"
            yield node.lineno, words, 40, node, make


def _of_statement(node: ast.Expr) -> Iterator[_Found]:
    call = _called(node)
    if call is None:
        return
    if isinstance(call.func, ast.Attribute) and call.func.attr == "commit":
        yield node.lineno, f"{_short(node)} is left out", 90, node, lambda tree, found: _put(tree, found, [ast.Pass()])
    if isinstance(node.value, ast.Await):

        def make(_: ast.AST, found: ast.AST) -> None:
            assert isinstance(found, ast.Expr)
            assert isinstance(found.value, ast.Await)
            found.value = found.value.value

        yield node.lineno, f"{_short(call)} is not awaited", 70, node, make


def _of_clock(node: ast.Call) -> Iterator[_Found]:
    if not isinstance(node.func, ast.Attribute):
        return
    if node.func.attr == "now" and (node.args or node.keywords):

        def utcnow(_: ast.AST, found: ast.AST) -> None:
            assert isinstance(found, ast.Call)
            assert isinstance(found.func, ast.Attribute)
            found.func.attr, found.args, found.keywords = "utcnow", [], []

        yield node.lineno, f"utcnow() for {_short(node)}", 50, node, utcnow
    if node.func.attr == "today" and not node.args:

        def today(_: ast.AST, found: ast.AST) -> None:
            assert isinstance(found, ast.Call)
            far = "__import__('datetime').timezone(__import__('datetime').timedelta(hours=14))"
            text = f"__import__('datetime').datetime.now({far}).date()"
            made = ast.parse(text, mode="eval").body
            assert isinstance(made, ast.Call)
            found.func, found.args, found.keywords = made.func, made.args, made.keywords

        yield node.lineno, f"{_short(node)} of a zone that is 14 hours ahead", 40, node, today


def _of_key(node: ast.Call) -> Iterator[_Found]:
    """Yield slips with the key by which a service knows a request again."""
    for keyword in node.keywords:
        if keyword.arg in ("idempotency_key", "idempotency_token"):
            name = keyword.arg

            def make(_: ast.AST, found: ast.AST, name: str = name) -> None:
                assert isinstance(found, ast.Call)
                for one in found.keywords:
                    if one.arg == name:
                        one.value = _new_key()

            yield node.lineno, f"{name} is another at each attempt", 80, node, make
    for inner in ast.walk(node):
        if isinstance(inner, ast.Dict):
            for number, key in enumerate(inner.keys):
                if isinstance(key, ast.Constant) and str(key.value).lower() == "idempotency-key":

                    def change(_: ast.AST, found: ast.AST, number: int = number) -> None:
                        assert isinstance(found, ast.Dict)
                        found.values[number] = _new_key()

                    yield node.lineno, f"{key.value!s} is another at each attempt", 80, inner, change


def _new_key() -> ast.expr:
    return ast.parse("str(__import__('uuid').uuid4())", mode="eval").body


def _exchanged(block: list[Any]) -> Iterator[_Found]:
    for one, other in pairwise(block):
        if not isinstance(one, ast.stmt) or _called(one) is None or _called(other) is None:
            continue

        def make(tree: ast.AST, found: ast.AST) -> None:
            for node in ast.walk(tree):
                for name in _BLOCKS:
                    inside = getattr(node, name, None)
                    if isinstance(inside, list) and found in inside:
                        at = inside.index(found)
                        inside[at], inside[at + 1] = inside[at + 1], inside[at]
                        return

        yield one.lineno, f"{_short(other)} comes before {_short(one)}", 40, one, make


def _put(tree: ast.AST, node: ast.AST, statements: list[Any]) -> None:
    """Put statements in the place of one."""
    for parent in ast.walk(tree):
        for name in _BLOCKS:
            block = getattr(parent, name, None)
            if isinstance(block, list) and node in block:
                at = block.index(node)
                block[at : at + 1] = [ast.copy_location(one, node) for one in statements]
                return
