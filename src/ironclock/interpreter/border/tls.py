"""TLS over sockets: handshake, `recv`, `send` and `unwrap` wait in simulated time.

A TLS socket that is readable may still hold less than one record. So each operation is tried on a socket that does not
block; if it wants to read or write more, the task waits in the rig for that, and the operation is tried again.
"""

from __future__ import annotations

import select
import socket
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Here
from ..patching.patches import Methods, Patch

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

_OPERATIONS = ("do_handshake", "read", "write", "shutdown")


def tls_patches(here: Here) -> list[Patch]:
    """Return the patches of `ssl`."""
    import _ssl

    return [Methods(_ssl._SSLSocket, {name: _operation(name, here) for name in _OPERATIONS})]  # type: ignore[attr-defined]


def _operation(name: str, here: Here) -> Callable[[Any], Any]:
    what = "a TLS handshake" if name == "do_handshake" else f"a TLS socket's {name}"

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def method(one: Any, *args: Any) -> Any:
            world = here()
            owner = one.owner
            if world is None or not isinstance(owner, socket.socket):
                return real(one, *args)
            fd, timeout = owner.fileno(), owner.gettimeout()
            if timeout == 0 or fd < 0:
                result = real(one, *args)
            else:
                result = _until_done(world, owner, fd, timeout, what, lambda: real(one, *args))
            if name == "read":
                world.border.descriptors.received(fd)
            elif name == "write":
                world.border.descriptors.sent(fd, args[0])
            return result

        return method

    return make


def _until_done(
    world: EnteredRig, owner: Any, fd: int, timeout: float | None, what: str, operate: Callable[[], Any]
) -> Any:
    from ssl import SSLWantReadError, SSLWantWriteError

    began = world.loop.now
    while True:
        owner.settimeout(0)
        try:
            return operate()
        except SSLWantReadError:
            events = select.POLLIN
        except SSLWantWriteError:
            events = select.POLLOUT
        finally:
            if owner.fileno() >= 0:
                owner.settimeout(timeout)
        left = None if timeout is None else timeout - (world.loop.now - began) / 1e9
        if left is not None and left <= 0:
            raise TimeoutError(_timed_out(what))
        if not world.border.descriptors.wait(fd, events, left, what, events == select.POLLIN):
            raise TimeoutError(_timed_out(what))


def _timed_out(what: str) -> str:
    """Return the words of the real error."""
    if "handshake" in what:
        return "_ssl.c:999: The handshake operation timed out"
    return "The read operation timed out" if what.endswith("read") else "The write operation timed out"
