"""Taps for a whole suite: the table ``[tool.ironclock.taps]`` in pyproject.toml.

Each key is the import path of a callable. Its value is a table with the parameters of `reading`, or with ``reads``, the
path of a reading of your own; and with ``payload``, ``also_real``, and a table ``policy``::

    [tool.ironclock.taps]
    "tern_line.jobs:put" = { job = 0, args = "1:", after = "wait", policy = { retry = 3, timeout = "30s" } }
    "tern_line.mail:later" = {}
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from ..errors import IronClockError, TapError, nearest
from ..simulation.policy import Policy
from ..simulation.retry import Retry
from .readings import reading
from .targets import find

_OF_READING = ("job", "args", "kwargs", "after", "at", "queue", "priority")
_OF_TAP = ("payload", "also_real")
TAP_SETTINGS = {
    "job": "Which argument is the job: its place from 0, or its name.",
    "args": 'Which arguments go to the job: a place, a name, or a slice as text, such as `"1:"`.',
    "kwargs": "Which keyword arguments go to the job: a list of names, or the name of one that holds them all.",
    "after": "Which argument is the delay.",
    "at": "Which argument is the instant at which the job is due.",
    "queue": "Which argument is the queue.",
    "priority": "Which argument is the priority.",
    "reads": "The import path of your own reading, in place of the keys above.",
    "payload": "How the arguments go to a worker, as in `[tool.ironclock]`.",
    "also_real": "`true`: the real callable is called as well. Default: `false`.",
    "policy": "A table with the policy of the jobs: `retry`, `timeout`, `queue` and so on, as in `ic.Policy`.",
}
"""The keys of a tap, and what they say."""
_SLICE = re.compile(r"(\d*):(\d*)")


def put_taps(tap: Callable[..., object], table: Mapping[str, Any]) -> None:
    """Put the taps of a table in place.

    Parameters: `tap` is `Rig.tap`. Raises `TapError` or another `IronClockError`, which name the tap.
    """
    for target, values in table.items():
        try:
            tap(target, **dict(_arguments(target, values)))
        except IronClockError as error:
            raise type(error)(f"[tool.ironclock.taps] {target!r}: {error}") from None


def _arguments(target: str, values: Any) -> Iterator[tuple[str, Any]]:
    if not isinstance(values, dict):
        raise TapError(f"the value is {values!r}; give a table, such as {{ job = 0, after = 'wait' }}, or {{}}")
    for key in values:
        if key not in TAP_SETTINGS:
            raise TapError(f"a tap has no setting {key!r}; {nearest(key, TAP_SETTINGS)}")
    read = {key: values[key] for key in _OF_READING if key in values}
    if isinstance(read.get("args"), str) and (found := _SLICE.fullmatch(read["args"])):
        read["args"] = slice(*(int(part) if part else None for part in found.groups()))
    if "policy" in values:
        read["policy"] = _policy(values["policy"])
    if "reads" in values:
        if read:
            raise TapError(f"reads is {values['reads']!r} and there is {next(iter(read))!r}; give one of the two")
        yield "reads", find(values["reads"])[2]
    elif read.keys() - {"policy"}:
        yield "reads", reading(**read)
    elif read:
        yield "policy", read["policy"]
    for key in _OF_TAP:
        if key in values:
            yield key, values[key]


def _policy(values: Any) -> Policy:
    if not isinstance(values, dict):
        raise TapError(f"policy is {values!r}; give a table, such as {{ retry = 3, timeout = '30s' }}")
    known = Policy.__dataclass_fields__
    for key in values:
        if key not in known:
            raise TapError(f"a policy has no {key!r}; {nearest(key, known)}")
    retry = values.get("retry")
    if isinstance(retry, dict):
        if unknown := [key for key in retry if key not in ("attempts", "wait", "within")]:
            raise TapError(f"a retry has no {unknown[0]!r} here; known: attempts, wait, within")
        values = {**values, "retry": Retry(**retry)}
    return Policy(**values)
