"""Databases: lock waits and clocks of real servers follow the rig; what a dead worker left open is taken back."""

from __future__ import annotations

import asyncio
import contextlib
import fcntl
import select
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from in_rig import START, clock, together
from postgres import PostgreSQL, missing
from servers import MariaDB, mariadb_missing

import ironclock as ic

# --- SQLite -----------------------------------------------------------------------------------------


@pytest.fixture
def path(tmp_path: Path) -> str:
    found = str(tmp_path / "tern.db")
    connection = sqlite3.connect(found)
    connection.execute("create table decks (n integer, at text default current_timestamp)")
    connection.execute("insert into decks (n) values (0)")
    connection.commit()
    connection.close()
    return found


def test_sqlite_waits_for_its_lock_as_its_busy_handler_says(path: str) -> None:
    log: list[Any] = []
    began = time.monotonic()
    with ic.Rig(start=START) as rig:

        def holds() -> None:
            connection = sqlite3.connect(path, isolation_level=None)
            connection.execute("begin immediate")
            time.sleep(1)
            connection.execute("commit")
            connection.close()

        def wants(patience: float) -> None:
            connection = sqlite3.connect(path, isolation_level=None, timeout=patience)
            try:
                connection.execute("begin immediate")
                log.append(("got it", rig.now.timestamp() % 60))
                connection.execute("rollback")
            except sqlite3.OperationalError as error:
                log.append((str(error), rig.now.timestamp() % 60))
            connection.close()

        together(rig, holds, lambda: wants(5), lambda: wants(0.5))
    assert log == [("database is locked", 0.5), ("got it", pytest.approx(1.028))]
    assert time.monotonic() - began < 2


def test_a_job_that_waits_for_sqlite_can_time_out_and_die(path: str) -> None:
    with ic.Rig(start=START) as rig:
        holder = sqlite3.connect(path, isolation_level=None)
        holder.execute("begin immediate")

        def writes() -> None:
            with contextlib.closing(sqlite3.connect(path, timeout=60)) as connection, connection:
                connection.execute("update decks set n = n + 1")

        timed = rig.enqueue(rig.job(writes, timeout="3s").call())
        rig.advance("10s")
        assert [attempt.outcome for attempt in timed.attempts] == ["timed-out"]
        killed = rig.enqueue(rig.job(writes, name="killed").call())
        rig.advance("2s")
        rig.stop_workers()
        rig.advance("1s")
        assert [attempt.outcome for attempt in killed.attempts] == ["cancelled"]
        holder.execute("rollback")
        holder.close()


def test_sqlites_own_clock_follows_in_every_connection(path: str) -> None:
    early = sqlite3.connect(path)
    real = early.execute("select datetime('now')").fetchone()[0]
    with ic.Rig(start=START) as rig:
        rig.advance("30s")
        late = sqlite3.connect(path)
        for connection in (early, late):
            asked = "select datetime('now'), unixepoch(), date('now', '+1 day')"
            assert connection.execute(asked).fetchone() == ("2031-03-29 21:00:30", 1932584430, "2031-03-30")
        late.execute("insert into decks (n) values (1)")
        late.commit()
        assert late.execute("select at from decks where n = 1").fetchone()[0] == "2031-03-29 21:00:30"
        late.close()
    assert early.execute("select datetime('now')").fetchone()[0] >= real
    assert early.execute("select datetime('now')").fetchone()[0] < "2031"
    early.close()


def test_sqlite_checks_threads_as_if_workers_were_real_ones(path: str) -> None:
    shared = sqlite3.connect(path)
    free = sqlite3.connect(path, check_same_thread=False)
    with ic.Rig() as rig:
        rig.workers(2)
        job = rig.enqueue(rig.job(lambda: shared.execute("select 1"), name="shared").call())
        own = rig.enqueue(rig.job(lambda: free.execute("select 1").fetchone()[0], name="free").call())
        rig.settle()
        assert isinstance(job.error, sqlite3.ProgrammingError)
        assert "created in the test's thread and this is the thread of worker w1" in str(job.error)
        assert own.result == 1
        assert shared.execute("select 1").fetchone() == (1,)
    shared.close()
    free.close()


