"""Workers at their jobs: how many end in each bin, for jobs longer and shorter than a bin.

Longer jobs pass through phases. A phase ends with the same chance in every bin. One phase is the exponential
distribution, phases in a row vary less, two parallel phases vary more. Mean and variance are those of the job.
Source: phase-type fits to two moments, H. C. Tijms, A First Course in Stochastic Models (2003), appendix B.
"""

from __future__ import annotations

import itertools
from functools import lru_cache
from math import ceil, lgamma, log, sqrt
from typing import Any, Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

Numbers: TypeAlias = "NDArray[Any]"
"""Jobs by replication: whole numbers if they are few, real numbers if they are many."""

Backlog: TypeAlias = "NDArray[np.float32]"

_COARSE, _FINE = 14, 16
"""How finely the tables of binomial numbers are looked up, in bits. Coarsely if no chance is small: a table in the
cache of the processor is read much faster."""
_SMALL = 0.02
_MOST = 255
"""Up to how many workers the numbers are looked up. Above that the normal approximation is as good."""
_LONGEST_CHAIN = 16
_SHORT = 1.1
"""Below how many bins a job counts as short: near one bin, phases of whole bins have no variance left."""


class Service(Protocol):
    """The running jobs of one queue. `cost` is the share of a bin that a job takes of a worker when it starts."""

    cost: float
    mean: float

    def draw(self, bins: int) -> None:
        """Draw the numbers for the next bins."""

    def end(self, row: int) -> Numbers:
        """Let jobs end; return how many workers are still busy."""

    def start(self, row: int, count: Floats) -> Numbers:
        """Let jobs start; return how much time of this bin they take."""

    def idle(self) -> bool:
        """True if none of them runs."""

    def work(self, row: int, coming: Floats, workers: Floats, waiting: Floats, backlog: Backlog) -> Floats:
        """Serve the only queue of a pool for some bins: jobs that arrive, and jobs that wait (which is changed).

        Notes the backlog; returns how many jobs start in each bin."""


def service(mean: float, deviation: float, workers: int, columns: int, random: np.random.Generator) -> Service:
    """Return the service of jobs with that mean and standard deviation, both in bins."""
    if mean < _SHORT:
        return Short(mean, deviation, columns, random)
    spread = (deviation / mean) ** 2
    if workers > _MOST:  # among so many jobs only mean and variance can be seen
        return Chain((1.0 / mean,), workers, columns, random, spread)
    if spread <= 1.0 - 1.0 / mean + 1e-9:
        return Chain(tuple(1.0 / phase for phase in chain(mean, spread)), workers, columns, random)
    return Parallel(mean, spread, workers, columns, random)


def chain(mean: float, spread: float) -> list[float]:
    """Return the means of phases in a row with this mean in all, and this squared coefficient of variation. One of them
    can be longer or shorter than the others."""
    squares = mean * mean * spread + mean  # the sum of the squared means of the phases
    count = min(_LONGEST_CHAIN, int(mean), max(1, ceil(mean * mean / squares - 1e-9)))
    if count > 1 and count * squares >= mean * mean:
        root = sqrt((count - 1) * (count * squares - mean * mean))
        for first in ((mean - root) / count, (mean + root) / count):
            rest = (mean - first) / (count - 1)
            if first >= 1.0 and rest >= 1.0:
                return [first, *[rest] * (count - 1)]
    return [mean / count] * count


