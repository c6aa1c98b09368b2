"""The clocks of real database servers follow the rig's: `rig.database`."""

from __future__ import annotations

import asyncio
import datetime as dt
import re
import subprocess
import sys
import textwrap
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import postgres
import pytest
import servers
from postgres import PostgreSQL
from servers import MariaDB, free_port

import ironclock as ic
from ironclock.interpreter.databases.clock_words import real, simulated
from ironclock.rig import held

UTC = dt.timezone.utc
START = dt.datetime(2031, 3, 29, 21, tzinfo=UTC)
TABLES = """
create table bookings (
    id serial primary key, at timestamptz default now(), made timestamptz default current_timestamp(3),
    day date default current_date, local timestamp default localtimestamp, utc timestamp default (now() at time zone 'utc'),
    text text default 'now() is no call here'
);
create view due as select id from bookings where at <= now();
create function stamp() returns trigger language plpgsql as
    $$ begin new.made := Clock_Timestamp(); new.day := CURRENT_DATE; /* now() */ return new; end $$;
create table log (id serial primary key, made timestamptz, day date);
create trigger stamps before insert or update on log for each row execute function stamp();
"""
STORED = """
select pg_get_expr(adbin, adrelid) from pg_attrdef union all
select pg_get_viewdef(oid) from pg_class where relkind = 'v' and relnamespace = 'public'::regnamespace union all
select pg_get_functiondef(oid) from pg_proc where pronamespace = 'public'::regnamespace union all
select nspname from pg_namespace where nspname = 'ironclock' order by 1
"""


@pytest.fixture(scope="module")
def server() -> Iterator[PostgreSQL]:
    if postgres.missing():
        pytest.skip(postgres.missing())
    with PostgreSQL() as running:
        yield running


@pytest.fixture
def stack() -> Iterator[ExitStack]:
    with ExitStack() as entered:
        yield entered


@pytest.fixture
def url(server: PostgreSQL) -> Iterator[str]:
    """A new database with the tables. In the end everything stored in it is as it was."""
    with server.connect() as connection:
        connection.autocommit = True
        connection.execute("drop database if exists bookings with (force)")
        connection.execute("create database bookings")
    address = f"postgresql://tern@127.0.0.1:{server.port}/bookings"
    with own(address) as connection:
        connection.execute(TABLES)
        before = connection.execute(STORED).fetchall()
    yield address
    with own(address) as connection:
        assert connection.execute(STORED).fetchall() == before


def own(address: str) -> Any:
    import psycopg

    return psycopg.connect(address, autocommit=True)


# --- the words ----------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sql", "changed"),
    [
        ("select now(), NOW ( )", "select ironclock.now(), ironclock.now()"),
        ("select pg_catalog.now()", "select ironclock.now()"),
        ("select current_timestamp", 'select ironclock."current_timestamp"()'),
        ("select CURRENT_TIME(2)", 'select ironclock."current_time"(2)'),
        ("select 1 as current_date", "select 1 as current_date"),
        ("select 'now()', \"now()\", E'it\\'s now()'", "select 'now()', \"now()\", E'it\\'s now()'"),
        ("select 1 -- now()\n, now()", "select 1 -- now()\n, ironclock.now()"),
        ("select /* now() */ 1", "select /* now() */ 1"),
        ("select app.now(), t.current_date, mynow()", "select app.now(), t.current_date, mynow()"),
        ("do $$ begin perform now(); end $$", "do $$ begin perform ironclock.now(); end $$"),
        ("select $$now()$$", "select $$now()$$"),
        (
            "create function f() returns date language sql as $f$select current_date$f$",
            'create function f() returns date language sql as $f$select ironclock."current_date"()$f$',
        ),
        ("insert into t (at) values (clock_timestamp())", "insert into t (at) values (ironclock.clock_timestamp())"),
        ("select localtime, localtimestamp", 'select ironclock."localtime"(), ironclock."localtimestamp"()'),
    ],
)
def test_what_reads_the_clock_in_a_statement(sql: str, changed: str) -> None:
    assert simulated(sql) == changed
    assert simulated(changed) == changed
    assert simulated(real(changed)) == changed


