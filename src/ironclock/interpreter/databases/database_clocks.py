"""The clocks of the database servers that one rig uses."""

from __future__ import annotations

import atexit
import contextlib
import re
import weakref
from collections.abc import Callable, Iterator
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING, Any

from ...errors import DatabaseClockError, InputError
from ...foundation.durations import NS
from .clock_words import mariadb_readings, real_readings, simulated
from .contents import Contents
from .given import Server
from .key_value_proxy import Faults, KeyValueProxy
from .mariadb_waits import planned
from .postgres_clock import IDENTIFY, InstalledClock, Session
from .postgres_sessions import opener
from .redirects import Redirects, addresses_of

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ..border.descriptors import Descriptors
    from ..tasks.simulated_threads import SimulatedThreads

_TAKES_AWAY = re.compile(r"\s*(?:rollback|abort|reset\s+all|discard\s+all)\b|;\s*reset\s+all", re.IGNORECASE)
_MARIADB_ENDS_NS = 2**31 * NS  # the last second of its setting `timestamp`
_DEFINES = re.compile(r"\s*(?:create|alter|comment)\b", re.IGNORECASE)  # it reads no clock itself
Undo = Callable[[Any], None]
_left_behind: list[InstalledClock] = []  # what could not be put back: an open transaction was in the way


class _Pending:
    """A server that follows as soon as it is used."""

    def __init__(self, find: Callable[[], Server], begin: Callable[[Server], None]) -> None:
        self._find = find
        self.begin = begin

    @cached_property
    def server(self) -> Server:
        """The server, which is found when it is first asked for."""
        return self._find()


