"""Placed faults: what a test has made to go wrong, each with whom it strikes, and how often it has."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import chain
from typing import Any, Protocol

from ...errors import EnqueueRefused
from ...foundation.instants import Timeline
from ...history.records import RecordedType
from .kind import FaultKind, Strike, Subject
from .outage import QueueOutage


class TriedJob(Protocol):
    """What is asked of a job, to say why a fault has not struck it."""

    attempts_made: int
    state: Any

    @property
    def type(self) -> RecordedType: ...


@dataclass(frozen=True, kw_only=True)
class Aim:
    """Whom a placed fault strikes, and when. All that is given must hold."""

    at: str = "start"
    """The seam."""
    job: str | None = None
    """The name of the job type. None: any."""
    numbers: frozenset[int] | None = None
    """The numbers of the attempts (or calls). None: all."""
    visits: frozenset[int] | None = None
    """Which passes of the seam within one attempt. None: each."""
    since: int | None = None
    until: int | None = None
    """From when, and until when, in nanoseconds since the epoch; the end is not included."""
    when: Callable[..., bool] | None = None
    """A function of the user's."""
    once_each: bool = False
    """True if one subject is asked about only once, however often it passes."""

    def is_time(self, now: int) -> bool:
        """Return True if an instant is between its begin and its end."""
        return (self.since is None or now >= self.since) and (self.until is None or now < self.until)

    def includes(self, now: int, subject: Subject) -> bool:
        """Return True if it is meant for somebody who passes its seam now."""
        return (
            (self.job is None or self.job == subject.job)
            and (self.visits is None or subject.visit in self.visits)
            and (self.numbers is None or subject.number in self.numbers)
            and self.is_time(now)
            and (self.when is None or bool(self.when(subject.read())))
        )


@dataclass(kw_only=True, eq=False)
class PlacedFault:
    """One fault that a test has placed."""

    aim: Aim
    does: Strike
    chance: float | None = None
    """The share of cases that it strikes, from 0 to 1. None: all."""
    generator: random.Random | None = None
    struck: int = 0
    """How often it has struck so far."""
    struck_numbers: set[int] = field(default_factory=set)
    """The numbers of the attempts (or calls) that it has struck, if it is meant for some numbers."""
    came_second: str = ""
    """The fault that ended whatever this one would have struck, in words."""
    is_looked_at: bool = False
    """True if somebody has asked how often it has struck."""
    place: str = ""
    """Where it was placed, as ``file:line in function``."""
    asked: set[object] = field(default_factory=set)
    """Whom it was asked about, if it asks once for each."""
    victims: set[str] = field(default_factory=set)
    """The names of the job types, or of the effects, that it has struck."""
    missed: set[str] = field(default_factory=set)
    """The jobs that it is meant for, and that passed its seam where it cannot strike."""

    @property
    def kind(self) -> FaultKind:
        """What it does."""
        return self.does.kind

    def strikes(self, now: int, subject: Subject) -> bool:
        """Return True if it strikes somebody who passes its seam now, and count that."""
        if self.aim.once_each and subject.identity in self.asked:
            return False
        if self.aim.job is not None and self.aim.job != subject.job:
            return False
        if self.aim.once_each:
            self.asked.add(subject.identity)
        if not self.aim.includes(now, subject):
            return False
        if self.generator is not None and self.generator.random() >= (self.chance or 0.0):
            return False
        self.count(subject.job)
        if self.aim.numbers is not None:
            self.struck_numbers.add(subject.number)
        return True

    def count(self, victim: str) -> None:
        """Count that it has struck."""
        self.struck += 1
        self.victims.add(victim)

    def describe(self) -> str:
        """Return it in words."""
        where = f" at {self.aim.at!r}" if self.aim.at not in ("start", *_INNER) or self.kind.name == "crash" else ""
        return f"{self.kind.describe(self.does.by_ns)} {self.aim.job or 'any job'}{where}"


_MOST_NUMBERS = 4
_INNER = ("delivery", "put", "before commit", "ack")
# Seams that a user does not name: the kind of fault says where it is.


