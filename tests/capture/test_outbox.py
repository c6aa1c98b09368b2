"""The SQL outbox: the application's own job table, in SQLite, through SQLAlchemy, and in a real PostgreSQL."""

from __future__ import annotations

import datetime as dt
import enum
import json
import os
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy
from postgres import PostgreSQL, missing
from sqlalchemy import orm
from sqlalchemy.ext.asyncio import create_async_engine

import ironclock as ic
from tern_line import booking, db, jobs

COLUMNS = ic.Columns(
    id="id", name="name", args="args", queue="queue", due="due_at", state="state", tries="tries", done="done", dead="dead"
)  # fmt: skip


def outbox(rig: ic.Rig, connection: Any = db.get, **more: Any) -> Any:
    return rig.outbox(connection, table="jobs", columns=COLUMNS, handlers=jobs.HANDLERS, **more)


def test_the_ferry_lines_own_table_on_sqlite(ferry: sqlite3.Connection) -> None:
    rig = ic.Rig(start="2031-03-29T21:00", zone="Atlantic/Faroe")
    box = outbox(rig)
    with rig:
        booking.reserve("TL-204", 1)
        rig.settle()
        job = rig.jobs("release_hold").one()
        assert (job.state, job.queue, f"{job.due_at:%H:%M}", box.jobs[1]) == ("held", "desk", "21:20", job)
        rig.run_dry()
    assert job.result == "released"
    assert rig.jobs("offer_seat").one().state == "done", "a job that a job put there"
    assert [tuple(r) for r in ferry.execute("select name, state, tries from jobs order by id")] == [
        ("release_hold", "done", 1), ("offer_seat", "done", 1),
    ]  # fmt: skip


def test_rolled_back_is_never_enqueued_and_uncommitted_is_not_there_yet(ferry: sqlite3.Connection) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    outbox(rig)
    with rig:
        with pytest.raises(ValueError, match="gone"), ferry:
            jobs.put(booking.release_hold, 1)
            rig.settle()
            assert len(rig.jobs()) == 0
            raise ValueError("gone")
        rig.settle()
        assert len(rig.jobs()) == 0
        with ferry:
            jobs.put(booking.release_hold, 1)
        rig.settle()
    assert len(rig.jobs()) == 1


def test_a_row_that_disappears_takes_its_job_with_it_and_a_dead_letter_is_written(ferry: sqlite3.Connection) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    box = outbox(rig)
    with rig:
        with ferry:
            jobs.put(booking.release_hold, 1, wait=60)
            jobs.put(booking.release_hold, 999, wait=60)
        rig.settle()
        with ferry:
            ferry.execute("delete from jobs where id = 1")
        rig.run_dry()
    assert [j.state for j in box.jobs.values()] == ["withdrawn", "dead"]
    assert "its row 1 of jobs is gone" in rig.jobs()[0].story()
    assert ferry.execute("select state from jobs").fetchone()[0] == "dead"


@pytest.mark.parametrize(
    ("row", "error", "says"),
    [
        (("sing", "[]", 0.0), ic.UnknownJob, "row 1 of jobs names the job 'sing', which has no handler"),
        (("release_hold", "{", 0.0), ic.PayloadError, "the arguments in row 1 of jobs are not JSON"),
        (("release_hold", '"x"', 0.0), ic.PayloadError, "are 'x'; they must be a JSON array"),
        (("release_hold", "[1]", "soon"), ic.InputError, "row 1 of jobs is due at 'soon'; it must be ISO 8601"),
        (("release_hold", "[1, 2]", 0.0), ic.InputError, "release_hold does not take these arguments"),
    ],
)
def test_rows_that_cannot_be_read_are_named_and_stay(
    ferry: sqlite3.Connection, row: Any, error: type[Exception], says: str
) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    outbox(rig)
    with ferry:
        ferry.execute("insert into jobs (name, args, due_at, queue) values (?, ?, ?, 'desk')", row)
    with rig, pytest.raises(error, match=says):
        rig.settle()
    assert ferry.execute("select count(*) from jobs where state = 'waiting'").fetchone()[0] == 1


@pytest.mark.parametrize(
    ("ask", "says"),
    [
        (lambda rig: rig.outbox(3, table="jobs", columns=COLUMNS), "the connection is 3; give a database connection"),
        (lambda rig: rig.outbox(db.get, table="jobs; drop", columns=COLUMNS), "give a table's name"),
        (lambda rig: rig.outbox(db.get, table="jobs", columns={"id": "id"}), r"give an ic.Columns\(...\)"),
        (lambda rig: ic.Columns(id="id, x"), "column id is 'id, x'"),
        (lambda rig: ic.Columns(done="done"), "no state column to write it into; give state="),
    ],
)
def test_an_outbox_that_cannot_be(ask: Any, says: str) -> None:
    with pytest.raises(ic.InputError, match=says):
        ask(ic.Rig())


