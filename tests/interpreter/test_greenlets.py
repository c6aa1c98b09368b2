"""Rigs that are left are freed: nothing that a suspended greenlet holds keeps them alive."""

from __future__ import annotations

import asyncio
import gc
import threading
import time
import weakref
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import pytest

import ironclock as ic


def sleeps(rig: ic.Rig) -> None:
    kind = rig.job(lambda: time.sleep(1), name="deck_lights")
    for number in range(4):
        rig.enqueue(kind.call(), after=number * 0.3)


def fails(rig: ic.Rig) -> None:
    def poll_buoy() -> None:
        time.sleep(1)
        raise ConnectionError("no answer")

    rig.enqueue(rig.job(poll_buoy, retry=ic.Retry(2, "1s")).call())


def awaits(rig: ic.Rig) -> None:
    async def offer_seat() -> None:
        await asyncio.sleep(2)

    rig.enqueue(rig.job(offer_seat).call())


def starts_threads(rig: ic.Rig) -> None:
    def load() -> None:
        thread = threading.Thread(target=time.sleep, args=(2,))
        thread.start()
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(time.sleep, [1, 2]))
        thread.join()

    rig.enqueue(rig.job(load).call())


def dies(rig: ic.Rig) -> None:
    rig.enqueue(rig.job(lambda: time.sleep(1), name="charge_fare", deliveries=2).call())
    rig.faults.crash("charge_fare", at="sleep")


def times_out(rig: ic.Rig) -> None:
    rig.enqueue(rig.job(lambda: time.sleep(10), name="close_till", timeout="1s").call())


def holds_a_lock(rig: ic.Rig) -> None:
    lock = threading.Lock()

    def weigh() -> None:
        with lock:
            time.sleep(1)

    kind = rig.job(weigh)
    rig.workers(2)
    for _ in range(3):
        rig.enqueue(kind.call())


def leaves_a_job_open(rig: ic.Rig) -> None:
    rig.enqueue(rig.job(lambda: time.sleep(1000), name="tide_table").call())
    rig.settle()
    rig.close()


@pytest.mark.parametrize(
    "story", [sleeps, fails, awaits, starts_threads, dies, times_out, holds_a_lock, leaves_a_job_open]
)
@pytest.mark.parametrize("runs", [1, pytest.param(7, marks=pytest.mark.exhaustive)])
def test_a_rig_is_freed(story: Callable[[ic.Rig], None], runs: int) -> None:
    left = []
    for seed in range(3):
        with ic.Rig(seed=seed) as rig:
            story(rig)
            for _ in range(runs if story is not leaves_a_job_open else 0):
                rig.advance(35 / runs)
            assert story is leaves_a_job_open or not rig.jobs(state="running")
        left.append(weakref.ref(rig))
        del rig
    gc.collect()
    gc.collect()
    assert [made() for made in left] == [None] * 3
