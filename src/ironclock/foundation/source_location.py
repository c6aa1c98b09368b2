"""Source locations: where in the user's code something happened. Frames of Iron Clock itself are left out."""

from __future__ import annotations

import os
import sys
from functools import cache
from os.path import basename, dirname
from types import CodeType, FrameType, TracebackType

frame_of_caller = sys._getframe
UNKNOWN_LINE = "an unknown line"
_STDLIB = dirname(os.__file__) + os.sep
_PACKAGES = _STDLIB + "site-packages"
_HOME = dirname(dirname(__file__)) + "/"  # the shipped examples are in another folder


def is_own(file: str) -> bool:
    """Return True for a file of Iron Clock itself."""
    return file.startswith(_HOME)


def users_frame(frame: FrameType | None) -> FrameType | None:
    """Return the nearest frame, from one outwards, that belongs neither to Iron Clock nor to the standard library."""
    while frame is not None:
        name = frame.f_code.co_filename
        if not is_own(name) and not (name.startswith(_STDLIB) and not name.startswith(_PACKAGES)) and name[0] != "<":
            return frame
        frame = frame.f_back
    return None


def users_call(frame: FrameType | None) -> tuple[FrameType | None, FrameType | None]:
    """Return the nearest frame of the user, and the frame of the library that it has called. None if it called none."""
    user, call = users_frame(frame), None
    while frame is not None and frame is not user:
        if not is_own(frame.f_code.co_filename):
            call = frame
        frame = frame.f_back
    return user, call


def called_by_library() -> bool:
    """Return True if the nearest caller outside Iron Clock is code of the standard library or an installed package."""
    frame: FrameType | None = frame_of_caller(1)
    while frame is not None and is_own(frame.f_code.co_filename):
        frame = frame.f_back
    return frame is not None and frame.f_code.co_filename.startswith((_STDLIB, *_installed()))


@cache
def _installed() -> tuple[str, ...]:
    """Return the folders of installed packages."""
    import sysconfig  # it takes long, and few rigs ask

    return tuple({sysconfig.get_path(name) + os.sep for name in ("purelib", "platlib")})


def users_part(trace: TracebackType | None) -> TracebackType | None:
    """Return a traceback from its first frame of the user on: what a job raises has first frames of Iron Clock."""
    part = trace
    while part is not None:
        name = part.tb_frame.f_code.co_filename
        if not is_own(name) and (not name.startswith(_STDLIB) or name.startswith(_PACKAGES)):
            return part
        part = part.tb_next
    return trace


def waiting_at(frame: FrameType | None = None) -> str:
    """Return ``file:line in function`` of the user's code that waits. Parameters: `frame`, default: the caller."""
    at = frame if frame is not None else frame_of_caller(1)
    return calling(users_frame(at) or at)


def in_application() -> str:
    """Return ``file:line in function`` of the nearest caller that is in no installed package, if there is one."""
    first = frame = users_frame(frame_of_caller(1))
    while frame is not None and frame.f_code.co_filename.startswith(_installed()):
        frame = users_frame(frame.f_back)
    return calling(frame or first)


def innermost(error: BaseException) -> tuple[CodeType | None, int]:
    """Return the code and instruction of the innermost user frame that an error came through. None if there is none."""
    trace = error.__traceback__
    if trace is None:
        return None, 0
    if trace.tb_next is None:  # raised in the job's function itself, as most are
        return trace.tb_frame.f_code, trace.tb_lasti
    found: TracebackType | None = None
    while trace is not None:
        if not trace.tb_frame.f_code.co_filename.startswith(_HOME):
            found = trace
        trace = trace.tb_next
    if found is None:  # placed by a fault, before the code of the user
        return None, 0
    return found.tb_frame.f_code, found.tb_lasti  # the line of an instruction is worked out only if somebody asks


def spot(code: CodeType, instruction: int) -> str:
    """Return the place of an instruction as ``folder/file:line``: many files have the same name."""
    line = next((n for begin, end, n in code.co_lines() if begin <= instruction < end), None)
    file = code.co_filename
    folder = basename(dirname(file))
    return f"{folder}{'/' * bool(folder)}{basename(file)}:{line or code.co_firstlineno}"


def calling(frame: FrameType | None = None) -> str:
    """Return ``file:line in function`` of the nearest frame of the user. Parameters: `frame`, default: the caller."""
    at = frame if frame is not None else frame_of_caller(1)
    while at is not None and at.f_code.co_filename.startswith(_HOME):
        at = at.f_back  # type: ignore[assignment]
    if at is None:
        return UNKNOWN_LINE
    return f"{at.f_code.co_filename}:{at.f_lineno} in {at.f_code.co_name}"


def is_installed(file: str) -> bool:
    """Return True for a file of the standard library or of an installed package."""
    return file.startswith((_STDLIB, *_installed()))
