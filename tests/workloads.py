"""Workloads on which a forecast is compared with the exact engine: name, workload, span in seconds."""

from __future__ import annotations

from typing import Any

import ironclock as ic
from ironclock.forecasting.workload import Firings, Outage, QueueLimit, Stream, WorkerPool, Workload
from ironclock.foundation.distributions import spread_of

STEEP = ic.Retry(attempts=6, wait=ic.exponential("30s", cap="10m", jitter=0.1))
FULL = ic.Retry(attempts=5, wait=ic.exponential("40s", cap="5m", jitter="full"))
EVEN = ic.Retry(attempts=3, wait="1m")
BUDGET = ic.Retry(attempts=5, wait="20s", budget=0.2)
WITHIN = ic.Retry(attempts=9, wait=ic.exponential("20s", jitter=0.2), within="3m")
QUICK = ic.Retry(attempts=4, wait="2s")


def one(takes: Any, rate: float, workers: int, **more: Any) -> Workload:
    """Return a workload of one stream."""
    return Workload([Stream("m", spread_of(takes), rate=rate, **more)], [WorkerPool(workers)])


def many(*streams: Stream, pools: list[WorkerPool], **more: Any) -> Workload:
    """Return a workload of several streams."""
    return Workload(list(streams), pools, **more)


def _ticks(apart: float, span: float) -> list[float]:
    return [(n + 1) * apart for n in range(int(span / apart))]


def _stream(name: str, takes: Any, rate: float, **more: Any) -> Stream:
    return Stream(name, spread_of(takes), rate=rate, **more)


