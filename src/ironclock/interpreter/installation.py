"""Installation: every replaced function is put in place when the first rig is entered, and back when the last is left.

While one rig is entered and no other thread runs, its clock functions are called directly. As soon as there are several
threads, each call looks up the thread that asks: a thread that has entered no rig gets the real clock.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import _thread
import datetime as dt
import os
import select
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from ..errors import RigStateError
from .border import file_seams, file_times, files, processes, selects, signals, sockets
from .border.clock_readers import UuidTimes
from .border.http_seams import aiohttp_patches, httpcore_patches, standard_patches
from .border.other_loops import gevent_patches, uvloop_patches
from .border.postgres import Psycopg2Waits, asyncpg_patches, psycopg_patches
from .border.selector_waits import places, simulated
from .border.sqlite import SQLiteClock, connection_patches
from .border.tls import tls_patches
from .border.watchdog import Watchdog
from .databases.mariadb import aiomysql_patches, connector_patches, mysqldb_patches, pymysql_patches
from .patching import signal_alarms as alarms
from .patching.builtin_patching import BoundReferences, Builtin, PickledByName, TypeEntry, modified, private_descriptor
from .patching.clock_functions import BUILTINS, REAL, ClockFunctions, by_thread
from .patching.late_patches import LatePatches
from .patching.real_functions import real_get_ident
from .patching.real_threads import others_run
from .patching.signal_handlers import SignalHandlers
from .tasks.asynchronous_errors import asynchronous_error_patches
from .tasks.asyncio_sleeps import asyncio_patches
from .tasks.deadlocks import watched_threads
from .tasks.debugger import debugger_patches
from .tasks.end_without_handlers import generator_codes
from .tasks.executors import current_thread_patches, pool_patches
from .tasks.forks import stays_in_rig
from .tasks.locks import condition_wait, entries, semaphore_places
from .tasks.simulated_threads import replacements

_entered: dict[int, ClockFunctions] = {}  # by real thread; module state, as the interpreter's functions are
_watchdog = Watchdog(_entered)
_kept: list[int] = []  # threads that keep the replacements in place while they have entered no rig
_ENTRIES = [TypeEntry(dt.datetime, name) for name in ("now", "utcnow", "fromtimestamp", "timestamp", "astimezone")] + [
    TypeEntry(dt.date, name) for name in ("today", "fromtimestamp")
]


def enter(functions: ClockFunctions) -> None:
    """Let the calling thread use a rig's clock functions. Raises `RigStateError` if it has entered a rig already."""
    me = real_get_ident()
    if me in _entered:
        raise RigStateError(
            "another rig is entered in this thread, and two rigs cannot run at once; leave that one first, or use it "
            "(a fixture of a wider scope may have entered it)"
        )
    _entered[me] = functions
    functions.begin()
    _watchdog.look_after(functions.border.outside.stuck_after_s)
    if functions.loop.decisions is not None:
        watched_threads.add(me)
    if functions.threads.notes_places:
        watch_deaths_here()
    if len(_entered) == 1 and not _kept:
        _put_in_place()
    _arrange()


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
    if not _entered and not _kept:
        _put_in_place()
    _kept.append(real_get_ident())
    note_real_thread()
    try:
        yield
    finally:
        _kept.remove(real_get_ident())
        if not _entered and not _kept:
            _put_back()


def _put_in_place() -> None:
    for builtin, replacement in _BUILTINS:
        builtin.point(replacement)
    for entry, method in _ENTRY_PAIRS:
        entry.put(method)
    for place, waiting in _WAITS:
        place.point(waiting)
    for reference in _REFERENCES:
        reference.point()
    _LATE.put()
    _NAMES.put()
    _HANDLERS.put()
    _tell_types()


def entered() -> bool:
    """Return True if the calling thread has entered a rig."""
    return real_get_ident() in _entered


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


def _stop_watching(me: int) -> None:
    watched_threads.discard(me)
    if me in _death_watchers:
        _death_watchers.discard(me)
        generator_codes.end()


_death_watchers: set[int] = set()  # the real threads that have entered a rig in which workers are going to die


def leave() -> None:
    """Give the real clock back to the calling thread. With the last thread everything is as it was before."""
    del _entered[real_get_ident()]
    _stop_watching(real_get_ident())
    by_thread.__dict__.clear()
    if _entered or _kept:
        _arrange()
    else:
        _put_back()