# --- PostgreSQL ---------------------------------------------------------------------------------------

ALL = (
    "select now(), current_timestamp, transaction_timestamp(), statement_timestamp(), clock_timestamp(), "
    "current_date, localtimestamp, localtime, current_time"
)


def psycopg_rows(url: str, stack: ExitStack) -> Callable[[str], Any]:
    connection = stack.enter_context(own(url))
    return lambda sql: connection.execute(sql).fetchall()


def psycopg_client_rows(url: str, stack: ExitStack) -> Callable[[str], Any]:
    import psycopg
    from psycopg import sql as composed

    connection = stack.enter_context(psycopg.connect(url, cursor_factory=psycopg.ClientCursor))

    def rows(sql: str) -> Any:
        with connection.transaction():
            return connection.execute(composed.SQL(sql)).fetchall()

    return rows


def psycopg2_rows(url: str, stack: ExitStack) -> Callable[[str], Any]:
    import psycopg2

    connection = stack.enter_context(closing(psycopg2.connect(url)))

    def rows(sql: str) -> Any:
        with connection, connection.cursor() as cursor:
            cursor.execute(sql)
            return cursor.fetchall()

    return rows


def async_psycopg_rows(url: str, stack: ExitStack) -> Callable[[str], Any]:
    import psycopg

    async def ask(sql: str) -> Any:
        async with await psycopg.AsyncConnection.connect(url) as connection:
            return await (await connection.execute(sql)).fetchall()

    return lambda sql: asyncio.run(ask(sql))


def asyncpg_rows(url: str, stack: ExitStack) -> Callable[[str], Any]:
    import asyncpg

    async def ask(sql: str) -> Any:
        connection = await asyncpg.connect(url)
        try:
            return [tuple(row) for row in await connection.fetch(sql)]
        finally:
            await connection.close()

    return lambda sql: asyncio.run(ask(sql))


def sqlalchemy_rows(driver: str) -> Callable[[str, ExitStack], Callable[[str], Any]]:
    def open_engine(url: str, stack: ExitStack) -> Callable[[str], Any]:
        import sqlalchemy

        engine = sqlalchemy.create_engine(url.replace("postgresql:", f"postgresql+{driver}:"))
        stack.callback(engine.dispose)

        def rows(sql: str) -> Any:
            with engine.begin() as connection:
                return [tuple(row) for row in connection.execute(sqlalchemy.text(sql)).fetchall()]

        return rows

    return open_engine


DRIVERS = {
    "psycopg": psycopg_rows, "psycopg with texts composed": psycopg_client_rows, "psycopg2": psycopg2_rows, "async psycopg": async_psycopg_rows, "asyncpg": asyncpg_rows,
    "psycopg under SQLAlchemy": sqlalchemy_rows("psycopg"), "psycopg2 under SQLAlchemy": sqlalchemy_rows("psycopg2"),
}  # fmt: skip


@pytest.mark.parametrize("driver", DRIVERS)
def test_every_reading_of_the_clock_follows(url: str, driver: str, stack: ExitStack) -> None:
    rows = DRIVERS[driver](url, stack)
    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.database(url)
        for _ in range(7):  # drivers keep statements that come again
            at = rig.now
            (found,) = rows(ALL)
            assert found[:5] == (at,) * 5
            assert found[5:] == (at.date(), at.replace(tzinfo=None), at.time(), at.timetz())
            rig.advance("1h")
        rows("insert into bookings default values returning id")
        ((made, at, day, local, utc, text),) = rows("select made, at, day, local, utc, text from bookings")
        assert made == at == local.replace(tzinfo=UTC) == utc.replace(tzinfo=UTC) == rig.now
        assert (day, text) == (rig.now.date(), "now() is no call here")
        rows("insert into log default values returning id")
        assert rows("select made, day from log") == [(rig.now, rig.now.date())]
        assert rows("select count(*) from due") == [(1,)]
        assert rig.loose_ends() == []
    assert abs(rows("select now()")[0][0] - dt.datetime.now(UTC)) < dt.timedelta(minutes=5)