WORKLOADS: dict[str, tuple[Workload, float]] = {
    "steady, exponential": (one({"mean": "20s"}, 0.15, 4), 20_000),
    "steady, fixed": (one("10s", 0.25, 3), 20_000),
    "steady, log-normal": (one({"median": "4s", "p95": "15s"}, 0.6, 5), 14_400),
    "as short as a bin": (one({"mean": "1s"}, 0.8, 1), 10_000),
    "shorter than a bin": (one({"mean": "0.3s"}, 2.4, 1), 4_000),
    "uniform": (one({"from": "2s", "to": "6s"}, 0.4, 2), 10_000),
    "long and short jobs": (
        many(_stream("long", "2m", 0.01), _stream("short", "1s", 0.5), pools=[WorkerPool(3)]), 20_000),
    "retries, full jitter": (one({"mean": "5s"}, 0.5, 5, fails=0.15, retry=FULL), 10_800),
    "retries, fixed wait": (one("4s", 0.6, 5, fails=0.3, retry=EVEN), 7_200),
    "quick retries": (one({"mean": "2s"}, 0.8, 3, fails=0.2, retry=QUICK), 7_200),
    "retries within a time": (one({"mean": "5s"}, 0.4, 4, fails=0.5, retry=WITHIN), 7_200),
    "a retry budget": (
        one("2s", 0.5, 3, fails=0.05, retry=BUDGET, outages=[Outage(1200, 2400, 0.9, 1.0)]), 5_400),
    "outage, fails at once": (one("2s", 1.0, 4, fails=0.01, retry=STEEP, outages=[Outage(1200, 2400, 1.0, 0)]), 7_200),
    "outage, fails slowly": (one("2s", 1.0, 6, fails=0.01, retry=STEEP, outages=[Outage(1200, 2400, 1.0, 10)]), 10_800),
    "half an outage": (one("3s", 0.8, 5, fails=0.02, retry=FULL, outages=[Outage(1200, 3000, 0.5, 5)]), 7_200),
    "first attempts fail": (
        one("2s", 0.5, 3, retry=EVEN, outages=[Outage(600, 3600, 0.5, 0, attempts=(1, 2))]), 5_400),
    "slower for an hour": (one({"mean": "3s"}, 0.5, 4, outages=[Outage(1800, 3600, 0.5, 6, how="slower")]), 7_200),
    "attempts hang": (
        one("3s", 0.5, 5, timeout=15.0, retry=EVEN, outages=[Outage(1200, 2400, 0.4, how="hangs")]), 7_200),
    "a burst": (one({"mean": "4s"}, 0.2, 10, bursts=[(600, 3000)], fails=0.02, retry=EVEN), 5_400),
    "everything at midnight": (one({"from": "1s", "to": "3s"}, 0.05, 8, bursts=[(1800, 4000)], retry=STEEP), 5_400),
    "timeouts": (one({"median": "4s", "p95": "14s"}, 0.5, 5, timeout=12.0, retry=EVEN), 10_800),
    "two queues by weight": (
        many(_stream("m", "3s", 0.3, bursts=[(600, 900)], queue="harbour", retry=EVEN),
             _stream("d", "2s", 0.4, bursts=[(600, 900)], queue="desk", fails=0.05, retry=EVEN),
             pools=[WorkerPool(4, {"harbour": 3, "desk": 1})]), 5_400),
    "two queues in order": (
        many(_stream("m", {"mean": "3s"}, 0.3, queue="harbour"), _stream("d", {"mean": "3s"}, 0.5, queue="desk"),
             pools=[WorkerPool(3, ["harbour", "desk"])]), 14_400),
    "two pools": (
        many(_stream("m", {"mean": "3s"}, 0.5, queue="harbour"), _stream("d", {"mean": "8s"}, 0.2, queue="desk"),
             pools=[WorkerPool(2, ["harbour"]), WorkerPool(3)]), 14_400),
    "priorities": (
        many(_stream("urgent", {"mean": "2s"}, 0.2, priority=-5), _stream("usual", {"mean": "2s"}, 0.25, priority=5),
             pools=[WorkerPool(1)]), 20_000),
    "priorities and retries": (
        many(_stream("urgent", "3s", 0.3, priority=0, fails=0.2, retry=EVEN),
             _stream("usual", "5s", 0.3, priority=9, bursts=[(900, 300)]), pools=[WorkerPool(4)]), 10_800),
    "jobs expire": (one("3s", 0.1, 2, bursts=[(600, 1000)], expires=75.0), 3_600),
    "jobs expire in an outage of workers": (
        many(_stream("m", {"mean": "4s"}, 0.4, expires=120.0), pools=[WorkerPool(2, None, [(600, 1200)])]), 3_600),
    "at most two run": (
        many(_stream("m", {"mean": "4s"}, 0.35, queue="harbour"), _stream("d", {"mean": "2s"}, 0.4, queue="desk"),
             pools=[WorkerPool(4, ["harbour", "desk"])], limits={"harbour": QueueLimit(running=2)}), 10_800),
    "ten a minute": (
        many(_stream("m", {"mean": "2s"}, 0.13, queue="harbour"), _stream("d", {"mean": "2s"}, 0.5, queue="desk"),
             pools=[WorkerPool(4, {"harbour": 1, "desk": 2})], limits={"harbour": QueueLimit(rate=(10, 60.0))}), 10_800),
    "a limit in one line": (
        many(_stream("m", {"mean": "4s"}, 0.2, queue="harbour"), _stream("d", {"mean": "2s"}, 0.4, queue="desk"),
             pools=[WorkerPool(3)], limits={"harbour": QueueLimit(running=1)}), 10_800),
    "a queue is down": (
        many(_stream("m", {"mean": "4s"}, 0.3, queue="harbour"), _stream("d", {"mean": "2s"}, 0.4, queue="desk"),
             pools=[WorkerPool(4, ["harbour", "desk"])], limits={"harbour": QueueLimit(closed=[(1200, 1800)])}), 5_400),
    "no overlap, left out": (
        one({"mean": "50s"}, 0.01, 2, firings=[Firings(_ticks(60, 20_000), "skip")]), 20_000),
    "no overlap, waits": (
        one({"mean": "40s"}, 0.005, 2, firings=[Firings(_ticks(60, 20_000), "wait")]), 20_000),
    "a schedule with jitter": (
        one({"mean": "8s"}, 0.02, 1, firings=[Firings(_ticks(30, 10_000), "allow", jitter=20.0)]), 10_000),
    "a schedule that is polled": (
        one({"mean": "8s"}, 0.02, 1, firings=[Firings(_ticks(25, 10_000), "allow", poll=60.0)]), 10_000),
}  # fmt: skip


