"""What every stand has: its place in a rig, its faults, and its effects."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

from ..core.durations import Duration, to_ns
from ..core.errors import InputError, ResponseLost, RigStateError, StandError
from ..core.faults import ErrorLike, Fault, Numbers, Span, checked_chance, checked_error, checked_numbers
from ..core.where import calling

if TYPE_CHECKING:
    from ..core.engine import Engine


class Stand:
    """A simulated outside service. `name` is what its effects begin with (``"mail.send"``).

    Its faults are methods: `outage`, `slow`, `fail`, `lose_response`. In each, `calls` counts the stand's calls
    from 1, `between` is a pair of instants, `chance` a seeded share from 0 to 1, `operation` one of its
    operations (none: all of them).
    """

    operations: tuple[str, ...] = ()
    """What it can do, as the effects are named."""

    def __init__(self, name: str) -> None:
        if not isinstance(name, str) or not name:
            raise InputError(f"the stand's name is {name!r}; give text")
        self.name = name
        self._engine: Engine | None = None
        self._faults: list[tuple[str | None, Fault]] = []
        self._later: list[Callable[[], None]] = []
        self._calls = 0
        self._drawn: int | None = None

    def attach(self, engine: Engine) -> None:
        """Take its place in a rig; `Rig.stand` does it. Raises `RigStateError` where it is in one already."""
        if self._engine is not None:
            raise RigStateError(f"the stand {self.name!r} is in a rig already; make another one")
        self._engine = engine
        for operation in self.operations:
            engine.effects.names.setdefault(f"{self.name}.{operation}")
        for place in self._later:
            place()
        self._later.clear()

    # --- faults -------------------------------------------------------------------------------------

    def outage(self, between: tuple[Any, Any], *, operation: str | None = None) -> None:
        """Let nothing come through between two instants: each call raises `StandError` and does nothing."""
        self._place("fail", operation, None, between, None, StandError(f"{self.name} is down"))

    def slow(
        self, by: Duration, *, operation: str | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None,
    ) -> None:  # fmt: skip
        """Let calls take `by` before they do what they are asked for."""
        self._place("slow", operation, calls, between, chance, None, to_ns(by, what="by"))

    def fail(
        self, *, operation: str | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None, error: ErrorLike = StandError,
    ) -> None:  # fmt: skip
        """Let calls raise `error`, with nothing done."""
        self._place("fail", operation, calls, between, chance, error)

    def lose_response(
        self, *, operation: str | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None, error: ErrorLike | None = None,
    ) -> None:  # fmt: skip
        """Let calls do what they are asked for and raise `error` all the same: the answer was lost on its way."""
        lost = error if error is not None else ResponseLost(f"the answer of {self.name} was lost on its way")
        self._place("lose", operation, calls, between, chance, lost)

    def _place(
        self, kind: Any, operation: str | None, calls: int | Iterable[int] | None, between: Span,
        chance: float | None, error: ErrorLike | None, by: int = 0, status: int = 0,
    ) -> None:  # fmt: skip
        if operation is not None and operation not in self.operations:
            raise InputError(f"{self.name} has no operation {operation!r}; it has {', '.join(self.operations)}")
        numbers = checked_numbers(calls)
        checked_chance(chance)
        if error is not None:
            error = checked_error(error)

        def place() -> None:
            assert self._engine is not None
            since, until = (None, None) if between is None else self._engine.faults.span(between)
            generator = None
            if chance is not None:
                generator = random.Random(f"{self._engine.seed}:stand:{self.name}:{kind}:{len(self._faults)}")
            fault = Fault(kind, None, numbers, since, until, chance, None, error, by, generator)
            fault.status = status
            self._faults.append((operation, fault))

        if self._engine is None:
            self._later.append(place)  # what an instant means, and which seed there is, the rig says
        else:
            place()

    # --- operating ----------------------------------------------------------------------------------

    def in_rig(self, operation: str) -> Engine:
        """Return the engine; raise `RigStateError` for a stand that is used outside a rig."""
        if self._engine is None:
            raise RigStateError(
                f"{self.name}.{operation} is used outside a rig, at {calling()}; put it there: rig.stand({self.name})"
            )
        return self._engine

    def _operate(self, operation: str, act: Callable[[], Any], key: Any, data: dict[str, Any]) -> Any:
        """Do something, under the stand's faults, as an effect."""
        engine = self.in_rig(operation)
        if engine.effects.elsewhere is not None:  # in a forked child: the stand itself is with the parent
            return engine.effects.elsewhere(self, operation, key, data)
        self._calls += 1
        number = self._calls
        if not self._faults and self._drawn is None:
            return engine.effects.perform(f"{self.name}.{operation}", act, key, data)
        meant = [fault for only, fault in self._faults if only in (None, operation)]

        if self._drawn is None:
            delay = self.delay_ns(operation, number)
        else:
            delay, self._drawn = 0, None  # whoever drew it has spent it

        def fails() -> None:
            if delay:
                self.spend(delay)
            for fault in meant:
                if fault.kind == "fail" and fault.strikes(engine.now, number, None):
                    raise fault.make()

        def loses() -> None:
            for fault in meant:
                if fault.kind == "lose" and fault.strikes(engine.now, number, None):
                    raise fault.make()

        return engine.effects.perform(f"{self.name}.{operation}", act, key, data, fails, loses)

    def delay_ns(self, operation: str, number: int) -> int:
        """Return by how much the faults slow a call down."""
        now = self.in_rig(operation).now
        return sum(
            fault.by_ns
            for only, fault in self._faults
            if fault.kind == "slow" and only in (None, operation) and fault.strikes(now, number, None)
        )

    def spend(self, ns: int) -> None:
        """Let time pass for whoever calls."""
        engine = self.in_rig("")
        if engine.current is not None:
            engine.sleep(ns)
        elif not engine.running:
            engine.advance_to(engine.now + ns)

    def __repr__(self) -> str:
        return f"<stand {self.name}: {self._calls} calls>"
