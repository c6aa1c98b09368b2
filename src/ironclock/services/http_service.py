"""An HTTP service that answers what the test says, called directly or through `httpx`."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, TypeAlias
from zlib import crc32

from ..errors import InputError
from ..foundation.durations import Duration, to_ns
from ..simulation.effects import Repeated
from ..simulation.faults.kind import FaultKind, Strike, Subject
from ..simulation.faults.placing import Numbers, Span
from .service import Service

if TYPE_CHECKING:
    from .http_server import HttpServer
    from .httpx_transport import ServiceTransport
    from .signatures import Check


@dataclass(frozen=True)
class Reply:
    """An answer of an HTTP service."""

    status: int = 200
    """The status code."""
    body: Any = None
    """The body: text, bytes, or anything else as JSON."""
    headers: dict[str, str] = field(default_factory=dict)
    """The headers."""

    @property
    def ok(self) -> bool:
        """True for a status from 200 to 299."""
        return 200 <= self.status < 300

    def content(self) -> bytes:
        """Return the body as bytes."""
        if self.body is None:
            return b""
        if isinstance(self.body, bytes):
            return self.body
        return (self.body if isinstance(self.body, str) else json.dumps(self.body)).encode()


_LONGEST = 80  # characters of a body in a key

Handler: TypeAlias = "Callable[[str, str, Any], Reply | Any]"
"""A function that gets method, path and body, and returns a `Reply`, or a body for a reply with status 200."""


class _Answer(FaultKind):
    """The service answers with an error status."""

    name = "answer"
    words = "it answers with an error"
    seams = frozenset({"before"})
    cell = "fails before"

    def __init__(self, status: int) -> None:
        self.status = status


def _in_short(body: Any) -> str:
    """Return a body as the end of a key, with a space before it. Empty: it has none."""
    if body is None or body in (b"", ""):
        return ""
    if isinstance(body, bytes):
        text = body.decode("utf-8", "replace")
    else:
        text = body if isinstance(body, str) else json.dumps(body, sort_keys=True, default=str)
    text = " ".join(text.split())
    return f" {text}" if len(text) <= _LONGEST else f" {text[:_LONGEST]}... ({crc32(text.encode()):08x})"


class HttpService(Service):
    """A simulated HTTP service. It has one fault more than every `Service`: `answer`, an error status.

    Parameters:

    - `name`: its name. Default ``"service"``.
    - `handler`: a function that gets method, path and body, and returns a `Reply` or a body. Default None: every answer
      is 200 without a body.
    - `key`: a function that gets method, path and body, and returns what a request is about, for
      `laws.once_per_key`. Default None: method, path and body, so that two requests are about the same if they are
      alike. A request with the header ``Idempotency-Key`` is about that.
    - `idempotent`: True: a request whose header ``Idempotency-Key`` has come before, with the same method and path,
      does nothing, and gets the answer of that time, as gateways of banks do. Default True. False: the header says what
      a request is about, and each request is done.
    - `check`: a function of the body's bytes and the headers (names in small letters) that returns why the request is
      refused with 401; empty text: it is not. `signed_by` makes one for webhooks. Default None: nothing is refused.

    Example::

        harbour = rig.service(ic.services.HttpService("harbour"))
        harbour.answer(503, retry_after="30s", calls=(1, 2))
        client = httpx.Client(transport=harbour.transport(), base_url="http://harbour.test")
    """

    operations = ("request",)

    def __init__(
        self, name: str = "service", handler: Handler | None = None,
        key: Callable[[str, str, Any], Any] | None = None, check: Check | None = None, idempotent: bool = True,
    ) -> None:  # fmt: skip
        super().__init__(name)
        if not isinstance(idempotent, bool):
            raise InputError(f"idempotent is {idempotent!r}; give True or False")
        self._idempotent = idempotent
        self._server: HttpServer | None = None
        self._answers: dict[tuple[str, str, str], Reply] = {}  # by method, path and the header Idempotency-Key
        self._check = check
        self.received: list[Any] = []
        """The bodies of the requests that it has accepted, in order."""
        for what, function in (("handler", handler), ("key", key), ("check", check)):
            if function is not None and not callable(function):
                raise InputError(f"{what} is {function!r}; give a function of method, path and body")
        self._handler = handler
        self._key = key

    def answer(
        self, status: int, *, retry_after: Duration | None = None, calls: Numbers = None, between: Span = None,
        chance: float | None = None,
    ) -> None:  # fmt: skip
        """Answer calls with a status, and nothing is done.

        Parameters: `calls`, `between` and `chance` as in `Service.fail`; `status` from 100 to 599; `retry_after` a
        duration for the header ``Retry-After``, in whole seconds (RFC 9110, 10.2.3), default None: no such header.
        Raises `InputError`.

        Example::

            office = rig.service(ic.services.HttpService("office"))
            office.answer(503, retry_after="30s", calls=1)
        """
        if isinstance(status, bool) or not isinstance(status, int) or not 100 <= status <= 599:
            raise InputError(f"status is {status!r}; give a whole number from 100 to 599")
        seconds = 0 if retry_after is None else -(-to_ns(retry_after, what="retry_after") // 10**9)
        self._place(Strike(kind=_Answer(status), by_ns=seconds), None, calls, between, chance)

    def request(
        self, method: str, path: str, body: object = None, *, key: object = None,
        headers: Mapping[str, str] | None = None, content: bytes | None = None,
    ) -> Reply:  # fmt: skip
        """Send a request; return the reply.

        Parameters: `method` and `path` are those of HTTP; `key` is what the request is about, for `laws.once_per_key`.
        Default None: the header ``Idempotency-Key``, or as the service says. `headers` can have that header. They and
        `content`, the bytes of the body, are what `check` looks at. Default: those of `body` as JSON.

        Raises `ServiceError`, or the error of a fault, if no reply comes.

        Example::

            office = rig.service(ic.services.HttpService("office"))
            reply = office.request("PUT", "/manifests/TL-204", {"passengers": 2})
        """
        names = {name.lower(): value for name, value in (headers or {}).items()}
        once = names.get("idempotency-key")
        if key is None:
            key = self._about(method, path, body) if once is None else once
        simulation = self.in_rig("request")
        if simulation.effects.forward_operation is None:
            answered = self._answered(simulation.loop.now)
            if answered is not None:
                return self._refuse(answered, method, path, key)

        def act() -> Reply | Repeated:
            if self._check is not None:
                sent = Reply(200, body).content() if content is None else content
                why = self._check(sent, names)
                if why:
                    return Reply(401, why)
            return self._do(method, path, body, once)

        reply: Reply = self._operate("request", act, key, {"method": method, "path": path, "body": body})
        return reply

    def _do(self, method: str, path: str, body: object, once: str | None) -> Reply | Repeated:
        """Do what a request asks for. Parameters: `once` is its header ``Idempotency-Key``."""
        knows = once is not None and self._idempotent and self._knows_keys("request")
        known = self._answers.get((method, path, once)) if once is not None and knows else None
        if known is not None:
            return Repeated(known)
        self.received.append(body)
        given = Reply() if self._handler is None else self._handler(method, path, body)
        reply = given if isinstance(given, Reply) else Reply(200, given)
        if once is not None and self._idempotent and reply.ok:
            self._answers[method, path, once] = reply
        return reply

    def redo(self, operation: str, key: object, data: dict[str, Any]) -> Reply:
        """Send a request for a forked child. Parameters: `operation` is the name of the operation; `data` are its
        arguments."""
        return self.request(data["method"], data["path"], data["body"], key=key)

    def _about(self, method: str, path: str, body: Any) -> Any:
        """Return what a request is about that does not say so itself."""
        if self._key is not None:
            return self._key(method, path, body)
        return f"{method} {path}{_in_short(body)}"

    def _answered(self, now: int) -> Reply | None:
        subject = Subject(f"{self.name}.request", self._calls + 1, lambda: None)
        for fault in self._faults:
            if isinstance(fault.kind, _Answer) and fault.strikes(now, subject):
                seconds = fault.does.by_ns
                return Reply(fault.kind.status, None, {"retry-after": str(seconds)} if seconds else {})
        return None

    def _refuse(self, reply: Reply, method: str, path: str, key: Any) -> Reply:
        simulation = self.in_rig("request")
        fault_hook = simulation.loop.fault_hook
        self._calls += 1
        name = f"{self.name}.request"
        if fault_hook is not None:
            fault_hook(f"before {name}")
        data = {"method": method, "path": path, "error": f"status {reply.status}"}
        simulation.effects.note(name, key, "failed", data)
        if fault_hook is not None:
            fault_hook(f"after {name}")
        return reply

    # --- clients ------------------------------------------------------------------------------------------

    @property
    def url(self) -> str:
        """A URL at which any client reaches the service: `requests`, `urllib`, `aiohttp`, or another one.

        A server listens on a loopback port, on threads of the rig, from when the test first asks for it in the entered
        rig. The method, the path without its query, and the body reach the service as they do over `transport`. A
        request is that of the job that has sent it. Faults: while the service is down, and if it fails, the connection
        ends without an answer; so it does if the answer is lost, and the work is done; a slow service answers late.

        Raises `RigStateError` in a job, and outside of an entered rig.

        Example::

            office = rig.service(ic.services.HttpService("office", lambda method, path, body: {"path": path}))
            with urllib.request.urlopen(f"{office.url}/manifests/TL-204") as answer:
                assert json.load(answer) == {"path": "/manifests/TL-204"}
        """
        from .http_server import HttpServer

        if self._server is None:
            self._server = HttpServer(self)
        host, port = self._server.address
        return f"http://{host}:{port}"

    def transport(self, timeout: Duration | None = None) -> ServiceTransport:
        """Return a transport for ``httpx.Client`` and ``httpx.AsyncClient`` that leads to this service.

        If the service is slower than the read timeout, the client gets `httpx.ReadTimeout` at that instant, and the
        service still does its work, later. An outage raises `httpx.ConnectError`, a lost response `httpx.ReadError`.
        The header ``Idempotency-Key`` is the key of the effect. Needs the extra ``ironclock[http]``.

        Parameters: `timeout` is the read timeout of requests that have none. Default None: none.
        """
        from .httpx_transport import ServiceTransport

        return ServiceTransport(self, None if timeout is None else to_ns(timeout, what="timeout"))

    def draw_delay(self) -> int:
        """Return how much longer the next call takes. The caller waits for it."""
        self._drawn = self.delay_ns("request", self._calls + 1)
        return self._drawn

    def answer_late(self, ns: int, method: str, path: str, body: object, once: str | None) -> None:
        """Do what a request asked for, after its caller has given up. Parameters: `ns` is a time in nanoseconds;
        `method` is the HTTP method; `path` is the path; `body` is the body; `once` is its ``Idempotency-Key``."""
        simulation = self.in_rig("request")
        loop, effects = simulation.loop, simulation.effects
        self._drawn = None
        self._calls += 1
        author = effects.author  # the job that has asked; its thread can work on another one by then
        about = self._about(method, path, body) if once is None else once

        def act(_: Any) -> None:
            outcome = "repeated" if isinstance(self._do(method, path, body, once), Repeated) else "done"
            data = {"method": method, "path": path, "body": body}
            effects.write(f"{self.name}.request", about, outcome, data, author)

        loop.schedule(loop.now + ns, 0, act, None)
