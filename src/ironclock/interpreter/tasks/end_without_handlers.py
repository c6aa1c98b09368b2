"""Ending suspended code as a killed process ends: no `except`, `finally` or `with` of it runs.

A greenlet can only be ended by an exception thrown into it, and a generator closes itself with one when it is freed.
For that moment their code objects get an empty table of exception handlers, so that nothing catches the exception. What
they held is freed: a database connection is closed, as it is when its process has died.
"""

from __future__ import annotations

import contextlib
import ctypes
import gc
import inspect
import sys
import warnings
from collections.abc import Iterable, Iterator
from itertools import compress
from types import AsyncGeneratorType, CodeType, CoroutineType, FrameType, FunctionType, GeneratorType, ModuleType
from typing import Any

import greenlet

from ...errors import RigStateError

_NOTHING = b""
_SUSPENDED = frozenset((GeneratorType, CoroutineType, AsyncGeneratorType))
_FRAMES = {GeneratorType: "gi_frame", CoroutineType: "cr_frame", AsyncGeneratorType: "ag_frame"}


def _sample() -> None:
    try:
        _sample()
    finally:
        _sample()


def _find_slot() -> int:
    """Return where in a code object the pointer to its table of handlers is."""
    code = _sample.__code__
    wanted = id(code.co_exceptiontable)
    for offset in range(0, code.__sizeof__(), ctypes.sizeof(ctypes.c_void_p)):
        if ctypes.c_void_p.from_address(id(code) + offset).value == wanted:
            return offset
    raise RigStateError(
        "this Python build is not supported: exception table not found in code objects; crashes need it, use CPython "
        "3.11, 3.12 or 3.13"
    )


_slot: list[int] = []


class Ended(greenlet.GreenletExit, SystemExit):  # type: ignore[misc]
    """What ends a greenlet.

    It is an exit of the interpreter since asyncio's tasks, which are written in C, let that pass. They would take
    anything else for the result of a coroutine, and the loop would go on in the dead greenlet.
    """


def end_without_handlers(suspended: greenlet.greenlet) -> None:
    """End a suspended greenlet, and every generator and coroutine that it leaves, without their handlers."""
    if suspended.dead:
        return
    # What leaves it is of no interest. Code in C between its frames can make another error of the exit.
    hook, sys.unraisablehook = sys.unraisablehook, _not_told
    _ending.append(1)
    try:
        with _without_handlers(_codes_that_end(suspended.gr_frame)), warnings.catch_warnings():
            warnings.simplefilter("ignore", ResourceWarning)  # a process that dies closes what it has open
            suspended.parent = greenlet.getcurrent()
            suspended.throw(Ended)
    except BaseException:
        if not suspended.dead:
            raise
    finally:
        _ending.pop()
        sys.unraisablehook = hook


_ending: list[int] = []  # not empty while a greenlet is ended


def ending() -> bool:
    """Return True while a greenlet is ended: code in C between its frames may call back, and must not wait."""
    return bool(_ending)


def _not_told(unraisable: Any) -> None:
    # A process that dies closes its files and connections, and nobody complains.
    if not isinstance(unraisable.exc_value, (Ended, ResourceWarning)):
        sys.__unraisablehook__(unraisable)


def end_coroutines(suspended: Iterable[Any]) -> None:
    """End suspended coroutines, with all that they wait for, without their handlers."""
    codes: dict[CodeType, None] = {}
    chains = [list(_chain(thing)) for thing in suspended]
    for chain in chains:
        codes.update(dict.fromkeys(code for thing in chain for code in _codes(getattr(thing, _FRAMES[type(thing)]))))
    with _without_handlers(codes):
        for chain in chains:
            for thing in chain:  # from the outside: to close one closes what it waits for
                if isinstance(thing, (CoroutineType, GeneratorType)):
                    with contextlib.suppress(BaseException):
                        thing.close()


def _chain(thing: Any) -> Iterable[Any]:
    """Yield a coroutine, and everything that it waits for and that has a frame."""
    while type(thing) in _SUSPENDED:
        yield thing
        thing = getattr(thing, "cr_await", None) or getattr(thing, "gi_yieldfrom", None)


