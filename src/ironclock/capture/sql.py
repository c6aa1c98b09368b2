"""One way to use a database, whatever the application has: DB-API 2.0 (PEP 249), SQLAlchemy, Django, or a URL."""

from __future__ import annotations

import contextlib
import importlib.util
import sys
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any, Protocol
from urllib.parse import unquote, urlsplit

from ..errors import InputError
from ..interpreter.databases.postgres_clock import VERSION as POSTGRES_VERSION


class Source(Protocol):
    """Where statements go."""

    def in_transaction(self) -> bool:
        """Return True if the application has a transaction open in the same connection."""

    def run(self, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]], writes: bool) -> list[Any]:
        """Run a statement, with a question mark for each value. `take` gets the result and returns its rows."""

    def close(self) -> None:
        """Close what was opened here."""


class Database:
    """A database that the application uses.

    Parameters: `given` is a DB-API connection; an engine, a session maker, a session or a connection of SQLAlchemy (an
    async engine as well); a connection of Django; a URL; or a function that returns one of these. `unseen` is a block
    around each statement: it is the rig's own, and not one of the code under test. `requests` returns how many requests
    the code under test has sent, or -1 if nobody knows.

    Raises `InputError`.
    """

    def __init__(
        self, given: Any, unseen: Callable[[], AbstractContextManager[Any]] = nullcontext,
        requests: Callable[[], int] = lambda: -1,
    ) -> None:  # fmt: skip
        self._source = _source(given)
        self._unseen = unseen
        self._version_sql: str | None = None
        self._requests: Callable[[], int] = requests
        self._version: tuple[int, Any] = -1, None  # as it was after so many requests

    def in_transaction(self) -> bool:
        """Return True if a transaction is open on the connection. False if its driver does not tell."""
        return self._source.in_transaction()

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query; return its rows. `sql` has a question mark for each value."""
        with self._unseen():
            return self._source.run(sql, values, lambda result: [tuple(row) for row in result.fetchall()], False)

    def columns(self, table: str) -> list[str]:
        """Return the names of the columns of a table. Raises what the driver raises if it is not there."""
        names: list[str] = []

        def take(result: Any) -> list[Any]:
            described = getattr(result, "description", None)
            names.extend(column[0] for column in described) if described else names.extend(result.keys())
            return []

        with self._unseen():
            self._source.run(f"select * from {table} where 1 = 0", (), take, False)
        return names

    def change(self, sql: str, values: Sequence[Any]) -> None:
        """Run a statement, and commit, unless the application has a transaction open in the same connection."""
        with self._unseen():
            self._source.run(sql, values, lambda result: [], True)

    def version(self) -> Any:
        """Return a value that is another one after every change of the database. None if its kind is not known."""
        if self._version_sql is None:
            for sql in _VERSIONS:
                with contextlib.suppress(Exception):
                    self.rows(sql)
                    self._version_sql = sql
                    break
            else:
                self._version_sql = ""
        if not self._version_sql:
            return None
        if self._version_sql != POSTGRES_VERSION:
            return self.rows(self._version_sql)
        asked, version = self._version
        if asked < 0 or asked != self._requests():
            version = self.rows(self._version_sql)
            self._version = self._requests(), version
        return version

    def close(self) -> None:
        """Close what was opened here."""
        self._source.close()


_VERSIONS = (
    "select data_version, total_changes() from pragma_data_version",  # SQLite: of others, and of this connection
    POSTGRES_VERSION,
    "select sum(variable_value) from information_schema.global_status where variable_name in "
    "('INNODB_ROWS_INSERTED', 'INNODB_ROWS_UPDATED', 'INNODB_ROWS_DELETED')",  # MariaDB
    "select sum(variable_value) from performance_schema.global_status where variable_name in "
    "('Innodb_rows_inserted', 'Innodb_rows_updated', 'Innodb_rows_deleted')",  # MySQL
)


def _source(given: Any) -> Source:
    if isinstance(given, str):
        return _of_url(given)
    if hasattr(given, "settings_dict") and hasattr(given, "savepoint_ids"):
        from django.db import connections

        return _Django(connections[given.alias])  # and not that of whatever thread runs when it is used
    engine = _engine(given)
    if engine is not None:
        return _Engine(engine)
    if _is_connection(given) or callable(given):
        return _Connection(given)
    raise InputError(
        f"the connection is {given!r}; give a database connection, an engine or a session maker of SQLAlchemy, "
        "django.db.connection, a URL, or a function that returns one"
    )


class _Connection:
    """A connection, or a function that returns the one that is open now."""

    def __init__(self, given: Any) -> None:
        self._given = given

    @property
    def _connection(self) -> Any:
        given = self._given
        if not _is_connection(given):
            given = given()
            if not _is_connection(given):
                raise InputError(f"{self._given!r} returned {given!r}; it must return a database connection")
        if hasattr(given, "get_bind"):  # a session of SQLAlchemy
            return given.connection()
        return given

    def in_transaction(self) -> bool:
        given = self._given
        if hasattr(given, "get_bind"):
            return bool(given.in_transaction())
        connection = self._connection
        told = getattr(connection, "in_transaction", None)
        if told is not None:
            return bool(told() if callable(told) else told)
        info = getattr(connection, "info", None)
        return getattr(info, "transaction_status", 0) not in (0, None)

    def run(self, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]], writes: bool) -> list[Any]:
        before = self.in_transaction()
        connection = self._connection
        # A session of SQLAlchemy ends its transaction itself.
        ends = self._given if hasattr(self._given, "get_bind") else connection
        try:
            result = _run(connection, sql, values, take)
        except Exception:
            if not before and self.in_transaction():
                ends.rollback()
            raise
        if not before and self.in_transaction():
            ends.commit() if writes else ends.rollback()
        return result

    def close(self) -> None:
        """Do nothing: it is the application's."""