def test_within_a_transaction_the_time_stands_still(url: str) -> None:
    import psycopg

    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.database(url)
        for connection in (psycopg.connect(url), psycopg.connect(url)):

            def ask(sql: str, connection: Any = connection) -> Any:
                return connection.execute(sql).fetchone()[0]

            began = rig.now
            assert ask("select now()") == began
            rig.advance("10m")
            assert ask("select now()") == ask("select current_timestamp") == began
            assert ask("select clock_timestamp()") == ask("select statement_timestamp()") == rig.now
            connection.rollback()
            assert ask("select now()") == ask("select clock_timestamp()") == rig.now
            rig.advance("10m")
            with connection.transaction(force_rollback=True):  # a savepoint
                assert ask("select clock_timestamp()") == rig.now
            assert ask("select clock_timestamp()") == rig.now
            connection.commit()
            assert ask("select now()") == rig.now
            connection.close()


def test_a_pipeline_is_told_the_time_and_is_one_transaction(url: str) -> None:
    import psycopg

    with ic.Rig(start="2031-03-29T21:00") as rig, psycopg.connect(url, autocommit=True) as one:
        rig.database(url)
        one.execute("select 1")
        with one.pipeline():
            asked = [one.execute("select now()"), one.execute("select clock_timestamp()")]
            time.sleep(60)
            asked += [one.execute("select now()"), one.execute("select clock_timestamp()")]
            told = [cursor.fetchone()[0] for cursor in asked]  # type: ignore[index]
            begin = rig.now - dt.timedelta(seconds=60)
            assert told == [begin, begin, begin, rig.now]
            time.sleep(5)
            assert one.execute("select now()").fetchone() == (rig.now,)
        assert not rig.loose_ends()


def test_two_workers_see_the_same_clock_and_their_own_transactions(url: str) -> None:
    """Each worker has a transaction that lasts; the server's time is the rig's in both."""
    seen = []

    def works(number: int) -> None:
        with own(url) as connection, connection.transaction():
            before = connection.execute("select now()").fetchone()[0]
            time.sleep(number * 10)
            after, clock = connection.execute("select now(), clock_timestamp()").fetchone()
            seen.append((number, (after - before).seconds, (clock - START).seconds))

    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.database(url)
        for number in (1, 2, 3):
            threading.Thread(target=works, args=(number,)).start()
        rig.advance("1m")
    assert seen == [(1, 0, 10), (2, 0, 20), (3, 0, 30)]


def test_one_short_statement_if_the_clock_has_moved_and_none_otherwise(url: str, tmp_path: Path) -> None:
    def sent(statement: Callable[[], Any]) -> int:
        """How many messages with a statement the client sends, as libpq traces them."""
        with (tmp_path / "trace").open("w+") as file:
            connection.pgconn.trace(file.fileno())
            statement()
            connection.pgconn.untrace()
            file.seek(0)
            return sum(" Query " in line or "\tQuery\t" in line or "\tParse\t" in line for line in file)

    with own(url) as connection, ic.Rig() as rig:
        rig.database(url)
        connection.execute("select 1")
        insert = lambda: connection.execute("insert into log default values")  # noqa: E731
        assert sent(insert) == 1
        rig.advance("1s")
        assert sent(insert) == 2
        assert sent(insert) == 1


def test_tables_that_are_made_inside_are_put_back_as_well(url: str) -> None:
    with own(url) as connection:
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(connection)
            connection.execute(
                "create table cargo (id int, at timestamptz default now(), day date default current_date)"
            )
            connection.execute("insert into cargo values (1)")
            assert connection.execute("select at, day from cargo").fetchone() == (START, START.date())
        asked = "select pg_get_expr(adbin, adrelid) from pg_attrdef where adrelid = 'cargo'::regclass order by 1"
        assert connection.execute(asked).fetchall() == [("CURRENT_DATE",), ("now()",)]
        connection.execute("drop table cargo")


