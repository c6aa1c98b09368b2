"""Attention: what a test has looked at. What it has not looked at can make it pass where it should fail."""

from __future__ import annotations

import warnings
from collections.abc import Iterable, Mapping
from types import CodeType, FrameType
from typing import Any, Literal, Protocol, TypeAlias, get_args

from ..errors import InputError, RigWarning, nearest
from ..foundation.source_location import UNKNOWN_LINE, calling, frame_of_caller, in_application, is_own, waiting_at

LooseEnd: TypeAlias = Literal[
    "unknown names",
    "idle faults",
    "idle taps",
    "idle laws",
    "idle schedules",
    "idle policies",
    "dead jobs",
    "failing jobs",
    "hidden errors",
    "real clocks",
    "dead workers",
    "deadlocks",
]
_OPEN = ("held", "ready", "running", "backing-off")
_MISTAKES = (AssertionError, TypeError, NameError, AttributeError, ImportError)
"""Errors that are a mistake in the code, and no failure of something that it talks to."""
KINDS: tuple[str, ...] = get_args(LooseEnd)


class WatchedJob(Protocol):
    """What is asked of a job."""

    number: int
    type: Any
    state: Any
    error: BaseException | None
    queue: str


class Attention:
    """What the test of one rig has asked for, and which failed jobs it has looked at."""

    def __init__(self, allowed: Iterable[LooseEnd] = ()) -> None:
        self.allowed: set[str] = set()
        self.allowed_by_test: dict[str, tuple[str, CodeType | None]] = {}
        """The kinds of loose ends that somebody allows in this rig: where, and in which code (None: a marker)."""
        self.needless: list[str] = []
        """What the test allows although there is no such loose end, in words. `loose_ends` finds it."""
        self.allow(allowed)
        self.names: dict[tuple[str, str], str] = {}
        """Names that were unknown when they were asked for: the name and what it was asked for, with the place."""
        self.asked_types: set[str] = set()
        """The names of job types whose jobs the test has asked for."""
        self.idle_laws: dict[str, str] = {}
        """By law that found nothing to judge, the place where it was checked."""
        self.errors: list[tuple[BaseException, str]] = []
        """Errors of the rig that were raised in the code under test, with the place."""
        self.wide: list[str] = []
        """Errors of the rig that the test has taken as one of many, in words with the place."""
        self.real_clocks: list[str] = []
        """Statements that have read the real clock of a database, in words with the place."""
        self.is_judged = True
        """False: a test does not fail because of the loose ends of this rig."""
        self.told: set[str] = set()
        """The loose ends that the test has asked for."""
        self.found_no_job = False
        """True if the test has asked for jobs when there were none at all."""
        self._asked = 0  # how many of the errors `newly_swallowed` has looked at
        self._looked: set[int] = set()

    def allow(self, kinds: Iterable[LooseEnd]) -> None:
        """Allow kinds of loose ends. Raises `InputError` for an unknown one."""
        for kind in (kinds,) if isinstance(kinds, str) else kinds:
            if kind not in KINDS:
                raise InputError(f"allow has {kind!r}; {nearest(str(kind), KINDS)}")
            self.allowed.add(kind)

    def allow_in_test(self, kinds: Iterable[LooseEnd], place: str, code: CodeType | None) -> None:
        """Allow kinds of loose ends in one test. Parameters: `place` and `code` say who does that. Raises `InputError`
        for an unknown one."""
        self.allow(kinds)
        for kind in (kinds,) if isinstance(kinds, str) else kinds:
            self.allowed_by_test.setdefault(kind, (place, code))

    def asked_for(self, name: str, what: str) -> None:
        """Note a name that is unknown so far."""
        self.names.setdefault((name, what), calling())

    def judged_nothing(self, law: str) -> None:
        """Note a law that found nothing to judge."""
        self.idle_laws.setdefault(law, calling())

    def judged(self, law: str) -> None:
        """Note that a law had something to judge, now or in another check."""
        self.idle_laws[law] = ""

    def looked_at(self, job: WatchedJob) -> None:
        """Note that the test has looked at what became of a job that has failed."""
        self._looked.add(job.number)

    def raised(self, error: BaseException) -> None:
        """Note an error of the rig that code under test can swallow."""
        if all(error is not known for known, _ in self.errors):
            self.errors.append((error, waiting_at()))

    def expected_too_much(self, error: BaseException, by: str) -> None:
        """Note an error of the rig that the test has taken as one of many. Parameters: `by` is what has taken it."""
        self.wide.append(
            f"{by} has taken {type(error).__name__} [{calling()}]: {error}; expect the error itself, or mend its cause"
        )

    def tell_approved(self, path: str, jobs: Iterable[WatchedJob]) -> None:
        """Warn of dead jobs in a history that is approved, if the test has not looked at them."""
        unseen = self._unseen_dead(jobs)
        if unseen:
            first = unseen[0]
            more = f" and {len(unseen) - 1} more" if len(unseen) > 1 else ""
            words = f"{first!r}{more}: {type(first.error).__name__}: {first.error}"
            told = f"{path} is approved with a dead job that nobody looked at: {words}"
            warnings.warn(RigWarning(told), stacklevel=2)

    def _unseen_dead(self, jobs: Iterable[WatchedJob]) -> list[WatchedJob]:
        """Return the dead jobs at which the test has not looked."""
        return [job for job in jobs if job.state == "dead" and job.number not in self._looked]

    def reads_real_clock(self, what: str, remedy: str) -> None:
        """Note a statement that reads the real clock of a database."""
        place = in_application()
        where = "" if place == UNKNOWN_LINE else f" [{place}]"
        self.real_clocks.append(f"a database reads its real clock: {what}{where}; {remedy}")

    def newly_swallowed(self) -> list[BaseException]:
        """Return the errors that code under test has swallowed since the last question.

        An error that has come up to code which still runs, such as the test itself, is not swallowed.
        """
        new, self._asked = self.errors[self._asked :], len(self.errors)
        if not new:
            return []
        running = set()
        frame: FrameType | None = frame_of_caller(0)
        while frame is not None:
            running.add(frame.f_code)
            frame = frame.f_back
        return [error for error, _ in new if _reached(error) not in (None, *running)]

    def idle_policies(self, policies: Mapping[str, str], jobs: Iterable[WatchedJob]) -> list[str]:
        """Return in words which policies were for no job, although captured jobs had none of their own.

        Parameters: `policies` has the places of those that the test has given, by name of the job type.
        """
        if not policies:
            return []
        had = {job.type.name for job in jobs}
        without = sorted({job.type.name for job in jobs if job.type.by_default})
        if not without:
            return []
        return [
            f"the policy of {name!r} was for no job [{place}]: none had this name; captured without a policy of their "
            f"own: {', '.join(without)}"
            for name, place in policies.items()
            if name not in had and name not in self.asked_types
        ]

    def loose_ends(
        self, types: Iterable[str], jobs: Iterable[WatchedJob], idle_faults: Iterable[str], idle_taps: Iterable[str],
        idle_schedules: Iterable[str], idle_policies: Iterable[str], dead_workers: Iterable[str],
        deadlocks: Iterable[str], test: CodeType | None,
    ) -> dict[str, list[str]]:  # fmt: skip
        """Return what makes a test that passes say less than it seems, as lines by kind.

        Parameters: `test` is the code of the test: an error that has come up to it is not hidden.
        """
        known = {"job type": set(types), "queue": {job.queue for job in jobs}}
        found: dict[str, list[str]] = {
            "unknown names": [
                f"no {what} is called {name!r} [{place}]; {nearest(name, known[what])}"
                for (name, what), place in self.names.items()
                if name not in known[what]
            ],
            "idle faults": list(idle_faults),
            "idle taps": list(idle_taps),
            "idle laws": [
                f"the law {law} found nothing to judge [{place}]" for law, place in self.idle_laws.items() if place
            ],
            "idle schedules": list(idle_schedules),
            "idle policies": list(idle_policies),
            "dead jobs": [
                f"nobody looked at the dead job {job!r}: {type(job.error).__name__}: {job.error}"
                for job in self._unseen_dead(jobs)
            ],
            "failing jobs": [
                f"nobody looked at {job!r}, whose last attempt failed with {type(job.error).__name__}: {job.error}"
                for job in jobs
                if isinstance(job.error, _MISTAKES) and job.state in _OPEN and job.number not in self._looked
            ],
            "hidden errors": [
                f"the code under test has swallowed {type(error).__name__} [{place}]: {error}"
                for error, place in self.errors
                if _reached(error) is not test
            ]
            + self.wide,
            "real clocks": list(self.real_clocks),
            "dead workers": list(dead_workers),
            "deadlocks": [] if any(law.startswith("no_deadlock") for law in self.idle_laws) else list(deadlocks),
        }
        self.needless = [
            f"{place} allows {kind!r}, and there is no such loose end; take it away"
            for kind, (place, code) in self.allowed_by_test.items()
            if not found[kind] and code in (None, test)  # a helper can be for several tests
        ]
        return {kind: lines for kind, lines in found.items() if lines and kind not in self.allowed}


