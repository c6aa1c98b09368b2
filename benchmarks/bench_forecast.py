"""A day's forecast, 200 times: its cost beside as many draws of NumPy as it has seconds, and its memory."""

from __future__ import annotations

import resource
import statistics
import time

import numpy as np
from turns import verdict

import ironclock as ic
from ironclock.forecasting.workload import Outage, Stream, WorkerPool, Workload
from ironclock.foundation.distributions import spread_of

RETRY = ic.Retry(attempts=5, wait=ic.exponential("1m", cap="10m", jitter=0.1))


def day(rate: float, workers: int, takes: object) -> float:
    """Return how long the forecast of a day with a 20-minute outage takes, in seconds."""
    outage = Outage(36_000, 37_200, 1.0, 10.0)
    stream = Stream("submit_manifest", spread_of(takes), rate=rate, fails=0.02, retry=RETRY, outages=[outage])  # type: ignore[arg-type]
    began = time.perf_counter()
    ic.forecast(Workload([stream], [WorkerPool(workers)]))
    return time.perf_counter() - began


def draws() -> float:
    """Return how long it takes to draw a number for each second of 200 days with NumPy, in seconds."""
    generator = np.random.Generator(np.random.SFC64(1))
    began = time.perf_counter()
    for _ in range(200):
        generator.standard_exponential(86_400)
    return time.perf_counter() - began


def main() -> None:
    """Print the times and the memory."""
    days = {
        "1,000 an hour, 2 s each": (1_000 / 3600, 3, {"median": "2s", "p95": "9s"}),
        "2,500 an hour, 2 s each": (2_500 / 3600, 5, {"median": "2s", "p95": "9s"}),
        "50,000 an hour, 0.2 s each": (50_000 / 3600, 10, {"median": "0.2s", "p95": "0.9s"}),
        "10,000,000 an hour, 2 s each": (10_000_000 / 3600, 20_000, {"median": "2s", "p95": "9s"}),
    }
    day(0.01, 1, "1s")  # what is compiled is compiled once
    took = {}
    for name, workload in days.items():
        rounds = sorted((draws(), day(*workload)) for _ in range(3))
        took[name] = statistics.median(whole for _, whole in rounds)
        ratio = took[name] / statistics.median(each for each, _ in rounds)
        verdict(f"{ratio:.0f} times 86,400 x 200 draws of NumPy: a day, 200 times, {name} (printed, no limit)", True)
    few, _, _, many = took.values()
    verdict(f"{many / few:.2f} times as long for ten million jobs an hour as for a thousand (under 3)", many / few < 3)
    peaks = [resource.getrusage(who).ru_maxrss / 1e6 for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    verdict(f"{peaks[0]:.2f} GB in the process, {peaks[1]:.2f} GB in its child (under 0.5 GB each)", max(peaks) < 0.5)


if __name__ == "__main__":
    main()