def test_through_sqlalchemy() -> None:
    engine = sqlalchemy.create_engine("sqlite://", poolclass=sqlalchemy.pool.StaticPool)
    with engine.begin() as connection:
        connection.exec_driver_sql("create table tasks (no integer primary key, what text, given text, at text)")
    rig = ic.Rig(start="2031-03-29T21:00")
    with engine.connect() as connection:
        columns = ic.Columns(id="no", name="what", args="given", kwargs=None, due="at")
        box = rig.outbox(connection, table="tasks", columns=columns, handlers={"note": lambda text: text})
        with rig:
            with connection.begin():
                connection.exec_driver_sql(
                    "insert into tasks (what, given, at) values (?, ?, ?)",
                    ("note", '["hello"]', "2031-03-29T22:00+01:00"),
                )
            rig.settle()
            assert box.jobs[1].state == "done"
            assert box.jobs[1].result == "hello"


# --- a real PostgreSQL ----------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def server() -> Iterator[PostgreSQL]:
    reason = missing()
    if reason:
        pytest.skip(reason)
    with PostgreSQL() as running:
        yield running


SCHEMA = """
drop table if exists jobs;
create table jobs (
    id serial primary key, name text, args jsonb, queue text default 'desk', due_at timestamptz default '2031-01-01',
    state text default 'waiting', tries integer default 0, taken_by text
)
"""


@pytest.fixture
def postgres(server: PostgreSQL) -> Iterator[Any]:
    connection = server.connect()
    connection.execute(SCHEMA)
    connection.commit()
    yield connection
    connection.close()


def put(connection: Any, name: str, *args: Any) -> None:
    connection.execute("insert into jobs (name, args) values (%s, %s)", (name, json.dumps(args)))


def test_the_outbox_on_postgresql(server: PostgreSQL, postgres: Any) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    mine = server.connect()
    handlers = {"greet": lambda name: f"hello {name}", "fail": lambda: 1 / 0}
    box = rig.outbox(mine, table="jobs", columns=COLUMNS, handlers=handlers)
    with rig:
        put(postgres, "greet", "Ina")
        put(postgres, "fail")
        rig.settle()
        assert box.jobs == {}, "not committed yet"
        postgres.commit()
        put(postgres, "greet", "nobody")
        postgres.rollback()
        rig.settle()
    assert [(j.name, j.state, j.result) for j in box.jobs.values()] == [
        ("<lambda>", "done", "hello Ina"), ("<lambda>-2", "dead", None),
    ]  # fmt: skip
    assert postgres.execute("select state, tries from jobs order by id").fetchall() == [("done", 1), ("dead", 1)]
    mine.close()


def test_two_simulated_workers_never_take_the_same_row(server: PostgreSQL, postgres: Any) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    rig.workers(2)
    for number in range(10):
        put(postgres, "load", number)
    postgres.commit()
    taken: list[tuple[str, int]] = []

    def work(name: str) -> int:
        connection, count = server.connect(), 0
        while True:
            row = connection.execute(
                "select id from jobs where state = 'waiting' order by id limit 1 for update skip locked"
            ).fetchone()
            if row is None:
                break
            time.sleep(5)  # the row stays locked while the other worker looks for one
            connection.execute("update jobs set state = 'done', taken_by = %s where id = %s", (name, row[0]))
            connection.commit()
            taken.append((name, row[0]))
            count += 1
        connection.close()
        return count

    kind = rig.job(work)
    with rig:
        results = [rig.enqueue(kind.call(name)) for name in ("one", "two")]
        rig.run_dry()
        assert rig.now.second == 25, "ten rows of five seconds by two workers"
    assert sorted(row for _, row in taken) == list(range(1, 11))
    assert [job.result for job in results] == [5, 5]


def test_a_hard_crash_rolls_postgresql_back(server: PostgreSQL, postgres: Any) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    rig.effect("mark", mark)

    def transfer() -> None:
        connection = server.connect()
        connection.execute("insert into jobs (name, args) values ('half', '[]')")
        mark()
        connection.execute("insert into jobs (name, args) values ('whole', '[]')")
        connection.commit()
        connection.close()

    kind = rig.job(transfer)
    rig.faults.crash("transfer", at="after mark", attempts=1, hard=True)
    with rig:
        job = rig.enqueue(kind.call())
        rig.run_dry()
    assert [a.outcome for a in job.attempts] == ["crashed", "done"]
    assert postgres.execute("select name from jobs order by id").fetchall() == [("half",), ("whole",)]
    deadline = time.monotonic() + 5
    while server.clients(postgres) and time.monotonic() < deadline:
        time.sleep(0.01)
    assert server.clients(postgres) == 0, "the server has noticed that its client died"
    assert os.getpid()


