"""Simulated time in place: every reader follows, classes keep their identity, and nothing is left behind."""

from __future__ import annotations

import asyncio
import copy
import datetime as dt
import email.utils
import gc
import itertools
import logging
import pickle
import select
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from datetime import date, datetime
from time import monotonic as monotonic_by_name
from time import sleep as sleep_by_name
from typing import Any
from zoneinfo import ZoneInfo

import pytest

import ironclock as ic

now_by_name = datetime.now
today_by_name = date.today
utcnow_by_name = datetime.utcnow
READERS: dict[str, Callable[[], Any]] = {
    name: getattr(time, name)
    for name in ("time", "time_ns", "monotonic", "monotonic_ns", "perf_counter", "perf_counter_ns",
                 "localtime", "gmtime", "ctime", "asctime")
}  # fmt: skip
SUMMER = datetime(2031, 7, 1, 12, 0, tzinfo=ZoneInfo("Atlantic/Faroe"))


def by_default(clock: Callable[[], float] = time.time) -> float:
    return clock()


class Stamp(datetime):
    """A subclass, as libraries have them."""


class Day(date):
    """Another."""


def faroe() -> ic.Rig:
    return ic.Rig(start=SUMMER, zone="Atlantic/Faroe")


@pytest.mark.filterwarnings("ignore:datetime.datetime.utcnow:DeprecationWarning")
def test_every_reader_follows() -> None:
    epoch = SUMMER.timestamp()
    with faroe():
        assert time.time() == by_default() == epoch
        assert time.time_ns() == int(epoch) * 10**9
        assert time.monotonic() == monotonic_by_name() == time.perf_counter() == time.monotonic_ns() / 1e9
        assert time.perf_counter_ns() == time.monotonic_ns()
        assert time.localtime()[:5] == (2031, 7, 1, 12, 0)
        assert (time.localtime().tm_isdst, time.localtime().tm_gmtoff) == (1, 3600)
        assert time.gmtime()[:5] == (2031, 7, 1, 11, 0)
        assert time.ctime() == time.asctime() == "Tue Jul  1 12:00:00 2031"
        assert time.strftime("%Y-%m-%d %H:%M %Z") == "2031-07-01 12:00 WEST"
        assert datetime.now() == now_by_name() == datetime.today() == datetime(2031, 7, 1, 12)
        assert datetime.now(dt.timezone.utc) == now_by_name(tz=dt.timezone.utc) == SUMMER
        assert datetime.utcnow() == utcnow_by_name() == datetime(2031, 7, 1, 11)
        assert date.today() == today_by_name() == date(2031, 7, 1)
        before = time.monotonic()
        time.sleep(1.5)
        sleep_by_name(0.25)
        assert time.time() == epoch + 1.75
        assert time.monotonic() - before == 1.75
        assert datetime.now().microsecond == 750_000


def test_naive_local_time_agrees_with_itself() -> None:
    with faroe() as rig:
        for _ in range(40):
            naive = datetime.now()
            assert naive.timestamp() == time.time() == time.mktime(time.localtime())
            assert datetime.fromtimestamp(time.time()) == naive
            assert date.fromtimestamp(time.time()) == date.today() == naive.date()
            assert naive.astimezone().utcoffset() == rig.now.utcoffset()
            assert email.utils.parsedate_to_datetime(email.utils.formatdate(time.time(), usegmt=True)) == rig.now
            rig.advance("3d7h")


@pytest.mark.parametrize("fold", [0, 1])
def test_a_doubled_hour_keeps_its_fold(fold: int) -> None:
    with ic.Rig(start="2031-10-26T00:30Z" if fold == 0 else "2031-10-26T01:30Z", zone="Atlantic/Faroe") as rig:
        now = datetime.now()
        assert (now.hour, now.minute, now.fold) == (1, 30, fold)
        assert now.timestamp() == rig.now.timestamp()
        assert time.mktime(time.localtime()) == rig.now.timestamp()


def test_classes_keep_their_identity() -> None:
    with faroe():
        now = datetime.now()
        assert type(now) is datetime is dt.datetime
        assert isinstance(now, datetime)
        assert isinstance(now, date)
        assert type(Stamp.now()) is type(Stamp.today()) is type(Stamp.now(dt.timezone.utc)) is Stamp
        assert type(Day.today()) is Day
        assert Stamp.now() == now
        assert pickle.loads(pickle.dumps(now)) == copy.deepcopy(now) == now
        assert pickle.loads(pickle.dumps(Stamp.now())) == now
        with pytest.raises(TypeError):
            datetime.now("UTC")  # type: ignore[arg-type]
    with pytest.raises(TypeError):
        datetime.now("UTC")  # type: ignore[arg-type]


def test_what_sleep_refuses_it_refuses_in_a_rig() -> None:
    for wrong, error in [(-1, ValueError), ("1", TypeError), (float("nan"), ValueError), (None, TypeError)]:
        with pytest.raises(error):
            time.sleep(wrong)  # type: ignore[arg-type]
        with faroe(), pytest.raises(error):
            time.sleep(wrong)  # type: ignore[arg-type]


