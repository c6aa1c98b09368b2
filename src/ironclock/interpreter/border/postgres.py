"""PostgreSQL: what a client waits for lasts simulated time, and ends when another task of the rig commits.

The drivers are written in C and wait in a few functions, which are replaced: `psycopg.waiting.wait` (psycopg 3,
looked up at each call) and the wait callback of psycopg2 (https://www.psycopg.org/docs/extensions.html#psycopg2.extensions.set_wait_callback).
Asynchronous drivers wait in asyncio, which follows the rig already.

If a statement does not answer at once, the server is asked over a connection of the rig's own who is in its way
(`pg_blocking_pids`). If it is another session of this process, nothing real can end the wait, so simulated time goes
on.
"""

from __future__ import annotations

import contextlib
import importlib.util
import select
import weakref
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from ...foundation.source_location import waiting_at
from ..databases.given import recognised
from ..databases.postgres_clock import IDENTIFY, UNSET
from ..databases.postgres_sessions import for_real, libpq_session, waits_for_real
from ..patching.builtin_patching import Here
from ..patching.clock_functions import waiting_ns
from ..patching.patches import Attribute, Methods, Patch
from ..patching.real_functions import poll_for, real_fstat
from .call_seams import CallSeams, always, seams_of, sql_call
from .outside_waits import ASKED, IDLE, OutsideWait
from .session_blockers import only_ours

if TYPE_CHECKING:
    from ..databases.database_clocks import DatabaseClocks
    from ..entered_rig import EnteredRig

_BLOCKERS = "select s.pid, b.blocker from unnest(array[{}]::int[]) s(pid), unnest(pg_blocking_pids(s.pid)) b(blocker)"
_LIMITS = (
    "select coalesce(min(setting::bigint), 0) from pg_settings "
    "where name in ('lock_timeout', 'statement_timeout') and setting <> '0'"
)  # in milliseconds (https://www.postgresql.org/docs/current/runtime-config-client.html)
_READ, _WRITE = 1, 2


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


def _wait_ready(world: EnteredRig, fd: int, wanted: int, until_ns: int | None, what: str) -> int:
    """Wait until a driver's socket is ready; return how: 1 to read, 2 to write, 0 if the deadline came first."""
    events = (wanted & _READ and select.POLLIN) | (wanted & _WRITE and select.POLLOUT)
    world.border.outside.wait(
        OutsideWait(what, [world.border.descriptors.exchange(fd)], [(fd, events)], None, until_ns)
    )
    happened = poll_for(fd, events)
    return (_READ if happened & ~select.POLLOUT else 0) | (_WRITE if happened & select.POLLOUT else 0)


