"""Parts: what an attempt does in a rehearsal. What the log has is taken over; for the rest there is a model.

The model. A failure that belongs to an outage ends with it. All other failures belong to the job: its attempts outside
outages fail, and are done, in the order of the log. What the log does not have is drawn: whether an attempt fails, from
how often those of its job type failed after as many failures; how long it takes, from what was measured. What is drawn
for a job follows from the seed, the job and the attempt, so that two candidates meet the same luck.
"""

from __future__ import annotations

import random
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from .logged_jobs import LoggedAttempt, LoggedEffect, LoggedJob
from .outages import LoggedOutage

Origin = Literal["log", "drawn", "unsure"]
"""Where a part comes from: the log; the model; or the model, at an instant at which an outage can be over or not."""


@dataclass(slots=True)
class Part:
    """What one attempt does."""

    outcome: str
    """done, failed, timed-out, crashed; running: it never ends."""
    takes_ns: int
    error: str = ""
    source: Origin = "log"
    logged: LoggedAttempt | None = None
    """The attempt of the log that it repeats. None: it is drawn."""
    effects: Sequence[LoggedEffect] = ()


@dataclass(slots=True)
class Measured:
    """What a log says about the attempts of one job type outside outages."""

    done_ns: list[int] = field(default_factory=list)
    """How long those took that were done, sorted."""
    failed_ns: list[int] = field(default_factory=list)
    errors: list[str] = field(default_factory=list)
    """The errors of those that failed, in the order of the log."""
    tried: list[list[int]] = field(default_factory=list)
    """By the number of failures before, how many attempts failed, and how many there were."""
    usual_effects: list[str] = field(default_factory=list)
    """The effects that most attempts have done that were done."""

    def failing_share(self, failures: int) -> float:
        """Return the share of attempts that fail after so many failures. If the log has none, those after fewer say
        it."""
        if not self.tried:
            return 0.0
        failed, count = self.tried[min(failures, len(self.tried) - 1)]
        return failed / count


_NOTHING: Mapping[int, list[LoggedAttempt]] = {}


@dataclass(slots=True)
class Role:
    """A job of a rehearsal, and what is left of what the log says of it."""

    name: str
    job: LoggedJob | None
    """None: the log does not have it."""
    outside: Sequence[LoggedAttempt]
    """Its attempts outside outages."""
    inside: Mapping[int, list[LoggedAttempt]]
    """By the number of an outage, those in it that have not come yet, the next one last."""
    key: object
    """What tells its luck from that of others."""
    come: int = 0
    """How many of its attempts outside outages have come."""
    failures: int = 0
    """How often it has failed outside outages."""
    now: Part | None = None
    """What its running attempt does."""


