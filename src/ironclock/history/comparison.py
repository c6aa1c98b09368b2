"""Comparison: what differs between two histories in outcomes, instants and effects."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from ..foundation.durations import spell
from .history import History
from .job_records import JobRecord, job_records

_MS = 1_000_000


@dataclass(frozen=True)
class Change:
    """One job that differs. `before` or `after` is None if the job is in only one of the histories."""

    job: str
    before: JobRecord | None
    after: JobRecord | None
    what: tuple[str, ...]
    """What changed, in words."""

    @property
    def ended_otherwise(self) -> bool:
        """True if its last state differs, or if it is in only one history."""
        return self.before is None or self.after is None or self.before.state != self.after.state


@dataclass(frozen=True)
class Comparison:
    """What differs between two histories. `compare` returns it."""

    changes: tuple[Change, ...]
    """The jobs that differ."""
    effects: tuple[tuple[str, int, int], ...]
    """Effects that were done another number of times: name with key and outcome, before, after."""
    totals: tuple[tuple[str, float, float], ...]
    """Figures of both histories: name, before, after."""
    count: int
    """How many jobs were compared."""
    names: tuple[str, str] | None = None
    """What the two histories are called. None: *before* and *now*."""

    @property
    def same(self) -> bool:
        """True if nothing differs."""
        return not self.changes and not self.effects

    def words(self, most: int = 20) -> str:
        """Return the differences in words, for at most `most` jobs."""
        if self.same:
            return f"the same: {self.count:,} jobs, their attempts, instants and effects"
        lines = [f"{len(self.changes):,} of {self.count:,} jobs differ"] if self.changes else []
        lines += [f"  {change.job}: {'; '.join(change.what)}" for change in self.changes[:most]]
        if len(self.changes) > most:
            lines.append(f"  ... and {len(self.changes) - most:,} more")
        then, now = _in_words(self.names)
        lines += [f"  effect {name}: {one} times {then}, {other} {now}" for name, one, other in self.effects[:most]]
        if len(self.effects) > most:
            lines.append(f"  ... and {len(self.effects) - most:,} effects more")
        return "\n".join(lines)

    def rows(self) -> list[dict[str, Any]]:
        """Return a row for each job that differs, as JSON can hold it."""
        return [
            {
                "job": change.job, "what": list(change.what),
                "before": None if change.before is None else change.before.state,
                "after": None if change.after is None else change.after.state,
            }
            for change in self.changes
        ]  # fmt: skip


def compare(before: History, after: History, *, names: tuple[str, str] | None = None) -> Comparison:
    """Compare two histories. The worst differences come first.

    Jobs with the same name and arguments are compared: the first with the first, and so on. So one more job in between
    does not shift the rest. If the two begin at different instants, times count from the first enqueueing of each.

    Parameters: `before` and `after` are two histories, live or loaded. `names`: what they are called in the words, such
    as the names of two policies. Default None: *before* and *now*.

    Example::

        difference = ic.compare(ic.History.load("before.jsonl"), rig.history)
        assert difference.same, difference.words()
    """
    old, new = job_records(before), job_records(after)
    began = [min((job.enqueued_ns for job in found), default=0) for found in (old, new)]
    # If the two runs begin at different instants, the time since the begin is compared.
    shift = began[0] - began[1]
    pairs = _pairs(old, new, shift)
    changes = changes_of(pairs, names, shift)
    done_before, done_after = _effects(before), _effects(after)
    effects = tuple(
        (name, done_before.get(name, 0), done_after.get(name, 0))
        for name in dict.fromkeys([*done_before, *done_after])
        if done_before.get(name, 0) != done_after.get(name, 0)
    )
    return Comparison(tuple(changes), effects, tuple(_totals(old, new)), len(pairs), names)


Pair = tuple[str, JobRecord | None, JobRecord | None]
"""What a job is called, and what became of it in each of two histories. None: it is not in that one."""


def changes_of(pairs: Iterable[Pair], names: tuple[str, str] | None, shift: int = 0) -> list[Change]:
    """Return the jobs that differ, the worst first. Parameters: `names` as in `compare`; `shift` is by how many
    nanoseconds the second history began earlier."""
    changes = []
    for label, first, second in pairs:
        what = tuple(_changes(first, second, shift, *_in_words(names)))
        if what:
            changes.append(Change(label, first, second, what))
    changes.sort(key=lambda change: _rank(change, shift))
    return changes


def _in_words(names: tuple[str, str] | None) -> tuple[str, str]:
    """Return what says in a sentence in which of two histories something is so."""
    return ("before", "now") if names is None else (f"in {names[0]}", f"in {names[1]}")


def _rank(change: Change, shift: int) -> tuple[int, int]:
    """Return how bad a difference is: jobs that are not done any more come first, then those that are in only one
    history, then other ends, then what ends latest."""
    first, second = change.before, change.after
    if first is None or second is None:
        return 1, 0
    if change.ended_otherwise:
        return (0 if first.state == "done" else 2), 0
    if first.closed_ns is None or second.closed_ns is None:
        return 3, 0
    return 3, first.closed_ns - second.closed_ns - shift


def _pairs(old: list[JobRecord], new: list[JobRecord], shift: int) -> list[Pair]:
    def keyed(found: Iterable[JobRecord]) -> dict[tuple[str, str, int], JobRecord]:
        seen: dict[tuple[str, str], int] = {}
        made = {}
        for job in found:
            about = (job.name, job.arguments)
            seen[about] = number = seen.get(about, 0) + 1
            made[(*about, number)] = job
        return made

    first, second = keyed(old), keyed(new)
    # A job that was enqueued at the same time with other arguments has changed: it is not one gone and one new.
    rest: dict[tuple[str, int], list[tuple[str, str, int]]] = {}
    for key, job in second.items():
        if key not in first:
            rest.setdefault((job.name, job.enqueued_ns + shift), []).append(key)
    became = {}
    for key, job in first.items():
        if key not in second and (others := rest.get((job.name, job.enqueued_ns))):
            became[key] = others.pop(0)
    taken = set(became.values())
    made: list[Pair] = []
    for key in dict.fromkeys([*first, *second]):
        if key in taken:
            continue
        name, args, number = key
        label = f"{name}({args})" + (f" no. {number}" if number > 1 else "")
        made.append((label, first.get(key), second.get(became.get(key, key))))
    return made


def _changes(
    first: JobRecord | None, second: JobRecord | None, shift: int, before: str, now: str
) -> Iterable[str]:  # fmt: skip
    """Yield what differs between two jobs. `before` and `now` say in words in which of the histories."""
    if first is None or second is None:
        if now == "now":
            yield "new" if first is None else "gone"
        else:
            yield f"only {now if first is None else before}"
        return
    if first.arguments != second.arguments:
        yield f"arguments ({second.arguments}) {now}"
    if first.state != second.state:
        yield f"{first.state} {before}, {second.state} {now}"
    if first.queue != second.queue:
        yield f"queue {first.queue} {before}, {second.queue} {now}"
    if len(first.attempts) != len(second.attempts):
        yield f"{len(first.attempts)} attempts {before}, {len(second.attempts)} {now}"
    moved = second.enqueued_ns + shift - first.enqueued_ns
    if moved:
        yield f"enqueued {_later(moved)}"
    if second.due_ns - second.enqueued_ns != first.due_ns - first.enqueued_ns:
        delays = [spell(job.due_ns - job.enqueued_ns) for job in (first, second)]
        yield f"due after {delays[0]} {before}, {delays[1]} {now}"
    ends = [job.closed_ns for job in (first, second)]
    if ends[0] is not None and ends[1] is not None and ends[1] + shift != ends[0]:
        yield f"ends {_later(ends[1] + shift - ends[0])}"
    elif [(t.started_ns, t.ended_ns) for t in first.attempts] != [
        (t.started_ns + shift, None if t.ended_ns is None else t.ended_ns + shift) for t in second.attempts
    ] and len(first.attempts) == len(second.attempts):
        yield "its attempts run at other instants"
    errors = [[t.error.partition(":")[0] for t in job.attempts if t.error] for job in (first, second)]
    if errors[0] != errors[1] and len(first.attempts) == len(second.attempts):
        yield f"errors {', '.join(errors[0]) or 'none'} {before}, {', '.join(errors[1]) or 'none'} {now}"
    if json.dumps(first.result) != json.dumps(second.result):
        yield f"gives {first.result!r} {before}, {second.result!r} {now}"


def _later(ns: int) -> str:
    shown = abs(ns) if abs(ns) < _MS else abs(ns) // _MS * _MS
    return f"{spell(shown)} {'later' if ns > 0 else 'earlier'}"


def _effects(history: History) -> dict[str, int]:
    """Return how often each effect of a history was done, by its name, its key and how it ended."""
    made: dict[str, int] = {}
    for entry in history:
        if entry.what == "effect":
            key = "" if entry.data.get("key") is None else f" of {entry.data['key']!r}"
            went = "" if entry.data.get("outcome") == "done" else f" ({entry.data.get('outcome')})"
            name = f"{entry.data.get('effect')}{key}{went}"
            made[name] = made.get(name, 0) + 1
    return made


def _totals(old: list[JobRecord], new: list[JobRecord]) -> Iterable[tuple[str, float, float]]:
    def figures(found: list[JobRecord]) -> dict[str, float]:
        made: dict[str, float] = {"jobs": len(found), "attempts": sum(len(job.attempts) for job in found)}
        for job in found:
            made[job.state] = made.get(job.state, 0) + 1
        waits = [until - since for job in found for since, until in job.ready_spans]
        made["longest wait in a queue, s"] = max(waits, default=0) / 1e9
        closed = [job.closed_ns - job.due_ns for job in found if job.closed_ns is not None]
        made["longest from due to end, s"] = max(closed, default=0) / 1e9
        return made

    first, second = figures(old), figures(new)
    for name in dict.fromkeys([*first, *second]):
        yield name, first.get(name, 0), second.get(name, 0)
