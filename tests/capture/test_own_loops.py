"""Worker loops of the application's own, as good as the rig's workers: overtaken attempts, doubles, handlers, ends."""

from __future__ import annotations

import asyncio
import concurrent.futures
import contextlib
import gc
import json
import os
import queue
import select
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic

COLUMNS = ic.Columns(
    name="kind", args=None, kwargs="payload", due="run_at", state="state", tries="tries", worker="worker",
    error="error", claimed="running", done="done", dead="dead",
)  # fmt: skip


class Desk:
    """A service with a job table. Its workers take rows over that somebody has had for too long."""

    def __init__(self, path: Path) -> None:
        self.path = str(path)
        self.charged: list[str] = []
        self.takes: list[float] = []
        self.fails = 0
        with contextlib.closing(self.connect()) as connection:
            connection.execute(
                "create table jobs (id integer primary key, kind text, payload text, state text default 'waiting', "
                "run_at real default (unixepoch()), tries int default 0, worker text, claimed_at real, error text)"
            )

    def connect(self) -> sqlite3.Connection:
        connection = sqlite3.connect(self.path, isolation_level=None)
        connection.row_factory = sqlite3.Row
        return connection

    def put(self, kind: str = "charge", **payload: Any) -> None:
        with contextlib.closing(self.connect()) as connection:
            row = kind, json.dumps(payload), time.time()
            connection.execute("insert into jobs (kind, payload, run_at) values (?, ?, ?)", row)

    def handle(self, id: int, kind: str, **payload: Any) -> None:
        time.sleep(self.takes.pop(0) if self.takes else 2)
        if self.fails:
            self.fails -= 1
            raise ConnectionError("the bank is closed")
        self.charge(f"B-{id}")

    def charge(self, booking: str) -> None:
        self.charged.append(booking)

    def claim(self, connection: sqlite3.Connection, expires: float = 1e9) -> sqlite3.Row | None:
        now, me = time.time(), threading.current_thread().name
        row: sqlite3.Row | None = connection.execute(
            "update jobs set state = 'running', worker = ?, claimed_at = ?, tries = tries + 1 where id = (select id from "
            "jobs where (state = 'waiting' and run_at <= ?) or (state = 'running' and claimed_at < ?) limit 1) "
            "returning *", (me, now, now, now - expires),
        ).fetchone()  # fmt: skip
        return row

    def work(self, expires: float = 1e9, call: Callable[[str, Any], Any] | None = None) -> None:
        with contextlib.closing(self.connect()) as connection:
            while True:
                row = self.claim(connection, expires)
                if row is None:
                    time.sleep(1)
                    continue
                payload = json.loads(row["payload"])
                try:
                    if call is None:
                        self.handle(row["id"], row["kind"], **payload)
                    else:
                        call(row["kind"], payload)
                except ConnectionError:
                    connection.execute(
                        "update jobs set state = 'waiting', run_at = ?, error = ? where id = ?",
                        (time.time() + 10, traceback.format_exc(), row["id"]),
                    )
                else:
                    connection.execute("update jobs set state = 'done' where id = ?", (row["id"],))


@pytest.fixture
def desk(tmp_path: Path) -> Desk:
    return Desk(tmp_path / "desk.db")


def watched(rig: ic.Rig, desk: Desk, by_handler: bool = True) -> None:
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, runs=False)
    rig.effect("charge", desk.charge, key="booking")
    if by_handler:
        rig.handler(desk.handle, id="id", job="kind")


# --- what happens to a job ------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["deliver_twice", "lose_ack"])
def test_a_second_delivery_calls_the_handler_again(desk: Desk, kind: str) -> None:
    with ic.Rig() as rig:
        watched(rig, desk)
        getattr(rig.faults, kind)("charge", attempts=1)
        rig.run_loop(desk.work, name="worker")
        desk.put()
        rig.advance("1m")
        job = rig.jobs("charge").one()
        assert (job.state, len(job.attempts)) == ("done", 2)
        with pytest.raises(ic.BrokenLaw, match="is done 2 times"):
            rig.check(ic.laws.once_per_key("charge"))
        rig.check(ic.laws.no_overlap())


