"""Thousands of rigs in one process: nothing grows, and the interpreter is as it was."""

from __future__ import annotations

import asyncio
import datetime as dt
import gc
import subprocess
import sys
import threading
import time
import weakref
from collections import Counter
from typing import Any

import pytest

import ironclock as ic

SHARED = [time.time, time.sleep, time.monotonic, dt.datetime, dt.date, None, type(threading.Lock()), threading.RLock]
LEFT = """
import unittest
from test import test_dict, test_generators, test_queue, test_thread, test_time, test_threading_local

suite = unittest.TestSuite(
    unittest.defaultTestLoader.loadTestsFromModule(module)
    for module in (test_dict, test_generators, test_queue, test_thread, test_time, test_threading_local)
)
ran = unittest.TextTestRunner(verbosity=0).run(suite)
assert ran.wasSuccessful() and ran.testsRun > 200, ran
"""


def one_rig(seed: int) -> None:
    """Run a rig with a sleep, a thread, a lock, an event loop, a failure, and now and then a crash."""
    lock = threading.Lock()

    def job(number: int) -> int:
        thread = threading.Thread(target=time.sleep, args=(1,))
        thread.start()
        with lock:
            time.sleep(0.5)
        thread.join()
        if number == 1:
            raise OSError("again")
        return number

    async def nap() -> None:
        await asyncio.sleep(1)

    with ic.Rig(seed=seed) as rig:
        rig.workers(2)
        kind = rig.job(job, retry=ic.Retry(2, "1s"))
        for number in range(2):
            rig.enqueue(kind, number)
        rig.enqueue(nap)
        if seed % 10 == 0:
            rig.faults.crash("job", at="sleep", attempts=1)
        rig.run_dry()
        assert rig.now.second


def grown_by(count: int) -> Counter[type]:
    """Return how many objects of each type there are more after so many rigs."""
    before = counted()
    for seed in range(count):
        one_rig(seed)
    return counted() - before


def counted() -> Counter[type]:
    gc.collect()
    gc.collect()  # what the first has ended, such as coroutines, is gone with the second
    return Counter(map(type, gc.get_objects()))


def test_a_few_hundred_rigs_leave_nothing_behind() -> None:
    for seed in range(40):
        one_rig(seed)
    counted()
    counts = [sys.getrefcount(one) for one in SHARED]
    # Caches grow once; what is left behind grows each time.
    grown = grown_by(120) & grown_by(120)
    # Of each rig that a test makes, the plugin keeps a weak reference until the test has ended.
    assert {kind: count for kind, count in grown.items() if count > (170 if kind is weakref.ref else 32)} == {}
    drift = [sys.getrefcount(one) - count for one, count in zip(SHARED, counts, strict=True)]
    assert max(map(abs, drift)) < 200, dict(zip(map(repr, SHARED), drift, strict=True))


def _resident() -> int:
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[1]) * 4096


def ten_thousand() -> None:
    """Run ten thousand rigs with a thousand crashes, and then tests of the interpreter itself."""
    for seed in range(1_000):
        one_rig(seed)
    gc.collect()
    gc.collect()  # what the first has ended, such as coroutines, is gone with the second
    objects, memory, counts = len(gc.get_objects()), _resident(), [sys.getrefcount(one) for one in SHARED]
    for seed in range(9_000):
        one_rig(seed)
    gc.collect()
    gc.collect()  # what the first has ended, such as coroutines, is gone with the second
    assert len(gc.get_objects()) - objects < 1_000
    assert _resident() - memory < 4_000_000
    drift = [sys.getrefcount(one) - count for one, count in zip(SHARED, counts, strict=True)]
    assert max(map(abs, drift)) < 300, drift
    names: dict[str, Any] = {}
    exec(LEFT, names)


@pytest.mark.exhaustive
@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="reads the memory of the process from /proc")
@pytest.mark.slow
def test_ten_thousand_rigs_in_one_process() -> None:
    code = (
        f"import sys; sys.path.insert(0, {__file__.rpartition('/')[0]!r}); import test_many_rigs as m; m.ten_thousand()"
    )
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=600, check=False)
    assert ran.returncode == 0, ran.stderr[-3000:]
