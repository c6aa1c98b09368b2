"""One candidate, beside what was logged: figures, jobs that differ, effects, laws."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import chain

from ..errors import InputError, nearest
from ..history.comparison import Change, Comparison, Pair, changes_of
from ..history.job_records import JobRecord
from ..laws.law import Breach, Law, World, broken_by, name_of_law
from .figures import KINDS, Figures, figures_of, keyed_effects
from .played_jobs import PlayedJob, records_of
from .run import Run

CHANGES = ("dead", "otherwise", "later", "saved", "earlier", "moved")
"""The kinds of changes, the worst first."""
_COUNTED = ("later", "laws", "effects-lost")
"""Figures that are counted in the comparison."""
_LATER_NS = 1_000_000_000
"""From which difference on a job counts as later or earlier."""


@dataclass(frozen=True, kw_only=True)
class Rehearsed:
    """One candidate, beside what was logged. `Rehearsal.candidates` has them."""

    name: str
    """What it is called."""
    run: Run
    """What became of the jobs."""
    before: Figures
    """The figures of the run in which nothing is changed."""
    after: Figures
    """The figures of this run."""
    by_type: Mapping[str, tuple[Figures, Figures]]
    """The same, by job type."""
    comparison: Comparison
    """The jobs that differ, the worst first."""
    twice: Sequence[str]
    """The effects that are done twice, and were not before."""
    lost: Sequence[str]
    """The effects that are not done any more."""
    broken: Mapping[str, tuple[Sequence[Breach], Sequence[Breach]]]
    """By a law, what breaks it: before, and in this run."""
    spread: Mapping[str, tuple[float, float]]
    """By a figure, the least and the largest value of several replications. Empty without them."""
    dead_in: Mapping[str, int]
    """By the id of a job, in how many replications it is dead. Empty without them."""
    unsure: frozenset[str]
    """The ids of the jobs with an attempt at an instant at which an outage can be over or not."""

    @property
    def newly_broken(self) -> list[str]:
        """The laws that hold as logged, and are broken here."""
        return [law for law, (before, after) in self.broken.items() if after and not before]

    def changes(self, kind: str) -> list[Change]:
        """Return the jobs that differ in one way.

        Parameters: `kind` is ``dead`` (dead now, and not before), ``saved`` (dead before, and done now), ``later`` or
        ``earlier`` (done in both, by a second or more), ``otherwise`` (another end), or ``moved`` (all others).

        Example::

            assert not rehearsal["patient"].changes("dead")
        """
        if kind not in CHANGES:
            raise InputError(f"the kind of change is {kind!r}; {nearest(kind, CHANGES)}")
        return [change for change in self.comparison.changes if _kind_of(change) == kind]

    def is_unsure(self, job: str) -> bool:
        """Return True if the log does not say what this job would have met: one of its attempts starts when an outage
        can be over or not. Parameters: `job` is its id."""
        return job in self.unsure

    def value(self, name: str) -> tuple[float, float]:
        """Return a figure before and after. Parameters: `name` is that of a figure, as in ``--fail-if``: jobs, done,
        dead, dropped, withdrawn, lost, open, refused, attempts, median, p95, p99, longest (seconds from due to done),
        peak, backlog, cost (seconds of workers), twice, later, effects-lost, laws. Raises `InputError`."""
        must_be_figure(name)
        if name == "later":
            return 0.0, len(self.changes("later"))
        if name == "laws":
            return 0.0, len(self.newly_broken)
        if name == "effects-lost":
            return 0.0, len(self.lost)
        return self.before[name], self.after[name]

    def __repr__(self) -> str:
        return f"<rehearsed {self.name}: {len(self.comparison.changes):,} of {self.comparison.count:,} jobs differ>"


def must_be_figure(name: str) -> None:
    """Raise `InputError` if there is no figure of that name."""
    known = [*(kind.name for kind in KINDS), *_COUNTED]
    if name not in known:
        raise InputError(f"there is no figure {name!r}; {nearest(name, known)}")


def _kind_of(change: Change) -> str:
    before, after = change.before, change.after
    if after is not None and after.state == "dead" and (before is None or before.state != "dead"):
        return "dead"
    if before is None or after is None or before.state != after.state:
        return "saved" if after is not None and after.state == "done" and before is not None else "otherwise"
    if before.state == "done" and before.closed_ns is not None and after.closed_ns is not None:
        moved = after.closed_ns - before.closed_ns
        if abs(moved) >= _LATER_NS:
            return "later" if moved > 0 else "earlier"
    return "moved"


class Comparing:
    """Compares runs with the one in which nothing is changed."""

    def __init__(self, before: Run, laws: Sequence[Law]) -> None:
        self._before = before
        self._laws = laws
        self._effects = keyed_effects(before.history)
        self._figures = self._figures_of(before)
        self._breaches = self._broken(before)

    def _broken(self, run: Run) -> dict[str, list[Breach]]:
        world = World(run.history)
        return {_law_name(law): broken_by([law], world) for law in self._laws}

    def _figures_of(self, run: Run) -> tuple[Figures, dict[str, Figures]]:
        effects = keyed_effects(run.history)
        by_type: dict[str, list[PlayedJob]] = {}
        for job in run.jobs:
            by_type.setdefault(job.name, []).append(job)
        each = {name: figures_of(mine, {}) for name, mine in sorted(by_type.items())}
        return figures_of(run.jobs, effects, run.refused), each

    def with_run(self, run: Run) -> Rehearsed:
        """Return what differs between a run and the one in which nothing is changed."""
        before = self._before
        names = before.name, run.name
        after_all, after_each = self._figures_of(run)
        before_all, before_each = self._figures
        nothing = figures_of([], {})
        effects = keyed_effects(run.history)
        breaches = self._broken(run)
        count = len(before.by_number.keys() | run.by_number.keys()) + len(run.new)
        return Rehearsed(
            name=run.name, run=run, before=before_all, after=after_all,
            by_type={
                name: (before_each.get(name, nothing), after_each.get(name, nothing))
                for name in sorted(before_each.keys() | after_each.keys())
            },
            comparison=Comparison(
                tuple(changes_of(self._pairs(run), names)),
                tuple(_counts_that_differ(self._effects, effects)),
                tuple((kind.words, before_all[kind.name], after_all[kind.name]) for kind in KINDS),
                count, names,
            ),
            twice=[about for about, count in effects.items() if count > max(1, self._effects.get(about, 0))],
            lost=[about for about in self._effects if about not in effects],
            broken={law: (self._breaches[law], breaches[law]) for law in breaches},
            spread={}, dead_in={},
            unsure=frozenset(run.by_number[number].id for number in run.unsure_jobs if number in run.by_number),
        )  # fmt: skip

    def _pairs(self, run: Run) -> list[Pair]:
        """Return the jobs that differ, with all that is known of them."""
        before = self._before
        differing = []
        for number in sorted(before.by_number.keys() | run.by_number.keys()):
            first, second = before.by_number.get(number), run.by_number.get(number)
            if first is None or second is None or not first.is_like(second):
                differing.append((first or second, first, second))
        ids = {job.id for job, _, _ in differing if job is not None}
        old, new = records_of(before.history, ids), records_of(run.history, ids | {job.id for job in run.new})
        pairs: list[Pair] = [
            (_label(old.get(job.id) or new[job.id]), old.get(job.id), new.get(job.id))
            for job, _, _ in differing if job is not None
        ]  # fmt: skip
        return [*pairs, *((_label(new[job.id]), None, new[job.id]) for job in run.new)]

    def with_spread(self, rehearsed: Rehearsed, more: Iterable[Run]) -> Rehearsed:
        """Return a candidate with what further runs of it show."""
        every: list[Figures] = [rehearsed.after]
        dead: dict[str, int] = {}
        for run in chain([rehearsed.run], more):
            if run is not rehearsed.run:
                every.append(self._figures_of(run)[0])
            for job in run.jobs:
                if job.state == "dead":
                    dead[job.id] = dead.get(job.id, 0) + 1
        spread = {
            kind.name: (min(one[kind.name] for one in every), max(one[kind.name] for one in every)) for kind in KINDS
        }
        return replace(rehearsed, spread=spread, dead_in=dead)


def _counts_that_differ(before: Mapping[str, int], after: Mapping[str, int]) -> Iterator[tuple[str, int, int]]:
    for about in dict.fromkeys((*before, *after)):
        counts = before.get(about, 0), after.get(about, 0)
        if counts[0] != counts[1]:
            yield about, *counts


def _law_name(law: Law) -> str:
    return repr(law) if hasattr(law, "law_name") else name_of_law(law)


def _label(record: JobRecord) -> str:
    return f"{record.id} {record.name}"
