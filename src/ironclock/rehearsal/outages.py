"""Outages in a log: spans in which nearly all attempts of one or several job types failed with the same error."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

from ..scenario.estimation import outages_in, usual_error
from .logged_jobs import LoggedAttempt, LoggedJob


@dataclass(slots=True)
class Victims:
    """The attempts of one job type that an outage struck."""

    error: str
    """The usual error, in words."""
    share: float
    """The share of them that failed."""
    took_ns: list[int]
    """How long those that failed took, sorted."""


@dataclass(slots=True)
class LoggedOutage:
    """A span in which nearly all attempts failed. Instants are nanoseconds since the epoch."""

    since_ns: int
    """The start of the first attempt that failed in it."""
    last_ns: int
    """The start of the last one."""
    until_ns: int
    """The start of the first attempt that was done after it, or the end of the log. When between the two it ended, the
    log does not say."""
    is_open: bool
    """True if no attempt was done after it: the log ends in it."""
    error_name: str
    """The type of its error."""
    victims: dict[str, Victims]
    """What it struck, by job type."""

    def strikes(self, name: str, at_ns: int, until_ns: int) -> bool:
        """Return True if it strikes an attempt of a job type that starts at `at_ns`, if it ends at `until_ns`."""
        return name in self.victims and self.since_ns <= at_ns < until_ns

    def leaves_open(self, name: str, at_ns: int) -> bool:
        """Return True if the log does not say if it strikes an attempt that starts then."""
        return name in self.victims and self.last_ns < at_ns and (at_ns < self.until_ns or self.is_open)

    def is_time_of(self, attempt: LoggedAttempt) -> bool:
        """Return True if an attempt of the log started in it."""
        return self.since_ns <= attempt.started_ns <= self.last_ns

    def includes(self, name: str, attempt: LoggedAttempt) -> bool:
        """Return True if an attempt of the log was in it. One that failed with another error was not: its failure
        belongs to its job."""
        return (
            name in self.victims
            and self.is_time_of(attempt)
            and (attempt.outcome == "done" or attempt.error_name == self.error_name)
        )


class _Span(NamedTuple):
    """A span in which nearly all attempts of one job type failed."""

    since_ns: int
    last_ns: int
    error_name: str
    names: frozenset[str]


def outages_of(jobs: Iterable[LoggedJob], end_ns: int) -> list[LoggedOutage]:
    """Return the outages of a log, in order.

    Spans of several job types that overlap, with the same type of error, are one outage: that of the service that they
    call. A job type with few attempts is in it if all of its attempts in the span failed with that error. What only one
    job met is not an outage, but the fault of the job. Parameters: `end_ns` is the end of the log.
    """
    by_type: dict[str, list[LoggedAttempt]] = {}
    owner: dict[int, int] = {}  # by the identity of an attempt, the number of its job
    for job in jobs:
        mine = by_type.setdefault(job.name, [])
        for attempt in job.attempts:
            if attempt.outcome == "done" or attempt.has_failed:
                mine.append(attempt)
                if attempt.has_failed:
                    owner[id(attempt)] = job.number
    spans = []
    for name, attempts in by_type.items():
        attempts.sort(key=lambda attempt: attempt.started_ns)
        for seen in outages_in(attempts):
            failed = [attempt for attempt in seen.attempts if attempt.outcome != "done"]
            kind = usual_error(failed).partition(": ")[0]
            spans.append(_Span(failed[0].started_ns, failed[-1].started_ns, kind, frozenset((name,))))
    found = []
    for span in _merged(sorted(spans)):
        outage = _outage(span, by_type, end_ns)
        struck = {
            owner[id(attempt)]
            for name in outage.victims for attempt in by_type[name]
            if attempt.has_failed and outage.includes(name, attempt)
        }  # fmt: skip
        if len(struck) > 1:
            found.append(outage)
    return found


def _merged(spans: Iterable[_Span]) -> list[_Span]:
    """Return spans of which those are one that overlap and have the same type of error."""
    found: list[_Span] = []
    for span in spans:
        for place, other in enumerate(found):
            if other.error_name == span.error_name and span.since_ns <= other.last_ns:
                last = max(other.last_ns, span.last_ns)
                found[place] = other._replace(last_ns=last, names=other.names | span.names)
                break
        else:
            found.append(span)
    return found


def _outage(span: _Span, by_type: dict[str, list[LoggedAttempt]], end_ns: int) -> LoggedOutage:
    since, last, kind, names = span
    victims = {}
    done = []
    for name, attempts in sorted(by_type.items()):
        inside = [one for one in attempts if since <= one.started_ns <= last]
        failed = [one for one in inside if one.error_name == kind]
        is_struck = bool(failed) and all(one.outcome != "done" for one in inside)
        if name not in names and not is_struck:
            continue
        met = [one for one in inside if one.outcome == "done" or one.error_name == kind]
        took = sorted(one.took_ns or 0 for one in failed)
        victims[name] = Victims(usual_error(failed), len(failed) / len(met), took)
        done += [one.started_ns for one in attempts if one.outcome == "done" and one.started_ns > last]
    until = min(done, default=max(end_ns, last + 1))
    return LoggedOutage(since, last, until, not done, kind, victims)
