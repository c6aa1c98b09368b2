"""Waiting for files and sockets with a selector: a wait that nothing real ends lasts simulated time.

An asyncio loop waits for its next timer in a selector. The wait lasts simulated time once the selector has said that
nothing real is ready.
"""

from __future__ import annotations

import math
import select
import selectors
import signal
import socket
import sys
from collections.abc import Callable
from types import FrameType
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Here
from ..patching.clock_functions import waiting_ns
from ..patching.patches import Function, Patch
from ..patching.real_threads import others_run
from .descriptors import listens
from .outside_waits import THREADS, OutsideWait

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

SPINS_LIMIT = 5_000
"""How often an asyncio loop runs at one instant before it is taken to wait for what comes next, or for a deadline."""

_KINDS = ("EpollSelector", "KqueueSelector", "DevpollSelector", "PollSelector", "SelectSelector")


def selector_patches(here: Here) -> list[Patch]:
    """Return the patches of the `select` method of each kind of selector that this platform has."""
    found = (getattr(selectors, name, None) for name in _KINDS)
    # Some kinds share one function through a common base.
    functions = {id(kind.select): kind.select for kind in found if kind is not None}
    return [Function(function, lambda real: _simulated(real, here)) for function in functions.values()]


def _simulated(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return a `select` that waits in simulated time in threads that have entered a rig."""

    def select(selector: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None:
            return real(selector, timeout)
        if timeout is not None and timeout <= 0:
            if world.loop.now == world.border.spun_ns:
                _spin(selector, world)
            else:
                world.border.spun_ns, world.border.spins = world.loop.now, 0
            return real(selector, timeout)
        files = True
        for key in _keys(selector):
            files = key is not world.border.own_key or len(_keys(selector)) > 1  # as seen the last time
            break
        if files:
            files = _has_files(selector, world)
        if world.loop.now > world.clock.coarse_ns:
            _coarsen(selector, world)
        if timeout is not None and (stops := _server_that_polls(sys._getframe(2))) is not None:
            return real(selector, 0) or _wait(world, selector, real, None, stops)
        if (
            not files
            and timeout is not None
            and not (
                world.threads.alive or world.loop.waiters or world.alarms.pending or world.border.descriptors.children
            )
        ):
            # An asyncio loop with nothing but timers, and nobody that could wake it but a signal.
            world.clock.let_pass(timeout)
            return real(selector, 0)
        ready = real(selector, 0)
        if ready:
            return ready
        return _wait(world, selector, real, timeout)

    return select


def _server_that_polls(caller: FrameType) -> Callable[[], bool] | None:
    """Return what says that a server of `socketserver` is to stop, if that waits here. None: it is other code.

    Such a server looks twice a second if it is to stop, for nothing else. So it can wait without turns.
    """
    module = sys.modules.get("socketserver")
    if module is None or caller.f_code is not module.BaseServer.serve_forever.__code__:
        return None
    server = caller.f_locals["self"]
    if type(server).service_actions is not module.BaseServer.service_actions:
        return None  # it has something to do in each turn
    return lambda: bool(server._BaseServer__shutdown_request)


def _own_loop(key: Any) -> Any:
    """Return the asyncio loop whose own pipe a key stands for. None if it stands for anything else."""
    handle = key.data[0] if isinstance(key.data, tuple) and key.data else None
    callback = getattr(handle, "_callback", None)
    return getattr(callback, "__self__", None) if getattr(callback, "__name__", "") == "_read_from_self" else None


def _spin(selector: Any, world: EnteredRig) -> None:
    """Let time pass for an asyncio loop that runs again and again at one instant, as real time does."""
    world.border.spins += 1
    for key in _keys(selector):
        if key is world.border.own_key and world.border.spins <= SPINS_LIMIT:
            return
        break
    asyncio_loops = [one for key in _keys(selector) if (one := _own_loop(key)) is not None]
    if not asyncio_loops:
        # A poll that runs again and again until its deadline is past, not only reached.
        world.clock.let_pass(1e-9)
        world.border.spun_ns = world.loop.now
    elif world.border.spins > SPINS_LIMIT:
        if not world.clock.step_past_deadline():
            world.clock.skip(asyncio_loops)
        world.border.spun_ns, world.border.spins = world.loop.now, 0


def _coarsen(selector: Any, world: EnteredRig) -> None:
    """Tell an asyncio loop how coarse the clock is after half a year.

    To the loop a timer is due if it is less than one resolution (1 ns) ahead. From 2**24 s on a float cannot hold that:
    a timer that is due at this very instant would never become due, on a clock that waits for it.
    """
    for key in _keys(selector):
        asyncio_loop = _own_loop(key)
        if asyncio_loop is not None:
            least = 2 * math.ulp(world.clock.functions["monotonic"]())
            if vars(asyncio_loop)["_clock_resolution"] < least:
                asyncio_loop._clock_resolution = 4 * least


def _keys(selector: Any) -> Any:
    """Return what a selector waits for. (Its public mapping costs a Python call for each key.)"""
    return selector._fd_to_key.values()


def _has_files(selector: Any, world: EnteredRig) -> bool:
    """Return True if there is anything to wait for but an asyncio loop's own pipe and sockets that only listen."""
    for key in _keys(selector):
        if _own_loop(key) is not None:
            world.border.own_key = key
            continue
        if not (isinstance(key.fileobj, socket.socket) and listens(key.fileobj)):
            return True
    return False


def _wait(
    world: EnteredRig, selector: Any, real: Callable[..., Any], timeout: float | None,
    stops: Callable[[], bool] | None = None,
) -> Any:  # fmt: skip
    """Wait in simulated time, with the grace that what it waits for can need; return what is ready.

    Parameters: `stops` says if the wait ends without anything that is ready.
    """
    found: list[Any] = []

    def look() -> bool:
        found[:] = real(selector, 0)
        return bool(found) or (stops is not None and stops())

    exchanges, fds, in_loop = [], [], False
    for key in _keys(selector):
        fds.append((key.fd, (key.events & 1 and select.POLLIN) | (key.events & 2 and select.POLLOUT)))
        if _own_loop(key) is not None:
            in_loop = True
        else:
            exchanges.append(world.border.descriptors.exchange(key.fd))
    if others_run():
        exchanges.append(world.border.outside.lasting(THREADS, id(selector)))
    children = world.border.descriptors.children
    if children is not None and callable(signal.getsignal(signal.SIGCHLD)) and world.border.descriptors.child_runs():
        exchanges.append(children)
    epoll = getattr(select, "epoll", None)
    if epoll is not None and isinstance(getattr(selector, "_selector", None), epoll):
        fds = [(selector.fileno(), select.POLLIN)]
    until = None if timeout is None else world.loop.now + waiting_ns(timeout)
    what = "an asyncio loop" if in_loop else "a selector"
    world.border.outside.wait(OutsideWait(what, exchanges, fds, look, until))
    return found or real(selector, 0)
