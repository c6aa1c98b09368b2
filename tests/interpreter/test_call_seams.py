"""Seams in real calls: statements, files, requests and sockets at which faults strike, without a change to the code."""

from __future__ import annotations

import asyncio
import http.client
import http.server
import json
import os
import socket
import sqlite3
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import postgres
import pytest
import servers
from postgres import PostgreSQL
from servers import MariaDB

import ironclock as ic
from ironclock.interpreter.border.call_seams import file_name, http_call, sql_call

Work = Callable[[], None]


def searched(work: Work, seams: str, *faults: str) -> tuple[list[str], set[type[BaseException]]]:
    """Search one job; return the seams of its code that it passes, and the errors that it has seen."""
    seen: set[type[BaseException]] = set()

    def story(rig: ic.Rig) -> None:
        def load() -> None:
            try:
                work()
            except Exception as error:
                seen.add(type(error))
                raise

        rig.enqueue(rig.job(load, retry=ic.Retry(5)).call())
        rig.run_dry()

    found = ic.probe(story, seams=seams, faults=faults or ("fail",), depth=1, orders=False)
    assert not found, found
    own = [name.partition("attempt 1, ")[2] for name in found.coverage.passed]
    return [name for name in own if name and name not in ("start", "ack", "sleep")], seen


# --- names --------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sql", "name", "changes"),
    [
        ("select * from seats", "sql SELECT seats", False),
        ("  -- a note\n  Insert into public.seats values (1)", "sql INSERT seats", True),
        ('update only "seats" set n = 1', "sql UPDATE seats", True),
        ("(select 1) union (select 2)", "sql SELECT", False),
        ("with gone as (delete from seats returning *) select * from gone", "sql DELETE seats", True),
        (b"commit", "sql COMMIT", True),
        ("/* begin */ BEGIN", "sql BEGIN", False),
        ("create table if not exists seats (n int)", "sql CREATE seats", True),
        ("rollback", None, False),
        ("", None, False),
    ],
)
def test_names_of_statements(sql: Any, name: str | None, changes: bool) -> None:
    assert sql_call(sql) == (None if name is None else (name, changes))


def test_names_of_requests_and_files() -> None:
    assert (
        http_call("PUT", "/manifests/TL-204?day=1", "harbour.example:8080")
        == "http PUT harbour.example/manifests/TL-204"
    )
    assert http_call(b"GET", b"http://127.0.0.1:41234/tides") == "http GET /tides"
    assert http_call("GET", "http://localhost") == "http GET /"
    assert file_name(f"/tmp/x/fares.{os.getpid()}.tmp") == "fares.*.tmp"
    assert file_name("/tmp/9f86d081884c7d65.csv") == "*.csv"


def test_kinds_that_there_are_not() -> None:
    with pytest.raises(ic.InputError, match=r"unknown kind of seam 'file'; did you mean 'files'"):
        ic.Rig(seams="file")
    with pytest.raises(ic.InputError, match=r"unknown kind of seam 'disk'"):
        ic.probe(lambda rig: None, seams=["sql", "disk"])
    with ic.Rig() as rig:
        rig.faults.crash(at="before sql INSERT seats")
        rig.enqueue(rig.job(lambda: None, name="load").call())
        with pytest.raises(ic.InputError, match=r"real calls of this rig are no seams; give Rig\(seams='sql'\)"):
            rig.run_dry()


# --- databases ----------------------------------------------------------------------------------------

SQL = [
    "before sql INSERT seats",
    "after sql INSERT seats",
    "before sql COMMIT",
    "after sql COMMIT",
    "before sql SELECT seats",
]


@pytest.fixture(scope="module")
def postgres_url() -> Iterator[str]:
    if postgres.missing():
        pytest.skip(postgres.missing())
    with PostgreSQL() as running:
        with running.connect() as connection:
            connection.execute("create table seats (n integer)")
        yield f"postgresql://tern@127.0.0.1:{running.port}/postgres"


@pytest.fixture(scope="module")
def mariadb() -> Iterator[dict[str, Any]]:
    if servers.mariadb_missing():
        pytest.skip(servers.mariadb_missing())
    with MariaDB() as running:
        import pymysql

        where = {"host": "127.0.0.1", "port": running.port, "user": "root"}
        with closing(pymysql.connect(**where)) as connection, connection.cursor() as cursor:
            cursor.execute("create database bookings")
            cursor.execute("use bookings")
            cursor.execute("create table seats (n integer)")
        yield {**where, "database": "bookings"}