def test_other_threads_keep_real_time() -> None:
    """Threads that were started before the rig, and those of a rig that wants them real."""
    seen: list[Any] = []
    go, done = threading.Event(), threading.Event()

    def look() -> None:
        go.wait(10)
        seen.append((time.time(), datetime.now(), now_by_name(), date.today(), time.localtime().tm_year, Stamp.now()))
        time.sleep(0.001)
        done.set()

    early = threading.Thread(target=look)
    early.start()
    real = time.time()
    with ic.Rig(start=SUMMER, zone="Atlantic/Faroe", threads="real"):
        go.set()
        assert done.wait(10)
        late = threading.Thread(target=look)
        late.start()
        late.join()
        assert time.time() == SUMMER.timestamp(), "and this thread the rig's"
        assert datetime.now() == datetime(2031, 7, 1, 12)
    early.join()
    for seconds, now, by_name, today, year, stamp in seen:
        assert abs(seconds - real) < 60
        assert abs(now.timestamp() - real) < 60
        assert abs(by_name.timestamp() - real) < 60
        assert abs(stamp.timestamp() - real) < 60
        assert (today.year, year) == (now.year, now.year)
    assert len(seen) == 2


def test_rigs_in_several_threads_do_not_meet() -> None:
    barrier = threading.Barrier(3)
    seen: dict[int, float] = {}

    def live(year: int) -> None:
        with ic.Rig(start=f"{year}-01-01T00:00"):
            barrier.wait()
            time.sleep(year)
            seen[year] = time.time() - datetime(year, 1, 1, tzinfo=dt.timezone.utc).timestamp()
            barrier.wait()

    threads = [threading.Thread(target=live, args=(year,)) for year in (2031, 2032, 2033)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert seen == {2031: 2031.0, 2032: 2032.0, 2033: 2033.0}


def test_rigs_that_are_entered_at_one_moment_both_have_simulated_time() -> None:
    seen: list[float] = []

    def live(barrier: threading.Barrier) -> None:
        barrier.wait()
        with ic.Rig():
            begin = time.monotonic()
            threading.Event().wait(90)
            seen.append(time.monotonic() - begin)

    interval = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    try:
        for _ in range(30):
            barrier = threading.Barrier(2)
            threads = [threading.Thread(target=live, args=(barrier,)) for _ in range(2)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
    finally:
        sys.setswitchinterval(interval)
    assert seen == [90.0] * 60


def test_a_wait_gives_a_thread_that_is_at_work_its_time() -> None:
    come = threading.Event()
    numbers: list[int] = []

    def work() -> None:
        for number in range(3_000_000):
            numbers.append(number)
        come.set()

    with ic.Rig(threads="real"):
        begin = time.monotonic()
        threading.Thread(target=work, daemon=True).start()
        assert come.wait(60)
        assert time.monotonic() == begin, "no simulated time passed"
    assert len(numbers) == 3_000_000


def fingerprint() -> list[Any]:
    items = [datetime.__dict__[n] for n in ("now", "utcnow", "fromtimestamp", "timestamp", "astimezone")]
    items += [date.__dict__["today"], date.__dict__["fromtimestamp"]]
    return [*items, *(getattr(time, n).__self__ for n in READERS), *map(repr, READERS.values())]


def test_leaving_restores_everything_also_after_an_exception() -> None:
    before, start = fingerprint(), time.time()
    for _ in range(50):
        with pytest.raises(ZeroDivisionError), faroe():
            time.sleep(100)
            raise ZeroDivisionError
        with faroe():
            pass
    assert fingerprint() == before
    assert 0 <= time.time() - start < 30
    assert abs(now_by_name().timestamp() - time.time()) < 1
    time.sleep(0)


def test_nested_rigs_are_refused_and_do_no_harm() -> None:
    with faroe() as rig:
        with pytest.raises(ic.RigStateError, match="two rigs cannot run at once"), ic.Rig():
            pass
        with rig:  # to enter it again does nothing
            time.sleep(60)
        rig.advance(0)
        assert time.time() == SUMMER.timestamp() + 60
    assert time.time() < SUMMER.timestamp()


def test_a_rig_that_is_not_entered_is_entered_for_the_call_that_moves_its_clock() -> None:
    seen: list[int] = []
    rig = ic.Rig()

    def look() -> None:
        seen.append(time.gmtime().tm_hour)
        time.sleep(1800)
        seen.append(time.gmtime().tm_min)

    kind = rig.job(look)
    real = time.time()
    for move in (lambda: rig.advance("2h"), rig.run_dry, rig.settle, rig.step):
        rig.enqueue(kind.call())
        move()
        rig.run_dry()
    assert seen == [9, 30, 11, 30, 11, 0, 12, 30]
    assert abs(time.time() - real) < 60
    with ic.Rig(), pytest.raises(ic.RigStateError, match="another rig is entered"):
        rig.advance("1h")


def test_the_real_clock_has_a_door() -> None:
    with faroe():
        assert abs(time.clock_gettime(time.CLOCK_REALTIME) - time.time()) > 10**6
        began = time.clock_gettime_ns(time.CLOCK_MONOTONIC)
        time.sleep(3600)
        assert time.clock_gettime_ns(time.CLOCK_MONOTONIC) - began < 60 * 10**9


def test_clock_gettime_follows_in_libraries() -> None:
    library: dict[str, Any] = {}
    source = """from time import *
def clock_gettime_of(which): return clock_gettime(which)
def clock_gettime_ns_of(which): return clock_gettime_ns(which)"""
    exec(compile(source, statistics.__file__, "exec"), library)  # as if it were code of an installed module
    with faroe():
        for _ in range(2):
            assert library["clock_gettime_of"](time.CLOCK_REALTIME) == time.time()
            assert library["clock_gettime_ns_of"](time.CLOCK_REALTIME) == time.time_ns()
            assert library["clock_gettime_of"](time.CLOCK_MONOTONIC) == time.monotonic()
            assert library["clock_gettime_ns_of"](time.CLOCK_BOOTTIME) == time.monotonic_ns()
            time.sleep(2.5)
        with pytest.raises(OSError, match="Invalid argument"):
            library["clock_gettime_of"](12345)
    assert library["clock_gettime_of"](time.CLOCK_REALTIME) == pytest.approx(time.time(), abs=10)


def test_a_log_record_in_a_rig_bears_the_rigs_time(caplog: pytest.LogCaptureFixture) -> None:
    with faroe(), caplog.at_level(logging.INFO):
        logging.info("cast off")
    assert caplog.records[0].created == SUMMER.timestamp()


def test_a_loop_that_reads_the_clock_for_ever_ends_in_an_error() -> None:
    def waits_for_tomorrow() -> None:
        while date.today() < date(2040, 1, 1):
            try:
                time.monotonic()
            except Exception:  # a loop that swallows everything is stopped all the same
                continue

    rig = ic.Rig()
    gc.disable()  # a collection at that moment would call hypothesis, which reads the clock as well
    try:
        with rig:
            rig.enqueue(rig.job(waits_for_tomorrow).call())
            with pytest.raises(ic.StuckError, match=r"waits_for_tomorrow-1.*test_clock_functions.py:\d+"):
                rig.settle()
            with pytest.raises(ic.StuckError, match="the test's own code"):
                while True:
                    time.time()
    finally:
        gc.enable()


def test_many_reads_at_one_instant_are_no_loop_while_jobs_go_by() -> None:
    def looks() -> None:
        for _ in range(600):
            time.time()

    with ic.Rig() as rig:
        kind = rig.job(looks)
        for _ in range(2000):
            rig.enqueue(kind.call())
        rig.settle()
        assert rig.jobs().states() == {"done": 2000}


def test_the_standard_event_loop_waits_in_simulated_time() -> None:
    ticks: list[float] = []

    async def tick(every: float, count: int) -> None:
        for _ in range(count):
            await asyncio.sleep(every)
            ticks.append(asyncio.get_running_loop().time())

    async def watch() -> str:
        start = time.time()
        await asyncio.gather(tick(3600, 3), tick(0.25, 2))
        with pytest.raises(TimeoutError):
            await asyncio.wait_for(asyncio.sleep(100), timeout=7)
        return f"{time.time() - start:.3f}"

    def job() -> str:
        return asyncio.run(watch())

    real = time.time()
    with ic.Rig() as rig:
        assert asyncio.run(watch()) == "10807.000"
        other = rig.enqueue(rig.job(job).call())
        rig.run_dry()
        assert other.result == "10807.000"
    assert [round(b - a, 3) for a, b in itertools.pairwise(ticks[:5])] == [0.25, 3599.5, 3600.0, 3600.0]
    assert time.time() - real < 30
    assert asyncio.run(asyncio.sleep(0, "real again")) == "real again"


def test_a_child_process_takes_real_time_and_its_timeout_passes_on_the_rigs_clock() -> None:
    nap = [sys.executable, "-c", "import time; time.sleep(0.7); print('done')"]
    with ic.Rig() as rig:
        done = subprocess.run(nap, capture_output=True, text=True, timeout=60, check=True)
        assert done.stdout == "done\n"
        child = subprocess.Popen(nap, stdout=subprocess.DEVNULL)
        assert child.wait(timeout=60) == 0
        assert (rig.now - datetime(2031, 3, 3, 9, tzinfo=dt.timezone.utc)).total_seconds() < 1
        slow = subprocess.Popen(nap, stdout=subprocess.DEVNULL)
        with pytest.raises(subprocess.TimeoutExpired):
            slow.wait(timeout=0.2)
        assert (rig.now - datetime(2031, 3, 3, 9, tzinfo=dt.timezone.utc)).total_seconds() >= 0.2
        slow.wait()


def test_select_as_a_way_to_sleep() -> None:
    with ic.Rig() as rig:
        select.select([], [], [], 3600)
        assert rig.now.hour == 10