def test_what_a_dead_worker_left_open_in_sqlite_is_rolled_back(path: str) -> None:
    shared = sqlite3.connect(path, check_same_thread=False)
    with ic.Rig() as rig:

        def load() -> None:
            shared.execute("insert into decks (n) values (7)")
            time.sleep(1)
            shared.commit()

        kind = rig.job(load)
        rig.faults.crash("load", at="sleep", attempts=1)
        job = rig.enqueue(kind.call())
        rig.run_dry()
        assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    assert shared.execute("select count(*) from decks where n = 7").fetchone() == (1,)
    shared.close()


def test_a_dead_workers_file_lock_is_released(tmp_path: Path) -> None:
    files = []
    with ic.Rig() as rig:

        def exclusive() -> None:
            file = (tmp_path / "pid").open("w")
            files.append(file)
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            time.sleep(5)
            fcntl.flock(file, fcntl.LOCK_UN)

        kind = rig.job(exclusive)
        rig.faults.crash("exclusive", at="sleep", attempts=1)
        job = rig.enqueue(kind.call())
        rig.run_dry()
        assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    for file in files:
        file.close()


def test_file_locks_are_waited_for_in_simulated_time(tmp_path: Path) -> None:
    with ic.Rig(start=START) as rig:
        rig.workers(2)

        def exclusive() -> str:
            with (tmp_path / "lock").open("w") as file:
                fcntl.flock(file, fcntl.LOCK_EX)
                time.sleep(10)
                return clock()

        kind = rig.job(exclusive)
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        rig.advance("1m")
    assert [job.result for job in jobs] == ["21:00:10", "21:00:20"]


# --- PostgreSQL -------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def server() -> Iterator[PostgreSQL]:
    if why := missing():
        pytest.skip(why)
    with PostgreSQL() as running:
        with running.connect() as connection:
            connection.execute("create table decks (id int primary key, n int)")
            connection.execute("insert into decks values (1, 0), (2, 0)")
        yield running


Driver = Callable[[], Any]


@pytest.fixture(params=["psycopg", "psycopg2", "sqlalchemy"])
def connect(request: pytest.FixtureRequest, server: PostgreSQL) -> Iterator[Driver]:
    if request.param == "psycopg":
        yield server.connect
        return
    if request.param == "psycopg2":
        psycopg2 = pytest.importorskip("psycopg2")
        where = {"host": "127.0.0.1", "port": server.port, "user": "tern", "dbname": "postgres"}
        yield lambda: psycopg2.connect(**where)
        return
    sqlalchemy = pytest.importorskip("sqlalchemy")
    engine = sqlalchemy.create_engine(f"postgresql+psycopg://tern@127.0.0.1:{server.port}/postgres", pool_size=5)
    yield lambda: _Alchemy(engine.connect())
    engine.dispose()


class _Alchemy:
    """A connection of SQLAlchemy with the few methods that the tests use."""

    def __init__(self, connection: Any) -> None:
        self._connection = connection
        self.commit, self.rollback, self.close = connection.commit, connection.rollback, connection.close

    def cursor(self) -> Any:
        return self

    def execute(self, text: str) -> Any:
        from sqlalchemy import text as sql

        self._found = self._connection.execute(sql(text))
        return self._found

    def fetchone(self) -> Any:
        return self._found.fetchone()


def run(connection: Any, text: str) -> Any:
    cursor = connection.cursor()
    cursor.execute(text)
    return cursor


def committed(connect: Driver, statement: str) -> Callable[[], str]:
    """A job that runs one statement in a transaction of its own, and returns when that was over."""

    def runs() -> str:
        connection = connect()
        run(connection, statement)
        connection.commit()
        connection.close()
        return clock()

    return runs


def test_a_row_lock_is_waited_for_until_the_other_tasks_commit(connect: Driver) -> None:
    log: list[Any] = []
    began = time.monotonic()
    with ic.Rig(start=START) as rig:

        def first() -> None:
            connection = connect()
            run(connection, "update decks set n = n + 1 where id = 1")
            time.sleep(60)
            connection.commit()
            log.append(("committed", clock()))
            connection.close()

        def second() -> None:
            time.sleep(5)
            connection = connect()
            run(connection, "update decks set n = n + 10 where id = 1")
            log.append(("updated", clock()))
            connection.commit()
            connection.close()

        together(rig, first, second, lambda: [time.sleep(1) for _ in range(100)])
    assert log == [("committed", "21:01:00"), ("updated", "21:01:00")]
    assert time.monotonic() - began < 5


