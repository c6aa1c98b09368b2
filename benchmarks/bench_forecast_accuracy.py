"""The forecast against the exact engine: means within 2 %, 5 and 95 % quantiles within 5 %, on 12 plants.

The exact engine's own figures are drawn too: what is compared is given its sampling error (two standard errors of the
mean, and of the quantile by the bootstrap) on top. Takes some minutes; a number after the name says how many runs
(`python benchmarks/bench_forecast_accuracy.py 100`).
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
import exact

import ironclock as ic
from ironclock.forecasting.workload import Outage, Stream, WorkerPool, Workload
from ironclock.foundation.distributions import spread_of

STEEP = ic.Retry(attempts=6, wait=ic.exponential("30s", cap="10m", jitter=0.1))
FULL = ic.Retry(attempts=5, wait=ic.exponential("40s", cap="5m", jitter="full"))
EVEN = ic.Retry(attempts=3, wait="1m")


def _down(since: float, until: float, share: float, takes: float) -> Outage:
    return Outage(since, until, share, takes)


def one(takes: Any, rate: float, workers: int, **more: Any) -> tuple[list[Stream], WorkerPool]:
    """Return a workload of one stream."""
    return [Stream("m", spread_of(takes), rate=rate, **more)], WorkerPool(workers)


WORKLOADS: dict[str, tuple[tuple[list[Stream], WorkerPool], float]] = {
    "steady, exponential": (one({"mean": "20s"}, 0.15, 4), 20_000),
    "steady, fixed": (one("10s", 0.25, 3), 20_000),
    "steady, log-normal": (one({"median": "4s", "p95": "15s"}, 0.6, 5), 14_400),
    "retries, full jitter": (one({"mean": "5s"}, 0.5, 5, fails=0.15, retry=FULL), 10_800),
    "retries, fixed wait": (one("4s", 0.6, 5, fails=0.3, retry=EVEN), 7_200),
    "outage, fails at once": (one("2s", 1.0, 4, fails=0.01, retry=STEEP, outages=[_down(1200, 2400, 1.0, 0)]), 7_200),
    "outage, fails slowly": (one("2s", 1.0, 6, fails=0.01, retry=STEEP, outages=[_down(1200, 2400, 1.0, 10)]), 10_800),
    "half an outage": (one("3s", 0.8, 5, fails=0.02, retry=FULL, outages=[_down(1200, 3000, 0.5, 5)]), 7_200),
    "a burst": (one({"mean": "4s"}, 0.2, 10, bursts=[(600, 3000)], fails=0.02, retry=EVEN), 5_400),
    "everything at midnight": (one({"from": "1s", "to": "3s"}, 0.05, 8, bursts=[(1800, 4000)], retry=STEEP), 5_400),
    "timeouts": (one({"median": "4s", "p95": "14s"}, 0.5, 5, timeout=12.0, retry=EVEN), 10_800),
    "two queues by weight": (
        ([Stream("m", spread_of("3s"), rate=0.3, bursts=[(600, 900)], queue="harbour", retry=EVEN),
          Stream("d", spread_of("2s"), rate=0.4, bursts=[(600, 900)], queue="desk", fails=0.05, retry=EVEN)],
         WorkerPool(4, {"harbour": 3, "desk": 1})), 5_400,
    ),
}  # fmt: skip
FIGURES = ("backlog_peak", "backlog_mean", "age_peak", "retries", "dead", "attempts", "wait_mean", "busy", "recovery")
MEAN, QUANTILE = 0.02, 0.05


def _exact(task: tuple[str, int]) -> dict[str, float]:
    name, seed = task
    (streams, pool), span = WORKLOADS[name]
    return exact.run(streams, pool, span, 1.0, seed)


def _errors(values: Any, share: float | None) -> tuple[float, float]:
    """Return a mean or a quantile, and its standard error."""
    draws = np.random.Generator(np.random.SFC64(1)).choice(values, (400, len(values)))
    if share is None:
        return float(values.mean()), float(values.std() / len(values) ** 0.5)
    return float(np.quantile(values, share)), float(np.quantile(draws, share, axis=1).std())


def main(count: int = 60) -> None:
    """Print for each workload the figures that are off, and by how much."""
    judged = off = 0
    with ProcessPoolExecutor(2) as processes:
        for name, ((streams, pool), span) in WORKLOADS.items():
            runs = list(processes.map(_exact, [(name, seed) for seed in range(count)], chunksize=4))
            found = ic.forecast(Workload(streams, [pool]), span=span, bin="1s", replications=400).figures
            worst, words = 0.0, []
            for figure in FIGURES:
                if figure not in found:
                    continue
                theirs = np.array([run[figure] for run in runs])
                if not (np.isfinite(theirs).all() and np.isfinite(found[figure]).all()) or theirs.mean() < 1e-6:
                    continue
                for share, allowed in ((None, MEAN), (0.05, QUANTILE), (0.95, QUANTILE)):
                    wanted, doubt = _errors(theirs, share)
                    have, mine = _errors(found[figure], share)
                    if wanted == 0:
                        continue
                    away = abs(have - wanted) / abs(wanted)
                    slack = 2 * (doubt**2 + mine**2) ** 0.5 / abs(wanted)
                    judged += 1
                    if share is None:
                        worst = max(worst, away)
                    # Small counts are whole numbers: a quantile cannot be nearer than one.
                    if away > allowed + slack and abs(have - wanted) > 1:
                        off += 1
                        label = "mean" if share is None else f"{share:.0%}"
                        words.append(f"{figure} {label} {have:.4g} against {wanted:.4g}")
            said = "; ".join(words) or "all within"
            print(f"{name}: {count} exact runs; means at most {worst:.1%} away; {said}", flush=True)
    print(f"{judged} figures of {len(WORKLOADS)} workloads, {off} are off by more than the limits and the doubt")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 60)
