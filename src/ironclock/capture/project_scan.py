"""A scan of a project's source for what makes, runs and plans jobs. Nothing is imported or run."""

from __future__ import annotations

import ast
import inspect
import re
import tomllib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..errors import CronError
from ..schedules.cron import cron
from .readings import proposed

_SKIPPED = {
    "node_modules", "site-packages", "venv", "env", "build", "dist", "__pycache__", "migrations", "docs",
}  # fmt: skip
_VERBS = (
    "add_job", "call_later", "defer", "delay", "dispatch", "do_later", "enqueue", "put", "push", "queue", "run_in",
    "run_later", "schedule", "send_later", "spawn", "submit", "later",
)  # fmt: skip
_DUE = {
    "run_at",
    "due",
    "due_at",
    "scheduled_at",
    "scheduled_for",
    "not_before",
    "available_at",
    "execute_at",
    "next_run",
}
_STATE = {"state", "status", "done", "done_at", "finished_at", "completed_at", "processed"}
_CLAIM = {"attempts", "tries", "locked_at", "locked_by", "claimed_at", "claimed_by", "worker", "retries", "last_error"}
_TABLE = re.compile(
    r"create\s+table\s+(?:if\s+not\s+exists\s+)?[\"`\[]?([\w.]+)[\"`\]]?\s*\((.*?)\)\s*(?:;|$)", re.I | re.S
)
_DECORATORS = ("job", "task", "background", "periodic", "worker", "handler", "subscriber", "consumer")
_CRON = re.compile(r"(?:[\d*/,\-?LW#A-Za-z]+\s+){4,5}[\d*/,\-?LW#A-Za-z]+")


@dataclass(frozen=True)
class Enqueuer:
    """A callable that looks as if it enqueued a job."""

    target: str
    """Its import path, as ``package.module:name``."""
    place: str
    signature: inspect.Signature
    reading: dict[str, Any]
    """The arguments of a `reading` that fits the names of its parameters."""
    unclear: tuple[str, ...]
    """What is not understood: the names of parameters. Empty if the reading is certain."""
    is_method: bool


@dataclass
class Project:
    """What was found in a project. Each entry is a place (``file:line``) and words."""

    root: Path
    enqueuers: list[Enqueuer] = field(default_factory=list)
    handlers: list[tuple[str, str]] = field(default_factory=list)
    cron_lines: list[tuple[str, str]] = field(default_factory=list)
    tables: list[tuple[str, str]] = field(default_factory=list)
    loops: list[tuple[str, str]] = field(default_factory=list)
    """Loops that sleep, and timers: schedulers inside the process."""
    not_understood: list[tuple[str, str]] = field(default_factory=list)
    files: int = 0


def scan(root: Path) -> Project:
    """Return what a project's source says about jobs. Parameters: `root` is its folder."""
    found = Project(root)
    for path in _files(root):
        found.files += 1
        try:
            text = path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            found.not_understood.append((_relative(root, path), f"cannot be read: {error}"))
            continue
        if path.suffix == ".py":
            _python(found, path, text)
        elif path.suffix == ".sql":
            _sql(found, _relative(root, path), 1, text)
        else:
            _lines(found, path, text)
    return found


def _files(root: Path) -> Iterator[Path]:
    for path in sorted(root.rglob("*")):
        parts = path.relative_to(root).parts
        if any(part in _SKIPPED or part.startswith(".") for part in parts) or not path.is_file():
            continue
        if path.suffix in (".py", ".sql", ".toml", ".yml", ".yaml", ".cron", ".crontab") or path.name == "crontab":
            yield path


def _relative(root: Path, path: Path) -> str:
    return str(path.relative_to(root))


# --- Python ---------------------------------------------------------------------------------------------