def test_who_is_in_the_way_is_asked_when_the_first_connection_is_closed_already(connect: Driver) -> None:
    with ic.Rig(start=START) as rig:
        rig.workers(2)
        connect().close()
        job = rig.job(committed(connect, "update decks set n = n + 1 where id = 2"))
        first = connect()
        run(first, "update decks set n = 0 where id = 2")
        first.commit()
        first.close()
        mine = connect()
        run(mine, "update decks set n = 0 where id = 2")
        waits = rig.enqueue(job.call())
        rig.advance("1m")
        assert waits.state == "running"
        mine.commit()
        rig.settle()
        assert waits.result == "21:01:00"
        mine.close()


def test_advisory_locks_let_one_job_run_after_the_other(connect: Driver) -> None:
    with ic.Rig(start=START) as rig:
        rig.workers(2)

        def exclusive() -> str:
            connection = connect()
            run(connection, "select pg_advisory_xact_lock(7)")
            time.sleep(10)
            connection.commit()
            connection.close()
            return clock()

        kind = rig.job(exclusive)
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        rig.advance("1m")
    assert [job.result for job in jobs] == ["21:00:10", "21:00:20"]


def test_a_lock_that_the_test_itself_holds(connect: Driver) -> None:
    with ic.Rig(start=START) as rig:
        mine = connect()
        run(mine, "update decks set n = 0 where id = 2")

        job = rig.enqueue(rig.job(committed(connect, "update decks set n = n + 1 where id = 2"), name="adds").call())
        rig.advance("1m")
        assert job.state == "running"
        mine.commit()
        rig.advance("1m")
        assert job.result == "21:01:00"
        mine.close()


def test_a_slow_statement_takes_no_simulated_time(connect: Driver) -> None:
    with ic.Rig(start=START) as rig:
        job = rig.enqueue(rig.job(committed(connect, "select pg_sleep(0.5)"), name="slow").call())
        rig.advance("1m")
        assert job.result == "21:00:00"


def test_a_deadlock_that_the_server_finds_arrives_as_its_error(connect: Driver) -> None:
    ends: list[str] = []
    with ic.Rig(start=START) as rig:

        def crosses(one: int, other: int) -> None:
            connection = connect()
            try:
                run(connection, f"update decks set n = n + 1 where id = {one}")
                time.sleep(1)
                run(connection, f"update decks set n = n + 1 where id = {other}")
                connection.commit()
                ends.append("done")
            except Exception as error:
                ends.append("deadlock" if "deadlock detected" in str(error) else repr(error))
                connection.rollback()
            connection.close()

        together(rig, lambda: crosses(1, 2), lambda: crosses(2, 1))
    assert sorted(ends) == ["deadlock", "done"]


@pytest.mark.parametrize("setting", ["lock_timeout", "statement_timeout"])
def test_the_servers_own_timeouts_run_in_simulated_time(connect: Driver, setting: str) -> None:
    log: list[Any] = []
    with ic.Rig(start=START) as rig:

        def holds() -> None:
            connection = connect()
            run(connection, "update decks set n = n + 1 where id = 1")
            time.sleep(40)
            connection.commit()
            connection.close()

        def wants(after: float) -> None:
            time.sleep(after)
            connection = connect()
            run(connection, f"set local {setting} = '2s'")
            try:
                run(connection, "update decks set n = n + 1 where id = 1")
                log.append(("got it", clock()))
            except Exception as error:
                log.append((str(error).splitlines()[0], clock()))
            connection.rollback()
            connection.close()

        together(rig, holds, lambda: wants(3), lambda: wants(39))
    told = f"canceling statement due to {setting.replace('_', ' ')}"
    assert [(said.rpartition(") ")[2], at) for said, at in log] == [(told, "21:00:05"), ("got it", "21:00:40")]


def test_what_a_dead_worker_left_open_in_postgresql_is_rolled_back(server: PostgreSQL, connect: Driver) -> None:
    shared = connect()
    run(shared, "update decks set n = 0 where id = 1")
    shared.commit()
    with ic.Rig(start=START) as rig:

        def load() -> None:
            run(shared, "update decks set n = n + 1 where id = 1")
            time.sleep(1)
            shared.commit()

        kind = rig.job(load)
        rig.faults.crash("load", at="sleep", attempts=1)
        job = rig.enqueue(kind.call())
        rig.run_dry()
        assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    with server.connect() as other:
        assert other.execute("select n from decks where id = 1").fetchone() == (1,)
    shared.close()


