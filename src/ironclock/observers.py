"""Who wants to hear of every rig that is made: the pytest plugin, for its reports."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

observers: list[Callable[[Any], None]] = []


@contextmanager
def unobserved() -> Iterator[None]:
    """Let rigs be made inside the block that nobody hears of: a search makes thousands."""
    saved = observers[:]
    observers.clear()
    try:
        yield
    finally:
        observers[:] = saved