class _Django:
    """A connection of Django. What is open when the rig begins is the test's own, and goes on for ever."""

    def __init__(self, connection: Any) -> None:
        self._connection = connection
        self._depth = self._open_blocks()

    def _open_blocks(self) -> int:
        return len(self._connection.savepoint_ids) + bool(self._connection.in_atomic_block)

    def in_transaction(self) -> bool:
        return self._open_blocks() > self._depth or (not self._connection.get_autocommit() and not self._depth)

    def run(self, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]], writes: bool) -> list[Any]:
        self._connection.inc_thread_sharing()  # a worker's thread can look as well
        try:
            with self._connection.cursor() as cursor:
                cursor.execute(_in_style(sql, list(values), "format")[0], list(values) or None)
                return take(cursor)  # without a block of `atomic` it is committed
        finally:
            self._connection.dec_thread_sharing()

    def close(self) -> None:
        """Do nothing: it is the application's."""


class _Engine:
    """An engine of SQLAlchemy. The rig has one connection beside its pool, and sees what is committed."""

    def __init__(self, engine: Any) -> None:
        self._engine = engine
        # A pool of one connection, as for a database in memory, gives the application's own.
        self._shares = type(engine.pool).__name__ in _POOLS_OF_ONE
        self._own: Any = None
        self._connection: Any = None

    def _connected(self) -> Any:
        if self._connection is None:
            if self._shares:
                self._connection = self._engine.connect()
            else:
                from sqlalchemy.engine import Engine

                self._own = Engine(self._engine.pool.recreate(), self._engine.dialect, self._engine.url)
                self._connection = self._own.connect().execution_options(isolation_level="AUTOCOMMIT")
        return self._connection

    def in_transaction(self) -> bool:
        if not self._shares:
            return False
        raw = self._connected().connection.dbapi_connection
        return bool(getattr(raw, "in_transaction", False))

    def run(self, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]], writes: bool) -> list[Any]:
        if self._shares:
            return _Connection(self._connected()).run(sql, values, take, writes)
        return _run(self._connected(), sql, values, take)

    def close(self) -> None:
        """Close the rig's own connection."""
        connection, self._connection = self._connection, None
        if connection is not None:
            if self._own is not None:
                # It commits after each statement, so that nothing is rolled back. A suspended task can be using it, and
                # a rollback would wait for that one.
                connection.invalidate()
            connection.close()
        if self._own is not None:
            self._own.dispose()
            self._own = None


_POOLS_OF_ONE = ("StaticPool", "SingletonThreadPool")


