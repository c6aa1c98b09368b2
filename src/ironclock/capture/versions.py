"""Versions: which functions of an older and a newer version of an application handle the same jobs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ..errors import InputError
from ..simulation.deployments import Handlers, Version
from ..simulation.policy import JobType


def handlers_of(
    old: object, new: object, types: Mapping[str, JobType[..., Any]], register: Callable[..., Any]
) -> dict[str, Handlers]:
    """Return the handlers of both versions, by the names of their jobs. Jobs that the rig does not know are registered.

    Parameters: `old` and `new` are as in `Rig.deploy`; `types` are the job types of the rig; `register` is `Rig.job`.

    Raises `InputError`.
    """
    if isinstance(old, JobType):
        old = old.fn
    if callable(old) != callable(new) or isinstance(old, Mapping) != isinstance(new, Mapping):
        raise InputError(f"old is {old!r} and new is {new!r}; give two functions, two mappings or two modules")
    if callable(old):
        name = next((type.name for type in types.values() if type.has(old)), None) or register(old).name
        return {name: {"old": old, "new": _handler(new, name, "new")}}
    if isinstance(old, Mapping) and isinstance(new, Mapping):
        found: dict[str, Handlers] = {}
        for name in dict.fromkeys((*old, *new)):
            made: Handlers = {
                "old": _handler(old.get(name), name, "old"), "new": _handler(new.get(name), name, "new"),
            }  # fmt: skip
            first = made["old"] or made["new"]
            if first is None:
                raise InputError(f"neither version has a function for the job {name!r}; leave it out")
            if name not in types:
                register(first, name=name)
            found[name] = made
        if not found:
            raise InputError("old and new are empty; give functions by the names of their jobs")
        return found
    return _of_modules(old, new, types)


def _handler(given: object, name: str, version: Version) -> Callable[..., Any] | None:
    if given is not None and not callable(given):
        raise InputError(f"the {version} version has {given!r} for the job {name!r}; give a function")
    return given


def _of_modules(old: object, new: object, types: Mapping[str, JobType[..., Any]]) -> dict[str, Handlers]:
    """Return the handlers of those job types whose function has its name in a module."""
    found: dict[str, Handlers] = {}
    for name, type in types.items():
        attribute = getattr(type.fn, "__name__", name)
        before, after = getattr(old, attribute, None), getattr(new, attribute, None)
        if type.has(before) or type.has(after):
            found[name] = {"old": _handler(before, name, "old"), "new": _handler(after, name, "new")}
    if not found:
        known = ", ".join(types) or "none"
        raise InputError(
            f"no job type of the rig has a function of {_told(old)} or {_told(new)}; register them with rig.job(...), "
            f"known job types: {known}"
        )
    return found


def _told(module: object) -> str:
    return str(getattr(module, "__name__", module))