@pytest.mark.parametrize("ends", [False, True])
def test_a_transaction_of_a_task_ends_with_the_rig(server: PostgreSQL, connect: Driver, ends: bool) -> None:
    """Nobody is left that would commit it, and its locks would stop the next test for ever."""
    kept: list[Any] = []
    committed(connect, "update decks set n = 0 where id = 2")()
    with ic.Rig(start=START) as rig:

        def loads() -> None:
            kept.append(connect())
            run(kept[-1], "update decks set n = 9 where id = 2")
            if not ends:
                time.sleep(3600)

        rig.run_loop(loads)
        rig.advance("1m")
    rig.close()
    if ends and type(kept[0]).__module__.startswith("psycopg2"):
        kept[0].rollback()  # of this driver it is not known who has begun a transaction: the task could have been done
    with server.connect() as other:
        other.execute("set lock_timeout = 2000")
        assert other.execute("select n from decks where id = 2 for update").fetchone() == (0,)
    kept[0].close()


def test_a_transaction_of_the_test_goes_on_after_the_rig(server: PostgreSQL) -> None:
    shared = server.connect()
    shared.execute("update decks set n = 5 where id = 2")
    with ic.Rig(start=START) as rig:
        rig.enqueue(rig.job(lambda: shared.execute("update decks set n = n + 1 where id = 2") and None, name="load"))
        rig.run_dry()
    rig.close()
    assert shared.execute("select n from decks where id = 2").fetchone() == (6,)
    shared.rollback()
    shared.close()


def three_departures(server: PostgreSQL) -> None:
    """Notify whoever listens, three times after 20 seconds each."""
    with server.connect() as connection:
        connection.autocommit = True
        for number in range(3):
            time.sleep(20)
            connection.execute("select pg_notify('departures', %s)", [f"TL-{number}"])


def test_listen_ends_with_the_other_tasks_notify(server: PostgreSQL) -> None:
    log: list[Any] = []
    with ic.Rig(start=START) as rig:

        def listens() -> None:
            with server.connect() as connection:
                connection.autocommit = True
                connection.execute("listen departures")
                log.extend((notice.payload, clock()) for notice in connection.notifies(timeout=120))
                log.append(("silence", clock()))

        together(rig, listens, lambda: three_departures(server))
    assert log == [("TL-0", "21:00:20"), ("TL-1", "21:00:40"), ("TL-2", "21:01:00"), ("silence", "21:02:00")]


@pytest.mark.parametrize("driver", ["psycopg", "psycopg2", "asyncpg"])
def test_a_notify_comes_at_its_instant_however_slow_the_server_is(
    server: PostgreSQL, driver: str, tmp_path: Path
) -> None:
    module = pytest.importorskip(driver)
    where = {"host": "127.0.0.1", "port": server.port, "user": "tern"}
    log: list[Any] = []

    def heard() -> Iterator[str]:
        if driver == "psycopg":
            with module.connect(**where, dbname="postgres", autocommit=True) as connection:
                connection.execute("listen departures")
                slow(connection.info.backend_pid)
                yield from (notice.payload for notice in connection.notifies(timeout=100))
        else:
            connection = module.connect(**where, dbname="postgres")
            connection.autocommit = True
            connection.cursor().execute("listen departures")
            slow(connection.info.backend_pid)
            while select.select([connection], [], [], 100)[0]:
                connection.poll()
                yield from (notice.payload for notice in connection.notifies)
                connection.notifies.clear()
            connection.close()

    async def hears() -> None:
        connection = await module.connect(**where, database="postgres")
        await connection.add_listener("departures", lambda _1, _2, _3, payload: log.append((payload, clock())))
        slow(connection.get_server_pid())
        await asyncio.sleep(100)
        await connection.close()

    def slow(pid: int) -> None:
        (tmp_path / "pid").write_text(str(pid))

    # A busy machine: the process that listens stands still nearly all the time. The shell is nobody's child.
    subprocess.run(["sh", "-c", f"cd {tmp_path}; touch busy; ({_STANDS_STILL}) > /dev/null 2>&1 &"], check=True)
    try:
        with ic.Rig(start=START) as rig:

            def listens() -> None:
                if driver == "asyncpg":
                    asyncio.run(hears())
                else:
                    log.extend((payload, clock()) for payload in heard())

            together(rig, listens, lambda: three_departures(server))
    finally:
        (tmp_path / "busy").unlink()
    assert log == [("TL-0", "21:00:20"), ("TL-1", "21:00:40"), ("TL-2", "21:01:00")]