def _put_back() -> None:
    for builtin in (*BUILTINS.values(), *(builtin for builtin, _ in _BUILTINS)):
        builtin.restore()
    for entry, _ in _ENTRY_PAIRS:
        entry.restore()
    for place, _ in _WAITS:
        place.restore()
    for reference in _REFERENCES:
        reference.restore()
    _LATE.restore()
    _NAMES.restore()
    _HANDLERS.restore()
    _tell_types()


def _leave_in_child() -> None:
    """Leave every rig in a forked child: the code that runs there lives in real time, as that of a spawned one does."""
    if _entered and not stays_in_rig():
        for world in _entered.values():
            world.border.outside.forget()
        _entered.clear()
        _kept.clear()
        for me in list(watched_threads):
            _stop_watching(me)
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
    functions = next(iter(_entered.values())).functions if alone else _LOOKUPS
    for name, builtin in BUILTINS.items():
        builtin.point(functions[name])


def _here() -> ClockFunctions | None:
    """Return the world that the calling thread has entered."""
    return _entered.get(real_get_ident())


def note_real_thread() -> None:
    """From now on let every clock function look up the thread that asks."""
    for name, builtin in BUILTINS.items():
        builtin.point(_LOOKUPS[name])


def _lookup(name: str) -> Callable[..., Any]:
    real, entered, ident = REAL[name], _entered, real_get_ident

    def call(*args: Any) -> Any:
        functions = entered.get(ident())
        return real(*args) if functions is None else functions.functions[name](*args)

    return call


def _read_time() -> Any:
    for value in by_thread.time:
        return value
    return _entered[real_get_ident()].functions["time"]()


def _read_time_ns() -> Any:
    for value in by_thread.time_ns:
        return value
    return _entered[real_get_ident()].functions["time_ns"]()


def _read_monotonic() -> Any:
    for value in by_thread.monotonic:
        return value
    return _entered[real_get_ident()].functions["monotonic"]()


def _read_monotonic_ns() -> Any:
    for value in by_thread.monotonic_ns:
        return value
    return _entered[real_get_ident()].functions["monotonic_ns"]()


_LOOKUPS = {
    **{name: _lookup(name) for name in BUILTINS},
    "time": _read_time, "time_ns": _read_time_ns, "monotonic": _read_monotonic,
    "monotonic_ns": _read_monotonic_ns, "perf_counter": _read_monotonic, "perf_counter_ns": _read_monotonic_ns,
}  # fmt: skip
_real_now = private_descriptor(dt.datetime, "now")
_real_utcnow = private_descriptor(dt.datetime, "utcnow")
_real_today = private_descriptor(dt.date, "today")
_real_fromtimestamp = private_descriptor(dt.datetime, "fromtimestamp")
_real_date_fromtimestamp = private_descriptor(dt.date, "fromtimestamp")
_real_timestamp = dt.datetime.timestamp
_real_astimezone = dt.datetime.astimezone


def _now(cls: type[dt.datetime], tz: dt.tzinfo | None = None) -> dt.datetime:
    functions = _entered.get(real_get_ident())
    if functions is None:
        return _real_now.__get__(None, cls)(tz)  # type: ignore[no-any-return]
    return functions.now(cls, tz)


def _utcnow(cls: type[dt.datetime]) -> dt.datetime:
    functions = _entered.get(real_get_ident())
    return _real_utcnow.__get__(None, cls)() if functions is None else functions.utcnow(cls)


def _today(cls: type[dt.date]) -> dt.date:
    functions = _entered.get(real_get_ident())
    return _real_today.__get__(None, cls)() if functions is None else functions.today(cls)


def _fromtimestamp(cls: type[dt.datetime], timestamp: float, tz: dt.tzinfo | None = None) -> dt.datetime:
    functions = _entered.get(real_get_ident())
    if functions is None:
        return _real_fromtimestamp.__get__(None, cls)(timestamp, tz)  # type: ignore[no-any-return]
    return functions.fromtimestamp(cls, timestamp, tz)


def _date_fromtimestamp(cls: type[dt.date], timestamp: float, /) -> dt.date:
    functions = _entered.get(real_get_ident())
    if functions is None:
        return _real_date_fromtimestamp.__get__(None, cls)(timestamp)  # type: ignore[no-any-return]
    return functions.date_fromtimestamp(cls, timestamp)


def _moment_timestamp(self: dt.datetime) -> float:
    functions = _entered.get(real_get_ident())
    return _real_timestamp(self) if functions is None else functions.timestamp(self)


