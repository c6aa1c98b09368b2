"""Taps: real callables whose calls become jobs of the rig while it is entered."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ..errors import TapError
from ..simulation.jobs import Job
from .payload import Payload
from .readings import Enqueue, Reading
from .targets import Replacement


class Tap(Replacement):
    """One tapped callable. `Rig.tap` gives it."""

    def __init__(
        self,
        target: Any,
        reads: Reading,
        put: Callable[[Enqueue, Payload], Job[Any]],
        payload: Payload,
        also_real: bool,
    ) -> None:
        super().__init__(target)
        if not callable(reads):
            raise TapError(f"reads is {reads!r}; give ic.reading(...) or a function of the call's arguments")
        knowing = getattr(reads, "knowing", None)
        self._reads = reads if knowing is None else knowing(self.target.signature())
        self._put = put
        self._payload = payload
        self._also_real = also_real
        self.label = self.target.label
        """What is tapped, as ``module:name``."""
        self.jobs: list[Job[Any]] = []
        """The jobs that its calls have enqueued, in order."""

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
        asked = self._reads(*args, **kwargs)
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
            job = self._put(one, self._payload)
            self.jobs.append(job)
            if one.returns is not None:
                answers.append(one.returns(job) if callable(one.returns) else one.returns)
            else:
                answers.append(returned if self._also_real else job.id)
        return answers if several and not self._also_real else answers[0] if answers else returned

    def __repr__(self) -> str:
        return f"<tap on {self.label}: {len(self.jobs)} jobs, {'in place' if self.active else 'not in place'}>"