@pytest.mark.parametrize("by_handler", [True, False])
def test_two_workers_that_run_one_job_are_two_attempts(desk: Desk, by_handler: bool) -> None:
    with ic.Rig() as rig:
        watched(rig, desk, by_handler)
        desk.takes = [200, 200]
        rig.run_loop(desk.work, 60, count=2, name="worker")
        desk.put()
        rig.advance("3m")
        job = rig.jobs("charge").one()
        assert [attempt.worker for attempt in job.attempts] == ["worker-1", "worker-2"]
        assert "attempt 1 is overtaken: worker-2 has taken its job" in job.story()
        unseen = "its end is not seen"
        assert (unseen in job.story()) == (not by_handler)
        with pytest.raises(ic.BrokenLaw, match="starts while attempt 1 .* runs" + f".*{unseen}" * (not by_handler)):
            rig.check(ic.laws.no_overlap())
        rig.advance("10m")
        assert job.state == "done"
        assert next(attempt.outcome for attempt in job.attempts) == "done"
        rig.check(ic.laws.nothing_lost())


def test_a_row_that_is_claimed_again_between_two_looks_is_a_new_attempt(desk: Desk) -> None:
    def work() -> None:
        with contextlib.closing(desk.connect()) as connection:
            desk.claim(connection)
            time.sleep(30)
            connection.execute("update jobs set state = 'waiting'")
            desk.claim(connection)  # at the same instant
            time.sleep(30)
            connection.execute("update jobs set state = 'done'")
            time.sleep(1000)

    with ic.Rig() as rig:
        watched(rig, desk, by_handler=False)
        rig.run_loop(work, name="worker")
        desk.put()
        rig.advance("5m")
        starts = [f"{attempt.started_at:%M:%S}" for attempt in rig.jobs("charge").one().attempts]
        assert starts == ["00:00", "00:30"]


def test_a_worker_that_counts_tries_after_its_claim_has_one_attempt(desk: Desk) -> None:
    def work() -> None:
        with contextlib.closing(desk.connect()) as connection:
            connection.execute("update jobs set state = 'running', worker = 'a'")
            time.sleep(0)
            connection.execute("update jobs set tries = tries + 1")
            time.sleep(30)
            connection.execute("update jobs set state = 'done'")
            time.sleep(1000)

    with ic.Rig() as rig:
        watched(rig, desk, by_handler=False)
        rig.run_loop(work, name="worker")
        desk.put()
        rig.advance("5m")
        assert [attempt.outcome for attempt in rig.jobs("charge").one().attempts] == ["done"]


def test_a_fault_on_a_job_that_is_known_by_its_row_says_what_is_missing(desk: Desk) -> None:
    with ic.Rig() as rig:
        watched(rig, desk, by_handler=False)
        rig.faults.crash("charge", attempts=1)
        rig.run_loop(desk.work, name="worker")
        desk.put()
        rig.advance("1m")
        (line,) = rig.loose_ends()
        assert "charge came to the seam 'start', and the rig knows it by its row alone; say with rig.handler" in line


def test_a_handler_that_is_called_again_after_its_job_is_done_is_a_second_delivery(desk: Desk) -> None:
    def work() -> None:
        desk.handle(7, "charge")
        desk.handle(7, "charge")
        time.sleep(100)

    with ic.Rig() as rig:
        rig.handler(desk.handle, id="id", job="kind")
        rig.run_loop(work)
        rig.advance("1m")
        job = rig.jobs("charge").one()
        assert job.state == "done"
        assert "the message of attempt 1 is delivered a second time" in job.story()
        assert "dead letters" not in job.story()


def test_a_row_that_waits_again_after_it_was_done_says_so(desk: Desk) -> None:
    with ic.Rig() as rig:
        watched(rig, desk)
        rig.run_loop(desk.work, name="worker")
        desk.put()
        rig.advance("10s")
        with contextlib.closing(desk.connect()) as connection:
            connection.execute("update jobs set state = 'waiting'")
        rig.advance("10s")
        job = rig.jobs("charge").one()
        assert "its row waits again, though it was done" in job.story()
        assert (job.state, len(job.attempts)) == ("done", 2)
        rig.check(ic.laws.nothing_lost())


