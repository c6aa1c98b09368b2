"""`select.select`, `poll` and `epoll`: they wait in simulated time."""

from __future__ import annotations

import select
from collections.abc import Callable
from typing import Any

from ..patching.builtin_patching import Here, TypeEntry
from ..patching.clock_functions import waiting_ns
from .outside_waits import OutsideWait

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

        def descriptors() -> list[tuple[int, int]]:
            many = zip((rlist, wlist, xlist), _EVENTS, strict=True)
            return [(one if isinstance(one, int) else one.fileno(), event) for some, event in many for one in some]

        return _until_ready(world, lambda: real(rlist, wlist, xlist, 0), any, descriptors, timeout, "select.select")

    return replacement


def _until_ready(
    world: Any, ask: Callable[[], Any], is_ready: Callable[[Any], bool], descriptors: Callable[[], Any],
    timeout: float | None, what: str,
) -> Any:  # fmt: skip
    """Return the answer of `ask` as soon as it is ready, or the last one after `timeout` seconds."""
    found = ask()
    if is_ready(found):
        return found

    def look() -> bool:
        nonlocal found
        found = ask()
        return is_ready(found)

    fds = descriptors()
    exchanges = [world.border.descriptors.exchange(fd) for fd, _ in fds]
    until = None if timeout is None else world.loop.now + waiting_ns(timeout)
    world.border.outside.wait(OutsideWait(what, exchanges, fds, look, until), looked=True)
    return found


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
        seconds = None if timeout is None or timeout < 0 else timeout / 1000
        fds = _registered.get(id(one), {})
        return _until_ready(world, lambda: real(one, 0), bool, lambda: list(fds.items()), seconds, "poll")

    return poll


def _epoll(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def poll(one: Any, timeout: float | None = None, maxevents: int = -1) -> Any:
        world = here()
        if world is None or timeout == 0:
            return real(one, timeout, maxevents)
        seconds = None if timeout is None or timeout < 0 else timeout
        fds = [(one.fileno(), select.POLLIN)]
        return _until_ready(world, lambda: real(one, 0, maxevents), bool, lambda: fds, seconds, "epoll.poll")

    return poll
