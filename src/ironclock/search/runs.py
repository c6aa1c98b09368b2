"""Runs: a story under a plan, in a new rig, and what its laws say about it."""

from __future__ import annotations

import contextlib
import gc
import io
import sys
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, NamedTuple, Protocol, TypeAlias

from ..errors import IronClockError, StuckError
from ..foundation.source_location import innermost, spot
from ..history.records import plain
from ..interpreter.installation import ending_within
from ..laws.law import Breach, Law, as_breach, must_be_law, name_of_law
from ..observers import observers, unobserved
from ..rig import Rig, changes_of, decided, held, switch_on, take_apart, uses_servers
from .ends import Ends
from .fault_model import FaultModel
from .interrupts import interrupts
from .line_switches import Lines, telling
from .plan import LASTING, Move, Place, Plan
from .run_control import RunControl

Story: TypeAlias = Callable[[Rig], Any]


class Played(NamedTuple):
    """A run that has come to its end: its rig, what controlled it, and the error that the story raised, if it did."""

    rig: Rig
    control: RunControl
    ended: BaseException | None


class Player(Protocol):
    """Plays a story in another way than as a function of a rig: a test with its fixtures, say."""

    def __call__(
        self, begin: Callable[[Rig], RunControl], end: Callable[[Rig], None]
    ) -> AbstractContextManager[Played]:
        """Play it once. Leaving the block ends everything that it has made.

        Parameters: `begin` is called with its new rig, `end` with that rig when nobody plays in it any more.
        """


STORY = "the story itself"
"""The name of a law for the assertions of a story without laws."""


class Broken(NamedTuple):
    """One breach: the name of the law, and what is wrong."""

    law: str
    words: str


class _NoCollections:
    """No garbage collection inside the block: when one begins depends on everything that the process has done before,
    and what it ends can take locks in the middle of a run. It is made up for between the runs."""

    def __init__(self) -> None:
        self._was_on = False

    def __enter__(self) -> None:
        self._was_on = gc.isenabled()
        gc.disable()

    def __exit__(self, *_: object) -> None:
        if self._was_on:
            # What Python would have collected by now, here, where nothing that it ends can print.
            due = [
                n
                for n, (count, most) in enumerate(zip(gc.get_count(), gc.get_threshold(), strict=True))
                if count > most
            ]
            if due:
                gc.collect(due[-1])
            gc.enable()


@dataclass(frozen=True)
class RunResult:
    """The result of one run, small enough to be sent from another process."""

    broken: tuple[Broken, ...] = ()
    raised: str = ""
    """The error that a law raised instead of an answer. Empty if none did."""
    ended: str = ""
    """The error that the story itself raised. Empty if it did not."""
    seams: tuple[tuple[Place, tuple[Move, ...]], ...] = ()
    folded: int = 0
    """At how many seams nothing had happened since the last visit."""
    unspent: bool = False
    """True if an effect was to fail more often in a row than it was called."""
    in_outage: bool = False
    """True if an outage lasted until the end: its laws were not checked."""
    failed_jobs: tuple[str, ...] = ()
    """The jobs that failed for good or are still open, in words, of a run without moves whose seams were noted."""
    points: tuple[Move, ...] = ()
    done: tuple[Move, ...] = ()
    uses_servers: bool = False
    """True if a run whose seams were noted has asked a real server: two at a time would be in each other's way."""
    spots: tuple[str, ...] = ()
    """Where in the code each of its seams is, of a run without moves."""
    not_recovered: bool = False
    """True if nothing was tried again after a lasting fault: its laws were not checked."""


_UNEVENTFUL = RunResult()


