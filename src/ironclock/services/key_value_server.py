"""A real key-value server behind a proxy of the rig: its faults, and what of its clock follows."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..errors import RigStateError
from ..foundation.durations import Duration, spell, to_ns
from ..foundation.instants import Instant
from ..simulation.faults.fail import FAIL
from ..simulation.faults.outage import OUTAGE
from .service import LOSE_RESPONSE, Service

if TYPE_CHECKING:
    from ..interpreter.databases.key_value_proxy import KeyValueProxy

_NS_A_MS = 1_000_000


class KeyValueServer(Service):
    """A real key-value server that speaks RESP. `Rig.database` gives it for a URL that begins with ``redis://``.

    Ordinary client packages talk to the server through a proxy of the rig, so that expiry, blocking commands, `TIME`,
    idle times and the ids of streams follow the rig's clock. The faults are those of `Service`, with the name of a
    command as `operation`; while it is down, connections are closed.

    Example::

        server = rig.database(f"redis://127.0.0.1:{port}/0")
        server.lose_response(operation="lpush", calls=1)
        server.fail_over(at="2031-03-03T09:10", loses="2s", down="5s")
    """

    keys_are_addresses = True

    def __init__(self, name: str = "key-value server") -> None:
        super().__init__(name)
        self._proxy: KeyValueProxy | None = None
        self._down_until_ns = -1
        self._failovers: list[tuple[int, int, int]] = []

    def behind(self, proxy: KeyValueProxy) -> None:
        """Take its place behind a proxy. Parameters: `proxy` is the proxy."""
        self._proxy = proxy
        self._plan()

    def before(self, name: str) -> tuple[int, str]:
        """Return how long a command is slow, in nanoseconds, and how it fails: ``"down"``, an error reply, or not.
        Parameters: `name` is its name."""
        if self.is_down():
            return 0, "down"
        self._calls += 1
        slow = self.delay_ns(name, self._calls) if self._faults else 0
        for fault in self._striking(name, self._calls, FAIL, OUTAGE):
            return slow, "down" if fault.kind is OUTAGE else f"ERR {fault.does.make_error()}"
        return slow, ""

    @property
    def can_fail(self) -> bool:
        """True if anything can go wrong at it."""
        return bool(self._faults) or self._down_until_ns >= 0

    def loses(self, name: str) -> bool:
        """Return True if the answer of a command is lost. Parameters: `name` is its name."""
        return any(True for _ in self._striking(name, self._calls, LOSE_RESPONSE))

    def is_down(self) -> bool:
        """Return True if nobody can connect now."""
        now = self.in_rig("connect").loop.now
        return now < self._down_until_ns or any(
            fault.kind in (FAIL, OUTAGE) and fault.aim.job is None
            and fault.aim.since is not None and fault.aim.is_time(now)
            for fault in self._faults
        )  # fmt: skip

    def fail_over(self, at: Instant, *, loses: Duration = 0, down: Duration = 0) -> None:
        """Let the server fail, and another one take its place that has not heard of the last writes.

        Parameters:

        - `at`: when it fails. Connections are closed then.
        - `loses`: the writes of how long before are lost. Default 0: none.
        - `down`: how long nobody can connect. Default 0.

        Raises `InputError`, `DurationError`, `InstantError`, and `RigStateError` for an instant in the past.
        """
        simulation = self.in_rig("fail_over")
        at_ns = simulation.timeline.ns(at, what="at")
        if at_ns < simulation.loop.now:
            raise RigStateError(f"the failover is at {at!r}, which is past; give an instant that is not")
        self._failovers.append((at_ns, to_ns(loses, what="loses"), to_ns(down, what="down")))
        self._plan()

    def _plan(self) -> None:
        if self._proxy is not None and self._failovers:
            if self._proxy.changes is None:
                self._proxy.changes = []
            loop = self.in_rig("fail_over").loop
            for planned in self._failovers:
                loop.schedule_world_event(planned[0], self._fail_over_now, planned)
            self._failovers.clear()

    def _fail_over_now(self, planned: tuple[int, int, int]) -> None:
        at_ns, loses_ns, down_ns = planned
        proxy, simulation = self._proxy, self.in_rig("fail_over")
        if proxy is None:
            return
        lost = proxy.lose_since((at_ns - loses_ns) // _NS_A_MS) if loses_ns else 0
        self._down_until_ns = at_ns + down_ns
        proxy.drop_clients()
        simulation.history.record(
            "note", detail=f"{self.name} fails over: {lost} writes of the last {spell(loses_ns)} are lost"
        )

    def redo(self, operation: str, key: object, data: dict[str, Any]) -> object:
        """Do nothing: a forked child has the real server as well. Parameters: `key` is what it is about; `data` are its
        arguments."""
