"""What a real signal raises reaches the test, whichever task runs when it comes."""

from __future__ import annotations

import _thread
import asyncio
import concurrent.futures as futures
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

import pytest

import ironclock as ic


class TimeIsUp(BaseException):
    """What a time limit of a test runner raises."""


@pytest.fixture(autouse=True)
def limit() -> Iterator[None]:
    def strike(*_: Any) -> None:
        raise TimeIsUp

    interrupt = signal.signal(signal.SIGINT, signal.default_int_handler)  # a shell ignores it in the background
    before = signal.signal(signal.SIGALRM, strike)
    yield
    signal.signal(signal.SIGINT, interrupt)
    assert signal.getsignal(signal.SIGALRM) is strike
    signal.signal(signal.SIGALRM, before)


def in_thread(rig: ic.Rig, strike: Callable[[], None]) -> None:
    thread = threading.Thread(target=strike)
    thread.start()
    thread.join()


def in_job(rig: ic.Rig, strike: Callable[[], None]) -> None:
    rig.enqueue(strike)
    rig.settle()


def in_async_job(rig: ic.Rig, strike: Callable[[], None]) -> None:
    async def job() -> None:
        await asyncio.sleep(1)
        strike()

    rig.enqueue(job)
    rig.advance("2s")


def in_pool(rig: ic.Rig, strike: Callable[[], None]) -> None:
    with futures.ThreadPoolExecutor(1) as pool:
        futures.wait([pool.submit(strike)])


def in_worker_loop(rig: ic.Rig, strike: Callable[[], None]) -> None:
    rig.run_loop(strike)
    rig.advance("1s")


def in_the_test(rig: ic.Rig, strike: Callable[[], None]) -> None:
    strike()
    rig.advance("1s")


def ctrl_c() -> None:
    os.kill(os.getpid(), signal.SIGINT)


def from_outside() -> None:
    code = f"import os, signal; os.kill({os.getpid()}, signal.SIGINT)"
    senders.append(subprocess.Popen([sys.executable, "-c", code]))
    for _ in range(30_000_000):  # and not for ever: the pool waits for its workers
        pass


senders: list[subprocess.Popen[bytes]] = []


def time_limit() -> None:
    signal.raise_signal(signal.SIGALRM)


@pytest.mark.parametrize("place", [in_thread, in_job, in_async_job, in_pool, in_worker_loop, in_the_test])
@pytest.mark.parametrize(
    ("strike", "error"),
    [
        (ctrl_c, KeyboardInterrupt), (_thread.interrupt_main, KeyboardInterrupt), (from_outside, KeyboardInterrupt),
        (time_limit, TimeIsUp),
    ],
)  # fmt: skip
def test_it_reaches_the_test(
    place: Callable[[ic.Rig, Any], None], strike: Callable[[], None], error: type[BaseException]
) -> None:
    rig = ic.Rig()
    with rig, pytest.raises(error):
        place(rig, strike)
    rig.close()
    while senders:
        senders.pop().wait()
    assert signal.getsignal(signal.SIGINT) is signal.default_int_handler


def test_the_thread_goes_on_afterwards() -> None:
    done = []

    def works() -> None:
        time.sleep(1)
        ctrl_c()
        time.sleep(5)
        done.append(time.monotonic())

    with ic.Rig() as rig:
        threading.Thread(target=works).start()
        with pytest.raises(KeyboardInterrupt):
            rig.advance("1s")
        assert not done
        rig.advance("10s")
        assert len(done) == 1


def test_handlers_are_those_that_were_set() -> None:
    def handler(*_: Any) -> None:
        return

    before = signal.getsignal(signal.SIGUSR1)
    with ic.Rig():
        assert signal.getsignal(signal.SIGINT) is signal.default_int_handler
        assert signal.signal(signal.SIGUSR1, handler) is before
        assert signal.getsignal(signal.SIGUSR1) is handler
    assert signal.getsignal(signal.SIGUSR1) is handler
    signal.signal(signal.SIGUSR1, before)


@pytest.mark.parametrize("where", ["thread", "test"])
def test_a_signal_whose_default_ends_the_process_does_so(where: str) -> None:
    code = f"""
import os, signal, threading, time
import ironclock as ic
def end(): signal.raise_signal(signal.SIGTERM); time.sleep(1)
with ic.Rig() as rig:
    if {where!r} == "thread":
        thread = threading.Thread(target=end); thread.start(); thread.join()
    else:
        end()
"""
    assert subprocess.run([sys.executable, "-c", code], timeout=30, check=False).returncode == -signal.SIGTERM