class Short:
    """Jobs shorter than a bin: a worker does several. Work left at the end of a bin takes time of the next one."""

    def __init__(self, mean: float, deviation: float, columns: int, random: np.random.Generator) -> None:
        self.cost = self.mean = mean
        self._deviation = deviation
        self._nobody: Floats = np.zeros(columns)
        self.over: Floats = np.zeros(columns)
        """How much of the next bin is already used."""
        self._random = random
        self._noise: Floats = np.zeros((1, columns))

    def draw(self, bins: int) -> None:
        if self._deviation:
            self._noise = self._random.standard_normal((bins, self._noise.shape[1]))
            self._noise *= self._deviation

    def end(self, row: int) -> Numbers:
        return self._nobody

    def start(self, row: int, count: Floats) -> Numbers:
        used = count * self.cost
        if self._deviation:
            used += np.sqrt(count) * self._noise[row]
        return used

    def idle(self) -> bool:
        return True

    def work(self, row: int, coming: Floats, workers: Floats, waiting: Floats, backlog: Backlog) -> Floats:
        # Work arrives and is done at the speed of the workers, for all bins at once. Source: D. V. Lindley, Proc.
        # Cambridge Phil. Soc. 48 (1952), 277-289.
        used = coming * self.cost
        used -= workers[:, None]
        used[0] += self.over
        left = _reflected(used)
        if self._deviation:
            # How many are served in each bin: those that arrive and those left from before, at most as many
            # as the workers can do.
            served = coming.copy()
            served[1:] += left[:-1] / self.cost
            served[0] += waiting
            np.minimum(served, workers[:, None] / self.cost, out=served)
            used += np.sqrt(served, out=served) * self._noise[row : row + len(coming)]
            left = _reflected(used)
        self.over = left[-1].copy()
        left *= 1.0 / self.cost
        np.floor(left, out=left)  # a job that has started and continues in the next bin does not wait any more
        there = coming.copy()
        there[0] += waiting
        np.cumsum(there, axis=0, out=there)
        # All that arrived and do not wait have started. The number never falls, since no job goes back.
        begun = there - left
        np.maximum(begun, 0.0, out=begun)
        np.maximum.accumulate(begun, axis=0, out=begun)
        np.subtract(there, begun, out=left)
        backlog[:] = left
        waiting[:] = left[-1]
        begun[1:] -= begun[:-1].copy()
        return begun


def _reflected(change: Floats) -> Floats:
    """Return over time a level that changes like this and never falls below zero: the sum so far, minus its lowest
    value so far."""
    path = np.cumsum(change, axis=0)
    left: Floats = path - np.minimum(np.minimum.accumulate(path, axis=0), 0.0)
    return left


class Phases:
    """Jobs of a bin or longer. A subclass has the phases through which they pass."""

    cost = 1.0

    def __init__(self, mean: float, ends: Ends, phases: int, columns: int) -> None:
        self.mean = mean
        self._ends = ends
        self._at: Numbers = np.zeros((phases, columns), dtype=ends.kind)

    def draw(self, bins: int) -> None:
        """Draw the numbers for the next bins."""
        self._ends.draw(bins, self._at.shape)

    def end(self, row: int) -> Numbers:
        """Let jobs end; return how many workers are still busy."""
        raise NotImplementedError

    def start(self, row: int, count: Floats) -> Numbers:
        """Let jobs start; return how much time of this bin they take."""
        self._begin(row, count.astype(self._at.dtype, copy=False))
        return count

    def idle(self) -> bool:
        """True if none of them runs."""
        return bool(np.abs(self._at).max() < 0.5)

    def _begin(self, row: int, count: Numbers) -> None:
        raise NotImplementedError

    def work(self, row: int, coming: Floats, workers: Floats, waiting: Floats, backlog: Backlog) -> Floats:
        """Serve the only queue of a pool for some bins."""
        kind = self._at.dtype
        begun, left = np.empty(coming.shape, dtype=kind), np.empty(coming.shape, dtype=kind)
        wait, come = waiting.astype(kind), coming.astype(kind, copy=False)
        end, begin, minimum, subtract = self.end, self._begin, np.minimum, np.subtract
        steady = bool((workers == workers[0]).all()) and workers[0] > 0
        sizes = workers.astype(kind)
        for at, size, new, starts, rest in zip(itertools.count(row), sizes, come, begun, left, strict=False):
            wait = wait + new
            minimum(wait, size - end(at), out=starts)
            if not steady:
                np.maximum(starts, 0, out=starts)
            wait = subtract(wait, starts, out=rest)
            begin(at, starts)
        backlog[:] = left
        waiting[:] = wait
        made: Floats = begun.astype(float, copy=False)
        return made


class Chain(Phases):
    """One or more phases in a row."""

    def __init__(
        self, chances: tuple[float, ...], workers: int, columns: int, random: np.random.Generator, spread: float = 1.0
    ) -> None:
        alike = chances[:1] if len(set(chances)) == 1 else chances
        super().__init__(sum(1 / c for c in chances), ends(alike, workers, random, spread), len(chances), columns)

    def end(self, row: int) -> Numbers:
        at = self._at
        over = self._ends.of(row, at)
        at -= over
        if len(at) == 1:
            only: Numbers = at[0]
            return only
        at[1:] += over[:-1]
        return np.asarray(at.sum(axis=0))

    def _begin(self, row: int, count: Numbers) -> None:
        self._at[0] += count


