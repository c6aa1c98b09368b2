"""Observers: functions that are called with every rig that is made. The pytest plugin is one, for its reports.

An observer can return where the approved histories of the rig are (`Approval`), or None.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Any

observers: list[Callable[[Any], Any]] = []


def unobserved() -> AbstractContextManager[None]:
    """Make rigs inside the block without telling anybody: a search makes thousands."""
    return observed_by()


@contextmanager
def observed_by(*these: Callable[[Any], Any]) -> Iterator[None]:
    """Tell only these observers of rigs that are made inside the block."""
    saved = observers[:]
    observers[:] = these
    try:
        yield
    finally:
        observers[:] = saved
