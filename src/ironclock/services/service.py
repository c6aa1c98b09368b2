"""What every simulated service has: its place in a rig, its faults, and its effects."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING, Any

from ..errors import InputError, ResponseLost, RigStateError, ServiceError
from ..foundation.durations import Duration, to_ns
from ..foundation.source_location import calling
from ..simulation.faults.fail import FAIL
from ..simulation.faults.kind import ErrorLike, FaultKind, Passing, Strike, Subject
from ..simulation.faults.outage import OUTAGE
from ..simulation.faults.placed import Aim, PlacedFault
from ..simulation.faults.placing import Numbers, Span, checked_chance, checked_error, checked_numbers, span_of
from ..simulation.faults.slow import SLOW

if TYPE_CHECKING:
    from ..simulation.simulation import Simulation


class LoseResponse(FaultKind):
    """A call does its work, and its answer is lost."""

    name = "lose_response"
    words = "the answer is lost"
    seams = frozenset({"after"})
    needs = frozenset({"fail"})
    cell = "fails after"

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.fail(strike.make_error())


LOSE_RESPONSE = LoseResponse()


class Service:
    """The base of the simulated outside services.

    Its faults are methods: `outage`, `slow`, `fail`, `lose_response`. Parameters that they share:

    - `operation`: the only operation that the fault strikes. Default None: all.
    - `calls`: the numbers of the calls that it strikes; the calls of a service count from 1. Default None: all.
    - `between`: a pair of instants; the end is not included. Default None: always.
    - `chance`: the share of calls that it strikes, from 0 to 1, drawn from the rig's seed. Default None: all.

    A service of your own has `operations`, calls `_operate` for each of them, and has a method `redo`.
    """

    operations: tuple[str, ...] = ()
    """The names of its operations. The effects are named after them: ``"mail.send"``."""
    keys_are_addresses = False
    """True if the key of an effect says where it is done, as in a store, and not what is done."""

    def __init__(self, name: str) -> None:
        if not isinstance(name, str) or not name:
            raise InputError(f"the service's name is {name!r}; give text that is not empty")
        self.name = name
        """Its name, with which the names of its effects begin."""
        self._simulation: Simulation | None = None
        self._faults: list[PlacedFault] = []
        self._later: list[Callable[[], None]] = []
        self._calls = 0
        self._drawn: int | None = None

    def attach(self, simulation: Simulation) -> None:
        """Take its place in a rig; `Rig.service` calls this. Raises `RigStateError` if it is in a rig already.
        Parameters: `simulation` is that of the rig."""
        if self._simulation is not None:
            raise RigStateError(f"the service {self.name!r} is in a rig already; make another one for this rig")
        self._simulation = simulation
        for operation in self.operations:
            simulation.effects.names.setdefault(f"{self.name}.{operation}")
        if self.keys_are_addresses:
            simulation.effects.addressed.add(self.name)
        for place in self._later:
            place()
        self._later.clear()

    # --- faults -------------------------------------------------------------------------------------

    def outage(self, between: tuple[Any, Any], *, operation: str | None = None) -> None:
        """Take the service down between two instants: each call raises `ServiceError`, and nothing is done.

        Parameters: `between` is a pair of instants, the end not included; `operation` is the only one that is down.

        Example::

            mail = rig.service(ic.services.Mail())
            mail.outage(("2031-03-03T10:00", "2031-03-03T10:20"))
        """
        does = Strike(kind=OUTAGE, raises=ServiceError(f"{self.name} is down"))
        self._place(does, operation, None, between, None)

    def slow(
        self, by: Duration, *, operation: str | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None,
    ) -> None:  # fmt: skip
        """Make calls take longer: `by` passes before they do anything.

        Parameters: `operation`, `calls`, `between` and `chance` as in `Service`. Raises `InputError`, `DurationError`.

        Example::

            mail = rig.service(ic.services.Mail())
            mail.slow(by="5s")
        """
        self._place(Strike(kind=SLOW, by_ns=to_ns(by, what="by")), operation, calls, between, chance)

    def fail(
        self, *, operation: str | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None, error: ErrorLike = ServiceError,
    ) -> None:  # fmt: skip
        """Make calls raise `error` (an exception or its class), and nothing is done.

        Parameters: `operation`, `calls`, `between` and `chance` as in `Service`. Raises `InputError`.

        Example::

            mail = rig.service(ic.services.Mail())
            mail.fail(calls=1)
        """
        self._place(Strike(kind=FAIL, raises=checked_error(error)), operation, calls, between, chance)

    def lose_response(
        self, *, operation: str | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None, error: ErrorLike | None = None,
    ) -> None:  # fmt: skip
        """Make calls do their work and raise `error` after it, as if the answer was lost. Default: a `ResponseLost`.

        Parameters: `operation`, `calls`, `between` and `chance` as in `Service`. Raises `InputError`.

        Example::

            bank = rig.service(ic.services.Ledger("bank"))
            bank.lose_response(calls=1)
            try:
                bank.post("passenger", "fares", 180, key="B-7")
            except ic.ResponseLost:
                assert bank.balance("fares") == 180, "the bank has done it"
        """
        lost = error if error is not None else ResponseLost(f"the answer of {self.name} was lost")
        self._place(Strike(kind=LOSE_RESPONSE, raises=checked_error(lost)), operation, calls, between, chance)

    def _place(
        self, does: Strike, operation: str | None, calls: int | Iterable[int] | None, between: Span,
        chance: float | None,
    ) -> None:  # fmt: skip
        if operation is not None and self.operations and operation not in self.operations:
            raise InputError(f"{self.name} has no operation {operation!r}; give one of {', '.join(self.operations)}")
        numbers = checked_numbers(calls, "a call")
        checked_chance(chance)

        def place() -> None:
            assert self._simulation is not None
            since, until = (None, None) if between is None else span_of(self._simulation.timeline, between)
            generator = None
            if chance is not None:
                kind = does.kind.name
                generator = random.Random(f"{self._simulation.seed}:stand:{self.name}:{kind}:{len(self._faults)}")
            effect = None if operation is None else f"{self.name}.{operation}"
            aim = Aim(job=effect, numbers=numbers, since=since, until=until)
            fault = PlacedFault(aim=aim, does=does, chance=chance, generator=generator)
            self._faults.append(fault)
            self._simulation.placed_faults.of_services.append(fault)

        if self._simulation is None:
            self._later.append(place)  # the rig tells what an instant means, and has the seed
        else:
            place()

    def _striking(self, operation: str, number: int, *kinds: FaultKind) -> Iterator[PlacedFault]:
        """Yield the faults of these kinds that strike a call now."""
        now = self.in_rig(operation).loop.now
        subject = Subject(f"{self.name}.{operation}", number, lambda: None)
        return (fault for fault in self._faults if fault.kind in kinds and fault.strikes(now, subject))

    def is_down(self) -> bool:
        """Return True while an outage lasts."""
        now = self.in_rig("").loop.now
        return any(
            fault.kind is OUTAGE and fault.aim.since is not None and fault.aim.is_time(now) for fault in self._faults
        )

    def _knows_keys(self, operation: str) -> bool:
        """Return True if it is known which keys were there before: always, but in a changed world."""
        return self.in_rig(operation).effects.knows_keys(f"{self.name}.{operation}")

    # --- operating ----------------------------------------------------------------------------------

    def in_rig(self, operation: str) -> Simulation:
        """Return the simulation. Raises `RigStateError` if the service is not in a rig."""
        if self._simulation is None:
            raise RigStateError(
                f"{self.name}.{operation} is used outside a rig, at {calling()}; put the service into one: "
                "rig.service(...)"
            )
        return self._simulation

    def _operate(self, operation: str, act: Callable[[], Any], key: Any, data: dict[str, Any]) -> Any:
        """Do an operation as an effect, with the faults of the service."""
        simulation = self.in_rig(operation)
        effects = simulation.effects
        if effects.forward_operation is not None:  # in a forked child: the parent has the service
            return effects.forward_operation(self, operation, key, data)
        self._calls += 1
        number = self._calls
        if not self._faults and self._drawn is None:
            return effects.perform(f"{self.name}.{operation}", act, key, data)
        effect = f"{self.name}.{operation}"

        if self._drawn is None:
            delay = self.delay_ns(operation, number)
        else:
            delay, self._drawn = 0, None  # the caller has drawn it, and has waited for it

        def before() -> None:
            if delay:
                self.spend(delay)
            for fault in self._striking(operation, number, FAIL, OUTAGE):
                raise fault.does.make_error()

        def after() -> None:
            for fault in self._striking(operation, number, LOSE_RESPONSE):
                raise fault.does.make_error()

        return effects.perform(effect, act, key, data, before, after)

    def delay_ns(self, operation: str, number: int) -> int:
        """Return how much longer a call takes because of faults. Parameters: `number` is its number or index."""
        return sum(fault.does.by_ns for fault in self._striking(operation, number, SLOW))

    def spend(self, ns: int) -> None:
        """Let time pass for the caller. Parameters: `ns` is a time in nanoseconds."""
        loop = self.in_rig("").loop
        if loop.current is not None:
            loop.sleep(ns)
        elif not loop.running:
            loop.advance_to(loop.now + ns)

    def __repr__(self) -> str:
        return f"<service {self.name}: {self._calls} calls>"
