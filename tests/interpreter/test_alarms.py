"""Alarms of signals interrupt whatever waits, at their simulated instant."""

from __future__ import annotations

import queue
import select
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

import pytest

import ironclock as ic


class TooLateError(Exception):
    """What the handler of the alarm raises."""


def _ring(*_: Any) -> None:
    raise TooLateError


@pytest.fixture
def handled() -> Iterator[None]:
    before = signal.signal(signal.SIGALRM, _ring)
    yield
    signal.signal(signal.SIGALRM, before)


def _locked() -> None:
    lock = threading.Lock()
    lock.acquire()
    lock.acquire()


def _received(timeout: float | None = None) -> None:
    ours, theirs = socket.socketpair()
    with ours, theirs:
        ours.settimeout(timeout)
        ours.recv(1)


def _selected() -> None:
    ours, theirs = socket.socketpair()
    with ours, theirs:
        select.select([ours], [], [])


def _accepted() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        server.accept()


def _joined() -> None:
    thread = threading.Thread(target=time.sleep, args=(1000,), daemon=True)
    thread.start()
    thread.join()


WAITS: dict[str, Callable[[], Any]] = {
    "pause": signal.pause, "lock": _locked, "queue": lambda: queue.Queue[int]().get(), "accept": _accepted,
    "simple queue": lambda: queue.SimpleQueue[int]().get(), "event": lambda: threading.Event().wait(),
    "recv": _received, "recv with a timeout": lambda: _received(100), "select": _selected, "join": _joined,
    "sleep": lambda: time.sleep(100), "child": lambda: subprocess.run(["sleep", "100"], check=False),
}  # fmt: skip


CASES = [
    (wait, kind, where)
    for wait in WAITS
    for kind in ("alarm", "setitimer")
    for where in ("test", "job")
    if wait != "child" or (kind, where) == ("alarm", "job")  # a real process is given ten real seconds
]


@pytest.mark.usefixtures("handled")
@pytest.mark.parametrize(("wait", "kind", "where"), CASES)
def test_a_pending_alarm_interrupts_a_wait(wait: str, kind: str, where: str) -> None:
    with ic.Rig() as rig:

        def interrupted_after() -> float:
            began = time.monotonic()
            if kind == "alarm":
                signal.alarm(5)
            else:
                signal.setitimer(signal.ITIMER_REAL, 5)
            with pytest.raises(TooLateError):
                WAITS[wait]()
            return time.monotonic() - began

        if where == "test":
            assert interrupted_after() == pytest.approx(5)
        else:
            job = rig.enqueue(interrupted_after)
            rig.advance("1m")
            assert job.result == pytest.approx(5)
