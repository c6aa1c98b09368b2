"""Payload shapes: the types and the structure of the arguments of jobs, without their values, as JSON Schema.

Source: JSON Schema, draft 2020-12, core and validation (json-schema.org).
"""

from __future__ import annotations

import datetime as dt
import enum
import json
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeAlias

if TYPE_CHECKING:
    from .history import History

Shape: TypeAlias = "dict[str, Any]"
"""A JSON Schema."""

MOST_KEYS = 20
"""A dict with more keys is taken for a table, whose keys are data."""

_TYPES: dict[type, str] = {type(None): "null", bool: "boolean", int: "integer", float: "number", str: "string"}
_DEEPEST = 20


def payloads(history: History) -> dict[str, list[Shape]]:
    """Return the shapes of the arguments of every job that was enqueued, by job type; see `History.payloads`."""
    found: dict[str, dict[str, Shape]] = {}
    for name, args, kwargs in _enqueued(history):
        shape = payload_shape(args, kwargs)
        found.setdefault(name, {}).setdefault(text_of(shape), shape)
    return {name: [shapes[text] for text in sorted(shapes)] for name, shapes in sorted(found.items())}


def _enqueued(history: History) -> Iterable[tuple[str, Sequence[Any], Mapping[str, Any]]]:
    """Yield the job type and the arguments of each job that was enqueued."""
    if history.is_live:
        for record in history.records():
            if record.what == "enqueued" and record.job is not None:
                yield record.job.type.name, record.job.args, record.job.kwargs
        return
    for entry in history:
        if entry.what == "enqueued":
            yield str(entry.name), entry.data.get("args", ()), entry.data.get("kwargs", {})


def payload_shape(args: Sequence[Any], kwargs: Mapping[str, Any]) -> Shape:
    """Return the shape of the arguments of one job: an object with ``args`` and ``kwargs``."""
    given: Shape = {"type": "array", "minItems": len(args), "maxItems": len(args)}
    if args:
        given["prefixItems"] = [shape_of(value) for value in args]
    return {
        "type": "object",
        "properties": {"args": given, "kwargs": _object(kwargs, 0)},
        "required": ["args", "kwargs"],
        "additionalProperties": False,
    }


def shape_of(value: Any, depth: int = 0) -> Shape:
    """Return the shape of one value."""
    kind = _TYPES.get(type(value))
    if kind is not None:
        return {"type": kind}
    if depth > _DEEPEST:
        return {}
    if isinstance(value, enum.Enum):
        return object_of(type(value))
    if isinstance(value, Mapping):
        if len(value) <= MOST_KEYS and all(isinstance(key, str) for key in value):
            return _object(value, depth)
        return {"type": "object", **_each("additionalProperties", value.values(), depth)}
    if isinstance(value, (list, tuple, set, frozenset)):
        return {"type": "array", **_each("items", value, depth)}
    for kind_of, name in _TYPES.items():
        if kind_of is not type(None) and isinstance(value, kind_of) and not isinstance(value, dt.date):
            return {"type": name}
    return object_of(type(value))


def object_of(kind: type) -> Shape:
    """Return the shape of an object that JSON does not have: its class is all that counts."""
    return {
        "type": "object",
        "properties": {"$class": {"const": f"{kind.__module__}.{kind.__qualname__}"}},
        "required": ["$class"],
    }


def _object(value: Mapping[str, Any], depth: int) -> Shape:
    return {
        "type": "object",
        "properties": {key: shape_of(value[key], depth + 1) for key in sorted(value)},
        "required": sorted(value),
        "additionalProperties": False,
    }


def _each(keyword: str, values: Iterable[Any], depth: int) -> Shape:
    shapes = {text_of(shape): shape for shape in (shape_of(value, depth + 1) for value in values)}
    if not shapes:
        return {}
    different = [shapes[text] for text in sorted(shapes)]
    return {keyword: different[0] if len(different) == 1 else {"anyOf": different}}


def text_of(shape: Shape) -> str:
    """Return a shape as text, the same for equal shapes."""
    return json.dumps(shape, sort_keys=True)


def sample_of(shape: Mapping[str, Any]) -> Any:
    """Return a value of a shape."""
    if "const" in shape:
        return shape["const"]
    if "anyOf" in shape:
        return sample_of(shape["anyOf"][0])
    kind = shape.get("type")
    if kind == "array":
        if "prefixItems" in shape:
            return [sample_of(one) for one in shape["prefixItems"]]
        items = shape.get("items")
        return [] if not isinstance(items, Mapping) else [sample_of(one) for one in items.get("anyOf", [items])]
    if kind == "object":
        named = {key: sample_of(one) for key, one in shape.get("properties", {}).items()}
        more = shape.get("additionalProperties")
        if isinstance(more, Mapping):
            named |= {f"key {n}": sample_of(one) for n, one in enumerate(more.get("anyOf", [more]), 1)}
        return named
    return _SAMPLES.get(str(kind))


_SAMPLES: dict[str, Any] = {"string": "text", "integer": 1, "number": 0.5, "boolean": True}


def words_of(shape: Mapping[str, Any]) -> str:
    """Return a shape in a few words, such as ``text`` or ``list of whole number``."""
    if "anyOf" in shape:
        return " or ".join(words_of(one) for one in shape["anyOf"])
    kind = shape.get("type")
    if isinstance(kind, list):
        return " or ".join(_WORDS.get(one, str(one)) for one in kind)
    if kind == "array":
        items = shape.get("items")
        return f"list of {words_of(items)}" if isinstance(items, Mapping) else "list"
    if kind == "object":
        named = shape.get("properties", {})
        if "$class" in named:
            return str(named["$class"]["const"])
        return f"object with {', '.join(named)}" if named else "object"
    return _WORDS.get(str(kind), "anything")


_WORDS = {"string": "text", "integer": "whole number", "number": "number", "boolean": "true or false", "null": "None"}


def told_payload(job: str, payload: Mapping[str, Any]) -> str:
    """Return a payload shape as a call, such as ``charge(text, seats=whole number)``."""
    parts = payload["properties"]
    given = [words_of(one) for one in parts["args"].get("prefixItems", ())]
    given += [f"{name}={words_of(one)}" for name, one in parts["kwargs"]["properties"].items()]
    return f"{job}({', '.join(given)})"
