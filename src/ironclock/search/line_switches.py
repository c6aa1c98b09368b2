"""Lines as switch points: the functions of chosen modules get code that tells at each statement where it is.

The source is parsed and compiled again with a call before each statement, and between reading and storing a value that
others can see (``self.seats -= 1``). So the points are the same on every Python version. Nothing else about the code
changes, and the original code is put back afterwards.
"""

from __future__ import annotations

import ast
import gc
import importlib
import linecache
import warnings
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from os.path import basename
from types import CodeType, FunctionType, ModuleType
from typing import Any, Protocol

from ..errors import InputError
from ..interpreter.patching.real_functions import real_get_ident

_MARK = "\0the hook of a line"


class LineListener(Protocol):
    """Who is told of lines."""

    def at_line(self, where: str) -> None:
        """Called when the running task comes to a line."""


_here: dict[int, LineListener] = {}  # by real thread


def _at(where: str, value: Any = None) -> Any:
    listener = _here.get(real_get_ident())
    if listener is not None:
        listener.at_line(where)
    return value


@contextmanager
def telling(listener: LineListener) -> Iterator[None]:
    """Tell a listener of every line that this thread comes to, inside the block."""
    me = real_get_ident()
    before = _here.get(me)
    _here[me] = listener
    try:
        yield
    finally:
        if before is None:
            del _here[me]
        else:
            _here[me] = before


class Lines:
    """The functions of some modules with the calls in them. `install` and `restore` can be nested."""

    _installed: dict[tuple[str, ...], Lines] = {}

    def __init__(self, names: tuple[str, ...]) -> None:
        self._names = names
        self._saved: list[tuple[FunctionType, CodeType]] = []
        self._count = 0

    @classmethod
    def of(cls, names: Iterable[str]) -> Lines:
        """Return the lines of some modules, the same object for the same names."""
        key = tuple(names)
        return cls._installed.setdefault(key, cls(key))

    def install(self) -> None:
        """Put the code with the calls in place. Raises `InputError` for a module without source."""
        self._count += 1
        if self._count > 1:
            return
        try:
            made = {file: _instrumented(file, module) for file, module in map(_source, self._names)}
        except BaseException:
            self._count = 0
            raise
        for function in [one for one in gc.get_objects() if type(one) is FunctionType]:
            codes = made.get(function.__code__.co_filename)
            code = None if codes is None else codes.get(_key(function.__code__))
            if code is not None and code.co_freevars == function.__code__.co_freevars:
                self._saved.append((function, function.__code__))
                function.__code__ = code

    def keep(self) -> None:
        """Put the code with the calls in place if it is not there yet, and leave it there."""
        if self._count == 0:
            self.install()

    def restore(self) -> None:
        """Put the original code back."""
        self._count -= 1
        if self._count == 0:
            for function, code in self._saved:
                function.__code__ = code
            self._saved.clear()


def module_names(given: Any) -> tuple[str, ...]:
    """Return the names of modules that are given as modules or by name. Raises `InputError` for anything else."""
    asked = (given,) if isinstance(given, (str, ModuleType)) else tuple(given)
    names = []
    for one in asked:
        if isinstance(one, ModuleType):
            names.append(one.__name__)
        elif isinstance(one, str):
            names.append(one)
        else:
            raise InputError(f"lines has {one!r}; give modules, or their names")
    for name in names:
        _source(name)
    return tuple(names)


def _source(name: str) -> tuple[str, str]:
    """Return the file and the name of a module. Raises `InputError` if it has no source."""
    try:
        module = importlib.import_module(name)
    except ImportError as error:
        raise InputError(f"lines names the module {name!r}, which cannot be imported: {error}") from None
    file = getattr(module, "__file__", None)
    if file is None or not linecache.getlines(file):
        raise InputError(f"lines names the module {name!r}, which has no Python source; give a module with source")
    return file, name


def _key(code: CodeType) -> tuple[str, int]:
    return code.co_qualname, code.co_firstlineno


