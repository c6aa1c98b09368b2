"""Waiting for files and sockets: in a rig a wait that nothing real ends lasts simulated time.

The standard event loop waits for its next timer in a selector. There the wait is taken in simulated time,
once the selector has said that nothing real is ready.
"""

from __future__ import annotations

import math
import selectors
import socket
import threading
import weakref
from collections.abc import Callable
from typing import Any

from .inplace import PythonFunction
from .locks import GRACE_S, others_run
from .readers import waiting_ns

FILE_GRACE_S = 0.5
"""How long, in real seconds, a file or socket of an event loop may take before simulated time is let pass."""

LONE_GRACE_S = 10.0
"""And how long one that code waits for by itself: a child process's output, an answer of a database."""

_patience: weakref.WeakKeyDictionary[Any, float] = weakref.WeakKeyDictionary()
"""By selector, what is left of that after it was waited for in vain."""

SPINS_LIMIT = 5_000
"""How often an event loop may go round at one instant before it is taken to wait for what comes next."""

_KINDS = ("EpollSelector", "KqueueSelector", "DevpollSelector", "PollSelector", "SelectSelector")


def places() -> list[PythonFunction]:
    """Return the `select` of each kind of selector that this platform has."""
    found = (getattr(selectors, name, None) for name in _KINDS)
    # Some kinds share one function through a common base.
    functions = {id(kind.select): kind.select for kind in found if kind is not None}
    return [PythonFunction(function) for function in functions.values()]


def simulated(real: Callable[..., Any], here: Callable[[], Any]) -> Callable[..., Any]:
    """Return a `select` that waits in simulated time for the threads that have any."""

    def select(selector: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None:
            return real(selector, timeout)
        if timeout is not None and timeout <= 0:
            if world.engine.now == world.spun_ns:
                _spin(selector, world)
            else:
                world.spun_ns, world.spins = world.engine.now, 0
            return real(selector, timeout)
        files = True
        for key in selector._fd_to_key.values():
            files = key is not world.own_key or len(selector._fd_to_key) > 1  # as seen the last time
            break
        if files:
            files = _has_files(selector, world)
        if world.engine.now > world.coarse_ns:
            _coarsen(selector, world)
        if (
            not files
            and timeout is not None
            and not (world.threads.alive or world.engine.watches or world.alarms.pending)
        ):
            # An event loop with nothing but timers, and nobody who could wake it but a signal.
            world.let_pass(timeout)
            return real(selector, 0)
        ready = real(selector, 0)
        if ready:
            return ready
        return _wait(world, selector, real, timeout, files)

    return select


def _own_loop(key: Any) -> Any:
    """Return the event loop whose own pipe a key stands for; None where it stands for anything else."""
    handle = key.data[0] if isinstance(key.data, tuple) and key.data else None
    callback = getattr(handle, "_callback", None)
    return getattr(callback, "__self__", None) if getattr(callback, "__name__", "") == "_read_from_self" else None


def select_as_sleep(real: Callable[..., Any], here: Callable[[], Any]) -> Callable[..., Any]:
    """Return a `select.select` that takes its time in the rig where there is nothing but time to wait for."""

    def stand_in(rlist: Any, wlist: Any, xlist: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None or timeout is None or timeout <= 0 or rlist or wlist or xlist:
            return real(rlist, wlist, xlist, timeout)
        world.let_pass(timeout)
        return [], [], []

    return stand_in


def _spin(selector: Any, world: Any) -> None:
    """Let time pass under an event loop that goes round and round at one instant, as it really does."""
    world.spins += 1
    for key in selector._fd_to_key.values():
        if key is world.own_key and world.spins <= SPINS_LIMIT:
            return
        break
    loops = [loop for key in selector._fd_to_key.values() if (loop := _own_loop(key)) is not None]
    if not loops:
        # A poll that is asked again and again until its deadline is past, and not just reached.
        world.let_pass(1e-9)
        world.spun_ns = world.engine.now
    elif world.spins > SPINS_LIMIT:
        world.skip(loops)
        world.spun_ns, world.spins = world.engine.now, 0


def _coarsen(selector: Any, world: Any) -> None:
    """Tell an event loop how coarse the clock is after half a year.

    It takes a timer for due that is less than one resolution (1 ns) ahead. From 2**24 s on a float cannot hold that:
    a timer that is due at this very instant would never be, on a clock that waits for it.
    """
    for key in selector._fd_to_key.values():
        loop = _own_loop(key)
        if loop is not None:
            least = 2 * math.ulp(world.functions["monotonic"]())
            if loop._clock_resolution < least:
                loop._clock_resolution = 4 * least


def _has_files(selector: Any, world: Any) -> bool:
    """Whether there is anything to wait for besides an event loop's own pipe, and sockets that only listen."""
    for key in selector._fd_to_key.values():
        if _own_loop(key) is not None:
            world.own_key = key
            continue
        listens = isinstance(key.fileobj, socket.socket) and _listens(key.fileobj)
        if not listens:
            return True
    # asyncio has threads wait for its child processes, where no file can tell of their end.
    return others_run() and any("waitpid-" in thread.name for thread in threading.enumerate())


def _listens(one: socket.socket) -> bool:
    try:
        return bool(one.getsockopt(socket.SOL_SOCKET, socket.SO_ACCEPTCONN))
    except (OSError, AttributeError):
        return False


def _wait(world: Any, selector: Any, real: Callable[..., Any], timeout: float | None, files: bool) -> Any:
    """Wait in simulated time, unless something real is about to come; return what is ready."""
    engine = world.engine
    found: list[Any] = []
    lone = files and all(_own_loop(key) is None for key in selector._fd_to_key.values())
    others = len(world.threads.alive) > (world.threads.ident() is not None)

    def ready() -> bool:
        found[:] = real(selector, 0)
        return bool(found)

    until = None if timeout is None else engine.now + waiting_ns(timeout)
    if engine.current is not None and engine.wait(ready, engine.now):
        return found  # one of the rig's own tasks, which now had its turn, has brought it about
    while True:
        if files or others_run():
            # What is real comes first: simulated time would run ahead of it. One that kept us waiting for nothing
            # is given less and less.
            grace = _patience.get(selector, FILE_GRACE_S if files else GRACE_S)
            if lone and not others:
                grace = LONE_GRACE_S if timeout is None else min(timeout, LONE_GRACE_S)
            found[:] = real(selector, grace)
            if found:
                _patience.pop(selector, None)
                return found
            _patience[selector] = max(grace / 4, 0.001)
        if until is None and engine.next_due_ns is None and not engine.uneven_now:
            if engine.current is not None:
                engine.wait(ready, None)
            else:
                found[:] = real(selector, GRACE_S)  # only something real can end this
        elif engine.wait(ready, until) or (until is not None and engine.now >= until):
            return found or real(selector, 0)
        if found or ready():
            return found
