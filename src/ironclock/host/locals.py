"""The values of every `threading.local` in this thread, exchanged for another set: a simulated thread has its own.

Until Python 3.12 they stand in a dict of the thread's state. From 3.13 on each `threading.local` keeps its own
dict for each thread, under a key that the thread's state points to.
"""

from __future__ import annotations

import ctypes
import gc
import sys
from typing import Any

from .readers import by_thread

_BY_KEY = sys.version_info >= (3, 13)
_STATE_WORDS = 200

_state_dict = ctypes.pythonapi.PyThreadState_GetDict
_state_dict.restype = ctypes.c_void_p
_state_dict.argtypes = []
_state = ctypes.pythonapi.PyThreadState_Get
_state.restype = ctypes.c_void_p
_state.argtypes = []
_decref = ctypes.pythonapi.Py_DecRef
_decref.restype = None
_decref.argtypes = [ctypes.c_void_p]
_offset: list[int] = []


def fresh() -> Any:
    """Return a set with no values."""
    return None if _BY_KEY else {}


def exchange(values: Any) -> Any:
    """Put a set of values in place; return the one that was there."""
    if _BY_KEY:
        slot = ctypes.c_void_p.from_address((_state() or 0) + (_offset[0] if _offset else _find()))
        before = slot.value
        slot.value = values  # each key has one owner: the thread's state, or whoever holds the set
        return before
    places: dict[Any, Any] = ctypes.cast(_state_dict(), ctypes.py_object).value
    kept = dict(places)
    places.clear()
    places.update(values)
    return kept


def drop(values: Any) -> None:
    """Let go of a set of values that nothing will put in place again."""
    if _BY_KEY and values:
        _decref(ctypes.c_void_p(values))


def _find() -> int:
    """Return where the thread's state points to its key."""
    by_thread.__dict__  # which makes the key  # noqa: B018
    keys = {id(key) for part in gc.get_referents(by_thread) if isinstance(part, dict) for key in part}
    state = _state() or 0
    for offset in range(0, _STATE_WORDS * 8, 8):
        if ctypes.c_void_p.from_address(state + offset).value in keys:
            _offset.append(offset)
            return offset
    raise RuntimeError("this Python keeps thread-local values where Iron Clock does not know")
