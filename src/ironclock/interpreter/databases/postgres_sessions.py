"""Sessions of the rig's own with PostgreSQL, over whichever driver is installed. They wait in real time."""

from __future__ import annotations

import importlib.util
from collections.abc import Callable
from typing import Any

from ...errors import DatabaseClockError
from ..border.helper_threads import HelperThread
from .postgres_clock import Query

Opener = Callable[[], tuple[Query, Callable[[], None]]]


_for_real: set[int] = set()  # not empty while psycopg2 is to wait for real


def waits_for_real() -> bool:
    """Return True if psycopg2 works for the rig itself."""
    return bool(_for_real)


def for_real(call: Callable[[], Any]) -> Any:
    """Make a call in which psycopg2 waits for real."""
    _for_real.add(1)
    try:
        return call()
    finally:
        _for_real.clear()


def opener(parameters: dict[str, Any], started: Callable[[], None]) -> tuple[Opener, str]:
    """Return a function that opens a session, and the name of the database in words.

    Parameters: `parameters` are in the words of libpq; `started` is called before a real thread starts.

    Raises `DatabaseClockError` if no driver is installed.
    """
    where = f"{parameters.get('host', 'the local socket')}:{parameters.get('port', 5432)}"
    name = f"the database {parameters.get('dbname', parameters.get('user', 'postgres'))} on {where}"
    if importlib.util.find_spec("psycopg") is not None:
        return lambda: libpq_session(parameters), name
    if importlib.util.find_spec("psycopg2") is not None:
        return lambda: _psycopg2_session(parameters), name
    if importlib.util.find_spec("asyncpg") is not None:
        return lambda: _asyncpg_session(parameters, started), name
    raise DatabaseClockError(f"{name} needs a driver; install psycopg, psycopg2 or asyncpg")


def libpq_session(parameters: dict[str, Any]) -> tuple[Query, Callable[[], None]]:
    """Open a session with the functions of libpq, which wait for real."""
    from psycopg import OperationalError, ProgrammingError, pq
    from psycopg.conninfo import make_conninfo

    own = pq.PGconn.connect(make_conninfo("", **{**parameters, "application_name": "ironclock"}).encode())
    if own.status != pq.ConnStatus.OK:
        raise OperationalError(own.error_message.decode("utf-8", "replace").strip())

    def query(text: str) -> list[list[Any]]:
        result = own.exec_(text.encode())
        if result.status == pq.ExecStatus.FATAL_ERROR:
            raise ProgrammingError(result.error_message.decode("utf-8", "replace").strip())
        return [
            [None if (v := result.get_value(row, column)) is None else v.decode() for column in range(result.nfields)]
            for row in range(result.ntuples)
        ]

    return query, own.finish


def _psycopg2_session(parameters: dict[str, Any]) -> tuple[Query, Callable[[], None]]:
    import psycopg2

    own = for_real(lambda: psycopg2.connect(**{**parameters, "application_name": "ironclock"}))
    own.autocommit = True

    def query(text: str) -> list[list[Any]]:
        def run() -> list[list[Any]]:
            with own.cursor() as cursor:
                cursor.execute(text)
                return [] if cursor.description is None else [list(row) for row in cursor.fetchall()]

        return for_real(run)  # type: ignore[no-any-return]

    return query, own.close


def _asyncpg_session(parameters: dict[str, Any], started: Callable[[], None]) -> tuple[Query, Callable[[], None]]:
    """Open a session with asyncpg, whose event loop runs on a real thread."""
    import asyncio

    import asyncpg

    helper = HelperThread(started)
    names = {"dbname": "database", "sslmode": "ssl"}
    options = {names.get(name, name): value for name, value in parameters.items() if name not in ("options",)}
    loop = asyncio.new_event_loop()

    def on_helper(make: Callable[[], Any]) -> Any:
        helper.begin(lambda: loop.run_until_complete(make()))
        return helper.end()

    try:
        own = on_helper(lambda: asyncpg.connect(**options, server_settings={"application_name": "ironclock"}))
    except BaseException:
        helper.close()
        raise

    def query(text: str) -> list[list[Any]]:
        if text.lstrip().lower().startswith("select"):
            return [list(row) for row in on_helper(lambda: own.fetch(text))]
        on_helper(lambda: own.execute(text))
        return []

    def end() -> None:
        try:
            on_helper(own.close)
        finally:
            helper.close()

    return query, end
