"""Threads, timers, locks, queues and executors of the standard library, unchanged, in simulated time."""

from __future__ import annotations

import concurrent.futures
import queue
import sched
import subprocess
import sys
import threading
import time
from datetime import datetime
from typing import Any

import pytest

import ironclock as ic


def at() -> str:
    return f"{datetime.now():%H:%M:%S}"


def in_job(fn: Any, **policy: Any) -> ic.Job:
    rig = ic.Rig(start="2031-03-03T09:00")
    with rig:
        job = rig.enqueue(rig.job(fn, **policy).call())
        rig.run_dry()
    return job


def test_a_timer_fires_at_its_instant_in_a_test_and_in_a_job() -> None:
    seen: list[str] = []

    def remind() -> None:
        threading.Timer(3600, lambda: seen.append(at())).start()

    rig = ic.Rig(start="2031-03-03T09:00")
    with rig:
        remind()
        cancelled = threading.Timer(1800, seen.append, ["never"])
        cancelled.start()
        cancelled.cancel()
        rig.advance("59m59s")
        assert seen == []
        rig.advance("1s")
        rig.enqueue(rig.job(remind).call())
        rig.advance("2h")
    assert seen == ["10:00:00", "11:00:00"]


def test_sched_runs_for_days_in_a_blink() -> None:
    seen: list[str] = []
    scheduler = sched.scheduler()

    def tick(name: str) -> None:
        seen.append(f"{name} {at()}")
        if len(seen) < 4:
            scheduler.enter(86_400, 1, tick, (name,))

    with ic.Rig(start="2031-03-03T09:00"):
        scheduler.enter(60, 2, tick, ("late",))
        scheduler.enter(60, 1, tick, ("early",))
        scheduler.run()
    assert seen == ["early 09:01:00", "late 09:01:00", "early 09:01:00", "late 09:01:00", "early 09:01:00"]


def test_threads_of_a_job_interleave_join_and_have_their_own_locals() -> None:
    seen: list[Any] = []
    local = threading.local()

    def work(name: str, seconds: float) -> None:
        local.name = name
        time.sleep(seconds)
        seen.append((local.name, at(), threading.current_thread().name))

    def job() -> float:
        start = time.monotonic()
        local.name = "job"
        threads = [
            threading.Thread(target=work, args=(n, s), name=f"t-{n}") for n, s in (("a", 30), ("b", 10), ("c", 20))
        ]
        for thread in threads:
            thread.start()
        assert all(t.is_alive() for t in threads)
        for thread in threads:
            thread.join()
        assert not any(t.is_alive() for t in threads)
        assert local.name == "job"
        return time.monotonic() - start

    assert in_job(job).result == 30
    assert seen == [("b", "09:00:10", "t-b"), ("c", "09:00:20", "t-c"), ("a", "09:00:30", "t-a")]


def test_locks_conditions_events_semaphores_and_barriers_wait_in_simulated_time() -> None:
    def job() -> list[Any]:
        log: list[Any] = []
        lock, rlock, event = threading.Lock(), threading.RLock(), threading.Event()
        condition, semaphore, barrier = threading.Condition(), threading.Semaphore(2), threading.Barrier(3)

        def guarded(name: str) -> None:
            with lock:
                time.sleep(10)
                log.append((name, at()))

        def nested() -> None:
            with rlock, rlock:
                time.sleep(5)
            log.append(("nested", at()))

        def limited() -> None:
            with semaphore:
                time.sleep(60)
            log.append(("limited", at()))

        def meet() -> None:
            barrier.wait()
            log.append(("met", at()))

        threads = [threading.Thread(target=guarded, args=(n,)) for n in "ab"]
        threads += [threading.Thread(target=nested) for _ in range(2)]
        threads += [threading.Thread(target=limited) for _ in range(3)]
        threads += [threading.Thread(target=meet) for _ in range(2)]
        for thread in threads:
            thread.start()
        assert event.wait(1.5) is False
        assert lock.acquire(timeout=2) is False
        assert rlock.acquire(blocking=False) is False
        time.sleep(200)
        barrier.wait()
        for thread in threads:
            thread.join()
        with condition:
            waited = threading.Thread(
                target=lambda: (time.sleep(7), condition.acquire(), condition.notify(), condition.release())
            )
            waited.start()
            assert condition.wait(60) is True
            log.append(("notified", at()))
            assert condition.wait(3) is False
        return log

    assert in_job(job).result == [
        ("nested", "09:00:05"), ("a", "09:00:10"), ("nested", "09:00:10"), ("b", "09:00:20"),
        ("limited", "09:01:00"), ("limited", "09:01:00"), ("limited", "09:02:00"),
        ("met", "09:03:23"), ("met", "09:03:23"), ("notified", "09:03:30"),
    ]  # fmt: skip


