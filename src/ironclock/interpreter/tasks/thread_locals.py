"""Thread-local values: each worker and each simulated thread has its own, as real threads have.

Until Python 3.12 the values of a thread are in a dict to which its state points. From 3.13 on each `threading.local`
has a dict for each thread, under a key to which the state points. Either way pointers are exchanged, and only when
the code of another worker or thread runs than before.
"""

from __future__ import annotations

import ctypes
import gc
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from ...errors import RigStateError
from ..patching.clock_functions import STREAMS, by_thread
from ..patching.system import back_with_zeros

if TYPE_CHECKING:
    from ...simulation.event_loop import EventLoop
    from ...simulation.task import Task

FIRST_IDENT = 1 << 44
IDENTS = 1 << 25
"""How many thread identifiers of simulated threads there can be."""
_FIRST_WORKER = FIRST_IDENT + IDENTS // 2
_STATE_WORDS = 200

_state = ctypes.pythonapi.PyThreadState_Get
_state.restype = ctypes.c_void_p
_state.argtypes = []
_decref = ctypes.pythonapi.Py_DecRef
_decref.restype = None
_decref.argtypes = [ctypes.c_void_p]
_offset: list[int] = []
_COUNT = 2 if sys.version_info >= (3, 13) else 1  # from 3.13 on a key, and beside it what frees the values at its end
_Pointers = ctypes.c_void_p * _COUNT
_EMPTY: list[int | None] = [None] * _COUNT
_worker_threads: dict[tuple[int, str], threading.Thread] = {}  # what `threading.current_thread` returns in a worker


def _back_identifiers() -> None:
    """Put zeros in memory behind all thread identifiers of simulated threads.

    To the system's thread library an identifier is an address. Code that gives one to it (to name the thread, say) gets
    an error then, since no thread has the number 0, where it would crash the process.
    """
    global _backed
    _backed = True
    back_with_zeros(FIRST_IDENT, IDENTS + (1 << 16))


_backed = False


def _slot() -> Any:
    """Return the pointers in the state of the calling real thread that lead to its values."""
    return _Pointers.from_address((_state() or 0) + (_offset[0] if _offset else _find()))


def state_of_this_thread() -> int:
    """Return the address of the state of the calling real thread."""
    return _state() or 0


def _free(pointers: list[int | None]) -> None:
    for pointer in pointers:
        if pointer:
            _decref(pointer)


def _find() -> int:
    """Return the offset in the thread's state at which it points to its dict, or to its key."""
    by_thread.__dict__  # which makes both  # noqa: B018
    if sys.version_info >= (3, 13):
        known = {id(key) for part in gc.get_referents(by_thread) if isinstance(part, dict) for key in part}
    else:
        state_dict = ctypes.pythonapi.PyThreadState_GetDict
        state_dict.restype, state_dict.argtypes = ctypes.c_void_p, []
        known = {state_dict()}
    state = _state() or 0
    for offset in range(0, _STATE_WORDS * 8, 8):
        if ctypes.c_void_p.from_address(state + offset).value in known:
            _offset.append(offset)
            return offset
    raise RigStateError(
        "this Python build is not supported: thread-local values not found in the thread state; use CPython 3.11, 3.12 "
        "or 3.13"
    )


class ThreadStates:
    """The thread-local values of one rig: those of the test, of each worker, and of each simulated thread.

    A set of values is kept as the pointers to it, with the references that the thread's state had.
    """

    def __init__(self, loop: EventLoop) -> None:
        self._loop = loop
        self._kept: dict[Any, list[int | None]] = {}
        self._in_place: Any = None  # whose values are in place; None: the test's
        self._slot: Any = None  # None: the rig is not entered, and everything uses the values of the test
        self._idents: dict[Any, int] = {}
        self._borrowed: dict[Any, Any] = {}  # by key, the pointers in the state of another real thread
        self.before_drop: Callable[[], None] | None = None
        """Called before the values that are in place are freed: the running task has ended, or is about to."""

    def borrow(self, key: Any, state: int) -> None:
        """Give a task the values of another real thread, which waits for it and so does not use them.

        Parameters: `key` is the task's. `state` is the address of the thread's state.
        """
        theirs = _Pointers.from_address(state + (_offset[0] if _offset else _find()))
        self._kept[key] = theirs[:]
        self._borrowed[key] = theirs

    def give_back(self, key: Any) -> None:
        """Give borrowed values back."""
        if self._in_place is key:
            self.enter(None)
        self._borrowed.pop(key)[:] = self._kept.pop(key)

    def enter_rig(self) -> None:
        """Begin to exchange values, in the calling real thread."""
        self._slot = _slot()
        for worker in self._idents:
            self._name(worker)

    def enter(self, task: Task | None) -> None:
        """Put the values of a task's thread in place. None: the test's."""
        key = None if task is None else task.thread_key
        if key is self._in_place or self._slot is None:
            return
        slot, kept = self._slot, self._kept
        kept[self._in_place] = slot[:]
        self._in_place = self._loop.thread_in_place = key
        if key in kept:
            slot[:] = kept[key]
            return
        slot[:] = _EMPTY
        if not _backed:
            _back_identifiers()
        by_thread.__dict__.update(dict.fromkeys(STREAMS, ()))
        if isinstance(key, str):
            self.ident_of_worker(key)
            self._name(key)

    @contextmanager
    def of(self, task: Task) -> Iterator[None]:
        """Put the values of a task's thread in place in the block, also if the rig is left already."""
        is_left = self._slot is None
        if is_left:
            self.enter_rig()
        try:
            self.enter(task)
            yield
        finally:
            self.enter(None)
            if is_left:
                self.leave()

    def drop(self, key: Any) -> None:
        """Free the values of a worker or thread that has ended."""
        if self._in_place == key:
            if self.before_drop is not None:
                self.before_drop()
            self.enter(None)
        _free(self._kept.pop(key, _EMPTY))

    def drop_all(self) -> None:
        """Free the values of every worker and thread: they will not run again."""
        for key in [key for key in self._kept if key is not self._in_place and key not in self._borrowed]:
            if key is not None:
                _free(self._kept.pop(key))

    def __del__(self) -> None:
        # `vars` would make a dict that holds the whole rig, so that the collector could not free it this time.
        if getattr(self, "_kept", None):  # the rig was not taken apart
            self.drop_all()

    def ident_of_worker(self, worker: str) -> int:
        """Return the thread identifier of a worker."""
        found = self._idents.get(worker)
        if found is None:
            found = self._idents[worker] = _FIRST_WORKER + len(self._idents)
        return found

    def _name(self, worker: str) -> None:
        """Let `threading.current_thread` know the thread of a worker."""
        ident = self.ident_of_worker(worker)
        known = _worker_threads.get((ident, worker))
        if known is None:
            known = _worker_threads[ident, worker] = _WorkerThread(worker)
            info = getattr(threading, "_thread_local_info", None)
            if info is not None:  # from 3.13 on it would end with the values that are in place now
                info.__dict__.clear()
        threading._active[ident] = known  # type: ignore[attr-defined]

    def leave(self) -> None:
        """Put the test's values in place, and let `threading` forget the workers."""
        self.enter(None)
        self._slot = None
        for ident in self._idents.values():
            threading._active.pop(ident, None)  # type: ignore[attr-defined]


class _WorkerThread(threading._DummyThread):
    """The thread object of a worker. Made while the worker's values are in place."""

    def __init__(self, worker: str) -> None:
        super().__init__()
        self._name = worker
