"""Timers of servers: a request that a server ends by its own timer ends at its simulated instant.

The timeout of `BLPOP` and of `lock_timeout` runs in the server, in real seconds. The rig keeps the same timer in
simulated time. When that is over, the rig asks the server to end the request, or lets the server's own timer end it.
"""

from __future__ import annotations

import contextlib
import select
import socket
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...foundation.durations import NS
from ..databases.resp import listed_client
from ..patching.real_functions import addresses_of, poll_for

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ..databases.redirects import Redirects
    from .outside_waits import Exchange, OutsideWaits

_REAL_S = 10.0  # how long the server's own timer is waited for
_SOON_MS = 1000  # how long an answer that the rig has asked for is waited for
_TIMEOUT_LAST = (b"BLPOP", b"BRPOP", b"BLMOVE", b"BRPOPLPUSH", b"BZPOPMIN", b"BZPOPMAX")
_TIMEOUT_FIRST = (b"BLMPOP", b"BZMPOP")
_TIMEOUT_NAMED = (b"XREAD", b"XREADGROUP")
# Where the timeout stands in commands of RESP servers (https://redis.io/docs/latest/commands/?group=list).
_LOGINS = (b"AUTH", b"HELLO")
CONCERNED = frozenset((*_TIMEOUT_LAST, *_TIMEOUT_FIRST, *_TIMEOUT_NAMED, b"WAIT", *_LOGINS))
"""Commands that `ServerTimers.sent` has to know of: others are not even read to their end."""


class _Timer:
    """One running timer."""

    __slots__ = ("end", "exchange", "state")

    def __init__(self, exchange: Exchange, end: Callable[[], None]) -> None:
        self.exchange = exchange
        self.end = end
        self.state = "running"


class ServerTimers:
    """The timers of servers that requests of one rig run into."""

    def __init__(self, loop: EventLoop, waits: OutsideWaits, redirects: Redirects) -> None:
        self._loop = loop
        self._redirects = redirects
        self._waits = waits
        self._controls: dict[Any, _Control] = {}
        self.logins: dict[Any, bytes] = {}
        """By address of a key-value server, the request with which code of the rig has logged in."""

    def begin(self, exchange: Exchange, limit_s: float, end: Callable[[], None]) -> None:
        """Start a timer for the request that was just sent. When it is over, `end` makes the server answer."""
        exchange.timer = timer = _Timer(exchange, end)
        self._loop.schedule_world_event(self._loop.now + round(limit_s * NS), self._over, timer)

    def begin_for_database(self, exchange: Exchange, fd: int, limit_s: float, cancel: Callable[[], Any]) -> None:
        """Start the timer of a statement. Its error comes from the server's own timer, if that does not take long."""

        def end() -> None:
            if not poll_for(fd, select.POLLIN, round(min(limit_s + 0.5, _REAL_S) * 1000)):
                cancel()
                poll_for(fd, select.POLLIN, _SOON_MS)

        self.begin(exchange, limit_s, end)

    def has_answer(self, fd: int) -> bool:
        """Return True if a server has answered."""
        return bool(poll_for(fd, select.POLLIN, 0))

    def answers(self, fd: int) -> None:
        """Wait for the answer of a server that was asked to end a request."""
        poll_for(fd, select.POLLIN, _SOON_MS)

    def sent(self, exchange: Exchange, fd: int, request: bytes) -> None:
        """Note a request to a key-value server: it can have a timeout, or be a login."""
        words = _words(request)
        if not words:
            return
        name = words[0].upper()
        if name == b"AUTH" or (name == b"HELLO" and b"AUTH" in [word.upper() for word in words]):
            with contextlib.suppress(OSError):
                self.logins[addresses_of(fd)[1]] = request
            return
        limit_s = _timeout_s(name, words)
        if limit_s is not None and limit_s > 0 and not self._asks_proxy(fd):
            self.begin(exchange, limit_s, lambda: self._unblock(fd, limit_s))

    def is_proxy(self, address: Any) -> bool:
        """Return True for the address of a proxy of the rig, which keeps the time of its connections."""
        return isinstance(address, tuple) and address[:2] in self._redirects.proxies

    def _asks_proxy(self, fd: int) -> bool:
        if not self._redirects.proxies:
            return False
        with contextlib.suppress(OSError):
            return self.is_proxy(addresses_of(fd)[1])
        return False

    def _over(self, timer: _Timer) -> None:
        if timer.exchange.timer is not timer:
            return
        timer.exchange.timer = None
        timer.exchange.ended_by_server = True
        self._waits.looks_for_real = True
        try:
            timer.end()
        finally:
            self._waits.looks_for_real = False

    def _unblock(self, fd: int, limit_s: float) -> None:
        """Let a key-value server end a blocking command now, as if its timeout were over."""
        if poll_for(fd, select.POLLIN, 0):
            return
        try:
            mine, server = addresses_of(fd)
            control = self._controls.get(server)
            if control is None:
                control = self._controls[server] = _Control(server, self.logins.get(server), self._redirects)
            control.unblock(mine)
            poll_for(fd, select.POLLIN, _SOON_MS)
        except (OSError, ValueError, KeyError):  # it cannot be asked: its own timer ends it
            self._controls.pop(server, None)
            poll_for(fd, select.POLLIN, round(min(limit_s + 0.5, _REAL_S) * 1000))

    def close(self) -> None:
        """Close the connections of the rig's own."""
        for control in self._controls.values():
            control.close()
        self._controls.clear()


