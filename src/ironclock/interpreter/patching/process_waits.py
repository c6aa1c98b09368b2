"""Waiting for a child process: it is real, and takes real time, whatever the rig's clock says."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from types import FunctionType
from typing import Any, cast

from .builtin_patching import PythonFunction


def process_wait(here: Callable[[], Any]) -> tuple[PythonFunction, Callable[..., Any]]:
    """Return the function with which `Popen.wait` and `subprocess.run` wait, and its replacement.

    The real function sleeps and looks, again and again. In simulated time its timeout would end at once. The
    replacement waits for real seconds, and moves the rig's clock when they are over.
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