def test_a_whole_traceback_in_a_row_is_told_by_its_last_line(desk: Desk) -> None:
    with ic.Rig() as rig:
        watched(rig, desk, by_handler=False)
        desk.fails = 1
        rig.run_loop(desk.work, name="worker")
        desk.put()
        rig.advance("1m")
        job = rig.jobs("charge").one()
        assert "attempt 1 fails: RowFailed: ConnectionError: the bank is closed; tries again in 10s" in job.story()
        assert "Traceback" not in job.story()
        assert getattr(job.attempts[0].error, "text", "").startswith("Traceback (most recent call last)")


# --- whose effect it is ---------------------------------------------------------------------------------


def test_an_effect_belongs_to_the_attempt_in_which_its_coroutine_was_started() -> None:
    charged: list[str] = []

    def charge(booking: str) -> None:
        charged.append(booking)

    async def handle(number: int) -> None:
        async def later() -> None:
            await asyncio.sleep(5)
            charge(f"B-{number}")

        tasks.append(asyncio.create_task(later()))
        await asyncio.sleep(1)

    tasks: list[asyncio.Task[None]] = []

    async def work() -> None:
        for number in (1, 2, 3):
            await handle(number)
        await asyncio.sleep(100)

    with ic.Rig() as rig:
        rig.handler(handle, id="number")
        rig.effect("charge", charge, key="booking")
        rig.run_loop(work)
        rig.advance("1m")
        effects = rig.effects("charge")
        owners = [(effect.key, effect.job and effect.job.args, effect.attempt) for effect in effects]
        assert owners == [(f"B-{number}", (number,), 1) for number in (1, 2, 3)]
        assert "effect charge 'B-1', after the end of attempt 1" in rig.jobs()[0].story()


def test_an_effect_of_a_thread_belongs_to_the_attempt_that_has_started_it() -> None:
    def charge(booking: str) -> None:
        return

    def handle(number: int) -> None:
        threading.Timer(5, charge, [f"B-{number}"]).start()
        time.sleep(1)

    def work() -> None:
        for number in (1, 2, 3):
            handle(number)
        time.sleep(100)

    with ic.Rig() as rig:
        rig.handler(handle, id="number")
        rig.effect("charge", charge, key="booking")
        rig.run_loop(work)
        rig.advance("1m")
        assert [effect.job and effect.job.args for effect in rig.effects("charge")] == [(1,), (2,), (3,)]


def test_what_a_service_does_too_late_belongs_to_the_job_that_has_asked() -> None:
    httpx = pytest.importorskip("httpx")

    with ic.Rig() as rig:
        office = rig.service(ic.services.HttpService("office"))
        office.slow("10s", calls=1)

        def handle(number: int) -> None:
            client = httpx.Client(transport=office.transport(timeout="2s"), base_url="http://office")
            with contextlib.suppress(httpx.ReadTimeout):
                client.put(f"/manifests/{number}")
            time.sleep(1)

        def work() -> None:
            for number in range(1, 9):
                handle(number)
            time.sleep(100)

        rig.handler(handle, id="number")
        rig.run_loop(work)
        rig.advance("1m")
        owner = {effect.data["path"]: effect.job and effect.job.args for effect in rig.effects("office.request")}
        assert owner["/manifests/1"] == (1,), "it was done while the loop worked on another one"


# --- handlers that get only the payload ---------------------------------------------------------------------


def charge(payload: dict[str, int]) -> None:
    time.sleep(2)


def confirm(payload: dict[str, int]) -> None:
    time.sleep(2)


class Step:
    """A job as an object."""

    def run(self, payload: dict[str, int]) -> None:
        time.sleep(2)


class Clerk:
    """A dispatcher that is a method."""

    def handle(self, kind: str, payload: dict[str, int]) -> None:
        time.sleep(2)


def dispatch(kind: str, payload: dict[str, int]) -> None:
    time.sleep(2)


