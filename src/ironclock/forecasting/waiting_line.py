"""Waiting lines of ready jobs, first come first served, one column for each replication.

A line has a record for each group of bins. From a record each rank is taken in proportion.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

_ENOUGH = 1e-9


class WaitingLine:
    """The ready jobs of one queue: how many of each rank (a kind of job at its n-th attempt), in order of arrival."""

    def __init__(self, ranks: int, columns: int) -> None:
        self.front: Floats = np.zeros((ranks, columns))
        """What is left of the record from which each column takes."""
        self._head = np.zeros(columns, dtype=np.int64)
        self._records: Floats = np.zeros((64, ranks, columns))
        self._last = 0
        self._behind = False

    def push(self, record: int, coming: Floats) -> None:
        """Let jobs join, by rank, in a record that is the last one or new."""
        if record != self._last:
            self._open(record)
        if not self._behind:
            self.front += coming
            return
        here = self._head == record
        self.front[:, here] += coming[:, here]
        self._records[record % len(self._records)][:, ~here] += coming[:, ~here]

    def take(self, wanted: Floats) -> Floats:
        """Take so many jobs from the front of each column, at most all; return them by rank."""
        taken = self._from_front(wanted)
        if self._behind:
            wanted = wanted - taken.sum(axis=0)
            while True:
                empty = (self._head < self._last) & (self.front.sum(axis=0) <= _ENOUGH)
                if not empty.any():
                    break
                self._next(np.flatnonzero(empty))
                if (wanted > _ENOUGH).any():
                    more = self._from_front(wanted)
                    taken += more
                    wanted = wanted - more.sum(axis=0)
            self._behind = bool((self._head < self._last).any())
        return taken

    def _from_front(self, wanted: Floats) -> Floats:
        front = self.front
        if len(front) == 1:
            taken = np.minimum(front, wanted)
        else:
            there = front.sum(axis=0)
            taken = front * np.minimum(1.0, wanted / np.maximum(there, _ENOUGH))
        front -= taken
        return taken

    def _open(self, record: int) -> None:
        """Begin a new record. Columns without waiting jobs continue with it."""
        waiting = self.front.sum(axis=0) > _ENOUGH
        if self._behind:
            waiting |= self._head < self._last
        self._last = record
        self._head[~waiting] = record
        self._behind = bool(waiting.any())
        if not self._behind:
            self.front[:] = 0.0  # the rest of rounding
            return
        self.front[:, ~waiting] = 0.0
        if record - int(self._head.min()) >= len(self._records) - 1:
            self._grow()
        self._records[record % len(self._records)] = 0.0

    def _next(self, columns: NDArray[np.int64]) -> None:
        self._head[columns] += 1
        self.front[:, columns] = self._records[self._head[columns] % len(self._records), :, columns].T

    def _grow(self) -> None:
        old = self._records
        self._records = np.zeros((2 * len(old), *old.shape[1:]))
        first = self._last - len(old) + 1
        for record in range(max(0, first), self._last):
            self._records[record % len(self._records)] = old[record % len(old)]
