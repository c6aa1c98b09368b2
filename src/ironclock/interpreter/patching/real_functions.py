"""Functions of the system that are replaced in a rig, as they were: they always block for real and tell real times.

The rig uses them itself. They are taken before anything is replaced.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import _socket
import _thread
import os
import select
import signal
from typing import Any

from .builtin_patching import Builtin

real_get_ident = Builtin(_thread.get_ident).real
real_start_thread = Builtin(_thread.start_new_thread).real
real_read, real_write, real_pipe = Builtin(os.read).real, Builtin(os.write).real, Builtin(os.pipe).real
real_stat, real_fstat = Builtin(os.stat).real, Builtin(os.fstat).real
real_waitpid = Builtin(os.waitpid).real
real_set_wakeup_fd = Builtin(signal.set_wakeup_fd).real
real_signal, real_getsignal = Builtin(_signal.signal).real, Builtin(_signal.getsignal).real
real_recv, real_send, real_sendall = _socket.socket.recv, _socket.socket.send, _socket.socket.sendall
real_connect = _socket.socket.connect
real_acquire, real_release = _thread.RLock.acquire, _thread.RLock.release

_Poll: Any = type(select.poll())
real_poll, real_register = _Poll.poll, _Poll.register


def poll_for(fd: int, events: int, ms: int | None = 0) -> int:
    """Return which of some events of `select.poll` have happened to a descriptor, after so many milliseconds at most.

    Parameters: `ms` is 0 by default; None: no limit.
    """
    poll = select.poll()
    real_register(poll, fd, events)
    found: list[tuple[int, int]] = real_poll(poll, ms)
    return found[0][1] if found else 0


def addresses_of(fd: int) -> tuple[Any, Any]:
    """Return the address of a socket, and that of its other end. Raises `OSError` if it has none."""
    one = _socket.socket(fileno=fd)
    try:
        return one.getsockname(), one.getpeername()
    finally:
        one.detach()


def inode_of(fd: int) -> int:
    """Return what tells a descriptor from another one that gets the same number later. -1 if it is closed."""
    try:
        return int(real_fstat(fd).st_ino)
    except OSError:
        return -1
