"""Workers and threads: each has values of its own; pools, helpers and left-over threads behave inside and after a rig."""

from __future__ import annotations

import asyncio
import concurrent.futures
import contextvars
import logging
import queue
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

import pytest

import ironclock as ic

LOCAL = threading.local()
POOL = concurrent.futures.ThreadPoolExecutor(2)


def nap(seconds: float) -> int:
    time.sleep(seconds)
    return time.localtime().tm_year


def test_every_worker_has_its_own_thread_local_values() -> None:
    LOCAL.value = "the test's"
    with ic.Rig() as rig:
        rig.workers(2)

        def look(number: int) -> Any:
            before, LOCAL.value = getattr(LOCAL, "value", None), number
            time.sleep(5)
            return before, LOCAL.value, threading.current_thread().name

        kind = rig.job(look)
        jobs = [rig.enqueue(kind.call(number)) for number in range(4)]
        rig.advance("1m")
        # What a worker has left is there for its next job.
        assert [job.result for job in jobs] == [(None, 0, "w1"), (None, 1, "w2"), (0, 2, "w1"), (1, 3, "w2")]
        assert LOCAL.value == "the test's"
    assert LOCAL.value == "the test's"
    assert [thread.name for thread in threading.enumerate() if thread.name.startswith("w")] == []


def test_a_worker_that_dies_comes_back_without_its_values() -> None:
    with ic.Rig() as rig:

        def look() -> Any:
            before, LOCAL.value = getattr(LOCAL, "value", None), "old"
            time.sleep(1)
            return before

        kind = rig.job(look)
        rig.faults.crash("look", at="sleep", attempts=1)
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        rig.run_dry()
        assert [job.result for job in jobs] == [None, "old"]


def test_identifiers_tell_workers_and_threads_apart_and_are_safe_to_give_away() -> None:
    import signal

    with ic.Rig() as rig:
        rig.workers(2)
        kind = rig.job(lambda: (time.sleep(1), threading.get_ident())[1], name="ident")
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        thread = threading.Thread(target=time.sleep, args=(5,))
        thread.start()
        rig.advance("2s")
        idents = {job.result for job in jobs} | {threading.get_ident(), thread.ident}
        assert len(idents) == 4
        assert thread.ident is not None
        with pytest.raises(OSError, match=r"Invalid argument|No such process"):
            signal.pthread_kill(thread.ident, 0)


def test_the_names_of_workers_are_in_the_logs(caplog: pytest.LogCaptureFixture) -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda: logging.getLogger("tern").warning("loading"), name="log").call())
        rig.settle()
    assert [record.threadName for record in caplog.records] == ["w1"]


def test_scoped_sessions_of_two_workers_do_not_meet(tmp_path: Any) -> None:
    sqlalchemy = pytest.importorskip("sqlalchemy")
    from sqlalchemy.orm import scoped_session, sessionmaker

    engine = sqlalchemy.create_engine(f"sqlite:///{tmp_path / 'tern.db'}")
    sessions = scoped_session(sessionmaker(engine))
    with engine.begin() as connection:
        connection.execute(sqlalchemy.text("create table berths (n int)"))
    with ic.Rig() as rig:
        rig.workers(2)

        def books() -> None:
            sessions().execute(sqlalchemy.text("insert into berths values (1)"))
            time.sleep(2)
            sessions().commit()
            sessions.remove()

        def gives_up() -> None:
            time.sleep(1)
            sessions().rollback()
            sessions.remove()

        for function in (books, gives_up):
            rig.enqueue(rig.job(function).call())
        rig.advance("1m")
        with engine.connect() as connection:
            assert connection.execute(sqlalchemy.text("select count(*) from berths")).scalar() == 1
    engine.dispose()


# --- thread pools and helpers -----------------------------------------------------------------------


def test_a_pool_works_before_in_between_and_after_rigs() -> None:
    years = [POOL.submit(nap, 0.001).result() < 2031]
    for _ in range(2):
        with ic.Rig(start="2031-03-03T09:00") as rig:
            years.append(POOL.submit(nap, 60).result() == 2031)
            job = rig.enqueue(rig.job(lambda: POOL.submit(nap, 60).result(), name="pools").call())
            rig.advance("2m")
            years.append(job.result == 2031)
            assert (rig.now.hour, rig.now.minute) == (9, 3)
        years.append(POOL.submit(nap, 0.001).result() < 2031)
    assert all(years)


def test_a_pool_that_a_rig_made_works_after_it() -> None:
    with ic.Rig(start="2031-03-03T09:00"):
        pool = concurrent.futures.ThreadPoolExecutor(1)
        assert pool.submit(nap, 60).result() == 2031
        pending = [pool.submit(nap, 3600) for _ in range(2)]
    assert pool.submit(nap, 0.001).result() < 2031
    assert all(future.done() for future in pending), "nobody waits for ever for what the rig did not come to"
    pool.shutdown()


