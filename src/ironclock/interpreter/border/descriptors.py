"""What is known of the file descriptors that code of a rig uses: who can answer, and who was asked."""

from __future__ import annotations

import _socket
import contextlib
import os
import socket
import stat
import weakref
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...errors import RigStateError
from ..patching.clock_functions import waiting_ns
from ..patching.real_functions import addresses_of, inode_of, poll_for, real_fstat
from ..patching.real_threads import others_run
from ..patching.system import child_pids
from .outside_waits import ANSWERED, ASKED, IDLE, INSIDE, PROCESS, UNKNOWN, Exchange, Kind, OutsideWait, OutsideWaits
from .server_timers import CONCERNED
from .whole_answers import is_whole

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from .server_timers import ServerTimers

_INTERNET = (int(socket.AF_INET), int(socket.AF_INET6))
_family_of, _type_of = _socket.socket.family.__get__, _socket.socket.type.__get__
_FLAGS = getattr(socket, "SOCK_NONBLOCK", 0) | getattr(socket, "SOCK_CLOEXEC", 0)
_SHAPE = 24  # bytes at the beginning of a request that say what sort of request it is
_WAITING_COMMANDS = (
    b"BLPOP", b"BRPOP", b"BLMOVE", b"BLMPOP", b"BRPOPLPUSH", b"BZPOPMIN", b"BZPOPMAX", b"BZMPOP", b"XREAD",
    b"XREADGROUP", b"SUBSCRIBE", b"PSUBSCRIBE", b"SSUBSCRIBE", b"WAIT",
)  # fmt: skip
# Commands of the RESP protocol (https://redis.io/docs/latest/develop/reference/protocol-spec/) that wait by design.