class PlacedFaults:
    """The faults that are placed, by the seam at which they strike."""

    def __init__(self, timeline: Timeline) -> None:
        self._timeline = timeline
        self._at: dict[str, list[PlacedFault]] = {}
        self.outages: list[QueueOutage] = []
        """The outages of the queue server."""
        self.ever: list[PlacedFault] = []
        """Every fault that was ever placed, those that were taken away included."""
        self.of_services: list[PlacedFault] = []
        """The faults of simulated services. Each service lets its own strike."""
        self.clock_jumps: list[int] = []
        """The instants at which the wall clock has jumped."""

    def __iter__(self) -> Iterator[PlacedFault]:
        return (fault for faults in self._at.values() for fault in faults)

    def at(self, seam: str) -> list[PlacedFault]:
        """Return the faults at a seam, in the order in which they strike."""
        return self._at.get(seam, _NOTHING)

    def add(self, fault: PlacedFault) -> None:
        """Place a fault."""
        faults = self._at.setdefault(fault.aim.at, [])
        faults.append(fault)
        faults.sort(key=lambda fault: fault.kind.rank)  # in the order of placing otherwise

    def take_away(self, fault: PlacedFault) -> None:
        """Take a fault away: it strikes no more."""
        faults = self._at.get(fault.aim.at, [])
        if fault in faults:
            faults.remove(fault)

    def clear(self) -> None:
        """Take every fault away."""
        self._at.clear()
        self.outages.clear()

    def outage_until(self, queue: str, now: int) -> int | None:
        """Return the end of the outage that a queue has at `now`. None if it has none."""
        return next((outage.until for outage in self.outages if outage.strikes(queue, now)), None)

    def outage_error(self, queue: str, now: int) -> BaseException | None:
        """Return the error of an enqueue in an outage. None if there is no outage."""
        until = self.outage_until(queue, now)
        return None if until is None else EnqueueRefused(f"the queue server is down until {self._timeline.text(until)}")

    def idle(self, now: int, jobs: Iterable[TriedJob]) -> list[str]:
        """Return in words the faults that have not struck, or not as often as they say, and why."""
        text = self._timeline.text
        made: dict[str, list[TriedJob]] = {}
        for job in jobs:
            made.setdefault(job.type.name, []).append(job)
        lines = []
        for fault in self.ever:
            if fault.is_looked_at or fault.chance is not None or fault.aim.numbers == frozenset():
                continue  # no number at all says that there is no fault
            why = self._why_in_part(fault, made) if fault.struck else self._why_not(fault, now, made)
            if not fault.struck:
                lines.append(f"the fault {fault.describe()!r} struck 0 times{why and '; '}{why} [{fault.place}]")
            elif why:
                lines.append(f"the fault {fault.describe()!r} {why} [{fault.place}]")
        lines += [
            f"the outage from {text(outage.since)} to {text(outage.until)} is in the future; the rig is at {text(now)}"
            for outage in self.outages
            if outage.since > now
        ]
        return lines

    def _why_not(self, fault: PlacedFault, now: int, made: Mapping[str, Sequence[TriedJob]]) -> str:
        """Return in words why a fault has not struck."""
        aim, text = fault.aim, self._timeline.text
        if fault.missed:
            return ", ".join(sorted(fault.missed))
        if aim.since is not None and aim.until is not None:
            return f"it is for the time from {text(aim.since)} to {text(aim.until)}, and the rig is at {text(now)}"
        if fault.came_second:
            return f"{fault.came_second!r} came first"
        if aim.at not in ("start", *_INNER):
            return f"no job came to the seam {aim.at!r}"
        mine = list(chain.from_iterable(made.values())) if aim.job is None else made.get(aim.job, ())
        who = "any job" if aim.job is None else aim.job
        if aim.at != "start":
            return ""
        if not mine:
            return f"no job {'' if aim.job is None else aim.job + ' '}was enqueued"
        most = max(job.attempts_made for job in mine)
        if not most:
            return f"no attempt at {who} was made"
        if aim.numbers is not None and most < min(aim.numbers):
            return f"it is for {_numbered(aim.numbers)}, and {who} had {_attempts(most)}"
        return "its `when` was never true" if aim.when is not None else ""

    def _why_in_part(self, fault: PlacedFault, made: Mapping[str, Sequence[TriedJob]]) -> str:
        """Return in words which of its attempts a fault has not struck. Empty: none, or a job died before them."""
        aim = fault.aim
        left = frozenset() if aim.numbers is None else aim.numbers - fault.struck_numbers
        if not left or aim.at != "start" or aim.job is None or aim.visits is not None or aim.when is not None:
            return ""
        mine = made.get(aim.job, ())
        if not mine or any(job.state in ("dead", "dropped", "lost") for job in mine):
            return ""
        most = max(job.attempts_made for job in mine)
        return (
            f"struck only {_numbered(fault.struck_numbers)}, and is for {_numbered(aim.numbers or ())}: {aim.job} had "
            f"{_attempts(most)}"
        )


def _attempts(count: int) -> str:
    return "1 attempt" if count == 1 else f"{count} attempts"


def _numbered(numbers: Iterable[int]) -> str:
    """Return attempts in words: ``attempt 2``, ``attempts 1, 2 and 3``."""
    shown = [str(number) for number in sorted(numbers)]
    if len(shown) > _MOST_NUMBERS:
        return f"attempts {shown[0]} to {shown[-1]}"
    return f"attempts {', '.join(shown[:-1])} and {shown[-1]}" if len(shown) > 1 else f"attempt {shown[0]}"


_NOTHING: list[PlacedFault] = []