_STANDS_STILL = """
while [ -e busy ]; do
    pid=$(cat pid 2>/dev/null) && kill -STOP $pid && sleep 0.2; kill -CONT $pid; sleep 0.02
done
"""


@pytest.mark.parametrize("driver", ["psycopg", "asyncpg"])
def test_async_drivers_wait_for_locks_in_simulated_time(server: PostgreSQL, driver: str) -> None:
    module = pytest.importorskip(driver)
    log: list[str] = []
    began = time.monotonic()

    async def updates() -> None:
        if driver == "psycopg":
            connection = await module.AsyncConnection.connect(
                host="127.0.0.1", port=server.port, user="tern", dbname="postgres"
            )
            await connection.execute("update decks set n = n + 1 where id = 1")
            log.append(clock())
            await asyncio.sleep(60)
            await connection.commit()
        else:
            connection = await module.connect(host="127.0.0.1", port=server.port, user="tern", database="postgres")
            async with connection.transaction():
                await connection.execute("update decks set n = n + 1 where id = 1")
                log.append(clock())
                await asyncio.sleep(60)
        await connection.close()

    async def both() -> None:
        await asyncio.gather(updates(), updates())

    with ic.Rig(start=START):
        asyncio.run(both())
    assert log == ["21:00:00", "21:01:00"]
    assert time.monotonic() - began < 15


def test_a_connection_pool_lives_in_simulated_time(server: PostgreSQL) -> None:
    pools = pytest.importorskip("psycopg_pool")
    log: list[Any] = []
    where = f"host=127.0.0.1 port={server.port} user=tern dbname=postgres"
    with ic.Rig(start=START) as rig, pools.ConnectionPool(where, min_size=1, max_size=2, timeout=30) as pool:

        def works() -> None:
            try:
                with pool.connection() as connection:
                    connection.execute("select 1")
                    time.sleep(20)
                log.append(("done", clock()))
            except pools.PoolTimeout:
                log.append(("no connection", clock()))

        together(rig, *[works] * 5)
    assert log == [
        ("done", "21:00:20"), ("done", "21:00:20"), ("no connection", "21:00:30"),
        ("done", "21:00:40"), ("done", "21:00:40"),
    ]  # fmt: skip


# --- Django -----------------------------------------------------------------------------------------

DJANGO = """
import sys, time
import django
from django.conf import settings
settings.configure(DATABASES={{"default": {database!r}}}, USE_TZ=True, INSTALLED_APPS=[])
django.setup()
from django.db import connection, transaction
import ironclock as ic

with connection.cursor() as cursor:
    cursor.execute("drop table if exists berths")
    cursor.execute("create table berths (n int)")

def books():
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("insert into berths values (1)")
        time.sleep(2)

def gives_up():
    with transaction.atomic():
        time.sleep(1)
        raise ValueError("no berth left")

def dies():
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("insert into berths values (2)")
        time.sleep(1)

with ic.Rig(start="2031-03-29T21:00") as rig:
    rig.workers(2)
    kinds = [rig.job(function) for function in (books, gives_up, dies)]
    rig.faults.crash("dies", at="sleep", attempts=1)
    jobs = [rig.enqueue(kind.call()) for kind in kinds]
    rig.advance("5m")
with connection.cursor() as cursor:
    cursor.execute("select n, count(*) from berths group by n order by n")
    print([job.state for job in jobs], cursor.fetchall(), connection.in_atomic_block)
connection.close()
"""


