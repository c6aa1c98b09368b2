"""Pipes and files: `os.read`, `os.write`, `read` of an unbuffered file, and file locks wait in simulated time."""

from __future__ import annotations

import _io
import errno
import fcntl
import os
import select
import stat
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Here
from ..patching.patches import Builtins, Make, Methods, Patch
from ..patching.real_functions import poll_for, real_fstat
from .file_seams import written
from .outside_waits import IDLE

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig


def _ready(fd: int, events: int) -> bool:
    """Return True if an operation on a descriptor does not block now."""
    return bool(poll_for(fd, events))


def file_patches(here: Here) -> list[Patch]:
    """Return the patches of what reads, writes and locks files. (Buffered files call unbuffered ones.)"""
    functions: dict[str, Make] = {
        "read": lambda real: _read(real, here),
        "write": lambda real: _write(real, here),
        "sendfile": lambda real: _sendfile(real, here),
        "eventfd_read": lambda real: _eventfd_read(real, here),
        "pipe": lambda real: _pipe(real, here),
        "pipe2": lambda real: _pipe(real, here),
    }
    locks: dict[str, Make] = {
        "flock": lambda real: _lock(real, here, "fcntl.flock"),
        "lockf": lambda real: _lock(real, here, "fcntl.lockf"),
    }
    reads = {name: _file_read(name, here) for name in ("read", "readinto", "readall")}
    return [Builtins(os, functions), Builtins(fcntl, locks), Methods(_io.FileIO, reads)]


def _file_read(name: str, here: Here) -> Make:
    return lambda real: _file_method(name, real, here)


def _file_method(name: str, real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    what = f"a file's {name}"

    def method(one: Any, *args: Any) -> Any:
        world = here()
        if world is None:
            return real(one, *args)
        try:
            fd = one.fileno()
        except ValueError:
            return real(one, *args)
        if name != "read" or (args and args[0] is not None and args[0] >= 0):
            if name == "readall" and not _ready(fd, select.POLLIN):
                return _read_all(one)
            _await_input(world, fd, what)
            return real(one, *args)
        return _read_all(one) if not _is_regular(fd) else real(one, *args)

    return method


def _is_regular(fd: int) -> bool:
    return stat.S_ISREG(real_fstat(fd).st_mode)


def _read_all(one: Any) -> bytes:
    parts = bytearray()
    while True:
        part = one.read(65_536)
        if not part:
            return bytes(parts)
        parts += part


def _await_input(world: EnteredRig, fd: int, what: str) -> None:
    if fd <= 0 or _ready(fd, select.POLLIN):  # standard input is the user's
        return
    if os.get_blocking(fd) and _is_open_for(fd, os.O_RDONLY):
        world.border.descriptors.wait(fd, select.POLLIN, None, what)


def _read(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def read(fd: int, length: int, /) -> bytes:
        world = here()
        if world is not None and isinstance(fd, int) and fd >= 0:
            _await_input(world, fd, "os.read")
            data = real(fd, length)
            world.border.descriptors.received(fd)
            return bytes(data)
        return bytes(real(fd, length))

    return read


def _eventfd_read(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def eventfd_read(fd: int) -> int:
        world = here()
        if world is not None and os.get_blocking(fd):
            _await_input(world, fd, "os.eventfd_read")
        return int(real(fd))

    return eventfd_read


def _write(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def write(fd: int, data: Any, /) -> int:
        world = here()
        if world is None or not isinstance(fd, int) or fd <= 2:
            return int(real(fd, data))
        if _is_regular(fd):
            count = written(world, fd, data, lambda part: int(real(fd, part)))
            world.border.file_times.wrote(real_fstat(fd))
            return count
        done = 0
        with memoryview(data) as whole, whole.cast("B") as view:
            fits = len(view) <= select.PIPE_BUF and _ready(fd, select.POLLOUT)
            if fits or not os.get_blocking(fd) or not _is_open_for(fd, os.O_WRONLY):
                return int(real(fd, data))
            while done < len(view):
                with view[done:] as part:
                    done += _without_blocking(world, fd, "os.write", lambda part=part: real(fd, part))  # type: ignore[misc]
        return done

    return write


def _is_open_for(fd: int, mode: int) -> bool:
    return fcntl.fcntl(fd, fcntl.F_GETFL) & os.O_ACCMODE in (mode, os.O_RDWR)


def _without_blocking(world: EnteredRig, fd: int, what: str, operate: Callable[[], int]) -> int:
    """Do an operation that writes to a descriptor, as soon as it does not block the thread."""
    while True:
        world.border.descriptors.wait(fd, select.POLLOUT, None, what, False)
        os.set_blocking(fd, False)
        try:
            return operate()
        except BlockingIOError:
            continue
        finally:
            os.set_blocking(fd, True)


def _sendfile(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def sendfile(out_fd: int, in_fd: int, offset: Any, count: int, *rest: Any, **kwargs: Any) -> int:
        world = here()
        if world is None or not isinstance(out_fd, int) or out_fd < 0 or not os.get_blocking(out_fd):
            return int(real(out_fd, in_fd, offset, count, *rest, **kwargs))
        return _without_blocking(
            world, out_fd, "os.sendfile", lambda: int(real(out_fd, in_fd, offset, count, *rest, **kwargs))
        )

    return sendfile


def _pipe(real: Callable[..., Any], here: Here) -> Callable[..., Any]:
    def pipe(*flags: int) -> Any:
        both = real(*flags)
        world = here()
        if world is not None:
            world.border.descriptors.piped(*both)
        return both

    return pipe


def _lock(real: Callable[..., Any], here: Here, what: str) -> Callable[..., Any]:
    def lock(file: Any, operation: int, *rest: Any) -> Any:
        world = here()
        if world is None:
            return real(file, operation, *rest)
        uses = world.border.database_uses
        fd = file if isinstance(file, int) else file.fileno()
        if operation & (fcntl.LOCK_NB | fcntl.LOCK_UN):
            result = real(file, operation, *rest)
            if operation & fcntl.LOCK_UN:
                uses.unlocked(fd)
            else:
                uses.locked(fd, lambda fd: real(fd, fcntl.LOCK_UN))
            return result

        def take() -> bool:
            try:
                real(file, operation | fcntl.LOCK_NB, *rest)
            except OSError as error:
                if error.errno in (errno.EWOULDBLOCK, errno.EACCES):
                    return False
                raise
            return True

        world.border.outside.wait_for(what, IDLE, take)
        uses.locked(fd, lambda fd: real(fd, fcntl.LOCK_UN))
        return None

    return lock
