"""Moved connections: a descriptor of the application gets another connection, and the application goes on with it.

A connection that was opened before a rig, by a synchronous or an asynchronous client, leads to the proxy of the rig
while that is there, and to the server again afterwards. The connection to the server stays open all the time, with its
login, its database, and its subscriptions.
"""

from __future__ import annotations

import contextlib
import os
import re
import select
import socket
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ..patching.real_functions import real_fstat

_DESCRIPTORS = Path("/proc/self/fd")
_WATCHED = re.compile(r"^tfd:\s*(\d+) events:\s*([0-9a-f]+)", re.MULTILINE)
# (https://man7.org/linux/man-pages/man5/proc_pid_fdinfo.5.html)


def open_sockets() -> Iterator[tuple[int, socket.socket]]:
    """Yield each open socket of this process: its descriptor, and a copy that is closed afterwards."""
    for name in os.listdir(_DESCRIPTORS) if _DESCRIPTORS.is_dir() else ():
        with contextlib.suppress(OSError, ValueError):
            if not stat.S_ISSOCK(real_fstat(int(name)).st_mode):
                continue
        with contextlib.suppress(OSError, ValueError), socket.socket(fileno=os.dup(int(name))) as one:
            yield int(name), one


def put_in_place(fd: int, other: int) -> None:
    """Let a descriptor mean the connection of another one. What watches it (an asyncio loop) watches the new one."""
    blocks = os.get_blocking(fd)
    watching = list(_watching(fd))
    for epoll, _ in watching:
        epoll.unregister(fd)
    os.dup2(other, fd, inheritable=False)
    os.set_blocking(fd, blocks)
    for epoll, events in watching:
        epoll.register(fd, events)
        epoll.close()


def _watching(fd: int) -> Iterator[tuple[Any, int]]:
    """Yield each epoll object of this process that watches a descriptor, as a copy, with the events."""
    found = []
    for name in os.listdir(_DESCRIPTORS):
        with contextlib.suppress(OSError):  # the listing's own descriptor is closed already
            if "eventpoll" in os.readlink(_DESCRIPTORS / name):
                found.append((int(name), (Path("/proc/self/fdinfo") / name).read_text()))
    for epoll, text in found:
        for number, events in _WATCHED.findall(text):
            if int(number) == fd:
                yield select.epoll.fromfd(os.dup(epoll)), int(events, 16) & 0x7FFF_FFFF
