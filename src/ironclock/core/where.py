"""Where in the user's code something happened: the nearest frame that is not Iron Clock's own."""

from __future__ import annotations

import sys
from os.path import basename, dirname
from types import CodeType, FrameType

_HOME = dirname(dirname(__file__)) + "/"  # the examples that ship with the library stand outside it


def is_own(file: str) -> bool:
    """Whether a file is Iron Clock's own."""
    return file.startswith(_HOME)


def innermost(error: BaseException) -> tuple[CodeType | None, int]:
    """Return the code and instruction of the innermost user frame that an error came through."""
    trace = error.__traceback__
    if trace is None:
        return None, 0
    found = trace
    while trace is not None:
        if not trace.tb_frame.f_code.co_filename.startswith(_HOME):
            found = trace
        trace = trace.tb_next
    return found.tb_frame.f_code, found.tb_lasti  # finding the line of an instruction is left to who asks


def spot(code: CodeType, instruction: int) -> str:
    """Return the place of an instruction as ``file:line``."""
    line = next((n for begin, end, n in code.co_lines() if begin <= instruction < end), None)
    return f"{basename(code.co_filename)}:{line or code.co_firstlineno}"


def calling(frame: FrameType | None = None) -> str:
    """Return ``file:line in function`` of the nearest user frame, from `frame` (else the caller) outwards."""
    at = frame if frame is not None else sys._getframe(1)
    while at is not None and at.f_code.co_filename.startswith(_HOME):
        at = at.f_back  # type: ignore[assignment]
    if at is None:
        return "an unknown line"
    return f"{at.f_code.co_filename}:{at.f_lineno} in {at.f_code.co_name}"
