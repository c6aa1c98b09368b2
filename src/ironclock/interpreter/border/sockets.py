"""Sockets: `connect`, `accept`, `recv*` and `send*` wait in simulated time.

A socket is looked at first. If it is not ready, the task waits in the rig, until it is ready or its simulated timeout
is over. Then the real method does the rest.
"""

from __future__ import annotations

import _socket
import os
import select
import socket
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Here
from ..patching.patches import Function, Make, Methods, Patch
from .call_seams import always, connection_error, seams_of

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

_IN, _OUT = select.POLLIN, select.POLLOUT
_DONTWAIT = socket.MSG_DONTWAIT
_FLAGS_AT = {"recv": 1, "recvfrom": 1, "recv_into": 2, "recvfrom_into": 2, "recvmsg": 2, "recvmsg_into": 2}
_timeout_of = _socket.socket.gettimeout
_fd_of = _socket.socket.fileno


def socket_patches(here: Here) -> list[Patch]:
    """Return the patches of sockets."""

    def reads(name: str, at: int) -> Make:
        return lambda real: _reads(name, at, real, here)

    def does(what: str, replacement: Callable[[Callable[..., Any], Here], Callable[..., Any]]) -> Make:
        if not what:
            return lambda real: replacement(real, here)
        return lambda real: _with_seams(f"socket {what}", replacement(real, here), here)

    methods = {
        **{name: reads(name, at) for name, at in _FLAGS_AT.items()},
        "_accept": does("", _accept), "connect": does("connect", _connect), "connect_ex": does("connect", _connect_ex),
        "send": does("send", _send), "sendall": does("send", _sendall), "sendto": does("send", _sendto),
        "sendmsg": does("send", _sendmsg),
    }  # fmt: skip
    return [
        Methods(_socket.socket, methods),
        Function(socket.socket.__init__, lambda real: _opening(real, here)),
        Function(socket.socketpair, lambda real: _pairs(real, here)),
    ]


