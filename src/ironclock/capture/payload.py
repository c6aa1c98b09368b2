"""Payloads: what JSON would make of the arguments of a job on their way through a queue."""

from __future__ import annotations

import json
import math
from typing import Any, Literal, TypeAlias

from ..errors import InputError, PayloadError

Payload: TypeAlias = Literal["json", "any"]


def check_payload(payload: object) -> None:
    """Raise `InputError` unless `payload` is ``"json"`` or ``"any"``."""
    if payload not in ("json", "any"):
        raise InputError(f"payload is {payload!r}; give 'json' (arguments must survive JSON) or 'any'")


def through_json(
    job: str, args: tuple[Any, ...], kwargs: dict[str, Any]
) -> tuple[tuple[Any, ...], dict[str, Any], bool]:
    """Return the arguments as a message would hold them, and True if an attempt could change any of them.

    They are equal to the given ones, and share no list or dict with them.

    Raises `PayloadError` for the first value that would come back changed or not at all. It names the path to the
    value, and what the value would become. Source of the rules: RFC 8259, and the conversion table of the standard
    `json` module.
    """
    if not kwargs:
        for value in args:
            if type(value) not in _ATOMS:
                break
        else:
            return args, kwargs, False
    back = tuple(_back(value, job, f"argument {i}") for i, value in enumerate(args))
    named = {name: _back(value, job, f"argument {name!r}") for name, value in kwargs.items()}
    return back, named, any(type(value) in (list, dict) for value in (*back, *named.values()))


_ATOMS = frozenset((str, int, bool, type(None)))


def _back(value: Any, job: str, path: str) -> Any:
    kind = type(value)
    if value is None or kind is str or kind is int or kind is bool:
        return value
    if kind is float:
        if math.isfinite(value):
            return value
        raise _changed(job, path, value, "JSON has no such number")
    if kind is list:
        return [_back(item, job, f"{path}[{i}]") for i, item in enumerate(value)]
    if kind is dict:
        for key in value:
            if type(key) is not str:
                becomes = "JSON has no such key"
                if key is None or isinstance(key, (bool, int, float)):
                    as_text = json.dumps({key: 0})[2:-5]
                    becomes = f"the key would become {as_text!r}"
                raise _changed(job, f"{path}, key {key!r}", key, becomes)
        return {key: _back(item, job, f"{path}[{key!r}]") for key, item in value.items()}
    if isinstance(value, tuple):
        becomes = f"it would become the list {list(value)!r}"
    elif isinstance(value, (str, int, float, list, dict)):
        base = next(b for b in (str, int, float, list, dict) if isinstance(value, b))
        plain: Any = base(value)  # type: ignore[arg-type]
        becomes = f"it would become the plain {base.__name__} {plain!r}"
    elif hasattr(value, "isoformat"):
        becomes = f"JSON has no dates; send the text {value.isoformat()!r} and parse it in the job"
    elif isinstance(value, (set, frozenset)):
        becomes = "JSON has no sets; send a sorted list"
    elif isinstance(value, (bytes, bytearray)):
        becomes = "JSON has no bytes; send text, base64 for example"
    else:
        becomes = "JSON cannot hold it; send its id and look it up in the job"
    raise _changed(job, path, value, becomes)


def _changed(job: str, path: str, value: Any, becomes: str) -> PayloadError:
    shown = repr(value)
    shown = shown if len(shown) <= 60 else shown[:57] + "..."
    return PayloadError(
        f"{job}: {path} is {shown} ({type(value).__name__}), which does not survive JSON: {becomes} "
        "(payload='any' turns this check off)"
    )
