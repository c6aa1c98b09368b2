"""The services that modelled jobs call: with a capacity, and with a circuit breaker in front of them."""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from ..errors import InputError
from ..foundation.distributions import Spread
from ..foundation.durations import to_ns
from ..history.history import History
from ..history.records import ENDED
from ..simulation.faults.kind import FaultKind, Passing, Strike


class CallRefused(ConnectionError):
    """A call that a service with too much load refuses, or the breaker in front of it."""


@dataclass(frozen=True)
class Breaker:
    """A circuit breaker in front of a service: when it opens, and for how long.

    Parameters: it opens if of the last `of` calls a share of `failing` or more has failed; while it is open each call
    fails at once; after `open_ns` nanoseconds one call is let through, and decides.
    """

    failing: float
    of: int
    open_ns: int

    @classmethod
    def read(cls, table: dict[str, Any]) -> Breaker:
        """Return the rule of a table. Raises `InputError` or `DurationError`."""
        open_ns = to_ns(table.get("open", "30s"), what="open")
        if not open_ns:
            raise InputError("open is 0; give how long the breaker stays open, such as '30s'")
        return cls(float(table.get("failing", 0.5)), int(table.get("of", 20)), open_ns)


class CalledService:
    """A service that modelled jobs call.

    Parameters: `capacity` is how many calls at once it serves at full speed; `beyond` is ``"slower"``: a call that
    begins while `n` calls run, itself included, takes ``n / capacity`` times as long if `n` is higher; or ``"fails"``:
    it fails at once with the chance ``1 - capacity / n``. `callers` are the names of the jobs that call it.
    """

    def __init__(
        self, name: str, capacity: int, beyond: str, breaker: Breaker | None, callers: set[str], history: History,
        now: Callable[[], int], chance: random.Random,
    ) -> None:  # fmt: skip
        self._name = name
        self._capacity = capacity
        self._refuses = beyond == "fails"
        self._breaker = breaker
        self._callers = callers
        self._history = history
        self._now = now
        self._chance = chance
        self._read = 0  # how many records of the history are counted
        self._calls = 0
        self._results: deque[bool] = deque(maxlen=None if breaker is None else breaker.of)
        self._opened = 0  # until when the breaker is open; 0: it is closed; -1: one call is let through

    def load(self) -> float:
        """Return how many call it now, as a share of its capacity."""
        for entry in self._history.records(self._read):
            self._read += 1
            if entry.job is None or entry.job.type.name not in self._callers:
                continue
            if entry.what == "started":
                self._calls += 1
            elif entry.what in ENDED:
                self._calls -= 1
                if not isinstance(entry.detail, CallRefused):
                    self._tell_breaker(entry.what != "done", entry.ns)
        return self._calls / self._capacity

    def _tell_breaker(self, failed: bool, at: int) -> None:
        rule = self._breaker
        if rule is None or self._opened > 0:  # a call that began before it opened
            return
        if self._opened < 0:
            self._opened = at + rule.open_ns if failed else 0
            self._results.clear()
            return
        self._results.append(failed)
        if len(self._results) == rule.of and sum(self._results) >= rule.failing * rule.of:
            self._opened = at + rule.open_ns

    def refuses(self) -> str:
        """Return in words why a call that begins now fails at once. Empty if it does not."""
        load = self.load()
        if self._opened < 0 or self._now() < self._opened:
            return f"the breaker in front of {self._name} is open"
        if self._opened > 0:
            self._opened = -1
        if self._refuses and load > 1.0 and self._chance.random() >= 1.0 / load:
            return f"{self._name} has {load:.1f} times as many calls as it can serve"
        return ""

    def slows(self) -> float:
        """Return how many times as long a call takes that begins now."""
        return 1.0 if self._refuses else max(1.0, self.load())


@dataclass(frozen=True)
class SlowedSpread(Spread):
    """Durations that grow with the load of the service that is called."""

    usual: Spread
    service: CalledService

    @property
    def mean_ns(self) -> float:
        return self.usual.mean_ns

    def quantile(self, share: float) -> float:
        return self.usual.quantile(share)

    def draw(self, chance: random.Random) -> int:
        return round(self.usual.draw(chance) * self.service.slows())

    def describe(self) -> str:
        return self.usual.describe()


class RefusedCall(FaultKind):
    """Attempts fail at their start if the service that they call refuses the call."""

    name = "refused_call"
    words = "the service refuses the call"
    seams = frozenset({"start"})
    needs = frozenset({"fail"})

    def __init__(self, service: CalledService) -> None:
        self._service = service

    def strike(self, passing: Passing, strike: Strike) -> None:
        why = self._service.refuses()
        if why:
            passing.fail(CallRefused(why))