@pytest.mark.parametrize("inside", [True, False])
def test_helpers_of_async_code_end_with_its_loop(inside: bool) -> None:
    async def main(rig: ic.Rig) -> str:
        assert await asyncio.to_thread(nap, 5) == 2031
        loop = asyncio.get_running_loop()
        assert await loop.run_in_executor(None, nap, 3) == 2031
        assert await loop.getaddrinfo("localhost", 80)
        return time.strftime("%H:%M:%S")

    async def enters() -> str:
        with ic.Rig(start="2031-03-03T09:00") as rig:
            return await main(rig)

    if inside:
        assert asyncio.run(enters()) == "09:00:08"
    else:
        with ic.Rig(start="2031-03-03T09:00") as rig:
            assert asyncio.run(main(rig)) == "09:00:08"


@pytest.mark.parametrize("backend", ["asyncio", "trio"])
def test_anyio_and_trio_follow(backend: str) -> None:
    anyio = pytest.importorskip("anyio")
    pytest.importorskip(backend)

    async def main() -> str:
        assert await anyio.to_thread.run_sync(nap, 5) == 2031
        with anyio.move_on_after(10):
            await anyio.sleep(3600)
        return time.strftime("%H:%M:%S")

    with ic.Rig(start="2031-03-03T09:00"):
        assert anyio.run(main, backend=backend) == "09:00:15"


def test_trio_in_two_jobs_at_once() -> None:
    trio = pytest.importorskip("trio")
    with ic.Rig(start="2031-03-03T09:00") as rig:
        rig.workers(2)

        async def sails() -> str:
            await trio.sleep(30)
            return time.strftime("%H:%M:%S")

        kind = rig.job(lambda: trio.run(sails), name="sails")
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        rig.advance("5m")
        assert [job.result for job in jobs] == ["09:00:30", "09:00:30"]


@pytest.mark.filterwarnings("ignore::RuntimeWarning", "ignore::pytest.PytestUnraisableExceptionWarning")
@pytest.mark.parametrize("package", ["uvloop", "gevent"])
def test_loops_that_measure_time_in_c_are_refused_at_once(package: str) -> None:
    pytest.importorskip(package)
    code = {
        "uvloop": "import asyncio, uvloop\nwith ic.Rig():\n    uvloop.new_event_loop().run_until_complete(asyncio.sleep(60))",
        "gevent": "import gevent\nwith ic.Rig():\n    gevent.sleep(60)",
    }[package]
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", f"import ironclock as ic\n{code}"],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert done.returncode == 1
    assert f"RigStateError: {package} measures time in C and cannot follow the rig's clock" in done.stderr


# --- threads that outlive their rig -----------------------------------------------------------------


@pytest.mark.parametrize(
    "waits", [lambda: time.sleep(1e6), lambda: threading.Event().wait(), lambda: queue.Queue().get()]
)
def test_a_thread_left_over_ends_with_its_rig(waits: Callable[[], Any], capfd: pytest.CaptureFixture[str]) -> None:
    ended: list[str] = []

    def lives() -> None:
        try:
            waits()
        finally:
            ended.append("its handlers ran")

    with ic.Rig() as rig:
        thread = threading.Thread(target=lives)
        thread.start()
        rig.advance("1m")
        late = threading.Thread(target=lives)
        late.start()
    thread.join()
    late.join()
    assert ended == ["its handlers ran"] * 2 or ended == ["its handlers ran"]
    assert not thread.is_alive()
    assert capfd.readouterr().err == ""


def test_the_tests_own_threads_are_simulated_unless_they_are_to_be_real() -> None:
    seen: list[int] = []
    with ic.Rig(start="2031-03-03T09:00") as rig:
        thread = threading.Thread(target=lambda: seen.append(nap(10)))
        thread.start()
        rig.advance("1m")
        thread.join()
    with ic.Rig(start="2031-03-03T09:00", threads="real"):
        thread = threading.Thread(target=lambda: seen.append(nap(0.001)))
        thread.start()
        thread.join()
    assert seen[0] == 2031
    assert seen[1] < 2031


def test_context_variables_of_a_thread_are_its_own() -> None:
    berth: contextvars.ContextVar[int] = contextvars.ContextVar("berth", default=0)
    with ic.Rig() as rig:

        def sets() -> int:
            before = berth.get()
            berth.set(before + 1)
            return before

        kind = rig.job(sets)
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        rig.settle()
        assert jobs[0].result == 0
        assert berth.get() == 0