class _Opened:
    """A connection that is opened when it is needed."""

    def __init__(self, connect: Callable[[], Any]) -> None:
        self._connect = connect
        self._connection: Any = None

    def in_transaction(self) -> bool:
        return False

    def run(self, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]], writes: bool) -> list[Any]:
        if self._connection is None:
            self._connection = self._connect()
        return _Connection(self._connection).run(sql, values, take, writes)

    def close(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None


_SYNC_DRIVERS = {"aiosqlite": "pysqlite", "asyncpg": "psycopg", "aiomysql": "pymysql", "asyncmy": "pymysql"}


def _engine(given: Any) -> Any:
    """Return the engine of SQLAlchemy behind something. None for anything else, and for one connection."""
    if hasattr(given, "get_bind") or hasattr(given, "exec_driver_sql"):
        return None  # a session or a connection, which can have a transaction open
    bind = given.kw.get("bind") if isinstance(getattr(given, "kw", None), dict) else given
    bind = getattr(bind, "sync_engine", bind)
    url = getattr(bind, "url", None)
    if url is None or not hasattr(url, "drivername") or not hasattr(bind, "pool"):
        return None
    driver = url.get_driver_name()
    if driver not in _SYNC_DRIVERS:
        return bind
    from sqlalchemy import create_engine

    other = _SYNC_DRIVERS[driver]
    if other == "psycopg" and importlib.util.find_spec("psycopg") is None:
        other = "psycopg2"
    return create_engine(url.set(drivername=f"{url.get_backend_name()}+{other}"))


def _of_url(text: str) -> Source:
    parts = urlsplit(text)
    scheme, _, driver = parts.scheme.partition("+")
    if not parts.scheme or "://" not in text:
        raise InputError(f"the connection is {text!r}; give a URL, such as 'postgresql://tern@127.0.0.1/bookings'")
    if scheme in ("postgresql", "postgres"):
        known = _SYNC_DRIVERS.get(driver, driver) or _default_driver("postgresql")
        if known in ("psycopg", "psycopg2") and importlib.util.find_spec(known) is not None:
            return _Opened(lambda: _postgres(known, text[len(parts.scheme) :]))
    if importlib.util.find_spec("sqlalchemy") is not None:
        from sqlalchemy import create_engine
        from sqlalchemy.exc import ArgumentError, NoSuchModuleError

        scheme = {"postgres": "postgresql"}.get(scheme, scheme)
        driver = _SYNC_DRIVERS.get(driver, driver) or _default_driver(scheme)
        try:
            return _Engine(create_engine(f"{scheme}{'+' * bool(driver)}{driver}{text[len(parts.scheme) :]}"))
        except (ArgumentError, NoSuchModuleError, ImportError) as error:
            raise InputError(f"the connection is {text!r}, and SQLAlchemy cannot use that: {error}") from None
    if scheme == "sqlite":
        import sqlite3

        path = unquote(parts.path)[1:]
        return _Opened(lambda: sqlite3.connect(path or ":memory:", check_same_thread=False))
    raise InputError(f"the connection is {text!r}; install SQLAlchemy for this kind, or give a connection")


def _postgres(driver: str, rest: str) -> Any:
    """Open a connection to PostgreSQL that commits after each statement. Parameters: `rest` follows the scheme."""
    connection = importlib.import_module(driver).connect("postgresql" + rest)
    connection.autocommit = True
    return connection


def _default_driver(scheme: str) -> str:
    """Return the driver that is installed for a kind of database. Empty: SQLAlchemy's own choice."""
    known = {"postgresql": ("psycopg", "psycopg2"), "mysql": ("pymysql", "MySQLdb"), "mariadb": ("pymysql", "MySQLdb")}
    for driver in known.get(scheme, ()):
        if importlib.util.find_spec(driver) is not None:
            return {"MySQLdb": "mysqldb"}.get(driver, driver)
    return ""


def _run(connection: Any, sql: str, values: Sequence[Any], take: Callable[[Any], list[Any]]) -> list[Any]:
    driver = getattr(connection, "exec_driver_sql", None)
    text, given = _in_style(sql, list(values), _style(connection))
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
    return hasattr(thing, "commit") and any(hasattr(thing, name) for name in ("cursor", "exec_driver_sql", "get_bind"))


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
