"""Admission: whether a job may be enqueued, and whether it may start yet."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from .clockwork import Watch
from .durations import spell
from .errors import DuplicateJob, InputError, nearest
from .jobs import Job
from .policy import JobType
from .shapes import plain

if TYPE_CHECKING:
    from .engine import Engine


class Conditions:
    """Named conditions of the world, such as a network that is up; each holds until it is turned off."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._off: set[str] = set()
        self._followed: dict[str, Callable[[], Any]] = {}

    def follow(self, name: str, predicate: Callable[[], Any]) -> None:
        """Let a condition hold whenever a predicate is true (``lambda: disk.free > 10``); it is asked after every
        event while a job waits for it."""
        self._check(name)
        if not callable(predicate):
            raise InputError(f"the predicate of {name!r} is {predicate!r}, which cannot be called")
        if not self._followed:
            self._engine.watches.append(Watch(None, self._look))
        self._followed[name] = predicate

    def _look(self) -> bool:
        if self._engine.admission.waits_for(name for name, holds in self._followed.items() if holds()):
            self._engine.admission.look_again()
        return False

    def off(self, name: str) -> None:
        """From now on the condition does not hold: jobs that need it are held back."""
        self._check(name)
        if name not in self._off:
            self._off.add(name)
            self._engine.record("note", detail=f"{name} no longer holds")

    def on(self, name: str) -> None:
        """The condition holds again: jobs that were held back for it become due now."""
        self._check(name)
        if name in self._off:
            self._off.discard(name)
            self._engine.record("note", detail=f"{name} holds again")
            self._engine.admission.look_again()

    def __getitem__(self, name: str) -> bool:
        self._check(name)
        followed = self._followed.get(name)
        return name not in self._off and (followed is None or bool(followed()))

    def _check(self, name: str) -> None:
        known = {n for type in self._engine.types.values() for n in type.policy.only_while}
        if name not in known:
            raise InputError(f"no job type has only_while={name!r}; {nearest(str(name), known)}")


class Admission:
    """What stands between a job and its queue."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.conditions = Conditions(engine)
        self._pending: dict[str, Job] = {}
        self._held: list[Job] = []
        self._fresh: str | None = None

    def only(self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any], key: Any) -> Job | None:
        """Return the pending job that is to be kept in place of a new one, None where the new one may come.

        Raises `DuplicateJob`.
        """
        unique = type.policy.unique
        if unique is None:
            return None
        about = [args, kwargs] if key is None else key
        name = f"{type.name}:{json.dumps(plain(about), sort_keys=True)}"
        engine = self._engine
        other = self._pending.get(name)
        if other is not None and other.state in ("held", "ready", "backing-off"):
            shown = f"{key!r}" if key is not None else f"{type.name}{args!r}"
            if unique == "refuse":
                error = DuplicateJob(f"{other.id} is {other.state} with the same key, {shown}")
                engine.record("refused", detail=(type.name, error))
                raise error
            if unique == "keep":
                engine.record("note", other, 0, "kept, in place of another one just like it")
                return other
            engine.withdraw(other)
        self._fresh = name
        return None

    def pend(self, job: Job) -> None:
        """Take a new job for the pending one of its key."""
        if self._fresh is not None:
            self._pending[self._fresh] = job
            self._fresh = None

    def holds_back(self, job: Job) -> bool:
        """Whether a job that is due has to wait for a condition."""
        off = [name for name in job.type.policy.only_while if not self.conditions[name]]
        if not off:
            return False
        job.state = "held"
        self._held.append(job)
        self._engine.record("note", job, 0, f"held back until {' and '.join(off)} holds")
        return True

    def why(self, job: Job) -> str:
        """Return in words what holds a job back; empty where nothing does."""
        off = [name for name in job.type.policy.only_while if not self.conditions[name]]
        return f"until {' and '.join(off)} holds" if off and job in self._held else ""

    def waits_for(self, names: Iterable[str]) -> bool:
        """Whether a job that is held back waits for one of these conditions, and for no other."""
        holding = set(names)
        return any(
            all(self.conditions[name] for name in job.type.policy.only_while)
            for job in self._held
            if job.state == "held" and holding.intersection(job.type.policy.only_while)
        )

    def look_again(self) -> None:
        """Let those that were held back come again."""
        held, self._held = self._held, []
        for job in held:
            job.due_ns = self._engine.now
            self._engine.schedule(self._engine.now, job.priority, self._engine._due_event, job)

    def expire(self, job: Job) -> None:
        """Drop a job that has waited too long for its first attempt."""
        if job.tries == 0 and job.state in ("held", "ready"):
            self._engine.close(job, "dropped", "expired", 0, spell(self._engine.now - job.enqueued_ns))