def test_what_is_made_inside_and_cannot_be_put_back_is_told(url: str) -> None:
    with own(url) as connection:
        rig = ic.Rig()
        rig.__enter__()
        rig.database(url)
        connection.execute("create table cargo (at timestamptz default now())")
        connection.execute("create materialized view noon as select now() as at")
        with pytest.warns(ic.RigWarning, match="keeps the schema ironclock, since something made in the rig depends"):
            rig.__exit__(None, None, None)
        asked = "select pg_get_expr(adbin, adrelid) from pg_attrdef where adrelid = 'cargo'::regclass"
        assert connection.execute(asked).fetchall() == [("now()",)], "the rest is as it was"
        connection.execute("drop materialized view noon")
        connection.execute("drop table cargo")
        with ic.Rig() as rig:
            rig.database(url)


def test_what_cannot_follow_is_named_once_with_the_remedy(url: str) -> None:
    with own(url) as connection, ic.Rig(start="2031-03-29T21:00") as rig:
        connection.execute("select now()")
        connection.execute("select now()")
        (line,) = rig.loose_ends()
        assert "select now()" in line
        assert "test_database_clocks.py" in line
        assert "rig.database(...)" in line
        rig.database(url)
        connection.execute("select 'now'::timestamptz")
        connection.execute("select age(timestamp '2031-01-01')")
        _, first, second = rig.loose_ends()
        assert "'now'::timestamp (write now() or current_date)" in first
        assert "with one argument (write age(current_date, ...))" in second
        rig.allow("real clocks")


def test_a_check_that_reads_the_clock_is_named(url: str) -> None:
    with own(url) as connection:
        connection.execute("create table past (at timestamptz check (at <= now()))")
        with ic.Rig() as rig:
            rig.database(url)
            (line,) = rig.loose_ends()
            assert "past_at_check of public.past" in line or "the constraint past_at_check of past" in line
            rig.allow("real clocks")
        connection.execute("drop table past")


# --- bad input ----------------------------------------------------------------------------------------


def test_a_server_that_is_not_there() -> None:
    with (
        ic.Rig() as rig,
        pytest.raises(
            ic.DatabaseClockError,
            match=r"the database bookings on 127\.0\.0\.1:\d+ does not answer: .*start the server, or correct the URL",
        ),
    ):
        rig.database(f"postgresql://tern@127.0.0.1:{free_port()}/bookings")


@pytest.mark.parametrize("form", ["words", "quoted words", "variable", "settings"])
def test_what_drivers_take_is_taken(url: str, form: str, monkeypatch: pytest.MonkeyPatch) -> None:
    parts = urlsplit(url)
    monkeypatch.setenv("TERN_LINE_DB", url)
    given: dict[str, Any] = {
        "words": f"host={parts.hostname} port={parts.port} user=tern dbname=bookings",
        "quoted words": f"host = '{parts.hostname}' port={parts.port} user='tern' dbname='bookings'",
        "variable": "TERN_LINE_DB",
        "settings": {
            "ENGINE": "django.db.backends.postgresql", "HOST": parts.hostname, "PORT": str(parts.port), "USER": "tern",
            "NAME": "bookings",
        },
    }  # fmt: skip
    with ic.Rig(start="2031-03-03T09:00") as rig:
        rig.database(given[form])
        with own(url) as connection:
            assert connection.execute("select extract(year from now())").fetchone()[0] == 2031


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ("hots=127.0.0.1 port=1", "libpq has no parameter 'hots'; did you mean 'host'"),
        ("TERN_LINE_NOWHERE", "no environment variable has that name"),
        ({"ENGINE": "django.db.backends.oracle"}, "give a URL"),
    ],
)
def test_a_mistake_in_what_drivers_take_is_named(given: Any, says: str) -> None:
    with ic.Rig() as rig, pytest.raises(ic.InputError, match=re.escape(says)):
        rig.database(given)


