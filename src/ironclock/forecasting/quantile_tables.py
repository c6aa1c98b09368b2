"""Tables in which drawn durations and waits are looked up: by quantile, in bins of the forecast's step."""

from __future__ import annotations

import random

import numpy as np
from numpy.typing import NDArray

from ..foundation.distributions import Fixed, Spread
from ..foundation.durations import NS
from ..simulation.retry import Retry
from .day import QUANTILES

Floats = NDArray[np.float64]

SIZE = QUANTILES
"""How many equally likely durations represent a distribution, and how many waits a backoff."""
_INSIDE = 8
_PATHS = SIZE


def durations(takes: Spread, timeout: float | None, step: float) -> Floats:
    """Return `SIZE` equally likely durations in bins of `step` seconds, in rising order, no longer than the timeout.

    Each is the mean over its share of the distribution, so that the mean stays the same, with the tail.
    """
    if isinstance(takes, Fixed):
        table = np.full(SIZE, takes.ns / NS)
    else:
        shares = (np.arange(SIZE * _INSIDE) + 0.5) / (SIZE * _INSIDE)
        table = np.array([takes.quantile(float(s)) for s in shares]).reshape(SIZE, _INSIDE).mean(axis=1) / NS
        table *= takes.mean_ns / NS / table.mean()  # the part of a long tail that the quantiles miss
    if timeout is not None:
        table = np.minimum(table, timeout)
    return table / step


def waits(retry: Retry, step: float) -> list[Floats]:
    """Return for each attempt `SIZE` equally likely waits after its failure, in bins, in rising order; -1: the job is
    dead.

    They are drawn from the policy itself, path by path, since a wait can depend on the one before. `within` is not in
    them.
    """
    chance = random.Random("waits")
    error = Exception()
    table = np.empty((retry.attempts, _PATHS))
    by_chance = not retry.table
    for path in range(_PATHS if by_chance else 1):
        previous = 0
        for attempt in range(1, retry.attempts):
            # A forecast does not know the error: it takes one that is tried again.
            table[attempt - 1, path] = previous = retry.wait.after(attempt, error, previous, chance)
    table[-1] = -1
    if not by_chance:
        table[:] = table[:, :1]
    return [np.sort(np.where(row > 0, row / NS / step, row)) for row in table]