def _scenario(*tables: str, run: str = "2h", workers: str = "[workers]\ncount = 4\n") -> str:
    head = f'start = "2031-03-29T08:00"\nzone = "Atlantic/Faroe"\nrun = "{run}"\n'
    return head + workers + "\n".join(tables)


def _harbour(more: str) -> str:
    return f"[services.harbour_office]\ncapacity = 3\n{more}"


def _submit(more: str = "", takes: str = '{ mean = "2s" }') -> str:
    return f'[jobs.submit]\ntakes = {takes}\nretry = {{ attempts = 4, wait = "20s" }}\n{more}'


def _arrive(job: str, rate: str, more: str = "") -> str:
    return f'[[arrivals]]\njob = "{job}"\nrate = "{rate}"\n{more}'


def _down(kind: str = "fail", more: str = "") -> str:
    between = 'between = ["2031-03-29T08:30", "2031-03-29T08:45"]'
    return f'[[faults]]\nkind = "{kind}"\n{between}\n{more}'


_CALLS = 'calls = "harbour_office"\n'
SCENARIOS: dict[str, tuple[str, float]] = {
    "a service that gets slower": (
        _scenario(_harbour(""), _submit(_CALLS), _arrive("submit", "1.2/s"), workers="[workers]\ncount = 8\n"), 7200),
    "a slow service and timeouts": (
        _scenario(_harbour(""), _submit(_CALLS + 'timeout = "5s"\n', takes='"1s"'), _arrive("submit", "2/s"),
                  _down(more='takes = "1s"\nchance = 0.7\n'), workers="[workers]\ncount = 12\n"), 7200),
    "a service that refuses calls": (
        _scenario(_harbour('beyond = "fails"\n'), _submit(_CALLS), _arrive("submit", "1.1/s"),
                  workers="[workers]\ncount = 8\n"), 7200),
    "a breaker in an outage": (
        _scenario(_harbour('breaker = { failing = 0.5, of = 20, open = "30s" }\n'), _submit(_CALLS),
                  _arrive("submit", "1/s"), _down(more='takes = "4s"\n'), workers="[workers]\ncount = 8\n"), 7200),
    "a breaker and a slow service": (
        _scenario(_harbour('breaker = { failing = 0.3, of = 10, open = "10s" }\n'),
                  _submit(_CALLS + 'timeout = "4s"\n'), _arrive("submit", "1.3/s"),
                  workers="[workers]\ncount = 10\n"), 7200),
    "two workers are away": (
        _scenario(_submit(), _arrive("submit", "1/s"), _down("away", "count = 3\n")), 7200),
    "one pool is away": (
        _scenario(_submit('queue = "harbour"\n'), '[jobs.desk]\ntakes = { mean = "3s" }\nqueue = "desk"\n',
                  _arrive("submit", "0.5/s"), _arrive("desk", "0.5/s"), _down("away", 'queue = "desk"\n'),
                  workers='[[workers]]\ncount = 2\nqueues = ["harbour"]\n[[workers]]\ncount = 3\nqueues = ["desk"]\n'),
        7200),
    "poison messages": (
        _scenario(_submit('fails = [{ when = { crates = 13 } }, { share = 0.1 }]\n'),
                  _arrive("submit", "0.6/s", "kwargs = { crates = 4 }\n"),
                  _arrive("submit", "0.1/s", "kwargs = { crates = 13 }\n")), 7200),
    "errors that are not tried again": (
        _scenario('[jobs.submit]\ntakes = "2s"\nfails = { share = 0.3, error = "ValueError: no such ship" }\n'
                  'retry = { attempts = 4, wait = "20s", never_on = ["ValueError"] }\n', _arrive("submit", "1/s"),
                  _down(more='error = "TypeError: nothing"\nchance = 0.5\n')), 7200),
    "an enqueue that comes first": (
        _scenario(_submit(), _arrive("submit", "1.2/s"),
                  '[[enqueue]]\njob = "submit"\nafter = "20m"\ncount = 900\npriority = -1\n'), 7200),
    "a schedule with bounds": (
        _scenario(_submit(), _arrive("submit", "0.8/s"),
                  '[schedules.tally]\njob = "submit"\nevery = "90s"\ncount = 40\nstarts = "2031-03-29T08:20"\n'
                  'ends = "2031-03-29T09:30"\n'), 7200),
}  # fmt: skip
