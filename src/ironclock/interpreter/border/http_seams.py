"""Seams in HTTP requests of the common clients: `http.client` (and so requests and urllib3), httpx and aiohttp."""

from __future__ import annotations

import weakref
from collections.abc import Callable
from typing import Any

from ..patching.builtin_patching import Here
from ..patching.patches import Attribute, Function, Patch
from .call_seams import always, connection_error, connection_refused, http_call, seams_of


def standard_patches(here: Here) -> list[Patch]:
    """Return the patches of `http.client`: a seam before a request is sent, and one when its answer is there."""
    from http.client import HTTPConnection

    asked: weakref.WeakKeyDictionary[Any, str] = weakref.WeakKeyDictionary()

    def begins(real: Callable[..., Any]) -> Callable[..., Any]:
        def putrequest(self: Any, method: str, url: str, *args: Any, **kwargs: Any) -> Any:
            seams = seams_of(here(), "http")
            if seams is not None:
                asked[self] = http_call(method, url, self.host)
                seams.before(asked[self], connection_refused)
            return real(self, method, url, *args, **kwargs)

        return putrequest

    def answered(real: Callable[..., Any]) -> Callable[..., Any]:
        def getresponse(self: Any) -> Any:
            response = real(self)
            seams, what = seams_of(here(), "http"), asked.pop(self, None)
            if seams is not None and what is not None:
                try:
                    seams.after(what, connection_error)
                except Exception:
                    response.close()  # nobody will know of it
                    raise
            return response

        return getresponse

    return [Function(HTTPConnection.putrequest, begins), Function(HTTPConnection.getresponse, answered)]


def httpcore_patches(here: Here) -> list[Patch]:
    """Return the patches of `httpcore`, which does the real requests of httpx."""
    import httpcore

    def about(request: Any) -> str:
        return http_call(request.method, request.url.target, request.url.host)

    def handles(real: Callable[..., Any]) -> Callable[..., Any]:
        def handle_request(self: Any, request: Any) -> Any:
            seams = seams_of(here(), "http")
            if seams is None:
                return real(self, request)
            seams.before(about(request), httpcore.ConnectError)
            response = real(self, request)
            try:
                seams.after(about(request), httpcore.ReadError)
            except Exception:
                response.close()  # nobody will know of it
                raise
            return response

        return handle_request

    def handles_async(real: Callable[..., Any]) -> Callable[..., Any]:
        async def handle_async_request(self: Any, request: Any) -> Any:
            seams = seams_of(here(), "http")
            if seams is None:
                return await real(self, request)
            return await seams.around_async(
                about(request), lambda: real(self, request), httpcore.ReadError, always, lambda one: one.aclose()
            )

        return handle_async_request

    return [
        Attribute(httpcore.ConnectionPool, "handle_request", handles),
        Attribute(httpcore.AsyncConnectionPool, "handle_async_request", handles_async),
    ]


def aiohttp_patches(here: Here) -> list[Patch]:
    """Return the patch of `aiohttp`."""
    import aiohttp

    async def released(response: Any) -> None:
        response.close()

    def requests(real: Callable[..., Any]) -> Callable[..., Any]:
        async def request(self: Any, method: str, url: Any, **kwargs: Any) -> Any:
            seams = seams_of(here(), "http")
            if seams is None:
                return await real(self, method, url, **kwargs)
            what = http_call(method, str(url))
            return await seams.around_async(
                what, lambda: real(self, method, url, **kwargs), aiohttp.ClientConnectionError, always, released
            )

        return request

    return [Attribute(aiohttp.ClientSession, "_request", requests)]