HANDLERS = {"charge": charge, "confirm": confirm}
STEPS = {"charge": Step(), "confirm": Step()}
CLERK = Clerk()
FORMS: dict[str, tuple[Callable[[ic.Rig], object], Callable[[str, Any], Any]]] = {
    "a table": (lambda rig: rig.handler(HANDLERS), lambda kind, payload: HANDLERS[kind](payload)),
    "a path": (lambda rig: rig.handler(f"{__name__}:HANDLERS"), lambda kind, payload: HANDLERS[kind](payload)),
    "objects": (lambda rig: rig.handler(STEPS), lambda kind, payload: STEPS[kind].run(payload)),
    "a class": (lambda rig: rig.handler(Step.run), lambda kind, payload: STEPS[kind].run(payload)),
    "a function": (lambda rig: rig.handler(dispatch), dispatch),
    "by name": (lambda rig: rig.handler(dispatch, job="kind"), dispatch),
    "a method": (lambda rig: rig.handler(CLERK.handle), lambda kind, payload: CLERK.handle(kind, payload)),
}


@pytest.mark.parametrize("form", FORMS)
def test_the_row_of_a_call_is_the_one_that_was_claimed_last(desk: Desk, form: str) -> None:
    taps, call = FORMS[form]
    with ic.Rig() as rig:
        rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, runs=False)
        taps(rig)
        rig.faults.slow("charge", by="5s", attempts=1)
        rig.run_loop(desk.work, 1e9, call, name="worker")
        for kind in ("charge", "confirm", "charge"):
            desk.put(kind, seats=1)
        rig.advance("1m")
        jobs = rig.jobs()
        assert [(job.name, job.state) for job in jobs] == [("charge", "done"), ("confirm", "done"), ("charge", "done")]
        took = [
            int((job.attempts[0].ended_at or job.due_at).timestamp() - job.attempts[0].started_at.timestamp())
            for job in jobs
        ]
        assert took == [7, 2, 7]
        assert not rig.loose_ends()


def test_a_table_without_rows_gives_its_jobs_their_names() -> None:
    def work() -> None:
        for kind in ("charge", "confirm"):
            HANDLERS[kind]({"seats": 1})
        time.sleep(100)

    with ic.Rig() as rig:
        assert list(rig.handler(HANDLERS)) == ["charge", "confirm"]  # type: ignore[arg-type]
        rig.run_loop(work)
        rig.advance("1m")
        assert [job.name for job in rig.jobs()] == ["charge", "confirm"]


def test_what_is_no_handler_is_refused() -> None:
    with ic.Rig() as rig, pytest.raises(ic.TapError, match="the handler of 'charge' is 3, which cannot be called"):
        rig.handler({"charge": 3})


# --- how loops end ----------------------------------------------------------------------------------------


def _waits() -> dict[str, Callable[[], object]]:
    event, condition, lock, semaphore = (
        threading.Event(),
        threading.Condition(),
        threading.Lock(),
        threading.Semaphore(0),
    )
    items: queue.Queue[int] = queue.Queue()
    lock.acquire()

    def on_condition() -> None:
        with condition:
            condition.wait(60)

    def on_queue() -> None:
        with contextlib.suppress(queue.Empty):
            items.get(timeout=60)

    def on_thread() -> None:
        thread = threading.Thread(target=lambda: time.sleep(500))
        thread.start()
        thread.join(60)

    def on_socket() -> None:
        here, there = socket.socketpair()
        with here, there:
            select.select([here], [], [], 60)

    def in_coroutine() -> None:
        async def waits() -> None:
            await asyncio.wait_for(asyncio.Event().wait(), 60)

        with contextlib.suppress(asyncio.TimeoutError):
            asyncio.run(waits())

    def beside_a_heartbeat() -> None:
        threading.Thread(target=lambda: event.wait(30)).start()
        time.sleep(90)

    return {
        "an event": lambda: event.wait(60), "an event without an end": lambda: event.wait(), "a condition": on_condition,
        "a queue": on_queue, "a thread": on_thread, "a lock": lambda: lock.acquire(timeout=60),
        "a semaphore": lambda: semaphore.acquire(timeout=60), "a socket": on_socket, "a coroutine": in_coroutine,
        "a sleep beside a heartbeat": beside_a_heartbeat,
    }  # fmt: skip


