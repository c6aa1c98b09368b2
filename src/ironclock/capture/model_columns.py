"""The table and columns of a job table, read from a model of SQLAlchemy or Django."""

from __future__ import annotations

import enum
import inspect
from collections.abc import Iterable, Mapping
from typing import Any

from ..errors import InputError

_NAMES: dict[str, tuple[str, ...]] = {
    "name": ("name", "job", "job_name", "task", "task_name", "kind", "type", "job_type", "handler", "function"),
    "args": ("args", "arguments"),
    "kwargs": ("kwargs", "payload", "params", "parameters", "data", "body"),
    "queue": ("queue", "queue_name"),
    "due": ("due", "due_at", "run_at", "run_after", "scheduled_at", "scheduled_for", "available_at", "not_before",
            "next_run_at", "next_attempt_at"),
    "priority": ("priority",),
    "state": ("state", "status"),
    "tries": ("tries", "attempts", "attempt", "attempts_made", "try_count", "retries", "retry_count"),
    "worker": ("worker", "worker_id", "locked_by", "claimed_by", "owner"),
    "error": ("error", "last_error", "error_message"),
}  # fmt: skip
_STATES: dict[str, tuple[str, ...]] = {
    "waiting": ("waiting", "queued", "pending", "ready", "new", "scheduled", "enqueued", "todo"),
    "claimed": ("claimed", "running", "working", "processing", "in_progress", "started", "locked", "active"),
    "done": ("done", "succeeded", "success", "completed", "complete", "finished", "processed", "sent"),
    "dead": ("dead", "failed", "error", "given_up", "failure"),
}


def is_model(thing: Any) -> bool:
    """Return True for a model class of SQLAlchemy or Django, and for a table of SQLAlchemy."""
    return hasattr(thing, "__table__") or hasattr(thing, "_meta") or _is_table(thing)


def _is_table(thing: Any) -> bool:
    return hasattr(thing, "columns") and hasattr(thing, "primary_key") and hasattr(thing, "name")


def _options(model: Any) -> Any:
    """Return what Django knows of a model. None for a model of SQLAlchemy."""
    return getattr(model, "_meta", None)


def table_of(model: Any) -> str:
    """Return the name of the table of a model."""
    if hasattr(model, "_meta"):
        return str(_options(model).db_table)
    table = model if _is_table(model) else model.__table__
    return f"{table.schema}.{table.name}" if getattr(table, "schema", None) else str(table.name)


def columns_of(model: Any) -> dict[str, Any]:
    """Return the arguments of `Columns` for a model, by the common names of columns and states.

    Raises `InputError` if it has no column for the name of the job.
    """
    columns = _of_django(model) if hasattr(model, "_meta") else _of_sqlalchemy(model)
    by_name = {name.lower(): name for name, _, _ in columns}
    found: dict[str, Any] = {}
    for name, is_key, _ in columns:
        if is_key and "id" not in found:
            found["id"] = name
    for part, names in _NAMES.items():
        match = next((by_name[name] for name in names if name in by_name and by_name[name] != found.get("id")), None)
        if match is not None:
            found[part] = match
    if "name" not in found:
        raise InputError(
            f"the model {model!r} has no column for the name of the job ({', '.join(_NAMES['name'][:6])} ...); it has "
            f"{', '.join(by_name.values())}; give columns=ic.Columns(name=..., ...)"
        )
    found.setdefault("args", None)
    if "state" in found:
        values = next(values for name, _, values in columns if name == found["state"])
        for part, names in _STATES.items():
            match = next((value for value in values if str(value).lower() in names), None)
            if match is not None:
                found[part] = match
        if "waiting" not in found and values:
            found["waiting"] = values[0]
    return found


def _of_sqlalchemy(model: Any) -> list[tuple[str, bool, list[Any]]]:
    """Return the name of each column, if it is a key, and the values that it is known to have: the default first."""
    table = model if _is_table(model) else model.__table__
    found = []
    for column in table.columns:
        values: list[Any] = []
        default = getattr(column.default, "arg", None)
        if default is not None and not callable(default):
            values.append(_stored(default, column.type))
        known = getattr(column.type, "enums", None) or _constants(model)
        values += [value for value in known if value not in values]
        found.append((str(column.name), bool(column.primary_key), values))
    return found


def _stored(value: Any, type: Any) -> Any:
    """Return a value as its column stores it: SQLAlchemy stores the name of a member of an enum."""
    if isinstance(value, enum.Enum):
        stored = getattr(type, "enums", None)
        return value.name if stored and value.name in stored else value.value
    return value


def _of_django(model: Any) -> list[tuple[str, bool, list[Any]]]:
    found = []
    for field in _options(model).concrete_fields:
        values = [value for value, _ in (field.flatchoices or ())]
        if field.has_default() and not callable(field.default):
            default = field.default.value if isinstance(field.default, enum.Enum) else field.default
            values = [default, *(value for value in values if value != default)]
        found.append((str(field.column), bool(field.primary_key), [_plain(value) for value in values]))
    return found


def _plain(value: Any) -> Any:
    return value.value if isinstance(value, enum.Enum) else value


def _constants(model: Any) -> list[Any]:
    """Return the texts that a model class names in capitals, such as ``DONE = "done"``."""
    if not inspect.isclass(model):
        return []
    named: Iterable[tuple[str, Any]] = vars(model).items() if isinstance(vars(model), Mapping) else ()
    return [value for name, value in named if name.isupper() and isinstance(value, str)]
