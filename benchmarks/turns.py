"""Measuring in turns: A B A B ..., so that a machine whose speed drifts is fair to both."""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable


def in_turns(sides: dict[str, Callable[[], float]], rounds: int) -> dict[str, list[float]]:
    """Return each side's results, round by round; a side returns its own figure."""
    found: dict[str, list[float]] = {name: [] for name in sides}
    for _ in range(rounds):
        for name, side in sides.items():
            gc.collect()
            found[name].append(side())
    return found


def rate(work: Callable[[], int]) -> Callable[[], float]:
    """Return a side that answers things per second of the processor's time."""

    def side() -> float:
        start = time.process_time()
        count = work()
        return count / (time.process_time() - start)

    return side


def median(values: list[float]) -> float:
    return statistics.median(values)


def ratio(found: dict[str, list[float]], above: str, below: str) -> float:
    """Return the median of the ratios, round by round."""
    return statistics.median(a / b for a, b in zip(found[above], found[below], strict=True))


def verdict(text: str, fine: bool) -> None:
    print(f"   {'meets' if fine else 'MISSES'}  {text}")


TURNS = 1_000_000


def bare_loop() -> int:
    """The reference of every absolute cost: a loop that adds a million numbers."""
    total = 0
    for number in range(TURNS):
        total += number
    return TURNS


def loop_turns(cost: Callable[[], float], rounds: int = 5) -> float:
    """Return how many turns a bare loop makes while something is done: the median of rounds, taken in turns.

    `cost` does it and returns how many seconds that took.
    """
    found = []
    for _ in range(rounds):
        began = time.perf_counter()
        bare_loop()
        turn = (time.perf_counter() - began) / TURNS
        found.append(cost() / turn)
    return statistics.median(found)


def seconds(work: Callable[[], object], times: int = 1) -> Callable[[], float]:
    """Return a cost for `loop_turns`: the mean seconds of some calls."""

    def cost() -> float:
        began = time.perf_counter()
        for _ in range(times):
            work()
        return (time.perf_counter() - began) / times

    return cost
