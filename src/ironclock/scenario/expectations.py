"""Expectations: what a scenario says must be true at the end, compared with what happened."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from ..foundation.durations import spell, to_ns
from ..history.records import plain
from ..laws.law import as_breach, told
from ..rig import Rig
from ..simulation.jobs import CLOSED, Job, live_job
from .law_tables import law_of
from .toml_reading import Source
from .values import instant_of

_FEW = 3


@dataclass(frozen=True)
class Outcome:
    """One expectation, and what was found."""

    words: str
    """What was expected."""
    found: str
    """What was found instead. Empty if everything is as expected."""
    line: int
    """The line of the expectation in the file."""
    idle: str = ""
    """Why it says nothing here: it could not have failed. Empty if it could."""

    @property
    def met(self) -> bool:
        """True if it is as expected."""
        return not self.found


def check(source: Source, rig: Rig) -> list[Outcome]:
    """Return the outcome of every expectation of a scenario that has run."""
    made = []
    for number, table in enumerate(source.tables.get("expect", ())):
        with source.at("expect", number):
            line = source.line(("expect", number))
            missed = "; ".join(_misses(table, rig))
            made.append(Outcome(_words(table), missed, line, "" if missed else _why_idle(table, rig)))
    return made


def _words(table: dict[str, Any]) -> str:
    """Return an expectation in words."""
    if "words" in table:
        return str(table["words"])
    if "law" in table:
        given = table.get("with", [])
        shown = [f"{k}={v!r}" for k, v in given.items()] if isinstance(given, dict) else map(repr, given)
        return f"{table['law']}({', '.join(shown)})"
    who = table.get("job", "jobs")
    if "args" in table:
        who += f"({', '.join(map(repr, table['args']))})"
    if "queue" in table:
        who += f" in {table['queue']}"
    parts = []
    if "count" in table:
        parts.append(f"{_range(table['count'])} {table.get('state', 'in all')}")
    elif "state" in table:
        parts.append(str(table["state"]))
    if "attempts" in table:
        parts.append(f"{_range(table['attempts'])} attempts each")
    if "by" in table:
        parts.append(f"by {table['by']}")
    if "within" in table:
        parts.append(f"within {table['within']}")
    if "result" in table:
        parts.append(f"result {table['result']!r}")
    if "error" in table:
        parts.append(f"last error {table['error']}")
    return f"{who}: {', '.join(parts) or 'there is one'}"


def _range(wanted: Any) -> str:
    if isinstance(wanted, int):
        return str(wanted)
    words = [f"{how.replace('_', ' ')} {n}" for how, n in wanted.items()]
    return " and ".join(words)


def _fits(count: int, wanted: Any) -> bool:
    if isinstance(wanted, int):
        return count == wanted
    return bool(wanted.get("at_least", 0) <= count <= wanted.get("at_most", count))


def _misses(table: dict[str, Any], rig: Rig) -> Iterator[str]:
    """Yield in words what is not as expected."""
    if "law" in table:
        for found in law_of(table["law"], table.get("with", ()))(rig.world):
            yield told(as_breach(found), rig.history).strip()
        return
    chosen = list(_chosen(table, rig))
    state = table.get("state")
    alike = chosen if state is None else [job for job in chosen if job.state == state]
    if "count" in table:
        if not _fits(len(alike), table["count"]):
            yield f"there are {len(alike)}" + ("" if state is None else f", of {len(chosen)}: {_states(chosen)}")
    elif not chosen:
        yield "there is no such job"
    elif len(alike) < len(chosen):
        yield f"{len(chosen) - len(alike)} of {len(chosen)} are not: {_states(chosen)}"
    yield from _each(table, alike, rig)


def _why_idle(table: dict[str, Any], rig: Rig) -> str:
    """Return why an expectation that is met could not have failed. Empty if it could."""
    if "law" in table:
        world = rig.world
        world.begin()
        for _ in law_of(table["law"], table.get("with", ()))(world):
            pass
        return "" if world.was_looked_at else "the law found nothing to judge"
    count = table.get("count")
    if isinstance(count, dict) and not count.get("at_least") and "at_most" not in count and not _OF_EACH & table.keys():
        return "any number is as expected"
    if count is not None and _OF_EACH & table.keys():
        state = table.get("state")
        if not any(state in (None, job.state) for job in _chosen(table, rig)):
            return "no job was there to compare"
    return ""


_OF_EACH = frozenset(("attempts", "result", "error", "by", "within"))
"""The keys that say something of each job."""


def _chosen(table: dict[str, Any], rig: Rig) -> Iterator[Job[Any]]:
    for job in rig.jobs(table.get("job"), queue=table.get("queue")):
        if "args" not in table or plain(list(job.args)) == plain(table["args"]):
            yield job


def _each(table: dict[str, Any], alike: list[Job[Any]], rig: Rig) -> Iterator[str]:
    tests: list[tuple[Callable[[Job[Any]], bool], Callable[[Job[Any]], str]]] = []
    timeline = rig.history.timeline
    if "attempts" in table:
        tests.append(
            (
                lambda job: _fits(job.attempts_made, table["attempts"]),
                lambda job: f"has had {job.attempts_made} attempts",
            )
        )
    if "result" in table:
        tests.append((lambda job: plain(job.result) == plain(table["result"]), lambda job: f"returned {job.result!r}"))
    if "error" in table:
        tests.append((lambda job: _error(job) == table["error"], lambda job: f"ended with {_error(job) or 'none'}"))
    ends = _ends(rig) if "by" in table or "within" in table else {}
    if "by" in table:
        by = timeline.ns(instant_of(table["by"]), what="by")
        tests.append((lambda job: ends.get(job.number, by + 1) <= by, lambda job: _ended(job, ends, timeline.text)))
    if "within" in table:
        limit = to_ns(table["within"], what="within")
        tests.append(
            (
                lambda job: (
                    ends.get(job.number, live_job(job).enqueued_ns + limit + 1) <= live_job(job).enqueued_ns + limit
                ),
                lambda job: _took(job, ends),
            )
        )
    for test, words in tests:
        wrong = [job for job in alike if not test(job)]
        if wrong:
            more = f" and {len(wrong) - _FEW} more" if len(wrong) > _FEW else ""
            yield ", ".join(f"{job.id} {words(job)}" for job in wrong[:_FEW]) + more


def _ends(rig: Rig) -> dict[int, int]:
    """Return the instant at which each closed job was closed, by its number."""
    resting = {job.number for job in rig.jobs() if job.state in CLOSED}
    return {r.job.number: r.ns for r in rig.history.records() if r.job is not None and r.job.number in resting}


def _ended(job: Job[Any], ends: dict[int, int], text: Callable[[int], str]) -> str:
    return f"ended at {text(ends[job.number])}" if job.number in ends else f"is still {job.state}"


def _took(job: Job[Any], ends: dict[int, int]) -> str:
    return (
        f"took {spell(ends[job.number] - live_job(job).enqueued_ns)}" if job.number in ends else f"is still {job.state}"
    )


def _error(job: Job[Any]) -> str:
    return "" if job.error is None else type(job.error).__name__


def _states(chosen: list[Job[Any]]) -> str:
    counted: dict[str, int] = {}
    for job in chosen:
        counted[job.state] = counted.get(job.state, 0) + 1
    return ", ".join(f"{count} {state}" for state, count in sorted(counted.items()))
