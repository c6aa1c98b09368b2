"""The way from an httpx client to a simulated HTTP service. Imported only if it is used."""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING, Any

import httpx

from ..errors import ResponseLost, ServiceError
from .bodies import body_of

if TYPE_CHECKING:
    from .http_service import HttpService


class ServiceTransport(httpx.BaseTransport, httpx.AsyncBaseTransport):
    """Turns requests into calls of a simulated service."""

    def __init__(self, service: HttpService, timeout_ns: int | None) -> None:
        self._service = service
        self._timeout_ns = timeout_ns

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        body = body_of(request.read())
        wait, late = self._wait(request)
        if late:
            self._service.answer_late(late, *self._asked(request, body))
        if wait:
            self._service.spend(wait)
        return self._finish(request, body, bool(late))

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        body = body_of(await request.aread())
        wait, late = self._wait(request)
        if late:
            self._service.answer_late(late, *self._asked(request, body))
        if wait:
            await asyncio.sleep(wait / 1e9)
        return self._finish(request, body, bool(late))

    def _wait(self, request: httpx.Request) -> tuple[int, int]:
        """Return how long the client waits, and after how long the service does its work if that is later."""
        slow = self._service.draw_delay()
        asked = request.extensions.get("timeout", {}).get("read")
        limit = round(asked * 1e9) if asked is not None else self._timeout_ns
        return (slow, 0) if limit is None or slow <= limit else (limit, slow)

    def _finish(self, request: httpx.Request, body: Any, late: bool) -> httpx.Response:
        if late:
            raise httpx.ReadTimeout(f"{self._service.name} did not answer in time", request=request)
        try:
            reply = self._service.request(
                request.method, request.url.path, body, headers=dict(request.headers), content=request.content
            )
        except ServiceError as error:
            kind = httpx.ReadError if isinstance(error, ResponseLost) else httpx.ConnectError
            raise kind(str(error), request=request) from error
        headers = {"content-type": "application/json", **reply.headers}
        if isinstance(reply.body, (str, bytes)) and "content-type" not in reply.headers:
            headers["content-type"] = "text/plain"
        return httpx.Response(reply.status, content=reply.content(), headers=headers)

    @staticmethod
    def _asked(request: httpx.Request, body: Any) -> tuple[str, str, Any, str | None]:
        return request.method, request.url.path, body, request.headers.get("idempotency-key")
