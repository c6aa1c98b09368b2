"""The values in a scenario: callables and errors by name, retries, schedules, rates."""

from __future__ import annotations

import builtins
import datetime as dt
import importlib
import sys
from collections.abc import Callable, Sequence
from pathlib import Path as File
from typing import Any

from ..errors import InputError, nearest
from ..foundation.durations import NS, to_ns
from ..foundation.instants import Instant
from ..schedules.cron import cron
from ..schedules.intervals import every, every_after, once
from ..schedules.recurrence_rules import rrule
from ..schedules.schedule import Schedule
from ..simulation.retry import Retry, exponential, fixed, linear

_KINDS = ("cron", "every", "every_after", "once", "rrule")


def callable_of(name: str | Callable[..., Any], folders: Sequence[str] = ()) -> Callable[..., Any]:
    """Return the callable that ``package.module:function`` names, or that is given itself. Modules are searched in
    these folders as well.

    Raises `InputError`, which says which part of the name is wrong.
    """
    if not isinstance(name, str):
        return name
    for folder in folders:
        if folder not in sys.path:
            sys.path.insert(0, folder)
    module_name, _, attribute = name.partition(":")
    try:
        found: Any = importlib.import_module(module_name)
    except ImportError as error:
        raise InputError(f"{name!r} cannot be imported: {error}. {_near_module(module_name)}".rstrip()) from None
    except Exception as error:
        raise InputError(
            f"{name!r} cannot be imported, because its module raised {type(error).__name__}: {error}"
        ) from error
    for part in attribute.split("."):
        known = [n for n in dir(found) if not n.startswith("_")]
        if not hasattr(found, part):
            raise InputError(f"{module_name} has no {part!r}; {nearest(part, known)}")
        found = getattr(found, part)
    if not callable(found):
        raise InputError(f"{name!r} is {type(found).__name__}, which cannot be called; name a function")
    return found  # type: ignore[no-any-return]


def _near_module(name: str) -> str:
    """Say which module of that name there is nearby."""
    import pkgutil

    parent, _, last = name.rpartition(".")
    if not parent:
        return "Modules are searched where Python searches them, and beside the scenario file"
    try:
        home = importlib.import_module(parent)
    except Exception:
        return ""
    return f"{parent} has: " + nearest(last, [m.name for m in pkgutil.iter_modules(getattr(home, "__path__", ()))])


def error_of(text: str, folders: Sequence[str] = ()) -> BaseException | type[BaseException]:
    """Return the error that ``"ConnectionError: the office is down"`` or ``"package.module:Error"`` names.

    It is an instance if there are words, or the type. Raises `InputError`.
    """
    name, words = text, ""
    if ": " in text:
        name, _, words = text.partition(": ")
    found: Any
    if ":" in name:
        found = callable_of(name, folders)
    else:
        found = getattr(builtins, name, None)
        if found is None:
            import ironclock

            found = getattr(ironclock, name, None)
    if not (isinstance(found, type) and issubclass(found, BaseException)):
        known = [n for n, v in vars(builtins).items() if isinstance(v, type) and issubclass(v, Exception)]
        raise InputError(f"unknown error type {name!r}; {nearest(name, known)}, or give package.module:Error")
    return found(words) if words else found


def _types(given: Sequence[str], folders: Sequence[str]) -> tuple[type[BaseException], ...]:
    made = [error_of(text, folders) for text in given]
    return tuple(one if isinstance(one, type) else type(one) for one in made)


def retry_of(table: dict[str, Any] | Retry, folders: Sequence[str] = ()) -> Retry:
    """Return the retry of a table, or one that is given itself."""
    if isinstance(table, Retry):
        return table
    more: dict[str, Any] = {key: _types(table[key], folders) for key in ("on", "never_on", "drop_on") if key in table}
    wait = table.get("wait", 0)
    if isinstance(wait, dict):
        first, jitter, cap = wait["first"], wait.get("jitter"), wait.get("cap")
        if "step" in wait:
            if "factor" in wait:
                raise InputError("wait has a factor and a step; give one of the two")
            wait = linear(first, step=wait["step"], cap=cap, jitter=jitter)
        elif "factor" in wait or cap is not None or jitter == "decorrelated":
            wait = exponential(first, factor=wait.get("factor", 2), cap=cap, jitter=jitter)
        else:
            wait = fixed(first, jitter=jitter)
    if "reserve" in table:
        more["reserve"] = table["reserve"]
    return Retry(table.get("attempts", 1), wait, within=table.get("within"), budget=table.get("budget"), **more)


def schedule_of(table: dict[str, Any]) -> Schedule:
    """Return the schedule of a table."""
    given = [kind for kind in _KINDS if kind in table]
    if len(given) != 1:
        raise InputError(f"the schedule has {' and '.join(given) or 'no kind'}; give one of {', '.join(_KINDS)}")
    kind = given[0]
    value = table[kind]
    if "zone" in table and kind != "cron":
        raise InputError(f"zone is given with {kind}; only a cron expression has a zone")
    if kind == "cron":
        return cron(value, table.get("zone"))
    made: Callable[[Any], Schedule] = {"every": every, "every_after": every_after, "once": once, "rrule": rrule}[kind]
    return made(instant_of(value) if kind == "once" else value)


def instant_of(value: Any) -> Instant:
    """Return an instant as the rest of Iron Clock takes it. TOML has its own types for dates and times."""
    if isinstance(value, dt.datetime) and value.tzinfo is None:
        return value.isoformat()
    if isinstance(value, dt.date) and not isinstance(value, dt.datetime):
        return value.isoformat()
    return value  # type: ignore[no-any-return]


def rate_of(text: str) -> float:
    """Return a rate such as ``"1000/h"`` as jobs a second."""
    count, _, unit = text.partition("/")
    number = float(count.replace("_", ""))
    return number * NS / to_ns(f"1{unit.strip()}")


def starts_of(text: str) -> tuple[int, str]:
    """Return the rate of a queue such as ``"10/m"`` as a number of starts and a span. Raises `InputError`."""
    count, _, unit = text.partition("/")
    number = float(count.replace("_", ""))
    if not number.is_integer():
        raise InputError(f"the rate of a queue is {count} starts in a span; give a whole number")
    return int(number), f"1{unit.strip()}"


def folders_of(path: str) -> list[str]:
    """Return the folders in which the callables of a scenario file are searched, beside those of Python."""
    return [str(File(path).resolve().parent), str(File.cwd())]
