"""The three figures that must not be eaten: `.ci/run` fails if one is a quarter worse than what is stated here.

A shared machine can be slow for a while in one of the two sides. So a figure that misses is measured again, twice at
most, and the best counts.
"""

from __future__ import annotations

import gc
import sys
import time
from collections.abc import Callable

import bench_engine
import bench_workers
from turns import in_turns, loop_turns, ratio

import ironclock as ic

STATED = {
    "10,000 jobs, times the rate of the leanest form in simpy": 2.2,
    "asyncio sleeps, times the standard loop's rate": 0.75,
    "a rig made, entered and left, in thousands of turns of a bare loop": -6.0,
}
"""What is reached. A figure below zero is a cost: less is better."""


def engine() -> float:
    attempts = bench_engine.attempts
    sides = {
        "ironclock": attempts(bench_engine.on_ironclock, 10_000),
        "simpy": attempts(bench_engine.on_simpy_lean, 10_000),
    }
    return ratio(in_turns(sides, 9), "ironclock", "simpy")


def sleeps() -> float:
    sides = {
        "rig": bench_workers.timed(bench_workers.in_a_test),
        "standard": bench_workers.timed(bench_workers.on_the_standard_loop),
    }
    return ratio(in_turns(sides, 5), "rig", "standard")


def rigs() -> float:
    def cost() -> float:
        gc.collect()
        began = time.process_time()
        for _ in range(200):
            with ic.Rig():
                pass
        return (time.process_time() - began) / 200

    cost()
    return -loop_turns(cost, 7) / 1_000


MEASURED: dict[str, Callable[[], float]] = dict(zip(STATED, (engine, sleeps, rigs), strict=True))


def main() -> None:
    """Measure each figure. Ends the process with 1 if one is a quarter worse than stated."""
    worse = []
    for name, stated in STATED.items():
        least = stated * (0.75 if stated > 0 else 1.25)
        figure = MEASURED[name]()
        for _ in range(2):
            if figure < least:
                figure = max(figure, MEASURED[name]())
        print(f"   {'meets' if figure >= least else 'MISSES'}  {name}: {abs(figure):.2f} (stated: {abs(stated)})")
        if figure < least:
            worse.append(name)
    if worse:
        sys.exit(f"a quarter worse than stated: {'; '.join(worse)}")