def _collect(wait: str) -> None:
    """Collect what a dead task has left open, here and not in a later test, to which its warning would be an error."""
    if wait in ("a socket", "a coroutine"):
        gc.collect()


@pytest.mark.filterwarnings("ignore::ResourceWarning")  # what dies closes nothing
@pytest.mark.parametrize("end", ["kill", "stop", "crash", "close"])
@pytest.mark.parametrize("wait", _waits())
def test_a_loop_ends_well_wherever_it_waits(wait: str, end: str) -> None:
    waits = _waits()[wait]

    def work() -> None:
        while True:
            waits()
            time.sleep(1)

    rig = ic.Rig()
    with rig:
        (worker,) = workers = rig.run_loop(work, name="worker", restart="10s")
        if end == "crash":
            rig.faults.crash("worker", at="sleep", visits=1)
        rig.advance("10s")
        if end in ("kill", "stop"):
            getattr(workers, end)()
        if end != "close":
            rig.advance("10m")
            assert worker.state in (("running", "down") if end == "crash" else ("ended",))
    rig.close()
    _collect(wait)


@pytest.mark.filterwarnings("ignore::ResourceWarning")
@pytest.mark.parametrize("end", ["kill", "throw", "crash", "close"])
@pytest.mark.parametrize("wait", _waits())
def test_a_job_ends_well_wherever_it_waits(wait: str, end: str) -> None:
    rig = ic.Rig()
    with rig:
        waits = _waits()[wait]
        job = rig.enqueue(rig.job(lambda: (waits(), time.sleep(1), waits()), name="waits", timeout="5m").call())
        if end == "crash":
            rig.faults.crash("waits", at="sleep", attempts=1)
        rig.advance("10s")
        if end in ("kill", "throw"):
            job.withdraw(running=end)  # type: ignore[arg-type]
        if end != "close":
            rig.advance("20m")
            assert job.state in ("withdrawn", "done", "dead")
    rig.close()
    _collect(wait)


def _stubborn(kind: str, seen: list[Any]) -> Callable[[], None]:
    lock = threading.Lock()

    def sleeps_in_finally() -> None:
        try:
            time.sleep(10_000)
        finally:
            seen.append((time.time(), threading.get_ident()))
            time.sleep(3_600)

    def swallows_everything() -> None:
        items: queue.SimpleQueue[int] = queue.SimpleQueue()
        while True:
            with contextlib.suppress(BaseException):
                items.get()

    def waits_for_its_own_pool() -> None:
        pool = concurrent.futures.ThreadPoolExecutor(1)
        pool.submit(lambda: pool.submit(int).result()).result()

    def leaves_a_pool() -> None:
        with concurrent.futures.ThreadPoolExecutor(1) as pool:
            pool.submit(time.sleep, 5_000).result()

    def joins() -> None:
        thread = threading.Thread(target=lambda: time.sleep(9_999))
        thread.start()
        thread.join()

    def holds_a_lock() -> None:
        with lock:
            time.sleep(3_000)
        lock.acquire()
        lock.acquire()

    def in_an_async_generator() -> None:
        async def ticks() -> Any:
            try:
                while True:
                    yield 1
                    await asyncio.sleep(1_000)
            finally:
                await asyncio.sleep(100)

        async def main() -> None:
            async for _ in ticks():
                pass

        asyncio.run(main())

    kinds: dict[str, Callable[[], None]] = {
        function.__name__: function
        for function in (
            sleeps_in_finally, swallows_everything, waits_for_its_own_pool, leaves_a_pool, joins, holds_a_lock,
            in_an_async_generator,
        )
    }  # fmt: skip
    return kinds[kind]


STUBBORN = (
    "sleeps_in_finally", "swallows_everything", "waits_for_its_own_pool", "leaves_a_pool", "joins", "holds_a_lock",
    "in_an_async_generator",
)  # fmt: skip


