"""Calls into C that block: on helper threads if the rig knows them, ended with an error that says where if it does not."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic
from ironclock.interpreter.patching.interpreter_layout import unknown_build, unknown_layout

libc: Any = ctypes.CDLL(None)
pytestmark = pytest.mark.skipif(sys.platform != "linux", reason="calls functions of Linux's C library")


def wait_for_echo(seconds: float) -> str:
    libc.usleep(int(seconds * 1e6))
    return "echo"


def fails() -> None:
    raise ValueError("no echo")


async def listens() -> None:
    return


@pytest.mark.parametrize("target", [wait_for_echo, "test_outside_calls:wait_for_echo"])
def test_a_call_on_a_helper_thread_stops_nobody_else(target: Any) -> None:
    if isinstance(target, str):
        target = f"{__name__}:wait_for_echo"
    before = threading.active_count()
    with ic.Rig() as rig:
        rig.outside(target)
        rig.outside(fails)
        rig.workers(3)
        jobs = [
            rig.enqueue(rig.job(lambda: wait_for_echo(0.4), name="echo").call()),
            rig.enqueue(rig.job(lambda: time.sleep(5), name="other").call()),
            rig.enqueue(rig.job(fails, name="fails").call()),
        ]
        rig.settle()
        rig.advance("1m")
        assert jobs[0].result == "echo"
        assert jobs[1].state == "done"
        assert repr(jobs[2].error) == "ValueError('no echo')"
        assert wait_for_echo(0.01) == "echo", "in the test's own code as well"
    assert threading.active_count() == before


@pytest.mark.parametrize(
    ("target", "words"),
    [
        ("tern_line.radar:wait", "cannot import 'tern_line.radar'"),
        ("time:slep", "'time' has no 'slep'; did you mean 'sleep'"),
        ("sys:path", "which cannot be called; give a function"),
        (listens, "is async, so it does not block its thread"),
    ],
)
def test_an_outside_call_of_something_else_is_refused(target: Any, words: str) -> None:
    with ic.Rig() as rig, pytest.raises(ic.TapError, match=words):
        rig.outside(target)


def reads_a_pipe() -> None:
    reads, _ = os.pipe()
    os.read(reads, 1)


def waits_in_c() -> None:
    libc.pause()


def waits_for_a_queue() -> None:
    multiprocessing.Queue().get()


def waits_for_a_process() -> None:
    child = subprocess.Popen(["sleep", "30"])
    try:
        child.wait()
    finally:
        child.kill()
        child.wait()


def computes() -> None:
    while True:
        pass


@pytest.mark.parametrize("where", ["test", "job"])
@pytest.mark.parametrize(
    ("blocks", "words"),
    [
        (reads_a_pipe, r"waits in os\.read, at .*test_outside_calls\.py:\d+ in reads_a_pipe"),
        (waits_in_c, r"has stood in one call .*test_outside_calls\.py:\d+ in waits_in_c; .*rig\.outside\('"),
        (waits_for_a_queue, r"waits in os\.read, at .*test_outside_calls\.py:\d+ in waits_for_a_queue"),
        (waits_for_a_process, r"waits in a child process's wait, at .* in waits_for_a_process"),
    ],
)
def test_no_wait_hangs_in_silence(blocks: Any, words: str, where: str) -> None:
    began = time.monotonic()
    with ic.Rig(stuck_after="0.3s") as rig:
        if where == "test":
            with pytest.raises(ic.StuckError, match=f"the test.* {words}"):
                blocks()
        elif blocks is waits_in_c:
            rig.enqueue(rig.job(blocks).call())
            with pytest.raises(ic.StuckError, match=words):
                rig.advance("1m")
        else:
            job = rig.enqueue(rig.job(blocks).call())
            rig.advance("1m")
            assert job.state == "running", "the others go on; the story says where it stands"
            with pytest.raises(ic.JobsLeftOpen, match=words.replace("waits in", "it waits in")):
                rig.run_dry()
    assert time.monotonic() - began < 10


def test_a_job_that_computes_for_ever_ends_the_run() -> None:
    with ic.Rig(stuck_after="0.2s") as rig:
        rig.enqueue(rig.job(computes).call())
        with pytest.raises(ic.StuckError, match=r"computes-1/1 has computed for \d real seconds .* in computes"):
            rig.advance("1m")


def test_a_polling_thread_does_not_hide_that_the_test_waits_for_ever() -> None:
    with ic.Rig(stuck_after="0.5s"):

        def polls() -> None:
            while True:
                time.sleep(60)

        threading.Thread(target=polls).start()
        with pytest.raises(ic.StuckError, match=r"a day of simulated time has brought nothing"):
            threading.Event().wait()


WAITS_FOR_A_SIGNAL = """
import os, signal, threading, time
import ironclock as ic
signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGUSR2})
with ic.Rig() as rig:
    def sends():
        time.sleep(3)
        os.kill(os.getpid(), signal.SIGUSR2)
    threading.Thread(target=sends).start()
    print(signal.sigtimedwait({signal.SIGUSR2}, 20).si_signo == signal.SIGUSR2, rig.now.second)