@pytest.mark.parametrize("given", [5, "bookings", "oracle://host/x", object, None, "postgresql://host:many/x"])
def test_what_is_no_database(given: Any) -> None:
    with ic.Rig() as rig, pytest.raises(ic.InputError, match="give a"):
        rig.database(given)


def test_a_user_who_may_not_create_functions(url: str) -> None:
    with own(url) as connection:
        connection.execute("drop role if exists deckhand")
        connection.execute("create role deckhand login")
        poor = url.replace("tern@", "deckhand@")
        with ic.Rig() as rig, pytest.raises(ic.DatabaseClockError) as failed:
            rig.database(poor)
        assert "as user deckhand: ERROR:  permission denied for database bookings" in str(failed.value)
        assert "GRANT CREATE ON DATABASE bookings TO deckhand" in str(failed.value)
        connection.execute("grant create on database bookings to deckhand")
        with (
            ic.Rig() as rig,
            pytest.raises(ic.DatabaseClockError, match=r"must be owner of table bookings.*Nothing was changed"),
        ):
            rig.database(poor)
        connection.execute("revoke create on database bookings from deckhand")
        # With the owner's URL, the poor user's sessions follow as well.
        connection.execute(
            "grant insert, select on bookings to deckhand; grant usage on all sequences in schema public to deckhand"
        )
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(url)
            with own(poor) as deckhand:
                deckhand.execute("insert into bookings default values")
                assert deckhand.execute("select at, now() from bookings").fetchone() == (START, START)
        connection.execute("drop owned by deckhand; drop role deckhand")


