"""Watched threads: the real threads in which it is noted who takes which lock. Without any a lock asks no further."""

from __future__ import annotations

from ..patching.real_functions import real_get_ident
from .end_without_handlers import generator_codes

watched_threads: set[int] = set()
"""The real threads in which locks are watched."""

_death_watchers: set[int] = set()  # those that have entered a rig in which workers are going to die


def watch_locks_here() -> None:
    """Watch locks in the calling thread from now on."""
    watched_threads.add(real_get_ident())


def watch_deaths_here() -> None:
    """Note who takes which lock in the calling thread from now on, and which generators there are."""
    me = real_get_ident()
    watched_threads.add(me)
    if me not in _death_watchers:
        _death_watchers.add(me)
        generator_codes.begin()


def stop_watching(thread: int) -> None:
    """Watch nothing in a thread any more."""
    watched_threads.discard(thread)
    if thread in _death_watchers:
        _death_watchers.discard(thread)
        generator_codes.end()
