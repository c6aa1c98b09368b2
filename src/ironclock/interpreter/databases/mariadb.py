"""MariaDB and MySQL: the drivers tell each session the time before a statement, if the clock has moved.

The session variable `timestamp` sets NOW(), CURRENT_TIMESTAMP, defaults, ON UPDATE and triggers
(https://mariadb.com/kb/en/server-system-variables/#timestamp).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ..patching.builtin_patching import Here
from ..patching.late_patches import Attribute, Patch

_UNSET = "SET timestamp = DEFAULT"


def _method(here: Here, unset: Callable[[Any, Any], None]) -> Callable[[Any], Any]:
    """Return a function that makes, from a method that sends a statement, one that tells the time before."""

    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        def query(self: Any, sql: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None and not getattr(self, "unread_result", False):
                clocks = world.border.database_clocks
                setting = clocks.mariadb_statement(self, sql, lambda one: unset(one, real))
                if setting is not None:
                    real(self, _as(sql, setting))
            return real(self, sql, *args, **kwargs)

        return query

    return make


def _async_method(here: Here) -> Callable[[Any], Any]:
    def make(real: Callable[..., Any]) -> Callable[..., Any]:
        async def query(self: Any, sql: Any, *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None:
                clocks = world.border.database_clocks
                setting = clocks.mariadb_statement(self, sql, lambda one: _unset_when_used(one, real))
                if setting is not None:
                    await real(self, _as(sql, setting))
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
    from pymysql.connections import Connection

    return [
        Attribute(Connection, "query", _method(here, _unset)),
        Attribute(Connection, "connect", _forgets(here)),
    ]


def aiomysql_patches(here: Here) -> list[Patch]:
    """Return the patches of `aiomysql`."""
    from aiomysql.connection import Connection

    return [Attribute(Connection, "query", _async_method(here)), Attribute(Connection, "_connect", _forgets(here))]


def mysqldb_patches(here: Here) -> list[Patch]:
    """Return the patches of `MySQLdb`."""
    from MySQLdb.connections import Connection

    return [Attribute(Connection, "query", _method(here, _unset))]


def connector_patches(here: Here) -> list[Patch]:
    """Return the patches of `mysql.connector`."""
    from mysql.connector.connection import MySQLConnection

    resets = [Attribute(MySQLConnection, name, _forgets(here)) for name in ("cmd_reset_connection", "cmd_change_user")]
    return [Attribute(MySQLConnection, "cmd_query", _method(here, _unset)), *resets]
