"""One way to use a database: a DB-API 2.0 connection (PEP 249), or a connection of SQLAlchemy."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from typing import Any

from ..errors import InputError


class Database:
    """A connection, or a function that returns the one that is open now."""

    def __init__(self, connection: Any) -> None:
        self._given = connection
        if not _is_connection(connection) and not callable(connection):
            raise InputError(
                f"the connection is {connection!r}; give a database connection, or a function that returns one"
            )

    @property
    def _connection(self) -> Any:
        if _is_connection(self._given):
            return self._given
        found = self._given()
        if not _is_connection(found):
            raise InputError(f"{self._given!r} returned {found!r}; it must return a database connection")
        return found

    def in_transaction(self) -> bool:
        """Return True if a transaction is open on the connection. False if its driver does not tell."""
        connection = self._connection
        told = getattr(connection, "in_transaction", None)
        if told is not None:
            return bool(told() if callable(told) else told)
        info = getattr(connection, "info", None)
        return getattr(info, "transaction_status", 0) not in (0, None)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query; return its rows. `sql` has a question mark for each value."""
        return self._run(sql, values, lambda result: [tuple(row) for row in result.fetchall()])

    def change(self, sql: str, values: Sequence[Any]) -> None:
        """Run a statement."""
        self._run(sql, values, lambda result: [])

    def commit(self) -> None:
        """Commit."""
        self._connection.commit()

    def end_query(self) -> None:
        """End the transaction that a query has opened."""
        if self.in_transaction():
            self._connection.rollback()

    def _run(self, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]]) -> list[Any]:
        connection = self._connection
        driver = getattr(connection, "exec_driver_sql", None)
        style = _style(connection)
        text, given = _in_style(sql, list(values), style)
        if driver is not None:
            # SQLAlchemy gives the text to the driver as it is.
            return take(driver(text, given if isinstance(given, dict) else tuple(given)) if values else driver(text))
        cursor = connection.cursor()
        try:
            cursor.execute(text, given) if values else cursor.execute(text)
            return take(cursor)
        finally:
            cursor.close()


def _is_connection(thing: Any) -> bool:
    return hasattr(thing, "commit") and (hasattr(thing, "cursor") or hasattr(thing, "exec_driver_sql"))


def _style(connection: Any) -> str:
    dialect = getattr(connection, "dialect", None)
    if dialect is not None:
        return str(getattr(dialect.dbapi, "paramstyle", dialect.paramstyle))
    module = type(connection).__module__
    while module:
        style = getattr(sys.modules.get(module), "paramstyle", None)
        if style is not None:
            return str(style)
        module = module.rpartition(".")[0]
    return "qmark"


def _in_style(sql: str, values: list[Any], style: str) -> tuple[str, Any]:
    parts = sql.split("?")
    if style in ("format", "pyformat"):
        return "%s".join(part.replace("%", "%%") if values else part for part in parts), values
    if style in ("numeric", "numeric_dollar", "named"):
        mark = "$" if style == "numeric_dollar" else ":p" if style == "named" else ":"
        text = parts[0] + "".join(f"{mark}{n}{part}" for n, part in enumerate(parts[1:], 1))
        return text, {f"p{n}": value for n, value in enumerate(values, 1)} if style == "named" else values
    return sql, values
