"""Waiting for signals: `signal.pause`, `sigwait` and their like wait in simulated time."""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import contextlib
import os
import select
import signal
from collections.abc import Callable, Iterator
from typing import Any

from ..patching.builtin_patching import Here
from ..patching.clock_functions import waiting_ns
from ..patching.patches import Builtins, Make, Patch
from ..patching.real_functions import poll_for, real_set_wakeup_fd
from ..patching.system import take_signal
from .outside_waits import IDLE, SIGNALS, OutsideWait

_mask = getattr(_signal, "pthread_sigmask", None)  # without the enumerations of `signal`, which take ten times as long
_INTERRUPT = {int(signal.SIGINT)}


@contextlib.contextmanager
def interrupts_deferred() -> Iterator[None]:
    """Let Ctrl-C come after the block: a rig that is half entered or half left would stay so."""
    if _mask is None:
        yield
        return
    before = _mask(signal.SIG_BLOCK, _INTERRUPT)
    deferring.append(1)
    try:
        yield
    finally:
        deferring.pop()
        _mask(signal.SIG_SETMASK, before)


deferring: list[int] = []  # not empty inside `interrupts_deferred`


def signal_patches(here: Here) -> list[Patch]:
    """Return the patches of the functions of `signal` that wait."""
    makers: dict[str, Make] = {
        "pause": lambda real: _pause(real, here),
        "sigwait": lambda real: _sigwait(here, real, lambda found: found.si_signo, True),
        "sigwaitinfo": lambda real: _sigwait(here, real, lambda found: found, True),
        "sigtimedwait": lambda real: _sigwait(here, real, lambda found: found, False),
    }
    return [Builtins(_signal, makers)]


def _pause(real: Callable[[], None], here: Here) -> Callable[[], None]:
    def pause() -> None:
        world = here()
        if world is None:
            real()
            return
        alarms, rung = world.alarms, world.alarms.rung
        reads, writes = os.pipe()
        os.set_blocking(writes, False)
        before = real_set_wakeup_fd(writes, warn_on_full_buffer=False)  # written to when a real signal comes
        try:
            kind = IDLE if alarms.pending else SIGNALS
            look: Any = lambda: alarms.rung != rung or poll_for(reads, select.POLLIN)  # noqa: E731
            exchange = world.border.outside.exchange(kind, "signal.pause")
            world.border.outside.wait(OutsideWait("signal.pause", [exchange], [(reads, select.POLLIN)], look))
        finally:
            real_set_wakeup_fd(before)
            os.close(reads)
            os.close(writes)

    return pause


def _sigwait(here: Here, real: Callable[..., Any], answer: Callable[[Any], Any], forever: bool) -> Callable[..., Any]:
    def wait(numbers: Any, timeout: float | None = None, /) -> Any:
        world = here()
        if world is None or (not forever and (timeout is None or timeout <= 0)):
            return real(numbers) if forever else real(numbers, timeout)
        found: list[Any] = []

        def look() -> bool:
            if not found:
                one = take_signal(numbers)
                if one is not None:
                    found.append(one)
            return bool(found)

        until = None if forever or timeout is None else world.loop.now + waiting_ns(timeout)
        world.border.outside.wait_for("a wait for signals", SIGNALS, look, until)
        return answer(found[0]) if found else None

    return wait