def _asks(
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


# --- psycopg 3 --------------------------------------------------------------------------------------


def psycopg_patches(here: Here) -> list[Patch]:
    """Return the patches of `psycopg`."""
    import psycopg
    from psycopg import _queries, waiting

    def connection_wait(real: Callable[..., Any]) -> Callable[..., Any]:
        def wait(self: Any, gen: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is None:
                return real(self, gen, *args, **kwargs)
            seams, call = _psycopg_call(world, self, gen)

            def run() -> Any:
                _psycopg_clock(world, self, gen)
                _psycopg_asks(world, self, gen)
                return real(self, gen, *args, **kwargs)

            if seams is None or call is None:
                return run()
            return seams.around(call[0], run, psycopg.OperationalError, always if call[1] else None)

        return wait

    def connection_wait_async(real: Callable[..., Any]) -> Callable[..., Any]:
        async def wait(self: Any, gen: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is None:
                return await real(self, gen, *args, **kwargs)
            seams, call = _psycopg_call(world, self, gen)

            async def run() -> Any:
                _psycopg_clock(world, self, gen)
                _psycopg_asks(world, self, gen)
                return await real(self, gen, *args, **kwargs)

            if seams is None or call is None:
                return await run()
            return await seams.around_async(call[0], run, psycopg.OperationalError, always if call[1] else None)

        return wait

    return [
        Attribute(waiting, "wait", lambda real: _psycopg_wait(real, here)),
        Attribute(psycopg.Connection, "wait", connection_wait),
        Attribute(psycopg.AsyncConnection, "wait", connection_wait_async),
        Attribute(_queries.PostgresQuery, "convert", lambda real: _psycopg_convert(real, here)),
        Attribute(_queries.PostgresClientQuery, "convert", lambda real: _psycopg_convert(real, here)),
    ]


def _psycopg_convert(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return a method that prepares a statement, which reads the rig's clock if its server follows."""

    def convert(self: Any, query: Any, vars: Any) -> Any:
        world = here()
        transformer = getattr(self, "_tx", None)
        connection = getattr(transformer, "connection", None)
        if world is not None and connection is not None and transformer is not None:
            encoding = transformer.encoding
            if hasattr(query, "as_bytes"):  # composed of parts
                query = query.as_bytes(transformer)
            if isinstance(query, str):
                query = _psycopg_text(world, connection, query)
            elif isinstance(query, bytes):
                query = _psycopg_text(world, connection, query.decode(encoding)).encode(encoding)
        return real(self, query, vars)

    return convert


def _psycopg_text(world: EnteredRig, connection: Any, sql: str) -> str:
    clocks = world.border.database_clocks
    session = _psycopg_session_of(clocks, connection) if clocks.postgres_follows else None
    return clocks.statement(sql, session)


def _psycopg_session_of(clocks: Any, connection: Any) -> Any:
    """Return what is known of a connection, after it was asked if it follows. None if it cannot be asked now."""
    from psycopg import pq

    session = clocks.session(connection, _unset_psycopg)
    if session.follows is None:
        pgconn = connection.pgconn
        can_be_asked = pgconn.transaction_status in (pq.TransactionStatus.IDLE, pq.TransactionStatus.INTRANS)
        if not can_be_asked or pgconn.pipeline_status != pq.PipelineStatus.OFF:
            return None
        clocks.identify(session, lambda sql: pgconn.exec_(sql.encode()).get_value(0, 0))
    return session


def _unset_psycopg(connection: Any) -> None:
    connection.pgconn.exec_(UNSET.encode())


def _psycopg_call(world: EnteredRig, connection: Any, gen: Any) -> tuple[CallSeams | None, tuple[str, bool] | None]:
    """Return the seams of what a generator is about to do, and its name. None if it has none."""
    seams = seams_of(world, "sql")
    frame = getattr(gen, "gi_frame", None)
    if seams is None or frame is None:
        return None, None
    name, values = getattr(gen, "__name__", ""), frame.f_locals
    if name == "_commit_gen" or (name == "_exit_gen" and values.get("exc_val") is None):
        return seams, ("sql COMMIT", True) if connection.pgconn.transaction_status != 0 else None
    query = values.get("query") if name.startswith("_execute") else values.get("statement") if "copy" in name else None
    if query is None:
        return seams, None
    call = sql_call(query.as_string(connection) if hasattr(query, "as_string") else query)
    return seams, call


_NO_STATEMENT = ("_commit_gen", "_rollback_gen", "notifies", "_connect_gen")


def _psycopg_clock(world: EnteredRig, connection: Any, gen: Any) -> None:
    """Tell the server the time before it gets a statement."""
    clocks = world.border.database_clocks
    name = getattr(gen, "__name__", "")
    if not clocks.postgres_follows or name in _NO_STATEMENT:
        return
    from psycopg import pq

    pgconn = connection.pgconn
    if pgconn.pipeline_status != pq.PipelineStatus.OFF:
        _tell_pipeline(clocks, connection, name)
        return
    session = _psycopg_session_of(clocks, connection)
    if session is None or not session.follows:
        return
    idle = pgconn.transaction_status == pq.TransactionStatus.IDLE
    if not idle and pgconn.transaction_status != pq.TransactionStatus.INTRANS:
        return
    if name == "_exit_gen" and session.can_be_taken_away:
        session.now_us = -1  # it can end at a savepoint
        return
    setting = session.setting(clocks.now_us, idle)
    if setting is not None:
        pgconn.exec_(setting.encode())


def _tell_pipeline(clocks: DatabaseClocks, connection: Any, name: str) -> None:
    """Tell the server the time inside a pipeline: with a statement in its line, before the next one."""
    session = clocks.known_session(connection)
    pipeline = getattr(connection, "_pipeline", None)
    if pipeline is None or session is None or not session.follows or not name.startswith("_execute"):
        return
    from psycopg import pq

    # What a pipeline sends without a point of synchronization is one transaction, which has one `now()`.
    idle = connection.pgconn.transaction_status == pq.TransactionStatus.IDLE
    setting = session.setting(clocks.now_us, idle)
    if setting is not None:
        pipeline.command_queue.append(partial(connection.pgconn.send_query_params, setting.encode(), None))
        pipeline.result_queue.append(None)  # its result is nobody's


def _psycopg_asks(world: EnteredRig, connection: Any, gen: Any) -> None:
    pgconn = connection.pgconn
    try:
        fd, pid = pgconn.socket, pgconn.backend_pid
    except Exception:  # it is closed: the driver says so itself
        return
    sessions = world.border.database_sessions.of(
        ("psycopg", pgconn.host, pgconn.port, pgconn.db), _psycopg_session(connection)
    )
    world.border.database_uses.note(connection, _take_back_psycopg)
    idle = getattr(gen, "__name__", "") == "notifies"
    _asks(world, fd, idle, sessions, pid, _psycopg_limit_s(world, connection, gen))


def _psycopg_limit_s(world: EnteredRig, connection: Any, gen: Any) -> float:
    """Return after how many seconds the server ends the statement that a generator is about to send. 0: never."""
    from psycopg import pq

    frame = getattr(gen, "gi_frame", None)
    pgconn = connection.pgconn
    if frame is None or not world.border.database_sessions.limits(
        connection, frame.f_locals.get("query"), pgconn.options
    ):
        return 0.0
    can_be_asked = pgconn.transaction_status in (pq.TransactionStatus.IDLE, pq.TransactionStatus.INTRANS)
    if not can_be_asked or pgconn.pipeline_status != pq.PipelineStatus.OFF:
        return 0.0
    return int(pgconn.exec_(_LIMITS.encode()).get_value(0, 0)) / 1000


def _take_back_psycopg(connection: Any) -> None:
    """Roll back what a dead task has left, by the functions of libpq, which wait for real. Close what is busy."""
    from psycopg import pq

    pgconn = connection.pgconn
    status = pgconn.transaction_status
    if status == pq.TransactionStatus.ACTIVE:
        pgconn.get_cancel().cancel()
        pgconn.finish()
    elif status in (pq.TransactionStatus.INTRANS, pq.TransactionStatus.INERROR):
        pgconn.exec_(b"rollback")


def _psycopg_wait(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    from psycopg import errors

    has_deadline = hasattr(errors, "_WaitTimeout")  # before 3.2 the one number says how often Ctrl-C is looked for

    def times(interval: float | None = 0.0, timeout: float | None = None) -> tuple[float | None, float | None]:
        """Return how often Ctrl-C is looked for, and the deadline of a wait."""
        return (interval, timeout) if has_deadline else (interval if timeout is None else timeout, None)

    def wait(gen: Any, fileno: int, *more: Any, **options: Any) -> Any:
        world = here()
        if world is None:
            return real(gen, fileno, *more, **options)
        interval, timeout = times(*more, **options)
        loop = world.loop
        what = "a statement of psycopg"
        steps = getattr(gen, "__name__", "") == "notifies" and timeout is None and bool(interval)
        deadline = None if timeout is None else loop.now + waiting_ns(timeout)
        try:
            wanted = next(gen)
            while True:
                until = loop.now + waiting_ns(interval or 0.0) if steps else deadline
                ready = _wait_ready(world, fileno, wanted, until, what)
                if not ready:
                    real_fstat(fileno)
                wanted = gen.send(ready)
                if deadline is not None and loop.now >= deadline:
                    raise errors._WaitTimeout("wait timeout expired")
        except OSError as error:
            from psycopg import OperationalError

            raise OperationalError("connection socket closed") from error
        except StopIteration as end:
            return end.value

    return wait


def _psycopg_session(connection: Any) -> Callable[[], Any]:
    def connect() -> Any:
        info = connection.info
        parameters = dict(info.get_parameters())
        if info.password:
            parameters["password"] = info.password
        return libpq_session(parameters)

    return connect


# --- psycopg2 ---------------------------------------------------------------------------------------


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
                execute(cursor, _LIMITS)
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
                return
            wanted = _READ if state == extensions.POLL_READ else _WRITE
            fd = connection.fileno()
            if world is None or waits_for_real():
                poll_for(fd, select.POLLIN if wanted == _READ else select.POLLOUT, None)
                continue
            if not asked:
                asked = True
                self._asks(world, connection, fd)
            _wait_ready(world, fd, wanted, None, "a statement of psycopg2")

    def _asks(self, world: EnteredRig, connection: Any, fd: int) -> None:
        try:
            pid = connection.info.backend_pid
            where = "psycopg2", connection.info.host, connection.info.port, connection.info.dbname
        except Exception:  # it is being opened
            _asks(world, fd, False, None, 0)
            return
        world.border.database_uses.note(connection, self._take_back)
        sessions = world.border.database_sessions.of(where, self._session(connection))
        _asks(world, fd, False, sessions, pid, self._limits_s.get(connection, 0.0))

    def _take_back(self, connection: Any) -> None:
        from psycopg2 import extensions

        if connection.info.transaction_status == extensions.TRANSACTION_STATUS_ACTIVE:
            for_real(connection.cancel)
            connection.close()
        else:
            for_real(connection.rollback)

    def _session(self, connection: Any) -> Callable[[], Any]:
        def connect() -> Any:
            import psycopg2

            parameters = {**connection.info.dsn_parameters, "application_name": "ironclock"}
            if connection.info.password:
                parameters["password"] = connection.info.password
            own = for_real(lambda: psycopg2.connect(**parameters))
            own.autocommit = True

            def query(text: str) -> list[Any]:
                def run() -> list[Any]:
                    with own.cursor() as cursor:
                        cursor.execute(text)
                        return list(cursor.fetchall())

                return for_real(run)  # type: ignore[no-any-return]

            return query, own.close

        return connect


def _unset_psycopg2(connection: Any, execute: Any) -> None:
    def run() -> None:
        was_idle = connection.info.transaction_status == 0
        with connection.cursor() as own:
            execute(own, UNSET)
        if was_idle and not connection.autocommit:
            connection.commit()

    for_real(run)


# --- asyncpg ----------------------------------------------------------------------------------------


def asyncpg_patches(here: Here) -> list[Patch]:
    """Return the patch of `asyncpg`: it waits in asyncio, and only who is in whose way is not known there."""
    from asyncpg import connect_utils, connection, protocol

    def connects(real: Callable[..., Any]) -> Callable[..., Any]:
        async def connect(*args: Any, **kwargs: Any) -> Any:
            connection = await real(*args, **kwargs)
            world = here()
            if world is not None and importlib.util.find_spec("psycopg") is not None:
                _know_asyncpg(world, connection)
            return connection

        return connect

    def sends(statement: int | None) -> Callable[[Any], Any]:
        """Return a function that makes a method from a real one. Its argument of that number is a statement."""

        def make(real: Callable[..., Any]) -> Callable[..., Any]:
            async def method(self: Any, *args: Any, **kwargs: Any) -> Any:
                world = here()
                if world is not None:
                    follows = await _asyncpg_clock(world, self, asks)
                    sql = getattr(args[0] if args else kwargs.get("state"), "query", None)
                    if statement is not None and len(args) > statement:
                        sql = world.border.database_clocks.statement(args[statement], follows)
                        args = (*args[:statement], sql, *args[statement + 1 :])
                    seams = seams_of(world, "sql")
                    about = None if seams is None or not sql else sql_call(sql)
                    if seams is not None and about is not None:
                        return await seams.around_async(
                            about[0],
                            lambda: real(self, *args, **kwargs),
                            _asyncpg_error,
                            always if about[1] else None,
                        )
                return await real(self, *args, **kwargs)

            return method

        return make

    def gets_statement(real: Callable[..., Any]) -> Callable[..., Any]:
        async def get(self: Any, query: str, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None:
                session = await _asyncpg_session_of(world.border.database_clocks, self._protocol, asks)
                query = world.border.database_clocks.statement(query, session)
            return await real(self, query, *args, **kwargs)

        return get

    asks = protocol.Protocol.query
    methods: dict[str, int | None] = {
        "query": 0, "copy_in": 0, "copy_out": 0, "bind": None, "bind_execute": None, "bind_execute_many": None,
    }  # fmt: skip
    return [
        Attribute(connect_utils, "_connect", connects),
        Attribute(connection.Connection, "_get_statement", gets_statement),
        *(Attribute(protocol.Protocol, name, sends(statement)) for name, statement in methods.items()),
    ]


async def _asyncpg_session_of(clocks: Any, protocol: Any, asks: Any) -> Any:
    """Return what is known of a connection, after it was asked if it follows. None if nothing follows."""
    if not clocks.postgres_follows:
        return None
    session = clocks.session(protocol, lambda _: None)
    if session.follows is None:
        session.follows = False  # the question is a statement as well
        session.follows = await asks(protocol, _FOLLOWS, None) != "SELECT 0"
    return session


def _asyncpg_error(message: str) -> BaseException:
    from asyncpg import PostgresConnectionError

    error: BaseException = PostgresConnectionError(message)
    return error


_FOLLOWS = f"{IDENTIFY} having count(*) > 0"  # asyncpg tells how many rows there are


async def _asyncpg_clock(world: EnteredRig, protocol: Any, asks: Any) -> Any:
    """Tell the server the time before it gets a statement; return the session. None if nothing follows."""
    clocks = world.border.database_clocks
    session = await _asyncpg_session_of(clocks, protocol, asks)
    if session is not None and session.follows:
        setting = session.setting(clocks.now_us, not protocol.is_in_transaction())
        if setting is not None:
            await asks(protocol, setting, None)
    return session


def _know_asyncpg(world: EnteredRig, connection: Any) -> None:
    """Note the session of a connection, so that a wait for a lock of another session of this process is known."""
    conninfo = recognised(connection).parameters
    if str(conninfo["host"]).startswith("/"):
        return
    where = "asyncpg", conninfo["host"], conninfo["port"], conninfo["dbname"]
    sessions = world.border.database_sessions.of(where, lambda: libpq_session(conninfo))
    pid = connection.get_server_pid()
    sessions.pids.add(pid)
    fd = connection._transport.get_extra_info("socket").fileno()
    world.border.descriptors.exchange(fd).only_we_end_it = lambda: sessions.only_ours_block(pid)
