"""PostgreSQL: what a client waits for lasts simulated time, and ends when another task of the rig commits.

This is what all drivers share; each has a file of its own beside this one.

If a statement does not answer at once, the server is asked over a connection of the rig's own who is in its way
(`pg_blocking_pids`). If it is another session of this process, nothing real can end the wait, so simulated time goes
on.
"""

from __future__ import annotations

import contextlib
import select
import weakref
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ...foundation.source_location import waiting_at
from ..databases.given import recognised
from ..databases.postgres_sessions import opener
from ..patching.clock_functions import REAL
from ..patching.real_functions import poll_for
from ..patching.system import is_at_rest, is_process_at
from .outside_waits import ASKED, IDLE, INSIDE, OutsideWait
from .session_blockers import only_ours

if TYPE_CHECKING:
    from ..databases.postgres_clock import Query
    from ..entered_rig import EnteredRig
    from .outside_waits import Exchange

_BLOCKERS = "select s.pid, b.blocker from unnest(array[{}]::int[]) s(pid), unnest(pg_blocking_pids(s.pid)) b(blocker)"
LIMITS = (
    "select coalesce(min(setting::bigint), 0) from pg_settings "
    "where name in ('lock_timeout', 'statement_timeout') and setting <> '0'"
)  # in milliseconds (https://www.postgresql.org/docs/current/runtime-config-client.html)
READ, WRITE = 1, 2
_LOOKS, _LOOK_S = 2000, 0.0005
_real_sleep = REAL["sleep"]


class Sessions:
    """The sessions of this process with one server, and who is in whose way.

    Each question names a connection of this process that is open now: the first one opens the rig's own session to the
    same server. `started` is called before one more real thread starts.
    """

    def __init__(self, started: Callable[[], None]) -> None:
        self._started = started
        self._query: Query | None = None
        self._end: Callable[[], None] | None = None
        self.pids: set[int] = set()

    def only_ours_block(self, pid: int, connection: weakref.ref[Any]) -> bool:
        """Return True if a session waits for locks that sessions of this process alone hold, and not in a deadlock.

        A deadlock ends by the real timer of the server.
        """
        found = self._ask(_BLOCKERS.format(",".join(map(str, sorted(self.pids)))), connection)
        return only_ours(pid, [(int(waiting), int(blocker)) for waiting, blocker in found], self.pids)

    def cancel(self, pid: int, connection: weakref.ref[Any]) -> None:
        """Cancel what a session does."""
        self._ask(f"select pg_cancel_backend({pid})", connection)

    def _ask(self, query: str, connection: weakref.ref[Any]) -> list[list[Any]]:
        if self._query is None:
            like = connection()
            if like is None:
                return []
            open_session, _ = opener(recognised(like).parameters, self._started)
            self._query, self._end = open_session()
        return self._query(query)

    def close(self) -> None:
        """End the rig's own session."""
        if self._end is not None:
            with contextlib.suppress(Exception):
                self._end()
        self._query = self._end = None


class ServerSessions:
    """The sessions of one rig by server. `close` ends what the rig has opened itself.

    Parameters: `started` is called before one more real thread starts.
    """

    def __init__(self, started: Callable[[], None]) -> None:
        self._started = started
        self._by_server: dict[Any, Sessions] = {}
        self._limited: weakref.WeakSet[Any] = weakref.WeakSet()

    def limits(self, connection: Any, statement: Any, options: Any) -> bool:
        """Return True if the server's timers can run in a connection: if it was ever told of a timeout.

        Parameters: `statement` is what it is about to do. `options` are the settings with which it was opened.
        """
        known = connection in self._limited or "timeout" in str(options).lower()
        if statement is not None and "timeout" in str(statement).lower():
            self._limited.add(connection)
        return known

    def of(self, server: Any) -> Sessions:
        """Return the sessions of this process with a server."""
        found = self._by_server.get(server)
        if found is None:
            found = self._by_server[server] = Sessions(self._started)
        return found

    def close(self) -> None:
        """End the rig's own sessions."""
        for sessions in self._by_server.values():
            sessions.close()


def wait_ready(world: EnteredRig, fd: int, wanted: int, until_ns: int | None, what: str) -> int:
    """Wait until a driver's socket is ready; return how: 1 to read, 2 to write, 0 if the deadline came first."""
    events = (wanted & READ and select.POLLIN) | (wanted & WRITE and select.POLLOUT)
    world.border.outside.wait(
        OutsideWait(what, [world.border.descriptors.exchange(fd)], [(fd, events)], None, until_ns)
    )
    happened = poll_for(fd, events)
    return (READ if happened & ~select.POLLOUT else 0) | (WRITE if happened & select.POLLOUT else 0)


def asks_server(world: EnteredRig, fd: int, idle: bool) -> Exchange:
    """Note that a driver sends a request over its socket, or begins to listen; return the exchange."""
    exchange = world.border.descriptors.exchange(fd)
    world.border.outside.restart(exchange, IDLE if idle else ASKED, waiting_at())
    exchange.only_we_end_it = None
    return exchange


def session_asks(
    world: EnteredRig, exchange: Exchange, fd: int, server: Any, pid: int, connection: Any, limit_s: float = 0.0
) -> None:
    """Note whose statement an exchange is, so that its wait for another session of this process is known.

    Parameters: `server` names the server, `pid` its process for the `connection`. `limit_s` is after how many seconds
    the server ends the statement by its own timer. 0: never.
    """
    sessions, like = world.border.database_sessions.of(server), weakref.ref(connection)
    if pid not in sessions.pids and exchange.kind is not INSIDE and is_process_at(pid, fd, "postgres:"):
        exchange.settle = lambda: _settle(pid)
    sessions.pids.add(pid)
    exchange.only_we_end_it = lambda: sessions.only_ours_block(pid, like)
    if limit_s:
        world.border.server_timers.begin_for_database(exchange, fd, limit_s, lambda: sessions.cancel(pid, like))


def _settle(pid: int) -> None:
    """Return when a server's process has nothing to do any more, after a second at most.

    PostgreSQL signals each listening process before it answers a NOTIFY or its COMMIT. From then on that process is
    awake until it has sent the message; a busy machine only makes that longer.
    (https://www.postgresql.org/docs/current/sql-notify.html)
    """
    for _ in range(_LOOKS):
        if is_at_rest(pid, b"notify interrupt"):
            return
        _real_sleep(_LOOK_S)
