"""Determinism: a story must be the same each time. Two runs are compared, and the cause of a difference is searched."""

from __future__ import annotations

import os
import random
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from ..errors import NotDeterministic
from ..foundation.source_location import frame_of_caller, users_frame
from ..history.history import History
from ..history.narrative import describe
from ..interpreter.patching.builtin_patching import Builtin
from ..interpreter.patching.clock_functions import ClockFunctions
from .plan import Plan
from .runs import SearchedStory


def check_deterministic(story: SearchedStory, in_new_process: Callable[[SearchedStory, History], bool]) -> History:
    """Run a story twice without faults, and return its history. Raises `NotDeterministic` if the two runs differ.

    Parameters: `in_new_process` returns True if a history is the same as that of a first run in a new process.
    """
    first, second = plain_history(story), plain_history(story)
    difference = first_difference(first, second)
    if difference:
        third = plain_history(story)
        raise NotDeterministic(
            refusal(difference, _cause(story, first, not first_difference(second, third), in_new_process))
        )
    return first


def refusal(difference: str, cause: str) -> str:
    """Return the message that says why no search is made."""
    return (
        "the story differs between two runs in which nothing goes wrong; make it the same each time, or no search over "
        f"it means anything.\n  the first difference: {difference}\n  the likely cause: {cause}"
    )


def plain_history(story: SearchedStory) -> History:
    """Run a story without faults, and return its history."""
    with story.playing(Plan(), keeps_history=True) as played:
        if played.ended is not None:
            played.rig.note(f"the story raised {type(played.ended).__name__}")
        return played.rig.history


def first_difference(first: History, second: History) -> str:
    """Return in words the first entry in which two histories differ. Empty if they are the same."""
    ones, others = list(first.lines()), list(second.lines())
    for number, (one, other) in enumerate(zip(ones, others, strict=False)):
        if one != other:
            this, that = told_entry(first, number), told_entry(second, number)
            return f"entry {number + 1} is {this!r} in one run and {that!r} in the other"
    if len(ones) == len(others):
        return ""
    longer, at = (first, len(others)) if len(ones) > len(others) else (second, len(ones))
    return f"one run has an entry {at + 1}, {told_entry(longer, at)!r}, where the other has ended"


def told_entry(history: History, number: int) -> str:
    """Return an entry in words, with what can differ between two runs."""
    entry = history[number]
    who = f"{entry.job} " if entry.job else ""
    extra = {name: value for name, value in entry.data.items() if name in ("args", "key", "due")}
    return f"{history.timeline.text(entry.ns)} {who}{describe(entry, history.timeline)}{f' {extra}' if extra else ''}"


def _cause(
    story: SearchedStory, first: History, settled: bool, in_new_process: Callable[[SearchedStory, History], bool]
) -> str:
    """Return the likely cause of a difference: the first real source of chance that another run reads."""
    read: list[str] = []
    with _watched(read):
        state = random.getstate()
        plain_history(story)
        if random.getstate() != state:
            read.append("the generator of the module `random`, which nobody seeds for each run; seed it in the story")
    if read:
        return read[0]
    if settled or in_new_process(story, first):
        return (
            "something that the first run left behind for the later ones: a global of a module, a class attribute, a "
            "cache, a file; make it new in the story"
        )
    return (
        "chance that cannot be seen here: the order of a set of objects (it follows their addresses), a generator of "
        "a C library, or a real thread"
    )


_opened: list[str] | None = None
_hooked = False


def _audit(event: str, arguments: tuple[Any, ...]) -> None:
    if _opened is not None and event == "open" and isinstance(arguments[0], str) and arguments[1] is not None:
        _opened.append(f"{arguments[1]} {arguments[0]}")


@contextmanager
def _watched(read: list[str]) -> Iterator[None]:
    """Note who reads a real source of chance inside the block, the surest one first."""
    global _opened, _hooked
    if not _hooked:
        sys.addaudithook(_audit)  # it cannot be removed, and does nothing while `_opened` is None
        _hooked = True

    def told(what: str) -> str:
        frame = users_frame(frame_of_caller(2))
        where = "" if frame is None else f", at {frame.f_code.co_filename}:{frame.f_lineno} in {frame.f_code.co_name}"
        return f"{what}{where}"

    entropy = Builtin(os.urandom)

    def urandom(size: int, /) -> bytes:
        names: set[str] = set()
        frame = frame_of_caller(1)
        while frame is not None and len(names) < 12:
            names.add(frame.f_code.co_name)
            frame = frame.f_back  # type: ignore[assignment]
        what = "uuid.uuid4()" if "uuid4" in names else "real randomness from os.urandom (or secrets)"
        read.append(told(f"it reads {what}"))
        return entropy.real(size)  # type: ignore[no-any-return]

    real_clock = ClockFunctions.real_clock

    def read_real_clock(self: ClockFunctions, name: str, which: int) -> Any:
        read.append(told(f"it reads the real clock through time.{name}"))
        return real_clock(self, name, which)

    seed = random.Random.seed

    def seeded(self: random.Random, a: Any = None, version: int = 2) -> None:
        if a is None:
            read.append(told("it makes a random.Random() without a seed"))
        seed(self, a, version)

    entropy.point(urandom)
    patched: list[tuple[type, str, Callable[..., Any]]] = [
        (random.Random, "seed", seeded), (ClockFunctions, "real_clock", read_real_clock),
    ]  # fmt: skip
    saved = [(owner, name, getattr(owner, name)) for owner, name, _ in patched]
    for owner, name, replacement in patched:
        setattr(owner, name, replacement)
    _opened = []
    try:
        yield
    finally:
        opened, _opened = _opened, None
        for owner, name, real in saved:
            setattr(owner, name, real)
        entropy.restore()
    written = {line.partition(" ")[2] for line in opened if line[0] in "wax+"}
    for line in opened:
        mode, _, path = line.partition(" ")
        if mode[0] in "ra" and (path in written or mode[0] == "a"):
            read.append(f"it reads or continues a file that an earlier run wrote: {path}")
            break
