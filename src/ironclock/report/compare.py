"""Two histories side by side: what changed in outcomes, instants and effects."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from ..core.durations import spell
from ..core.history import History
from .lives import Life, lives

_MS = 1_000_000


@dataclass(frozen=True)
class Change:
    """One job that is not as it was: `before` or `after` is None where it is in one of the histories alone."""

    job: str
    before: Life | None
    after: Life | None
    what: tuple[str, ...]
    """What changed, in words."""

    @property
    def ended_otherwise(self) -> bool:
        """Whether it came to another end."""
        return self.before is None or self.after is None or self.before.state != self.after.state


@dataclass(frozen=True)
class Comparison:
    """What differs between two histories."""

    changes: tuple[Change, ...]
    effects: tuple[tuple[str, int, int], ...]
    """Effects, with their key and how they went, that were done another number of times: before and after."""
    totals: tuple[tuple[str, float, float], ...]
    """Figures of the whole: before and after."""
    count: int
    """How many jobs there are in either."""

    @property
    def same(self) -> bool:
        """Whether nothing differs."""
        return not self.changes and not self.effects

    def words(self, most: int = 20) -> str:
        """Return the differences in words, of at most so many jobs."""
        if self.same:
            return f"the same: {self.count:,} jobs, their attempts, instants and effects"
        lines = [f"{len(self.changes):,} of {self.count:,} jobs differ"] if self.changes else []
        lines += [f"  {change.job}: {'; '.join(change.what)}" for change in self.changes[:most]]
        if len(self.changes) > most:
            lines.append(f"  ... and {len(self.changes) - most:,} more")
        lines += [f"  effect {name}: {before} times before, {after} now" for name, before, after in self.effects[:most]]
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


def compare(before: History, after: History) -> Comparison:
    """Compare two histories.

    Jobs belong together that have the same name and arguments, the first with the first and so on, so that a job that
    came in between does not shift the rest. Instants count from each history's first enqueueing where they begin at
    different ones.
    """
    old, new = lives(before, before.timeline), lives(after, after.timeline)
    began = [min((life.enqueued for life in found), default=0) for found in (old, new)]
    # Two runs of one story begin at the same instant or do not; then what is compared is how long after it.
    shift = began[0] - began[1]
    pairs = _pairs(old, new)
    changes = []
    for name, first, second in pairs:
        what = tuple(_changes(first, second, shift))
        if what:
            changes.append(Change(name, first, second, what))
    # What ended otherwise comes first; what only moved comes last.
    changes.sort(
        key=lambda change: (change.before is not None and change.after is not None, not change.ended_otherwise)
    )
    done_before, done_after = _effects(before), _effects(after)
    effects = tuple(
        (name, done_before.get(name, 0), done_after.get(name, 0))
        for name in dict.fromkeys([*done_before, *done_after])
        if done_before.get(name, 0) != done_after.get(name, 0)
    )
    return Comparison(tuple(changes), effects, tuple(_totals(old, new)), len(pairs))


def _pairs(old: list[Life], new: list[Life]) -> list[tuple[str, Life | None, Life | None]]:
    def keyed(found: Iterable[Life]) -> dict[tuple[str, str, int], Life]:
        seen: dict[tuple[str, str], int] = {}
        made = {}
        for life in found:
            about = (life.name, life.args)
            seen[about] = number = seen.get(about, 0) + 1
            made[(*about, number)] = life
        return made

    first, second = keyed(old), keyed(new)
    made: list[tuple[str, Life | None, Life | None]] = []
    for key in dict.fromkeys([*first, *second]):
        name, args, number = key
        label = f"{name}({args})" + (f" no. {number}" if number > 1 else "")
        made.append((label, first.get(key), second.get(key)))
    return made


def _changes(first: Life | None, second: Life | None, shift: int) -> Iterable[str]:
    if first is None or second is None:
        yield "new" if first is None else "gone"
        return
    if first.state != second.state:
        yield f"{first.state} before, {second.state} now"
    if first.queue != second.queue:
        yield f"in {second.queue}, no more in {first.queue}"
    if len(first.tries) != len(second.tries):
        yield f"{len(first.tries)} attempts before, {len(second.tries)} now"
    moved = second.enqueued + shift - first.enqueued
    if moved:
        yield f"enqueued {_later(moved)}"
    if second.due - second.enqueued != first.due - first.enqueued:
        yield f"due {spell(second.due - second.enqueued)} after that, {spell(first.due - first.enqueued)} before"
    ends = [life.closed for life in (first, second)]
    if ends[0] is not None and ends[1] is not None and ends[1] + shift != ends[0]:
        yield f"ends {_later(ends[1] + shift - ends[0])}"
    elif [(t.started, t.ended) for t in first.tries] != [
        (t.started + shift, None if t.ended is None else t.ended + shift) for t in second.tries
    ] and len(first.tries) == len(second.tries):
        yield "its attempts run at other instants"
    errors = [[t.error.partition(":")[0] for t in life.tries if t.error] for life in (first, second)]
    if errors[0] != errors[1] and len(first.tries) == len(second.tries):
        yield f"errors {', '.join(errors[1]) or 'none'}, before {', '.join(errors[0]) or 'none'}"
    if json.dumps(first.result) != json.dumps(second.result):
        yield f"gives {second.result!r}, before {first.result!r}"


def _later(ns: int) -> str:
    shown = abs(ns) if abs(ns) < _MS else abs(ns) // _MS * _MS
    return f"{spell(shown)} {'later' if ns > 0 else 'earlier'}"


def _effects(history: History) -> dict[str, int]:
    made: dict[str, int] = {}
    for entry in history:
        if entry.what == "effect":
            key = "" if entry.data.get("key") is None else f" of {entry.data['key']!r}"
            went = "" if entry.data.get("outcome") == "done" else f" ({entry.data.get('outcome')})"
            name = f"{entry.data.get('effect')}{key}{went}"
            made[name] = made.get(name, 0) + 1
    return made


def _totals(old: list[Life], new: list[Life]) -> Iterable[tuple[str, float, float]]:
    def figures(found: list[Life]) -> dict[str, float]:
        made: dict[str, float] = {"jobs": len(found), "attempts": sum(len(life.tries) for life in found)}
        for life in found:
            made[life.state] = made.get(life.state, 0) + 1
        waits = [until - since for life in found for since, until in life.ready]
        made["longest wait in a queue, s"] = max(waits, default=0) / 1e9
        closed = [life.closed - life.due for life in found if life.closed is not None]
        made["longest from due to end, s"] = max(closed, default=0) / 1e9
        return made

    first, second = figures(old), figures(new)
    for name in dict.fromkeys([*first, *second]):
        yield name, first.get(name, 0), second.get(name, 0)
