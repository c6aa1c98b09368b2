"""Awaited results: what a plain function returns can be work that is done later, when somebody awaits it.

Most methods of asynchronous clients are such functions. A coroutine, a future, an object with ``__await__``, an
asynchronous iterator and an asynchronous context manager are followed, each as what it is.
"""

from __future__ import annotations

import inspect
import sys
from collections.abc import AsyncIterator, Callable, Generator
from contextlib import AbstractAsyncContextManager, AsyncExitStack
from typing import Any, TypeAlias

Around: TypeAlias = Callable[[], AbstractAsyncContextManager[Any]]
"""Makes the context in which the work is done. It is entered when the work begins, and left with its end."""

_METHODS = ("__await__", "__aenter__", "__aiter__", "__anext__")


def is_awaited(result: Any) -> bool:
    """Return True if a result is work that is done when it is awaited, entered or iterated over."""
    kind = type(result)
    return any(hasattr(kind, name) for name in _METHODS)


def is_future(result: Any) -> bool:
    """Return True for a future: it runs already, whether somebody awaits it or not."""
    asyncio = sys.modules.get("asyncio")  # without it there are no futures; to import it takes long
    return asyncio is not None and bool(asyncio.isfuture(result))


def followed(result: Any, around: Around) -> Any:
    """Return what a caller gets in place of such a result. Its work is done inside `around()`."""
    if inspect.iscoroutine(result):
        return _awaits(result, around)
    if is_future(result):
        import asyncio

        return asyncio.ensure_future(_awaits(result, around), loop=result.get_loop())
    return _Followed(result, around)


async def _awaits(result: Any, around: Around) -> Any:
    async with around():
        return await result


class _Followed:
    """An object that can be awaited, entered or iterated over, in place of the real one."""

    def __init__(self, real: Any, around: Around) -> None:
        self._real = real
        self._around = around
        self._items: AsyncIterator[Any] | None = None

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)

    def __await__(self) -> Generator[Any, None, Any]:
        return _awaits(self._real, self._around).__await__()

    async def __aenter__(self) -> Any:
        async with self._around():  # the request is made, and its answer begins; what follows is the caller's
            return await self._real.__aenter__()

    async def __aexit__(self, *error: Any) -> Any:
        return await self._real.__aexit__(*error)

    async def _each(self) -> AsyncIterator[Any]:
        async with AsyncExitStack() as stack:
            await stack.enter_async_context(self._around())
            async for item in self._real:
                yield item

    def __aiter__(self) -> AsyncIterator[Any]:
        return self._each()

    async def __anext__(self) -> Any:
        if self._items is None:
            self._items = self._each()
        return await self._items.__anext__()
