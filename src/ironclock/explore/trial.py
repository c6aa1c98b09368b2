"""One trial: a story under a plan, in a world of its own, and what its laws say of it."""

from __future__ import annotations

import contextlib
import io
import sys
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple, TypeAlias

from ..core.errors import IronClockError
from ..core.laws import Breach, Law, as_breach, must_be_law
from ..core.where import innermost, spot
from ..observers import observers, unobserved
from ..rig import Rig
from ..steering import lines
from ..steering.kinds import Model
from ..steering.plan import Move, Place, Plan
from ..steering.steering import Steering

Story: TypeAlias = Callable[[Rig], Any]

STORY = "the story itself"
"""What stands for a law where a story that has none asserts something of its own."""


class Broken(NamedTuple):
    """One breach: the law's name, and its words."""

    law: str
    words: str


@dataclass(frozen=True)
class Result:
    """What came of one run, small enough to be sent from another process."""

    broken: tuple[Broken, ...] = ()
    raised: str = ""
    """What a law raised that is no breach."""
    ended: str = ""
    """What the story itself raised."""
    seams: tuple[tuple[Place, tuple[Move, ...]], ...] = ()
    points: tuple[Move, ...] = ()
    done: tuple[Move, ...] = ()


_UNEVENTFUL = Result()


@dataclass(frozen=True)
class Trial:
    """A story with its world, its laws and what may go wrong."""

    story: Story
    laws: tuple[Law, ...]
    model: Model
    world: Mapping[str, Any] = field(default_factory=dict)
    lines: tuple[str, ...] = ()
    asserts: bool = False
    """Whether the story's own assertions count as a law."""

    def run(
        self, plan: Plan, *, notes: bool = False, known: frozenset[Place] = frozenset(), switches: bool = False,
    ) -> Result:  # fmt: skip
        """Run the story once; nothing of the run is kept but its result."""
        rig, steering, ended = self.play(plan, notes=notes, known=known, switches=switches)
        broken, raised = self.judge(rig, plan, ended)
        rig.let_go()
        done = tuple(steering.done) if broken or switches else ()
        if not (broken or raised or ended or done or steering.seams or steering.points):
            return _UNEVENTFUL  # one object for most runs, so that it is sent once
        return Result(
            tuple(Broken(breach.law, breach.words) for breach in broken),
            raised,
            "" if ended is None else told_error(ended),
            tuple(steering.seams),
            tuple(steering.points),
            done,
        )

    def play(
        self, plan: Plan, *, notes: bool = False, known: frozenset[Place] = frozenset(), switches: bool = False,
    ) -> tuple[Rig, Steering, Exception | None]:  # fmt: skip
        """Run the story once under a plan; return its rig, who steered it, and what the story raised."""
        with unobserved() if observers else _nobody:
            rig = Rig(**(self.world if plan.start is None else {**self.world, "start": plan.start}))
        steering = rig.steer(
            lambda engine: Steering(engine, plan, self.model, notes=notes, known=known, switches=switches)
        )
        ended: Exception | None = None
        with self._at_lines(steering), _silence, rig.hold():
            try:
                self.story(rig)
            except Exception as error:
                ended = error
                # What was under way goes on without the story: its own end says nothing of the jobs.
                with contextlib.suppress(IronClockError):
                    rig.run_dry()
        return rig, steering, ended

    def _at_lines(self, steering: Steering) -> contextlib.AbstractContextManager[None]:
        if not self.lines:
            return contextlib.nullcontext()
        lines.Lines.of(self.lines).keep()  # in a process of the crew nobody else has put it in place
        return lines.steered(steering)

    def judge(self, rig: Rig, plan: Plan, ended: Exception | None = None) -> tuple[list[Breach], str]:
        """Return what the laws find broken in a run, and what a law raised instead of an answer."""
        found: list[Breach] = []
        world = rig.world
        kinds = plan.kinds
        for number, law in enumerate(self.laws):
            if kinds and excused(law, plan, kinds):
                continue
            label = law_name(law, number)
            try:
                for one in law(world):
                    found.append(replace(as_breach(one), law=label))
            except AssertionError as error:
                found.append(Breach(str(error) or f"its assertion at {_place(error)} fails", law=label))
            except Exception as error:
                return found, f"the law {label} raised {told_error(error)}"
        if self.asserts and isinstance(ended, AssertionError):
            found.append(Breach(told_error(ended), law=STORY))
        return found, ""


class _Silence(io.TextIOBase):
    """Swallows what a story prints, and the tracebacks of its threads: thousands of runs would fill the screen."""

    def __enter__(self) -> _Silence:
        self._saved = getattr(self, "_saved", [])
        self._saved.append((sys.stdout, sys.stderr, threading.excepthook))
        sys.stdout = sys.stderr = self
        threading.excepthook = _nothing
        return self

    def __exit__(self, *_: object) -> None:
        sys.stdout, sys.stderr, threading.excepthook = self._saved.pop()

    def write(self, text: str) -> int:
        return len(text)


def _nothing(_: object) -> None:
    return


_silence = _Silence()
_nobody = contextlib.nullcontext()


def law_name(law: Law, number: int) -> str:
    """Return what a law is called."""
    name = str(getattr(law, "__name__", type(law).__name__))
    return f"law {number + 1}" if name == "<lambda>" else name


def excused(law: Law, plan: Plan, kinds: frozenset[str]) -> bool:
    """Whether a plan, of these kinds, does what a law takes no notice of: it speaks of a world without such faults."""
    if kinds & getattr(law, "excuses", frozenset()):
        return True
    limit = getattr(law, "limit_ns", None)
    return limit is not None and any(
        isinstance(move.by, int) and move.kind in ("slow", "delay", "miss_firing") and 2 * move.by > limit
        for move in plan.moves
    )


def checked_laws(laws: object) -> tuple[Law, ...]:
    """Return laws as a tuple; raise `InputError` for what is none."""
    given: Sequence[Any] = (laws,) if callable(laws) else tuple(laws)  # type: ignore[arg-type]
    for law in given:
        must_be_law(law)
    return tuple(given)


def told_error(error: BaseException) -> str:
    """Return an error in words, with its place."""
    words = str(error)
    return f"{type(error).__name__}{': ' + words if words else ''} (at {_place(error)})"


def _place(error: BaseException) -> str:
    code, instruction = innermost(error)
    return "an unknown line" if code is None else spot(code, instruction)