class Casting:
    """Gives every attempt of a rehearsal its part.

    Parameters: `outages` are those of the log; `measured` is what it says of each job type; `seed` is what everything
    drawn follows from; `draws_ends`: an outage ends at an instant that is drawn from those that are possible. If not,
    it ends when an attempt was done again.
    """

    def __init__(
        self, outages: Sequence[LoggedOutage], measured: Mapping[str, Measured], seed: object, draws_ends: bool
    ) -> None:
        self._seed = seed
        self._outages = outages
        self._ends = [
            outage.last_ns + 1 + int(random.Random(f"{seed}:end:{n}").random() * (outage.until_ns - outage.last_ns - 1))
            if draws_ends else outage.until_ns
            for n, outage in enumerate(outages)
        ]  # fmt: skip
        self._of_type = _numbers_by_type(outages)
        self._measured = measured
        self.counts: dict[Origin, int] = {"log": 0, "drawn": 0, "unsure": 0}
        """How many parts came from where."""
        self.unsure: set[int] = set()
        """The numbers of the jobs of the log that have such a part."""

    def role(self, job: LoggedJob) -> Role:
        """Return the role of a job of the log."""
        if job.name not in self._of_type:
            return Role(job.name, job, job.attempts, _NOTHING, job.number)
        outside: list[LoggedAttempt] = []
        inside: dict[int, list[LoggedAttempt]] = {}
        for attempt in reversed(job.attempts):
            number = _outage_of(self._outages, self._of_type.get(job.name, ()), job.name, attempt)
            (outside if number is None else inside.setdefault(number, [])).append(attempt)
        return Role(job.name, job, outside[::-1], inside, job.number)

    def new_role(self, name: str, key: object) -> Role:
        """Return the role of a job that the log does not have."""
        return Role(name, None, (), _NOTHING, key)

    def next_part(self, role: Role, number: int, now_ns: int) -> Part:
        """Return what the attempt does that starts now. Parameters: `number` is that of the attempt."""
        part, is_unsure = self._in_outage(role, number, now_ns)
        if part is None:
            if role.come < len(role.outside):
                part = self._repeated(role.outside[role.come])
                role.come += 1
            else:
                part = self._drawn(role, number)
            if part.outcome not in ("done", "running"):
                role.failures += 1
        if is_unsure:
            part.source = "unsure"
            if role.job is not None:
                self.unsure.add(role.job.number)
        self.counts[part.source] += 1
        role.now = part
        return part

    def _in_outage(self, role: Role, number: int, now_ns: int) -> tuple[Part | None, bool]:
        """Return what an attempt does if an outage strikes it; and True if the log does not say if one does."""
        is_unsure = False
        for which in self._of_type.get(role.name, ()):
            outage = self._outages[which]
            is_unsure = is_unsure or outage.leaves_open(role.name, now_ns)
            if not outage.strikes(role.name, now_ns, self._ends[which]):
                continue
            left = role.inside.get(which)
            own = role.outside[role.come] if role.come < len(role.outside) else None
            if own is not None and outage.is_time_of(own) and (not left or own.number < left[-1].number):
                continue  # it failed in the middle of the outage, with an error of its own
            if left:
                return self._repeated(left.pop()), is_unsure
            victims = outage.victims[role.name]
            luck = self._luck(role, number, "outage")
            if luck.random() < victims.share:
                took = _drawn_from(victims.took_ns, luck)
                return Part("failed", took, victims.error, "drawn"), is_unsure
        return None, is_unsure

    @staticmethod
    def _repeated(attempt: LoggedAttempt) -> Part:
        return Part(attempt.outcome, attempt.took_ns or 0, attempt.error, "log", attempt, attempt.effects)

    def _drawn(self, role: Role, number: int) -> Part:
        """Return what an attempt does that the log does not have."""
        measured = self._measured.get(role.name)
        if measured is None:
            return Part("done", 0, source="drawn")
        luck = self._luck(role, number, "attempt")
        own = self._own_success(role)
        if own is None and luck.random() < measured.failing_share(role.failures) and measured.errors:
            error = measured.errors[int(luck.random() * len(measured.errors))]
            return Part("failed", _drawn_from(measured.failed_ns, luck), error, "drawn")
        if own is not None:  # the log has it, in an outage in which not every attempt failed
            return Part("done", own.took_ns or 0, "", "drawn", own, own.effects)
        takes = _drawn_from(measured.done_ns, luck)
        key = None if role.job is None else role.job.key
        effects = [LoggedEffect(takes, name, key, "done") for name in measured.usual_effects]
        return Part("done", takes, "", "drawn", None, effects)

    @staticmethod
    def _own_success(role: Role) -> LoggedAttempt | None:
        attempts = () if role.job is None else role.job.attempts
        return next((attempt for attempt in attempts if attempt.outcome == "done" and attempt.is_heard), None)

    def _luck(self, role: Role, number: int, what: str) -> random.Random:
        return random.Random(f"{self._seed}:{what}:{role.name}:{role.key}:{number}")


def _drawn_from(values: Sequence[int], luck: random.Random) -> int:
    return values[int(luck.random() * len(values))] if values else 0


def _numbers_by_type(outages: Sequence[LoggedOutage]) -> dict[str, list[int]]:
    """Return the numbers of the outages that struck each job type."""
    found: dict[str, list[int]] = {}
    for number, outage in enumerate(outages):
        for name in outage.victims:
            found.setdefault(name, []).append(number)
    return found


def _outage_of(
    outages: Sequence[LoggedOutage], numbers: Iterable[int], name: str, attempt: LoggedAttempt
) -> int | None:  # fmt: skip
    """Return the number of the outage that an attempt was in. Parameters: `numbers` are those that can be."""
    return next((number for number in numbers if outages[number].includes(name, attempt)), None)


def measured_types(jobs: Iterable[LoggedJob], outages: Sequence[LoggedOutage]) -> dict[str, Measured]:
    """Return, by job type, what the attempts outside outages show."""
    of_type = _numbers_by_type(outages)
    found: dict[str, Measured] = {}
    did: dict[str, dict[str, int]] = {}
    for job in jobs:
        mine = found.setdefault(job.name, Measured())
        failures = 0
        numbers = of_type.get(job.name, ())
        for attempt in job.attempts:
            if attempt.took_ns is None or _outage_of(outages, numbers, job.name, attempt) is not None:
                continue
            if failures == len(mine.tried):
                mine.tried.append([0, 0])
            mine.tried[failures][1] += 1
            if attempt.outcome == "done":
                mine.done_ns.append(attempt.took_ns)
                for effect in attempt.effects:
                    names = did.setdefault(job.name, {})
                    names[effect.name] = names.get(effect.name, 0) + 1
                continue
            mine.tried[failures][0] += 1
            failures += 1
            if attempt.has_failed:
                mine.failed_ns.append(attempt.took_ns)
                mine.errors.append(attempt.error)
    for name, mine in found.items():
        mine.done_ns.sort()
        mine.failed_ns.sort()
        mine.usual_effects = [effect for effect, times in did.get(name, {}).items() if 2 * times >= len(mine.done_ns)]
    return found