def mark() -> None:
    return


# --- rows that change -------------------------------------------------------------------------------------


def small_table(rig: ic.Rig, ran: list[str]) -> sqlite3.Connection:
    """Return a table whose rows write down when they ran."""
    table = sqlite3.connect(":memory:", isolation_level=None)
    table.execute("create table jobs (id integer primary key, name, args, due, state default 'waiting')")
    rig.job(lambda *args: ran.append(f"{rig.now:%H:%M}"), name="sail")
    columns = ic.Columns(name="name", args="args", due="due", state="state", waiting="waiting", done="done")
    rig.outbox(table, table="jobs", columns=columns)
    return table


def put_row(table: sqlite3.Connection, due: object = None, number: int | None = None) -> None:
    table.execute("insert into jobs (id, name, args, due) values (?, 'sail', '[]', ?)", (number, due))


@pytest.mark.parametrize("due", [float("inf"), float("-inf"), 1e18, -1e15, 9e15, "soon"])
def test_an_instant_that_cannot_be_is_named_with_its_row(due: object) -> None:
    with ic.Rig() as rig:
        put_row(small_table(rig, []), due)
        with pytest.raises(ic.InputError, match="row 1 of jobs is due at"):
            rig.advance("1m")


def test_a_changed_due_a_row_set_back_and_a_reused_id() -> None:
    with ic.Rig() as rig:
        ran: list[str] = []
        table = small_table(rig, ran)
        put_row(table, "2031-03-03T09:30+00:00")
        rig.advance("10m")
        table.execute("update jobs set due = '2031-03-03T09:20+00:00'")
        rig.advance("30m")
        assert ran == ["09:20"]
        assert table.execute("select state from jobs").fetchall() == [("done",)]
        table.execute("update jobs set state = 'waiting', due = '2031-03-03T10:00+00:00'")
        rig.run_dry()
        assert ran == ["09:20", "10:00"]
        table.execute("delete from jobs")
        rig.advance("1m")
        put_row(table, number=1)
        rig.run_dry()
        assert ran == ["09:20", "10:00", "10:01"]
        assert [job.state for job in rig.jobs()] == ["withdrawn", "done", "done", "done"]


def test_a_row_that_the_rig_cannot_close_is_taken_once() -> None:
    with ic.Rig() as rig:
        ran: list[str] = []
        table = sqlite3.connect(":memory:", isolation_level=None)
        table.execute("create table jobs (id integer primary key, name, args)")
        rig.job(lambda: ran.append("once"), name="sail")
        rig.outbox(table, table="jobs", columns=ic.Columns(name="name", args="args"))
        table.execute("insert into jobs (name, args) values ('sail', '[]')")
        rig.run_dry()
        rig.advance("1h")
        assert ran == ["once"]


def test_a_dry_run_and_a_step_read_the_rows_although_no_job_is_open() -> None:
    with ic.Rig() as rig:
        ran: list[str] = []
        table = small_table(rig, ran)
        rig.run_dry()
        put_row(table)
        rig.run_dry()
        assert len(ran) == 1
        put_row(table)
        assert rig.next_due is not None
        assert rig.step()
        assert len(ran) == 2
        assert not rig.step()


def test_two_rows_that_are_kept_as_one_job_are_both_closed() -> None:
    with ic.Rig() as rig:
        table = sqlite3.connect(":memory:", isolation_level=None)
        table.execute("create table jobs (id integer primary key, name, args, state default 'waiting')")
        rig.job(lambda: None, name="sail", unique="keep")
        columns = ic.Columns(name="name", args="args", state="state", waiting="waiting", done="done")
        rig.outbox(table, table="jobs", columns=columns)
        table.execute("insert into jobs (name, args) values ('sail', '[]'), ('sail', '[]')")
        rig.run_dry()
        assert table.execute("select state from jobs").fetchall() == [("done",), ("done",)]
        assert len(rig.jobs()) == 1


# --- what the application has: engines, sessions, URLs, models --------------------------------------------


class Base(orm.DeclarativeBase):
    """The tables of a service with SQLAlchemy."""


class Status(enum.Enum):
    QUEUED = "queued"
    WORKING = "working"
    SENT = "sent"
    FAILED = "failed"