def _with_seams(what: str, method: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return a method that is a seam, if the rig's sockets are."""

    def seamed(one: Any, *args: Any) -> Any:
        world = here()
        seams = seams_of(world, "sockets")
        if seams is None:
            return method(one, *args)
        return seams.around(what, lambda: method(one, *args), connection_error, always)

    return seamed


def _reads(name: str, flags_at: int, real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    what = f"socket.{name}"

    def method(one: Any, *args: Any, **kwargs: Any) -> Any:
        world = here()
        if world is None:
            return real(one, *args, **kwargs)
        fd = _fd_of(one)
        timeout = _timeout_of(one)
        if timeout != 0:
            flags = args[flags_at] if len(args) > flags_at else kwargs.get("flags", 0)
            if not flags & _DONTWAIT and fd >= 0:
                if flags & socket.MSG_WAITALL and name == "recv":
                    return _receive_all(one, args[0], flags & ~socket.MSG_WAITALL)
                _await(world, fd, _IN, timeout, what)
        try:
            result = real(one, *args, **kwargs)
        except BlockingIOError:
            world.clock.waited_for_nothing()
            raise
        data = result if name == "recv" else memoryview(args[0])[:result] if name == "recv_into" and args else b""
        world.border.descriptors.received(fd, data)
        return result

    return method


def _receive_all(one: Any, size: int, flags: int) -> bytes:
    parts = bytearray()
    while len(parts) < size:
        part = one.recv(size - len(parts), flags)
        if not part:
            break
        parts += part
    return bytes(parts)


def _await(world: EnteredRig, fd: int, events: int, timeout: float | None, what: str) -> None:
    """Wait until a socket is ready. Raises `TimeoutError`, as the real method does."""
    if not world.border.descriptors.wait(fd, events, timeout, what, events == _IN):
        raise TimeoutError("timed out")


def _accept(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def accept(one: Any) -> Any:
        world = here()
        if world is not None and _timeout_of(one) != 0 and _fd_of(one) >= 0:
            _await(world, _fd_of(one), _IN, _timeout_of(one), "socket.accept")
        return real(one)

    return accept


def _note_network(world: EnteredRig, address: Any) -> None:
    """Note that an address is about to be reached, unless it is on this machine."""
    if isinstance(address, tuple) and len(address) > 1 and isinstance(address[0], str):
        host = address[0].removeprefix("::ffff:")
        if host not in _OF_THIS_MACHINE and not host.startswith("127."):
            world.threads.note_network(host, address[1])


_OF_THIS_MACHINE = ("localhost", "::1", "", "0.0.0.0", "::")


def _connect(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def connect(one: Any, address: Any, /) -> None:
        world = here()
        timeout = _timeout_of(one)
        if world is not None:
            address = world.border.redirects.of(one, address)
            _note_network(world, address)
        if world is None or timeout == 0:
            try:
                real(one, address)
            finally:
                if world is not None:
                    world.border.descriptors.connects(one)
            return
        error = _connected(world, one, address, timeout, real)
        if error:
            raise OSError(error, os.strerror(error))

    return connect


def _connect_ex(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    real_connect = _socket.socket.connect

    def connect_ex(one: Any, address: Any, /) -> int:
        world = here()
        timeout = _timeout_of(one)
        if world is not None:
            address = world.border.redirects.of(one, address)
            _note_network(world, address)
        if world is None or timeout == 0:
            error = int(real(one, address))
            if world is not None:
                world.border.descriptors.connects(one)
            return error
        try:
            return _connected(world, one, address, timeout, real_connect)
        except TimeoutError:
            import errno

            return errno.EWOULDBLOCK
        except OSError as error:
            if error.errno is None or isinstance(error, socket.gaierror):
                raise
            return error.errno

    return connect_ex


def _connected(world: EnteredRig, one: Any, address: Any, timeout: float | None, real: Callable[..., Any]) -> int:
    """Connect without blocking the thread; return the number of the error, 0 if there is none."""
    one.settimeout(0)
    try:
        real(one, address)
        world.border.descriptors.connects(one)
        return 0
    except BlockingIOError:
        world.border.descriptors.connects(one)
        world.border.descriptors.sent(_fd_of(one), b"connect")
        _await(world, _fd_of(one), _OUT, timeout, "socket.connect")
        world.border.descriptors.received(_fd_of(one))
        return int(one.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR))
    finally:
        if _fd_of(one) >= 0:
            one.settimeout(timeout)


def _send(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def send(one: Any, data: Any, flags: int = 0, /) -> int:
        world = here()
        if world is None:
            return int(real(one, data, flags))
        fd, timeout = _fd_of(one), _timeout_of(one)
        if timeout == 0 or flags & _DONTWAIT or fd < 0:
            count = real(one, data, flags)
        else:
            count = _sent_part(world, one, fd, timeout, "socket.send", lambda how: real(one, data, flags | how))
        world.border.descriptors.sent(fd, data)
        return int(count)

    return send


def _sent_part(
    world: EnteredRig, one: Any, fd: int, timeout: float | None, what: str, send: Callable[[int], Any]
) -> Any:
    """Send what fits without blocking the thread, as soon as anything fits."""
    while True:
        if timeout is not None:  # the real method would wait for the real timeout
            _await(world, fd, _OUT, timeout, what)
        try:
            return send(_DONTWAIT)
        except BlockingIOError:
            _await(world, fd, _OUT, timeout, what)


def _send_now(real_send: Callable[..., int], one: Any, data: Any, flags: int, how: int) -> int:
    return real_send(one, data, flags | how)


def _sendall(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    real_send = _socket.socket.send

    def sendall(one: Any, data: Any, flags: int = 0, /) -> None:
        world = here()
        fd, timeout = _fd_of(one), _timeout_of(one)
        if world is None or timeout == 0 or fd < 0:
            real(one, data, flags)
            if world is not None:
                world.border.descriptors.sent(fd, data)
            return
        with memoryview(data) as whole, whole.cast("B") as view:
            done, began = 0, world.loop.now
            while True:
                left = timeout if timeout is None else timeout - (world.loop.now - began) / 1e9
                if left is not None and left <= 0:
                    raise TimeoutError("timed out")
                part = view[done:]
                done += _sent_part(
                    world, one, fd, left, "socket.sendall", partial(_send_now, real_send, one, part, flags)
                )
                part.release()
                if done >= len(view):
                    break
        world.border.descriptors.sent(fd, data)

    return sendall


def _sendto(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def sendto(one: Any, data: Any, *rest: Any) -> int:
        world = here()
        if world is None:
            return int(real(one, data, *rest))
        fd, timeout = _fd_of(one), _timeout_of(one)
        if timeout != 0 and fd >= 0:
            _await(world, fd, _OUT, timeout, "socket.sendto")
        _note_network(world, rest[-1] if rest else None)
        count = real(one, data, *rest)
        world.border.descriptors.sent(fd, data)
        return int(count)

    return sendto


def _sendmsg(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def sendmsg(one: Any, buffers: Any, ancillary: Any = (), flags: int = 0, address: Any = None, /) -> int:
        world = here()
        if world is None:
            return int(real(one, buffers, ancillary, flags, address))
        kept = list(buffers)
        fd, timeout = _fd_of(one), _timeout_of(one)
        if timeout == 0 or flags & _DONTWAIT or fd < 0:
            count = real(one, kept, ancillary, flags, address)
        else:
            count = _sent_part(
                world, one, fd, timeout, "socket.sendmsg", lambda how: real(one, kept, ancillary, flags | how, address)
            )
        world.border.descriptors.sent(fd, kept[0] if kept else b"")
        return int(count)

    return sendmsg


def _opening(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return the replacement of the constructor of sockets, which notes each socket of the rig.

    In a strict rig a job that opens a real socket gets an error. A socket made from an open one, as an asyncio loop's
    own pair is, is allowed: it leads nowhere.
    """

    def init(self: Any, family: int = -1, type: int = -1, proto: int = -1, fileno: Any = None) -> None:
        world = here()
        if world is not None and fileno is None:
            world.threads.forbid("a real socket", "use a simulated service (rig.service(...)) or an httpx transport")
        real(self, family, type, proto, fileno)
        if world is not None:
            world.border.descriptors.opened(self)

    return init


def _pairs(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return the replacement of `socket.socketpair`, which notes who is connected with whom."""

    def socketpair(*args: Any, **kwargs: Any) -> Any:
        one, other = real(*args, **kwargs)
        world = here()
        if world is not None:
            world.border.descriptors.paired(one, other)
        return one, other

    return socketpair
