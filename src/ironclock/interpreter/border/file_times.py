"""Times of files: what code of the rig has written bears the rig's time, for code of the rig that looks.

The file system writes real times, and they stay on the disk. `stat` in the rig answers the simulated instant of the
last write for files that were changed since the rig was entered. For a change that was not seen (by a library in C)
that is the instant at which `stat` saw it first.
"""

from __future__ import annotations

import _io
import os
from collections.abc import Callable
from typing import Any, cast

from ..patching.builtin_patching import Here
from ..patching.clock_functions import REAL
from ..patching.patches import Builtins, Methods, Patch
from ..patching.real_functions import real_fstat, real_stat
from . import file_seams

Key = tuple[int, int]

_SLACK_NS = 20_000_000  # file systems write the time of the last tick of the system's clock
_TIMES = ("atime", "mtime", "ctime")


class FileTimes:
    """When code of one rig has changed which file. Parameters: `wall_ns` returns the simulated time."""

    def __init__(self, wall_ns: Callable[[], int]) -> None:
        self._wall_ns = wall_ns
        self._entered_ns = REAL["time_ns"]() - _SLACK_NS
        self._written: dict[Key, int] = {}
        self._seen: dict[tuple[Key, int], int] = {}

    def wrote(self, status: os.stat_result) -> None:
        """Note that a file was changed now."""
        self._written[status.st_dev, status.st_ino] = self._wall_ns()

    def knows(self, status: os.stat_result) -> bool:
        """Return True if a change of the file was noted."""
        return (status.st_dev, status.st_ino) in self._written

    def of_rig(self, status: os.stat_result) -> os.stat_result:
        """Return a file's status with simulated times where code of the rig has changed it."""
        entered = self._entered_ns
        if status.st_mtime_ns < entered and status.st_ctime_ns < entered and status.st_atime_ns < entered:
            return status
        now = REAL["time_ns"]() + _SLACK_NS
        key = status.st_dev, status.st_ino
        kind, parts = cast("tuple[Any, tuple[Any, dict[str, Any]]]", status.__reduce__())
        plain, more = list(parts[0]), parts[1]
        for index, name in enumerate(_TIMES, 7):
            real: int = getattr(status, f"st_{name}_ns")
            if entered <= real <= now:
                ns = self._written.get(key) or self._seen.setdefault((key, real), self._wall_ns())
                plain[index] = ns // 1_000_000_000
                more[f"st_{name}"], more[f"st_{name}_ns"] = ns / 1e9, ns
        return kind(plain, more)  # type: ignore[no-any-return]


def file_time_patches(here: Here) -> list[Patch]:
    """Return the patches of what changes and tells the times of files."""

    def looks(real: Callable[..., Any]) -> Callable[..., Any]:
        def stat(*args: Any, **kwargs: Any) -> Any:
            status, world = real(*args, **kwargs), here()
            return status if world is None else world.border.file_times.of_rig(status)

        return stat

    def touches(real: Callable[..., Any]) -> Callable[..., Any]:
        def utime(path: Any, times: Any = None, **kwargs: Any) -> None:
            real(path, times, **kwargs)
            world = here()
            if world is not None and times is None and "ns" not in kwargs:
                world.border.file_times.wrote(real_stat(path, **{k: v for k, v in kwargs.items() if k != "ns"}))

        return utime

    def opens(real: Callable[..., Any]) -> Callable[..., Any]:
        def open_(path: Any, flags: int, *args: Any, **kwargs: Any) -> int:
            world = here()
            if world is None:
                return int(real(path, flags, *args, **kwargs))
            if not flags & (os.O_NONBLOCK | os.O_RDWR) and file_seams.is_pipe(path):
                return int(
                    world.border.helpers.call(
                        world.border.outside, "the opening of a named pipe", real, (path, flags, *args), kwargs
                    )
                )
            fd = file_seams.opened(world, path, flags, lambda: int(real(path, flags, *args, **kwargs)))
            if flags & (os.O_CREAT | os.O_TRUNC):
                world.border.file_times.wrote(real_fstat(fd))
            return fd

        return open_

    def makes(real: Callable[..., Any]) -> Callable[..., Any]:
        def mkdir(path: Any, mode: int = 0o777, *, dir_fd: int | None = None) -> None:
            real(path, mode, dir_fd=dir_fd)
            world = here()
            if world is not None:
                world.border.file_times.wrote(real_stat(path, dir_fd=dir_fd))

        return mkdir

    real_write, real_close, real_truncate = _io.FileIO.write, _io.FileIO.close, _io.FileIO.truncate

    def writes(one: Any, data: Any, /) -> Any:
        world = here()
        fd = one.fileno() if world is not None and not one.closed else -1
        if world is None or fd <= 2:
            return real_write(one, data)
        if file_seams.is_lost(fd):
            return len(memoryview(data).cast("B"))
        count = file_seams.written(world, fd, data, lambda part: real_write(one, part))
        world.border.file_times.wrote(real_fstat(fd))
        return count

    def truncates(one: Any, *args: Any) -> Any:
        world = here()
        if world is None:
            return real_truncate(one, *args)
        return file_seams.truncated(world, one, lambda: real_truncate(one, *args))

    def closes(one: Any) -> None:
        world = here()
        if world is not None and not one.closed and one.writable() and one.fileno() > 2:
            status = real_fstat(one.fileno())
            times = world.border.file_times
            if not times.knows(status):
                times.wrote(status)  # it was opened to be empty
        real_close(one)

    return [
        Builtins(
            os,
            {"stat": looks, "lstat": looks, "fstat": looks, "utime": touches, "open": opens, "mkdir": makes},
        ),
        Methods(_io.FileIO, {"write": lambda _: writes, "truncate": lambda _: truncates, "close": lambda _: closes}),
        Methods(os.DirEntry, {"stat": looks}),
    ]
