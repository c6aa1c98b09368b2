"""MariaDB: what a session waits for in the server lasts simulated time, and ends with the server's own answer."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from typing import Any

import pytest
from servers import MariaDB, mariadb_missing

import ironclock as ic

pytestmark = [
    pytest.mark.skipif(bool(mariadb_missing()), reason=mariadb_missing()),
    pytest.mark.xdist_group("mariadb waits"),
    pytest.mark.rig(stuck_after=15),
]
Ask = Callable[[str], Any]


@pytest.fixture(scope="module")
def port() -> Iterator[int]:
    with MariaDB() as running:
        with closing(_pymysql(running.port, True)) as one, one.cursor() as cursor:
            cursor.execute("create database tern")
            cursor.execute("create table tern.berths (id int primary key, boats int) engine=innodb")
            cursor.execute("insert into tern.berths values (1, 0)")
        yield running.port


def _pymysql(port: int, autocommit: bool) -> Any:
    import pymysql

    return pymysql.connect(host="127.0.0.1", port=port, user="root", autocommit=autocommit)


def _connector(port: int, autocommit: bool) -> Any:
    from mysql import connector

    return connector.connect(host="127.0.0.1", port=port, user="root", autocommit=autocommit, use_pure=True)


DRIVERS = {"pymysql": _pymysql, "mysql.connector": _connector}


class Session:
    """A connection, and how long each of its statements took."""

    def __init__(self, connection: Any) -> None:
        self.connection = connection
        self.took = 0.0

    def __call__(self, sql: str) -> Any:
        """Return the first value of the answer, or the number of the error."""
        begin = time.monotonic()
        try:
            with self.connection.cursor() as cursor:
                cursor.execute(sql)
                return cursor.fetchall()[0][0] if cursor.description else None
        except Exception as error:
            return getattr(error, "errno", None) or error.args[0]
        finally:
            self.took = time.monotonic() - begin


@pytest.fixture(params=DRIVERS)
def connect(request: pytest.FixtureRequest, port: int, rig: ic.Rig) -> Callable[..., Session]:
    given = _pymysql(port, True)
    rig.database(given)
    given.close()
    return lambda autocommit=True: Session(DRIVERS[request.param](port, autocommit))


def together(*works: Callable[[], None]) -> None:
    threads = [threading.Thread(target=work) for work in works]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()


def test_a_row_lock_is_waited_for_up_to_its_timeout(rig: ic.Rig, connect: Callable[..., Session]) -> None:
    seen = {}

    def holds() -> None:
        one = connect(autocommit=False)
        one("update tern.berths set boats = boats + 1")
        time.sleep(60)
        one.connection.commit()

    def waits(limit: int) -> None:
        time.sleep(1)
        one = connect(autocommit=False)
        if limit != 50:  # which is the server's default
            one(f"set innodb_lock_wait_timeout = {limit}")
        answer = one("update tern.berths set boats = boats + 1")
        seen[limit] = answer, one.took
        one.connection.rollback()

    together(holds, *(lambda limit=limit: waits(limit) for limit in (3, 50, 100)))  # type: ignore[misc]
    assert seen == {3: (1205, 3), 50: (1205, 50), 100: (None, 59)}


def test_a_limit_that_is_over_in_the_server_first_on_a_slow_machine(
    rig: ic.Rig, connect: Callable[..., Session]
) -> None:
    libc = ctypes.CDLL(None)

    def holds() -> None:
        one = connect(autocommit=False)
        one("update tern.berths set boats = boats + 1")
        for _ in range(4):  # two simulated seconds, which cost three real ones
            time.sleep(0.5)
            libc.usleep(700_000)
        one.connection.rollback()

    def waits() -> None:
        one = connect(autocommit=False)
        one("set innodb_lock_wait_timeout = 1")
        time.sleep(0.1)
        assert (one("update tern.berths set boats = boats + 1"), round(one.took, 3)) == (1205, 1)
        assert one("update tern.berths set boats = boats + 1") is None
        one.connection.rollback()

    together(holds, waits)


def test_a_table_lock_too(rig: ic.Rig, connect: Callable[..., Session]) -> None:
    def holds() -> None:
        one = connect(autocommit=False)
        one("select boats from tern.berths")
        time.sleep(60)
        one.connection.commit()

    def waits() -> None:
        time.sleep(1)
        one = connect()
        one("set lock_wait_timeout = 4")
        assert (one("alter table tern.berths comment = 'quay'"), one.took) == (1205, 4)

    together(holds, waits)


def test_a_named_lock_is_waited_for_in_order(rig: ic.Rig, connect: Callable[..., Session]) -> None:
    seen = {}

    def holds() -> None:
        one = connect()
        assert one("select get_lock('nightly', 1)") == 1
        assert one("select get_lock('nightly', 5)") == 1  # it has it already
        time.sleep(30)
        one("do release_all_locks()")

    def waits(limit: int, after: int, holds_s: int) -> None:
        time.sleep(after)
        one = connect()
        answer = one(f"select get_lock('nightly', {limit})")
        seen[limit] = answer, one.took
        time.sleep(holds_s)
        one.connection.close()

    together(
        holds, lambda: waits(5, 1, 0), lambda: waits(100, 2, 10), lambda: waits(101, 3, 10), lambda: waits(32, 4, 0)
    )  # fmt: skip
    assert seen == {5: (0, 5), 100: (1, 28), 101: (1, 37), 32: (0, 32)}


def test_sleep_and_the_limit_of_a_statement(rig: ic.Rig, connect: Callable[..., Session]) -> None:
    one = connect()
    assert (one("select sleep(1)"), one.took) == (0, 1)
    assert (one("do sleep(2.5)"), one.took) == (None, 2.5)
    assert (one("set statement max_statement_time = 1 for select sleep(7)"), one.took) == (1969, 1)
    one("set max_statement_time = 2")
    assert (one("select sleep(5)"), one.took) == (1969, 2)
    assert (one("select sleep(1)"), one.took) == (0, 1)
    one("set max_statement_time = 0")
    assert (one("select sleep(3600)"), one.took) == (0, 3600)
    assert not rig.loose_ends()


def test_what_cannot_follow_is_a_loose_end(rig: ic.Rig, connect: Callable[..., Session]) -> None:
    one = connect()
    one("select boats, sleep(0.01) from tern.berths")
    one("create event tern.tide on schedule every 1 hour do update tern.berths set boats = 0")
    one("drop event tern.tide")
    assert [line.split("; ")[0].split(" [")[0] for line in rig.loose_ends()] == [
        "a database reads its real clock: select boats, sleep(0.01) from tern.berths",
        "a database reads its real clock: create event tern.tide on schedule every 1 hour do update tern.berths set "
        "boats = 0",
    ]
    rig.allow("real clocks")


def test_without_the_rigs_clock_a_wait_is_a_loose_end(rig: ic.Rig, port: int) -> None:
    with closing(_pymysql(port, True)) as one, one.cursor() as cursor:
        cursor.execute("select get_lock('nightly', 0.01)")
    assert "rig.database" in rig.loose_ends()[0]
    rig.allow("real clocks")


def test_a_connection_that_idles_too_long_is_closed(rig: ic.Rig, connect: Callable[..., Session]) -> None:
    answers = []

    def works() -> None:
        one = connect()
        for idle in (28_799, 28_801):  # the server's default is eight hours
            one("select 1")
            time.sleep(idle)
            answers.append(one("select 1"))
        with contextlib.suppress(Exception):
            one.connection.close()

    together(works)
    assert answers == [1, 2013]
    mine = connect()  # that of the test itself looks at the rest
    assert mine("select 1") == 1
    rig.advance("2d")
    assert mine("select 1") == 1


def test_async_sessions(rig: ic.Rig, port: int) -> None:
    aiomysql = pytest.importorskip("aiomysql")
    seen: list[Any] = []

    async def story() -> None:
        async def ask(one: Any, sql: str) -> Any:
            begin = time.monotonic()
            async with one.cursor() as cursor:
                try:
                    await cursor.execute(sql)
                    return (await cursor.fetchall() or ((None,),))[0][0], round(time.monotonic() - begin, 1)
                except Exception as error:
                    return error.args[0], round(time.monotonic() - begin, 1)

        async def connect() -> Any:
            return await aiomysql.connect(host="127.0.0.1", port=port, user="root")

        async def holds() -> None:
            one = await connect()
            await ask(one, "update tern.berths set boats = boats + 1")
            await ask(one, "select get_lock('nightly', 1)")
            await asyncio.sleep(20)
            await one.commit()
            one.close()

        async def waits(*statements: str) -> None:
            await asyncio.sleep(1)
            one = await connect()
            for sql in statements:
                seen.append((sql, *await ask(one, sql)))
            one.close()

        await asyncio.gather(
            holds(),
            waits("set innodb_lock_wait_timeout = 3", "update tern.berths set boats = boats + 1"),
            waits("select get_lock('nightly', 5)", "select get_lock('nightly', 50)", "select sleep(2)"),
        )

    given = _pymysql(port, True)
    rig.database(given)
    given.close()
    asyncio.run(story())
    # A coroutine looks every 0.05 s if a named lock is free, and can be one look late if the server answers slowly.
    assert [(sql, answer, pytest.approx(took, abs=0.11)) for sql, answer, took in sorted(seen)] == [
        ("select get_lock('nightly', 5)", 0, 5), ("select get_lock('nightly', 50)", 1, 14), ("select sleep(2)", 0, 2),
        ("set innodb_lock_wait_timeout = 3", None, 0), ("update tern.berths set boats = boats + 1", 1205, 3),
    ]  # fmt: skip