def test_an_open_transaction_in_the_way(url: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("ironclock.interpreter.databases.postgres_clock._PATIENCE_S", 0.2)
    with own(url) as connection:
        with connection.transaction():
            connection.execute("select * from bookings")
            with ic.Rig() as rig, pytest.raises(ic.DatabaseClockError) as failed:
                rig.database(url)
        assert "the default of public.bookings.at of the database bookings" in str(failed.value)
        assert f"session {connection.info.backend_pid} (idle in transaction: select * from bookings)" in str(
            failed.value
        )
        assert "commit or roll back first, or call rig.database before that" in str(failed.value)
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(url)
            assert connection.execute("select now()").fetchone() == (START,)


KILLED = """
import os, sys
import ironclock as ic
with ic.Rig() as rig:
    rig.database(sys.argv[1])
    os.kill(os.getpid(), 9)
"""


def test_after_a_killed_test_the_next_run_repairs(url: str) -> None:
    assert subprocess.run([sys.executable, "-c", KILLED, url], timeout=60).returncode == -9
    with own(url) as connection:
        connection.execute("insert into bookings default values")
        at = connection.execute("select at from bookings").fetchone()[0]
        assert abs(at - dt.datetime.now(UTC)) < dt.timedelta(minutes=5)  # nobody sees a wrong time meanwhile
        assert ("ironclock",) in connection.execute(STORED).fetchall()
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(url)
            assert connection.execute("select now()").fetchone() == (START,)


SUITE = """
import psycopg, pytest, time

@pytest.mark.parametrize("number", range(6))
def test_of_one_process(rig, number):
    with psycopg.connect({url!r}, autocommit=True) as connection:
        for _ in range(20):
            rig.advance(f"{{number}}m")
            assert connection.execute("select now()").fetchone()[0] == rig.now
            (at,) = connection.execute("insert into bookings default values returning at").fetchone()
            assert at == rig.now
"""


def test_several_processes_of_a_suite_share_one_server(
    url: str, pytester: pytest.Pytester, monkeypatch: pytest.MonkeyPatch
) -> None:
    pytest.importorskip("xdist")
    pytester.makepyfile(SUITE.format(url=url))
    pytester.makepyprojecttoml("[tool.ironclock]\ndatabases = ['$BOOKINGS']\n")
    monkeypatch.setenv("BOOKINGS", url)
    pytester.runpytest_subprocess("-n", "3", "-p", "no:cacheprovider").assert_outcomes(passed=6)


def test_a_suite_without_its_server(pytester: pytest.Pytester) -> None:
    pytester.makepyfile("def test_without_a_database(rig): rig.advance('1h')")
    pytester.makepyprojecttoml("[tool.ironclock]\ndatabases = ['$BOOKINGS']\n")
    pytester.runpytest_subprocess("-p", "no:cacheprovider").assert_outcomes(passed=1)
    pytester.makepyprojecttoml("[tool.ironclock]\ndatabases = [5]\n")
    outcome = pytester.runpytest_subprocess("-p", "no:cacheprovider")
    outcome.stdout.fnmatch_lines(["*databases has 5; give a URL, '$NAME' or 'module:attribute'*"])


DJANGO = """
import django, time
from django.conf import settings
settings.configure(DATABASES={"default": {database!r}}, USE_TZ=True, INSTALLED_APPS=[])
django.setup()
from django.db import connection, models, transaction
from django.db.models.functions import Now
import ironclock as ic

class Booking(models.Model):
    at = models.DateTimeField(db_default=Now())
    class Meta:
        app_label = "ferry"
        db_table = "ferry_booking"

with connection.schema_editor() as editor:
    editor.create_model(Booking)
with ic.Rig(start="2031-03-29T21:00") as rig:
    rig.database(connection)
    rig.advance("1h")
    booking = Booking.objects.create()
    booking.refresh_from_db()
    with transaction.atomic():
        rig.advance("1h")
        later = Booking.objects.filter(at__lt=Now()).count()
    print(booking.at.isoformat(), later, rig.loose_ends())
with connection.schema_editor() as editor:
    editor.delete_model(Booking)
connection.close()
"""


def test_django(url: str, server: PostgreSQL) -> None:
    pytest.importorskip("django")
    database = {"ENGINE": "django.db.backends.postgresql", "NAME": "bookings", "USER": "tern", "HOST": "127.0.0.1", "PORT": server.port}  # fmt: skip
    code = DJANGO.replace("{database!r}", repr(database))
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=120)
    assert done.stdout == "2031-03-29T22:00:00+00:00 1 []\n", done.stderr[-3000:]


@pytest.mark.parametrize("hidden", [["psycopg"], ["psycopg", "psycopg2"]], ids=["psycopg2 alone", "asyncpg alone"])
def test_with_another_driver_alone(url: str, hidden: list[str]) -> None:
    code = textwrap.dedent("""
        import asyncio, importlib.util, sys
        find = importlib.util.find_spec
        importlib.util.find_spec = lambda name, *more: None if name.partition(".")[0] in sys.argv[2:] else find(name, *more)
        import asyncpg, ironclock as ic
        async def ask():
            connection = await asyncpg.connect(sys.argv[1])
            try:
                return await connection.fetchval("select now()")
            finally:
                await connection.close()
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(sys.argv[1])
            print(asyncio.run(ask()))
    """)
    done = subprocess.run([sys.executable, "-c", code, url, *hidden], capture_output=True, text=True, timeout=60)
    assert done.stdout == "2031-03-29 21:00:00+00:00\n", done.stderr[-3000:]


def test_every_way_to_give_a_database(url: str) -> None:
    import psycopg2
    import psycopg_pool
    import sqlalchemy
    from sqlalchemy.orm import sessionmaker

    engine = sqlalchemy.create_engine(url.replace("postgresql:", "postgresql+psycopg:"))
    pool = psycopg_pool.ConnectionPool(url, min_size=1, open=True)
    old = psycopg2.connect(url)
    with own(url) as connection, engine.connect() as link, sessionmaker(engine)() as session:
        for given in (
            url,
            engine,
            link,
            session,
            sessionmaker(engine),
            connection,
            lambda: connection,
            pool,
            old,
            "postgresql+psycopg://" + url.partition("//")[2],
        ):
            link.rollback()
            old.rollback()
            with ic.Rig(start="2031-03-29T21:00") as rig:
                rig.database(given)
                assert connection.execute("select now()").fetchone() == (START,)
    pool.close()
    old.close()
    engine.dispose()


