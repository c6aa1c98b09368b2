"""`select.select`, `poll` and `epoll`: they wait in simulated time."""

from __future__ import annotations

import select
from collections.abc import Callable
from typing import Any

from ..patching.builtin_patching import TypeEntry
from ..patching.clock_functions import waiting_ns
from .outside_waits import OutsideWait

Here = Callable[[], Any]

_EVENTS = select.POLLIN, select.POLLOUT, select.POLLPRI


def select_function(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return the replacement of `select.select`."""

    def replacement(rlist: Any, wlist: Any, xlist: Any, timeout: float | None = None, /) -> Any:
        world = here()
        if world is None or (timeout is not None and timeout <= 0):
            return real(rlist, wlist, xlist, timeout)
        if timeout is not None and not (rlist or wlist or xlist):
            world.let_pass(timeout)
            return [], [], []
        lists = rlist, wlist, xlist
        first = real(*lists, 0)
        if first[0] or first[1] or first[2]:
            return first
        found: list[Any] = [first]
        fds = []
        for many, event in zip(lists, _EVENTS, strict=True):
            for one in many:
                fds.append((one if isinstance(one, int) else one.fileno(), event))

        def look() -> bool:
            found[0] = real(*lists, 0)
            return any(found[0])

        wait_for_any(world, fds, look, timeout, "select.select")
        return found[0]

    return replacement


def wait_for_any(
    world: Any, fds: list[tuple[int, int]], look: Callable[[], Any] | None, timeout: float | None, what: str
) -> bool:
    """Wait for several descriptors, at most `timeout` seconds; return True if any is ready."""
    exchanges = [world.descriptors.exchange(fd) for fd, _ in fds]
    until = None if timeout is None else world.loop.now + waiting_ns(timeout)
    ready: bool = world.outside.wait(OutsideWait(what, exchanges, fds, look, until), looked=True)
    return ready


def entries(here: Here) -> list[tuple[TypeEntry, Any]]:
    """Return the methods of `poll` and `epoll` objects with their replacements."""
    made: list[tuple[TypeEntry, Any]] = []
    if hasattr(select, "poll"):
        entry = TypeEntry(type(select.poll()), "poll")
        made.append((entry, _poll(entry.saved, here)))
        for name in ("register", "modify", "unregister"):
            entry = TypeEntry(type(select.poll()), name)
            made.append((entry, _registering(name, entry.saved, here)))
    if hasattr(select, "epoll"):
        entry = TypeEntry(select.epoll, "poll")
        made.append((entry, _epoll(entry.saved, here)))
    return made


_registered: dict[int, dict[int, int]] = {}
# By identity of a `select.poll` object, which takes no attributes and no weak references, what it waits for. An object
# that is gone leaves an entry behind, which the first `register` of a new one with the same identity corrects: the
# entry is only a hint where to wait, the real object decides what is ready.


def _registering(name: str, real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def method(one: Any, fd: Any, *mask: Any) -> Any:
        result = real(one, fd, *mask)
        if here() is not None:
            number = fd if isinstance(fd, int) else fd.fileno()
            if len(_registered) > 10_000:
                _registered.clear()
            known = _registered.setdefault(id(one), {})
            if name == "unregister":
                known.pop(number, None)
            else:
                known[number] = mask[0] if mask else select.POLLIN | select.POLLPRI | select.POLLOUT
        return result

    return method


def _poll(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def poll(one: Any, timeout: float | None = None, /) -> Any:
        world = here()
        if world is None or timeout == 0:
            return real(one, timeout)
        found: list[Any] = [real(one, 0)]
        if found[0]:
            return found[0]

        def look() -> bool:
            found[0] = real(one, 0)
            return bool(found[0])

        fds = list(_registered.get(id(one), {}).items())
        seconds = None if timeout is None or timeout < 0 else timeout / 1000
        wait_for_any(world, fds, look, seconds, "poll")
        return found[0]

    return poll


def _epoll(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def poll(one: Any, timeout: float | None = None, maxevents: int = -1) -> Any:
        world = here()
        if world is None or timeout == 0:
            return real(one, timeout, maxevents)
        found: list[Any] = [real(one, 0, maxevents)]
        if found[0]:
            return found[0]

        def look() -> bool:
            found[0] = real(one, 0, maxevents)
            return bool(found[0])

        seconds = None if timeout is None or timeout < 0 else timeout
        wait_for_any(world, [(one.fileno(), select.POLLIN)], look, seconds, "epoll.poll")
        return found[0]

    return poll
