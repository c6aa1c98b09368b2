"""Strict rigs: a job that opens a real socket is told off by name."""

from __future__ import annotations

import socket
from collections.abc import Callable
from types import FunctionType
from typing import Any, cast

from .inplace import PythonFunction


def socket_opening(here: Callable[[], Any]) -> tuple[PythonFunction, Callable[..., Any]]:
    """Return the constructor of sockets with its stand-in. Sockets made from one that is there already, as an event
    loop's own pair is, go nowhere and are let through."""
    place = PythonFunction(cast(FunctionType, socket.socket.__init__))

    def opening(self: Any, family: int = -1, type: int = -1, proto: int = -1, fileno: Any = None) -> None:
        world = here()
        if world is not None and fileno is None:
            world.threads.forbid("a real socket", "a stand (rig.stand(...)), or an httpx transport, takes its place")
        place.real(self, family, type, proto, fileno)

    return place, opening