class Letter(Base):
    """A job table as services have it: a payload that is one JSON object, and states in an enum."""

    __tablename__ = "letters"
    id: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    kind: orm.Mapped[str]
    payload: orm.Mapped[dict[str, Any]] = orm.mapped_column(sqlalchemy.JSON)
    status: orm.Mapped[Status] = orm.mapped_column(default=Status.QUEUED)
    run_at: orm.Mapped[dt.datetime] = orm.mapped_column(sqlalchemy.DateTime(timezone=True))
    attempts: orm.Mapped[int] = orm.mapped_column(default=0)
    last_error: orm.Mapped[str | None]


def test_the_columns_of_a_model() -> None:
    assert ic.Columns.of(Letter) == ic.Columns(
        id="id", name="kind", args=None, kwargs="payload", due="run_at", state="status", tries="attempts",
        error="last_error", waiting="QUEUED", claimed="WORKING", done="SENT", dead="FAILED",
    )  # fmt: skip
    with pytest.raises(ic.InputError, match="has no column for the name of the job"):
        ic.Columns.of(
            sqlalchemy.Table("t", sqlalchemy.MetaData(), sqlalchemy.Column("id", sqlalchemy.Integer, primary_key=True))
        )
    with pytest.raises(ic.InputError, match="the model is 5; give a model class"):
        ic.Columns.of(5)


WAYS: dict[str, Callable[[Any], Any]] = {
    "engine": lambda engine: engine, "session maker": orm.sessionmaker, "function": lambda engine: (lambda one: lambda: one)(engine.connect()),
    "session": lambda engine: orm.Session(engine), "connection": lambda engine: engine.connect(),
    "URL": lambda engine: engine.url.render_as_string(hide_password=False),
    "async engine": lambda engine: create_async_engine(engine.url.set(drivername=engine.url.drivername.replace("psycopg", "asyncpg").replace("sqlite", "sqlite+aiosqlite"))),
}  # fmt: skip


@pytest.fixture(params=["sqlite", "postgresql"])
def engine(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Any]:
    if request.param == "sqlite":
        made = sqlalchemy.create_engine(f"sqlite:///{tmp_path / 'ferry.db'}")
    else:
        port = request.getfixturevalue("server").port
        made = sqlalchemy.create_engine(f"postgresql+psycopg://tern@127.0.0.1:{port}/postgres")
    Base.metadata.drop_all(made)
    Base.metadata.create_all(made)
    yield made
    made.dispose()


@pytest.mark.parametrize("way", WAYS)
def test_whatever_the_application_has(engine: Any, way: str) -> None:
    if way == "async engine" and engine.dialect.name == "sqlite":
        pytest.importorskip("aiosqlite")
    sent, given = [], WAYS[way](engine)

    def send(to: str, booking: int) -> None:
        if booking == 7 and not sent:
            sent.append("lost")
            raise ConnectionError("no mail today")
        sent.append(to)

    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.job(send, retry=ic.Retry(2, "10m"))
        rig.outbox(given, table=Letter)
        with orm.Session(engine) as session:
            for n, to in ((7, "ada"), (8, "bo"), (9, "cy")):
                session.add(
                    Letter(kind="send", payload={"to": to, "booking": n}, run_at=rig.now + dt.timedelta(minutes=n))
                )
            session.flush()
            rig.advance("1m")
            assert len(rig.jobs()) == 0, "nothing is committed yet"
            session.commit()
        rig.advance("8m")
        assert [job.state for job in rig.jobs("send")] == ["backing-off", "done", "done"]
        with orm.Session(engine) as session:
            first, second, _ = session.query(Letter).order_by(Letter.id)
            assert (first.status, first.attempts, first.last_error) == (
                Status.QUEUED,
                1,
                "ConnectionError: no mail today",
            )
            assert first.run_at.replace(tzinfo=None) == dt.datetime(2031, 3, 29, 21, 17)
            assert (second.status, second.attempts) == (Status.SENT, 1)
        rig.run_dry()
        assert sent == ["lost", "bo", "cy", "ada"]
        rig.loose_ends()
    if hasattr(given, "close"):
        given.close()


def test_a_database_in_memory_and_a_transaction_of_the_application() -> None:
    engine = sqlalchemy.create_engine("sqlite://", poolclass=sqlalchemy.pool.StaticPool)
    Base.metadata.create_all(engine)
    with ic.Rig() as rig:
        rig.job(lambda to: None, name="send")
        rig.outbox(engine, table=Letter)
        with orm.Session(engine) as session:
            session.add(Letter(kind="send", payload={"to": "ada"}, run_at=rig.now))
            session.flush()
            rig.settle()
            assert len(rig.jobs()) == 0
            session.rollback()
            session.add(Letter(kind="send", payload={"to": "bo"}, run_at=rig.now))
            session.commit()
        rig.settle()
        assert [job.kwargs for job in rig.jobs()] == [{"to": "bo"}]
        assert rig.jobs().one().state == "done"
    engine.dispose()


