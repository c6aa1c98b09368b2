"""Worker loops of the application's own: `rig.run_loop`, `rig.handler`, and an outbox whose jobs they run."""

from __future__ import annotations

import asyncio
import contextlib
import json
import signal
import sqlite3
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic

COLUMNS = ic.Columns(
    name="kind", args=None, kwargs="payload", due="run_at", state="state", tries="attempts", worker="worker",
    error="error", claimed="running", done="done", dead="dead",
)  # fmt: skip


class Desk:
    """A small service with a job table in SQLite, a worker, and a reaper for rows of dead workers."""

    def __init__(self, path: Path) -> None:
        self.path = str(path)
        self.url = f"sqlite:///{path}"
        self.stopping = threading.Event()
        self.fails: dict[int, int] = {}
        self.sent: list[int] = []
        self.takes: list[float] = []
        with contextlib.closing(self.connect()) as connection:
            connection.execute(
                "create table jobs (id integer primary key, kind text, payload text, state text default 'waiting', "
                "run_at real default (unixepoch()), attempts int default 0, worker text, claimed_at real, error text)"
            )

    def connect(self) -> sqlite3.Connection:
        connection = sqlite3.connect(self.path, isolation_level=None)
        connection.row_factory = sqlite3.Row
        return connection

    def put(self, kind: str = "confirm", after: float = 0, **payload: Any) -> int:
        with contextlib.closing(self.connect()) as connection:
            made = connection.execute(
                "insert into jobs (kind, payload, run_at) values (?, ?, ?)",
                (kind, json.dumps(payload), time.time() + after),
            )
            return int(made.lastrowid or 0)

    def handle(self, id: int, kind: str, **payload: Any) -> None:
        time.sleep(self.takes.pop() if self.takes else 2)
        if self.fails.get(id, 0):
            self.fails[id] -= 1
            raise ConnectionError("harbour is closed")
        self.sent.append(id)

    def work_once(self, connection: sqlite3.Connection) -> bool:
        now, me = time.time(), threading.current_thread().name
        row = connection.execute(
            "update jobs set state = 'running', worker = ?, claimed_at = ?, attempts = attempts + 1 where id = (select id "
            "from jobs where state = 'waiting' and run_at <= ? order by run_at, id limit 1) returning *", (me, now, now),
        ).fetchone()  # fmt: skip
        if row is None:
            return False
        try:
            self.handle(row["id"], row["kind"], **json.loads(row["payload"]))
        except ConnectionError as error:
            state = "dead" if row["attempts"] == 3 else "waiting"
            connection.execute(
                "update jobs set state = ?, run_at = ?, error = ? where id = ?",
                (state, time.time() + 10 * 2 ** row["attempts"], str(error), row["id"]),
            )
        else:
            connection.execute("update jobs set state = 'done' where id = ?", (row["id"],))
        return True

    def work(self) -> None:
        with contextlib.closing(self.connect()) as connection:
            while not self.stopping.is_set():
                if not self.work_once(connection):
                    time.sleep(1)

    def reap(self) -> None:
        with contextlib.closing(self.connect()) as connection:
            while True:
                connection.execute(
                    "update jobs set state = 'waiting', worker = null where state = 'running' and claimed_at < ?",
                    (time.time() - 60,),
                )
                time.sleep(15)

    def rows(self) -> list[tuple[Any, ...]]:
        with contextlib.closing(self.connect()) as connection:
            return [tuple(row) for row in connection.execute("select state, attempts from jobs order by id")]


@pytest.fixture
def desk(tmp_path: Path) -> Desk:
    return Desk(tmp_path / "desk.db")


@pytest.fixture(params=["by the handler", "by the rows"])
def rig(request: pytest.FixtureRequest, desk: Desk) -> Iterator[ic.Rig]:
    """A rig that follows the table. With a tap on the handler, or by the rows alone."""
    with ic.Rig(start="2031-03-29T21:00") as made:
        made.outbox(desk.url, table="jobs", columns=COLUMNS, runs=False)
        if request.param == "by the handler":
            made.handler(desk.handle, id="id", job="kind")
        yield made


