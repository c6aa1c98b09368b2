"""Readings: what a tapped call asked for, as the arguments of the real call tell it."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeAlias

from ..core.durations import Duration
from ..core.errors import InputError, TapError
from ..core.policy import Policy
from ..core.timeline import Instant


@dataclass(frozen=True)
class Enqueue:
    """What one call of a tapped function asks for.

    Parameters: `job` a callable, a job type, a registered name or a dotted path (``"tern_line.jobs:offer_seat"``);
    `args` and `kwargs` its arguments; `after` a delay or `at` an instant; `queue`, `priority`; `policy` how the
    job is to be treated where it is no registered job type; `returns` what the call gives back to the app, or a
    function of the `Job` (the job's id where it is not given).
    """

    job: Any
    args: tuple[Any, ...] = ()
    kwargs: dict[str, Any] = field(default_factory=dict)
    after: Duration | None = None
    at: Instant | None = None
    queue: str | None = None
    priority: int | None = None
    policy: Policy | None = None
    returns: Any = None


Reading: TypeAlias = "Callable[..., Enqueue | Sequence[Enqueue] | None]"
"""The real call's arguments in; what to enqueue out. None lets the call through to the real callable."""

Position: TypeAlias = "int | str | None"


def reading(
    *,
    job: Any = 0,
    args: slice | str | Sequence[int | str] | None = slice(1, None),
    kwargs: str | bool = True,
    after: Position = None,
    at: Position = None,
    queue: Position = None,
    priority: Position = None,
    policy: Policy | None = None,
    returns: Any = None,
) -> Reading:
    """Return a reading that maps positions and keyword names of the real call.

    Parameters: `job` is the position or keyword name that holds the job, or the job itself (a callable or a job
    type); `args` a slice of the positional arguments, a list of positions and names, or the name of the keyword
    that holds them all; `kwargs` True passes on every keyword that nothing else here names, a name is the keyword
    that holds them all, False none; `after`, `at`, `queue` and `priority` are positions or keyword names, left out
    by a call that has no such argument; `policy` and `returns` as in `Enqueue`.
    Names are looked up with the real callable's own defaults filled in.
    Raises `InputError` for what is no position, and `TapError`, in the call, where the job is not among its arguments.
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

    def read(*given: Any, **keywords: Any) -> Enqueue:
        return read_as(None, given, keywords)

    def read_as(signature: inspect.Signature | None, given: tuple[Any, ...], keywords: dict[str, Any]) -> Enqueue:
        by_name = _by_name(signature, given, keywords)

        def find(where: Position) -> Any:
            if isinstance(where, str):
                return by_name.get(where)
            return given[where] if where is not None and -len(given) <= where < len(given) else None

        asked = find(job) if isinstance(job, (int, str)) and not isinstance(job, bool) else job
        if asked is None:
            where = f"position {job}" if isinstance(job, int) else f"keyword {job!r}"
            raise TapError(f"the tapped call has no job at {where}: it was called with {given!r} {keywords!r}")
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

    read.knowing = (  # type: ignore[attr-defined]
        lambda signature: lambda *given, **keywords: read_as(signature, given, keywords)
    )
    return read


def _by_name(signature: inspect.Signature | None, given: tuple[Any, ...], keywords: dict[str, Any]) -> dict[str, Any]:
    """Return the call's arguments by name, with the real callable's defaults where its signature is known."""
    if signature is None:
        return keywords
    try:
        bound = signature.bind(*given, **keywords)
    except TypeError as error:
        raise TapError(f"the real callable cannot be called so: {error}") from None
    bound.apply_defaults()
    named = dict(bound.arguments)
    for name, parameter in signature.parameters.items():
        if parameter.kind is parameter.VAR_KEYWORD:
            named.update(named.pop(name))
    return named
