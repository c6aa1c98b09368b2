"""psycopg 3: its clock, its waits and its seams. It waits in `psycopg.waiting.wait`, looked up at each call."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from ..databases.postgres_clock import UNSET, VERSION
from ..patching.builtin_patching import Here
from ..patching.clock_functions import waiting_ns
from ..patching.patches import Attribute, Patch
from ..patching.real_functions import real_fstat
from .call_seams import CallSeams, always, seams_of, sql_call
from .postgres import LIMITS, asks_server, session_asks, wait_ready

if TYPE_CHECKING:
    from ..databases.database_clocks import DatabaseClocks
    from ..entered_rig import EnteredRig
_LONG_S = 1e6
_NO_CHANGE = ("UPDATE 0", "DELETE 0")  # what the server says of a statement that has found nothing to do


def _cursor_of(gen: Any) -> Any:
    """Return the cursor that a generator works for. None if it works for none."""
    frame = getattr(gen, "gi_frame", None)
    return None if frame is None or gen.__name__ != "_execute_gen" else frame.f_locals.get("self")


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
                requests, cursor = world.loop.requests, _cursor_of(gen)
                _psycopg_clock(world, self, gen)
                _psycopg_asks(world, self, gen)
                result = real(self, gen, *args, **kwargs)
                if world.loop.requests == requests + 1 and getattr(cursor, "statusmessage", "") in _NO_CHANGE:
                    world.loop.requests = requests
                return result

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
        *(
            Attribute(waiting, name, lambda real: _without_steps(real, here))
            for name in ("wait_conn", "wait_async", "wait_conn_async")
            if hasattr(waiting, name)
        ),
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
    from psycopg import pq

    if connection.pgconn.transaction_status != pq.TransactionStatus.ACTIVE:  # a task of the rig waits in its statement
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
    if name.startswith("_execute") and gen.gi_frame.f_locals.get("query") == VERSION:
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
    from psycopg import pq

    begins = pgconn.transaction_status == pq.TransactionStatus.IDLE
    world.border.database_uses.note(connection, _take_back_psycopg, begins)
    idle = getattr(gen, "__name__", "") == "notifies"
    exchange = asks_server(world, fd, idle)
    if pid > 0 and not idle:
        server = "psycopg", pgconn.host, pgconn.port, pgconn.db
        limit_s = _psycopg_limit_s(world, connection, gen)
        session_asks(world, exchange, fd, server, pid, connection, limit_s)


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
    return int(pgconn.exec_(LIMITS.encode()).get_value(0, 0)) / 1000


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


def _without_steps(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return a wait that does not look for Ctrl-C in steps: each would be a simulated time that can pass."""

    def wait(gen: Any, *args: Any, **options: Any) -> Any:
        if options.get("interval") and here() is not None and getattr(gen, "__name__", "") != "notifies":
            options["interval"] = _LONG_S
        return real(gen, *args, **options)

    return wait


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
                ready = wait_ready(world, fileno, wanted, until, what)
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