def _instrumented(file: str, name: str) -> dict[tuple[str, int], CodeType]:
    """Return the code with the calls of every function of a file, by its name and first line."""
    tree = ast.parse("".join(linecache.getlines(file)), file)
    ast.fix_missing_locations(_Marker(basename(file)).visit(tree))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", SyntaxWarning)  # "str is not callable": the text is only a placeholder
        code = compile(tree, file, "exec", dont_inherit=True)
    found: dict[tuple[str, int], CodeType] = {}
    _hook(code, found)
    return found


def _hook(code: CodeType, found: dict[tuple[str, int], CodeType]) -> CodeType:
    """Put the function that tells of lines in place of its placeholder, in nested code as well."""
    constants = tuple(
        _at if type(one) is str and one == _MARK else _hook(one, found) if isinstance(one, CodeType) else one
        for one in code.co_consts
    )
    made = code.replace(co_consts=constants)
    if not code.co_name.startswith("<"):
        found[_key(code)] = made
    return made


class _Marker(ast.NodeTransformer):
    """Inserts the calls."""

    def __init__(self, file: str) -> None:
        self._file = file
        self._shared: list[set[str]] = []

    def _function(self, node: Any) -> Any:
        shared = {
            name for inner in ast.walk(node) if isinstance(inner, (ast.Global, ast.Nonlocal)) for name in inner.names
        }
        self._shared.append(shared)
        node.body = self._block(node.body, True)
        self._shared.pop()
        return node

    visit_FunctionDef: Callable[..., Any] = _function  # noqa: N815
    visit_AsyncFunctionDef: Callable[..., Any] = _function  # noqa: N815

    def generic_visit(self, node: ast.AST) -> ast.AST:
        if self._shared and not isinstance(node, ast.ClassDef):
            for field in ("body", "orelse", "finalbody"):
                block = getattr(node, field, None)
                if isinstance(block, list) and block and isinstance(block[0], ast.stmt):
                    setattr(node, field, self._block(block, False))
            for inner in [*getattr(node, "handlers", ()), *getattr(node, "cases", ())]:
                inner.body = self._block(inner.body, False)
            return node
        return super().generic_visit(node)

    def _block(self, statements: list[ast.stmt], first: bool) -> list[ast.stmt]:
        made: list[ast.stmt] = []
        for number, statement in enumerate(statements):
            docstring = first and number == 0 and isinstance(statement, ast.Expr)
            if not (docstring and isinstance(statement.value, ast.Constant)):  # type: ignore[attr-defined]
                call = self._call(statement.lineno, "")
                made.append(ast.copy_location(ast.Expr(ast.copy_location(call, statement)), statement))
            if isinstance(statement, ast.ClassDef):  # methods of a class inside a function
                shared, self._shared = self._shared, []
                self.generic_visit(statement)
                self._shared = shared
            else:
                self._stored(statement)
                self.visit(statement)
            made.append(statement)
        return made

    def _stored(self, statement: ast.stmt) -> None:
        """Insert a point between reading and storing a value that others can see."""
        if isinstance(statement, ast.Assign):
            targets = statement.targets
        elif isinstance(statement, (ast.AugAssign, ast.AnnAssign)):
            targets = [statement.target]
        else:
            return
        value = statement.value
        if value is None or (isinstance(value, ast.Constant) and not isinstance(statement, ast.AugAssign)):
            return
        if any(self._seen_by_others(target) for target in targets):
            call = self._call(statement.lineno, ", before it is stored", value)
            statement.value = ast.copy_location(call, value)

    def _seen_by_others(self, target: ast.expr) -> bool:
        if isinstance(target, (ast.Tuple, ast.List)):
            return any(self._seen_by_others(one) for one in target.elts)
        if isinstance(target, ast.Name):
            return target.id in self._shared[-1]
        return isinstance(target, (ast.Attribute, ast.Subscript))

    def _call(self, line: int, more: str, *value: ast.expr) -> ast.Call:
        return ast.Call(ast.Constant(_MARK), [ast.Constant(f"{self._file}:{line}{more}"), *value], [])