def test_sqlite_needs_nothing(tmp_path: Path) -> None:
    import sqlite3

    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.database("sqlite:///bookings.db")
        rig.database(sqlite3.connect(tmp_path / "bookings.db"))


# --- SQLite in a build that hides its library -----------------------------------------------------------

HIDDEN = """
import ironclock.interpreter.border.sqlite as border
border._vfs_objects = lambda: []  # what such a build looks like
import sqlite3, sys, threading, time
import ironclock as ic
early = sqlite3.connect(sys.argv[1])
early.execute("create table t (at text default current_timestamp, day text default (date('now', '+1 day')))")
early.commit()
with ic.Rig(start="2031-03-29T21:00") as rig:
    def holds():
        one = sqlite3.connect(sys.argv[1], isolation_level=None)
        one.execute("begin immediate")
        time.sleep(1)
        one.execute("commit")
    def waits(timeout):
        one = sqlite3.connect(sys.argv[1], isolation_level=None, timeout=timeout)
        try:
            one.execute("insert into t default values")
            print("in", rig.now.time())
        except sqlite3.OperationalError as error:
            print(error, rig.now.time())
    threading.Thread(target=holds).start()
    threading.Thread(target=waits, args=(5,)).start()
    threading.Thread(target=waits, args=(0.5,)).start()
    rig.advance("5s")
    print(early.execute("select at, day, strftime('%s', 'now') from t").fetchall())
year = early.execute("select strftime('%Y', 'now')").fetchone()[0]
print(year == str(time.gmtime().tm_year), early.execute("pragma busy_timeout").fetchone())
"""


def test_a_build_that_hides_its_library(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-c", HIDDEN, str(tmp_path / "ferry.db")], capture_output=True, text=True, timeout=60
    )
    assert done.stdout.splitlines() == [
        "database is locked 21:00:00.500000",
        "in 21:00:01.028000",
        "[('2031-03-29 21:00:01', '2031-03-30', '1932584405')]",
        "True (5000,)",
    ], done.stderr[-3000:]


# --- MariaDB ------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def mariadb() -> Iterator[MariaDB]:
    if servers.mariadb_missing():
        pytest.skip(servers.mariadb_missing())
    with MariaDB() as running:
        yield running


def pymysql_query(port: int, stack: ExitStack) -> Callable[[str], Any]:
    import pymysql

    connection = stack.enter_context(
        closing(pymysql.connect(host="127.0.0.1", port=port, user="root", autocommit=True))
    )

    def query(sql: str) -> Any:
        with connection.cursor() as cursor:
            cursor.execute(sql)
            return list(cursor.fetchall())

    return query


def connector_query(port: int, stack: ExitStack) -> Callable[[str], Any]:
    from mysql import connector

    connection = connector.connect(host="127.0.0.1", port=port, user="root", autocommit=True, use_pure=True)
    stack.callback(connection.close)

    def query(sql: str) -> Any:
        cursor = connection.cursor()
        cursor.execute(sql)
        found = cursor.fetchall() if cursor.with_rows else []
        cursor.close()
        return found

    return query


def aiomysql_query(port: int, stack: ExitStack) -> Callable[[str], Any]:
    import aiomysql

    async def ask(sql: str) -> Any:
        connection = await aiomysql.connect(host="127.0.0.1", port=port, user="root", autocommit=True)
        try:
            async with connection.cursor() as cursor:
                await cursor.execute(sql)
                return list(await cursor.fetchall())
        finally:
            connection.close()

    return lambda sql: asyncio.run(ask(sql))


