"""Payload contracts: jobs that older code has enqueued meet newer workers, and the other way round.

A file that is committed keeps, by job type, the shapes of the arguments that the suite enqueues, and what the function
accepts. A later run is compared with it. The file is a JSON Schema (draft 2020-12): ``$defs`` has a schema of the
payloads of each job type, and in it, under ``$defs``, ``accepts``, one of the arguments by name.
"""

from __future__ import annotations

import collections.abc
import inspect
import json
import os
import types
import typing
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..errors import InputError
from ..history.payload_shapes import Shape, object_of, payload_shape, sample_of, text_of, told_payload, words_of
from ..rig import Rig, simulation_of
from ..simulation.policy import JobType

SCHEMA = "https://json-schema.org/draft/2020-12/schema"
_TITLE = "Arguments of jobs in flight"
_ABOUT = (
    "By job type: the shapes of the arguments that the suite enqueues, and what the job accepts. Kept by pytest "
    "--ironclock-payloads; commit this file."
)


class Mismatch(Exception):
    """A payload that a function does not accept. The message says why."""


@dataclass
class Contract:
    """What is known of one job type."""

    shapes: dict[str, Shape] = field(default_factory=dict)
    """The payload shapes, by their text."""
    accepts: Shape | None = None
    """What the function accepts, by name. None: not known, as for a builtin function without a signature."""

    def as_schema(self) -> Shape:
        """Return it as a JSON Schema."""
        held: Shape = {"anyOf": [self.shapes[text] for text in sorted(self.shapes)]}
        if self.accepts is not None:
            held["$defs"] = {"accepts": self.accepts}
        return held


@dataclass(frozen=True)
class Comparison:
    """What a run says about the payloads of an earlier one."""

    broken: tuple[str, ...]
    """What no longer fits, in words."""
    notes: tuple[str, ...]
    """What is new, and what was not seen."""


