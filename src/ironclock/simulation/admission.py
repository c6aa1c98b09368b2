"""Admission: which jobs can be enqueued (unique jobs), and which can start yet (conditions, expiry)."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from ..errors import DuplicateJob, InputError, nearest
from ..foundation.durations import spell
from ..history.history import History
from ..history.records import plain
from .event_loop import EventLoop, Waiter
from .jobs import OPEN, LiveJob
from .life import JobLives
from .policy import JobType

_PENDING = ("held", "ready", "backing-off")


class Conditions:
    """Named conditions of the world, such as a network that is up. Each holds until it is turned off.

    Example::

        rig.job(sync, only_while=["online"])
        rig.conditions.off("online")
        rig.advance("1h")  # jobs of `sync` are held
        rig.conditions.on("online")
    """

    def __init__(
        self, loop: EventLoop, history: History, types: Mapping[str, JobType[..., Any]],
        waits_for: Callable[[Iterable[str]], bool], look_again: Callable[[], None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._types = types
        self._waits_for = waits_for
        self._look_again = look_again
        self._off: set[str] = set()
        self._followed: dict[str, Callable[[], Any]] = {}

    def __repr__(self) -> str:
        return f"<conditions, of which are off: {', '.join(sorted(self._off)) or 'none'}>"

    def follow(self, name: str, predicate: Callable[[], Any]) -> None:
        """Let a condition hold while a predicate is true, such as ``lambda: disk.free > 10``. Parameters: `name` is its
        name; `predicate` is a function without arguments.

        The predicate is called after every event while a job waits for the condition. Raises `InputError` if no job
        type has the condition, or if the predicate cannot be called.
        """
        self._check(name)
        if not callable(predicate):
            raise InputError(f"the predicate of {name!r} is {predicate!r}; give a function without arguments")
        if not self._followed:
            self._loop.waiters.append(Waiter(None, self._ask_followed))
        self._followed[name] = predicate

    def _ask_followed(self) -> bool:
        if self._waits_for(name for name, holds in self._followed.items() if holds()):
            self._look_again()
        return False

    def off(self, name: str) -> None:
        """Turn the condition `name` off: jobs that need it are held. Raises `InputError` for an unknown one.

        Example::

            job = rig.job(submit_manifest, name="upload", only_while=["network"])
            rig.conditions.off("network")
        """
        self._check(name)
        if name not in self._off:
            self._off.add(name)
            self._history.record("note", detail=f"{name} no longer holds")

    def on(self, name: str) -> None:
        """Turn the condition `name` on: jobs held for it are due now. Raises `InputError` for an unknown one.

        Example::

            job = rig.job(submit_manifest, name="upload", only_while=["network"])
            rig.conditions.on("network")
        """
        self._check(name)
        if name in self._off:
            self._off.discard(name)
            self._history.record("note", detail=f"{name} holds again")
            self._look_again()

    def __getitem__(self, name: str) -> bool:
        self._check(name)
        followed = self._followed.get(name)
        return name not in self._off and (followed is None or bool(followed()))

    def _check(self, name: str) -> None:
        known = {n for type in self._types.values() for n in type.asked.only_while}
        if name not in known:
            raise InputError(f"no job type has only_while={name!r}; {nearest(str(name), known)}")


class Admission:
    """The rules between a job and its queue. `withdraw` cancels a job, `make_due` puts a job on the heap for now."""

    def __init__(
        self, loop: EventLoop, history: History, types: Mapping[str, JobType[..., Any]],
        lives: JobLives, withdraw: Callable[[LiveJob], None], make_due: Callable[[LiveJob], None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._lives = lives
        self._withdraw = withdraw
        self._make_due = make_due
        self.conditions = Conditions(loop, history, types, self.waits_for, self.look_again)
        self._pending: dict[str, list[LiveJob]] = {}  # by type and key, the jobs that are open
        self._held: list[LiveJob] = []

    # --- unique jobs --------------------------------------------------------------------------------

    def admit(
        self, type: JobType[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], key: Any
    ) -> tuple[LiveJob | None, str]:
        """Return the pending job that is kept in place of a new one (None: the new one can be enqueued), and the name
        under which the new job is then remembered (empty: under none).

        Raises `DuplicateJob` if the policy says so.
        """
        unique = type.policy.unique
        if unique is None:
            return None, ""
        name = _unique_name(type, args, kwargs, key)
        others = [job for job in self._pending.get(name, ()) if job.state in _PENDING]
        if others:
            other = others[0]
            shown = f"{key!r}" if key is not None else f"{type.name}{args!r}"
            if unique == "refuse":
                error = DuplicateJob(
                    f"{other.id} is {other.state} with the same key, {shown}; the policy has unique='refuse'"
                )
                self._history.record("refused", detail=(type.name, error))
                raise error
            if unique == "keep":
                self._history.record("note", other, 0, "kept, in place of another one just like it")
                return other, ""
            for other in others:
                self._withdraw(other)
        return None, name

    def pending_again(self, job: LiveJob) -> None:
        """Remember a dead letter that is back in its queue as a pending one of its key."""
        if job.type.policy.unique is not None:
            self.remember_pending(_unique_name(job.type, job.args, job.kwargs, job.key), job)

    def remember_pending(self, name: str, job: LiveJob) -> None:
        """Remember a job as the pending one of a name."""
        # A job that runs can fail and wait again, so that it stays; one that is closed goes.
        kept = [one for one in self._pending.get(name, ()) if one.state in OPEN and one is not job]
        self._pending[name] = [*kept, job]

    def forget_held(self, job: LiveJob) -> None:
        """Forget a job that was held back by a condition."""
        if job in self._held:
            self._held.remove(job)

    # --- conditions and expiry ----------------------------------------------------------------------

    def _missing_conditions(self, job: LiveJob) -> list[str]:
        return [name for name in job.type.policy.only_while if not self.conditions[name]]

    def holds_back(self, job: LiveJob) -> bool:
        """Hold a job that is due if one of its conditions does not hold; return True if it is held."""
        missing = self._missing_conditions(job)
        if not missing:
            return False
        self._held.append(job)
        self._lives.held(job, f"held back until {' and '.join(missing)} holds")
        return True

    def reason_held(self, job: LiveJob) -> str:
        """Return in words what a held job waits for. Empty if no condition holds it."""
        missing = self._missing_conditions(job)
        return f"until {' and '.join(missing)} holds" if missing and job in self._held else ""

    def waits_for(self, names: Iterable[str]) -> bool:
        """Return True if a held job waits for one of these conditions, and every other condition of it holds."""
        holding = set(names)
        return any(
            all(self.conditions[name] for name in job.type.policy.only_while)
            for job in self._held
            if job.state == "held" and holding.intersection(job.type.policy.only_while)
        )

    def look_again(self) -> None:
        """Make every held job due now, so that its conditions are checked again."""
        held, self._held = self._held, []
        for job in held:
            job.due_ns = self._loop.now
            self._make_due(job)

    def expire(self, job: LiveJob) -> None:
        """Drop a job that has waited too long for its first attempt."""
        if self.can_expire(job):
            self._lives.close(job, "dropped", "expired", 0, spell(self._loop.now - job.enqueued_ns))

    @staticmethod
    def can_expire(job: LiveJob) -> bool:
        """Return True if a job still waits for its first attempt."""
        return job.attempts_made == 0 and job.state in ("held", "ready")


def _unique_name(type: JobType[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], key: Any) -> str:
    """Return what two jobs have in common that are the same for `unique`."""
    compared = [args, kwargs] if key is None else key
    return f"{type.name}:{json.dumps(plain(compared), sort_keys=True)}"
