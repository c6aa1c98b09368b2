"""Is this an interpreter whose inside is known? Asked before anything of it is touched.

The rig replaces built-ins in place, and so reads and writes fields of C structures. In an interpreter with other
structures that could crash the process. So everything that is relied on is looked at first.
"""

from __future__ import annotations

import ctypes
import sys
import time
from collections.abc import Callable

from ...errors import RigStateError

KNOWN = ((3, 11), (3, 12), (3, 13))
_ADVICE = "; use a standard build of CPython 3.11, 3.12 or 3.13"

_WORD = ctypes.sizeof(ctypes.c_void_p)
_METHOD_AT, _SELF_AT, _VECTORCALL_AT = 2 * _WORD, 3 * _WORD, 6 * _WORD  # PyCFunctionObject
_checked: list[bool] = []


def check() -> None:
    """Raise `RigStateError`, which says what is unknown, unless this interpreter is known. The first call looks."""
    if _checked:
        return
    found = unknown_build(sys.implementation.name, sys.version_info[:2], "t" in sys.abiflags)
    found = found or unknown_layout(time.sleep)
    if found:
        raise RigStateError(f"this Python is not supported: {found}{_ADVICE}")
    _checked.append(True)


def unknown_build(implementation: str, version: tuple[int, int], free_threaded: bool) -> str:
    """Return in words what is unknown of a build of Python. Empty if it is known."""
    if implementation != "cpython":
        return f"its implementation is {implementation!r}, not CPython"
    if version not in KNOWN:
        return f"its version is {version[0]}.{version[1]}"
    if free_threaded:
        return "it is a free-threaded build, in which several threads run Python code at once"
    return ""


def unknown_layout(function: Callable[..., object], word: Callable[[int], int | None] | None = None) -> str:
    """Return in words what is unknown of the structure of a built-in function. Empty if it is known.

    Parameters: `word` returns the machine word at an address; default: the memory's.
    """
    read = word or (lambda address: ctypes.c_void_p.from_address(address).value)
    at = id(function)
    if function.__sizeof__() < _VECTORCALL_AT + _WORD:
        return f"a built-in function has {function.__sizeof__()} bytes"
    if read(at + _WORD) != id(type(function)):
        return "an object does not begin with its count of references and its type"
    if read(at + _SELF_AT) != id(function.__self__):  # type: ignore[attr-defined]
        return "the module of a built-in function is not where it was expected"
    definition = read(at + _METHOD_AT)
    if not definition:
        return "the definition of a built-in function is not where it was expected"
    name = read(definition)
    if not name or ctypes.string_at(name, len(function.__name__)) != function.__name__.encode():
        return "the name of a built-in function is not where it was expected"
    return ""
