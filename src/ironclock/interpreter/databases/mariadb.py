"""MariaDB and MySQL: the drivers tell each session the time before a statement, if the clock has moved.

The session variable `timestamp` sets NOW(), CURRENT_TIMESTAMP, defaults, ON UPDATE and triggers
(https://mariadb.com/kb/en/server-system-variables/#timestamp).
"""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Callable
from typing import Any

from ..border.call_seams import OwnError, always, seams_of, sql_call
from ..patching.builtin_patching import Here
from ..patching.patches import Attribute, Patch
from .mariadb_waits import DriverAccess, MariaDBWaits

_UNSET = "SET timestamp = DEFAULT"


def _method(
    here: Here, unset: Callable[[Any, Any], None], error: OwnError, driver: DriverAccess | None
) -> Callable[[Any], Any]:
    """Return a function that makes, from a method that sends a statement, one that tells the time before.

    Parameters: `unset` gives the real time back to a connection. `error` makes the driver's error for a lost one.
    `driver` says how to let waits in the server last simulated time. None: they cannot.
    """

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def query(self: Any, sql: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is None or getattr(self, "unread_result", False):
                return real(self, sql, *args, **kwargs)
            clocks = world.border.database_clocks
            as_text = _text(sql)

            def send(text: str) -> Any:
                setting = clocks.mariadb_statement(self, text, lambda one: unset(one, real))
                with clocks.working(self):
                    if setting is not None:
                        real(self, _as(sql, setting))
                    return real(self, sql if text == as_text else _as(sql, text), *args, **kwargs)

            def run() -> Any:
                if driver is None or not clocks.mariadb_follows:
                    clocks.must_not_wait(as_text)
                    return send(as_text)
                return world.border.mariadb_waits.run(world, driver, self, as_text, send)

            seams = seams_of(world, "sql")
            about = None if seams is None else sql_call(sql)
            if seams is None or about is None:
                return run()
            return seams.around(about[0], run, error, always if about[1] else None)

        return query

    return make


def _text(sql: Any) -> str:
    return sql.decode("utf-8", "surrogateescape") if isinstance(sql, (bytes, bytearray)) else str(sql)


def _as(sql: Any, text: str) -> Any:
    return text.encode("utf-8", "surrogateescape") if isinstance(sql, (bytes, bytearray)) else text


def _commit(here: Here, error: OwnError) -> Callable[[Any], Any]:
    """Return a function that makes, from a method that commits, one with seams."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def commit(self: Any) -> Any:
            world = here()
            seams = seams_of(world, "sql")
            try:
                return real(self) if seams is None else seams.around("sql COMMIT", lambda: real(self), error, always)
            finally:
                if world is not None:
                    world.border.mariadb_waits.freed(self)

        return commit

    return make


def _commit_async(here: Here, error: OwnError) -> Callable[[Any], Any]:
    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def commit(self: Any) -> Any:
            world = here()
            seams = seams_of(world, "sql")
            try:
                if seams is None:
                    return await real(self)
                return await seams.around_async("sql COMMIT", lambda: real(self), error, always)
            finally:
                if world is not None:
                    world.border.mariadb_waits.freed(self)

        return commit

    return make


def _async_method(here: Here, error: OwnError, driver: DriverAccess) -> Callable[[Any], Any]:
    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def query(self: Any, sql: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is None:
                return await real(self, sql, *args, **kwargs)
            clocks = world.border.database_clocks
            as_text = _text(sql)

            async def send(text: str) -> Any:
                setting = clocks.mariadb_statement(self, text, lambda one: _unset_when_used(one, real))
                if setting is not None:
                    await real(self, _as(sql, setting))
                return await real(self, sql if text == as_text else _as(sql, text), *args, **kwargs)

            async def run() -> Any:
                if not clocks.mariadb_follows:
                    clocks.must_not_wait(as_text)
                    return await send(as_text)
                return await world.border.mariadb_waits.run_async(world, driver, self, as_text, send)

            seams = seams_of(world, "sql")
            about = None if seams is None else sql_call(sql)
            if seams is None or about is None:
                return await run()
            return await seams.around_async(about[0], run, error, always if about[1] else None)

        return query

    return make


def _unset_when_used(connection: Any, real: Callable[..., Any]) -> None:
    """Give the real time back before the next statement: nothing can be awaited when a rig is left."""

    async def query(sql: Any, *args: Any, **kwargs: Any) -> Any:
        del connection.query
        await real(connection, _as(sql, _UNSET))
        return await real(connection, sql, *args, **kwargs)

    connection.query = query


def _forgets(here: Here) -> Callable[[Any], Any]:
    """Return a function that makes, from a method after which a session is new, one that knows so."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def method(self: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None:
                world.border.database_clocks.forget_mariadb(self)
                world.border.mariadb_waits.forget(self)
            return real(self, *args, **kwargs)

        return method

    return make


def _then(here: Here, note: Callable[[MariaDBWaits, Any], None]) -> Callable[[Any], Any]:
    """Return a function that makes, from a method, one after which something is noted of its connection."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def method(self: Any, *args: Any, **kwargs: Any) -> Any:
            result, world = real(self, *args, **kwargs), here()
            if world is not None:
                note(world.border.mariadb_waits, self)
            return result

        return method

    return make


def _then_awaited(here: Here, note: Callable[[MariaDBWaits, Any], None]) -> Callable[[Any], Any]:
    """Do what `_then` does for a method that is a coroutine."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def method(self: Any, *args: Any, **kwargs: Any) -> Any:
            result, world = await real(self, *args, **kwargs), here()
            if world is not None:
                note(world.border.mariadb_waits, self)
            return result

        return method

    return make


def _closes_socket(real: Callable[..., Any]) -> Callable[..., Any]:
    """Return a `close` of aiomysql that ends the session now: asyncio closes the socket in its next turn."""

    def close(self: Any) -> None:
        transport = None if self._writer is None else self._writer.transport
        real(self)
        if transport is not None and not transport.get_write_buffer_size():
            with contextlib.suppress(OSError):
                transport.get_extra_info("socket").shutdown(socket.SHUT_RDWR)

    return close


def _unset(connection: Any, query: Any) -> None:
    query(connection, _UNSET)


# --- drivers ----------------------------------------------------------------------------------------


def _copy_of(connection: Any) -> Callable[[], tuple[Callable[[str], list[Any]], Callable[[], None]]]:
    """Return what opens one more connection of pymysql, with the settings of a connection."""
    settings = {
        name: getattr(connection, name) for name in ("host", "port", "user", "password", "unix_socket", "bind_address")
    }
    ssl = connection.ctx if connection._secure else None
    return lambda: _opened(settings, ssl)


def _opened(settings: dict[str, Any], ssl: Any) -> tuple[Callable[[str], list[Any]], Callable[[], None]]:
    from pymysql.connections import Connection

    secured = {"ssl_disabled": True} if ssl is None else {"ssl": ssl}
    own = Connection(**settings, **secured, autocommit=True, program_name="ironclock")

    def query(text: str) -> list[Any]:
        with own.cursor() as cursor:
            cursor.execute(text)
            return list(cursor.fetchall())

    return query, own.close


def pymysql_patches(here: Here) -> list[Patch]:
    """Return the patches of `pymysql`."""
    from pymysql import OperationalError
    from pymysql.connections import Connection

    driver = DriverAccess(
        descriptor=lambda one: one._sock.fileno(),
        number=lambda one: one.thread_id(),
        rows=lambda one, _: list(one._result.rows),
        error=OperationalError,
        code_of=_first_argument,
        server=lambda one: (one.host, one.port, one.unix_socket),
        own=_copy_of,
    )
    return [
        Attribute(Connection, "query", _method(here, _unset, OperationalError, driver)),
        Attribute(Connection, "commit", _commit(here, OperationalError)),
        *(Attribute(Connection, name, _then(here, MariaDBWaits.freed)) for name in ("rollback", "begin", "autocommit")),
        Attribute(Connection, "connect", _forgets(here)),
        Attribute(Connection, "close", _then(here, MariaDBWaits.closed)),
    ]


def _first_argument(error: BaseException) -> int:
    return error.args[0] if error.args and isinstance(error.args[0], int) else 0


def aiomysql_patches(here: Here) -> list[Patch]:
    """Return the patches of `aiomysql`."""
    from aiomysql.connection import Connection
    from pymysql import OperationalError

    def own(connection: Any) -> Callable[[], tuple[Callable[[str], list[Any]], Callable[[], None]]]:
        settings = {name: getattr(connection, f"_{name}") for name in ("host", "port", "user", "unix_socket")}
        password = connection._password
        settings["password"] = password.encode() if isinstance(password, str) else password
        return lambda: _opened(settings, connection._ssl_context or None)

    driver = DriverAccess(
        descriptor=lambda one: one._writer.transport.get_extra_info("socket").fileno(),
        number=lambda one: one.thread_id(),
        rows=lambda one, _: list(one._result.rows),
        error=OperationalError,
        code_of=_first_argument,
        server=lambda one: (one._host, one._port, one._unix_socket),
        own=own,
    )
    return [
        Attribute(Connection, "query", _async_method(here, OperationalError, driver)),
        Attribute(Connection, "commit", _commit_async(here, OperationalError)),
        *(
            Attribute(Connection, name, _then_awaited(here, MariaDBWaits.freed))
            for name in ("rollback", "begin", "autocommit")
        ),
        Attribute(Connection, "_connect", _forgets(here)),
        Attribute(Connection, "close", lambda real: _then(here, MariaDBWaits.closed)(_closes_socket(real))),
    ]


def mysqldb_patches(here: Here) -> list[Patch]:
    """Return the patches of `MySQLdb`."""
    from MySQLdb import OperationalError
    from MySQLdb.connections import Connection

    return [
        Attribute(Connection, "query", _method(here, _unset, OperationalError, None)),
        Attribute(Connection, "commit", _commit(here, OperationalError)),
    ]


def connector_patches(here: Here) -> list[Patch]:
    """Return the patches of `mysql.connector`. Its connections in C wait out of the rig's sight."""
    from mysql.connector import OperationalError, connect
    from mysql.connector.connection import MySQLConnection
    from mysql.connector.errors import get_exception

    def own(connection: Any) -> Callable[[], tuple[Callable[[str], list[Any]], Callable[[], None]]]:
        settings = {name: getattr(connection, f"_{name}") for name in ("host", "port", "user", "password")}
        if connection._unix_socket:
            settings["unix_socket"] = connection._unix_socket

        def opened() -> tuple[Callable[[str], list[Any]], Callable[[], None]]:
            one: Any = connect(**settings, use_pure=True, autocommit=True)

            def query(text: str) -> list[Any]:
                with one.cursor() as cursor:
                    cursor.execute(text)
                    return list(cursor.fetchall()) if cursor.description else []

            return query, one.close

        return opened

    driver = DriverAccess(
        descriptor=lambda one: one._socket.sock.fileno(),
        number=lambda one: one.connection_id,
        rows=lambda one, result: one.get_rows()[0] if "columns" in result else [],
        error=lambda number, words: get_exception(_packet(number, words)),
        code_of=lambda error: getattr(error, "errno", 0) or 0,
        server=lambda one: (one._host, one._port, one._unix_socket),
        own=own,
    )
    resets = [Attribute(MySQLConnection, name, _forgets(here)) for name in ("cmd_reset_connection", "cmd_change_user")]
    found: list[Patch] = [
        Attribute(MySQLConnection, "cmd_query", _method(here, _unset, OperationalError, driver)), *resets,
        Attribute(MySQLConnection, "close", _then(here, MariaDBWaits.closed)),
    ]  # fmt: skip
    try:
        from mysql.connector.connection_cext import CMySQLConnection
    except ImportError:
        return found
    return [*found, Attribute(CMySQLConnection, "cmd_query", _method(here, _unset, OperationalError, None))]


def _packet(number: int, words: str) -> bytes:
    """Return an error as the server sends it (https://mariadb.com/kb/en/err_packet/)."""
    return b"\0\0\0\1\xff" + number.to_bytes(2, "little") + b"#HY000" + words.encode()
