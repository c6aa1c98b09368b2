"""Waiting for a child process: it is real and takes real time, however the rig's clock stands."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from types import FunctionType
from typing import Any, cast

from .inplace import PythonFunction


def process_wait(here: Callable[[], Any]) -> tuple[PythonFunction, Callable[..., Any]]:
    """Return what `Popen.wait` and `subprocess.run` wait with, and its stand-in.

    The real one sleeps and looks, again and again: on simulated time its timeout would be over in no time. Here the
    timeout is waited for in real seconds, and passes on the rig's clock when it is over.
    """
    place = PythonFunction(cast(FunctionType, subprocess.Popen._wait))  # type: ignore[attr-defined]

    def wait(self: Any, timeout: float | None = None) -> Any:
        world = here()
        if world is None or timeout is None or timeout <= 0:
            return place.real(self, timeout)
        if world.real_wait(lambda: self.poll() is not None, timeout):
            return self.returncode
        world.let_pass(timeout)
        return place.real(self, 0)

    return place, wait
