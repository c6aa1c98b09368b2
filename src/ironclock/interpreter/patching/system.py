"""What differs between operating systems: Linux, and others that have less, such as macOS.

Everything that only one of them has is asked for here, and what stands in its place is chosen here. On Linux all of it
is tested; the other ways are tested on Linux, with its own names taken away.
"""

from __future__ import annotations

import _signal  # type: ignore[import-not-found]
import ctypes
import fcntl
import gc
import os
import re
import select
import selectors
import signal
import socket
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from .builtin_patching import Builtin
from .real_functions import addresses_of, real_read

IS_LINUX = sys.platform == "linux" and hasattr(select, "epoll")

INTERRUPT = signal.SIGRTMAX - 2 if hasattr(signal, "SIGRTMAX") else getattr(signal, "SIGUSR2", -1)
"""The signal that interrupts a call which blocks: one that nothing else uses, where there is one. -1: none."""

_DESCRIPTORS = Path("/proc/self/fd" if IS_LINUX else "/dev/fd")
_WATCHED = re.compile(r"^tfd:\s*(\d+) events:\s*([0-9a-f]+)", re.MULTILINE)
# (https://man7.org/linux/man-pages/man5/proc_pid_fdinfo.5.html)
_UNSENT_LINUX = 0x894B  # SIOCOUTQNSD: bytes that were not sent yet (https://man7.org/linux/man-pages/man7/tcp.7.html)
_UNSENT_MACOS = 0x1024  # SO_NWRITE, in <sys/socket.h> of macOS
_MAP_LINUX = 0x02 | 0x20 | 0x4000 | 0x100000  # private, anonymous, not reserved, not over anything else
_MAP_MACOS = 0x0002 | 0x1000 | 0x0040  # private, anonymous, not reserved; an address is a wish
_READ_WRITE = 0x3

_real_scandir, _real_listdir = os.scandir, os.listdir
_real_open, _real_close = Builtin(os.open).real, Builtin(os.close).real


def open_descriptors() -> list[int]:
    """Return the open descriptors of this process. Empty if the system does not say."""
    with suppress(OSError):
        return [int(name) for name in _real_listdir(_DESCRIPTORS) if name.isdecimal()]
    return []


def child_pids() -> set[int] | None:
    """Return the processes that this one has started and that were not waited for. None if the system does not say.

    A system without a list says at least if there is none.
    """
    if IS_LINUX:
        with suppress(OSError), _real_scandir("/proc/self/task") as threads:
            return {int(pid) for thread in threads for pid in Path(thread.path, "children").read_bytes().split()}
    if hasattr(os, "waitid"):
        try:
            os.waitid(os.P_ALL, 0, os.WEXITED | os.WNOHANG | os.WNOWAIT)
        except ChildProcessError:
            return set()
        except OSError:
            return None
    return None


def open_process(pid: int) -> int:
    """Return a descriptor that can be read when a process has ended. -1 if there is none."""
    if hasattr(os, "pidfd_open") and pid > 0:
        with suppress(OSError):
            return os.pidfd_open(pid)
    kqueue: Any = getattr(select, "kqueue", None)
    if kqueue is not None and pid > 0:
        with suppress(OSError):
            module: Any = select
            queue = kqueue()
            ended = module.kevent(pid, module.KQ_FILTER_PROC, module.KQ_EV_ADD, module.KQ_NOTE_EXIT)
            queue.control([ended], 0)
            fd = os.dup(queue.fileno())
            queue.close()
            return fd
    return -1


def is_process_at(pid: int, fd: int, title: str) -> bool:
    """Return True if a process with a title is the other end of a socket, and runs on this system.

    Parameters: `title` is how its command line begins; a server's process names there the address of its client.
    """
    if not IS_LINUX:
        return False
    with suppress(OSError, ValueError):
        command = _command_line(pid)
        if not command.startswith(title.encode()):
            return False
        name = addresses_of(fd)[0]
        return b"[local]" in command if isinstance(name, str | bytes) else f"({name[1]})".encode() in command
    return False


def is_at_rest(pid: int, unless: bytes) -> bool:
    """Return True if a process sleeps until something happens, or has ended.

    Parameters: `unless` stands in its command line while it is at work, even if it sleeps for a moment.
    """
    with suppress(OSError):
        state = _read(f"/proc/{pid}/stat").rpartition(b")")[2]
        return state.split(None, 1)[0] == b"S" and unless not in _command_line(pid)
    return True


def _command_line(pid: int) -> bytes:
    return _read(f"/proc/{pid}/cmdline")


