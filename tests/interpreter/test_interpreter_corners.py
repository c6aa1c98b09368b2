"""Corners of the interpreter and of the standard library in a rig, held against the same code outside."""

from __future__ import annotations

import contextlib
import ctypes
import importlib.util
import os
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

import pytest

import ironclock as ic

OF_CONNECTIONS: dict[str, Callable[[sqlite3.Connection], Any]] = {
    "create_function": lambda one: one.create_function("tide", 0, int),
    "create_aggregate": lambda one: one.create_aggregate("wind", 1, object),  # type: ignore[arg-type]
    "create_window_function": lambda one: one.create_window_function("swell", 1, None),
    "create_collation": lambda one: one.create_collation("berth", None),
    "set_authorizer": lambda one: one.set_authorizer(None),
    "set_progress_handler": lambda one: one.set_progress_handler(None, 1),
    "set_trace_callback": lambda one: one.set_trace_callback(None),
    "backup": lambda one: one.backup(sqlite3.connect(":memory:", check_same_thread=False)),
    "serialize": lambda one: one.serialize(),
    "deserialize": lambda one: one.deserialize(b""),
    "getlimit": lambda one: one.getlimit(sqlite3.SQLITE_LIMIT_LENGTH),
    "setlimit": lambda one: one.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, -1),
    "blobopen": lambda one: one.blobopen("berths", "boats", 1),
    "iterdump": lambda one: list(one.iterdump()),
    "cursor": lambda one: one.cursor(),
    "commit": lambda one: one.commit(),
    "rollback": lambda one: one.rollback(),
    "execute": lambda one: one.execute("select 1"),
    "close": lambda one: one.close(),
    "interrupt": lambda one: one.interrupt(),
    "total_changes": lambda one: one.total_changes,
    "in_transaction": lambda one: one.in_transaction,
}
OF_CURSORS: dict[str, Callable[[sqlite3.Cursor], Any]] = {
    "execute": lambda one: one.execute("select 1"),
    "executemany": lambda one: one.executemany("select ?", []),
    "executescript": lambda one: one.executescript("select 1"),
    "fetchone": lambda one: one.fetchone(),
    "fetchmany": lambda one: one.fetchmany(),
    "fetchall": lambda one: one.fetchall(),
    "close": lambda one: one.close(),
}


def _in_another_thread() -> dict[str, str]:
    """Return what each method of SQLite's objects raises in another thread than the one that opened them."""
    connection = sqlite3.connect(":memory:")
    cursor = connection.cursor()
    raised = {}

    def works() -> None:
        for kind, one, calls in (("connection", connection, OF_CONNECTIONS), ("cursor", cursor, OF_CURSORS)):
            for name, call in calls.items():  # type: ignore[attr-defined]
                try:
                    call(one)
                except Exception as error:
                    raised[f"{kind}.{name}"] = type(error).__name__
                else:
                    raised[f"{kind}.{name}"] = ""

    thread = threading.Thread(target=works)
    thread.start()
    thread.join()
    connection.close()
    return raised


def test_sqlite_refuses_other_threads_as_outside() -> None:
    outside = _in_another_thread()
    with ic.Rig():
        assert _in_another_thread() == outside
    assert list(outside.values()).count("ProgrammingError") > 20


SUBINTERPRETER = """
try:
    import _interpreters as interpreters
except ImportError:
    import _xxsubinterpreters as interpreters
import ironclock as ic
run = getattr(interpreters, "exec", None) or interpreters.run_string
with ic.Rig() as rig:
    one = interpreters.create()
    run(one, "import time; time.sleep(0.01); assert time.time() < 1_924_000_000")  # it has the real clock
    interpreters.destroy(one)
    print(rig.now.year)
"""


def test_a_subinterpreter_in_a_rig() -> None:
    done = subprocess.run(
        [sys.executable, "-c", SUBINTERPRETER], capture_output=True, text=True, timeout=60, check=False
    )
    assert (done.stdout, done.returncode) == ("2031\n", 0), done.stderr


def test_a_module_in_c_that_is_loaded_once_more() -> None:
    with ic.Rig() as rig:
        spec = importlib.util.find_spec("time")
        assert spec is not None
        assert importlib.util.module_from_spec(spec).time() < rig.now.timestamp() - 1e6  # a new one knows no rig
        assert time.time() == rig.now.timestamp()


@pytest.mark.parametrize("run", ["run", "communicate", "wait", "call"])
def test_a_child_with_a_timeout_costs_it_once(run: str) -> None:
    sleeps = [sys.executable, "-c", "import time; time.sleep(60)"]
    with ic.Rig():
        begin, real = time.monotonic(), os.times().elapsed
        with pytest.raises(subprocess.TimeoutExpired):
            if run == "run":
                subprocess.run(sleeps, timeout=2, check=False)
            elif run == "call":
                subprocess.call(sleeps, timeout=2)
            else:
                with subprocess.Popen(sleeps) as child, contextlib.ExitStack() as stack:
                    stack.callback(child.kill)
                    getattr(child, run)(timeout=2)
        assert time.monotonic() - begin == pytest.approx(2, abs=0.01)
        assert os.times().elapsed - real < 3.5  # and not twice


