"""async jobs and asyncio inside jobs and tests, and retry loops of ordinary packages, on the standard event loop."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
import time
from datetime import datetime
from typing import Any

import pytest
import tenacity
from cachetools import TTLCache

import ironclock as ic


def at() -> str:
    return f"{datetime.now():%H:%M:%S}"


def test_async_jobs_interleave_with_one_another_and_with_plain_ones() -> None:
    rig, seen = ic.Rig(start="2031-03-03T09:00"), []
    rig.workers(3)

    async def load(name: str, seconds: float) -> str:
        async with asyncio.timeout(3600):
            await asyncio.sleep(seconds)
        seen.append(f"{name} {at()}")
        await asyncio.sleep(seconds)
        return at()

    def plain() -> None:
        asyncio.run(load("run", 7))
        seen.append(f"plain {at()}")

    kind = rig.job(load)
    with rig:
        jobs = [rig.enqueue(kind.call("a", 10)), rig.enqueue(kind.call("b", 4)), rig.enqueue(rig.job(plain).call())]
        rig.run_dry()
    assert seen == ["b 09:00:04", "run 09:00:07", "a 09:00:10", "plain 09:00:14"]
    assert [j.result for j in jobs] == ["09:00:20", "09:00:08", None]


def test_create_task_call_later_wait_for_and_gather() -> None:
    seen: list[str] = []

    async def story() -> list[Any]:
        loop = asyncio.get_running_loop()
        loop.call_later(30, lambda: seen.append(f"later {at()}"))
        task = asyncio.create_task(asyncio.sleep(20, "slept"))
        with pytest.raises(asyncio.TimeoutError):
            await asyncio.wait_for(asyncio.sleep(100), 5)
        seen.append(f"timed out {at()}")
        done = await asyncio.gather(task, asyncio.to_thread(time.sleep, 60))
        seen.append(f"gathered {at()}")
        return done

    with ic.Rig(start="2031-03-03T09:00"):
        assert asyncio.run(story()) == ["slept", None]
    assert seen == ["timed out 09:00:05", "later 09:00:30", "gathered 09:01:05"]


def test_a_timeout_cancels_an_async_job_which_may_clean_up() -> None:
    rig, seen = ic.Rig(start="2031-03-03T09:00"), []

    async def load() -> None:
        try:
            await asyncio.sleep(600)
        except asyncio.CancelledError:
            await asyncio.sleep(2)
            seen.append(at())
            raise

    with rig:
        job = rig.enqueue(rig.job(load, timeout="30s", retry=ic.Retry(2, "1m")).call())
        rig.run_dry()
        assert [a.outcome for a in job.attempts] == ["timed-out", "timed-out"]
        assert isinstance(job.error, ic.AttemptTimeout)
        again = rig.enqueue(rig.job(load, name="again").call())
        rig.advance("1m")
        again.withdraw(running="throw")
        rig.advance("1m")
    assert again.state == "withdrawn"
    assert seen == ["09:00:32", "09:02:04", "09:03:06"]


def test_a_swallowed_cancellation_is_shown_by_the_law() -> None:
    rig = ic.Rig()

    async def deaf() -> str:
        for _ in range(3):
            with contextlib.suppress(asyncio.CancelledError):
                await asyncio.sleep(60)
        return "went on"

    with rig:
        job = rig.enqueue(rig.job(deaf).call())
        rig.advance("10s")
        rig.stop_workers(grace="30s", how="throw")
        rig.advance("10m")
    assert job.state == "ready"
    with pytest.raises(ic.laws.BrokenLaw, match="had to be killed 30s after it was asked to stop"):
        rig.check(ic.laws.stops_when_asked("5s"))


def test_a_worker_that_dies_in_an_async_job_runs_no_handler() -> None:
    rig, seen = ic.Rig(), []

    async def load() -> str:
        try:
            await asyncio.sleep(5)
            await asyncio.sleep(5)
        finally:
            seen.append("finally")
        return "loaded"

    kind = rig.job(load)
    rig.faults.crash("load", at="sleep", visits=2, attempts=1)
    with rig:
        job = rig.enqueue(kind.call())
        rig.run_dry()
    assert ([a.outcome for a in job.attempts], seen) == (["crashed", "done"], ["finally"])


def test_retry_loops_of_an_ordinary_package_finish_at_once_at_the_right_instants() -> None:
    calls: list[str] = []

    @tenacity.retry(wait=tenacity.wait_exponential(multiplier=60, max=7200), stop=tenacity.stop_after_attempt(9))
    def submit() -> str:
        calls.append(at())
        if len(calls) < 9:
            raise ConnectionError
        return "handed in"

    @tenacity.retry(wait=tenacity.wait_fixed(3600), stop=tenacity.stop_after_delay(4 * 3600))
    async def ask() -> None:
        calls.append(at())
        raise ConnectionError

    real = time.monotonic()
    with ic.Rig(start="2031-03-03T09:00") as rig:
        job = rig.enqueue(rig.job(submit).call())
        rig.run_dry()
        assert job.result == "handed in"
        assert calls == [
            "09:00:00", "09:01:00", "09:03:00", "09:07:00", "09:15:00", "09:31:00", "10:03:00", "11:07:00", "13:07:00",
        ]  # fmt: skip
        calls.clear()
        with pytest.raises(tenacity.RetryError):
            asyncio.run(ask())
        assert calls == ["13:07:00", "14:07:00", "15:07:00", "16:07:00", "17:07:00"]
    assert time.monotonic() - real < 30


def test_an_ordinary_cache_expires_on_the_rigs_clock_though_it_was_made_before() -> None:
    cache: TTLCache[str, int] = TTLCache(10, ttl=60)
    with ic.Rig() as rig:
        cache["fare"] = 180
        rig.advance("59s")
        assert cache.get("fare") == 180
        rig.advance("1s")
        assert cache.get("fare") is None


def test_code_that_bounds_itself_with_an_alarm() -> None:
    def bounded() -> str:
        def ring(number: int, frame: object) -> None:
            raise TimeoutError("rang")

        before = signal.signal(signal.SIGALRM, ring)
        try:
            signal.alarm(30)
            time.sleep(3600)
        except TimeoutError:
            return at()
        finally:
            signal.alarm(0)
            signal.signal(signal.SIGALRM, before)
        return "slept through it"

    with ic.Rig(start="2031-03-03T09:00") as rig:
        assert bounded() == "09:00:30"
        job = rig.enqueue(rig.job(bounded).call())
        rig.run_dry()
        assert job.result == "09:01:00"
        assert signal.getitimer(signal.ITIMER_REAL) == (0.0, 0.0)
    assert signal.getitimer(signal.ITIMER_REAL) == (0.0, 0.0)


def test_an_event_loop_goes_on_after_half_a_year() -> None:
    async def year() -> str:
        for _ in range(400):
            await asyncio.sleep(86_400)
        return f"{datetime.now():%Y-%m-%d}"

    with ic.Rig(start="2031-01-01T00:00"):
        assert asyncio.run(year()) == "2032-02-05"


def test_a_loop_that_polls_without_waiting_gets_on() -> None:
    async def poll() -> str:
        ready = asyncio.Event()
        asyncio.get_running_loop().call_later(600, ready.set)
        while not ready.is_set():
            await asyncio.sleep(0)
        return at()

    with ic.Rig(start="2031-03-03T09:00"):
        assert asyncio.run(poll()) == "09:10:00"


def test_a_worker_that_dies_in_a_task_of_its_job_does_nothing_more() -> None:
    after: list[str] = []
    with ic.Rig() as rig:
        mail = rig.service(ic.services.Mail())

        async def one(number: int) -> None:
            await asyncio.sleep(1)
            mail.send("ina", str(number))

        async def both() -> None:
            found = await asyncio.gather(one(1), one(2), return_exceptions=True)
            after.append(f"{len(found)} answers")

        kind = rig.job(both)
        rig.faults.crash("both", at="before mail.send", attempts=1)
        job = rig.enqueue(kind.call())
        rig.run_dry()
    assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    assert after == ["2 answers"], "those of the second attempt alone"
    assert len(mail.sent) == 2


def test_asynchronous_generators_of_several_loops_belong_to_their_own() -> None:
    """What Python calls for them is the thread's, and all simulated threads share a real one."""
    rig, ended = ic.Rig(), []

    async def numbers(name: str) -> Any:
        try:
            for number in range(100):
                yield number
                await asyncio.sleep(1)
        finally:
            ended.append(name)

    async def read(name: str, seconds: float) -> None:
        await asyncio.sleep(seconds)
        async for number in numbers(name):
            if number == 3:
                break

    with rig:
        for name, seconds in (("one", 0.0), ("two", 0.5)):
            rig.run_loop(lambda name=name, seconds=seconds: asyncio.run(read(name, seconds)), name=name)
        asyncio.run(asyncio.sleep(1))  # a loop that has ended takes none of theirs
        rig.advance("1m")
        assert ended == ["one", "two"]
    assert all(hook is None for hook in sys.get_asyncgen_hooks())
