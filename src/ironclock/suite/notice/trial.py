"""Trials: a test is run again under one change, and it fails or not."""

from __future__ import annotations

from array import array
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Any

import pytest

from ...errors import InputError, IronClockError, PolicyError, StuckError
from ...history.approval import Approval
from ...interpreter.installation import ending_within
from ...laws.law import broken_by
from ...observers import observed_by
from ...rig import Rig, contents_of, held, simulation_of, take_apart
from ...search.determinism import told_entry
from ...search.interrupts import interrupts
from ..repeated_test import FIRST_RUN_S, TestAgain, history_marks
from ..same_chance import same_chance
from ..test_laws import laws_of
from .change import Change

_BROKEN_CHANGE = (PolicyError, InputError)  # what a policy raises that cannot be, and code that cannot be put in place


@dataclass
class Ran:
    """What came of one run of a test."""

    error: BaseException | None
    """The error with which it failed. None: it passed."""
    marks: array[int] = field(default_factory=lambda: array("L"))
    """The histories of its rigs, a number for each entry."""
    rigs: int = 0
    """How many rigs it has made."""
    contents: dict[str, str] = field(default_factory=dict)
    """What was in the databases of its rigs at the end, in words, by table and key."""
    history: list[str] = field(default_factory=list)
    """The histories in words, if they are not those of the run before it."""

    def differs(self, other: Ran) -> bool:
        """Return True if it left something else than another run: histories, effects or databases."""
        return self.marks != other.marks or self.contents != other.contents

    @property
    def how(self) -> str:
        """How it was noticed: the kind of error and its first line. Empty if it passed."""
        if self.error is None:
            return ""
        if isinstance(self.error, StuckError):
            return "the test did not come to its end"
        first = next(iter(str(self.error).splitlines()), "")
        return f"{type(self.error).__name__}: {first[:120]}" if first else type(self.error).__name__


class Trials:
    """Runs one test again and again, each time under another change.

    Parameters: `longest_s`: after how many real seconds a run is given up.
    """

    def __init__(self, item: pytest.Item, longest_s: float) -> None:
        self.item = item
        self._again = TestAgain(item)
        self._approval = Approval(item.path.parent)
        self._longest_s = longest_s
        self._warms_up = True

    def run(
        self, change: Change | None = None, read: Callable[[Rig], None] | None = None,
        than: Ran | None = None,
    ) -> Ran:  # fmt: skip
        """Run the test once; return what came of it.

        Parameters: `change` is what is another, None: nothing. `read` is called with each rig when the test has ended.
        `than` is a run without the change.
        """
        rigs: list[Rig] = []

        def note(rig: Rig) -> Approval:
            rigs.append(rig)
            if change is not None and change.world is not None:
                simulation_of(rig).change_world(change.world)
            return self._approval

        again, item = self._again, self.item
        sections: list[Any] = vars(item)["_report_sections"]
        had = len(sections)
        longest_s = FIRST_RUN_S if self._warms_up else self._longest_s
        with observed_by(note), same_chance(), ExitStack() as stack:
            if change is not None and change.code is not None:
                stack.enter_context(change.code.in_place())
            try:
                again.begin()
                with interrupts.at_once(), ending_within(longest_s):
                    error = again.phase("setup") or again.phase("call")
                if error is None:
                    error = _broken_laws(item, rigs)
                made = Ran(error, _marks(rigs, item), len(rigs), _contents(rigs))
                if error is None and (than is None or made.marks != than.marks):
                    made.history = [
                        told_entry(rig.history, number) for rig in rigs for number in range(len(rig.history))
                    ]
                if read is not None:
                    for rig in rigs:
                        read(rig)
            finally:
                error_of_end = again.phase("teardown")
                again.forget()
                del sections[had:]
                if not self._warms_up:
                    for rig in rigs:
                        take_apart(rig)
                self._warms_up = False
        if made.error is None:
            made.error = error_of_end
        return made


def is_of_change(error: BaseException | None) -> bool:
    """Return True if a run ended with an error of the change itself, such as a policy that cannot be."""
    return isinstance(error, _BROKEN_CHANGE)


def _broken_laws(item: pytest.Item, rigs: list[Rig]) -> BaseException | None:
    """Return the error of a law of the test's markers that does not hold. None if all hold."""
    marked = laws_of(item).marked
    for rig in rigs if marked else ():
        broken = broken_by(marked, rig.world)
        if broken:
            return AssertionError(broken[0].words)
    return None


def _contents(rigs: list[Rig]) -> dict[str, str]:
    """Return what is in the databases of rigs, in words, by table and key."""
    found: dict[str, str] = {}
    for rig in rigs:
        try:
            with held(rig):
                contents = contents_of(rig)
        except (IronClockError, OSError):
            continue  # a rig that a job has left broken, or a database that cannot be read now
        found.update((place, "; ".join(sorted(map(_told, items)))) for place, items in sorted(contents.items()))
    return found


def _told(item: Any) -> str:
    value = item[0]
    return ", ".join(f"{name}={held!r}" for name, held in value.items()) if isinstance(value, dict) else repr(value)


def _marks(rigs: list[Rig], item: pytest.Item) -> array[int]:
    found = array("L")
    for rig in rigs:
        found.extend(history_marks(rig.history, item))
    return found
