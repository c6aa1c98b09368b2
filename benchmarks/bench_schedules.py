"""Schedules: a dense year against a raw NumPy broadcast and dateutil, single look-ups, a year of minutes in a rig."""

from __future__ import annotations

import datetime as dt
import gc
import statistics
import time
from collections.abc import Callable
from heapq import heappop, heappush
from typing import Any

import numpy as np
from dateutil.rrule import FR, MINUTELY, MO, TH, TU, WE, rrule  # fmt: skip
from turns import TURNS, bare_loop, in_turns, rate, ratio, seconds, verdict

import ironclock as ic

DENSE = "* 8-17 * * 1-5"
START, END = "2031-01-01T00:00", "2032-01-01T00:00"


def timed(work: Callable[[], int]) -> Callable[[], float]:
    """A side that answers nanoseconds a firing."""

    def side() -> float:
        start = time.process_time()
        count = work()
        return (time.process_time() - start) / count * 1e9

    return side


def broadcast() -> int:
    """The same days and minutes, with no zone and no rule: what NumPy itself costs."""
    days = np.arange(np.datetime64("2031-01-01"), np.datetime64("2032-01-01"))
    days = days[(days.astype("int64") + 4) % 7 % 6 != 0]
    minutes = np.arange(8 * 60, 18 * 60).astype("timedelta64[m]")
    return len((days.astype("datetime64[m]")[:, None] + minutes).ravel())


def by_dateutil() -> int:
    rule = rrule(
        MINUTELY, dtstart=dt.datetime(2031, 1, 1), until=dt.datetime(2031, 2, 1), byhour=range(8, 18),
        byweekday=(MO, TU, WE, TH, FR),
    )  # fmt: skip
    return sum(1 for _ in rule)


def microseconds(expression: str, starts: list[Any]) -> list[float]:
    made = ic.cron(expression, "Atlantic/Faroe")
    for moment in starts:
        made.after(moment)  # the zone's own changes are looked up once
    spent = []
    for moment in starts:
        begin = time.perf_counter_ns()
        made.after(moment)
        spent.append((time.perf_counter_ns() - begin) / 1e3)
    return spent


def a_year_of_minutes() -> int:
    rig = ic.Rig(start="2031-01-01T00:00")
    rig.schedule("poll-buoy", rig.job(lambda: None, name="poll_buoy").call(), ic.cron("* * * * *"))
    rig.advance_to("2031-12-31T23:59")
    assert len(rig.jobs()) == 525_600
    assert len(rig.history) == 3 * 525_600
    return 525_600


def a_year_on_heapq() -> int:
    heap, history = [(0, 0)], []
    while heap:
        now, number = heappop(heap)
        for what in ("enqueued", "started", "done"):
            history.append((now, what, number))
        if number < 525_599:
            heappush(heap, (now + 60, number + 1))
    return 525_600


def main() -> None:
    dense = ic.cron(DENSE, "Atlantic/Faroe")
    dense.between(START, END)
    found = in_turns(
        {
            "between": timed(lambda: len(dense.between(START, END))),
            "broadcast": timed(broadcast),
            "dateutil": timed(by_dateutil),
        },
        7,
    )
    against = ratio(found, "between", "broadcast")
    verdict(f"between over a dense year costs {against:.2f} times a raw broadcast (at most 3)", against <= 3)
    faster = ratio(found, "dateutil", "between")
    verdict(f"and is {faster:.0f} times faster than dateutil.rrule (at least 10)", faster >= 10)
    first = dt.datetime(2031, 1, 1, tzinfo=dt.timezone.utc)
    per_turn = 1e-6 * TURNS / seconds(bare_loop)()
    days = [first + dt.timedelta(hours=31 * n) for n in range(280)]
    usual = statistics.median(
        [t for e in ("30 1 * * *", DENSE, "*/5 * * * *", "0 6 * * 1#1") for t in microseconds(e, days)]
    )
    usual *= per_turn
    verdict(f"a single after() costs {usual:,.0f} turns of a bare loop in the median (under 600)", usual < 600)
    rare = statistics.median(microseconds("0 0 * 2 1#5", [dt.datetime(2016, 3, 1, tzinfo=dt.timezone.utc)] * 50))
    rare *= per_turn
    verdict(f"the next leap day on a Monday, 28 years on, costs {rare:,.0f} turns (under 6,000)", rare < 6_000)
    gc.collect()
    found = in_turns({"ironclock": rate(a_year_of_minutes), "bare heapq": rate(a_year_on_heapq)}, 3)
    share = ratio(found, "ironclock", "bare heapq")
    verdict(
        f"a year of minutes: {share:.2f} times the rate of a bare heapq loop that keeps three tuples (at least 0.08)",
        share >= 0.08,
    )