def with_cursor(connect: Callable[[], Any]) -> Work:
    def work() -> None:
        with closing(connect()) as connection:
            cursor = connection.cursor()
            cursor.execute("insert into seats values (1)")
            connection.commit()
            cursor.execute("select n from seats")
            cursor.fetchall()

    return work


def test_sqlite(tmp_path: Path) -> None:
    path = tmp_path / "seats.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("create table seats (n integer)")
    assert searched(with_cursor(lambda: sqlite3.connect(path)), "sql") == (SQL, {sqlite3.OperationalError})

    def by_connection() -> None:
        with closing(sqlite3.connect(path)) as connection:
            with connection:
                connection.execute("insert into seats values (2)")
            connection.execute("select * from seats")

    assert searched(by_connection, "sql")[0] == SQL


@pytest.mark.parametrize("driver", ["psycopg", "psycopg2"])
def test_postgresql(driver: str, postgres_url: str) -> None:
    module = pytest.importorskip(driver)
    passed, errors = searched(with_cursor(lambda: module.connect(postgres_url)), "sql")
    assert (passed, errors) == (SQL, {module.OperationalError})


def test_transaction_blocks_and_sqlalchemy(postgres_url: str) -> None:
    psycopg = pytest.importorskip("psycopg")
    sqlalchemy = pytest.importorskip("sqlalchemy")

    def block() -> None:
        with psycopg.connect(postgres_url) as connection, connection.transaction():
            connection.execute("insert into seats values (1)")

    assert searched(block, "sql")[0] == SQL[:4]

    def engine() -> None:
        made = sqlalchemy.create_engine(postgres_url.replace("postgresql", "postgresql+psycopg"))
        with made.begin() as connection:
            connection.execute(sqlalchemy.text("insert into seats values (1)"))
        made.dispose()

    passed, errors = searched(engine, "sql")
    assert [name for name in passed if "seats" in name] == SQL[:2]
    assert passed[-1].startswith("after sql COMMIT")
    assert errors == {sqlalchemy.exc.OperationalError}


def test_asynchronous_drivers(postgres_url: str) -> None:
    psycopg, asyncpg = pytest.importorskip("psycopg"), pytest.importorskip("asyncpg")

    async def with_psycopg() -> None:
        async with await psycopg.AsyncConnection.connect(postgres_url) as connection:
            await connection.execute("insert into seats values (1)")
            await connection.commit()
            await connection.execute("select n from seats")

    passed, errors = searched(lambda: asyncio.run(with_psycopg()), "sql")
    assert (passed[:5], errors) == (SQL, {psycopg.OperationalError})

    async def with_asyncpg() -> None:
        connection = await asyncpg.connect(postgres_url)
        try:
            async with connection.transaction():
                await connection.execute("insert into seats values ($1)", 1)
            await connection.fetch("select n from seats")
        finally:
            await connection.close()

    passed, errors = searched(lambda: asyncio.run(with_asyncpg()), "sql")
    assert [name for name in passed if "BEGIN" not in name] == SQL
    assert errors == {asyncpg.PostgresConnectionError}


def test_mariadb(mariadb: dict[str, Any]) -> None:
    pymysql, connector = pytest.importorskip("pymysql"), pytest.importorskip("mysql.connector")
    passed, errors = searched(with_cursor(lambda: pymysql.connect(**mariadb)), "sql")
    assert (passed, errors) == (SQL, {pymysql.OperationalError})
    passed, errors = searched(with_cursor(lambda: connector.connect(**mariadb, use_pure=True)), "sql")
    assert (passed, errors) == (SQL, {connector.OperationalError})

    async def work() -> None:
        import aiomysql

        named = {"db" if name == "database" else name: value for name, value in mariadb.items()}
        with closing(await aiomysql.connect(**named)) as connection:
            cursor = await connection.cursor()
            await cursor.execute("insert into seats values (1)")
            await connection.commit()

    passed, errors = searched(lambda: asyncio.run(work()), "sql")
    assert (passed, errors) == (SQL[:4], {pymysql.OperationalError})


