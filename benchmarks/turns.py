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
