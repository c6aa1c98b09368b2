"""Observers: functions that are called with every rig that is made. The pytest plugin is one, for its reports.

An observer can return where the approved histories of the rig are (`Approval`), or None.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

observers: list[Callable[[Any], Any]] = []


@contextmanager
def unobserved() -> Iterator[None]:
    """Make rigs inside the block without telling anybody: a search makes thousands."""
    saved = observers[:]
    observers.clear()
    try:
        yield
    finally:
        observers[:] = saved
