"""MariaDB and MySQL: the drivers tell each session the time before a statement, if the clock has moved.

The session variable `timestamp` sets NOW(), CURRENT_TIMESTAMP, defaults, ON UPDATE and triggers
(https://mariadb.com/kb/en/server-system-variables/#timestamp).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..border.call_seams import OwnError, always, seams_of, sql_call
from ..patching.builtin_patching import Here
from ..patching.late_patches import Attribute, Patch

_UNSET = "SET timestamp = DEFAULT"


def _method(here: Here, unset: Callable[[Any, Any], None], error: OwnError) -> Callable[[Any], Any]:
    """Return a function that makes, from a method that sends a statement, one that tells the time before.

    Parameters: `unset` gives the real time back to a connection. `error` makes the driver's error for a lost one.
    """

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def query(self: Any, sql: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None and not getattr(self, "unread_result", False):
                clocks = world.border.database_clocks
                setting = clocks.mariadb_statement(self, sql, lambda one: unset(one, real))
                if setting is not None:
                    real(self, _as(sql, setting))
                seams = seams_of(world, "sql")
                about = None if seams is None else sql_call(sql)
                if seams is not None and about is not None:
                    return seams.around(
                        about[0], lambda: real(self, sql, *args, **kwargs), error, always if about[1] else None
                    )
            return real(self, sql, *args, **kwargs)

        return query

    return make


def _commit(here: Here, error: OwnError) -> Callable[[Any], Any]:
    """Return a function that makes, from a method that commits, one with seams."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def commit(self: Any) -> Any:
            world = here()
            seams = seams_of(world, "sql")
            return real(self) if seams is None else seams.around("sql COMMIT", lambda: real(self), error, always)

        return commit

    return make


def _commit_async(here: Here, error: OwnError) -> Callable[[Any], Any]:
    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def commit(self: Any) -> Any:
            world = here()
            seams = seams_of(world, "sql")
            if seams is None:
                return await real(self)
            return await seams.around_async("sql COMMIT", lambda: real(self), error, always)

        return commit

    return make


def _async_method(here: Here, error: OwnError) -> Callable[[Any], Any]:
    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def query(self: Any, sql: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None:
                clocks = world.border.database_clocks
                setting = clocks.mariadb_statement(self, sql, lambda one: _unset_when_used(one, real))
                if setting is not None:
                    await real(self, _as(sql, setting))
                seams = seams_of(world, "sql")
                about = None if seams is None else sql_call(sql)
                if seams is not None and about is not None:
                    return await seams.around_async(
                        about[0], lambda: real(self, sql, *args, **kwargs), error, always if about[1] else None
                    )
            return await real(self, sql, *args, **kwargs)

        return query

    return make


def _unset_when_used(connection: Any, real: Callable[..., Any]) -> None:
    """Give the real time back before the next statement: nothing can be awaited when a rig is left."""

    async def query(sql: Any, *args: Any, **kwargs: Any) -> Any:
        del connection.query
        await real(connection, _as(sql, _UNSET))
        return await real(connection, sql, *args, **kwargs)

    connection.query = query


def _as(sql: Any, setting: str) -> Any:
    return setting.encode() if isinstance(sql, (bytes, bytearray)) else setting


def _forgets(here: Here) -> Callable[[Any], Any]:
    """Return a function that makes, from a method after which a session is new, one that knows so."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def method(self: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None:
                world.border.database_clocks.forget_mariadb(self)
            return real(self, *args, **kwargs)

        return method

    return make


def _unset(connection: Any, query: Any) -> None:
    query(connection, _UNSET)


def pymysql_patches(here: Here) -> list[Patch]:
    """Return the patches of `pymysql`."""
    from pymysql import OperationalError
    from pymysql.connections import Connection

    return [
        Attribute(Connection, "query", _method(here, _unset, OperationalError)),
        Attribute(Connection, "commit", _commit(here, OperationalError)),
        Attribute(Connection, "connect", _forgets(here)),
    ]


def aiomysql_patches(here: Here) -> list[Patch]:
    """Return the patches of `aiomysql`."""
    from aiomysql.connection import Connection
    from pymysql import OperationalError

    return [
        Attribute(Connection, "query", _async_method(here, OperationalError)),
        Attribute(Connection, "commit", _commit_async(here, OperationalError)),
        Attribute(Connection, "_connect", _forgets(here)),
    ]


def mysqldb_patches(here: Here) -> list[Patch]:
    """Return the patches of `MySQLdb`."""
    from MySQLdb import OperationalError
    from MySQLdb.connections import Connection

    return [
        Attribute(Connection, "query", _method(here, _unset, OperationalError)),
        Attribute(Connection, "commit", _commit(here, OperationalError)),
    ]


def connector_patches(here: Here) -> list[Patch]:
    """Return the patches of `mysql.connector`."""
    from mysql.connector import OperationalError
    from mysql.connector.connection import MySQLConnection

    resets = [Attribute(MySQLConnection, name, _forgets(here)) for name in ("cmd_reset_connection", "cmd_change_user")]
    return [Attribute(MySQLConnection, "cmd_query", _method(here, _unset, OperationalError)), *resets]