@pytest.mark.parametrize(
    ("kind", "at", "state", "rows"),
    [
        ("crash", "before sql COMMIT", "dead", 0), ("crash", "after sql COMMIT", "dead", 1),
        ("fail", "before sql COMMIT", "dead", 0), ("fail", "after sql COMMIT", "dead", 1),
        ("slow", "before sql COMMIT", "done", 1),
    ],
)  # fmt: skip
def test_faults_that_a_test_places_at_a_commit(tmp_path: Path, kind: str, at: str, state: str, rows: int) -> None:
    path = tmp_path / "seats.db"
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("create table seats (n integer)")

    def load() -> None:
        with closing(sqlite3.connect(path)) as connection, connection:
            connection.execute("insert into seats values (1)")

    with ic.Rig(seams="sql") as rig:
        job = rig.job(load, deliveries=1)
        fault = rig.faults.slow(job, by="5s", at=at) if kind == "slow" else getattr(rig.faults, kind)(job, at=at)
        run = rig.enqueue(job.call())
        rig.run_dry()
        assert (run.state, fault.struck) == (state, 1)
        assert (f"{rig.now:%S}" == "05") == (kind == "slow")
        list(rig.dead)
    with closing(sqlite3.connect(path)) as connection:
        assert connection.execute("select count(*) from seats").fetchone() == (rows,)


# --- files --------------------------------------------------------------------------------------------


def test_files(tmp_path: Path) -> None:
    def work() -> None:
        with tempfile.NamedTemporaryFile("w", dir=tmp_path, suffix=".json", delete=False) as file:
            file.write(json.dumps({"seats": 40}))
            file.flush()
            os.fsync(file.fileno())
        os.replace(file.name, tmp_path / "manifest.json")
        (tmp_path / "copy.json").write_bytes((tmp_path / "manifest.json").read_bytes())
        (tmp_path / "copy.json").unlink()

    passed, errors = searched(work, "files", "fail", "crash")
    assert errors == {OSError}
    assert passed == [
        f"{when} file {what}"
        for what, whens in (
            ("open tmp*.json", "before after"), ("write tmp*.json", "before halfway after"),
            ("fsync tmp*.json", "before after"), ("rename manifest.json", "before after"),
            ("open copy.json", "before after"), ("write copy.json", "before halfway after"),
            ("remove copy.json", "before after"),
        )
        for when in whens.split()
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("at", "left"),
    [
        ("before file open fares.csv", "old"), ("after file open fares.csv", ""), ("before file write fares.csv", ""),
        ("halfway file write fares.csv", "0123"), ("after file write fares.csv", "01234567"),
    ],
)  # fmt: skip
def test_what_a_crash_leaves_of_a_file(tmp_path: Path, at: str, left: str) -> None:
    """Neither is the rest written, nor what was in the buffers of the dead process."""
    path = tmp_path / "fares.csv"
    path.write_text("old")

    def load() -> None:
        with open(path, "w") as file:
            file.write("01234567")

    with ic.Rig(seams="files") as rig:
        job = rig.job(load, deliveries=1)
        rig.faults.crash(at=at)
        rig.enqueue(job.call())
        rig.run_dry()
        assert path.read_text() == left
        list(rig.dead)


def test_buffers_of_a_dead_worker_are_lost_without_seams_too(tmp_path: Path) -> None:
    path = tmp_path / "log.txt"

    def load() -> None:
        file = open(path, "w")  # noqa: SIM115
        file.write("never flushed")
        mail.send("ina", "loaded")
        file.close()

    with ic.Rig() as rig:
        mail = rig.service(ic.services.Mail())
        job = rig.job(load, deliveries=1)
        rig.faults.crash(at="after mail.send")
        rig.enqueue(job.call())
        rig.run_dry()
        assert path.read_text() == ""
        list(rig.dead)


def test_files_of_the_test_and_imports_are_no_seams(tmp_path: Path) -> None:
    (tmp_path / "seats_of_today.py").write_text("free = 3\n")

    def work() -> None:
        import sys

        sys.path.insert(0, str(tmp_path))
        try:
            import seats_of_today  # noqa: F401  # ty: ignore
        finally:
            sys.path.remove(str(tmp_path))
            sys.modules.pop("seats_of_today", None)
        print("loaded")

    assert searched(work, "files") == ([], set())


# --- requests and sockets -----------------------------------------------------------------------------


class Harbour(http.server.BaseHTTPRequestHandler):
    def do_PUT(self) -> None:
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        self.send_response(204)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: Any) -> None: ...