def test_a_row_is_a_job_and_what_a_worker_does_with_it_an_attempt(rig: ic.Rig, desk: Desk) -> None:
    rig.run_loop(desk.work, count=2, name="worker")
    desk.put(booking=7)
    later = desk.put("remind", after=60)
    rig.advance("30s")
    first = rig.jobs("confirm").one()
    assert (first.state, first.kwargs, first.attempts[0].worker) == ("done", {"booking": 7}, "worker-1")
    assert f"{first.attempts[0].started_at:%S}-{first.attempts[0].ended_at:%S}" == "00-02"
    second = rig.jobs("remind").one()
    assert (second.state, f"{second.due_at:%H:%M:%S}") == ("held", "21:01:00")
    rig.run_dry()
    assert (second.state, desk.sent) == ("done", [1, later])
    rig.check(ic.laws.nothing_lost(), ic.laws.no_overlap("confirm"))
    assert rig.loose_ends() == []


def test_failures_backoff_and_dead_rows(rig: ic.Rig, desk: Desk) -> None:
    rig.run_loop(desk.work, count=2, name="worker")
    desk.fails = {desk.put(): 2, desk.put("remind"): 3}
    rig.run_dry()
    first, second = rig.jobs("confirm").one(), rig.jobs("remind").one()
    assert (first.state, first.waits, len(first.attempts)) == ("done", ["20s", "40s"], 3)
    assert (second.state, [attempt.outcome for attempt in second.attempts]) == ("dead", ["failed"] * 3)
    assert "harbour is closed" in str(second.error)
    assert desk.rows() == [("done", 3), ("dead", 3)]


def test_a_worker_that_dies_leaves_its_row_to_the_reaper_and_starts_again(rig: ic.Rig, desk: Desk) -> None:
    workers = rig.run_loop(desk.work, name="worker", restart="5s")
    rig.run_loop(desk.reap)
    rig.faults.crash("worker", at="sleep", attempts=1)
    desk.put()
    rig.advance("30s")
    job = rig.jobs("confirm").one()
    assert (job.state, job.attempts[0].outcome) == ("running", "crashed")
    assert desk.rows() == [("running", 1)]
    assert [worker.state for worker in workers] == ["running"]
    rig.run_dry()
    assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    assert desk.sent == [1]
    lives = [(e.data["worker"], e.what, f"{e.at:%S}") for e in rig.history if e.what.startswith("worker-")]
    assert lives == [
        ("worker-1", "worker-up", "00"), ("reap-1", "worker-up", "00"), ("worker-1", "worker-down", "00"),
        ("worker-1", "worker-up", "05"),
    ]  # fmt: skip


def test_a_worker_that_is_slower_than_the_reaper_does_it_twice(rig: ic.Rig, desk: Desk) -> None:
    rig.run_loop(desk.work, count=2, name="worker")
    rig.run_loop(desk.reap)
    desk.takes = [90.0]
    desk.put()
    rig.advance("5m")
    job = rig.jobs("confirm").one()
    assert desk.sent == [1, 1]
    outcomes = [(a.worker, a.outcome) for a in job.attempts]
    # No row tells of the end of the first one, which nobody waits for any more. Its handler does.
    assert outcomes in ([("worker-1", "done"), ("worker-2", "done")], [("worker-1", "running"), ("worker-2", "done")])
    with pytest.raises(ic.BrokenLaw, match="attempt 2 of confirm-1 starts while attempt 1 of confirm-1 runs"):
        rig.check(ic.laws.no_overlap("confirm"))


def test_stopping_gracefully_and_starting_again(rig: ic.Rig, desk: Desk) -> None:
    workers = rig.run_loop(desk.work, count=2, name="worker", stop=desk.stopping.set)
    desk.put()
    rig.advance("1s")
    rig.stop_workers(grace="10s")
    rig.advance("10s")
    assert [worker.state for worker in workers] == ["ended", "ended"]
    assert desk.rows() == [("done", 1)]
    desk.put()
    rig.advance("1m")
    assert desk.rows()[1] == ("waiting", 0)
    desk.stopping.clear()
    rig.start_workers()
    rig.advance("1m")
    assert desk.rows()[1] == ("done", 1)


def test_after_its_grace_a_worker_is_killed(rig: ic.Rig, desk: Desk) -> None:
    desk.handle = lambda id, kind, **payload: time.sleep(60)  # type: ignore[method-assign]
    workers = rig.run_loop(desk.work, name="worker", stop=desk.stopping.set)
    desk.put()
    rig.advance("1s")
    workers.stop("10s")
    rig.advance("5m")
    assert rig.jobs("confirm").one().attempts[0].outcome == "crashed"
    assert desk.rows() == [("running", 1)]
    assert [e.data["why"] for e in rig.history if e.what == "worker-down"] == ["its grace is over"]