class TooLong(Exception):
    """What a library raises in a thread that takes too long."""


def _limited(work: Callable[[], None], seconds: float) -> None:
    """Do work, as a library does that limits it: a timer raises an error in this thread."""
    me = ctypes.c_ulong(threading.get_ident())
    set_error = ctypes.pythonapi.PyThreadState_SetAsyncExc
    timer = threading.Timer(seconds, lambda: set_error(me, ctypes.py_object(TooLong)))
    timer.start()
    try:
        work()
    finally:
        timer.cancel()


def _ticks(seen: list[float]) -> None:
    for _ in range(100):
        time.sleep(2)
        seen.append(time.monotonic())


@pytest.mark.parametrize("place", ["job", "thread", "test"])
def test_an_error_that_a_timer_raises_in_a_thread(place: str) -> None:
    seen: list[float] = []
    caught: list[float] = []

    def works() -> None:
        try:
            _limited(lambda: _ticks(seen), 5)
        except TooLong:
            caught.append(time.monotonic())

    with ic.Rig() as rig:
        begin = time.monotonic()
        if place == "job":
            assert rig.enqueue(works)
            rig.advance("1m")
        elif place == "thread":
            thread = threading.Thread(target=works)
            thread.start()
            thread.join()
        else:
            works()
        assert len(seen) in (2, 3)
        assert len(caught) == 1
        assert caught[0] - begin in (5, 6)


def test_an_error_for_a_thread_can_be_taken_back() -> None:
    with ic.Rig() as rig:
        seen: list[float] = []
        thread = threading.Thread(target=_ticks, args=(seen,))
        thread.start()
        rig.advance("1s")
        set_error = ctypes.pythonapi.PyThreadState_SetAsyncExc
        assert set_error(ctypes.c_ulong(thread.ident or 0), ctypes.py_object(TooLong)) == 1
        assert set_error(ctypes.c_ulong(thread.ident or 0), None) == 1
        assert set_error(ctypes.c_ulong(12345), ctypes.py_object(TooLong)) == 0
        rig.advance("10s")
        assert len(seen) == 5


COLLECTED = """
import gc
import ironclock as ic
from ironclock.interpreter.patching.real_threads import others_run

class Connection:
    def __init__(self):
        self.me = self
    def __del__(self):
        others_run()  # as a connection does that rolls back when it is collected

with ic.Rig():
    gc.set_threshold(1, 1, 1)
    for _ in range(2_000):
        Connection()
        others_run()
print("done")
"""


def test_a_collection_while_the_threads_are_counted_ends() -> None:
    done = subprocess.run([sys.executable, "-c", COLLECTED], capture_output=True, text=True, timeout=60, check=False)
    assert done.stdout == "done\n", done.stderr


FIRST_IN_A_RIG = """
import os, sys, time
import ironclock as ic

def job():
    import asyncio, concurrent.futures, logging, sqlite3
    with concurrent.futures.ThreadPoolExecutor(2) as pool:
        found = list(pool.map(lambda n: (time.sleep(5), n)[1], [1, 2, 3]))
    found.append(asyncio.run(asyncio.sleep(5, 7)))
    logging.getLogger("job").debug("a lock of the module is made here")
    return [*found, sqlite3.connect(":memory:").execute("select datetime('now')").fetchone()[0]]

def runs():
    with ic.Rig() as rig:
        made = rig.enqueue(job)
        rig.advance("1m")
        assert made.result == [1, 2, 3, 7, "2031-03-03 09:00:15"], made.story()

assert not {"asyncio", "concurrent.futures", "logging", "sqlite3"} & set(sys.modules), sorted(sys.modules)
runs()
import asyncio, concurrent.futures, sqlite3, threading
begun = time.monotonic()
with concurrent.futures.ThreadPoolExecutor(2) as pool:
    assert list(pool.map(lambda n: (time.sleep(0.05), n)[1], [1, 2, 3])) == [1, 2, 3]
assert asyncio.run(asyncio.sleep(0.05, 7)) == 7
assert time.monotonic() - begun > 0.1
assert sqlite3.connect(":memory:").execute("select datetime('now')").fetchone()[0] < "2031"
child = os.fork()
if not child:
    with concurrent.futures.ThreadPoolExecutor(1) as pool:
        os._exit(pool.submit(lambda: 5).result())
assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 5
runs()
"""


def test_what_is_imported_first_in_a_rig_lives_in_real_time_outside() -> None:
    """Iron Clock imports little. So the locks of a module, and its references to the clock, can be made in a rig."""
    done = subprocess.run(
        [sys.executable, "-c", FIRST_IN_A_RIG], capture_output=True, text=True, timeout=120, check=False
    )
    assert done.returncode == 0, done.stderr


def test_a_signal_that_does_not_exist_is_refused_and_the_rig_can_be_left() -> None:
    for wrong in (4242, 0, -1):
        with ic.Rig(), pytest.raises(ValueError, match="out of range"):
            signal.signal(wrong, lambda *_: None)
    with ic.Rig():
        signal.signal(signal.SIGUSR1, lambda *_: None)
    signal.signal(signal.SIGUSR1, signal.SIG_DFL)