@contextlib.contextmanager
def _without_handlers(codes: Iterable[CodeType]) -> Iterator[None]:
    """Remove the handlers of some code objects inside the block."""
    if not _slot:
        _slot.append(_find_slot())
    slots = [(ctypes.c_void_p.from_address(id(code) + _slot[0]), code) for code in codes if code.co_exceptiontable]
    saved = [slot.value for slot, _ in slots]
    try:
        for slot, _ in slots:
            slot.value = id(_NOTHING)
        yield
    finally:
        for (slot, _), value in zip(slots, saved, strict=True):
            slot.value = value


def _codes_that_end(frame: FrameType | None) -> dict[CodeType, None]:
    """Return the code of every frame that is about to end. (So no variable of the caller holds one.)"""
    codes = dict.fromkeys(_codes(frame))
    if generator_codes.active:
        generator_codes.look()
        codes.update(generator_codes.known)
        return codes
    # Generators outside the chain, such as a context manager's, are found among young objects and from the frames.
    for thing in _left_behind(frame):
        suspended = getattr(thing, _FRAMES[type(thing)])
        if suspended is not None and not getattr(thing, "gi_running", False):
            codes[suspended.f_code] = None
    return codes


def _codes(frame: FrameType | None) -> Iterable[CodeType]:
    while frame is not None:
        yield frame.f_code
        frame = frame.f_back


class GeneratorCodes:
    """The code of every generator and coroutine that has been seen suspended, while workers are going to die.

    A `with` or a `for` holds its generator where nothing leads to it. So each is seen while it is young: before each
    collection, and when a greenlet is ended. That costs the same however many objects there are.
    """

    def __init__(self) -> None:
        self.known: dict[CodeType, None] = {}
        self._users = 0

    @property
    def active(self) -> bool:
        """True while somebody uses it."""
        return self._users > 0

    def begin(self) -> None:
        """Begin to look. `end` ends it."""
        self._users += 1
        if self._users == 1:
            gc.callbacks.append(self._collection)

    def end(self) -> None:
        """Stop looking when the last user has ended."""
        self._users -= 1
        if self._users == 0:
            gc.callbacks.remove(self._collection)
            self.known.clear()

    def look(self) -> None:
        """Note the codes of the young generators and coroutines."""
        for thing in _suspended(gc.get_objects(0)):
            code = getattr(thing, _CODE_NAMES[type(thing)])
            if code.co_exceptiontable and code is not _own_code:
                self.known[code] = None

    def _collection(self, phase: str, info: dict[str, int]) -> None:
        if phase == "start":
            self.look()


generator_codes = GeneratorCodes()
_CODE_NAMES = {GeneratorType: "gi_code", CoroutineType: "cr_code", AsyncGeneratorType: "ag_code"}
_own_code = inspect.unwrap(_without_handlers).__code__  # it runs while the others are without handlers


_NOT_INTO = (ModuleType, FunctionType, type, CodeType)


def _not_searched(thing: Any) -> bool:
    """Return True if nothing is searched behind an object.

    A module in C can refer to objects that are dead already (asyncio's keeps a list of spare iterators). Functions and
    types lead to modules. Iron Clock's own objects lead to the whole rig, which takes long and holds nothing.
    """
    return isinstance(thing, _NOT_INTO) or type(thing).__module__.startswith("ironclock.")


def _suspended(things: list[Any]) -> Iterator[Any]:
    """Return the generators and coroutines among many objects, without a step of Python for each object."""
    return compress(things, map(_SUSPENDED.__contains__, map(type, things)))


def _left_behind(frame: FrameType | None) -> list[Any]:
    found = {id(thing): thing for young in (0, 1) for thing in _suspended(gc.get_objects(young))}
    reach: list[Any] = []
    while frame is not None:
        reach.extend(frame.f_locals.values())
        frame = frame.f_back
    for _ in range(3):
        reach = [thing for thing in reach if not _not_searched(thing)]
        reach = [thing for thing in gc.get_referents(*reach) if gc.is_tracked(thing)] if len(reach) < 10_000 else []
        found.update((id(thing), thing) for thing in _suspended(reach))
    return list(found.values())