MYSQL_DRIVERS = {"pymysql": pymysql_query, "mysql.connector": connector_query, "aiomysql": aiomysql_query}


@pytest.mark.parametrize("driver", MYSQL_DRIVERS)
def test_mariadb(mariadb: MariaDB, driver: str, stack: ExitStack) -> None:
    pytest.importorskip(driver)
    query = MYSQL_DRIVERS[driver](mariadb.port, stack)
    query("create or replace database tern")
    query(
        "create table tern.t (a int, made datetime default now(), at timestamp(6) default current_timestamp(6) on update current_timestamp(6))"
    )
    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.database(f"mysql://root@127.0.0.1:{mariadb.port}/tern")
        query("insert into tern.t (a) values (1)")
        rig.advance("1h 1.5s")
        query("update tern.t set a = 2")
        assert query("select a, made, at, now(6) from tern.t") == [
            (2, dt.datetime(2031, 3, 29, 21), dt.datetime(2031, 3, 29, 22, 0, 1, 500_000), dt.datetime(2031, 3, 29, 22, 0, 1, 500_000))
        ]  # fmt: skip
        assert rig.loose_ends() == []
        query("select sysdate()")
        (line,) = rig.loose_ends()
        assert "sysdate() (write NOW())" in line
        rig.allow("real clocks")
    ((now,),) = query("select now()")
    assert now.year != 2031
    with ic.Rig(start="2040-01-01") as rig:
        query("select now()")
        assert "select now()" in rig.loose_ends()[0]
        rig.allow("real clocks")
        rig.database(f"mysql://root@127.0.0.1:{mariadb.port}/tern")
        with pytest.raises(ic.InputError, match="ends at 2038-01-19"):
            query("select now()")


def test_a_connection_of_an_async_driver_that_outlives_the_rig(mariadb: MariaDB) -> None:
    aiomysql = pytest.importorskip("aiomysql")

    async def ask(connection: Any) -> dt.datetime:
        async with connection.cursor() as cursor:
            await cursor.execute("select now()")
            return (await cursor.fetchone())[0]  # type: ignore[no-any-return]

    async def works() -> list[int]:
        connection = await aiomysql.connect(host="127.0.0.1", port=mariadb.port, user="root")
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(f"mysql://root@127.0.0.1:{mariadb.port}/mysql")
            inside = await ask(connection)
        years = [inside.year, (await ask(connection)).year, (await ask(connection)).year]
        with ic.Rig(start="2032-03-29T21:00") as rig:
            rig.database(f"mysql://root@127.0.0.1:{mariadb.port}/mysql")
            years.append((await ask(connection)).year)
        connection.close()
        return years

    year = dt.datetime.now(UTC).year
    assert asyncio.run(works()) == [2031, year, year, 2032]


@pytest.mark.parametrize("driver", ["psycopg", "psycopg2"])
def test_a_rig_is_left_while_a_task_waits_in_a_statement(url: str, driver: str) -> None:
    """Nobody asks a connection whose answer another task waits for: that would wait for real, and for ever."""
    module = pytest.importorskip(driver)
    with closing(module.connect(url)) as own, own.cursor() as cursor:
        cursor.execute("create table if not exists seats (id int primary key, sold int)")
        cursor.execute("insert into seats values (1, 0) on conflict do nothing")
        own.commit()
    done: list[str] = []

    def sell(name: str, takes_s: float) -> None:
        with closing(module.connect(url)) as connection, connection.cursor() as mine:
            mine.execute("update seats set sold = sold + 1 where id = 1")
            time.sleep(takes_s)
            connection.commit()
            done.append(name)

    rig = ic.Rig()
    rig.database(url)
    with held(rig):
        for name, takes_s in (("slow", 60), ("quick", 0)):
            rig.run_loop(sell, name, takes_s, name=name)
        rig.advance("10s")
        assert done == []
    with held(rig):
        rig.advance("1m")
        assert done == ["slow", "quick"]
    rig.close()
