"""How much of the processor `make test` takes, as a ratio to a bare loop: a machine can be slow for a while.

python benchmarks/suite_time.py speed                       how long a million turns of a bare loop take, in seconds
python benchmarks/suite_time.py judge SPENT SPEED SPEED     fails if SPENT seconds were too many at these speeds
"""

from __future__ import annotations

import multiprocessing
import os
import statistics
import sys
import time

STATED = 13_000
"""What is reached, in millions of turns: eleven minutes of a processor that makes twenty million turns a second. The
suite is to take no more than six minutes of two such cores."""


def turns(_: int = 0) -> float:
    """Return the seconds of a million turns of a bare loop: the median of some rounds."""

    def one() -> float:
        began, total = time.process_time(), 0
        for number in range(1_000_000):
            total += number
        return time.process_time() - began

    return statistics.median(one() for _ in range(15))


def speed() -> float:
    """Return the same while every core is busy, as in a run of the suite."""
    cores = os.cpu_count() or 1
    with multiprocessing.Pool(cores) as pool:
        return max(pool.map(turns, range(cores)))


def main() -> None:
    if sys.argv[1:] == ["speed"]:
        print(f"{speed():.4f}")
        return
    spent, *speeds = map(float, sys.argv[2:])
    cost = spent / max(speeds)
    print(f"make test took {spent:.0f} seconds of processor time, {cost:,.0f} million turns of a bare loop")
    advice = f"more than the {STATED:,} that are stated: mark what is slow as exhaustive"
    if cost > STATED * 2:  # a busy machine takes half as much again for the same work
        sys.exit(f"that is over twice {advice}")
    if cost > STATED * 1.25:
        print(f"that is over a quarter {advice}")


if __name__ == "__main__":
    main()