def _moment_astimezone(self: dt.datetime, tz: dt.tzinfo | None = None) -> dt.datetime:
    functions = _entered.get(real_get_ident())
    return _real_astimezone(self, tz) if functions is None else functions.astimezone(self, tz)


for _function, _name in (
    (_now, "now"), (_utcnow, "utcnow"), (_today, "today"), (_fromtimestamp, "fromtimestamp"),
    (_date_fromtimestamp, "fromtimestamp"), (_moment_timestamp, "timestamp"), (_moment_astimezone, "astimezone"),
):  # fmt: skip
    _function.__name__ = _name

_REPLACEMENTS = [
    classmethod(_now), classmethod(_utcnow), classmethod(_fromtimestamp), _moment_timestamp, _moment_astimezone,
    classmethod(_today), classmethod(_date_fromtimestamp),
]  # fmt: skip
_REFERENCES = [
    BoundReferences(dt.datetime, "now", _now),
    BoundReferences(dt.datetime, "utcnow", _utcnow),
    BoundReferences(dt.date, "today", _today),
]


_LOCK_ENTRIES = entries(_here)
_BORDER_ENTRIES = [
    *sockets.entries(_here), *selects.entries(_here), *files.entries(_here), *file_times.entries(_here),
    *processes.semaphore_entries(_here),
]  # fmt: skip
_ENTRY_PAIRS = [*zip(_ENTRIES, _REPLACEMENTS, strict=True), *_LOCK_ENTRIES, *_BORDER_ENTRIES]
_TYPES = (
    dt.date, *{entry.owner: None for entry, _ in (*_LOCK_ENTRIES, *_BORDER_ENTRIES)},
)  # a date's subclasses follow it  # fmt: skip


def _tell_types() -> None:
    for owner in _TYPES:
        modified(owner)


def _builtins() -> list[tuple[Builtin, Callable[..., Any]]]:
    made: list[tuple[Builtin, Callable[..., Any]]] = []
    seen = set()
    both = [(_thread, pair) for pair in replacements(_here, note_real_thread)]
    both += [(_signal, pair) for pair in alarms.replacements(_here)]
    both += [(select, ("select", lambda real: selects.select_function(real, _here)))]
    both += [(_signal, pair) for pair in signals.builtins(_here).items()]
    both += files.builtins(_here)
    both += file_seams.builtins(_here)
    both += file_times.builtins(_here)
    both += processes.builtins(_here)
    for module, (name, make) in both:
        function = getattr(module, name, None)
        if function is not None and id(function) not in seen:  # two names can mean one function
            seen.add(id(function))
            builtin = Builtin(function)
            made.append((builtin, make(builtin.real)))
    return made


_BUILTINS = _builtins()
_WAITS = [
    *((place, simulated(place.real, _here)) for place in places()),
    condition_wait(_here),
    *semaphore_places(_here),
    processes.popen_wait(_here),
    sockets.opening(_here),
    sockets.pairs(_here),
]
_NAMES = PickledByName()
_HANDLERS = SignalHandlers(_here)
_LATE = LatePatches({
    "_sqlite3": lambda: [SQLiteClock(_here)],
    "sqlite3": lambda: connection_patches(_here),
    "asyncio": lambda: asyncio_patches(_here),
    "ctypes": lambda: asynchronous_error_patches(_here),
    "concurrent.futures.thread": lambda: pool_patches(_here),
    "asgiref.current_thread_executor": lambda: current_thread_patches(_here),
    "uuid": lambda: [UuidTimes()],
    "bdb": lambda: debugger_patches(_here),
    "uvloop": lambda: uvloop_patches(_here),
    "gevent.hub": lambda: gevent_patches(_here),
    "ssl": lambda: tls_patches(_here),
    "http.client": lambda: standard_patches(_here),
    "httpcore": lambda: httpcore_patches(_here),
    "aiohttp": lambda: aiohttp_patches(_here),
    "asyncpg": lambda: asyncpg_patches(_here),
    "psycopg": lambda: psycopg_patches(_here),
    "psycopg2": lambda: [Psycopg2Waits(_here)],
    "pymysql": lambda: pymysql_patches(_here),
    "aiomysql": lambda: aiomysql_patches(_here),
    "MySQLdb": lambda: mysqldb_patches(_here),
    "mysql.connector": lambda: connector_patches(_here),
})  # fmt: skip