@pytest.fixture(scope="module")
def harbour() -> Iterator[str]:
    """A real server on a real thread."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Harbour)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


PUT = ["before http PUT /manifests", "after http PUT /manifests"]


def test_http_client(harbour: str) -> None:
    def work() -> None:
        with closing(http.client.HTTPConnection(harbour.removeprefix("http://"))) as connection:
            connection.request("PUT", "/manifests?day=1", b"{}")
            connection.getresponse().read()

    assert searched(work, "http") == (PUT, {ConnectionRefusedError, ConnectionResetError})


def test_clients_raise_their_own_errors(harbour: str) -> None:
    requests, httpx, aiohttp = map(pytest.importorskip, ("requests", "httpx", "aiohttp"))

    def with_httpx() -> None:
        with httpx.Client() as client:
            client.put(f"{harbour}/manifests", json={})

    async def with_httpx_async() -> None:
        async with httpx.AsyncClient() as client:
            await client.put(f"{harbour}/manifests", json={})

    async def with_aiohttp() -> None:
        async with aiohttp.ClientSession() as session, session.put(f"{harbour}/manifests", json={}):
            pass

    assert searched(lambda: requests.put(f"{harbour}/manifests", json={}) and None, "http") == (
        PUT, {requests.ConnectionError},
    )  # fmt: skip
    assert searched(with_httpx, "http") == (PUT, {httpx.ConnectError, httpx.ReadError})
    assert searched(lambda: asyncio.run(with_httpx_async()), "http") == (PUT, {httpx.ReadError})
    assert searched(lambda: asyncio.run(with_aiohttp()), "http") == (PUT, {aiohttp.ClientConnectionError})


def test_sockets(harbour: str) -> None:
    host, _, port = harbour.removeprefix("http://").partition(":")

    def work() -> None:
        with socket.create_connection((host, int(port))) as one:
            one.sendall(b"PUT /manifests HTTP/1.0\r\nContent-Length: 0\r\n\r\n")
            while one.recv(1000):
                pass

    assert searched(work, "sockets", "fail", "crash", "slow") == (
        [f"{when} socket {what}" for what in ("connect", "send") for when in ("before", "after")],
        {ConnectionResetError},
    )


def test_the_rigs_own_statements_are_no_seams(tmp_path: Path) -> None:
    path = tmp_path / "desk.db"

    def story(rig: ic.Rig) -> None:
        path.unlink(missing_ok=True)
        with closing(sqlite3.connect(path)) as connection:
            connection.execute("create table jobs (id integer primary key, name text, args text)")
            connection.execute("insert into jobs (name, args) values ('load', '[]')")
            connection.commit()
        rig.job(lambda: None, name="load")
        rig.outbox(f"sqlite:///{path}", table="jobs", columns=ic.Columns(name="name", args="args"))
        rig.run_dry()

    found = ic.probe(story, seams="sql", runs=1)
    assert "load-1, attempt 1, start" in found.coverage.passed
    assert not [name for name in found.coverage.passed if "sql" in name]


def test_a_finding_with_real_calls_is_repeated_from_its_token(tmp_path: Path) -> None:
    def story(rig: ic.Rig) -> None:
        folder = tmp_path / str(os.getpid())  # two processes play it at once, to see if the order of hashes shows
        folder.mkdir(exist_ok=True)
        path = folder / "fares.json"
        path.write_text("[]")

        def load() -> None:
            path.write_text(json.dumps([1, 2, 3]))

        def show() -> None:
            fares.append(json.loads(path.read_text()))

        fares: list[Any] = []
        kinds = rig.job(load, deliveries=1), rig.job(show)
        rig.enqueue(kinds[0].call())
        rig.enqueue(kinds[1].call(), after="1m")
        rig.run_dry()

    law = ic.laws.holds(
        "the fares can be read", lambda world: all(job.state == "done" for job in world if job.name == "show")
    )
    found = ic.probe(story, law, seams=("files",), faults=("crash",))
    assert not found
    found = ic.probe(story, law, seams=("files",), faults=("fail", "hang"), errors={"file write fares.json": OSError})
    assert [one.moves for one in found] == [("load-1, attempt 1, after file open fares.json: an error",)]
    rig = ic.Rig()
    rig.replay(found[0].token)
    with rig:
        story(rig)
        with pytest.raises(ic.BrokenLaw, match="the fares can be read"):
            rig.check(law)
        list(rig.dead)
    assert rig.history.digest() == found[0].digest
