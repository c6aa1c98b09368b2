"""psycopg2: its clock, its waits and its seams. It waits in a callback.

(https://www.psycopg.org/docs/extensions.html#psycopg2.extensions.set_wait_callback)
"""

from __future__ import annotations

import select
import weakref
from typing import TYPE_CHECKING, Any

from ..databases.postgres_clock import UNSET
from ..databases.postgres_sessions import for_real, waits_for_real
from ..patching.builtin_patching import Here
from ..patching.patches import Methods, Patch
from ..patching.real_functions import poll_for
from .call_seams import always, seams_of, sql_call
from .postgres import LIMITS, READ, WRITE, asks_server, session_asks, wait_ready

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig


def psycopg2_patches(here: Here) -> list[Patch]:
    """Return the patch of `psycopg2`."""
    return [Psycopg2Waits(here)]


class Psycopg2Waits:
    """A patch: the wait callback of psycopg2."""

    def __init__(self, here: Here) -> None:
        self._here = here
        self._before: Any = None
        self._limits_s: weakref.WeakKeyDictionary[Any, float] = weakref.WeakKeyDictionary()
        self._cursors: Methods | None = None
        self._ends: Methods

    def put(self) -> None:
        from psycopg2 import extensions

        self._before = extensions.get_wait_callback()
        extensions.set_wait_callback(self._wait)
        if self._cursors is None:
            self._cursors = Methods(
                extensions.cursor,
                {name: self._executes(name) for name in ("execute", "executemany", "callproc", "copy_expert")},
            )
            self._ends = Methods(extensions.connection, {"commit": self._commit})
        self._cursors.put()
        self._ends.put()

    def restore(self) -> None:
        from psycopg2 import extensions

        extensions.set_wait_callback(self._before)
        if self._cursors is not None:
            self._cursors.restore()
            self._ends.restore()

    def _executes(self, name: str) -> Any:
        from psycopg2 import OperationalError, extensions

        execute = extensions.cursor.execute

        def make(real: Any) -> Any:
            def call(cursor: Any, query: Any, *args: Any, **kwargs: Any) -> Any:
                world = self._here()
                if world is None or waits_for_real():
                    return real(cursor, query, *args, **kwargs)
                query = self._follow(world, cursor, query, execute)
                if name == "execute":
                    self._note_limit(world, cursor.connection, query, execute)
                seams = None if name == "callproc" else seams_of(world, "sql")
                about = None if seams is None else sql_call(query)
                if seams is None or about is None:
                    return real(cursor, query, *args, **kwargs)
                return seams.around(
                    about[0], lambda: real(cursor, query, *args, **kwargs), OperationalError,
                    (lambda _: cursor.rowcount != 0) if about[1] else None,
                )  # fmt: skip

            return call

        return make

    def _follow(self, world: EnteredRig, cursor: Any, query: Any, execute: Any) -> Any:
        """Tell the server the time; return the statement, which reads the rig's clock if the server follows."""
        from psycopg2 import extensions

        clocks, connection = world.border.database_clocks, cursor.connection
        text = query.as_string(cursor) if hasattr(query, "as_string") else query
        is_bytes = isinstance(text, bytes)
        sql = text.decode("utf-8") if is_bytes else text
        if not isinstance(sql, str):
            return query
        if not clocks.postgres_follows:
            clocks.statement(sql, None)
            return query
        status = connection.info.transaction_status
        idle = status == extensions.TRANSACTION_STATUS_IDLE
        if connection.closed or not (idle or status == extensions.TRANSACTION_STATUS_INTRANS):
            return query

        def ask(question: str) -> Any:
            def run() -> Any:
                with connection.cursor() as own:
                    execute(own, question)
                    return own.fetchone()[0]

            return for_real(run)

        session = clocks.session(connection, lambda one: _unset_psycopg2(one, execute))
        if clocks.identify(session, ask):
            setting = session.setting(clocks.now_us, idle)
            if setting is not None:
                ask(setting)
                session.can_be_taken_away = not connection.autocommit  # the driver has begun a transaction
        sql = clocks.statement(sql, session)
        return sql.encode("utf-8") if is_bytes else sql

    def _commit(self, real: Any) -> Any:
        def commit(connection: Any) -> Any:
            world = self._here()
            seams = seams_of(world, "sql")
            if seams is None or not connection.info.transaction_status:
                result = real(connection)
            else:
                from psycopg2 import OperationalError

                result = seams.around("sql COMMIT", lambda: real(connection), OperationalError, always)
            session = None if world is None else world.border.database_clocks.known_session(connection)
            if session is not None:
                session.can_be_taken_away = False
            return result

        return commit

    def _note_limit(self, world: EnteredRig, connection: Any, query: Any, execute: Any) -> None:
        """Note after how many seconds the server ends the statement that is about to be sent."""
        from psycopg2 import extensions

        options = connection.info.dsn_parameters.get("options")
        if not world.border.database_sessions.limits(connection, query, options):
            return
        status = connection.info.transaction_status
        if connection.closed or status == extensions.TRANSACTION_STATUS_INERROR:
            return

        def ask() -> float:
            with connection.cursor() as cursor:
                execute(cursor, LIMITS)
                (ms,) = cursor.fetchone()
            if status == extensions.TRANSACTION_STATUS_IDLE and not connection.autocommit:
                connection.rollback()  # the question has begun a transaction
            return float(ms) / 1000

        self._limits_s[connection] = for_real(ask)

    def _wait(self, connection: Any) -> None:
        from psycopg2 import extensions

        world = self._here()
        asked = False
        while True:
            state = connection.poll()
            if state == extensions.POLL_OK:
                if asked and world is not None:
                    asks_server(world, connection.fileno(), True)  # from now on only a notification can come
                return
            wanted = READ if state == extensions.POLL_READ else WRITE
            fd = connection.fileno()
            if world is None or waits_for_real():
                poll_for(fd, select.POLLIN if wanted == READ else select.POLLOUT, None)
                continue
            if not asked:
                asked = True
                self._asks(world, connection, fd)
            wait_ready(world, fd, wanted, None, "a statement of psycopg2")

    def _asks(self, world: EnteredRig, connection: Any, fd: int) -> None:
        try:
            pid = connection.info.backend_pid
            where = "psycopg2", connection.info.host, connection.info.port, connection.info.dbname
        except Exception:  # it is being opened
            asks_server(world, fd, False)
            return
        world.border.database_uses.note(connection, self._take_back)
        exchange = asks_server(world, fd, False)
        if pid > 0:
            session_asks(world, exchange, fd, where, pid, connection, self._limits_s.get(connection, 0.0))

    def _take_back(self, connection: Any) -> None:
        from psycopg2 import extensions

        if connection.info.transaction_status == extensions.TRANSACTION_STATUS_ACTIVE:
            for_real(connection.cancel)
            connection.close()
        else:
            for_real(connection.rollback)


def _unset_psycopg2(connection: Any, execute: Any) -> None:
    from psycopg2 import extensions

    if connection.info.transaction_status == extensions.TRANSACTION_STATUS_ACTIVE:
        return  # a task of the rig waits in its statement

    def run() -> None:
        was_idle = connection.info.transaction_status == 0
        with connection.cursor() as own:
            execute(own, UNSET)
        if was_idle and not connection.autocommit:
            connection.commit()

    for_real(run)