class DatabaseClocks:
    """Which servers follow the clock of one rig, and what their sessions know of the time.

    Parameters: `tell` is called once with each statement that reads a real clock, and the remedy. `started` is called
    before a real thread starts.
    """

    def __init__(
        self, loop: EventLoop, tell: Callable[[str, str], None], started: Callable[[], None], redirects: Redirects,
        threads: SimulatedThreads, descriptors: Descriptors,
    ) -> None:  # fmt: skip
        self._loop = loop
        self._descriptors = descriptors
        self._redirects = redirects
        self._threads = threads
        self._proxies: list[KeyValueProxy] = []
        self._tell = tell
        self._started = started
        self._told: set[str] = set()
        self._installed: list[InstalledClock] = []
        self._sessions: weakref.WeakKeyDictionary[Any, tuple[Session, Undo]] = weakref.WeakKeyDictionary()
        self._mariadb: weakref.WeakKeyDictionary[Any, tuple[int, Undo]] = weakref.WeakKeyDictionary()
        self._working: set[int] = set()  # by identity, connections of MariaDB in whose statement a task waits
        self._pending: list[_Pending] = []
        self._postgres = self._mariadb_is_given = False

    def begin(self, server: Server) -> None:
        """Let a server follow. Raises `DatabaseClockError`."""
        if server.kind == "mariadb":
            self._mariadb_is_given = True
        elif server.kind == "postgres":
            open_session, name = opener(server.parameters, self._started)
            if any(clock.name == name for clock in self._installed):
                return
            self._installed.append(InstalledClock(open_session, name, lambda what: self._note(what, "stored")))
            self._postgres = True

    def begin_key_value(self, server: Server, faults: Faults) -> KeyValueProxy:
        """Put a proxy before a key-value server. Raises `DatabaseClockError`."""
        where = server.parameters
        proxy = KeyValueProxy(
            self._loop, self._threads, (where["host"], where["port"]), where["db"], where["login"],
            self._redirects.leave_alone, lambda what: self._note(what, "text"), faults, self._descriptors,
        )  # fmt: skip
        self._redirects.add(where["host"], where["port"], proxy.address)
        for fd in self._redirects.past(where["host"], where["port"]):
            proxy.take_over(fd)
        self._proxies.append(proxy)
        return proxy

    def begin_when_used(
        self, server: Server | None, find: Callable[[], Server], begin: Callable[[Server], None]
    ) -> None:  # fmt: skip
        """Let a server follow as soon as it is used: an SQL server if a driver sends a statement, a key-value server if
        somebody connects to it.

        Parameters: `server`: None if it is not known yet; `find` returns it then. `begin` lets it follow.
        """
        where = {} if server is None or server.kind != "key-value" else server.parameters
        if server is not None and where and self._redirects.past(where["host"], where["port"]):
            begin(server)  # it can be used without a connect
            return
        self._pending.append(_Pending(find, begin))
        self._redirects.before_connect = self._before_connect

    def follows(self, server: Server) -> bool:
        """Return True if a key-value server has its proxy already."""
        return self._redirects.leads_away((server.parameters["host"], server.parameters["port"]))

    def _begin_pending(self) -> None:
        """Let the SQL servers follow that wait for a statement."""
        waiting, self._pending = self._pending, []
        for one in waiting:
            if one.server.kind == "key-value":
                self._pending.append(one)
            else:
                one.begin(one.server)

    def _before_connect(self, address: tuple[str, int]) -> None:
        for one in list(self._pending):
            where = one.server.parameters
            if one.server.kind == "key-value" and address in addresses_of(where["host"], where["port"]):
                self._pending.remove(one)
                one.begin(one.server)

    @property
    def postgres_follows(self) -> bool:
        """True if a PostgreSQL server follows."""
        if self._pending:
            self._begin_pending()
        return self._postgres

    @property
    def mariadb_follows(self) -> bool:
        """True if the sessions of MariaDB and MySQL follow."""
        if self._pending:
            self._begin_pending()
        return self._mariadb_is_given

    def give_connections_back(self) -> None:
        """Let connections that lead to proxies lead to their servers again."""
        for proxy in self._proxies:
            proxy.give_back()

    def leave(self) -> None:
        """Give the real time back to every session, and put every database back as it was."""
        for proxy in self._proxies:
            proxy.close()
        self._redirects.clear()
        self._proxies.clear()
        if not (self._sessions or self._mariadb or self._installed):
            self._pending.clear()
            self._postgres = self._mariadb_is_given = False
            return
        for connection, (session, unset) in list(self._sessions.items()):
            if session.now_us >= 0:
                with contextlib.suppress(Exception):
                    unset(connection)
        self._sessions.clear()
        for connection, (_, unset) in list(self._mariadb.items()):
            if id(connection) not in self._working:
                with contextlib.suppress(Exception):
                    unset(connection)
        self._mariadb.clear()
        for clock in self._installed:
            if not clock.restore():
                if not _left_behind:
                    atexit.register(_put_back)
                _left_behind.append(clock)
        self._installed.clear()
        self._pending.clear()
        self._postgres = self._mariadb_is_given = False

    def contents(self) -> Contents:
        """Return what is in the databases that follow, apart from those of MariaDB and MySQL."""
        found: Contents = {}
        for proxy in self._proxies:
            found.update(proxy.contents())
        for clock in self._installed:
            found.update(clock.contents())
        return found

    # --- PostgreSQL -----------------------------------------------------------------------------------

    def session(self, connection: Any, unset: Undo) -> Session:
        """Return what is known of a connection. `unset` gives the real time back to it."""
        found = self._sessions.get(connection)
        if found is None:
            found = self._sessions[connection] = Session(), unset
        return found[0]

    def known_session(self, connection: Any) -> Session | None:
        """Return what is known of a connection. None if nothing is."""
        found = self._sessions.get(connection)
        return None if found is None else found[0]

    @property
    def now_us(self) -> int:
        """The rig's time in microseconds since 1970."""
        return self._loop.now // 1000

    def identify(self, session: Session, ask: Callable[[str], Any]) -> bool:
        """Return True if a session follows. `ask` runs a query and returns its first value."""
        if session.follows is None:
            session.follows = int(ask(IDENTIFY)) > 0
        return session.follows

    def statement(self, sql: str, session: Session | None) -> str:
        """Return a statement as the server is to get it. Parameters: `session` is that of its connection, if any."""
        if session is None or not session.follows:
            if simulated(sql) != sql and _DEFINES.match(sql) is None:
                self._note(sql, "server")
            return sql
        if takes_away(sql):
            session.now_us = -1  # it is told again
        real = real_readings(sql)
        if real:
            self._note(real, "text")
        return simulated(sql)

    # --- MariaDB and MySQL ----------------------------------------------------------------------------

    def mariadb_statement(self, connection: Any, sql: Any, unset: Undo) -> str | None:
        """Return the statement that tells a session the time, before another one. None if the session knows it."""
        text = sql.decode("utf-8", "replace") if isinstance(sql, (bytes, bytearray)) else str(sql)
        follows = self.mariadb_follows
        real = mariadb_readings(text, follows)
        if real:
            self._note(real if follows else text, "text" if follows else "server")
        if not follows:
            return None
        now_us = self.now_us
        known = self._mariadb.get(connection)
        if known is not None and known[0] == now_us:
            return None
        if not 0 < now_us * 1000 < _MARIADB_ENDS_NS:
            raise InputError(
                f"the rig is at {self._loop.timeline.text(self._loop.now)}, and the clock of MariaDB and MySQL ends at "
                "2038-01-19T03:14:07Z; start the rig earlier"
            )
        self._mariadb[connection] = now_us, unset
        return f"SET timestamp = {now_us // 1_000_000}.{now_us % 1_000_000:06d}"

    @contextlib.contextmanager
    def working(self, connection: Any) -> Iterator[None]:
        """Note that a connection works, inside the block: when the rig is left meanwhile, nobody must ask it."""
        self._working.add(id(connection))
        try:
            yield
        finally:
            self._working.discard(id(connection))

    def forget_mariadb(self, connection: Any) -> None:
        """Forget which time a session has: it was opened again, or reset."""
        self._mariadb.pop(connection, None)

    def must_not_wait(self, sql: str) -> None:
        """Note a statement that waits in the server in real time: its clock does not follow, or its driver cannot."""
        if planned(sql) is not None:
            self._note(sql, "wait" if self.mariadb_follows else "server")

    def waits_for_real(self, what: str) -> None:
        """Note a statement whose wait in the server lasts real time, or an event that comes by the real clock."""
        self._note(what, "wait")

    # --- what reads a real clock ------------------------------------------------------------------------

    def _note(self, what: str, kind: str) -> None:
        line = " ".join(what.split())
        if line not in self._told:
            self._told.add(line)
            self._tell(line[:200], _REMEDIES[kind])


_REMEDIES = {
    "server": "its clock follows if the test calls rig.database(...) with the engine, a connection or the URL",
    "text": "this form cannot follow",
    "wait": "what waits in the server by such a form, or runs there by itself, cannot follow",
    "stored": "what is stored in this way cannot follow",
}


@lru_cache(maxsize=1024)
def takes_away(sql: str) -> bool:
    """Return True if a statement can take settings away from its session."""
    return _TAKES_AWAY.search(sql) is not None


def _put_back() -> None:
    while _left_behind:
        with contextlib.suppress(DatabaseClockError):
            _left_behind.pop().restore_later()
