"""The application's web server in this process: what it answers, and what continues after the answer.

An httpx transport over httpx's own for WSGI and ASGI. Each request runs as a task of the rig. The client has the
response at the instant at which it is sent. What the application does after that (a background task, an iterable that
is closed) continues in simulated time. Imported only if it is used.
"""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeAlias

import httpx

from ..errors import InputError, IronClockError

if TYPE_CHECKING:
    from ..history.history import History
    from ..interpreter.tasks.simulated_threads import SimulatedThreads
    from ..simulation.event_loop import EventLoop
    from ..simulation.requests import Requests

Application: TypeAlias = "Callable[..., Any]"
"""A WSGI application (PEP 3333), or an ASGI one."""

BASE = "http://tern-line.test"


def is_asgi(app: Application) -> bool:
    """Return True for an ASGI application (a coroutine function of scope, receive, send), False for WSGI (PEP 3333)."""
    if not callable(app):
        raise InputError(f"the application is {app!r}, which cannot be called; give a WSGI or ASGI application")
    call = app if inspect.isfunction(app) or inspect.ismethod(app) else getattr(type(app), "__call__", app)  # noqa: B004
    if inspect.iscoroutinefunction(call):
        return True
    try:
        return len([p for p in inspect.signature(app).parameters.values() if p.default is p.empty]) == 3
    except (TypeError, ValueError):
        return False


class WebTransport(httpx.BaseTransport):
    """Sends requests to an application that runs inside the rig. `errors` holds the errors raised after a response."""

    def __init__(
        self, app: Application, loop: EventLoop, history: History, threads: SimulatedThreads, requests: Requests,
        raises: bool = True,
    ) -> None:  # fmt: skip
        self._requests = requests
        self._app = app
        self._raises = raises
        self._asgi = is_asgi(app)
        self._loop = loop
        self._history = history
        self._threads = threads
        self.errors: list[Exception] = []

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        loop = self._loop
        request.read()
        box: list[httpx.Response | Exception] = []
        failed: list[Exception] = []
        named = f"{request.method} {request.url.path}"

        def answer(status: int, headers: Any, content: bytes) -> None:
            box.append(httpx.Response(status, headers=headers, content=content))

        def serve() -> None:
            try:
                with self._requests.handle(named):
                    if self._asgi:
                        asyncio.run(self._serve_asgi(request, answer))
                    else:
                        self._serve_wsgi(request, answer)
            except Exception as error:
                if not box:
                    box.append(error)
                    return
                self.errors.append(error)
                failed.append(error)
                self._history.record("note", detail=f"{named}: what goes on after the response fails: {error!r}")
                return
            if loop.now > begun[0]:
                self._history.record("note", detail=f"{named}: what went on after the response is over")

        begun = [loop.now]
        self._threads.start(serve, (), {})
        limit = request.extensions.get("timeout", {}).get("read")
        came = loop.wait(lambda: box, None if limit is None else loop.now + round(limit * 1e9))
        if not came:
            raise httpx.ReadTimeout(f"{named} was not answered within {limit:g} s", request=request)
        begun[0] = loop.now
        found = box[0]
        if isinstance(found, Exception):
            if self._raises or isinstance(found, IronClockError):
                raise found
            found = httpx.Response(500, content=b"Internal Server Error")
        elif found.status_code >= 500 and self._raises:
            # A framework answers first, and lets the error go on to the server then.
            loop.wait(lambda: failed, loop.now)
            if failed:
                self.errors.remove(failed[0])
                raise failed[0]
        self._history.record("note", detail=f"{named} is answered with {found.status_code}")
        return found

    def _serve_wsgi(self, request: httpx.Request, answer: Callable[[int, Any, bytes], None]) -> None:
        response = httpx.WSGITransport(app=self._app).handle_request(request)
        stream = response.stream
        assert isinstance(stream, httpx.SyncByteStream)
        answer(response.status_code, response.headers, b"".join(stream))
        stream.close()

    async def _serve_asgi(self, request: httpx.Request, answer: Callable[[int, Any, bytes], None]) -> None:
        head: dict[str, Any] = {}
        body = bytearray()

        async def app(scope: Any, receive: Any, send: Any) -> None:
            async def watched(message: Any) -> None:
                await send(message)
                if message["type"] == "http.response.start":
                    head.update(message)
                elif message["type"] == "http.response.body":
                    body.extend(message.get("body", b""))
                    if not message.get("more_body", False):
                        answer(head["status"], head.get("headers", []), bytes(body))
                        await asyncio.sleep(0)

            await self._app(scope, receive, watched)

        content = httpx.Request(request.method, request.url, headers=request.headers, content=request.content)
        await httpx.ASGITransport(app=app).handle_async_request(content)


def client(
    app: Application, loop: EventLoop, history: History, threads: SimulatedThreads, requests: Requests,
    raises: bool = True, base: str = BASE,
) -> httpx.Client:  # fmt: skip
    """Return an httpx client whose requests go to the application."""
    return httpx.Client(transport=WebTransport(app, loop, history, threads, requests, raises), base_url=base)