"""


def test_signals_reach_the_threads_of_the_program_alone() -> None:
    done = subprocess.run(
        [sys.executable, "-c", WAITS_FOR_A_SIGNAL], capture_output=True, text=True, timeout=60, check=False
    )
    assert done.stdout == "True 3\n", (done.returncode, done.stderr)


def test_code_that_asks_again_and_again_for_the_end_of_a_child() -> None:
    with ic.Rig() as rig:
        child = subprocess.Popen(["sleep", "1"])
        asked = 0
        while child.poll() is None:
            time.sleep(0.25)
            asked += 1
        assert 3 <= asked <= 12
        assert rig.now.second <= 3
        child = subprocess.Popen(["sleep", "100"])
        for _ in range(100):  # a look now and then does not wait for it
            assert child.poll() is None
            time.sleep(60)
        child.kill()
        assert child.wait() == -9


def test_a_queue_between_processes_works_in_a_rig() -> None:
    with ic.Rig() as rig:
        rig.workers(2)
        queue: Any = multiprocessing.Queue()

        def puts() -> None:
            time.sleep(5)
            queue.put("sealed")

        job = rig.enqueue(rig.job(lambda: queue.get(), name="gets").call())
        rig.enqueue(rig.job(puts).call())
        rig.advance("1m")
        assert job.result == "sealed"


def test_a_forked_child_lives_in_real_time() -> None:
    with ic.Rig(start="2031-03-29T21:00"):
        child = os.fork()
        if child == 0:
            os._exit(0 if time.localtime().tm_year < 2031 else 1)
        assert os.waitpid(child, 0) == (child, 0)


@pytest.mark.parametrize(
    ("build", "words"),
    [
        (("pypy", (3, 11), False), "its implementation is 'pypy'"),
        (("cpython", (3, 14), False), "its version is 3.14"),
        (("cpython", (3, 13), True), "free-threaded"),
        (("cpython", (3, 12), False), ""),
    ],
)
def test_an_unknown_interpreter_is_named(build: Any, words: str) -> None:
    found = unknown_build(*build)
    assert (words in found) if words else not found


def test_another_layout_is_noticed_before_anything_is_touched() -> None:
    assert unknown_layout(time.sleep) == ""
    assert "its type" in unknown_layout(time.sleep, lambda _: 0)
    true = lambda address: ctypes.c_void_p.from_address(address).value  # noqa: E731
    shifted = lambda address: None if address == id(time.sleep) + 24 else true(address)  # noqa: E731
    assert "the module of a built-in function" in unknown_layout(time.sleep, shifted)


@pytest.mark.parametrize("by", ["open", "os.open"])
def test_the_opening_of_a_named_pipe_waits_for_its_other_end(tmp_path: Path, by: str) -> None:
    pipe, seen = tmp_path / "pipe", []
    os.mkfifo(pipe)

    def reads() -> None:
        if by == "open":
            with pipe.open() as file:
                seen.append((file.read(), time.monotonic()))
        else:
            fd = os.open(pipe, os.O_RDONLY)
            seen.append((os.read(fd, 10).decode(), time.monotonic()))
            os.close(fd)

    def writes() -> None:
        time.sleep(30)
        if by == "open":
            with pipe.open("w") as file:
                file.write("tide")
        else:
            fd = os.open(pipe, os.O_WRONLY)
            os.write(fd, b"tide")
            os.close(fd)

    with ic.Rig():
        begin = time.monotonic()
        threads = [threading.Thread(target=work) for work in (reads, writes)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert seen == [("tide", begin + 30)]
