"""Redirects: connections of the rig's code that lead to a proxy instead of a server."""

from __future__ import annotations

import contextlib
import os
import socket
import stat
import weakref
from pathlib import Path
from typing import Any


class Redirects:
    """Which addresses lead to which proxies, in one rig."""

    def __init__(self) -> None:
        self._targets: dict[tuple[str, int], tuple[str, int]] = {}
        self._not_redirected: weakref.WeakSet[socket.socket] = weakref.WeakSet()
        self.proxies: set[tuple[str, int]] = set()
        """The addresses of the proxies."""

    def add(self, host: str, port: int, target: tuple[str, int]) -> None:
        """Let every address of a server lead to a proxy, and close the connections that go past it."""
        addresses = {(host, port)}
        with contextlib.suppress(OSError):
            addresses |= {found[4][:2] for found in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)}  # type: ignore[misc]
        for address in addresses:
            self._targets[str(address[0]), int(address[1])] = target
        self.proxies.add(target)
        self._close_those_past(addresses)

    def _close_those_past(self, addresses: set[Any]) -> None:
        """Shut down connections of this process that were open before: a pool opens new ones in their place."""
        for name in os.listdir("/proc/self/fd") if Path("/proc/self/fd").is_dir() else ():
            with contextlib.suppress(OSError, ValueError):
                if not stat.S_ISSOCK(os.fstat(int(name)).st_mode):
                    continue
            with contextlib.suppress(OSError, ValueError), socket.socket(fileno=os.dup(int(name))) as one:
                is_own = any(one.getsockname() == mine.getsockname() for mine in self._not_redirected)
                if one.getpeername()[:2] in addresses and not is_own:
                    one.shutdown(socket.SHUT_RDWR)

    def leave_alone(self, one: socket.socket) -> None:
        """Do not redirect a socket: it is the proxy's own."""
        self._not_redirected.add(one)

    def of(self, one: Any, address: Any) -> Any:
        """Return the address to which a socket connects that wants to connect to another one."""
        if self._targets and isinstance(address, tuple) and one not in self._not_redirected:
            target = self._targets.get(address[:2])
            if target is not None and one.family == socket.AF_INET:
                return target
        return address

    def clear(self) -> None:
        """Redirect nothing any more."""
        self._targets.clear()
        self.proxies.clear()
