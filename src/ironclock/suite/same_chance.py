"""The same chance in each run: what a test draws by lot, such as a UUID, is the same each time it is run again."""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache

from ..interpreter.patching.builtin_patching import Builtin

_SEED = 2031


@contextmanager
def same_chance() -> Iterator[None]:
    """Let `os.urandom`, and with it `uuid` and `secrets`, and the module `random` draw the same inside each block."""
    entropy, generator, state = _entropy(), random.Random(_SEED), random.getstate()

    def urandom(size: int, /) -> bytes:
        return generator.randbytes(size)

    random.seed(_SEED)
    entropy.point(urandom)
    try:
        yield
    finally:
        entropy.restore()
        random.setstate(state)


@cache
def _entropy() -> Builtin:
    return Builtin(os.urandom)