def _python(found: Project, path: Path, text: str) -> None:
    place = _relative(found.root, path)
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError) as error:
        found.not_understood.append((place, f"is not Python that {_version()} reads: {error}"))
        return
    is_test = path.name.startswith(("test_", "conftest")) or "tests" in path.relative_to(found.root).parts
    module = module_of(found.root, path)
    if not is_test:
        for owner, function in _functions(tree):
            _enqueuer(found, module, owner, function, place)
    for node in ast.walk(tree):
        line = getattr(node, "lineno", 0)
        at = f"{place}:{line}"
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            if is_cron(node.value):
                found.cron_lines.append((at, node.value))
            elif "create table" in node.value.lower():
                _sql(found, place, line, node.value)
        elif is_test:
            continue
        elif isinstance(node, ast.Dict):
            names = [value.id for value in node.values if isinstance(value, ast.Name)]
            keys = [key.value for key in node.keys if isinstance(key, ast.Constant) and isinstance(key.value, str)]
            if len(names) >= 2 and len(names) == len(keys) == len(node.values):
                listed = ", ".join(f"{key} -> {name}" for key, name in zip(keys, names, strict=True))
                found.handlers.append((at, f"names of functions: {listed}"))
        elif isinstance(node, ast.ClassDef):
            _model(found, at, node)
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            marks = [name for one in node.decorator_list if (name := _decorator(one)) in _DECORATORS]
            if marks:
                found.handlers.append((at, f"decorated with @{marks[0]}: {node.name}"))
        elif isinstance(node, ast.While):
            sleeps = [call for call in ast.walk(node) if isinstance(call, ast.Call) and _called(call) == "sleep"]
            if sleeps:
                found.loops.append((at, "a loop that sleeps"))
        elif isinstance(node, ast.Call) and _called(node) in ("Timer", "call_later", "enterabs", "enter"):
            if _called(node) != "enter" or len(node.args) >= 3:
                found.loops.append((at, f"a timer: {_called(node)}(...)"))
        elif isinstance(node, ast.Call) and _called(node) in ("import_module", "__import__", "exec", "eval"):
            found.not_understood.append((at, f"{_called(node)}(...): what it runs is not known before it runs"))


def _version() -> str:
    import sys

    return f"Python {sys.version_info.major}.{sys.version_info.minor}"


def _called(call: ast.Call) -> str:
    return _decorator(call.func)


def module_of(root: Path, path: Path) -> str:
    """Return the name under which a file is imported."""
    folder, parts = path.parent, [] if path.stem == "__init__" else [path.stem]
    while folder != root and (folder / "__init__.py").exists():
        parts.insert(0, folder.name)
        folder = folder.parent
    if folder != root and folder.name not in ("src", "lib", "app_src") and not parts[:-1]:
        # A folder without __init__.py is a package as well, if it is not a root of code.
        parts = [*folder.relative_to(root).parts, *parts]
        if parts and parts[0] in ("src", "lib"):
            parts = parts[1:]
    return ".".join(parts)


def _functions(tree: ast.Module) -> Iterator[tuple[str, ast.FunctionDef | ast.AsyncFunctionDef]]:
    for node in tree.body:
        if isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)):
            yield "", node
        elif isinstance(node, ast.ClassDef):
            for inner in node.body:
                if isinstance(inner, (ast.FunctionDef, ast.AsyncFunctionDef)):
                    yield node.name, inner


def _signature(arguments: ast.arguments) -> inspect.Signature:
    kinds = inspect.Parameter
    parameters = []
    positional = [*((one, kinds.POSITIONAL_ONLY) for one in arguments.posonlyargs),
                  *((one, kinds.POSITIONAL_OR_KEYWORD) for one in arguments.args)]  # fmt: skip
    first_default = len(positional) - len(arguments.defaults)
    for number, (one, kind) in enumerate(positional):
        default = ... if number >= first_default else kinds.empty
        parameters.append(kinds(one.arg, kind, default=default))
    if arguments.vararg is not None:
        parameters.append(kinds(arguments.vararg.arg, kinds.VAR_POSITIONAL))
    for one, default_node in zip(arguments.kwonlyargs, arguments.kw_defaults, strict=True):
        default = kinds.empty if default_node is None else ...
        parameters.append(kinds(one.arg, kinds.KEYWORD_ONLY, default=default))
    if arguments.kwarg is not None:
        parameters.append(kinds(arguments.kwarg.arg, kinds.VAR_KEYWORD))
    return inspect.Signature(parameters)


