"""Deployments: for a while, two versions of the handlers work one queue, and either can take any job."""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable, Mapping
from typing import Any, Literal, TypeAlias

from ..errors import InputError, UnknownJob
from ..foundation.instants import Timeline
from ..history.history import History
from ..simulation.event_loop import EventLoop
from ..simulation.jobs import Attempt, LiveAttempt
from ..simulation.policy import JobType

Version: TypeAlias = Literal["old", "new"]
Handlers: TypeAlias = "Mapping[Version, Callable[..., Any] | None]"
"""The handler of each version. None: the version does not know the job."""


class Deployment:
    """A rolling deployment. `Rig.deploy` begins one.

    Example::

        deployment = rig.deploy(old=charge_fare, new=lambda booking, seats=1: seats, over="5m")
        for number in range(8):
            rig.enqueue(charge_fare, f"TL-204/{number}")
        rig.run_dry()
        assert deployment.taken["old"] + deployment.taken["new"] == 8
    """

    def __init__(
        self, loop: EventLoop, history: History, handlers: Mapping[str, Handlers],
        types: Mapping[str, JobType[..., Any]], over_ns: int, generator: random.Random,
        chooses: Callable[[Attempt], Version] | None,
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._handlers = handlers
        self._types = types
        self._generator = generator
        self._chooses = chooses
        self._begin_ns = loop.now
        self._end_ns = loop.now + over_ns
        self.taken: dict[Version, int] = {"old": 0, "new": 0}
        """How many attempts each version has taken while the deployment was under way."""
        for name, type in types.items():
            known = [fn for fn in handlers[name].values() if fn is not None]
            type.deploy(self, *known)
        history.record("note", detail=f"a deployment begins: {', '.join(types)}")
        loop.schedule_world_event(self._end_ns, self._end, None)

    @property
    def begin(self) -> dt.datetime:
        """The instant at which it began, in the rig's zone."""
        return self._timeline.at(self._begin_ns)

    @property
    def end(self) -> dt.datetime:
        """The instant from which on only the new version takes jobs, in the rig's zone."""
        return self._timeline.at(self._end_ns)

    @property
    def _timeline(self) -> Timeline:
        return self._loop.timeline

    @property
    def under_way(self) -> bool:
        """True as long as both versions take jobs."""
        return self._loop.now < self._end_ns

    def handler_of(self, attempt: LiveAttempt) -> Callable[..., Any]:
        """Return the handler that takes an attempt. Raises `UnknownJob` if its version does not know the job."""
        version = self._version_of(attempt)
        self.taken[version] += 1
        name = attempt.job.type.name
        self._history.record("note", attempt.job, attempt.number, f"the {version} version takes it")
        handler = self._handlers[name][version]
        if handler is None:
            raise UnknownJob(f"the {version} version does not know the job {name!r}")
        return handler

    def _version_of(self, attempt: LiveAttempt) -> Version:
        version: Version
        if self._chooses is None:
            version = "old" if self._generator.random() < 0.5 else "new"
        else:
            version = self._chooses(attempt.reader)
            if version not in ("old", "new"):
                raise InputError(f"chooses has returned {version!r} for {attempt.job.id}; return 'old' or 'new'")
        if attempt.other_version:
            return "new" if version == "old" else "old"
        return version

    def _end(self, _: None) -> None:
        """Let the new version take everything."""
        for name, type in self._types.items():
            handler = self._handlers[name]["new"]
            type.deploy(None, handler or _unknown(name))
        self._history.record("note", detail=f"the deployment is over: {', '.join(self._types)}")

    def __repr__(self) -> str:
        state = "under way" if self.under_way else "over"
        return f"<deployment of {', '.join(self._types)}: {state}, {self.taken['old']} old, {self.taken['new']} new>"


def _unknown(name: str) -> Callable[..., Any]:
    """Return the handler of a job that the new version does not know."""

    def unknown(*args: Any, **kwargs: Any) -> Any:
        raise UnknownJob(f"the new version does not know the job {name!r}")

    unknown.__name__ = name
    return unknown


# --- which functions are meant --------------------------------------------------------------------------


def handlers_of(
    old: object, new: object, types: Mapping[str, JobType[..., Any]], register: Callable[..., Any]
) -> dict[str, Handlers]:
    """Return the handlers of both versions, by the names of their jobs. Jobs that the rig does not know are registered.

    Parameters: `old` and `new` are as in `Rig.deploy`; `types` are the job types of the rig; `register` is `Rig.job`.

    Raises `InputError`.
    """
    old, new = (given.fn if isinstance(given, JobType) else given for given in (old, new))
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