def _read(path: str) -> bytes:
    """Return the first of what is in a short file, without a seam of the code that waits."""
    fd = _real_open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        return bytes(real_read(fd, 4096))
    finally:
        _real_close(fd)


def has_unsent(one: socket.socket) -> bool:
    """Return True if the system has not sent yet what was written to a socket: it gathers small packets."""
    with suppress(OSError, ValueError):
        if IS_LINUX:
            return fcntl.ioctl(one.fileno(), _UNSENT_LINUX, b"\0\0\0\0") != b"\0\0\0\0"
        if sys.platform == "darwin":
            return one.getsockopt(socket.SOL_SOCKET, _UNSENT_MACOS) > 0
    return False


def computed_s(thread: int) -> float:
    """Return for how many seconds a thread has computed. Of the whole process, if the system does not say more."""
    clock: Callable[[int], int] | None = getattr(time, "pthread_getcpuclockid", None)
    return float(_real_process_time() if clock is None else _real_clock_gettime(clock(thread)))


_real_process_time = Builtin(time.process_time).real
_real_clock_gettime = Builtin(time.clock_gettime).real


def take_signal(numbers: Any) -> Any:
    """Return one of some signals that has come, as `signal.sigtimedwait` does without waiting. None if none has."""
    if _real_sigtimedwait is not None:
        return _real_sigtimedwait(numbers, 0)
    come = signal.sigpending() & set(numbers)
    if not come:
        return None
    return _Taken(_real_sigwait(come))


class _Taken:
    """What is known of a signal that was taken where the system does not say more."""

    def __init__(self, number: int) -> None:
        self.si_signo = int(number)


_real_sigtimedwait = Builtin(signal.sigtimedwait).real if hasattr(signal, "sigtimedwait") else None
_real_sigwait = Builtin(_signal.sigwait).real


def back_with_zeros(address: int, size: int) -> None:
    """Put zeros in memory at an address, where nothing is."""
    if sys.platform not in ("linux", "darwin"):
        return
    libc = ctypes.CDLL(None, use_errno=True)
    libc.mmap.restype = ctypes.c_void_p
    libc.mmap.argtypes = [ctypes.c_void_p, ctypes.c_size_t, *[ctypes.c_int] * 3, ctypes.c_long]
    libc.mmap(address, size, _READ_WRITE, _MAP_LINUX if sys.platform == "linux" else _MAP_MACOS, -1, 0)


def put_in_place(fd: int, other: int) -> None:
    """Let a descriptor mean what another one means. Whatever watches it, such as an asyncio loop, watches the new."""
    blocks = os.get_blocking(fd)
    watching = list(_watching(fd))
    for stop, _ in watching:
        stop()
    os.dup2(other, fd, inheritable=False)
    os.set_blocking(fd, blocks)
    for _, begin in watching:
        begin()


def _watching(fd: int) -> Iterator[tuple[Callable[[], None], Callable[[], None]]]:
    """Yield what stops each watch of a descriptor, and what begins it again."""
    if not IS_LINUX:
        yield from _watching_selectors(fd)
        return
    found = []
    for number in open_descriptors():
        with suppress(OSError):  # the listing's own descriptor is closed already
            if "eventpoll" in os.readlink(_DESCRIPTORS / str(number)):
                found.append((number, Path(f"/proc/self/fdinfo/{number}").read_text()))
    for number, text in found:
        for watched, events in _WATCHED.findall(text):
            if int(watched) == fd:
                yield _of_epoll(select.epoll.fromfd(os.dup(number)), fd, int(events, 16) & 0x7FFF_FFFF)


def _of_epoll(epoll: Any, fd: int, events: int) -> tuple[Callable[[], None], Callable[[], None]]:
    def begin() -> None:
        epoll.register(fd, events)
        epoll.close()

    return lambda: epoll.unregister(fd), begin


def _watching_selectors(fd: int) -> Iterator[tuple[Callable[[], None], Callable[[], None]]]:
    """Do what `_watching` does where the system does not say who watches: the selectors of this process do."""
    for selector in [one for one in gc.get_objects() if isinstance(one, selectors.BaseSelector)]:
        keys = selector.get_map()
        key = None if keys is None else keys.get(fd)
        if key is not None:
            yield _of_selector(selector, key)


def _of_selector(selector: Any, key: Any) -> tuple[Callable[[], None], Callable[[], None]]:
    return lambda: selector.unregister(key.fileobj), lambda: selector.register(key.fileobj, key.events, key.data)
