"""Seams in file operations: open, write, truncate, rename, fsync, remove. A crash in a write leaves half of it."""

from __future__ import annotations

import _io
import os
import re
import stat
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..patching.builtin_patching import Here
from ..patching.patches import Builtins, Make, Patch
from ..patching.real_functions import real_fstat, real_stat
from ..tasks.end_without_handlers import ending
from .call_seams import CallSeams, always, file_name, io_error, seams_of

if TYPE_CHECKING:
    from ..entered_rig import EnteredRig

_TEMPORARY = re.compile(r"[a-z0-9_]{8}(?=\.|$)")  # the random part of a name that the module tempfile has made
_WRITES = frozenset("wax+")


def written(world: EnteredRig, fd: int, data: Any, write: Callable[[Any], int]) -> int:
    """Write to a file, with the seams before, in the middle of and after it, if it has any; return how much."""
    seams = seams_of(world, "files")
    name = None if seams is None else seams.name_of(fd)
    if seams is None or name is None:
        return write(data)
    seams.before(f"file write {name}", io_error)
    with memoryview(data) as whole, whole.cast("B") as view:
        half = len(view) // 2
        count = 0
        if half:
            with view[:half] as part:
                count = write(part)
            seams.halfway(name)
        if count == half:
            with view[half:] as part:
                count += write(part)
    seams.after(f"file write {name}", io_error)
    return count


def is_lost(fd: int) -> bool:
    """Return True if a write to a descriptor is lost: its process has died, and its buffers with it."""
    return ending() and stat.S_ISREG(real_fstat(fd).st_mode)


def opened(world: EnteredRig, path: Any, flags: int, open_it: Callable[[], int]) -> int:
    """Open a file by `os.open`, with its seams, if it has any."""
    seams = seams_of(world, "files")
    if seams is None or not flags & (os.O_WRONLY | os.O_RDWR) or not _is_named(path):
        return open_it()
    name = file_name(path)
    if flags & os.O_EXCL and "tempfile" in sys.modules:
        name = _TEMPORARY.sub("*", name, count=1)
    seams.before(f"file open {name}", io_error)
    fd = open_it()
    seams.opened(fd, name)
    try:
        seams.after(f"file open {name}", io_error)
    except Exception:
        os.close(fd)  # nobody will know of it
        raise
    return fd


def is_pipe(path: Any) -> bool:
    """Return True for the path of a named pipe: to open one waits for who opens its other end."""
    if not isinstance(path, (str, bytes, os.PathLike)):
        return False
    try:
        return stat.S_ISFIFO(real_stat(path).st_mode)
    except (OSError, ValueError):
        return False


def _is_named(path: Any) -> bool:
    """Return True for the path of a file of the application: not a number, and not what an import writes."""
    return isinstance(path, (str, bytes, os.PathLike)) and "__pycache__" not in os.fsdecode(path)


def file_seam_patches(here: Here) -> list[Patch]:
    """Return the patches of the functions that change files, for their seams."""

    def opens(real: Callable[..., Any]) -> Callable[..., Any]:
        def open_(file: Any, mode: str = "r", *args: Any, **kwargs: Any) -> Any:
            world = here()
            if world is not None and is_pipe(file):
                return world.border.helpers.call(
                    world.border.outside, "the opening of a named pipe", real, (file, mode, *args), kwargs
                )
            seams = seams_of(world, "files")
            writes = isinstance(mode, str) and not _WRITES.isdisjoint(mode)
            if seams is None or not writes or not _is_named(file) or kwargs.get("opener") is not None:
                return real(file, mode, *args, **kwargs)
            name = file_name(file)
            seams.before(f"file open {name}", io_error)
            made = real(file, mode, *args, **kwargs)
            seams.opened(made.fileno(), name)
            try:
                seams.after(f"file open {name}", io_error, changed="w" in mode)
            except Exception:
                made.close()  # nobody will know of it
                raise
            return made

        return open_

    def by_path(what: str, number: int) -> Callable[[Any], Any]:
        """Return a function that makes a function with seams. Its argument of that number names the file."""

        def make(real: Callable[..., Any]) -> Callable[..., Any]:
            def call(*args: Any, **kwargs: Any) -> Any:
                world = here()
                seams = seams_of(world, "files")
                given = args[number] if len(args) > number else kwargs.get("dst" if number else "path")
                if seams is None or not _is_named(given):
                    return real(*args, **kwargs)
                return seams.around(f"file {what} {file_name(given)}", lambda: real(*args, **kwargs), io_error, always)

            return call

        return make

    def by_descriptor(what: str) -> Callable[[Any], Any]:
        def make(real: Callable[..., Any]) -> Callable[..., Any]:
            def call(fd: Any, *args: Any) -> Any:
                world = here()
                seams = seams_of(world, "files")
                return _with_seams(seams, what, fd, lambda: real(fd, *args))

            return call

        return make

    functions: dict[str, Make] = {
        "rename": by_path("rename", 1), "replace": by_path("rename", 1), "link": by_path("link", 1),
        "remove": by_path("remove", 0), "unlink": by_path("remove", 0), "truncate": by_path("truncate", 0),
        "ftruncate": by_descriptor("truncate"), "fsync": by_descriptor("fsync"), "fdatasync": by_descriptor("fsync"),
    }  # fmt: skip
    return [Builtins(_io, {"open": opens}), Builtins(os, functions)]


def _with_seams(seams: CallSeams | None, what: str, file: Any, call: Callable[[], Any]) -> Any:
    fd = file if isinstance(file, int) or seams is None else file.fileno()
    name = None if seams is None else seams.name_of(fd)
    if seams is None or name is None:
        return call()
    return seams.around(f"file {what} {name}", call, io_error, always)


def truncated(world: EnteredRig, file: Any, call: Callable[[], Any]) -> Any:
    """Truncate an open file, with its seams, if it has any."""
    return _with_seams(seams_of(world, "files"), "truncate", file, call)
