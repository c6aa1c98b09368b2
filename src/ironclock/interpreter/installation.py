"""Installation: every replaced function is put in place when the first rig is entered, and back when the last is left.

While one rig is entered and no other thread runs, its clock functions are called directly. As soon as there are several
threads, each call looks up the thread that asks: a thread that has entered no rig gets the real clock.
"""

from __future__ import annotations

import _thread
import os
from collections.abc import Iterator
from contextlib import contextmanager

from ..errors import RigStateError
from .border.watchdog import Watchdog
from .drivers import late_patches
from .entered_rig import EnteredRig
from .patch_table import patches
from .patching.clock_functions import BUILTINS, REAL, by_thread
from .patching.clock_lookups import lookups
from .patching.real_functions import real_acquire, real_get_ident, real_release
from .patching.real_threads import others_run
from .tasks.forks import stays_in_rig
from .tasks.watched_threads import stop_watching, watch_deaths_here, watch_locks_here, watched_threads

_entered: dict[int, EnteredRig] = {}  # by real thread; module state, as the interpreter's functions are
_watchdog = Watchdog(_entered)
_kept: list[int] = []  # threads that keep the replacements in place while they have entered no rig
_changing = _thread.RLock()  # held by the thread that changes what is in place: two can enter, or leave, at once


def enter(rig: EnteredRig) -> None:
    """Let the calling thread be in a rig. Raises `RigStateError` if it has entered a rig already."""
    me = real_get_ident()
    if me in _entered:
        raise RigStateError(
            "another rig is entered in this thread, and two rigs cannot run at once; leave that one first, or use it "
            "(a fixture of a wider scope may have entered it)"
        )
    real_acquire(_changing)
    try:
        _entered[me] = rig
        rig.clock.begin()
        _watchdog.look_after(rig.border.outside.stuck_after_s)
        if rig.loop.decisions is not None:
            watch_locks_here()
        if rig.threads.notes_places:
            watch_deaths_here()
        if len(_entered) == 1 and not _kept:
            _put_in_place()
        _arrange()
    finally:
        real_release(_changing)


@contextmanager
def ending_within(seconds: float) -> Iterator[None]:
    """End a run inside the block with `StuckError` if it takes longer than so many real seconds."""
    _watchdog.ends_at = REAL["monotonic"]() + seconds
    try:
        yield
    finally:
        _watchdog.ends_at = None


@contextmanager
def kept_in_place() -> Iterator[None]:
    """Keep the replacements in place inside the block, so that to enter many rigs one after the other is cheap."""
    real_acquire(_changing)
    try:
        if not _entered and not _kept:
            _put_in_place()
        _kept.append(real_get_ident())
        note_real_thread()
    finally:
        real_release(_changing)
    try:
        yield
    finally:
        real_acquire(_changing)
        try:
            _kept.remove(real_get_ident())
            if not _entered and not _kept:
                _put_back()
        finally:
            real_release(_changing)


def _put_in_place() -> None:
    for patch in _PATCHES:
        patch.put()
    _LATE.put()


def entered() -> bool:
    """Return True if the calling thread has entered a rig."""
    return real_get_ident() in _entered


def leave() -> None:
    """Give the real clock back to the calling thread. With the last thread everything is as it was before."""
    real_acquire(_changing)
    try:
        del _entered[real_get_ident()]
        stop_watching(real_get_ident())
        by_thread.__dict__.clear()
        if _entered or _kept:
            _arrange()
        else:
            _put_back()
    finally:
        real_release(_changing)


def _put_back() -> None:
    for builtin in BUILTINS.values():
        builtin.restore()
    for patch in _PATCHES:
        patch.restore()
    _LATE.restore()


def _leave_in_child() -> None:
    """Leave every rig in a forked child: the code that runs there lives in real time, as that of a spawned one does."""
    _changing._at_fork_reinit()  # type: ignore[attr-defined]  # the thread that held it is not in this process
    if _entered and not stays_in_rig():
        for world in _entered.values():
            world.border.outside.forget()
        _entered.clear()
        _kept.clear()
        for me in list(watched_threads):
            stop_watching(me)
        by_thread.__dict__.clear()
        _put_back()


def _note_child() -> None:
    world = _here()
    if world is not None:
        world.border.descriptors.started_child()


os.register_at_fork(before=_note_child, after_in_child=_leave_in_child)


def _arrange() -> None:
    """Choose between clock functions that are called directly, and those that look up the thread."""
    if _kept:
        return  # those that look up the thread are in place already
    alone = len(_entered) == 1 and not others_run()
    functions = next(iter(_entered.values())).clock.functions if alone else _LOOKUPS
    for name, builtin in BUILTINS.items():
        builtin.point(functions[name])


def _here() -> EnteredRig | None:
    """Return the rig that the calling thread has entered."""
    return _entered.get(real_get_ident())


def note_real_thread() -> None:
    """From now on let every clock function look up the thread that asks."""
    for name, builtin in BUILTINS.items():
        builtin.point(_LOOKUPS[name])


_LOOKUPS = lookups(_entered)
_PATCHES = patches(_here, note_real_thread)
_LATE = late_patches(_here)
