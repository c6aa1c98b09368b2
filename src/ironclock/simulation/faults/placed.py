"""Placed faults: what a test has made to go wrong, each with whom it strikes, and how often it has."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from ...errors import EnqueueRefused
from ...foundation.instants import Timeline
from .kind import FaultKind, Strike, Subject
from .outage import QueueOutage


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
        return True

    def count(self, victim: str) -> None:
        """Count that it has struck."""
        self.struck += 1
        self.victims.add(victim)

    def describe(self) -> str:
        """Return it in words."""
        where = f" at {self.aim.at!r}" if self.aim.at not in ("start", *_INNER) or self.kind.name == "crash" else ""
        return f"{self.kind.describe(self.does.by_ns)} {self.aim.job or 'any job'}{where}"


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

    def idle(self, now: int) -> list[str]:
        """Return in words the faults that have not struck, and why that may be."""
        text = self._timeline.text
        lines = []
        for fault in self.ever:
            if fault.struck or fault.is_looked_at or fault.chance is not None or fault.aim.numbers == frozenset():
                continue  # no number at all says that there is no fault
            aim, why = fault.aim, ""
            if fault.missed:
                why = f"; {', '.join(sorted(fault.missed))}"
            elif aim.since is not None and aim.until is not None:
                why = f"; it is for the time from {text(aim.since)} to {text(aim.until)}, and the rig is at {text(now)}"
            elif aim.at not in ("start", *_INNER):
                why = f"; no job came to the seam {aim.at!r}"
            lines.append(f"the fault {fault.describe()!r} struck 0 times{why} [{fault.place}]")
        lines += [
            f"the outage from {text(outage.since)} to {text(outage.until)} is in the future; the rig is at {text(now)}"
            for outage in self.outages
            if outage.since > now
        ]
        return lines


_NOTHING: list[PlacedFault] = []
