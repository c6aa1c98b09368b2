"""Thread-local values: every `threading.local` of this thread is given another set of values.

A simulated thread has its own set. Until Python 3.12 the values are in a dict of the thread's state. From 3.13 on each
`threading.local` has a dict for each thread, under a key to which the thread's state points.
"""

from __future__ import annotations

import ctypes
import gc
import sys
from typing import Any

from ...errors import RigStateError
from ..patching.clock_functions import by_thread

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
    """Return an empty set of values."""
    return None if _BY_KEY else {}


def exchange(values: Any) -> Any:
    """Put a set of values in place; return the set that was there."""
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
    """Free a set of values that nothing will put in place again."""
    if _BY_KEY and values:
        _decref(ctypes.c_void_p(values))


def _find() -> int:
    """Return the offset in the thread's state at which it points to its key."""
    by_thread.__dict__  # which makes the key  # noqa: B018
    keys = {id(key) for part in gc.get_referents(by_thread) if isinstance(part, dict) for key in part}
    state = _state() or 0
    for offset in range(0, _STATE_WORDS * 8, 8):
        if ctypes.c_void_p.from_address(state + offset).value in keys:
            _offset.append(offset)
            return offset
    raise RigStateError(
        "this Python build is not supported: key of thread-local values not found in the thread state; use CPython "
        "3.11, 3.12 or 3.13"
    )
