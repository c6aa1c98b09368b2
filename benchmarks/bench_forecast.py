"""A day's forecast in bins of a second, 200 times: its cost, its memory, and as long for many jobs as for few."""

from __future__ import annotations

import resource
import time

from turns import loop_turns, verdict

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


def main() -> None:
    """Print the times and the memory."""
    days = {
        "1,000 an hour, 2 s each": (1_000 / 3600, 3, {"median": "2s", "p95": "9s"}),
        "50,000 an hour, 0.2 s each": (50_000 / 3600, 10, {"median": "0.2s", "p95": "0.9s"}),
        "10,000,000 an hour, 2 s each": (10_000_000 / 3600, 20_000, {"median": "2s", "p95": "9s"}),
    }
    took = {}
    for name, workload in days.items():
        turns = took[name] = loop_turns(lambda workload=workload: day(*workload), 3) / (86_400 * 200)
        verdict(f"{turns:.1f} turns of a bare loop for each bin of a replication: {name} (under 10)", turns < 10)
    few, _, many = took.values()
    verdict(
        f"{many / few:.2f} times as long for ten million jobs an hour as for a thousand (under 1.5)", many / few < 1.5
    )
    peaks = [resource.getrusage(who).ru_maxrss / 1e6 for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
    verdict(f"{sum(peaks):.2f} GB in both processes together at most (under 1 GB)", sum(peaks) < 1)


if __name__ == "__main__":
    main()