# --- signals, clocks, errors ----------------------------------------------------------------------------


def test_sigterm_reaches_the_handler_that_the_worker_has_set() -> None:
    log: list[str] = []

    def work() -> None:
        stopping = []
        before = signal.signal(signal.SIGTERM, lambda number, frame: stopping.append(number))
        assert before == signal.SIG_DFL
        while not stopping:
            time.sleep(1)
        log.append(f"stops at {time.strftime('%H:%M:%S', time.gmtime())}")

    with ic.Rig(start="2031-03-29T21:00") as rig:
        workers = rig.run_loop(work)
        rig.advance("10.5s")
        workers.stop("5s")
        rig.advance("1m")
    assert log == ["stops at 21:00:11"]
    assert signal.getsignal(signal.SIGTERM) == signal.SIG_DFL


def test_an_exit_in_a_handler_unwinds_the_worker_and_without_one_it_dies() -> None:
    log: list[str] = []

    def leaves(number: int, frame: Any) -> None:
        raise SystemExit

    def work(name: str, sets: bool) -> None:
        if sets:
            signal.signal(signal.SIGTERM, leaves)
        try:
            while True:
                time.sleep(10)
        finally:
            log.append(name)

    with ic.Rig() as rig:
        groups = [rig.run_loop(work, name, name == "polite", name=name) for name in ("polite", "rude")]
        rig.advance("5s")
        rig.stop_workers(grace="1m")
        rig.advance("1s")
        assert log == ["polite"]
        assert [loop.state for group in groups for loop in group] == ["ended", "ended"]


def test_the_clock_of_a_worker_can_be_ahead() -> None:
    seen: list[str] = []
    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.run_loop(lambda: seen.append(time.strftime("%H:%M", time.gmtime())), name="late", skew="-5m")
        rig.run_loop(lambda: seen.append(time.strftime("%H:%M", time.gmtime())), name="exact")
        rig.settle()
    assert seen == ["20:55", "21:00"]


def test_a_worker_that_raises_is_told_and_restarted() -> None:
    def work() -> None:
        time.sleep(10)
        raise ValueError("no berth left")

    with ic.Rig() as rig:
        (once,) = rig.run_loop(work, name="once")
        rig.run_loop(work, name="again", restart="30s")
        rig.advance("1m")
        assert [e.data["why"] for e in rig.history if e.what == "worker-down"] == ["ValueError: no berth left"] * 3
        (line,) = rig.loose_ends()
        assert "the worker once-1 has ended with ValueError: no berth left [capture/test_worker_loops.py:" in line
        assert "and nobody looked at it" in line
        assert isinstance(once.error, ValueError)
        assert rig.loose_ends() == []


def test_locks_and_threads_of_a_worker_die_with_it() -> None:
    lock, log = threading.Lock(), []

    def beats() -> None:
        while True:
            log.append("beat")
            time.sleep(1)

    def work() -> None:
        with lock:
            log.append("in")
            threading.Thread(target=beats, daemon=True).start()
            time.sleep(5)

    with ic.Rig() as rig:
        workers = rig.run_loop(work)
        rig.advance("2.5s")
        workers.kill("work-1")
        assert log == ["in", "beat", "beat", "beat"]
        rig.advance("10s")
        assert log.count("beat") == 3
        with pytest.raises(ic.InputError, match=r"no worker loop is called 'work-7'; did you mean 'work-1'"):
            workers.kill("work-7")


def test_an_asyncio_worker_with_several_jobs_at_once(desk: Desk) -> None:
    async def handle(number: int) -> int:
        await asyncio.sleep(10 - number)
        if number == 2:
            raise ValueError("no berth left")
        return number

    module: dict[str, Any] = {"handle": handle}

    async def work() -> None:
        async with asyncio.TaskGroup() as group:
            for number in (1, 2, 3):
                group.create_task(careful(number))

    async def careful(number: int) -> None:
        with contextlib.suppress(ValueError):
            await module["handle"](number)

    with ic.Rig() as rig:
        rig.handler(handle, id="number")
        rig.effect("sleeps", careful)
        rig.run_loop(work)
        rig.advance("1m")
        found = {job.args[0]: (job.state, len(job.attempts)) for job in rig.jobs("handle")}
        assert found == {1: ("done", 1), 2: ("backing-off", 1), 3: ("done", 1)}
        assert [e.attempt for e in rig.history if e.what == "started"] == [1, 1, 1]