@pytest.mark.parametrize("fixture", [True, False])
@pytest.mark.parametrize("how", ["job", "loop", "thread"])
@pytest.mark.parametrize("kind", STUBBORN)
def test_a_stubborn_task_ends_with_its_rig(kind: str, how: str, fixture: bool, request: pytest.FixtureRequest) -> None:
    """Nothing of it runs when its rig is closed, in a with block and with the fixture: this test does not hang."""
    seen: list[Any] = []
    code = _stubborn(kind, seen)
    rig: ic.Rig = request.getfixturevalue("rig") if fixture else ic.Rig()
    with rig:
        if how == "job":
            rig.enqueue(rig.job(code, name="stubborn").call())
        elif how == "loop":
            rig.run_loop(code, name="stubborn")
        else:
            threading.Thread(target=code).start()
        rig.advance("1h")
    if not fixture:
        rig.close()
        real = threading.get_ident()
        assert all(at < 1_930_217_000 + 86_400 and ident != real for at, ident in seen), "its handlers ran in the rig"
        assert bool(seen) == (kind == "sleeps_in_finally")


def test_handlers_of_a_loop_run_on_its_own_clock_and_thread_with_the_fixture(pytester: pytest.Pytester) -> None:
    pytester.makepyfile("""
        import threading, time
        seen = []
        def test_one(rig):
            def work():
                try:
                    while True: time.sleep(60)
                finally: seen.append((f"{rig.now:%H:%M}", time.strftime("%Y"), threading.current_thread().name))
            rig.run_loop(work, name="worker")
            rig.advance("1h")
        def test_two():
            assert seen == [("10:00", "2031", "worker-1")]
    """)
    pytester.runpytest_subprocess("-p", "no:cacheprovider").assert_outcomes(passed=2)


def test_a_loop_that_dies_at_one_instant_again_and_again_is_an_error() -> None:
    def poll() -> None:
        while True:
            time.sleep(1)

    with ic.Rig() as rig:
        rig.run_loop(poll, name="poll")
        rig.faults.crash("poll", at="sleep")
        with pytest.raises(ic.StuckError, match="the worker loop poll-1 has died and started over 50 times at"):
            rig.advance("1h")


def test_an_acknowledgement_that_is_lost_for_ever_is_an_error() -> None:
    def work() -> None:
        dispatch_at_once(7)
        time.sleep(1_000)

    def dispatch_at_once(number: int) -> None:
        return

    with ic.Rig() as rig:
        rig.handler(dispatch_at_once, id="number", job=lambda number: "charge")
        rig.faults.lose_ack("charge")
        rig.run_loop(work)
        with pytest.raises(ic.StuckError, match="charge-1 is delivered over 500 times at"):
            rig.advance("1h")


def test_a_loop_that_raises_at_once_and_restarts_at_once_is_an_error() -> None:
    def fails() -> None:
        raise ValueError("no berth")

    with ic.Rig() as rig:
        rig.run_loop(fails, name="fails", restart=0)
        with pytest.raises(ic.StuckError, match="ValueError: no berth"):
            rig.advance("1h")


def test_a_loop_that_never_lets_time_pass_is_named() -> None:
    def polls() -> None:
        while True:
            time.sleep(0)

    with ic.Rig() as rig:
        rig.run_loop(polls, name="polls")
        with pytest.raises(ic.StuckError, match="polls-1 reads the clock again and again"):
            rig.advance("1h")


def test_an_asyncio_loop_has_signal_handlers_of_its_own() -> None:
    stopped: list[str] = []

    async def work(name: str) -> None:
        asked = asyncio.Event()
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, asked.set)
        await asked.wait()
        await asyncio.sleep(5)
        stopped.append(name)

    with ic.Rig() as rig:
        one = rig.run_loop(work, "one", name="one")
        two = rig.run_loop(work, "two", name="two")
        rig.advance("10s")
        one.stop(grace="30s")
        rig.advance("1m")
        assert stopped == ["one"]
        assert [worker.state for worker in (*one, *two)] == ["ended", "running"]
        assert next(iter(one)).error is None