class Descriptors:
    """The descriptors of one rig."""

    def __init__(self, waits: OutsideWaits, loop: EventLoop, timers: ServerTimers) -> None:
        self._waits = waits
        self._timers = timers
        self._loop = loop
        self._exchanges: dict[int, Exchange] = {}
        self._sockets: weakref.WeakValueDictionary[int, socket.socket] = weakref.WeakValueDictionary()
        self._pairs: weakref.WeakKeyDictionary[socket.socket, weakref.ref[socket.socket]] = weakref.WeakKeyDictionary()
        self._ends: weakref.WeakValueDictionary[Any, socket.socket] = weakref.WeakValueDictionary()
        # Streams of the internet by their own address, or by that of the other end if they were accepted.
        self._opened = 0
        self.proxies: dict[Any, Callable[[Any], Callable[[Any], None] | None]] = {}
        """By address of a proxy of the rig, what returns for the address of a client what answers it at once."""
        self._pipes: dict[int, tuple[int, int]] = {}
        self.children: Exchange | None = None
        """The wait for the end of any child process. None if code of the rig has started none."""
        self._older_children: set[int] = set()  # they have nothing of the rig

    # --- what is noted ------------------------------------------------------------------------------

    def started_child(self) -> None:
        """Note that code of the rig starts a process."""
        if self.children is None:
            self._older_children = child_pids() or set()
        self.children = self._waits.exchange(PROCESS, "any child process")

    def child_runs(self) -> bool:
        """Return True if a process that code of the rig has started runs, or was not waited for yet."""
        if self.children is None:
            return False
        running = child_pids()
        return running is None or not running <= self._older_children

    def opened(self, one: socket.socket) -> None:
        """Note a socket that code of the rig has made."""
        fd = one.fileno()
        self._sockets[fd] = one
        self._opened += 1
        self._exchanges.pop(fd, None)
        with contextlib.suppress(OSError):
            if _family_of(one) in _INTERNET and fd >= 0:
                self._ends["accepted from", one.getpeername()] = one

    def connects(self, one: socket.socket) -> None:
        """Note that a socket has begun to connect."""
        with contextlib.suppress(OSError):
            if _family_of(one) in _INTERNET:
                self._ends["connected at", one.getsockname()] = one

    def paired(self, one: socket.socket, other: socket.socket) -> None:
        """Note two sockets that are connected with each other."""
        self._pairs[one] = weakref.ref(other)
        self._pairs[other] = weakref.ref(one)

    def piped(self, reads: int, writes: int) -> None:
        """Note a pipe."""
        inode = real_fstat(reads).st_ino
        self._pipes[inode] = reads, writes
        self._exchanges.pop(reads, None)
        self._exchanges.pop(writes, None)

    def sent(self, fd: int, data: Any) -> None:
        """Note that something was sent: an answer can come."""
        try:
            shape = bytes(memoryview(data)[:_SHAPE])
        except (TypeError, ValueError, NotImplementedError):
            shape = b""
        found = self._exchanges.get(fd)
        if found is None:
            found = self._exchanges[fd] = Exchange(ASKED, shape)
        command = _command(shape)
        found.sends = found.sends + 1 if found.kind is ASKED else 1
        self._waits.restart(found, IDLE if command in _WAITING_COMMANDS else ASKED, shape)
        if command in CONCERNED:
            self._timers.sent(found, fd, bytes(data))
        if self.proxies:
            self._answer_now(found, fd, data)

    def _answer_now(self, found: Exchange, fd: int, data: Any) -> None:
        """Let a proxy of the rig answer at once what was sent to it."""
        if found.answer_now is None:
            if found.server is UNKNOWN:
                found.server = _server_of(fd, real_fstat(fd))
            client_of = self.proxies.get(found.server)
            one = None if client_of is None else self._sockets.get(fd)
            if client_of is None or one is None or one.fileno() != fd:
                return
            found.answer_now = client_of(one.getsockname())
        if found.answer_now is not None:
            found.answer_now(data)

    def received(self, fd: int, data: Any = b"") -> None:
        """Note that something was received."""
        found = self._exchanges.get(fd)
        if found is not None and (found.kind is ASKED or found.waited_s):
            kind = ANSWERED if found.kind is ASKED else found.kind
            self._waits.restart(found, IDLE if kind is ANSWERED and is_whole(data, found.sends) else kind, found.shape)

    def quiet(self, fd: int, only_rig: bool = False) -> None:
        """Note that a proxy asks nothing over a descriptor any more.

        Parameters: `only_rig` is True if nobody but code of this rig can send something.
        """
        kind = INSIDE if only_rig else IDLE
        found = self._exchanges.get(fd)
        if found is None:
            found = self._exchanges[fd] = Exchange(kind, b"")
        found.is_of_proxy = True
        self._waits.restart(found, kind, b"")

    def told_others(self, server: Any) -> None:
        """Note that a server, which has an address, can have sent something to somebody who waits for it."""
        self._waits.traffic[server] = self._waits.traffic.get(server, 0) + 1

    def settles(self, server: Any, settle: Callable[[], None] | None) -> None:
        """Note what returns when all that a server has sent is there. None: it is not known any more."""
        if settle is None:
            self._waits.settles.pop(server, None)
        else:
            self._waits.settles[server] = settle

    # --- who can answer -----------------------------------------------------------------------------

    def exchange(self, fd: int) -> Exchange:
        """Return what is known of a descriptor, for a wait that begins."""
        found = self._exchanges.get(fd)
        try:
            status = real_fstat(fd)
        except OSError:
            return Exchange(INSIDE, "")
        if found is None or found.inode not in (-1, status.st_ino):
            found = self._exchanges[fd] = self._first(fd, status)
        found.inode = status.st_ino
        if found.server is UNKNOWN:
            found.server = _server_of(fd, status)
        if not others_run() and self._inside(fd, found, status):
            inside = found.inside
            if inside is None:
                inside = found.inside = Exchange(INSIDE, "")
                inside.find_peer = lambda: self._connected_peer(fd)
                inside.from_proxy = self._timers.is_proxy(found.server)
            inside.peer = found.peer
            return inside
        return found

    def _first(self, fd: int, status: os.stat_result) -> Exchange:
        mode = status.st_mode
        kind: Kind = IDLE
        if stat.S_ISSOCK(mode):
            known = self._sockets.get(fd)
            if known is None or known.fileno() != fd:
                kind = ASKED  # a client library in C: whatever it sends is not seen here
        elif stat.S_ISFIFO(mode):
            kind = PROCESS
        return self._waits.exchange(kind, stat.S_IFMT(mode))

    def _inside(self, fd: int, exchange: Exchange, status: os.stat_result) -> bool:
        """Return True if only code of this rig can answer."""
        if self.child_runs():
            return False  # it can have the other end of a pipe or a socket
        if stat.S_ISFIFO(status.st_mode):
            return self._has_both_ends(status.st_ino)
        if not stat.S_ISSOCK(status.st_mode):
            return False
        peer = exchange.peer
        if exchange.foreign == self._opened:
            return False
        if peer is None or peer.fileno() < 0:
            one = self._sockets.get(fd)
            if one is None or one.fileno() != fd:
                return False
            peer = self._peer(one)
            exchange.peer = None if peer is None or listens(peer) else peer
            if peer is None and _is_stream(one):
                exchange.foreign = self._opened
        return peer is not None

    def _connected_peer(self, fd: int) -> socket.socket | None:
        one = self._sockets.get(fd)
        peer = None if one is None or one.fileno() != fd else self._peer(one)
        return None if peer is None or listens(peer) else peer

    def _has_both_ends(self, inode: int) -> bool:
        both = self._pipes.get(inode)
        if both is None:
            return False
        return all(inode_of(fd) == inode for fd in both)

    def _peer(self, one: socket.socket) -> socket.socket | None:
        """Return the other end of a socket, if code of this rig has it; a listening one before it accepts."""
        pair = self._pairs.get(one)
        if pair is not None:
            other = pair()
            return other if other is not None and other.fileno() >= 0 else None
        try:
            mine, theirs = one.getsockname(), one.getpeername()
        except OSError:
            return None
        if _family_of(one) not in _INTERNET and not theirs and not mine:
            return None
        stream = _is_stream(one)
        if stream:
            for found in (self._ends.get(("accepted from", mine)), self._ends.get(("connected at", theirs))):
                with contextlib.suppress(OSError):
                    if found is not None and (found.getsockname(), found.getpeername()) == (theirs, mine):
                        return found
        listening, family = None, _family_of(one)
        for other in list(self._sockets.values()):
            if other is one or other.fileno() < 0 or _family_of(other) != family:
                continue
            with contextlib.suppress(OSError):
                if other.getsockname() != theirs:
                    if not isinstance(theirs, tuple) or other.getsockname()[1] != theirs[1]:
                        continue
                    if not listens(other):
                        continue
                if listens(other):
                    listening = other
                elif other.getpeername() == mine:
                    return other
        return listening

    # --- waiting ------------------------------------------------------------------------------------

    def wait(self, fd: int, events: int, timeout: float | None, what: str, reads: bool = True) -> bool:
        """Wait until a descriptor is ready, at most `timeout` seconds; return True if it is."""
        known = self._exchanges.get(fd)
        if (not reads or known is None or known.reader is None) and poll_for(fd, events):
            self._waits.looks += 1
            return True
        exchange = self.exchange(fd)
        until = None if timeout is None else self._loop.now + waiting_ns(timeout)
        wait = OutsideWait(what, [exchange], [(fd, events)], None, until)
        known = self._exchanges.get(fd)
        if not reads or known is None:
            return self._waits.wait(wait)
        other = known.reader
        if other is not None and other.task is not self._loop.current and self._is_stream(fd):
            mine = "the test" if self._loop.current is None else self._loop.current.label
            raise RigStateError(
                f"{mine} reads from {what} while {'the test' if other.task is None else other.task.label} waits for "
                f"the same data (descriptor {fd}); give each task its own connection, or a lock around the "
                "exchange"
            )
        known.reader = wait
        wait.task = self._loop.current
        try:
            return self._waits.wait(wait)
        finally:
            if known.reader is wait:
                known.reader = None

    def _is_stream(self, fd: int) -> bool:
        one = self._sockets.get(fd)
        return one is not None and one.fileno() == fd and one.type == socket.SOCK_STREAM and not listens(one)


def _is_stream(one: socket.socket) -> bool:
    """Return True for a connection of the internet, whose two addresses nobody else has."""
    return _family_of(one) in _INTERNET and _type_of(one) & ~_FLAGS == socket.SOCK_STREAM


def _server_of(fd: int, status: os.stat_result) -> Any:
    """Return the address of the other end of a socket, or None."""
    if not stat.S_ISSOCK(status.st_mode):
        return None
    with contextlib.suppress(OSError):
        return addresses_of(fd)[1] or None
    return None


def listens(one: Any) -> bool:
    """Return True for a socket that listens."""
    try:
        return bool(one.getsockopt(socket.SOL_SOCKET, socket.SO_ACCEPTCONN))
    except (OSError, AttributeError):
        return False


def _command(request: bytes) -> bytes:
    """Return the command of a request of the RESP protocol. Empty for anything else."""
    if not request.startswith(b"*"):
        return b""
    parts = request.split(b"\r\n", 3)
    return parts[2].upper() if len(parts) > 2 else b""