@dataclass(frozen=True)
class SearchedStory:
    """A story with the arguments of its rig, its laws, and what can go wrong."""

    story: Story
    laws: tuple[Law, ...]
    model: FaultModel
    world: Mapping[str, Any] = field(default_factory=dict)
    lines: tuple[str, ...] = ()
    asserts: bool = False
    """True if the assertions of the story count as a law, and any error that it raises although nothing goes wrong."""
    player: Player | None = None
    """What plays the story. None: it is a function of a rig."""
    longest_s: float = 0.0
    """After how many real seconds a run is given up. 0: never."""
    ends: Ends | None = None
    """What compares the end of a run with that of the run without a fault. None: nobody does."""

    def run(
        self, plan: Plan, *, notes_seams: bool = False, known: frozenset[Place] = frozenset(),
        notes_switches: bool = False,
    ) -> RunResult:  # fmt: skip
        """Run the story once; return only the result. Parameters as in `RunControl`."""
        with self.playing(plan, notes_seams=notes_seams, known=known, notes_switches=notes_switches) as played:
            rig, control, ended = played
            in_outage = control.in_outage
            not_recovered = not in_outage and control.not_recovered
            broken, raised = ([], "") if in_outage or not_recovered else self.judge(rig, plan, ended, control)
            failed = _failed_jobs(rig) if notes_seams and plan == Plan() else ()
            asks_servers = notes_seams and uses_servers(rig)
            del rig, played
        done = tuple(control.done) if broken or notes_switches else ()
        eventful = broken or raised or ended or done or control.seams or control.points or control.unspent
        if not (eventful or in_outage or asks_servers or not_recovered):
            return _UNEVENTFUL  # one object for most runs, so that it is sent only once
        return RunResult(
            tuple(Broken(breach.law, breach.words) for breach in broken),
            raised,
            "" if ended is None else told_error(ended),
            tuple(control.seams),
            control.folded,
            control.unspent,
            in_outage,
            failed,
            tuple(control.points),
            done,
            asks_servers,
            tuple(control.spots),
            not_recovered,
        )

    @contextmanager
    def playing(
        self, plan: Plan, *, notes_seams: bool = False, known: frozenset[Place] = frozenset(),
        notes_switches: bool = False, keeps_history: bool = False,
    ) -> Iterator[Played]:  # fmt: skip
        """Run the story once under a plan. The rig can be read inside the block. Its end takes the rig apart, or, if
        `keeps_history` is True, closes it, so that its history can be read later."""
        interrupts.check()

        def begin(rig: Rig) -> RunControl:
            if self.player is not None and self.world:  # somebody else has made the rig
                switch_on(rig, frozenset(self.world["seams"]))
            return decided(
                rig,
                lambda loop: RunControl(
                    loop,
                    plan,
                    self.model,
                    notes_seams=notes_seams,
                    known=known,
                    notes_switches=notes_switches,
                    changes=lambda: changes_of(rig),
                    passes=None if self.ends is None or not notes_seams or plan.moves else self.ends.watch(rig),
                ),
            )

        with (
            silence,
            _NoCollections(),
            (self.player or self._in_own_rig(plan))(begin, Rig.close if keeps_history else take_apart) as played,
        ):
            yield played

    def _in_own_rig(self, plan: Plan) -> Player:
        """Return what plays the story in a rig of its arguments."""

        @contextmanager
        def play(begin: Callable[[Rig], RunControl], end: Callable[[Rig], None]) -> Iterator[Played]:
            with unobserved() if observers else _nobody:
                rig = Rig(**(self.world if plan.start is None else {**self.world, "start": plan.start}))
            control = begin(rig)
            ended: BaseException | None = None
            limit = contextlib.nullcontext() if not self.longest_s else ending_within(self.longest_s)
            with self._at_lines(control), held(rig), limit:
                try:
                    self.story(rig)
                except (KeyboardInterrupt, GeneratorExit):
                    raise
                except BaseException as error:  # an exit as well: it would end the search
                    ended = error
                    # Its jobs continue without the story: its end says nothing about them.
                    if not isinstance(error, StuckError):
                        with contextlib.suppress(IronClockError):
                            rig.run_dry()
            try:
                yield Played(rig, control, ended)
            finally:
                end(rig)

        return play

    def _at_lines(self, control: RunControl) -> contextlib.AbstractContextManager[None]:
        if not self.lines:
            return contextlib.nullcontext()
        Lines.of(self.lines).keep()  # in a process of a runner nobody else has put it in place
        return telling(control)

    def judge(
        self, rig: Rig, plan: Plan, ended: BaseException | None = None, control: RunControl | None = None
    ) -> tuple[list[Breach], str]:  # fmt: skip
        """Return what the laws find broken in a run, and the error that a law raised instead of an answer.

        Parameters: `ended` is the error that the story raised. `control` is what controlled the run: with it the world
        goes on for a while without faults, and its end is compared with that of the run without one.
        """
        with silence:
            found, raised = self._judged(rig, plan, ended)
            if self.ends is not None and control is not None and not (found or raised):
                found += self.ends.breaches(rig, control, plan, ended)
            return found, raised

    @cached_property
    def law_names(self) -> list[str]:
        """The names of the laws. Two that have one name are told apart by their arguments."""
        names = [law_name(law, number) for number, law in enumerate(self.laws)]
        return [plain(law) if names.count(name) > 1 else name for name, law in zip(names, self.laws, strict=True)]

    def _judged(self, rig: Rig, plan: Plan, ended: BaseException | None) -> tuple[list[Breach], str]:
        found: list[Breach] = []
        world = rig.world
        for label, law in zip(self.law_names, self.laws, strict=True):
            if plan.moves and excused(law, plan, self.model):
                continue
            try:
                for one in law(world):
                    found.append(replace(as_breach(one), law=label))
            except AssertionError as error:
                found.append(Breach(str(error) or f"its assertion at {_place(error)} fails", law=label))
            except Exception as error:
                return found, f"the law {label} raised {told_error(error)}"
        if self.asserts and ended is not None and (isinstance(ended, AssertionError) or plan == Plan()):
            found.append(Breach(told_error(ended), law=STORY))
        return found, ""


