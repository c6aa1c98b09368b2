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
from ..patching.real_functions import poll_for
from .outside_waits import ASKED, IDLE, OutsideWait
from .session_blockers import only_ours

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

_BLOCKERS = "select s.pid, b.blocker from unnest(array[{}]::int[]) s(pid), unnest(pg_blocking_pids(s.pid)) b(blocker)"
LIMITS = (
    "select coalesce(min(setting::bigint), 0) from pg_settings "
    "where name in ('lock_timeout', 'statement_timeout') and setting <> '0'"
)  # in milliseconds (https://www.postgresql.org/docs/current/runtime-config-client.html)
READ, WRITE = 1, 2


class Sessions:
    """The sessions of this process with one server, and who is in whose way.

    Parameters: `connect` opens one more session and returns a function that runs a query on it, and one that ends it.
    """

    def __init__(self, connect: Callable[[], tuple[Callable[[str], list[Any]], Callable[[], None]]]) -> None:
        self._connect = connect
        self._query: Callable[[str], list[Any]] | None = None
        self._end: Callable[[], None] | None = None
        self.pids: set[int] = set()

    def only_ours_block(self, pid: int) -> bool:
        """Return True if a session waits for locks that sessions of this process alone hold, and not in a deadlock.

        A deadlock ends by the real timer of the server.
        """
        found = self._ask(_BLOCKERS.format(",".join(map(str, sorted(self.pids)))))
        return only_ours(pid, [(int(waiting), int(blocker)) for waiting, blocker in found], self.pids)

    def cancel(self, pid: int) -> None:
        """Cancel what a session does."""
        self._ask(f"select pg_cancel_backend({pid})")

    def _ask(self, query: str) -> list[Any]:
        if self._query is None:
            self._query, self._end = self._connect()
        return self._query(query)

    def close(self) -> None:
        """End the rig's own session."""
        if self._end is not None:
            with contextlib.suppress(Exception):
                self._end()
        self._query = self._end = None


class ServerSessions:
    """The sessions of one rig by server. `close` ends what the rig has opened itself."""

    def __init__(self) -> None:
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

    def of(self, server: Any, connect: Callable[[], Any]) -> Sessions:
        found = self._by_server.get(server)
        if found is None:
            found = self._by_server[server] = Sessions(connect)
        return found

    def close(self) -> None:
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


def asks_server(
    world: EnteredRig, fd: int, idle: bool, sessions: Sessions | None, pid: int, limit_s: float = 0.0
) -> None:  # fmt: skip
    """Note that a driver sends a request over its socket, or begins to listen.

    Parameters: `limit_s` is after how many seconds the server ends the request by its own timer. 0: never.
    """
    exchange = world.border.descriptors.exchange(fd)
    world.border.outside.restart(exchange, IDLE if idle else ASKED, waiting_at())
    if sessions is not None and pid > 0 and not idle:
        sessions.pids.add(pid)
        exchange.only_we_end_it = lambda: sessions.only_ours_block(pid)
        if limit_s:
            world.border.server_timers.begin_for_database(exchange, fd, limit_s, lambda: sessions.cancel(pid))
    else:
        exchange.only_we_end_it = None