@pytest.mark.parametrize("asynchronous", [False, True])
@pytest.mark.parametrize("seam", ["start", "ack"])
def test_a_worker_dies_at_the_seams_of_its_handler(asynchronous: bool, seam: str) -> None:
    handled: list[int] = []

    def handle(number: int) -> None:
        handled.append(number)

    async def handle_later(number: int) -> None:
        handle(number)

    handler = handle_later if asynchronous else handle
    module: dict[str, Any] = {"handle": handler}

    async def work_later() -> None:
        await module["handle"](1)

    with ic.Rig() as rig:
        rig.handler(handler, id="number", job=lambda number: "load")
        fault = rig.faults.crash("load", at=seam, attempts=1)
        rig.run_loop(work_later if asynchronous else lambda: module["handle"](1), name="worker", restart="5s")
        rig.advance("1m")
        assert fault.struck == 1
        assert [one.outcome for one in rig.jobs("load").one().attempts] == ["crashed", "done"]
        assert len(handled) == (1 if seam == "start" else 2)


@pytest.mark.parametrize("asynchronous", [False, True])
def test_faults_before_a_handler_take_time(asynchronous: bool) -> None:
    async def handle_later(number: int) -> None: ...

    def handle(number: int) -> None: ...

    handler = handle_later if asynchronous else handle

    async def work_later() -> None:
        await module["handle"](1)

    module: dict[str, Any] = {"handle": handler}
    with ic.Rig() as rig:
        rig.handler(handler, id="number", job=lambda number: "load")
        rig.faults.slow("load", by="7s")
        rig.run_loop(work_later if asynchronous else lambda: module["handle"](1), name="worker")
        rig.advance("1m")
        (attempt,) = rig.jobs("load").one().attempts
        assert (attempt.ended_at - attempt.started_at).total_seconds() == 7


def test_effects_and_faults_belong_to_the_job_that_is_handled() -> None:
    class Card:
        charged: list[int] = []

        def charge(self, booking: int) -> None:
            self.charged.append(booking)

    card = Card()
    waiting = [1, 2]

    def handle(booking: int) -> None:
        card.charge(booking)

    def work() -> None:
        while True:
            for booking in waiting:
                with contextlib.suppress(ConnectionError):
                    handle(booking)
                    waiting.remove(booking)
                    break
            time.sleep(1)

    with ic.Rig() as rig:
        rig.effect("charge", Card.charge, key="booking")
        rig.handler(handle, id="booking", job=lambda booking: f"book{booking}")
        rig.faults.fail("book1", attempts=1, error=ConnectionError)
        rig.faults.crash("book2", at="after charge", attempts=1)
        rig.run_loop(work, restart="10s")
        rig.advance("1m")
        assert [(e.job and e.job.id, e.attempt, e.outcome) for e in rig.effects] == [
            ("book2-2", 1, "done"), ("book1-1", 2, "done"), ("book2-2", 2, "done"),
        ]  # fmt: skip
        with pytest.raises(ic.BrokenLaw, match="charge of 2 is done 2 times"):
            rig.check(ic.laws.once_per_key("charge"))


class Card:
    """A card reader; what it does is an effect."""

    def charge(self, booking: int) -> None:
        """Charge a booking."""


@pytest.mark.exhaustive
def test_the_probe_searches_worker_loops(tmp_path: Path) -> None:
    """It finds that a worker that dies between the charge and its row charges twice."""

    def story(rig: ic.Rig) -> None:
        desk = Desk(Path(tempfile.mkdtemp(dir=tmp_path)) / "desk.db")
        desk.handle = lambda id, kind, **payload: Card().charge(id)  # type: ignore[method-assign]
        rig.effect("charge", Card.charge, key="booking")
        rig.outbox(desk.url, table="jobs", columns=COLUMNS, runs=False)
        rig.handler(desk.handle, id="id", job="kind")
        rig.run_loop(desk.work, name="worker", restart="5s")
        rig.run_loop(desk.reap)
        desk.put()
        rig.advance("3m")

    findings = ic.probe(story, [ic.laws.once_per_key("charge")], runs=60)
    (found,) = list(findings)[:1]
    assert "charge of 1 is done 2 times" in str(found)
    assert "worker-1" in str(found)


