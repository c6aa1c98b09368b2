"""The garbage collector at rest, while many objects are made and none of them is garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def paused_collector() -> Iterator[None]:
    """Let the garbage collector rest in the block. Without it, it goes through all that was made again and again."""
    collecting = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collecting:
            gc.enable()