class Parallel(Phases):
    """Two parallel phases: a few long jobs, and many short ones."""

    def __init__(self, mean: float, spread: float, workers: int, columns: int, random: np.random.Generator) -> None:
        second = (mean * mean * (1 + spread) + mean) / 2  # the mean of the squared means of the phases
        share = (1 - sqrt(max(0.0, 1 - mean * mean / second))) / 2
        long, short = mean / (2 * share), mean / (2 * (1 - share))
        if short < 1.0:
            short = 1.0
            long = (second - 1) / (mean - 1) - 1 if mean > 1 else 1.0
            share = (mean - 1) / (long - 1) if long > 1 else 0.0
        super().__init__(mean, ends((1 / long, 1 / short), workers, random), 2, columns)
        self._which = ends((share,), workers, random)
        self._of_long, self._of_short = self._at

    def draw(self, bins: int) -> None:
        super().draw(bins)
        self._which.draw(bins, self._at.shape[1:])

    def end(self, row: int) -> Numbers:
        at = self._at
        at -= self._ends.of(row, at)
        busy: Numbers = self._of_long + self._of_short
        return busy

    def _begin(self, row: int, count: Numbers) -> None:
        long = self._which.of(row, count)
        self._of_long += long
        self._of_short += count
        self._of_short -= long


class Ends(Protocol):
    """Binomial numbers: how many of so many, each with the same chance."""

    kind: type[np.generic]

    def draw(self, bins: int, shape: tuple[int, ...]) -> None:
        """Draw the numbers for the next bins."""

    def of(self, row: int, count: Numbers) -> Numbers:
        """Return how many of these jobs end."""


def ends(chances: tuple[float, ...], workers: int, random: np.random.Generator, spread: float = 1.0) -> Ends:
    """Return how many jobs end, with one chance for each row: exactly for few workers, with the normal approximation
    for many. Its variance is `spread` times the binomial one."""
    if workers <= _MOST:
        return _Few(chances, workers, random)
    return _Many(chances[0], random, spread)


class _Few:
    kind: type[np.generic] = np.int64

    def __init__(self, chances: tuple[float, ...], workers: int, random: np.random.Generator) -> None:
        self._bits = _COARSE if min(chances) >= _SMALL else _FINE
        tables = [_binomial(chance, workers, 1 << self._bits) for chance in chances]
        self._table = np.concatenate(tables).ravel()
        self._offset = np.arange(len(chances)) * tables[0].size
        self._random = random
        self._drawn: NDArray[np.int64] = np.zeros((0,), dtype=np.int64)

    def draw(self, bins: int, shape: tuple[int, ...]) -> None:
        drawn = self._random.integers(0, 1 << self._bits, (bins, *shape), dtype=np.uint16).astype(np.int64)
        self._drawn = drawn if len(self._offset) == 1 else drawn + self._offset[:, None]

    def of(self, row: int, count: Numbers) -> Numbers:
        place = count << self._bits
        place += self._drawn[row]
        return self._table.take(place, mode="clip")


class _Many:
    kind: type[np.generic] = np.float64

    def __init__(self, chance: float, random: np.random.Generator, spread: float) -> None:
        self._chance = chance
        self._width = sqrt(chance * (1 - chance) * spread)
        self._random = random
        self._drawn: Floats = np.zeros((0,))

    def draw(self, bins: int, shape: tuple[int, ...]) -> None:
        self._drawn = self._random.standard_normal((bins, *shape))
        self._drawn *= self._width

    def of(self, row: int, count: Numbers) -> Numbers:
        noise: Floats = np.sqrt(np.abs(count))
        noise *= self._drawn[row]
        noise += count * self._chance
        return noise


@lru_cache(maxsize=8)
def _binomial(chance: float, most: int, count_of_levels: int) -> NDArray[np.uint8]:
    """Return for 0 to `most` jobs the binomial number at each of so many equally likely levels."""
    table = np.zeros((most + 1, count_of_levels), dtype=np.uint8)
    levels = (np.arange(count_of_levels) + 0.5) / count_of_levels
    for count in range(1, most + 1):
        hits = np.arange(count + 1)
        if chance <= 0.0 or chance >= 1.0 - 1e-12:
            table[count] = count if chance > 0.5 else 0
            continue
        logs = [
            lgamma(count + 1) - lgamma(k + 1) - lgamma(count - k + 1) + k * log(chance) + (count - k) * log(1 - chance)
            for k in range(count + 1)
        ]
        below = np.cumsum(np.exp(logs))
        table[count] = hits[np.minimum(np.searchsorted(below, levels), count)]
    return table
