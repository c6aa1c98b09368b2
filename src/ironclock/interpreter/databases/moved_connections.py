"""Moved connections: a descriptor of the application gets another connection, and the application goes on with it.

A connection that was opened before a rig, by a synchronous or an asynchronous client, leads to the proxy of the rig
while that is there, and to the server again afterwards. The connection to the server stays open all the time, with its
login, its database, and its subscriptions.
"""

from __future__ import annotations

import contextlib
import os
import socket
import stat
from collections.abc import Iterator

from ..patching.real_functions import real_fstat
from ..patching.system import open_descriptors


def open_sockets() -> Iterator[tuple[int, socket.socket]]:
    """Yield each open socket of this process: its descriptor, and a copy that is closed afterwards."""
    for fd in open_descriptors():
        with contextlib.suppress(OSError):
            if not stat.S_ISSOCK(real_fstat(fd).st_mode):
                continue
        with contextlib.suppress(OSError), socket.socket(fileno=os.dup(fd)) as one:
            yield fd, one