def _enqueuer(
    found: Project, module: str, owner: str, function: ast.FunctionDef | ast.AsyncFunctionDef, place: str
) -> None:  # fmt: skip
    """Note a function that takes a callable or a name with arguments, and something like a delay."""
    name = function.name.lower()
    if name.startswith("__") or (name.startswith("_") and not owner):
        return
    if any(
        _decorator(one) in ("property", "staticmethod", "classmethod", "overload") for one in function.decorator_list
    ):
        return
    signature = _signature(function.args)
    reading, unclear = proposed(signature)
    verb = any(name == verb or name.startswith(verb + "_") or name.endswith("_" + verb) for verb in _VERBS)
    takes_arguments = isinstance(reading.get("args"), slice) or "args" in signature.parameters
    says_when = any(word in reading for word in ("after", "at", "queue"))
    if "job" not in reading or not (verb or says_when) or not (takes_arguments or says_when):
        return
    if not verb and not (says_when and takes_arguments):
        return
    if owner and list(signature.parameters)[:1] != ["self"]:
        return
    target = f"{module}:{owner}.{function.name}" if owner else f"{module}:{function.name}"
    found.enqueuers.append(
        Enqueuer(target, f"{place}:{function.lineno}", signature, reading, tuple(unclear), bool(owner))
    )


def _decorator(node: ast.expr) -> str:
    inner = node.func if isinstance(node, ast.Call) else node
    return inner.attr if isinstance(inner, ast.Attribute) else inner.id if isinstance(inner, ast.Name) else ""


def _model(found: Project, at: str, node: ast.ClassDef) -> None:
    """Note a class of an object-relational mapper whose fields look like those of a job table."""
    targets: list[ast.expr] = []
    for line in node.body:
        if isinstance(line, ast.AnnAssign):
            targets.append(line.target)
        elif isinstance(line, ast.Assign):
            targets += line.targets
    names = {target.id for target in targets if isinstance(target, ast.Name)}
    maps = any(_decorator(base) in ("Model", "Base", "DeclarativeBase", "SQLModel") for base in node.bases)
    if maps and looks_like_jobs(names):
        found.tables.append((at, f"{node.name}: {', '.join(sorted(names & (_DUE | _STATE | _CLAIM)))}"))


# --- other files ----------------------------------------------------------------------------------------


def looks_like_jobs(columns: Iterable[str]) -> bool:
    """Return True if a table with these columns looks like one of jobs: when they are due, and what became of them."""
    names = {column.lower() for column in columns}
    return bool(names & _DUE) and bool(names & (_STATE | _CLAIM))


def _sql(found: Project, place: str, line: int, text: str) -> None:
    for table in _TABLE.finditer(text):
        names = [words[0].strip('"`[]') for part in table[2].split(",") if (words := part.split())]
        if looks_like_jobs(names):
            at = line + text[: table.start()].count("\n")
            told = [name for name in names if name.lower() in (_DUE | _STATE | _CLAIM)]
            found.tables.append((f"{place}:{at}", f"{table[1]}: {', '.join(told)}"))


def is_cron(text: str) -> bool:
    """Return True for a cron expression of five or six fields."""
    if not _CRON.fullmatch(text.strip()) or not any(sign in text for sign in "*/0123456789"):
        return False
    try:
        cron(text.strip())
    except CronError:
        return False
    return True


def _lines(found: Project, path: Path, text: str) -> None:
    """Note cron expressions in TOML, YAML and crontabs."""
    place = _relative(found.root, path)
    if path.suffix == ".toml":
        try:
            tomllib.loads(text)
        except tomllib.TOMLDecodeError as error:
            found.not_understood.append((place, f"is not TOML: {error}"))
            return
    crontab = path.suffix in (".cron", ".crontab") or path.name == "crontab"
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if stripped.startswith("#"):
            continue
        if crontab:
            candidates = [" ".join(stripped.split()[:5])]
        else:
            candidates = [quoted[1] for quoted in re.finditer(r"[\"']([^\"']+)[\"']", line)]
            if path.suffix != ".toml" and not candidates:
                candidates = [stripped.rpartition(": ")[2]]
        found.cron_lines += [(f"{place}:{number}", one) for one in candidates if is_cron(one)]