def _failed_jobs(rig: Rig) -> tuple[str, ...]:
    """Return the jobs of a run that did not end well, in words."""
    made = []
    for job in rig.world.jobs:
        if job.state not in ("done", "withdrawn"):
            error = f" ({type(job.error).__name__}: {job.error})" if job.error is not None else ""
            made.append(f"{job.id} is {job.state}{error}")
    return (*made[:_FEW_JOBS], f"{len(made) - _FEW_JOBS} more jobs") if len(made) > _FEW_JOBS else tuple(made)


_FEW_JOBS = 5


class _Silence(io.TextIOBase):
    """Drops what a story prints, and the tracebacks of its threads: thousands of runs would fill the screen."""

    def __enter__(self) -> _Silence:
        self._saved = getattr(self, "_saved", [])
        self._saved.append((sys.stdout, sys.stderr, threading.excepthook, sys.unraisablehook))
        sys.stdout = sys.stderr = self
        threading.excepthook = sys.unraisablehook = _nothing
        return self

    def __exit__(self, *_: object) -> None:
        sys.stdout, sys.stderr, threading.excepthook, sys.unraisablehook = self._saved.pop()

    def write(self, text: str) -> int:
        return len(text)


def _nothing(_: object) -> None:
    return


silence = _Silence()


@contextmanager
def leftovers_untold() -> Iterator[None]:
    """Let nobody be told what the runs inside the block have left: a worker that a fault has killed closes nothing."""
    told, sys.unraisablehook = sys.unraisablehook, _nothing
    try:
        yield
    finally:
        gc.collect()
        sys.unraisablehook = told


_nobody = contextlib.nullcontext()


def law_name(law: Law, number: int) -> str:
    """Return the name of a law."""
    name = name_of_law(law)
    return f"law {number + 1}" if name == "<lambda>" else name


def excused(law: Law, plan: Plan, model: FaultModel) -> bool:
    """Return True if a law is not about worlds in which a plan happens: it says so, or a kind of fault does."""
    kinds = plan.kinds
    if (kinds | {"fail"} if kinds & LASTING else kinds) & frozenset(getattr(law, "excuses", ())):
        return True
    name = getattr(law, "law_name", "")
    if name and any(name in model.kind(move).excuses for move in plan.moves if move.kind not in ("switch", "first")):
        return True
    limit = getattr(law, "limit_ns", None)
    return limit is not None and any(
        isinstance(move.by, int)
        and (
            (move.kind in ("slow", "delay", "miss_firing", "outage") and 2 * move.by > limit)
            or (move.kind == "fail_repeatedly" and move.by > _FEW)
        )
        for move in plan.moves
    )


_FEW = 3  # after more failures in a row a time limit can be over because of the waits between the attempts


def checked_laws(laws: object) -> tuple[Law, ...]:
    """Return laws as a tuple. Raises `InputError` for anything that is not a law."""
    given: Sequence[Any] = tuple(laws) if isinstance(laws, Iterable) and not isinstance(laws, str) else (laws,)
    for law in given:
        must_be_law(law)
    return tuple(given)


def told_error(error: BaseException) -> str:
    """Return an error in words, with the place in the source."""
    words = str(error)
    return f"{type(error).__name__}{': ' + words if words else ''} (at {_place(error)})"


def _place(error: BaseException) -> str:
    code, instruction = innermost(error)
    return "an unknown line" if code is None else spot(code, instruction)
