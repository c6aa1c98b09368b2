"""What a crash takes with it: the threads, locks, places and transactions of the worker, and nothing of anybody else."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import threading
import time
from collections.abc import AsyncIterator, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

import ironclock as ic

HERE = __name__
ended: list[str] = []


class Gate:
    async def charge(self, number: int) -> int:
        return number

    async def slow(self) -> None:
        await asyncio.sleep(60)

    def charge_now(self, number: int) -> int:
        return number

    def rows(self, count: int) -> Iterator[int]:
        yield from range(count)

    async def pages(self, count: int) -> AsyncIterator[int]:
        for number in range(count):
            yield number


GATE = Gate()


# --- faults in event loops and in pools -------------------------------------------------------------------


def test_a_slow_effect_of_a_coroutine_lets_only_that_coroutine_wait() -> None:
    with ic.Rig() as rig:
        rig.effect("charge", f"{HERE}:GATE.charge")
        seen = []

        async def one() -> None:
            await GATE.charge(1)
            seen.append(("charged", rig.now.minute, rig.now.second))

        async def other() -> None:
            await asyncio.sleep(5)
            seen.append(("other", rig.now.minute, rig.now.second))

        async def both() -> None:
            await asyncio.gather(one(), other())

        rig.job(both)
        rig.faults.slow("both", by="1m", at="before charge")
        rig.enqueue(both)
        rig.run_dry()
        assert seen == [("other", 0, 5), ("charged", 1, 0)]


def test_a_slow_sleep_in_an_event_loop_lets_only_that_coroutine_wait() -> None:
    with ic.Rig() as rig:
        seen = []

        async def nap(seconds: int) -> None:
            await asyncio.sleep(seconds)
            seen.append((seconds, rig.now.minute, rig.now.second))

        async def naps() -> None:
            await asyncio.gather(nap(5), nap(10), nap(20))

        rig.job(naps)
        rig.faults.slow("naps", by="1m", at="sleep", visits=2)
        rig.enqueue(naps)
        rig.run_dry()
        assert seen == [(5, 0, 5), (20, 0, 20), (10, 1, 10)]


def test_the_other_faults_at_a_sleep_in_an_event_loop() -> None:
    with ic.Rig() as rig:

        async def nap() -> str:
            await asyncio.sleep(1)
            return "rested"

        kind = rig.job(nap, retry=ic.Retry(4, "1s"), timeout="30s")
        rig.faults.crash("nap", at="sleep", attempts=1)
        rig.faults.fail("nap", at="sleep", attempts=2)
        rig.faults.hang("nap", at="sleep", attempts=3)
        job = rig.enqueue(kind)
        rig.run_dry()
        assert [one.outcome for one in job.attempts] == ["crashed", "failed", "timed-out", "done"]


def test_a_fault_strikes_in_a_pools_thread_as_in_the_jobs_own_code() -> None:
    with ic.Rig() as rig, ThreadPoolExecutor(2) as pool:
        rig.effect("charge", f"{HERE}:GATE.charge_now")
        kind = rig.job(
            lambda: pool.submit(GATE.charge_now, 3).result(), name="pay", retry=ic.Retry(9, "1s"), timeout="1m"
        )
        rig.faults.fail("pay", at="before charge", attempts=1)
        rig.faults.slow("pay", at="before charge", attempts=2, by="5m")
        rig.faults.crash("pay", at="after charge", attempts=3)
        job = rig.enqueue(kind)
        rig.run_dry()
        assert [one.outcome for one in job.attempts] == ["failed", "timed-out", "crashed", "done"]
        found = [
            (effect.outcome, effect.job and effect.job.id, effect.data["number"]) for effect in rig.effects("charge")
        ]
        assert found == [("failed", "pay-1", 3), ("done", "pay-1", 3), ("done", "pay-1", 3)], "the second is still slow"
        rig.allow("dead jobs")


def test_effects_that_are_cancelled_and_generators() -> None:
    with ic.Rig() as rig:
        for name in ("slow", "rows", "pages"):
            rig.effect(name, f"{HERE}:GATE.{name}")

        async def work() -> None:
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(GATE.slow(), 5)
            rows = GATE.rows(3)
            assert not rig.effects("rows"), "nothing of it has run"
            assert list(rows) == [0, 1, 2]
            assert [page async for page in GATE.pages(2)] == [0, 1]

        assert rig.enqueue(work).state == "ready"
        rig.run_dry()
        assert rig.jobs().one().state == "done"
        outcomes = [(effect.name, effect.outcome) for effect in rig.effects]
        assert outcomes == [("slow", "cancelled"), ("rows", "done"), ("pages", "done")]


# --- what outlives a worker -------------------------------------------------------------------------------


def test_a_pool_of_the_module_works_for_the_next_attempt_and_for_others() -> None:
    with ThreadPoolExecutor(1) as pool, ic.Rig() as rig:
        rig.workers(2)

        def work(number: int) -> int:
            time.sleep(5)
            return number

        def split(number: int) -> list[int]:
            return [future.result() for future in [pool.submit(work, number), pool.submit(work, number)]]

        kind = rig.job(split)
        rig.faults.crash("split", at="sleep", attempts=1, when=lambda attempt: attempt.job.args == (1,))
        other, job = rig.enqueue(kind, 0), rig.enqueue(kind, 1)
        rig.run_dry("1h")
        assert (other.result, job.result) == ([0, 0], [1, 1])
        assert [one.outcome for one in job.attempts] == ["crashed", "done"]
        assert pool.submit(work, 3).result() == 3


@pytest.mark.parametrize("kind", [threading.Lock, threading.RLock, threading.BoundedSemaphore, threading.Condition])
def test_what_a_dead_worker_held_is_free(kind: Any) -> None:
    held = kind()
    with ic.Rig() as rig:

        def use() -> None:
            with held:
                time.sleep(5)

        job_type = rig.job(use)
        rig.faults.crash("use", at="sleep", attempts=(1, 2))
        job = rig.enqueue(job_type)
        rig.run_dry("1h")
        assert job.state == "done"


def test_a_semaphore_that_counts_items_is_left_alone() -> None:
    items = threading.Semaphore(0)
    with ic.Rig() as rig:
        rig.workers(2)

        def take() -> None:
            items.acquire()
            time.sleep(5)

        def put() -> None:
            time.sleep(1)
            items.release()

        rig.job(take)
        rig.faults.crash("take", at="sleep", attempts=1)
        rig.enqueue(take)
        rig.enqueue(put)
        rig.advance("10m")
        assert rig.jobs("take").one().state == "running", "the item went with the first worker"
        items.release()
        rig.run_dry()


# --- no handlers, however long the run --------------------------------------------------------------------


@contextlib.contextmanager
def guarded() -> Iterator[None]:
    try:
        yield
    finally:
        ended.append("the context manager")


def counted() -> Iterator[int]:
    try:
        yield from range(3)
    finally:
        ended.append("the generator")


def test_old_generators_of_a_dead_worker_run_no_handlers() -> None:
    with ic.Rig() as rig:
        rig.workers(2)

        def long() -> None:
            with guarded():
                for _ in counted():
                    for _ in range(21):
                        time.sleep(5)

        def busy() -> None:
            kept = [[[] for _ in range(3)] for _ in range(20_000)]  # type: ignore[var-annotated]
            gc.collect()
            time.sleep(1)
            del kept

        rig.job(long)
        rig.faults.crash("long", at="sleep", visits=21)
        rig.enqueue(long)
        for number in range(5):
            rig.enqueue(busy, after=f"{number * 15}s")
        rig.advance("104s")
        assert rig.jobs("long").one().attempts[0].outcome == "crashed"
        assert ended == []
        rig.jobs("long").one().withdraw(running="kill")
        assert ended == []
    assert not [callback for callback in gc.callbacks if "ironclock" in getattr(callback, "__module__", "")]
