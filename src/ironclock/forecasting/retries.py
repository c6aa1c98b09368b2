"""Retries in a forecast by cohorts: the attempts of a block of bins are done, come back after a wait, or become dead
letters. A whole cohort is split at once, so that the cost depends on the number of blocks and not on that of the jobs.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import sqrt

import numpy as np
from numpy.typing import NDArray

from .quantile_tables import SIZE, durations, waits
from .workload import Stream

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

_RETURNS = 3
_GOLDEN, _PLASTIC, _THIRD = 0.6180339887498949, 0.7548776662466927, 0.5698402909980532


class Ranks:
    """The kinds of job of one pool, queue by queue, each with its attempts in a row."""

    def __init__(self, streams: Sequence[Stream], queues: Sequence[str], whole: bool, step: float) -> None:
        self.streams: list[Stream] = []
        self.first: list[int] = []
        """Each stream's first attempt."""
        self.parts: list[slice] = []
        """Each queue's ranks."""
        self.queue_of: list[int] = []
        """Each stream's queue."""
        rows: list[Floats] = []
        kinds: list[int] = []
        for number, queue in enumerate(queues):
            begin = len(kinds)
            for stream in streams:
                if whole or stream.queue == queue:
                    table = waits(stream.retry, step)
                    self.first.append(len(kinds))
                    self.queue_of.append(number)
                    kinds += [len(self.streams)] * len(table)
                    rows += table
                    self.streams.append(stream)
            self.parts.append(slice(begin, len(kinds)))
        self.kind: Ints = np.array(kinds)
        """Each rank's stream."""
        self.queue: Ints = np.array(self.queue_of)[self.kind]
        """Each rank's queue."""
        self.waits = np.stack(rows)
        self.table = np.stack([durations(s.takes, s.timeout, step) for s in self.streams])
        self.limit = np.array([np.inf if s.timeout is None else s.timeout / step for s in self.streams])
        self.fails = np.array([s.fails for s in self.streams])
        self.dull = bool((self.table.max(axis=1) < self.limit).all() and not self.fails.any()) and not any(
            s.outages for s in self.streams
        )
        """True if no attempt ever fails."""

    def __len__(self) -> int:
        return len(self.kind)

    @property
    def longest(self) -> float:
        """The longest time from the start of an attempt to the next one, in bins."""
        taken = [o.takes for s in self.streams for o in s.outages if o.takes is not None]
        return float(self.table.max()) + max(0.0, float(self.waits.max())) + max([0.0, *taken])

    @property
    def soonest(self) -> float:
        """The shortest usual time from a failure to the next attempt, in bins."""
        usual = [float(row[row >= 0].mean()) for row in self.waits if (row >= 0).any()]
        return 1e9 if self.dull else min(usual, default=1e9)


class AttemptOutcomes:
    """The attempts that fail, and when they come back."""

    def __init__(self, ranks: Ranks, columns: int, bins: int, block: int, random: np.random.Generator) -> None:
        self._ranks = ranks
        self._columns = columns
        self._random = random
        self._block = block
        span = min(ranks.longest + 2 * block + 2, bins + 2 * block)
        blocks = 1 << int(span / block + 2).bit_length()
        self._slots = blocks * block
        self.by_bin: Floats = np.zeros((self._slots, len(ranks.parts), columns))
        """How many come back in each bin to each queue, in a ring."""
        self.by_block: Floats = np.zeros((blocks, len(ranks), columns))
        """The same by block and rank."""
        self._times_out = (ranks.table >= ranks.limit[:, None] - 1e-12).mean(axis=1)
        self._ends_dead = (ranks.waits < 0).mean(axis=1)
        self._live = [row[row >= 0] for row in ranks.waits]

    def slot(self, bin: int) -> int:
        """Return the index of a bin in the ring."""
        return bin % self._slots

    def due(self, block: int) -> Floats:
        """Return what comes back in a block, by rank."""
        found: Floats = self.by_block[block % len(self.by_block)]
        return found

    def cohorts(self, block: int, taken: Floats, share: Floats | None, takes: Floats) -> Floats:
        """Split cohorts; return how many attempts become dead letters."""
        ranks = self._ranks
        chance = (ranks.fails + (1 - ranks.fails) * self._times_out)[ranks.kind][:, None]
        struck = None
        if share is not None:
            struck = self._thin(taken, share[ranks.kind][:, None])
        failed = self._thin(taken if struck is None else taken - struck, chance) if chance.any() else None
        lost = np.zeros(self._columns)
        if failed is not None:
            lost += self._back(block, failed, None)
        if struck is not None:
            lost += self._back(block, struck, takes)
        return lost

    def _thin(self, cohorts: Floats, share: Floats) -> Floats:
        """Return how many of each cohort are hit by a chance."""
        whole = np.floor(np.maximum(cohorts, 0.0) + self._random.random(cohorts.shape)).astype(np.int64)
        return self._random.binomial(whole, share).astype(float)

    def _back(self, block: int, failed: Floats, takes: Floats | None) -> Floats:
        """Let failed attempts come back after their wait, or become dead letters; return how many do the latter."""
        ranks, size = self._ranks, self._block
        gone = failed * self._ends_dead[:, None]
        back = (failed - gone) / (_RETURNS * size)
        for rank, live in enumerate(self._live):
            if not len(live) or not back[rank].any():
                continue
            kind = ranks.kind[rank]
            # In each part of the wait as many return as the multinomial distribution says, in its normal form.
            noise = self._random.standard_normal((_RETURNS, self._columns))
            noise -= noise.mean(axis=0)
            parts = back[rank] + noise * (np.sqrt(np.abs(back[rank])) / sqrt(size))
            for stratum in range(_RETURNS):
                # Evenly spaced places in the tables, different ones in each block, replace draws.
                turn = block * _RETURNS + stratum
                wait = live[int((stratum + (block * _GOLDEN + rank * _PLASTIC) % 1.0) / _RETURNS * len(live))]
                spent = ranks.table[kind, int(turn * _THIRD % 1.0 * SIZE)]
                if takes is not None and takes[kind] >= 0:
                    spent = min(takes[kind], ranks.limit[kind])
                begin = block * size + int(wait + spent + turn * _PLASTIC % 1.0)
                begin = max(begin, (block + 1) * size)
                if begin + size > block * size + self._slots:
                    continue
                self._spread(begin, rank, parts[stratum])
        lost: Floats = gone.sum(axis=0)
        return lost

    def _spread(self, begin: int, rank: int, count: Floats) -> None:
        """Let `count` jobs come back in each bin of a block."""
        size, queue = self._block, self._ranks.queue[rank]
        first, inside = begin % self._slots, begin % size
        if first + size <= self._slots:
            self.by_bin[first : first + size, queue] += count
        else:
            over = first + size - self._slots
            self.by_bin[first:, queue] += count
            self.by_bin[:over, queue] += count
        rows = len(self.by_block)
        self.by_block[begin // size % rows, rank + 1] += count * (size - inside)
        if inside:
            self.by_block[(begin // size + 1) % rows, rank + 1] += count * inside