@pytest.mark.parametrize("kind", [queue.Queue, queue.SimpleQueue, queue.PriorityQueue])
def test_queues_between_threads(kind: Any) -> None:
    def job() -> tuple[list[Any], str]:
        line, got = kind(), []

        def consume() -> None:
            while (item := line.get()) is not None:
                time.sleep(10)
                got.append((item, at()))
                if item == 3:
                    return

        consumer = threading.Thread(target=consume)
        consumer.start()
        for number in (1, 2, 3):
            time.sleep(4)
            line.put(number)
        consumer.join()
        with pytest.raises(queue.Empty):
            line.get(timeout=5)
        return got, at()

    assert in_job(job).result == ([(1, "09:00:14"), (2, "09:00:24"), (3, "09:00:34")], "09:00:39")


def test_executors_in_a_job_and_in_the_test() -> None:
    def fetch(number: int) -> tuple[int, str]:
        time.sleep(number * 10)
        return number, at()

    def job() -> list[Any]:
        with concurrent.futures.ThreadPoolExecutor(2) as pool:
            futures = [pool.submit(fetch, n) for n in (3, 1, 2)]
            first = [f.result()[0] for f in concurrent.futures.as_completed(futures)]
            with pytest.raises(concurrent.futures.TimeoutError):
                pool.submit(time.sleep, 100).result(timeout=5)
            return [first, list(pool.map(fetch, [1, 1])), at()]

    expected = [[1, 3, 2], [(1, "09:00:45"), (1, "09:00:55")], "09:00:55"]
    assert in_job(job).result == expected
    with ic.Rig(start="2031-03-03T09:00"):
        assert job() == expected


def square(number: int) -> int:
    return number * number


def test_an_executor_of_real_processes_works() -> None:
    def job() -> list[int]:
        with concurrent.futures.ProcessPoolExecutor(2) as pool:
            return list(pool.map(square, [1, 2, 3]))

    assert in_job(job).result == [1, 4, 9]
    with ic.Rig():
        assert job() == [1, 4, 9]


def test_a_deadlock_is_named() -> None:
    def job() -> None:
        one, two = threading.Lock(), threading.Lock()

        def other() -> None:
            with two:
                time.sleep(1)
                one.acquire()

        threading.Thread(target=other).start()
        with one:
            time.sleep(1)
            two.acquire()

    rig = ic.Rig()
    with rig:
        job_ = rig.enqueue(rig.job(job, timeout="1m").call())
        rig.run_dry()
    assert job_.attempts[0].outcome == "timed-out"
    lone = ic.Rig()
    with lone:
        lock = threading.Lock()
        lock.acquire()
        with pytest.raises(
            ic.StuckError,
            match=r"the test waits for a lock, and nothing is left that could release it, at .*test_simulated_threads",
        ):
            lock.acquire()