class PayloadContracts:
    """The payload contracts of a suite."""

    def __init__(self) -> None:
        self.jobs: dict[str, Contract] = {}

    def read(self, rig: Rig) -> None:
        """Read what a rig has enqueued."""
        broker = simulation_of(rig).broker
        for job in broker.jobs:
            contract = self.jobs.get(job.type.name)
            if contract is None:
                contract = self.jobs[job.type.name] = Contract(accepts=accepted(job.type))
            shape = payload_shape(job.args, job.kwargs)
            contract.shapes.setdefault(text_of(shape), shape)

    def merge(self, data: Mapping[str, Any]) -> None:
        """Add what `as_dict` of another process, or a file, has."""
        for name, held in data["$defs"].items():
            contract = self.jobs.setdefault(name, Contract())
            contract.shapes.update((text_of(shape), shape) for shape in held["anyOf"])
            contract.accepts = held.get("$defs", {}).get("accepts", contract.accepts)

    def as_dict(self) -> dict[str, Any]:
        """Return it as JSON can hold it, in the form of the file."""
        return {
            "$schema": SCHEMA, "title": _TITLE, "description": _ABOUT,
            "$defs": {name: self.jobs[name].as_schema() for name in sorted(self.jobs)},
        }  # fmt: skip

    @classmethod
    def load(cls, path: Path) -> PayloadContracts | None:
        """Return the contracts of a file. None if it does not exist. Raises `InputError` for any other file."""
        try:
            text = path.read_text(encoding="utf-8")
        except FileNotFoundError:
            if not path.parent.is_dir():
                raise InputError(f"there is no folder {path.parent} for the file of payloads; make it") from None
            return None
        except (OSError, UnicodeDecodeError) as error:
            raise InputError(f"the file of payloads {path} cannot be read: {error}") from None
        made = cls()
        try:
            made.merge(json.loads(text))
            for name, contract in made.jobs.items():
                for shape in contract.shapes.values():
                    told_payload(name, shape)
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            raise InputError(
                f"{path} is not a file of payloads ({type(error).__name__}: {error}); restore it, or delete it and let "
                "the next run write it anew"
            ) from None
        return made

    def save(self, path: Path) -> None:
        """Write the file. Raises `InputError` if that is impossible; the file stays as it was then."""
        part = path.with_name(f"{path.name}.part")
        try:
            part.write_text(json.dumps(self.as_dict(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
            os.replace(part, path)
        except OSError as error:
            raise InputError(f"the file of payloads {path} cannot be written: {error.strerror}") from None

    # --- comparing ----------------------------------------------------------------------------------

    def compare(self, older: PayloadContracts) -> Comparison:
        """Compare this run with what older code has enqueued and accepted."""
        broken: list[str] = []
        notes: list[str] = []
        for name in sorted(self.jobs.keys() & older.jobs.keys()):
            mine, theirs = self.jobs[name], older.jobs[name]
            broken += _refused(name, theirs.shapes, mine, "no longer accepts what older code enqueues")
            new = {text: shape for text, shape in mine.shapes.items() if text not in theirs.shapes}
            broken += _refused(name, new, theirs, "is enqueued with what older workers do not accept")
        fresh = sorted(self.jobs.keys() - older.jobs.keys())
        if fresh:
            notes.append(f"new jobs, which older workers do not know: {', '.join(fresh)}")
        unseen = sorted(older.jobs.keys() - self.jobs.keys())
        if unseen:
            notes.append(
                f"not enqueued in this run: {', '.join(unseen)}; if such a job was removed, nobody runs those that are "
                "in flight"
            )
        return Comparison(tuple(broken), tuple(notes))

    def joined(self, older: PayloadContracts, keeps_shapes: bool) -> PayloadContracts:
        """Return these contracts with the jobs that only the older ones know.

        Parameters: `keeps_shapes` True keeps the older shapes of the other jobs as well.
        """
        made = PayloadContracts()
        made.jobs = dict(older.jobs)
        for name, contract in self.jobs.items():
            known = older.jobs.get(name)
            shapes = {**(known.shapes if known is not None and keeps_shapes else {}), **contract.shapes}
            made.jobs[name] = Contract(shapes, contract.accepts)
        return made


def _refused(name: str, shapes: Mapping[str, Shape], worker: Contract, what: str) -> list[str]:
    """Return, in words, why the payloads of these shapes are not accepted by a worker of that contract."""
    found = []
    for text in sorted(shapes):
        shape = shapes[text]
        try:
            named = bound(shape, worker.accepts)
            if named is not None:
                must_fit(named, worker)
        except Mismatch as error:
            found.append(f"{name} {what}: {told_payload(name, shape)}: {error}")
    return found


def bound(payload: Shape, accepts: Shape | None) -> dict[str, Shape] | None:
    """Return the shapes of a payload by the name of the parameter. None if nobody knows what is accepted.

    Raises `Mismatch` if it cannot be bound, as a call cannot.
    """
    if accepts is None:
        return None
    parts = payload["properties"]
    given: list[Shape] = parts["args"].get("prefixItems", [])
    positional: list[str] = accepts["x-positional"]
    named = dict(zip(positional, given, strict=False))
    if len(given) > len(positional) and not accepts["x-more-positional"]:
        count = len(positional)
        raise Mismatch(f"it takes {count} positional argument{'s' * (count != 1)}, and {len(given)} are given")
    only = set(positional[: accepts["x-positional-only"]])
    for key, shape in parts["kwargs"]["properties"].items():
        if key in named:
            raise Mismatch(f"{key!r} is given by position and by name")
        if (key not in accepts["properties"] or key in only) and not accepts["additionalProperties"]:
            raise Mismatch(f"it has no parameter {key!r}; its parameters are {', '.join(accepts['properties'])}")
        named[key] = shape
    missing = [key for key in accepts["required"] if key not in named]
    if missing:
        raise Mismatch(f"its parameter {missing[0]!r} is not given")
    return named


def must_fit(named: Mapping[str, Shape], worker: Contract) -> None:
    """Raise `Mismatch` if an argument has another type than its annotation says. Without an annotation: than all that
    the worker is known to get."""
    import jsonschema

    assert worker.accepts is not None
    got = [known for shape in worker.shapes.values() if (known := _bound_if_possible(shape, worker.accepts))]
    for key, shape in named.items():
        wanted = worker.accepts["properties"].get(key)
        if wanted:
            try:
                jsonschema.validate(sample_of(shape), {**wanted, "$schema": SCHEMA})
            except jsonschema.ValidationError:
                raise Mismatch(f"{key!r} is {words_of(shape)}, and must be {words_of(wanted)}") from None
            continue
        seen = [one[key] for one in got if key in one]
        if seen and not any(_alike(shape, other) for other in seen):
            others = " or ".join(dict.fromkeys(words_of(other) for other in seen))
            raise Mismatch(f"{key!r} is {words_of(shape)}, where it gets {others}")


def _bound_if_possible(payload: Shape, accepts: Shape) -> dict[str, Shape] | None:
    try:
        return bound(payload, accepts)
    except Mismatch:
        return None


def _alike(shape: Shape, other: Shape) -> bool:
    """Return True if two shapes are of one type. None is like anything, and a whole number like a number."""
    kinds = {str(one.get("type")) for one in (shape, other)}
    if "null" in kinds or "None" in kinds or kinds <= {"integer", "number"}:
        return True
    if len(kinds) > 1:
        return False
    mine, theirs = shape.get("properties", {}), other.get("properties", {})
    if "$class" in mine or "$class" in theirs:
        return bool(mine.get("$class") == theirs.get("$class"))
    needed = set(other.get("required", ())) if kinds == {"object"} else set()
    return needed <= mine.keys() if mine and theirs else True


# --- what a function accepts -------------------------------------------------------------------------


def accepted(job_type: JobType[..., Any]) -> Shape | None:
    """Return what the function of a job type accepts, as a JSON Schema of its arguments by name. None: not known."""
    try:
        parameters = inspect.signature(job_type.known_fns[-1]).parameters
    except (TypeError, ValueError):  # a builtin without one
        return None
    hints = _hints(job_type.known_fns[-1])
    made: Shape = {
        "type": "object", "properties": {}, "required": [], "additionalProperties": False, "x-positional": [],
        "x-positional-only": 0, "x-more-positional": False,
    }  # fmt: skip
    for name, one in parameters.items():
        if one.kind is one.VAR_POSITIONAL:
            made["x-more-positional"] = True
            continue
        if one.kind is one.VAR_KEYWORD:
            made["additionalProperties"] = True
            continue
        made["properties"][name] = schema_of(hints.get(name, inspect.Parameter.empty))
        if one.default is one.empty:
            made["required"].append(name)
        if one.kind is not one.KEYWORD_ONLY:
            made["x-positional"].append(name)
        made["x-positional-only"] += one.kind is one.POSITIONAL_ONLY
    return made


def _hints(function: Any) -> dict[str, Any]:
    try:
        return typing.get_type_hints(inspect.unwrap(getattr(function, "__func__", function)))
    except Exception:  # an annotation that cannot be read says nothing
        return {}


_PLAIN: dict[Any, Shape] = {
    str: {"type": "string"}, int: {"type": "integer"}, float: {"type": "number"}, bool: {"type": "boolean"},
    type(None): {"type": "null"}, None: {"type": "null"},
}  # fmt: skip
_LISTS = (list, tuple, set, frozenset, collections.abc.Sequence, collections.abc.Iterable, collections.abc.Collection)
_TABLES = (dict, collections.abc.Mapping, collections.abc.MutableMapping)


def schema_of(annotation: Any) -> Shape:
    """Return the JSON Schema of an annotation. Empty, which accepts anything, for one that JSON Schema cannot tell."""
    if annotation in (inspect.Parameter.empty, Any, object):
        return {}
    if isinstance(annotation, collections.abc.Hashable) and annotation in _PLAIN:
        return dict(_PLAIN[annotation])
    origin, arguments = typing.get_origin(annotation), typing.get_args(annotation)
    if origin is typing.Annotated:
        return schema_of(arguments[0])
    if origin in (typing.Union, types.UnionType):
        several = [schema_of(one) for one in arguments]
        return {"anyOf": several} if all(several) else {}
    if origin is typing.Literal:
        several = [_PLAIN.get(type(one), {}) for one in dict.fromkeys(arguments)]
        distinct = {text_of(one): one for one in several}
        return {} if not all(several) else {"anyOf": list(distinct.values())} if len(distinct) > 1 else several[0]
    if (origin or annotation) in _LISTS:
        items = schema_of(arguments[0]) if len(arguments) == 1 or arguments[1:] == (...,) else {}
        return {"type": "array", **({"items": items} if items else {})}
    if (origin or annotation) in _TABLES:
        values = schema_of(arguments[1]) if len(arguments) == 2 else {}
        return {"type": "object", **({"additionalProperties": values} if values else {})}
    if typing.is_typeddict(annotation):
        hints = typing.get_type_hints(annotation)
        return {
            "type": "object", "properties": {name: schema_of(one) for name, one in hints.items()},
            "required": sorted(annotation.__required_keys__),
        }  # fmt: skip
    if isinstance(annotation, type) and (annotation.__module__ in ("datetime", "decimal", "uuid", "fractions")):
        return object_of(annotation)
    return {}
