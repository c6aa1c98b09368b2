"""Readings: what a tapped call asks for, read from the arguments of the call."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeAlias

from ..errors import InputError, TapError, nearest
from ..foundation.durations import Duration
from ..foundation.instants import Instant
from ..simulation.policy import JobLike, JobType, Policy


@dataclass(frozen=True)
class Enqueue:
    """What one call of a tapped function asks for. A reading of your own returns it.

    - `job`: a callable, a job type, the name of one, or a dotted path (``"tern_line.jobs:offer_seat"``).
    - `args`, `kwargs`: the arguments of the job. Default: none.
    - `after`: a delay, or `at`: an instant. Default: due now.
    - `queue`, `priority`: in place of those of the policy. Default None.
    - `policy`: how the job is treated if it is not a job type yet. Default None: as the rig says.
    - `returns`: what the call returns to the application, or a function of the `Job` that returns it. Default None: the
      id of the job.

    Example::

        def read(job, *args, wait=0, to="desk"):
            return ic.Enqueue(job, args, after=wait, queue=to)

        rig.tap("tern_line.jobs:put", reads=read)
    """

    job: JobLike
    args: tuple[Any, ...] = ()
    kwargs: dict[str, Any] = field(default_factory=dict)
    after: Duration | None = None
    at: Instant | None = None
    queue: str | None = None
    priority: int | None = None
    policy: Policy | None = None
    returns: object = None


Reading: TypeAlias = "Callable[..., Enqueue | Sequence[Enqueue] | None]"
"""A function that gets the arguments of the call and returns what to enqueue. None: the real callable is called."""

Position: TypeAlias = "int | str | None"


def reading(
    *,
    job: int | JobLike = 0,
    args: slice | str | Sequence[int | str] | None = slice(1, None),
    kwargs: str | bool = True,
    after: Position = None,
    at: Position = None,
    queue: Position = None,
    priority: Position = None,
    policy: Policy | None = None,
    returns: object = None,
) -> Reading:
    """Return a reading that takes its values from positions and keyword names of the call.

    A position is a number from 0, or a keyword name. Names are looked up with the defaults of the real callable. Of a
    class method, ``"cls"`` is the class on which it was called.

    Parameters:

    - `job`: the position of the job, or the job itself (a callable or a job type). Default 0.
    - `args`: a slice of the positional arguments, a list of positions, or the name of the keyword that holds them all.
      Default: all positional arguments after the first.
    - `kwargs`: True (the default) passes on every keyword that nothing else here names. A name is the keyword that
      holds them all. False: none.
    - `after`, `at`, `queue`, `priority`: positions. Default None: a call does not say it.
    - `policy`, `returns`: as in `Enqueue`.

    Raises `InputError` for anything that is not a position. The tapped call raises `TapError` if it has no job.

    Example::

        rig.tap("tern_line.jobs:put", reads=ic.reading(job=0, args=slice(1, None), after="wait", queue="to"))
    """
    named = {"after": after, "at": at, "queue": queue, "priority": priority}
    for what, where in named.items():
        if where is not None and (isinstance(where, bool) or not isinstance(where, (int, str))):
            raise InputError(f"{what} is {where!r}; give the position or the keyword name that holds it")
    if args is not None and not isinstance(args, (slice, str, list, tuple)):
        raise InputError(f"args is {args!r}; give a slice such as slice(1, None), positions and names, or a name")
    taken = {where for where in (*named.values(), job if isinstance(job, str) else None) if isinstance(where, str)}
    if isinstance(args, str):
        taken.add(args)
    elif isinstance(args, (list, tuple)):
        taken.update(a for a in args if isinstance(a, str))
    if isinstance(kwargs, str):
        taken.add(kwargs)

    def must_be_parameters(signature: inspect.Signature, with_class: bool) -> None:
        """Raise `TapError` if a name is not a parameter of the real callable."""
        parameters = signature.parameters.values()
        if any(parameter.kind is parameter.VAR_KEYWORD for parameter in parameters):
            return
        for name in sorted(taken - {"cls"} if with_class else taken):
            if name not in signature.parameters:
                raise TapError(
                    f"the reading names the parameter {name!r}, which the callable does not have; "
                    f"{nearest(name, signature.parameters)}"
                )

    def read(*given: Any, **keywords: Any) -> Enqueue:
        return read_as(None, given, keywords)

    def read_as(
        signature: inspect.Signature | None, given: tuple[Any, ...], keywords: dict[str, Any], cls: Any = None
    ) -> Enqueue:
        by_name = _by_name(signature, given, keywords)
        if cls is not None:
            by_name = {**by_name, "cls": cls}

        def find(where: Position) -> Any:
            if isinstance(where, str):
                return by_name.get(where)
            return given[where] if where is not None and -len(given) <= where < len(given) else None

        asked: Any = find(job) if isinstance(job, (int, str)) and not isinstance(job, bool) else job
        if asked is None:
            where = f"position {job}" if isinstance(job, int) else f"keyword {job!r}"
            raise TapError(
                f"the tapped call has no job at {where}: it was called with {given!r} {keywords!r}; say where it is: "
                "ic.reading(job=...)"
            )
        if isinstance(args, slice):
            passed = given[args]
        elif isinstance(args, str):
            passed = tuple(by_name.get(args) or ())
        else:
            passed = tuple(find(a) for a in args or ())
        if isinstance(kwargs, str):
            rest = dict(by_name.get(kwargs) or {})
        else:
            rest = {name: value for name, value in keywords.items() if name not in taken} if kwargs else {}
        return Enqueue(
            asked, passed, rest, after=find(after), at=find(at), queue=find(queue), priority=find(priority),
            policy=policy, returns=returns,
        )  # fmt: skip

    def knowing(signature: inspect.Signature | None, with_class: bool = False) -> Reading:
        if signature is not None:
            must_be_parameters(signature, with_class)
        if with_class:
            return lambda cls, *given, **keywords: read_as(signature, given, keywords, cls)
        return lambda *given, **keywords: read_as(signature, given, keywords)

    read.knowing = knowing  # type: ignore[attr-defined]
    return read


_JOBS = ("job", "fn", "func", "function", "task", "handler", "callable", "callback", "job_name", "task_name", "name")
_DELAYS = ("after", "delay", "delay_s", "delay_seconds", "wait", "wait_s", "wait_seconds")
_INSTANTS = ("at", "run_at", "when", "due", "due_at", "not_before")
_OTHERS = {"queue": ("queue", "queue_name"), "priority": ("priority", "prio")}


def proposed(signature: inspect.Signature | None) -> tuple[dict[str, Any], list[str]]:
    """Return the arguments of a `reading` that fits a callable by the names of its parameters.

    Beside them it returns the parameters that are not understood. If there are none, and the job is among those that
    are, the reading is certain.
    """
    found: dict[str, Any] = {}
    unclear = []
    positional = 0
    words = {"job": _JOBS, "after": _DELAYS, "at": _INSTANTS, **_OTHERS}
    for name, parameter in () if signature is None else signature.parameters.items():
        what = next((what for what, names in words.items() if name in names and what not in found), None)
        if parameter.kind is parameter.VAR_POSITIONAL:
            found["args"] = slice(positional, None)
        elif parameter.kind is parameter.VAR_KEYWORD:
            found["kwargs"] = True
        elif what is not None:
            found[what] = name
        elif name in ("args", "kwargs"):
            found[name] = name
        elif name not in ("self", "cls") or positional:
            unclear.append(name)
        positional += parameter.kind in (parameter.POSITIONAL_ONLY, parameter.POSITIONAL_OR_KEYWORD)
    found.setdefault("args", [])
    found.setdefault("kwargs", False)
    return found, unclear


def spelled(found: dict[str, Any]) -> str:
    """Return the call of `reading` with some arguments, as it is written."""
    shown = (
        f"{name}={f'slice({value.start}, None)' if isinstance(value, slice) else repr(value)}"
        for name, value in found.items()
    )
    return f"ic.reading({', '.join(shown)})"


def must_read_delay(label: str, asked: Enqueue, job: JobType[..., Any]) -> None:
    """Raise `TapError` if a keyword that looks like a delay goes to the job, which has no such parameter."""
    for name in asked.kwargs:
        if name in (*_DELAYS, *_INSTANTS) and name not in job.parameters():
            where = "after" if name in _DELAYS else "at"
            raise TapError(
                f"{label} was called with {name}={asked.kwargs[name]!r}, which its reading passes on to the job "
                f"{job.name}, and that has no such parameter; say what it means: ic.reading({where}={name!r})"
            )


def _by_name(signature: inspect.Signature | None, given: tuple[Any, ...], keywords: dict[str, Any]) -> dict[str, Any]:
    """Return the arguments of a call by name, with the defaults of the real callable if its signature is known."""
    if signature is None:
        return keywords
    try:
        bound = signature.bind(*given, **keywords)
    except TypeError as error:
        raise TapError(f"the real callable does not take these arguments: {error}") from None
    bound.apply_defaults()
    named = dict(bound.arguments)
    for name, parameter in signature.parameters.items():
        if parameter.kind is parameter.VAR_KEYWORD:
            named.update(named.pop(name))
    return named
