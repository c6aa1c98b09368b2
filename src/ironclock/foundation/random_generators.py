"""Seeded random generators, one for each purpose, so that one purpose never changes the numbers of another."""

from __future__ import annotations

import random


class RandomGenerators:
    """The random generators of one simulation. Each follows from the seed and the name of its purpose."""

    def __init__(self, seed: object) -> None:
        self._seed = seed
        self._by_purpose: dict[str, random.Random] = {}

    def of(self, purpose: str) -> random.Random:
        """Return the generator for a purpose, such as ``"jitter"``. Always the same object for the same purpose."""
        found = self._by_purpose.get(purpose)
        if found is None:
            found = self._by_purpose[purpose] = random.Random(f"{self._seed}:{purpose}")
        return found
