"""An HTTP service that answers what it is told to, called directly or through `httpx`."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, TypeAlias

from ..core.durations import Duration, to_ns
from ..core.errors import InputError
from ..core.faults import Numbers, Span
from .base import Stand

if TYPE_CHECKING:
    from ._httpx import StandTransport


@dataclass(frozen=True)
class Reply:
    """An answer: status, body (JSON, unless it is text or bytes), headers."""

    status: int = 200
    body: Any = None
    headers: dict[str, str] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        """Whether the status says that it went well."""
        return 200 <= self.status < 300

    def content(self) -> bytes:
        """Return the body as bytes."""
        if self.body is None:
            return b""
        if isinstance(self.body, bytes):
            return self.body
        return (self.body if isinstance(self.body, str) else json.dumps(self.body)).encode()


Handler: TypeAlias = "Callable[[str, str, Any], Reply | Any]"
"""Method, path and body in; a reply, or a body for a reply with status 200, out."""


class HttpService(Stand):
    """An HTTP service. `handler` says what it answers; without one everything is 200 with no body.

    Beside the faults of every stand it has `answer`: an error status instead of the handler's reply.
    """

    operations = ("request",)

    def __init__(self, name: str = "service", handler: Handler | None = None) -> None:
        super().__init__(name)
        self._handler = handler

    def answer(
        self, status: int, *, retry_after: Duration | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None,
    ) -> None:  # fmt: skip
        """Let calls be answered with a status (and a ``Retry-After`` in whole seconds, RFC 9110, 10.2.3), with
        nothing done. Raises `InputError`."""
        if isinstance(status, bool) or not isinstance(status, int) or not 100 <= status <= 599:
            raise InputError(f"status is {status!r}; give a number from 100 to 599")
        seconds = 0 if retry_after is None else -(-to_ns(retry_after, what="retry_after") // 10**9)
        self._place("answer", None, calls, between, chance, None, seconds, status)

    def request(self, method: str, path: str, body: Any = None, *, key: Any = None) -> Reply:
        """Send a request; return the reply.

        Parameters: `key` is what it is about, for `laws.once_per_key` (method and path where left out).
        Raises `StandError`, or what a fault was given, where no reply comes.
        """
        engine = self.in_rig("request")
        if engine.effects.elsewhere is None:
            answered = self._answered(engine.now)
            if answered is not None:
                return self._refuse(answered, method, path, key)

        def act() -> Reply:
            if self._handler is None:
                return Reply()
            given = self._handler(method, path, body)
            return given if isinstance(given, Reply) else Reply(200, given)

        about = f"{method} {path}" if key is None else key
        reply: Reply = self._operate("request", act, about, {"method": method, "path": path, "body": body})
        return reply

    def redo(self, operation: str, key: Any, data: dict[str, Any]) -> Reply:
        """Send what a forked child asked for."""
        return self.request(data["method"], data["path"], data["body"], key=key)

    def _answered(self, now: int) -> Reply | None:
        for _, fault in self._faults:
            if fault.kind == "answer" and fault.strikes(now, self._calls + 1, None):
                return Reply(fault.status, None, {"retry-after": str(fault.by_ns)} if fault.by_ns else {})
        return None

    def _refuse(self, reply: Reply, method: str, path: str, key: Any) -> Reply:
        engine = self.in_rig("request")
        self._calls += 1
        name, about = f"{self.name}.request", f"{method} {path}" if key is None else key
        if engine.passing is not None:
            engine.passing(f"before {name}")
        engine.effects.note(name, about, "failed", {"method": method, "path": path, "error": f"status {reply.status}"})
        if engine.passing is not None:
            engine.passing(f"after {name}")
        return reply

    # --- httpx ------------------------------------------------------------------------------------------

    def transport(self, timeout: Duration | None = None) -> StandTransport:
        """Return a transport for ``httpx.Client`` and ``httpx.AsyncClient`` that leads here.

        Needs the extra ``ironclock[http]``. `timeout` is the read timeout of requests that name none of their own;
        a stand that is slower raises `httpx.ReadTimeout` at that instant, and does what it was asked all the same,
        later. An outage raises `httpx.ConnectError`, a lost response `httpx.ReadError`. The request's
        ``Idempotency-Key`` header is the effect's key.
        """
        from ._httpx import StandTransport

        return StandTransport(self, None if timeout is None else to_ns(timeout, what="timeout"))

    def draw_delay(self) -> int:
        """Return by how much the next call is slowed down, which its caller then spends."""
        self._drawn = self.delay_ns("request", self._calls + 1)
        return self._drawn

    def answer_late(self, ns: int, method: str, path: str, body: Any, key: Any) -> None:
        """Do what a request asked for, after its caller has given up."""
        engine = self.in_rig("request")
        self._drawn = None
        self._calls += 1
        task = engine.current
        about = f"{method} {path}" if key is None else key

        def act(_: Any) -> None:
            if self._handler is not None:
                self._handler(method, path, body)
            data = {"method": method, "path": path, "body": body}
            engine.effects.write(f"{self.name}.request", about, "done", data, task)

        engine.schedule(engine.now + ns, 0, act, None)