def _reached(error: BaseException) -> CodeType | None:
    """Return the outermost code that an error has come up to."""
    trace = error.__traceback__
    while trace is not None and is_own(trace.tb_frame.f_code.co_filename):
        trace = trace.tb_next
    return None if trace is None else trace.tb_frame.f_code


_MEANT = {
    "dead jobs": 'assert job.state == "dead"',
    "failing jobs": 'assert job.state == "backing-off"',
    "idle faults": "assert fault.struck == 0",
    "idle taps": "assert not rig.jobs()",
    "idle schedules": "assert schedule.last is None",
    "idle policies": "assert not rig.jobs(job_type)",
    "dead workers": "assert worker.error is not None",
}
"""By kind, what a test can assert that means it."""
_MOST_TOLD = 12


def told(ends: Mapping[str, list[str]]) -> str:
    """Return loose ends in words, the first one in the first line, and what to write if they are meant."""
    first, *others = (line for found in ends.values() for line in found)
    more = "".join(f"\n  {line}" for line in others[:_MOST_TOLD])
    if len(others) > _MOST_TOLD:
        more += f"\n  and {len(others) - _MOST_TOLD} more; rig.loose_ends() returns them all"
    asserts = " and ".join(_MEANT[kind] for kind in ends if kind in _MEANT)
    listed = ", ".join(f'"{kind}"' for kind in ends)
    says = f"say so: {asserts}. Or " if asserts else ""
    return (
        f"{first}\nthe test passes, and says less than it seems{':' if more else ''}{more}\nIf that is meant, {says}"
        f"allow it: rig.allow({listed}) in the test, @pytest.mark.rig(allow=[{listed}]), or allow = [{listed}] in "
        "[tool.ironclock]"
    )
