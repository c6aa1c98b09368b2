"""The standard library's own tests, run on simulated time: code that nobody here wrote.

Each module runs in a process of its own, inside an entered rig, and has to pass as it does outside.
"""

from __future__ import annotations

import importlib.util
import subprocess
import sys

import pytest

RUN = """
import signal, sys, unittest, warnings
import ironclock as ic
signal.signal(signal.SIGINT, signal.default_int_handler)  # which a shell ignores for what runs in its background
warnings.simplefilter("ignore")
def chosen(tests):
    for test in tests:
        if isinstance(test, unittest.TestSuite):
            yield from chosen(test)
        elif not any(left_out in test.id() for left_out in sys.argv[2:]):
            yield test
suite = unittest.TestSuite(chosen(unittest.defaultTestLoader.loadTestsFromName(sys.argv[1])))
with ic.Rig(start="2031-03-03T09:00"):
    result = unittest.TextTestRunner(stream=sys.stdout, verbosity=1).run(suite)
print("ran", result.testsRun)
sys.exit(not result.wasSuccessful())
"""

MODULES = [
    ("test_sched", 10), ("test_threading.TimerTests", 1), ("test_threading_local", 20), ("test_contextlib_async", 40),
    ("test_asyncgen", 60), ("test_asyncio.test_locks", 60), ("test_asyncio.test_queues", 40),
    ("test_asyncio.test_timeouts", 20), ("test_asyncio.test_waitfor", 10), ("test_asyncio.test_taskgroups", 30),
    ("test_asyncio.test_runners", 20), ("test_asyncio.test_threads", 3), ("test_select", 5), ("test_selectors", 60),
]  # fmt: skip
LONG_MODULES = [
    ("test_asyncio.test_base_events", 100),
    ("test_queue", 40),
    ("test_asyncio.test_streams", 50),
    ("test_asyncio.test_events", 150),
    ("test_asyncio.test_tasks", 600),
    ("test_asyncio.test_sock_lowlevel", 20),
    ("test_asyncio.test_subprocess", 60),
    ("test_socket", 500),
    ("test_signal", 40),
    ("test_subprocess", 250),
    ("test_threading", 100),
    ("test_sqlite3", 300),
    ("test_ssl", 100),
    ("test_concurrent_futures.test_future", 15),
    ("test_concurrent_futures.test_thread_pool", 15),
    ("test_concurrent_futures.test_wait", 20),
    ("test_concurrent_futures.test_shutdown", 20),
]
EXCEPTIONS = {
    # A second copy of a module in C, whose types are others than those that the rig knows.
    # From 3.13 on also threads that ask again and again and never wait: simulated threads take turns where they wait.
    "test_queue": ["CSimpleQueueTest", "all_methods_in_many_threads"],
    # It needs a device that most machines do not have; it fails without a rig as well.
    "test_socket": ["VSOCK"],
    # A thread that never waits: simulated threads take turns where they wait.
    "test_signal": ["test_stress_modifying_handlers"],
    # Children work in real time, and take no simulated time until a task has something else to do.
    "test_subprocess": [
        "test_leak_fast_process_del_killed", "test_send_signal_race", "test_stopped",
        "test_communicate_timeout_large_output",
    ],
    # A thread that never waits: simulated threads take turns where they wait.
    "test_threading": ["test_can_interrupt_tight_loops"],
    "test_concurrent_futures.test_thread_pool": ["test_hang_global_shutdown_lock"],
    # One thread closes a socket for which another one waits in `select`. (asyncore is gone from 3.12 on.)
    "test_ssl": ["test_asyncore_server"],
}  # fmt: skip


@pytest.mark.skipif(importlib.util.find_spec("test.support") is None, reason="this Python comes without its own tests")
@pytest.mark.parametrize(
    ("module", "least"),
    [*MODULES, *(pytest.param(*one, marks=pytest.mark.exhaustive) for one in LONG_MODULES)],
    ids=[m for m, _ in MODULES + LONG_MODULES],
)
def test_passes_inside_a_rig(module: str, least: int) -> None:
    package, _, inner = module.removesuffix(".TimerTests").partition(".")
    if any(
        importlib.util.find_spec(f"test.{name}") is None for name in (package, f"{package}.{inner}".rstrip("."))
    ):  # the outer one first: without it, the inner one cannot be looked for
        pytest.skip("not in this Python's tests")
    done = subprocess.run(
        [sys.executable, "-c", RUN, f"test.{module}", *EXCEPTIONS.get(module, [])],
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-6000:] + done.stderr[-3000:]
    assert int(done.stdout.rsplit("ran ", 1)[1]) >= least