def test_a_wake_up_descriptor_hears_of_the_signal() -> None:
    heard: list[bytes] = []

    def work() -> None:
        here, there = socket.socketpair()
        with here, there:
            there.setblocking(False)
            signal.set_wakeup_fd(there.fileno())
            signal.signal(signal.SIGTERM, lambda number, frame: None)
            heard.append(here.recv(1))

    with ic.Rig() as rig:
        workers = rig.run_loop(work)
        rig.advance("10s")
        workers.stop(grace="30s")
        rig.advance("1m")
        assert heard == [bytes([signal.SIGTERM])]


# --- what is said of dead loops -----------------------------------------------------------------------------

DIES = """
    import threading, time
    def dies():
        time.sleep(5)
        raise ValueError("no berth")
"""


def test_a_failed_test_says_which_loop_and_which_thread_has_died(pytester: pytest.Pytester) -> None:
    pytester.makepyfile(
        DIES
        + """
    def test_it(rig):
        rig.run_loop(dies, name="worker")
        threading.Thread(target=lambda: 1 / 0, name="beat").start()
        rig.advance("1m")
        assert False
    """
    )
    result = pytester.runpytest_subprocess("-p", "no:cacheprovider", "-p", "no:threadexception")
    result.stdout.fnmatch_lines([
        "*dead workers*", "the worker worker-1 has ended with ValueError: no berth [[]*:4[]]",
        "the thread beat has ended with ZeroDivisionError: division by zero [[]*:8[]]",
    ])  # fmt: skip


def test_a_script_says_which_loop_has_died(tmp_path: Path) -> None:
    script = tmp_path / "evening.py"
    script.write_text(
        "import ironclock as ic, time\ndef dies():\n    raise ValueError('no berth')\nwith ic.Rig() as rig:\n"
        "    rig.run_loop(dies, name='worker')\n    rig.advance('1m')\n"
    )
    ran = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, timeout=60, env=os.environ)
    assert "the worker worker-1 has ended with ValueError: no berth" in ran.stderr
    assert "evening.py:3]" in ran.stderr


def test_a_dry_run_that_cannot_end_says_which_loop_has_died() -> None:
    def dies() -> None:
        raise ValueError("no berth")

    def waits() -> None:
        time.sleep(1e6)

    with ic.Rig() as rig:
        rig.run_loop(dies, name="worker")
        rig.enqueue(waits)
        with pytest.raises(ic.JobsLeftOpen, match="the worker worker-1 has ended with ValueError: no berth"):
            rig.run_dry("1h")
        rig.allow("dead workers")


# --- locks of the dead --------------------------------------------------------------------------------------


@pytest.mark.parametrize("how", ["kill", "crash", "loop"])
def test_a_lock_is_free_when_who_holds_it_has_died(how: str) -> None:
    """Also one that was taken before anybody said that workers die."""
    lock = threading.Lock()

    def holds() -> None:
        lock.acquire()
        time.sleep(10)
        time.sleep(1_000)
        lock.release()

    def wants() -> str:
        with lock:
            return "got it"

    with ic.Rig() as rig:
        rig.workers(2)
        if how == "loop":
            workers = rig.run_loop(holds)
            rig.advance("1s")
            workers.kill()
        else:
            job = rig.enqueue(rig.job(holds, deliveries=1).call())
            rig.advance("1s")
            if how == "kill":
                job.withdraw(running="kill")
            else:
                rig.faults.crash("holds", at="sleep", attempts=1)
        waiting = rig.enqueue(wants)
        rig.advance("2m")
        assert waiting.result == "got it"
        rig.allow("dead jobs")


def test_a_lock_that_somebody_else_has_taken_since_stays_taken() -> None:
    lock = threading.Lock()

    def holds() -> None:
        with lock:
            time.sleep(1)
        time.sleep(1_000)

    with ic.Rig() as rig:
        job = rig.enqueue(holds)
        rig.advance("10s")
        lock.acquire()
        job.withdraw(running="kill")
        rig.advance("1m")
        assert lock.locked()
        lock.release()
