"""`select.select`, `poll` and `epoll`: they wait in simulated time."""

from __future__ import annotations

import select
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Here
from ..patching.clock_functions import waiting_ns
from ..patching.patches import Builtins, Make, Methods, Patch
from .outside_waits import OutsideWait

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

_EVENTS = select.POLLIN, select.POLLOUT, select.POLLPRI


def _select(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    """Return the replacement of `select.select`."""

    def replacement(rlist: Any, wlist: Any, xlist: Any, timeout: float | None = None, /) -> Any:
        world = here()
        if world is None or (timeout is not None and timeout <= 0):
            return real(rlist, wlist, xlist, timeout)
        if timeout is not None and not (rlist or wlist or xlist):
            world.clock.let_pass(timeout)
            return [], [], []

        def descriptors() -> list[tuple[int, int]]:
            many = zip((rlist, wlist, xlist), _EVENTS, strict=True)
            return [(one if isinstance(one, int) else one.fileno(), event) for some, event in many for one in some]

        return _until_ready(world, lambda: real(rlist, wlist, xlist, 0), any, descriptors, timeout, "select.select")

    return replacement


def _until_ready(
    world: EnteredRig, ask: Callable[[], Any], is_ready: Callable[[Any], bool], descriptors: Callable[[], Any],
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


def select_patches(here: Here) -> list[Patch]:
    """Return the patches of `select.select`, and of `poll` and `epoll` objects."""
    made: list[Patch] = [Builtins(select, {"select": lambda real: _select(real, here)})]
    if hasattr(select, "poll"):
        makers: dict[str, Make] = {name: _registers(name, here) for name in ("register", "modify", "unregister")}
        made.append(Methods(type(select.poll()), {"poll": lambda real: _poll(real, here), **makers}))
    if hasattr(select, "epoll"):
        made.append(Methods(select.epoll, {"poll": lambda real: _epoll(real, here)}))
    if hasattr(select, "kqueue"):
        made.append(Methods(select.kqueue, {"control": lambda real: _kqueue(real, here)}))
    return made


def _registers(name: str, here: Here) -> Make:
    return lambda real: _registering(name, real, here)


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


def _kqueue(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def control(one: Any, changes: Any, most: int, timeout: float | None = None, /) -> Any:
        world = here()
        if world is None or timeout == 0 or not most:
            return real(one, changes, most, timeout)
        if changes:
            real(one, changes, 0, 0)
        fds = [(one.fileno(), select.POLLIN)]
        seconds = None if timeout is None or timeout < 0 else timeout
        return _until_ready(world, lambda: real(one, None, most, 0), bool, lambda: fds, seconds, "kqueue.control")

    return control


def _epoll(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def poll(one: Any, timeout: float | None = None, maxevents: int = -1) -> Any:
        world = here()
        if world is None or timeout == 0:
            return real(one, timeout, maxevents)
        seconds = None if timeout is None or timeout < 0 else timeout
        fds = [(one.fileno(), select.POLLIN)]
        return _until_ready(world, lambda: real(one, 0, maxevents), bool, lambda: fds, seconds, "epoll.poll")

    return poll