# --- idle polls -----------------------------------------------------------------------------------------


def followed(desk: Desk, skip: bool, span: str) -> tuple[list[str], list[ic.Entry]]:
    with ic.Rig(start="2031-03-29T21:00") as rig:
        rig.outbox(desk.url, table="jobs", columns=COLUMNS, runs=False)
        rig.handler(desk.handle, id="id", job="kind")
        desk.stopping.clear()
        desk.put(after=100.25)
        desk.put("remind", after=333)
        desk.fails = {2: 1}
        rig.run_loop(desk.work, count=3, name="worker", skip_polls=skip)
        rig.run_loop(desk.reap, skip_polls=skip)
        rig.advance(span)
        desk.put("extra")
        rig.advance(span)
        return [str(e) for e in rig.history if e.what != "polls-skipped"], [
            e for e in rig.history if e.what == "polls-skipped"
        ]


def test_a_run_that_skips_idle_polls_is_the_same_as_the_full_run(tmp_path: Path) -> None:
    full, none = followed(Desk(tmp_path / "full.db"), False, "600s")
    short, skipped = followed(Desk(tmp_path / "short.db"), True, "600s")
    assert short == full
    assert not none
    assert sum(e.data["count"] for e in skipped) > 2_500, "of 3,680 polls"


def test_idle_polls_by_an_event_that_can_be_set(desk: Desk) -> None:
    polls: list[float] = []

    def work() -> None:
        while not desk.stopping.wait(1):
            polls.append(time.time())

    with ic.Rig() as rig:
        rig.outbox(desk.url, table="jobs", columns=COLUMNS, runs=False)
        (worker,) = rig.run_loop(work, skip_polls=True)
        rig.advance("1h")
        assert 0 < len(polls) < 10
        rig.advance("0.5s")
        desk.stopping.set()
        rig.settle()
        assert worker.state == "ended"
        assert f"{rig.now:%H:%M:%S.%f}" == "10:00:00.500000"


def test_a_week_of_polls_is_short(desk: Desk) -> None:
    with ic.Rig() as rig:
        rig.outbox(desk.url, table="jobs", columns=COLUMNS, runs=False)
        rig.run_loop(desk.work, count=3, name="worker", skip_polls=True)
        for day in range(7):
            desk.put(after=86_400 * day + 3_000)
        rig.advance("7d")
        assert desk.rows() == [("done", 1)] * 7
        assert sum(e.data["count"] for e in rig.history if e.what == "polls-skipped") > 1_800_000


def raised(rig: ic.Rig, workers: Any) -> None:
    rig.advance("5s")
    raise next(iter(workers)).error


# --- bad input ------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("ask", "says"),
    [
        (lambda rig, desk: rig.run_loop(5), "the loop is 5, which cannot be called"),
        (lambda rig, desk: rig.run_loop(desk.work, count=0), "count is 0; give a whole number, at least 1"),
        (lambda rig, desk: rig.run_loop(desk.work, stop=5), "stop is 5; give a function without parameters"),
        (lambda rig, desk: rig.run_loop(desk.work, skip_polls="yes"), "skip_polls is 'yes'; give True or False"),
        (lambda rig, desk: rig.run_loop(desk.work, restart="soon"), "soon"),
        (lambda rig, desk: [rig.run_loop(desk.work), rig.run_loop(desk.work)], "there are worker loops of the name 'work' already"),
        (lambda rig, desk: rig.handler(desk.handle, id="row"), "id is 'row', and .* has no such parameter"),
        (lambda rig, desk: rig.outbox(desk.url, table="jobs", columns=ic.Columns(), runs=False), "the state column is missing"),
        (lambda rig, desk: rig.outbox(desk.url, table="jobs", columns=COLUMNS, runs="no"), "runs is 'no'"),
        (lambda rig, desk: raised(rig, rig.run_loop(desk.work, skip_polls=True)), "knows no table in which rows fall due"),
    ],
)  # fmt: skip
def test_loops_that_cannot_be(ask: Callable[[ic.Rig, Desk], Any], says: str, desk: Desk) -> None:
    with ic.Rig() as rig, pytest.raises((ic.InputError, ic.RigStateError, ic.TapError), match=says):
        ask(rig, desk)
        (loop,) = rig.run_loop(time.sleep, 0, name="last")
        raise AssertionError(loop)
