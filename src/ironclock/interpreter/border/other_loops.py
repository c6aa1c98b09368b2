"""Event loops that measure time themselves, in C: an error at once says that they cannot follow the rig."""

from __future__ import annotations

from collections.abc import Callable
from types import FunctionType
from typing import Any, cast

from ...errors import RigStateError
from ..patching.builtin_patching import PythonFunction
from ..patching.late_patches import Methods, Patch

Here = Callable[[], Any]


def uvloop_patches(here: Here) -> list[Patch]:
    """Return the patches of `uvloop`."""
    import uvloop

    def refused(real: Callable[..., Any]) -> Callable[..., Any]:
        def run(*args: Any, **kwargs: Any) -> Any:
            if here() is not None:
                raise RigStateError(
                    "uvloop measures time in C and cannot follow the rig's clock; in tests use the "
                    "loop of the standard "
                    "library: asyncio.run(...) without uvloop's policy"
                )
            return real(*args, **kwargs)

        return run

    return [Methods(uvloop.loop.Loop, {"run_forever": refused, "run_until_complete": refused})]


class GeventRefused:
    """A patch: the hub of gevent, in which all its waits run."""

    def __init__(self, here: Here) -> None:
        from gevent.hub import Hub

        self._here = here
        self._place = PythonFunction(cast(FunctionType, Hub.run))

    def put(self) -> None:
        self._place.point(self._run)

    def restore(self) -> None:
        self._place.restore()

    def _run(self, hub: Any) -> Any:
        if self._here() is not None:
            raise RigStateError(
                "gevent measures time in C and cannot follow the rig's clock; run this code on "
                "threads in tests: without "
                "gevent's monkey patches"
            )
        return self._place.real(hub)
