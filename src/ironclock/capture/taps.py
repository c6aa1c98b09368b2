"""Taps: real callables whose calls become jobs of the rig while it is entered."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from typing import Any

from ..errors import PolicyError, TapError
from ..foundation.source_location import calling
from ..simulation.jobs import Job
from ..simulation.policy import Policy
from .payload import Payload
from .readings import Enqueue, Reading, proposed, reading, spelled
from .targets import Replacement, TargetLike


class Tap(Replacement):
    """One tapped callable. `Rig.tap` gives it."""

    def __init__(
        self,
        target: TargetLike,
        reads: Reading | None,
        put: Callable[[Enqueue, Payload, str], Job[Any]],
        payload: Payload,
        also_real: bool,
        noting_errors: Callable[[], AbstractContextManager[None]],
        take_away: Callable[[Tap], None],
        policy: Policy | None = None,
    ) -> None:
        super().__init__(target)
        if reads is None:
            reads = self._certain_reading()
        if not callable(reads):
            raise TapError(f"reads is {reads!r}; give ic.reading(...) or a function of the call's arguments")
        knowing = getattr(reads, "knowing", None)
        self._with_class = self.target.by_class and (knowing is not None or _takes_class(reads))
        self._reads = reads if knowing is None else knowing(self.target.signature(), self._with_class)
        self._put = put
        self._payload = payload
        self._also_real = also_real
        if policy is not None and not isinstance(policy, Policy):
            raise PolicyError(f"policy is {policy!r}; give an ic.Policy(...)")
        self._policy = policy
        self.label = self.target.label
        """What is tapped, as ``module:name``."""
        self.jobs: list[Job[Any]] = []
        """The jobs that its calls have enqueued, in order."""
        self.calls = 0
        """How many calls its reading has read."""
        self._noting_errors = noting_errors
        self._take_away = take_away
        self.place = calling()
        """Where it was put, as ``file:line in function``."""

    def __enter__(self) -> Tap:
        return self

    def __exit__(self, *_: object) -> None:
        """Take the tap away: calls are captured only inside the block."""
        self._take_away(self)

    def _certain_reading(self) -> Reading:
        """Return the reading that follows from the names of the parameters. Raises `TapError` if it is not certain."""
        found, unclear = proposed(self.target.signature())
        if "job" in found and not unclear:
            return reading(**found)
        if "job" not in found:
            unclear = ["which parameter is the job", *map(repr, unclear)]
        raise TapError(
            f"how to read a call of {self.target.label}{self.target.signature() or '(...)'} is not certain; give "
            f"reads={spelled(found)}, or a function of the call's arguments (not understood: {', '.join(unclear)})"
        )

    def replacement(self) -> Callable[..., Any]:
        """Return what is called in place of the tapped callable."""
        return self._async_call if self.target.is_async else self._call

    def _call(self, *args: Any, **kwargs: Any) -> Any:
        asked = self._read(args, kwargs)
        if asked is None:
            return self.target.real(*args, **kwargs)
        returned = self.target.real(*args, **kwargs) if self._also_real else None
        return self._enqueue(asked, returned)

    async def _async_call(self, *args: Any, **kwargs: Any) -> Any:
        asked = self._read(args, kwargs)
        if asked is None:
            return await self.target.real(*args, **kwargs)
        returned = await self.target.real(*args, **kwargs) if self._also_real else None
        return self._enqueue(asked, returned)

    def _read(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Enqueue | Sequence[Enqueue] | None:
        self.calls += 1
        with self._noting_errors():
            first = (self.target.called_on,) if self._with_class else ()
            asked = self._reads(*first, *args, **kwargs)
            for one in asked if isinstance(asked, (list, tuple)) else (asked,):
                if one is not None and not isinstance(one, Enqueue):
                    raise TapError(
                        f"the reading of {self.label} returned {one!r}; return ic.Enqueue(...), a list of them, or None"
                    )
        return asked

    def _enqueue(self, asked: Enqueue | Sequence[Enqueue], returned: Any) -> Any:
        several = not isinstance(asked, Enqueue)
        answers = []
        for one in (asked,) if isinstance(asked, Enqueue) else asked:
            if one.policy is None and self._policy is not None:
                one = replace(one, policy=self._policy)
            with self._noting_errors():
                job = self._put(one, self._payload, self.label)
            self.jobs.append(job)
            if one.returns is not None:
                answers.append(one.returns(job) if callable(one.returns) else one.returns)
            else:
                answers.append(returned if self._also_real else job.id)
        return answers if several and not self._also_real else answers[0] if answers else returned

    def __repr__(self) -> str:
        return f"<tap on {self.label}: {len(self.jobs)} jobs, {'in place' if self.active else 'not in place'}>"


def _takes_class(reads: Reading) -> bool:
    """Return True if the first parameter of a reading is called ``cls``: it gets the class of the call."""
    try:
        return next(iter(inspect.signature(reads).parameters), None) == "cls"
    except (TypeError, ValueError):
        return False
