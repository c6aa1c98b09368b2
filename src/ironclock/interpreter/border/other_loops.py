"""Event loops that measure time themselves, in C: an error at once says that they cannot follow the rig."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ...errors import RigStateError
from ..patching.builtin_patching import Here
from ..patching.patches import Function, Methods, Patch


def uvloop_patches(here: Here) -> list[Patch]:
    """Return the patches of `uvloop`."""
    import uvloop

    refused = _refused(here, "uvloop", "use the loop of the standard library: asyncio.run(...) without uvloop's policy")
    return [Methods(uvloop.loop.Loop, {"run_forever": refused, "run_until_complete": refused})]


def gevent_patches(here: Here) -> list[Patch]:
    """Return the patch of `gevent`: its hub, in which all its waits run."""
    from gevent.hub import Hub

    return [Function(Hub.run, _refused(here, "gevent", "run this code on threads, without gevent's monkey patches"))]


def _refused(here: Here, package: str, instead: str) -> Callable[[Any], Any]:
    """Return a function that makes, from the real function, one that raises an error in a rig."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def run(*args: Any, **kwargs: Any) -> Any:
            if here() is not None:
                raise RigStateError(
                    f"{package} measures time in C and cannot follow the rig's clock; in tests {instead}"
                )
            return real(*args, **kwargs)

        return run

    return make
