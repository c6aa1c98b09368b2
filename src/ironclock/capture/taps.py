"""Taps: a real callable that, while the rig is entered, puts what it is asked for into the rig."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ..core.errors import TapError
from ..core.jobs import Job
from .payload import Payload
from .readings import Enqueue, Reading
from .targets import InPlace


class Tap(InPlace):
    """One tapped callable. `jobs` holds what came through it, in order."""

    def __init__(
        self, target: Any, reads: Reading, put: Callable[[Enqueue, Payload], Job], payload: Payload, also_real: bool
    ) -> None:
        super().__init__(target)
        if not callable(reads):
            raise TapError(f"reads is {reads!r}; give ic.reading(...) or a function of the real call's arguments")
        knowing = getattr(reads, "knowing", None)
        self._reads = reads if knowing is None else knowing(self.target.signature())
        self._put = put
        self._payload = payload
        self._also_real = also_real
        self.label = self.target.label
        self.jobs: list[Job] = []

    def stand_in(self) -> Callable[..., Any]:
        return self._async_call if self.target.is_async else self._call

    def _call(self, *args: Any, **kwargs: Any) -> Any:
        orders = self._orders(args, kwargs)
        if orders is None:
            return self.target.real(*args, **kwargs)
        returned = self.target.real(*args, **kwargs) if self._also_real else None
        return self._enqueue(orders, returned)

    async def _async_call(self, *args: Any, **kwargs: Any) -> Any:
        orders = self._orders(args, kwargs)
        if orders is None:
            return await self.target.real(*args, **kwargs)
        returned = await self.target.real(*args, **kwargs) if self._also_real else None
        return self._enqueue(orders, returned)

    def _orders(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Enqueue | Sequence[Enqueue] | None:
        orders = self._reads(*args, **kwargs)
        for order in orders if isinstance(orders, (list, tuple)) else (orders,):
            if order is not None and not isinstance(order, Enqueue):
                raise TapError(
                    f"the reading of {self.label} gave {order!r}; it gives ic.Enqueue(...), a list of them, or None"
                )
        return orders

    def _enqueue(self, orders: Enqueue | Sequence[Enqueue], returned: Any) -> Any:
        several = not isinstance(orders, Enqueue)
        answers = []
        for order in (orders,) if isinstance(orders, Enqueue) else orders:
            job = self._put(order, self._payload)
            self.jobs.append(job)
            if order.returns is not None:
                answers.append(order.returns(job) if callable(order.returns) else order.returns)
            else:
                answers.append(returned if self._also_real else job.id)
        return answers if several and not self._also_real else answers[0] if answers else returned

    def __repr__(self) -> str:
        return f"<tap on {self.label}: {len(self.jobs)} jobs, {'in place' if self.active else 'not in place'}>"