@pytest.mark.parametrize("runs", [True, False])
def test_a_table_or_a_column_that_is_not_there(engine: Any, runs: bool) -> None:
    columns = ic.Columns(name="kind", args=None, due="runs_at", state="status", claimed="WORKING", done="SENT")
    with ic.Rig() as rig:
        rig.outbox(engine, table="letters", columns=columns, runs=runs)
        with pytest.raises(
            ic.InputError,
            match="the table letters has no column 'runs_at', which Columns names as due; did you mean 'run_at'",
        ):
            rig.settle()
    with ic.Rig() as rig:
        rig.outbox(engine, table="leters", columns=columns, runs=runs)
        with pytest.raises(ic.InputError, match=r"the table leters cannot be read: .*; create it before the rig runs"):
            rig.settle()


def test_several_tables_of_one_database() -> None:
    table = sqlite3.connect(":memory:", isolation_level=None)
    for name in ("mails", "calls"):
        table.execute(f"create table {name} (id integer primary key, name, args, state default 'waiting')")
        table.execute(f"insert into {name} (name, args) values ('tell', '[\"{name}\"]')")
    told: list[str] = []
    with ic.Rig() as rig:
        rig.job(told.append, name="tell")
        columns = ic.Columns(state="state", done="done")
        boxes = [rig.outbox(table, table=name, columns=columns) for name in ("mails", "calls")]
        rig.run_dry()
        assert told == ["mails", "calls"]
        assert [len(box.jobs) for box in boxes] == [1, 1]


DJANGO = """
import sys
import django
from django.conf import settings
settings.configure(DATABASES={"default": {database!r}}, USE_TZ=True, INSTALLED_APPS=[])
django.setup()
from django.db import connection, models, transaction
from django.test import TestCase
import datetime as dt
import ironclock as ic

class Letter(models.Model):
    class Status(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        SENT = "sent"
        FAILED = "failed"
    task = models.CharField(max_length=40)
    payload = models.JSONField()
    status = models.CharField(max_length=10, choices=Status.choices, default=Status.QUEUED)
    run_at = models.DateTimeField()
    attempts = models.IntegerField(default=0)
    class Meta:
        app_label = "ferry"

with connection.schema_editor() as editor:
    editor.create_model(Letter)
sent = []

def story():
    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.job(sent.append, name="send")
        rig.outbox(connection, table=Letter, handlers={"send": lambda to: sent.append(to)})
        with transaction.atomic():
            Letter.objects.create(task="send", payload={"to": "ada"}, run_at=rig.now + dt.timedelta(minutes=5))
            rig.settle()
            assert len(rig.jobs()) == 0
        try:
            with transaction.atomic():
                Letter.objects.create(task="send", payload={"to": "bo"}, run_at=rig.now)
                raise ValueError
        except ValueError:
            pass
        rig.advance("10m")
        with transaction.atomic():
            Letter.objects.create(task="send", payload={"to": "cy"}, run_at=rig.now)
        rig.settle()
    print(sent, list(Letter.objects.order_by("id").values_list("status", "attempts")), connection.in_atomic_block)

story()
Letter.objects.all().delete()
sent.clear()
with transaction.atomic():  # as a TestCase of Django does it: nothing is ever committed
    story()
    transaction.set_rollback(True)
print(Letter.objects.count())
with connection.schema_editor() as editor:
    editor.delete_model(Letter)
connection.close()
"""


@pytest.mark.parametrize("engine_name", ["sqlite3", "postgresql"])
def test_django(engine_name: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    pytest.importorskip("django")
    database: dict[str, Any] = {"ENGINE": f"django.db.backends.{engine_name}", "NAME": str(tmp_path / "ferry.db")}
    if engine_name == "postgresql":
        port = request.getfixturevalue("server").port
        database |= {"NAME": "postgres", "USER": "tern", "HOST": "127.0.0.1", "PORT": port}
    code = DJANGO.replace("{database!r}", repr(database))
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.stdout.splitlines() == [
        "['ada', 'cy'] [('sent', 1), ('sent', 1)] False", "['ada', 'cy'] [('sent', 1), ('sent', 1)] True", "0",
    ], done.stderr[-3000:]  # fmt: skip
