"""Redirects: connections of the rig's code that lead to a proxy instead of a server."""

from __future__ import annotations

import contextlib
import socket
import weakref
from collections.abc import Callable
from typing import Any

from .moved_connections import open_sockets


class Redirects:
    """Which addresses lead to which proxies, in one rig."""

    def __init__(self) -> None:
        self._not_redirected: weakref.WeakSet[socket.socket] = weakref.WeakSet()
        self._targets: dict[tuple[str, int], tuple[str, int]] = {}
        self.proxies: set[tuple[str, int]] = set()
        """The addresses of the proxies."""
        self.before_connect: Callable[[tuple[str, int]], None] | None = None
        """Called with the address to which code of the rig is about to connect. It can add a proxy."""

    def add(self, host: str, port: int, target: tuple[str, int]) -> None:
        """Let every address of a server lead to a proxy."""
        for address in addresses_of(host, port):
            self._targets[address] = target
        self.proxies.add(target)

    def past(self, host: str, port: int) -> list[int]:
        """Return the descriptors of connections of this process with a server that go past its proxy."""
        addresses = addresses_of(host, port)
        own = {mine.getsockname() for mine in list(self._not_redirected) if mine.fileno() >= 0}
        found = []
        for fd, one in open_sockets():
            with contextlib.suppress(OSError):
                if one.getpeername()[:2] in addresses and one.getsockname() not in own:
                    found.append(fd)
        return found

    def leave_alone(self, one: socket.socket) -> None:
        """Do not redirect a socket: it is the proxy's own."""
        self._not_redirected.add(one)

    def of(self, one: Any, address: Any) -> Any:
        """Return the address to which a socket connects that wants to connect to another one."""
        if not isinstance(address, tuple) or one in self._not_redirected:
            return address
        if self.before_connect is not None:
            self.before_connect((str(address[0]), int(address[1])))
        if self._targets:
            target = self._targets.get(address[:2])
            if target is not None and one.family == socket.AF_INET:
                return target
        return address

    def leads_away(self, address: tuple[str, int]) -> bool:
        """Return True if an address leads to a proxy."""
        return address in self._targets

    def clear(self) -> None:
        """Redirect nothing any more."""
        self._targets.clear()
        self.proxies.clear()
        self.before_connect = None


def addresses_of(host: str, port: int) -> set[tuple[str, int]]:
    """Return a host and port as they are given, and every numeric address that they mean."""
    addresses = {(host, port)}
    with contextlib.suppress(OSError):
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        addresses |= {(str(one[4][0]), int(one[4][1])) for one in found}
    return addresses
