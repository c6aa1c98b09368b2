"""A proxy before a key-value server, in the rig: client packages talk to it, and it keeps their times.

It listens on a loopback port, on simulated threads of the rig, and every connection of the rig's code to the server's
address leads to it. Each client has its own connection to the server behind. What has to do with time is in
`key_value_times`; everything else goes on as it is.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import select
import socket
import weakref
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from ...errors import DatabaseClockError
from ..patching.real_functions import poll_for, real_connect, real_recv, real_send
from ..patching.system import put_in_place
from .contents import Contents, Keys
from .key_value_times import Key, Step, Times
from .moved_connections import open_sockets
from .resp import OK, QUEUED, Incomplete, Reply, command, error, listed_client, number, parse, request
from .script_clocks import cannot_follow, reads_clock, with_time

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ..border.descriptors import Descriptors
    from ..tasks.simulated_threads import SimulatedThread, SimulatedThreads

_BLOCKING = (
    b"BLPOP", b"BRPOP", b"BLMOVE", b"BRPOPLPUSH", b"BLMPOP", b"BZPOPMIN", b"BZPOPMAX", b"BZMPOP", b"XREAD",
    b"XREADGROUP", b"WAIT", b"WAITAOF",
)  # fmt: skip
_SUBSCRIPTIONS = (b"SUBSCRIBE", b"PSUBSCRIBE", b"SSUBSCRIBE", b"UNSUBSCRIBE", b"PUNSUBSCRIBE", b"SUNSUBSCRIBE")
_SCRIPTS = (b"EVAL", b"EVALSHA", b"EVAL_RO", b"EVALSHA_RO", b"FCALL", b"FCALL_RO")
_PUBLISHES = (b"PUBLISH", b"SPUBLISH")
_SIZE = 1 << 16
_CONNECT_S = 5.0
_AT_ONCE_MS = 250  # how long an answer is waited for before other code of the rig runs
_FOR_ITS_THREAD = (*_BLOCKING, *_SUBSCRIPTIONS, b"HELLO", b"RESET")
# What waits, or changes what the thread of a client waits for, is left to that thread.
_NOT_AT_ONCE = re.compile(rb"\r\n(?:%s)\r\n" % b"|".join(_FOR_ITS_THREAD), re.IGNORECASE)


class Faults(Protocol):
    """What goes wrong at the server."""

    @property
    def can_fail(self) -> bool:
        """True if anything can go wrong at it."""

    def before(self, name: str) -> tuple[int, str]:
        """Return how long a command is slow, in nanoseconds, and how it fails: ``"down"``, an error reply, or not."""

    def loses(self, name: str) -> bool:
        """Return True if the answer of a command is lost."""

    def is_down(self) -> bool:
        """Return True if nobody can connect now."""


class _Known(NamedTuple):
    """What the server says of a command."""

    writes: bool
    first: int
    last: int
    step: int
    moves: bool
    """True if the places of its keys depend on its words."""


class _Change(NamedTuple):
    """What a key was before a command has written it."""

    at_ms: int
    key: Key
    value: bytes | None
    deadline: int | None


class Link:
    """One connection to the server behind the proxy. It is not redirected."""

    def __init__(self, one: socket.socket, descriptors: Descriptors) -> None:
        self.socket = one
        self.listens = False
        """True if the server can send something that nobody has asked for."""
        self._descriptors = descriptors
        self._received = bytearray()

    def send(self, *words: bytes | str | int) -> None:
        """Send a command."""
        self.socket.sendall(command(*words))

    def send_and_wait(self, *words: bytes | str | int) -> None:
        """Send a command that is answered at once, and wait for a moment, in real time, for its answer."""
        self.pass_and_wait(command(*words))

    def pass_and_wait(self, data: bytes) -> None:
        """Send commands as bytes that are answered at once, and wait for a moment, in real time, for an answer."""
        sent = real_send(self.socket, data, socket.MSG_DONTWAIT) if len(data) < _SIZE else 0
        if sent < len(data):
            self.socket.sendall(data[sent:])
        elif not self._received:
            if poll_for(self.socket.fileno(), select.POLLIN, _AT_ONCE_MS):
                self._received += real_recv(self.socket, _SIZE)
            else:
                self._descriptors.sent(self.socket.fileno(), data)

    def reply(self, pushed: Callable[[bytes], None] | None = None, gone: Any = None) -> Reply:
        """Return the next reply. What the server pushes in between is given to `pushed`.

        Parameters: `gone` is the socket of a client: if it is closed while the server makes it wait, the wait is over.
        Raises `ConnectionError` then, and if the server has gone.
        """
        while True:
            try:
                found, end = parse(self._received)
            except Incomplete:
                if gone is not None:
                    ready, _, _ = select.select([self.socket, gone], [], [])
                    if gone in ready and self.socket not in ready and not gone.recv(1, socket.MSG_PEEK):
                        raise ConnectionError("the client has gone") from None
                data = self.socket.recv(_SIZE)
                if not data:
                    raise ConnectionError("the server has closed the connection") from None
                self._received += data
                continue
            del self._received[:end]
            if found.kind == b">" and pushed is not None:
                pushed(found.raw)
                continue
            if not self._received:
                self._descriptors.quiet(self.socket.fileno(), not self.listens)
            return found

    def ask(self, *words: bytes | str | int) -> Reply:
        """Send a command; return its reply."""
        self.send_and_wait(*words)
        return self.reply()

    def waiting(self) -> bytes:
        """Return what the server has sent without a request."""
        data, self._received = bytes(self._received), bytearray()
        return data or real_recv(self.socket, _SIZE, socket.MSG_DONTWAIT)

    def close(self) -> None:
        """Close it."""
        self.socket.close()


class KeyValueProxy:
    """The proxy before one server.

    Parameters: `address` is the server's, `db` the number of the database whose keys it takes over, `login` the words
    of an AUTH command. `bypass` notes a socket that is not redirected. `tell` is called with what cannot follow.
    `descriptors` are those of the rig.
    """

    def __init__(
        self, loop: EventLoop, threads: SimulatedThreads, address: tuple[str, int], db: int, login: tuple[str, ...],
        bypass: Callable[[socket.socket], None], tell: Callable[[str], None], faults: Faults,
        descriptors: Descriptors,
    ) -> None:  # fmt: skip
        self._descriptors = descriptors
        self._loop = loop
        self._threads = threads
        self.server = address
        self._login = login
        self._bypass = bypass
        self.tell = tell
        self.faults = faults
        self.times = Times(lambda: loop.now // 1_000_000)
        self._scripts: dict[bytes, bytes] = {}
        self._mine: list[SimulatedThread] = []
        self.clients: weakref.WeakValueDictionary[Any, _Client] = weakref.WeakValueDictionary()
        """By address of the client's end."""
        self.changes: list[_Change] | None = None
        """What the keys were before each write, the latest last. None if nobody is going to ask."""
        self._where = f"the key-value server on {address[0]}:{address[1]}"
        try:
            self.control = self.link()
            self.control.socket.settimeout(None)
        except OSError as failed:
            raise DatabaseClockError(
                f"{self._where} does not answer: {failed}; start it, or correct the URL"
            ) from failed
        self._peername = self.control.socket.getpeername()
        answer = self.control.ask("SELECT", db)
        if answer.is_error:
            self.control.close()
            raise DatabaseClockError(f"{self._where} refuses: {answer.value.decode()}; correct the URL")
        self._selected = self._db = db
        self._reader: Keys | None = None
        self._known = self._commands()
        self._notifies = bool(self._setting("notify-keyspace-events"))
        self._purge_at = -1
        self._moved: list[socket.socket] = []
        self._taken_over: dict[Any, tuple[Link, dict[str, str]]] = {}
        # By address of a client whose connection was open before: that to the server, and what the server says of it.
        self._adopt_database(db)
        self._listener = socket.create_server(("127.0.0.1", 0), backlog=128)
        self.address: tuple[str, int] = self._listener.getsockname()[:2]
        descriptors.quiet(self._listener.fileno(), True)
        descriptors.proxies[self.address] = self._answers
        self._settler = self.link()
        descriptors.settles(self._peername, self._settle)
        self.start(self._accept, "key-value server")

    def start(self, function: Callable[[], None], label: str) -> None:
        """Start a thread of the proxy: it belongs to no job."""
        current, self._loop.current = self._loop.current, None
        try:
            self._mine = [thread for thread in self._mine if not thread.done]
            self._mine.append(self._threads.start(function, (), {}, label))
        finally:
            self._loop.current = current

    def wait(self, ns: int) -> None:
        """Let time pass for one client."""
        self._loop.sleep(ns, is_seam=False)

    def until(self, ready: Callable[[], bool]) -> None:
        """Let other code of the rig run until something is true."""
        self._loop.wait(ready)

    def link(self) -> Link:
        """Open a connection to the server."""
        made = self.bare_link()
        answer = made.ask("AUTH", *self._login) if self._login else None
        if answer is not None and answer.is_error:
            made.close()
            raise DatabaseClockError(f"{self._where} refuses: {answer.value.decode()}; correct the URL")
        return made

    def bare_link(self) -> Link:
        """Open a connection to the server for a client, which logs in itself."""
        return Link(self._connect(), self._descriptors)

    def _connect(self) -> socket.socket:
        one = socket.socket(socket.AF_INET6 if ":" in self.server[0] else socket.AF_INET)
        self._bypass(one)
        one.settimeout(_CONNECT_S)
        try:
            one.connect(self.server)
        except BaseException:
            one.close()
            raise
        one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        one.settimeout(None)
        return one

    def take_over(self, fd: int) -> None:
        """Let a connection that is open already lead to this proxy, which goes on with it."""
        behind = socket.socket(fileno=os.dup(fd))
        self._bypass(behind)
        answer = self.control.ask("CLIENT", "LIST")
        listing = "" if answer.is_error else answer.value.decode("utf-8", "replace")
        info = listed_client(listing, behind.getsockname())
        if info is None or info.get("multi", "-1") != "-1" or "b" in info.get("flags", ""):
            # Something goes on in it. A pool opens another one in its place.
            behind.shutdown(socket.SHUT_RDWR)
            behind.close()
            return
        with socket.socket() as near:
            real_connect(near, self.address)
            near.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            link = Link(behind, self._descriptors)
            link.listens = info.get("resp") == "3" or _is_subscribed(info)
            self._taken_over[near.getsockname()] = link, info
            put_in_place(fd, near.fileno())
        behind.settimeout(None)
        moved = socket.socket(fileno=fd)  # the application has one of its own, and closes it
        self._moved.append(moved)
        self._descriptors.opened(moved)

    def give_back(self) -> None:
        """Let the connections of clients that wait for nothing lead to the server itself again: the rig is left."""
        clients = {at: one for at, one in self.clients.items() if one.server is not None and not one.busy}
        for fd, one in open_sockets() if clients else ():
            with contextlib.suppress(OSError):
                client = clients.get(one.getsockname())
                if client is not None and client.server is not None and one.getpeername()[:2] == self.address:
                    put_in_place(fd, client.server.socket.fileno())

    def _commands(self) -> dict[bytes, _Known]:
        """Return what the server says of its commands. It is asked once: the answer is long."""
        info = self.control.ask("INFO", "server")
        run = re.search(rb"run_id:(\w+)", b"" if info.is_error else info.value)
        known = None if run is None else _commands_of.get(run[1])
        if known is None:
            known = dict(self._asked_for_commands())
            if run is not None:
                _commands_of[run[1]] = known
        return known

    def _asked_for_commands(self) -> Iterator[tuple[bytes, _Known]]:
        for entry in self.control.ask("COMMAND").value:
            name, _, flags, first, last, step = [part.value for part in entry.value[:6]]
            words = {part.value for part in flags}
            yield name.upper(), _Known(b"write" in words, first, last, step, b"movablekeys" in words)

    def _setting(self, name: str) -> bytes:
        found = self.control.ask("CONFIG", "GET", name)
        return b"" if found.is_error or len(found.value) < 2 else found.value[1].value or b""

    def _adopt_database(self, db: int) -> None:
        """Take over the expiry of the keys that are there already."""
        cursor = b"0"
        while True:
            cursor, keys = (part.plain for part in self.control.ask("SCAN", cursor, "COUNT", 1000).value)
            for key in keys:
                self.adopt((db, key), self.ask_in(db, b"PTTL", key).value)
            if cursor == b"0":
                return

    def adopt(self, key: Key, left: int) -> None:
        """Take over the expiry of a key, if it has one at the server: what PTTL says."""
        if left >= 0:
            self.ask_in(key[0], b"PERSIST", key[1])
            self.times.adopt(key, left)

    def ask_in(self, db: int, *words: bytes | str | int) -> Reply:
        """Ask the server on the rig's own connection, in a database."""
        if db != self._selected:
            self.control.ask("SELECT", db)
            self._selected = db
        return self.control.ask(*words)

    # --- expiry ---------------------------------------------------------------------------------------

    def purge(self) -> None:
        """Let the keys go that have expired by now."""
        for db, key in self.times.due():
            if self._notifies:
                self.ask_in(db, b"PEXPIRE", key, 1)  # so that the server tells of it
                while self.ask_in(db, b"EXISTS", key).value:
                    pass
                self.told_others()
            else:
                self.ask_in(db, b"DEL", key)

    def plan_purge(self) -> None:
        """Purge at the instant at which the next key expires, if somebody can be told of it."""
        if not self._notifies:
            return
        at = self.times.next_ms()
        if at is not None and at * 1_000_000 != self._purge_at:
            self._purge_at = at * 1_000_000
            self._loop.schedule_world_event(self._purge_at, self._purge_now, self._purge_at)

    def _purge_now(self, at_ns: int) -> None:
        if at_ns == self._purge_at and self.control.socket.fileno() >= 0:
            self._purge_at = -1
            self.purge()
            self.plan_purge()

    def noticed(self, words: list[bytes]) -> None:
        """Note what a command says of the server itself."""
        name = words[0].upper()
        if name == b"CONFIG" and len(words) > 2 and words[1].upper() == b"SET":
            self._notifies = bool(self._setting("notify-keyspace-events"))
            self.plan_purge()
        elif name == b"SCRIPT" and len(words) > 2 and words[1].upper() == b"LOAD":
            self.look_at_script(words[2])
        elif name == b"EVAL" and len(words) > 1:
            self.look_at_script(words[1])

    def look_at_script(self, text: bytes) -> None:
        """Note a script, and tell if it reads the clock in a way that cannot follow."""
        self._scripts[hashlib.sha1(text, usedforsecurity=False).hexdigest().encode()] = text
        told = cannot_follow(text)
        if told:
            self.tell(f"a script of the key-value server, which has {told}")

    def knows_script(self, words: list[bytes]) -> bool:
        """Return True if the text of a script that is called by its hash has come by."""
        return len(words) < 2 or words[1].lower() in self._scripts

    def with_time(self, db: int, words: list[bytes]) -> list[bytes]:
        """Return a request with a script as the server is to get it: the script has the rig's time."""
        name = words[0].upper()
        if name not in (b"EVAL", b"EVALSHA", b"EVAL_RO", b"EVALSHA_RO") or len(words) < 3:
            return words
        text = self._scripts.get(words[1].lower()) if b"SHA" in name else words[1]
        if text is None or not reads_clock(text):
            return words
        now, deadlines = self.times.now_ms(), self.times.deadlines
        left = {key: deadlines[db, key] - now for key in self.keys_of(words)[0] if (db, key) in deadlines}
        return [name.replace(b"SHA", b""), with_time(text, self._loop.now // 1000, left), *words[2:]]

    # --- keys -----------------------------------------------------------------------------------------

    def keys_of(self, words: list[bytes]) -> tuple[list[bytes], bool]:
        """Return the keys of a command, and if it can write them."""
        name = words[0].upper()
        if name in _SCRIPTS:
            count = int(words[2]) if len(words) > 2 and words[2].isdigit() else 0
            return words[3 : 3 + count], not name.endswith(b"_RO")
        known = self._known.get(name)
        if known is None:
            return [], False
        if known.moves:
            found = self.control.ask("COMMAND", "GETKEYS", *words)
            return ([] if found.is_error else found.plain), known.writes
        if known.first <= 0:
            return [], known.writes
        last = known.last if known.last >= 0 else len(words) + known.last
        return words[known.first : last + 1 : max(known.step, 1)], known.writes

    def knows(self, name: bytes) -> bool:
        """Return True if the server knows a command."""
        return name.upper() in self._known or name.upper() in (b"QUIT",)

    def written(self, db: int, keys: list[bytes]) -> None:
        """Look what has become of keys that a command could write: one that is gone has no expiry any more."""
        for key in keys:
            if (db, key) in self.times.deadlines and not self.ask_in(db, b"EXISTS", key).value:
                self.times.forget((db, key))

    def remember(self, db: int, keys: list[bytes]) -> None:
        """Keep what keys are before a command writes them, for a failover."""
        if self.changes is not None:
            now = self.times.now_ms()
            for key in keys:
                value = self.ask_in(db, b"DUMP", key).value
                self.changes.append(_Change(now, (db, key), value, self.times.deadlines.get((db, key))))

    def lose_since(self, at_ms: int) -> int:
        """Undo every write since an instant; return how many there were."""
        lost = 0
        while self.changes and self.changes[-1].at_ms >= at_ms:
            change = self.changes.pop()
            lost += 1
            db, key = change.key
            self.ask_in(db, b"DEL", key)
            self.times.forget(change.key)
            if change.value is not None:
                self.ask_in(db, b"RESTORE", key, 0, change.value)
                if change.deadline is not None:
                    self.times.deadlines[change.key] = change.deadline
        return lost

    # --- connections ------------------------------------------------------------------------------------

    def _accept(self) -> None:
        while True:
            try:
                one, address = self._listener.accept()
            except OSError:
                return
            if self.faults.is_down():
                one.close()
                continue
            client = _Client(self, one, address, *self._taken_over.pop(address, (None, {})))
            self.clients[address] = client
            self.start(client.serve, "key-value client")

    def _answers(self, client: Any) -> Callable[[Any], None] | None:
        """Return what answers at once what a client has sent. None if it was not accepted yet."""
        found = self.clients.get(client)
        return None if found is None else found.answer_now

    def told_others(self) -> None:
        """Note that a command can have ended what other clients wait for."""
        self._descriptors.told_others(self._peername)

    def _settle(self) -> None:
        """Return when what the server has sent to blocked clients and subscribers is there: it writes what one round
        has brought before it reads again."""
        for _ in range(2):
            self._settler.ask("PING")

    def contents(self) -> Contents:
        """Return what is in the database whose keys it has taken over."""
        if self._reader is None:
            words = [("AUTH", *self._login)] if self._login else []
            self._reader = Keys(self.server, [*words, ("SELECT", self._db)], self._expires)
        return self._reader.read()

    def _expires(self, key: bytes) -> bool:
        return (self._db, key) in self.times.deadlines

    def quiet(self, one: socket.socket) -> None:
        """Note that a client has its answer."""
        self._descriptors.quiet(one.fileno(), True)

    def drop_clients(self) -> None:
        """End the connection of every client."""
        for client in list(self.clients.values()):
            client.drop()

    def close(self) -> None:
        """Give the keys their expiry back, and end."""
        with contextlib.suppress(OSError, ValueError):
            self.purge()
            now = self.times.now_ms()
            for (db, key), at in self.times.deadlines.items():
                self.ask_in(db, b"PEXPIRE", key, max(at - now, 1))
        clients = list(self.clients.values())
        self._descriptors.proxies.pop(self.address, None)
        self._descriptors.settles(self._peername, None)
        for thread in self._mine:
            thread.end()
            self._loop.end_suspended(thread)
            self._threads.states.drop(thread)
        for client in clients:
            client.close()
        for link, _ in self._taken_over.values():
            link.close()
        for moved in self._moved:
            moved.detach()
        self._listener.close()
        self._settler.close()
        if self._reader is not None:
            self._reader.close()
        self.control.close()


_commands_of: dict[bytes, dict[bytes, _Known]] = {}  # by run of a server, in this process


class _Client:
    """One connection of a client package."""

    def __init__(
        self, proxy: KeyValueProxy, one: socket.socket, address: Any, server: Link | None, info: dict[str, str]
    ) -> None:
        self._proxy = proxy
        self._socket = one
        one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.server = server
        """The connection to the server. None before it is opened."""
        self.busy = False
        """True while a request is not answered."""
        self._listens = False  # its thread waits for a request
        self._received = bytearray()
        self._db = int(info.get("db", 0))
        self._version = int(info.get("resp", 2))
        self._transaction: list[list[bytes]] | None = None
        self._broken = False  # a command of the transaction was refused
        self._subscribed = _is_subscribed(info)

    def serve(self) -> None:
        """Serve the client until it or the server has gone."""
        try:
            if self.server is None:
                self.server = self._proxy.bare_link()
            while self._one_turn(self.server):
                self.busy = False
        except (OSError, ValueError):
            pass
        finally:
            self.close()

    def answer_now(self, sent: Any) -> None:
        """Answer what the client has just sent in the task of its own code, if that is sure to take no time.

        Parameters: `sent` are the bytes.
        """
        server = self.server
        if server is None or not self._listens or self._subscribed or self._received or self._proxy.faults.can_fail:
            return
        data = bytes(sent)
        if not data.endswith(b"\r\n") or _NOT_AT_ONCE.search(data):
            return
        with contextlib.suppress(BlockingIOError):
            self._received += real_recv(self._socket, _SIZE, socket.MSG_DONTWAIT)
        self._listens, self.busy = False, True
        try:
            if not self._answer_received(server):
                self.drop()
        except (OSError, ValueError):
            self.drop()
        finally:
            self._listens, self.busy = True, False

    def drop(self) -> None:
        """End the connection. Its thread, which waits for it, closes it."""
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        """Close both ends."""
        with contextlib.suppress(OSError):
            self._socket.shutdown(socket.SHUT_RDWR)
        self._socket.close()
        if self.server is not None:
            self.server.close()

    def _tell(self, data: bytes) -> None:
        """Send something to the client."""
        self._socket.sendall(data)
        self._proxy.quiet(self._socket)

    def _one_turn(self, server: Link) -> bool:
        """Wait for a request, or for what the server sends without one. Returns False if one of them has gone."""
        both = self._subscribed or self._version == 3
        self._listens = True
        ready, _, _ = select.select([self._socket, server.socket] if both else [self._socket], [], [])
        self._listens = False
        if self.busy:
            # The task of its sender waits for the server, and reads the answer.
            self._proxy.until(lambda: not self.busy)
            return True
        if server.socket in ready:
            try:
                data = server.waiting()
            except BlockingIOError:  # it came before an answer, and the client has it
                return True
            if not data:
                return False
            self._tell(data)
            if self._version == 2 and _ends_subscription(data):
                self._subscribed = False
        if self._socket not in ready:
            return True
        try:
            data = real_recv(self._socket, _SIZE, socket.MSG_DONTWAIT)
        except BlockingIOError:  # it was answered at once
            return True
        if not data:
            return False
        self._received += data
        self.busy = True
        return self._answer_received(server)

    def _answer_received(self, server: Link) -> bool:
        """Answer every whole request that was received; return False if the connection ends."""
        while self._received:
            try:
                words, end = request(self._received)
            except Incomplete:
                return True
            del self._received[:end]
            if words and not self._handle(server, words):
                return False
        return True

    def _handle(self, server: Link, words: list[bytes]) -> bool:
        """Do one request; return False if the connection ends."""
        proxy, name = self._proxy, words[0].upper()
        text = name.decode("ascii", "replace").lower()
        can_fail = proxy.faults.can_fail
        slow_ns, fails = proxy.faults.before(text)
        if slow_ns:
            proxy.wait(slow_ns)
        if fails == "down":
            return False
        if fails:
            self._tell(error(fails))
            return True
        answer = self._answer(server, words, name)
        if answer is not None:
            if can_fail and proxy.faults.loses(text):
                return False
            self._tell(answer)
        return name != b"QUIT"

    def _answer(self, server: Link, words: list[bytes], name: bytes) -> bytes | None:
        """Return the answer to a request. None if the server answers in its own time."""
        if name in _SUBSCRIPTIONS or (self._subscribed and self._version == 2):
            self._subscribed = self._subscribed or not name.startswith((b"UN", b"PUN", b"SUN"))
            server.listens = True
            server.send(*words)
            self._proxy.told_others()  # its answer comes as what is published does
            return None if self._version == 3 or self._subscribed else server.reply().raw
        if name == b"MULTI":
            self._transaction, self._broken = ([], False) if self._transaction is None else (self._transaction, False)
            return OK
        if self._transaction is not None:
            return self._in_transaction(server, words, name)
        return self._one(server, words, name)

    def _one(self, server: Link, words: list[bytes], name: bytes) -> bytes:
        proxy = self._proxy
        if name in (b"EVALSHA", b"EVALSHA_RO") and not proxy.knows_script(words):
            # Its text can read the clock. Clients then send it, as after a restart of the server.
            return error("NOSCRIPT No matching script. Please use EVAL.")
        if name in _SCRIPTS and proxy.keys_of(words)[0]:
            answers = self._together(server, [words])
            return answers if isinstance(answers, bytes) else answers[0]
        proxy.purge()
        words = proxy.with_time(self._db, words)
        keys, writes = proxy.keys_of(words) if name not in _BLOCKING else ([], True)
        if writes:
            proxy.remember(self._db, keys)
        step = proxy.times.step(self._db, words)
        reply = self._pass(server, words if step is None else step.sends, name in _BLOCKING)
        answer = self._after(step, reply, words, name, keys, writes)
        proxy.plan_purge()
        return answer

    def _pass(self, server: Link, words: list[bytes], waits: bool = False) -> Reply:
        if not waits:
            server.send_and_wait(*words)
            return server.reply(self._tell)
        # On a busy machine as well, the first one who asks gets the first thing: the server knows of those that wait
        # already when it answers the rig, and an answer that needs no wait is there before other code runs.
        proxy, keys = self._proxy, _waited_for(words)
        if keys:
            at_once = proxy.ask_in(self._db, b"EXISTS", *keys).value
            server.send(*words)
            if at_once:
                poll_for(server.socket.fileno(), select.POLLIN, _AT_ONCE_MS)
        else:
            server.send(*words)
            for _ in range(2):  # its answers of one round can be written in any order
                proxy.control.ask("PING")
        return server.reply(self._tell, self._socket)

    def _after(
        self, step: Step | None, reply: Reply, words: list[bytes], name: bytes, keys: list[bytes], writes: bool
    ) -> bytes:  # fmt: skip
        """Note what a command has changed; return its answer."""
        proxy = self._proxy
        answer = reply.raw if step is None else step.answers(reply)
        if (writes and reply.value is not None) or name in _PUBLISHES:
            proxy.told_others()
        if not reply.is_error:
            self._noticed(words, name)
            proxy.noticed(words)
            if name != b"OBJECT":
                now = proxy.times.now_ms()
                for key in keys:
                    proxy.times.used[self._db, key] = now
            if name in _BLOCKING:
                keys = [key for db, key in list(proxy.times.deadlines) if db == self._db]
            if writes:
                proxy.written(self._db, keys)
        return answer

    def _noticed(self, words: list[bytes], name: bytes) -> None:
        """Note what a command says of this connection."""
        if name == b"SELECT" and len(words) == 2:
            self._db = int(words[1])
        elif name == b"HELLO" and len(words) > 1:
            self._version = int(words[1])
        elif name == b"CLIENT" and len(words) > 2 and words[1].upper() == b"TRACKING" and self.server is not None:
            self.server.listens = words[2].upper() == b"ON"
        elif name == b"RESET":
            self._db, self._version, self._transaction = 0, 2, None

    # --- transactions -----------------------------------------------------------------------------------

    def _in_transaction(self, server: Link, words: list[bytes], name: bytes) -> bytes:
        assert self._transaction is not None
        if name == b"DISCARD":
            self._transaction = None
            self._pass(server, [b"UNWATCH"])
            return OK
        if name == b"EXEC":
            return self._run_transaction(server)
        if not self._proxy.knows(name):
            self._broken = True
            return self._pass(server, words).raw
        if name == b"WATCH":
            return error("ERR WATCH inside MULTI is not allowed")
        self._transaction.append(words)
        return QUEUED

    def _run_transaction(self, server: Link) -> bytes:
        kept, self._transaction = self._transaction or [], None
        if self._broken:
            self._pass(server, [b"UNWATCH"])
            return error("EXECABORT Transaction discarded because of previous errors.")
        answers = self._together(server, kept)
        return answers if isinstance(answers, bytes) else b"*%d\r\n" % len(answers) + b"".join(answers)

    def _together(self, server: Link, kept: list[list[bytes]]) -> bytes | list[bytes]:
        """Do commands in one transaction; return their answers, or the one answer if it was not done.

        After a script its keys are asked for their expiry, at the same instant of the server.
        """
        proxy = self._proxy
        proxy.purge()
        parts = []
        for words in kept:
            keys, writes = proxy.keys_of(words)
            if writes:
                proxy.remember(self._db, keys)
            parts.append((words, keys, writes))
        steps = []
        sends: list[list[bytes]] = [[b"MULTI"]]
        for words, keys, _ in parts:  # what one part changes is not known when the next one is made, and need not be
            step = proxy.times.step(self._db, words)
            steps.append(step)
            made = proxy.with_time(self._db, words) if step is None else step.sends
            if words[0].upper() in _SCRIPTS:
                sends += [[b"TIME"], made, *([b"PTTL", key] for key in keys), [b"TIME"]]
            else:
                sends.append(made)
        server.pass_and_wait(b"".join(command(*words) for words in (*sends, [b"EXEC"])))
        for _ in sends:
            server.reply(self._tell)
        reply = server.reply(self._tell)
        if reply.is_error or reply.value is None:
            return reply.raw
        replies, answers = iter(reply.value), []
        for step, (words, keys, writes) in zip(steps, parts, strict=True):
            name = words[0].upper()
            if name not in _SCRIPTS:
                answers.append(self._after(step, next(replies), words, name, keys, writes))
                continue
            began = _ms(next(replies))
            answers.append(self._after(step, next(replies), words, name, keys, writes))
            left = [next(replies).value for _ in keys]
            took = _ms(next(replies)) - began
            for key, ms in zip(keys, left, strict=True):
                # What the script has set is at most so much more than what is left: it is a round number.
                proxy.adopt((self._db, key), max(range(ms, ms + took + 1), key=_roundness) if ms > 0 else ms)
        proxy.plan_purge()
        return answers


def _waited_for(words: list[bytes]) -> list[bytes]:
    """Return the keys of a blocking command that is answered at once if one of them is there. Empty for any other."""
    name = words[0].upper()
    if name in (b"BLMOVE", b"BRPOPLPUSH"):
        return words[1:2]
    if name in (b"BLMPOP", b"BZMPOP"):
        return words[3 : 3 + int(words[2])] if len(words) > 2 and words[2].isdigit() else []
    return words[1:-1] if name in (b"BLPOP", b"BRPOP", b"BZPOPMIN", b"BZPOPMAX") else []


def _is_subscribed(info: dict[str, str]) -> bool:
    """Return True if a client listens to a channel or a pattern, by what the server says of it."""
    return int(info.get("sub", 0)) + int(info.get("psub", 0)) > 0


def _ms(reply: Reply) -> int:
    """Return what TIME says, in milliseconds."""
    seconds, rest = (int(part.value) for part in reply.value)
    return seconds * 1000 + rest // 1000


def _roundness(value: int) -> int:
    """Return how many zeros a number ends with."""
    return len(str(value)) - len(str(value).rstrip("0"))


def _ends_subscription(data: bytes) -> bool:
    """Return True if the last thing that was sent is that no subscription is left."""
    return data.endswith(number(0)) and b"unsubscribe" in data[-200:]
