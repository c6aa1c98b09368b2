"""Loops that end when their deadline is past: at the deadline itself they wait for zero seconds, again and again."""

from __future__ import annotations

import asyncio
import concurrent.futures as futures
import queue
import selectors
import socket
import threading
import time
from collections.abc import Callable

import pytest

import ironclock as ic

SPAN = 5


def _event(left: float) -> None:
    threading.Event().wait(left)


def _condition(left: float) -> None:
    line = threading.Condition()
    with line:
        line.wait(left)


def _plain_condition(left: float) -> None:
    line = threading.Condition(threading.Lock())
    with line:
        line.wait(left)


def _lock(left: float) -> None:
    lock = threading.Lock()
    lock.acquire()
    lock.acquire(timeout=left)


def _semaphore(left: float) -> None:
    threading.Semaphore(0).acquire(timeout=left)


def _queue(left: float) -> None:
    with pytest.raises(queue.Empty):
        queue.Queue[int]().get(timeout=left)


def _simple_queue(left: float) -> None:
    with pytest.raises(queue.Empty):
        queue.SimpleQueue[int]().get(timeout=left)


def _full_queue(left: float) -> None:
    full = queue.Queue[int](1)
    full.put(1)
    with pytest.raises(queue.Full):
        full.put(2, timeout=left)


def _future(left: float) -> None:
    with pytest.raises(TimeoutError):
        futures.Future[None]().result(left)


def _all_of(left: float) -> None:
    futures.wait([futures.Future[None]()], timeout=left)


def _next_of(left: float) -> None:
    with pytest.raises(TimeoutError):
        next(futures.as_completed([futures.Future[None]()], timeout=left))


def _barrier(left: float) -> None:
    with pytest.raises(threading.BrokenBarrierError):
        threading.Barrier(2).wait(left)


def _selector(left: float) -> None:
    near, far = socket.socketpair()
    with near, far, selectors.DefaultSelector() as selector:
        selector.register(near, selectors.EVENT_READ)
        selector.select(left)


def _receive(left: float) -> None:
    near, far = socket.socketpair()
    with near, far:
        near.settimeout(left)
        with pytest.raises((BlockingIOError, TimeoutError)):
            near.recv(1)


WAYS: list[Callable[[float], None]] = [
    time.sleep, _event, _condition, _plain_condition, _lock, _semaphore, _queue, _simple_queue, _full_queue, _future,
    _all_of, _next_of, _barrier, _selector, _receive,
]  # fmt: skip


def until_past(wait: Callable[[float], None], clock: Callable[[], float]) -> float:
    """Wait in the way of a loop that goes on while nothing or more is left; return by how much it was late."""
    end = clock() + SPAN
    while (left := end - clock()) >= 0:
        wait(left)
    return clock() - end


@pytest.mark.parametrize("wait", WAYS, ids=lambda way: way.__name__.strip("_"))
@pytest.mark.parametrize("clock", [time.monotonic, time.time], ids=["monotonic", "wall"])
def test_a_loop_ends_just_after_its_deadline(wait: Callable[[float], None], clock: Callable[[], float]) -> None:
    late: list[float] = []
    with ic.Rig(stuck_after=5) as rig:
        rig.enqueue(lambda: late.append(until_past(wait, clock)))
        rig.advance("5s")
        rig.advance("1s")
        late.append(until_past(wait, clock))  # the test's own code
        threading.Thread(target=lambda: late.append(until_past(wait, clock))).start()
        rig.advance("10s")
    assert len(late) == 3
    assert all(0 < one < 1e-4 for one in late)


@pytest.mark.parametrize("loops_in_job", [True, False])
def test_asyncio_loops_too(loops_in_job: bool) -> None:
    late = []

    async def loop() -> None:
        clock = asyncio.get_running_loop().time
        for way in (1, 2):
            end = clock() + SPAN
            while (left := end - clock()) >= 0:
                if way == 1:
                    await asyncio.wait([asyncio.ensure_future(asyncio.sleep(100))], timeout=left)
                else:
                    with pytest.raises(TimeoutError):
                        await asyncio.wait_for(asyncio.Event().wait(), left)
            late.append(clock() - end)

    with ic.Rig(stuck_after=5) as rig:
        if loops_in_job:
            rig.enqueue(loop)
            rig.advance("1m")
        else:
            asyncio.run(loop())
    assert len(late) == 2
    assert all(0 < one < 1e-4 for one in late)


def test_results_as_they_complete_end_by_their_timeout() -> None:
    with ic.Rig(stuck_after=5):
        pool, begin, seen = futures.ThreadPoolExecutor(2), time.monotonic(), []
        with pytest.raises(TimeoutError):
            for _ in futures.as_completed([pool.submit(time.sleep, span) for span in (3, 60)], timeout=8):
                seen.append(time.monotonic() - begin)
        assert seen == [3]
        assert 8 <= time.monotonic() - begin < 8.001
        pool.shutdown()


def test_waits_of_zero_without_a_look_at_the_clock_take_no_time() -> None:
    with ic.Rig():
        begin, bell = time.monotonic_ns(), threading.Event()
        for _ in range(2_000):
            assert not bell.wait(0)
        assert time.monotonic_ns() == begin