@pytest.mark.parametrize("engine", ["sqlite", "postgresql"])
def test_djangos_transactions_belong_to_their_worker(
    engine: str, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    pytest.importorskip("django")
    database: dict[str, Any] = {"ENGINE": "django.db.backends.sqlite3", "NAME": str(tmp_path / "berths.db")}
    if engine == "postgresql":
        port = request.getfixturevalue("server").port
        database = {"ENGINE": "django.db.backends.postgresql", "NAME": "postgres", "USER": "tern", "HOST": "127.0.0.1", "PORT": port}  # fmt: skip
    done = subprocess.run(
        [sys.executable, "-c", DJANGO.format(database=database)], capture_output=True, text=True, timeout=120
    )
    assert done.stdout == "['done', 'dead', 'done'] [(1, 1), (2, 1)] False\n", done.stderr[-3000:]
    assert done.stderr == ""


ASYNC_DJANGO = """
import asyncio, time
import django
from asgiref.sync import async_to_sync, sync_to_async
from django.conf import settings
settings.configure(
    DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}}, ROOT_URLCONF=__name__,
    USE_TZ=True, SECRET_KEY="salt water", ALLOWED_HOSTS=["*"], MIDDLEWARE=[], INSTALLED_APPS=[],
)
django.setup()
from django.db import connection
from django.http import HttpResponse
from django.test import TestCase
from django.urls import path
import ironclock as ic

def manifest(request):
    time.sleep(2)
    with connection.cursor() as cursor:
        cursor.execute("select n from decks")
        return HttpResponse(f"{cursor.fetchone()[0]} {time.gmtime().tm_year}")

async def tide(request):
    await asyncio.sleep(3)
    return HttpResponse(await sync_to_async(lambda: (time.sleep(1), str(time.gmtime().tm_year))[1])())

urlpatterns = [path("manifest", manifest), path("tide", tide)]

class Ferry(TestCase):
    def setUp(self):
        with connection.cursor() as cursor:
            cursor.execute("create table decks (n int)")
            cursor.execute("insert into decks values (7)")

    async def test_a_rig_inside_an_async_test(self):
        with ic.Rig() as rig:
            assert (await self.async_client.get("/manifest")).content == b"7 2031"
            assert (await self.async_client.get("/tide")).content == b"2031"
            assert rig.now.second == 6
            both = await asyncio.gather(*(self.async_client.get("/manifest") for _ in range(2)))
            assert [one.content for one in both] == [b"7 2031"] * 2
            assert rig.now.second == 10
            assert await sync_to_async(lambda: time.gmtime().tm_year, thread_sensitive=False)() == 2031
        assert (await self.async_client.get("/manifest")).content != b"7 2031"

    def test_a_rig_inside_a_sync_test(self):
        with ic.Rig() as rig:
            assert self.client.get("/manifest").content == b"7 2031"
            assert self.client.get("/tide").content == b"2031"
            assert async_to_sync(self.async_client.get)("/manifest").content == b"7 2031"
            assert rig.now.second == 8
"""


def test_djangos_clients_in_a_rig(pytester: pytest.Pytester) -> None:
    pytest.importorskip("django")
    pytester.makepyfile(ASYNC_DJANGO)
    pytester.runpytest_subprocess("-p", "no:cacheprovider").assert_outcomes(passed=2)


# --- MariaDB ----------------------------------------------------------------------------------------


def test_a_row_lock_of_mariadb_is_waited_for_until_the_other_tasks_commit() -> None:
    if missing_part := mariadb_missing():
        pytest.skip(missing_part)
    import pymysql

    log: list[Any] = []
    with MariaDB() as server:

        def connect() -> Any:
            return pymysql.connect(host="127.0.0.1", port=server.port, user="root")

        with contextlib.closing(connect()) as connection:
            for statement in (
                "create database tern", "create table tern.decks (id int primary key, n int) engine=innodb",
                "insert into tern.decks values (1, 0)",
            ):  # fmt: skip
                run(connection, statement)
            connection.commit()

        def updates(after: float, spends: float) -> None:
            time.sleep(after)
            with contextlib.closing(connect()) as connection:
                run(connection, "update tern.decks set n = n + 1 where id = 1")
                log.append(clock())
                time.sleep(spends)
                connection.commit()

        with ic.Rig(start=START) as rig:
            together(rig, lambda: updates(0, 40), lambda: updates(10, 5), lambda: updates(20, 5))
        with contextlib.closing(connect()) as connection:
            assert run(connection, "select n from tern.decks").fetchall() == ((3,),)
    assert log == ["21:00:00", "21:00:40", "21:00:45"]


def test_what_else_a_dead_worker_had_open_is_taken_back_by_a_function_of_the_test() -> None:
    open_channels: list[str] = []
    dead: list[Any] = []
    with ic.Rig(start=START) as rig:

        def load() -> None:
            open_channels.append("to the crane")
            time.sleep(1)
            open_channels.clear()

        def close_channels(attempt: ic.Attempt) -> None:
            dead.append((attempt.number, clock(), list(open_channels)))
            open_channels.clear()

        kind = rig.job(load)
        rig.on_worker_death(close_channels)
        rig.faults.crash("load", at="sleep", attempts=1)
        job = rig.enqueue(kind.call())
        rig.run_dry()
        assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    assert dead == [(1, "21:00:00", ["to the crane"])]
