"""What workers as in production cost: event loops on simulated time, sleeping jobs, locks, a forked hard crash."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from turns import in_turns, loop_turns, median, ratio, verdict

import ironclock as ic

real = time.clock_gettime  # the documented door to the real clock
MONOTONIC = time.CLOCK_MONOTONIC
TASKS, NAPS = 1_000, 100


async def sleeps(seconds: float) -> None:
    async def one(number: int) -> None:
        for _ in range(NAPS):
            await asyncio.sleep(seconds * (1 + number % 7))

    await asyncio.gather(*(one(number) for number in range(TASKS)))


def timed(work: Callable[[], Any]) -> Callable[[], float]:
    """A side that answers sleeps a second."""

    def side() -> float:
        start = real(MONOTONIC)
        work()
        return TASKS * NAPS / (real(MONOTONIC) - start)

    return side


def in_a_test() -> None:
    with ic.Rig():
        asyncio.run(sleeps(3600))


def on_the_standard_loop() -> None:
    """With timers that are due at once."""
    asyncio.run(sleeps(1e-9))


def in_a_job() -> None:
    with ic.Rig() as rig:
        job = rig.enqueue(rig.job(sleeps).call(3600))
        rig.run_dry("365d")
    assert job.state == "done"


def zero_in_a_rig() -> None:
    with ic.Rig():
        asyncio.run(sleeps(0))


def naps() -> None:
    rig = ic.Rig()
    rig.workers(100)

    def nap() -> None:
        for _ in range(NAPS):
            time.sleep(1)

    kind = rig.job(nap)
    with rig:
        for _ in range(TASKS):
            rig.enqueue(kind.call())
        rig.run_dry()


def locks() -> None:
    """Two threads hand a lock to and fro: each hand-over is two switches."""

    def job() -> None:
        lock = threading.Lock()

        def take() -> None:
            for _ in range(TASKS * NAPS // 20):
                with lock:
                    time.sleep(1)

        threads = [threading.Thread(target=take) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    with ic.Rig() as rig:
        rig.enqueue(rig.job(job).call())
        rig.run_dry()


def hard_crash() -> float:
    """Return the milliseconds of one attempt that runs in a forked child and dies at a seam."""
    rig = ic.Rig()

    def work() -> None:
        time.sleep(1)

    kind = rig.job(work, deliveries=1)
    rig.faults.crash("work", at="sleep", hard=True)
    with rig:
        job = rig.enqueue(kind.call())
        start = real(MONOTONIC)
        rig.run_dry()
        spent = real(MONOTONIC) - start
    assert job.attempts[0].outcome == "crashed"
    return spent * 1e3


def bare_fork() -> float:
    """Return the milliseconds of a fork whose child exits at once."""
    start = real(MONOTONIC)
    child = os.fork()
    if not child:
        os._exit(0)
    os.waitpid(child, 0)
    return (real(MONOTONIC) - start) * 1e3


def against_a_fork() -> float:
    """Return how many times longer a hard crash takes than a bare fork."""
    return ratio(in_turns({"crash": hard_crash, "fork": bare_fork}, 51), "crash", "fork")


def main() -> None:
    found = in_turns(
        {
            "in a test": timed(in_a_test), "in a job": timed(in_a_job),
            "standard loop, shortest": timed(on_the_standard_loop),
            "standard loop, zero": timed(lambda: asyncio.run(sleeps(0))), "zero in a rig": timed(zero_in_a_rig),
        },
        5,
    )  # fmt: skip
    rate = max(median(found["in a test"]), median(found["in a job"]))
    turns = loop_turns(lambda: 1 / rate)
    verdict(f"a simulated asyncio sleep costs {turns:,.0f} turns of a bare loop (under 330)", turns < 330)
    against = ratio(found, "in a job", "standard loop, shortest")
    verdict(
        f"{against:.2f} times the standard loop's rate, whose timers are due at once (at least 0.6)", against >= 0.6
    )
    zero = ratio(found, "zero in a rig", "standard loop, zero")
    verdict(f"{zero:.2f} times the standard loop's rate with sleeps of zero on both sides (at least 0.6)", zero >= 0.6)
    turns = loop_turns(lambda: 1 / timed(naps)())
    verdict(f"a time.sleep in one of a hundred jobs costs {turns:,.0f} turns of a bare loop (under 500)", turns < 500)
    turns = loop_turns(lambda: 10 / timed(locks)())
    verdict(f"a lock that goes from one job to another costs {turns:,.0f} turns (under 3,000)", turns < 3_000)
    # In a process of its own: a fork costs by the memory of who forks, and the parts before this one had much.
    code = "import bench_workers as b; print(b.against_a_fork())"
    asked = subprocess.run(
        [sys.executable, "-c", code], cwd=Path(__file__).parent, capture_output=True, text=True, check=True
    )
    times = float(asked.stdout)
    verdict(f"an attempt in a forked child that dies at its seam: {times:.1f} times a bare fork (under 10)", times < 10)