@pytest.mark.parametrize("visit", [1, 2])
def test_a_worker_that_dies_takes_its_threads_with_it(visit: int) -> None:
    seen: list[str] = []

    def job() -> None:
        threading.Thread(target=lambda: (time.sleep(60), seen.append("survived"))).start()
        time.sleep(10)
        time.sleep(10)

    rig = ic.Rig()
    kind = rig.job(job, deliveries=1)
    rig.faults.crash("job", at="sleep", visits=visit)
    with rig:
        made = rig.enqueue(kind.call())
        rig.advance("1h")
    assert ([a.outcome for a in made.attempts], seen) == (["crashed"], [])


def test_a_strict_rig_tells_off_a_job_that_starts_threads_or_opens_sockets() -> None:
    import socket

    def thread() -> None:
        threading.Thread(target=time.sleep, args=(1,), name="helper").start()

    def connect() -> None:
        socket.create_connection(("127.0.0.1", 9))

    rig = ic.Rig(strict=True)
    with rig:
        jobs = [rig.enqueue(rig.job(fn).call()) for fn in (thread, connect)]
        rig.run_dry()
        socket.socket().close()  # the test's own code may
    assert [type(j.error) for j in jobs] == [ic.StrictError] * 2
    assert "thread-1 opens the thread 'helper' in a strict rig" in str(jobs[0].error)
    assert "connect-2 opens a real socket in a strict rig, at" in str(jobs[1].error)
    allowed = ic.Rig(strict=True, threads="simulated")
    with allowed:
        job = allowed.enqueue(allowed.job(thread).call())
        allowed.run_dry()
    assert job.state == "done"


def test_real_threads_stay_real() -> None:
    rig = ic.Rig(threads="real")

    def job() -> float:
        box: list[float] = []
        thread = threading.Thread(target=lambda: box.append(time.time()))
        thread.start()
        thread.join()
        return box[0]

    with rig:
        made = rig.enqueue(rig.job(job).call())
        rig.run_dry()
    assert abs(made.result - time.time()) < 60
    with pytest.raises(ic.InputError, match="threads is 'green'"):
        ic.Rig(threads="green")  # type: ignore[arg-type]


def test_everything_is_as_before_when_the_rig_is_left() -> None:
    before = threading.Lock.__class__, threading.Condition.wait.__code__, queue.SimpleQueue.get
    with ic.Rig():
        threading.Timer(5, print).start()
    assert (threading.Lock.__class__, threading.Condition.wait.__code__, queue.SimpleQueue.get) == before
    event = threading.Event()
    thread = threading.Thread(target=event.set)
    thread.start()
    assert event.wait(5)
    thread.join()


LEFT_OVER = """
import concurrent.futures, threading, time
import ironclock as ic
rig = ic.Rig()
with rig:
    threading.Timer(60, print).start()
    pool = concurrent.futures.ThreadPoolExecutor(2)
    print(pool.submit(lambda: 7).result())
    pool.submit(time.sleep, 60)
    rig.enqueue(rig.job(lambda: threading.Thread(target=time.sleep, args=(99,)).start(), name="job").call())
    rig.settle()
print("left")
"""


@pytest.mark.parametrize("in_rig", [True, False])
def test_a_thread_that_is_ended_with_its_rig_has_its_own_values(in_rig: bool) -> None:
    values = threading.local()
    seen: list[Any] = []

    def idle() -> None:
        values.token = "a token"
        try:
            threading.Event().wait()
        finally:
            seen.append(getattr(values, "token", None))

    rig = ic.Rig()
    with rig:
        threading.Thread(target=idle).start()
        rig.advance("1s")
        if in_rig:
            rig.close()
    rig.close()
    assert seen == ["a token"]
    assert not hasattr(values, "token")


def test_threads_that_never_end_do_not_keep_the_interpreter() -> None:
    done = subprocess.run([sys.executable, "-c", LEFT_OVER], capture_output=True, text=True, timeout=60, check=False)
    assert (done.returncode, done.stdout) == (0, "7\nleft\n"), done.stderr
    assert done.stderr == ""
