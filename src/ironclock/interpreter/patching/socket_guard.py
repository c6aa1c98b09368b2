"""Strict rigs: a job that opens a real socket gets an error."""

from __future__ import annotations

import socket
from collections.abc import Callable
from types import FunctionType
from typing import Any, cast

from .builtin_patching import PythonFunction


def socket_opening(here: Callable[[], Any]) -> tuple[PythonFunction, Callable[..., Any]]:
    """Return the constructor of sockets with its replacement.

    A socket made from an open one, as an asyncio loop's own pair is, is allowed: it leads nowhere.
    """
    place = PythonFunction(cast(FunctionType, socket.socket.__init__))

    def opening(self: Any, family: int = -1, type: int = -1, proto: int = -1, fileno: Any = None) -> None:
        world = here()
        if world is not None and fileno is None:
            world.threads.forbid("a real socket", "use a simulated service (rig.service(...)) or an httpx transport")
        place.real(self, family, type, proto, fileno)

    return place, opening