class _Control:
    """A connection of the rig's own to a key-value server.

    The protocol is RESP (https://redis.io/docs/latest/develop/reference/protocol-spec/).
    """

    def __init__(self, server: Any, login: bytes | None, redirects: Redirects) -> None:
        self._socket: socket.socket | None = None
        if not isinstance(server, tuple):
            raise ValueError("a client of a socket file has no address")
        self._socket = socket.socket(socket.AF_INET6 if len(server) > 2 else socket.AF_INET)
        redirects.leave_alone(self._socket)
        self._socket.settimeout(2)
        self._socket.connect(server[:2])
        self._reader = self._socket.makefile("rb")
        self._numbers: dict[Any, str] = {}  # of clients by their address, in the words of the server
        if login is not None:
            self._ask(login)

    def unblock(self, client: Any) -> None:
        """End the blocking command of a client, which is named by its address."""
        if client in self._numbers and self._unblock(self._numbers[client]):
            return
        known = listed_client(self._ask(b"CLIENT LIST\r\n").decode(), client)
        if known is None:
            raise ValueError("the server does not know this client")
        self._numbers[client] = known["id"]
        self._unblock(known["id"])

    def _unblock(self, number: str) -> bool:
        return self._ask(f"CLIENT UNBLOCK {number} TIMEOUT\r\n".encode()) == b"1"

    def _ask(self, request: bytes) -> bytes:
        assert self._socket is not None
        self._socket.sendall(request)
        return self._answer()

    def _answer(self) -> bytes:
        line = self._reader.readline()
        sort, rest = line[:1], line[1:].strip()
        if sort in (b"-", b""):
            raise ValueError(rest.decode(errors="replace"))
        if sort in (b"$", b"="):
            text = b"" if rest == b"-1" else self._reader.read(int(rest) + 2)[:-2]
            return text[len(b"txt:") :] if sort == b"=" else text
        if sort in (b"*", b"%", b"~"):
            for _ in range(max(0, int(rest)) * (2 if sort == b"%" else 1)):
                self._answer()
        return rest

    def close(self) -> None:
        """Close the connection."""
        self._reader.close()
        if self._socket is not None:
            self._socket.close()


def _words(request: bytes) -> list[bytes]:
    """Return the words of a command in RESP. Empty if it is not a whole one."""
    if not request.startswith(b"*"):
        return []
    lines = request.split(b"\r\n")
    try:
        count = int(lines[0][1:])
    except ValueError:
        return []
    return lines[2 : 2 * count + 1 : 2] if len(lines) > 2 * count else []


def _timeout_s(name: bytes, words: list[bytes]) -> float | None:
    """Return the timeout of a blocking command in seconds. None if it has none, 0 if it waits for ever."""
    with contextlib.suppress(ValueError, IndexError):
        if name in _TIMEOUT_LAST:
            return float(words[-1])
        if name in _TIMEOUT_FIRST:
            return float(words[1])
        if name in _TIMEOUT_NAMED:
            return float(words[[word.upper() for word in words].index(b"BLOCK") + 1]) / 1000
        if name == b"WAIT":
            return float(words[2]) / 1000
    return None
