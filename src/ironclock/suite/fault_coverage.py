"""Fault coverage: which failures a suite has ever put at each job, effect and schedule, and which it never has.

It is read from the histories of the suite's own runs, so that no more runs are needed. With a search on, it also says
which failures the search put there, and if a law was broken then.
"""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from itertools import compress
from operator import attrgetter
from typing import Any, Literal, TypeAlias

from ..errors import InputError
from ..foundation.durations import NS
from ..history.records import ENDED_WITH_ERROR
from ..rig import Rig, simulation_of
from ..search.plan import Move
from ..simulation.faults import KINDS as KINDS_OF_FAULT
from ..simulation.faults.kind import FaultKind
from ..simulation.simulation import Simulation

FAILURES = ("fails before", "fails after", "worker dies", "late", "twice", "out of order", "outage", "clock change")
"""The kinds of failure, in the order of the table."""

KINDS = ("job", "effect", "schedule")
"""What a row is about."""

State: TypeAlias = Literal["tested", "survived", "broken", "untried", "does not fit"]

_FITS: dict[str, tuple[str, ...]] = {
    "job": ("fails before", "worker dies", "late", "twice", "outage"),
    "effect": ("fails before", "fails after", "worker dies", "late", "twice", "outage"),
    "schedule": ("late",),
}  # what fits at each. For a job the rest depends on what it does.

_DAY_NS = 86_400 * NS
_TWICE = frozenset(("delivered-twice", "redelivered", "ack-lost", "lease-ended"))
_TYPE_NAME, _NUMBER = attrgetter("type.name"), attrgetter("number")
_TELLING = frozenset(("effect", "refused", "firing-refused", "crashed", *ENDED_WITH_ERROR, *_TWICE))


@dataclass
class Cell:
    """One failure of one job, effect or schedule."""

    tests: list[str] = field(default_factory=list)
    """The tests of the suite that put it there."""
    survived: list[str] = field(default_factory=list)
    """The tests under which the search put it there, and every law held."""
    broken: list[str] = field(default_factory=list)
    """The tests under which the search put it there, and a law was broken."""


@dataclass
class Row:
    """One job, effect or schedule. `fits` are the failures that can happen there."""

    kind: str
    name: str
    fits: set[str] = field(default_factory=set)
    cells: dict[str, Cell] = field(default_factory=dict)

    def state(self, failure: str) -> State:
        """Return what is known of a failure here."""
        cell = self.cells.get(failure)
        if cell is None or not (cell.tests or cell.survived or cell.broken):
            return "untried" if failure in self.fits else "does not fit"
        return "broken" if cell.broken else "tested" if cell.tests else "survived"

    def cell(self, failure: str) -> Cell:
        """Return the cell of a failure; it is made if it is missing."""
        return self.cells.setdefault(failure, Cell())


class FaultCoverage:
    """The fault coverage of a suite, as a table with a row for each job, effect and schedule."""

    def __init__(self) -> None:
        self._rows: dict[tuple[str, str], Row] = {}
        self.rigs = 0
        """How many rigs it was read from."""

    @property
    def rows(self) -> list[Row]:
        """The rows: jobs, effects, schedules, each in the order of their names."""
        return sorted(self._rows.values(), key=lambda row: (KINDS.index(row.kind), row.name))

    def row(self, kind: str, name: str) -> Row:
        """Return the row of a job, an effect or a schedule; it is made if it is missing."""
        found = self._rows.get((kind, name))
        if found is None:
            found = self._rows[kind, name] = Row(kind, name, set(_FITS[kind]))
        return found

    @property
    def fitting(self) -> int:
        """How many failures fit at all rows together."""
        return sum(len(row.fits | row.cells.keys()) for row in self._rows.values())

    @property
    def covered(self) -> int:
        """How many of them the suite has put there, or the search."""
        return sum(
            row.state(failure) in ("tested", "survived", "broken")
            for row in self._rows.values()
            for failure in row.cells
        )

    @property
    def percent(self) -> float:
        """The share of the failures that were put there, from 0 to 100. 100 if none fits."""
        return 100 * self.covered / self.fitting if self.fitting else 100.0

    # --- the suite's own runs -----------------------------------------------------------------------

    def read(self, rig: Rig, test: str) -> None:
        """Read what went wrong in a rig of a test."""
        self.rigs += 1
        reader = _Reader(simulation_of(rig))
        for kind, name in reader.rows:
            self.row(kind, name)
        for kind, name, failure in reader.fits:
            self.row(kind, name).fits.add(failure)
        for kind, name, failure in reader.found:
            tests = self.row(kind, name).cell(failure).tests
            if test not in tests:
                tests.append(test)

    # --- what a search put there --------------------------------------------------------------------

    def add_tried(self, tried: Iterable[tuple[str, str, str, bool]], test: str) -> None:
        """Add what a search of a test has tried: kind, name and failure, and True if a law was broken."""
        for kind, name, failure, broken in tried:
            cell = self.row(kind, name).cell(failure)
            tests = cell.broken if broken else cell.survived
            if test not in tests:
                tests.append(test)

    # --- as data ------------------------------------------------------------------------------------

    def as_dict(self) -> dict[str, Any]:
        """Return it as JSON can hold it."""
        return {
            "format": FORMAT, "version": 1, "rigs": self.rigs, "fitting": self.fitting, "covered": self.covered,
            "percent": round(self.percent, 1),
            "rows": [
                {
                    "kind": row.kind, "name": row.name,
                    "failures": {
                        failure: {"state": row.state(failure), **_lists(row.cells.get(failure))}
                        for failure in FAILURES
                        if failure in row.fits or failure in row.cells
                    },
                }
                for row in self.rows
            ],
        }  # fmt: skip

    def merge(self, data: Mapping[str, Any]) -> None:
        """Add what `as_dict` of another process has."""
        self.rigs += data["rigs"]
        for held in data["rows"]:
            row = self.row(held["kind"], held["name"])
            for failure, known in held["failures"].items():
                row.fits.add(failure)
                for name in ("tests", "survived", "broken"):
                    mine = getattr(row.cell(failure), name)
                    mine += [test for test in known.get(name, ()) if test not in mine]


FORMAT = "ironclock fault coverage"


def _lists(cell: Cell | None) -> dict[str, list[str]]:
    if cell is None:
        return {}
    return {name: found for name in ("tests", "survived", "broken") if (found := getattr(cell, name))}


class _Reader:
    """Reads what went wrong in one rig."""

    def __init__(self, simulation: Simulation) -> None:
        self._simulation = simulation
        self.rows: dict[tuple[str, str], None] = {}
        self.fits: set[tuple[str, str, str]] = set()
        self.found: set[tuple[str, str, str]] = set()
        self._read_history()
        self._read_faults()
        self._read_clock_changes()

    def _note(self, kind: str, name: str, failure: str) -> None:
        self.rows[kind, name] = None
        self.found.add((kind, name, failure))

    def _read_history(self) -> None:
        # Most entries of a long history say that all is well. They are passed over in bulk: this must cost a suite
        # next to nothing.
        history = self._simulation.history
        whats = history.column("what")
        if not _TELLING.isdisjoint(set(whats)):
            self._read_telling(whats)
        count = Counter(map(_TYPE_NAME, self._simulation.broker.jobs))
        self.rows.update(dict.fromkeys(("job", name) for name in count))
        several = [name for name, many in count.items() if many > 1]
        if several:
            self.fits.update(("job", name, "out of order") for name in several)
            self._read_order(whats)

    def _read_telling(self, whats: list[str]) -> None:
        """Read the entries that tell of more than jobs that come, start and are done."""
        history = self._simulation.history
        jobs, details, attempts = (history.column(name) for name in ("job", "detail", "attempt"))
        did: set[tuple[int, int]] = set()  # attempts that have done an effect
        done_by: dict[tuple[int, str], int] = {}  # the attempt of a job that did an effect first
        for number in compress(range(len(whats)), map(_TELLING.__contains__, whats)):
            what, job, detail, attempt = whats[number], jobs[number], details[number], attempts[number]
            name = "" if job is None else job.type.name
            if what == "effect":
                self._read_effect(detail, 0 if job is None else job.number, attempt, done_by)
                if job is not None and detail.outcome in ("done", "repeated"):
                    did.add((job.number, attempt))
                    self.fits.add(("job", name, "fails after"))
            elif job is None:
                if what == "refused":
                    self._note("job", detail[0], "outage")
                elif what == "firing-refused":
                    self._note("schedule", detail[0], "outage")
            elif what in ENDED_WITH_ERROR:
                self._note("job", name, "fails after" if (job.number, attempt) in did else "fails before")
                if what == "timed-out":
                    self._note("job", name, "late")
            elif what == "crashed":
                self._note("job", name, "worker dies")
                side, _, effect = str(detail).partition(" ")
                if effect in self._simulation.effects.names and side in ("before", "after", "halfway"):
                    self._note("effect", effect, "worker dies")
            elif what in _TWICE:
                self._note("job", name, "twice")

    def _read_order(self, whats: list[str]) -> None:
        """Note the types of which a job has started after one that was due later."""
        history = self._simulation.history
        jobs, details = history.column("job"), history.column("detail")
        dues = list(compress(details, map("enqueued".__eq__, whats)))
        started = list(compress(jobs, map("started".__eq__, whats)))
        numbers = list(map(_NUMBER, started))
        if dues == sorted(dues) and numbers == sorted(numbers):
            return
        came = compress(jobs, map("enqueued".__eq__, whats))
        due = {job.number: at for job, at in zip(came, dues, strict=True)}
        latest: dict[str, tuple[int, int]] = {}  # by type, of the jobs that have started, the last in due order
        for job in dict.fromkeys(started):  # the first attempt of each
            name = job.type.name
            mine = due.get(job.number, 0), job.number
            if mine < latest.get(name, mine):
                self._note("job", name, "out of order")
            latest[name] = max(mine, latest.get(name, mine))

    @cached_property
    def _lives(self) -> list[tuple[str, str, int, int]]:
        """Return the type, the queue, and the first and last instant of each job."""
        found: dict[int, list[Any]] = {}
        history = self._simulation.history
        for ns, job in zip(history.column("ns"), history.column("job"), strict=True):
            if job is not None:
                life = found.setdefault(job.number, [job.type.name, job.queue, ns, ns])
                life[3] = ns
        return [tuple(life) for life in found.values()]

    def _read_effect(self, effect: Any, job: int, attempt: int, done_by: dict[tuple[int, str], int]) -> None:
        self.rows["effect", effect.name] = None
        if effect.outcome == "failed":
            self._note("effect", effect.name, "fails before")
        elif effect.outcome == "repeated":
            self._note("effect", effect.name, "twice")
        elif effect.outcome == "done" and job:
            first = done_by.setdefault((job, effect.name), attempt)
            if first != attempt:
                self._note("effect", effect.name, "twice")

    def _read_faults(self) -> None:
        placed = self._simulation.placed_faults
        for kind, faults in (("job", placed.ever), ("effect", placed.of_services)):
            for fault in faults:
                failure = fault.kind.cell
                for victim in fault.victims:
                    if failure is not None:
                        self._note(kind, victim, failure)
                if fault.victims and kind == "job":
                    self._read_seam(fault.aim.at, fault.kind)
        for queue, since, until in placed.outages:
            for name, of_queue, first, last in self._lives:
                if queue in (None, of_queue) and first < until and last >= since:
                    self._note("job", name, "outage")

    def _read_seam(self, seam: str, kind: FaultKind) -> None:
        """Note the failure of an effect at whose seam a fault has struck."""
        side, _, effect = seam.partition(" ")
        if effect in self._simulation.effects.names and side in ("before", "after"):
            self._note("effect", effect, kind.cell or f"fails {side}")

    def _read_clock_changes(self) -> None:
        timeline, history = self._simulation.timeline, self._simulation.history
        for name in self._simulation.schedule_names:
            self.rows["schedule", name] = None
        start, jumps = self._simulation.loop.start_ns, self._simulation.placed_faults.clock_jumps
        changes_here = _has_clock_changes(timeline.zone, timeline.at(history.end_ns).year)
        for name, _, first, last in self._lives if changes_here or jumps else ():
            if changes_here:
                self.fits.add(("job", name, "clock change"))
            day_before = max(start, first - _DAY_NS)  # a job of the night of the change counts
            moved = changes_here and timeline.at(day_before).utcoffset() != timeline.at(last).utcoffset()
            if moved or any(first <= jump <= last for jump in jumps):
                self._note("job", name, "clock change")
        if changes_here:
            changed = timeline.at(start).utcoffset() != timeline.at(history.end_ns).utcoffset()
            for name in self._simulation.schedule_names:
                self.fits.add(("schedule", name, "clock change"))
                if changed:
                    self._note("schedule", name, "clock change")


def _has_clock_changes(zone: Any, year: int) -> bool:
    """Return True if the offset of a zone is not the same all year."""
    return len({dt.datetime(year, month, 1, tzinfo=zone).utcoffset() for month in (1, 4, 7, 10)}) > 1


def subjects_of(
    move: Move, jobs: Mapping[str, Iterable[str]], kinds: Iterable[FaultKind] = KINDS_OF_FAULT
) -> Iterator[tuple[str, str, str]]:
    """Yield what a move of a search puts where: kind, name and failure.

    Parameters: `kinds` are the kinds of fault of the search. `jobs` has, by job type, the effects that its jobs do:
    those of a job that is repeated are repeated.
    """
    who, where = move.place.who, move.place.where
    job = who.partition("/")[0].rpartition("-")[0]
    side, _, about = where.partition(" ")
    if move.kind == "other_version":
        return
    failure = next((kind.cell for kind in kinds if kind.name == move.kind), None)
    if who.startswith("schedule "):
        yield "schedule", who.removeprefix("schedule "), failure or "late"
        return
    if about and side in ("before", "after", "halfway") and about not in ("enqueue", "commit"):
        after = side == "after"
        yield "effect", about, failure or ("fails after" if after else "fails before")
        if after and move.kind in ("fail", "crash"):
            yield "effect", about, "twice"  # its job does it again
            if job in jobs:
                yield "job", job, failure or "fails after"
        return
    if job not in jobs:  # a request, or a worker loop
        return
    yield "job", job, failure or ("fails after" if side in ("after", "commit", "ack") else "fails before")
    if failure == "twice":
        for effect in jobs[job]:
            yield "effect", effect, "twice"


def checked_least(given: str | None, option: str = "--ironclock-seams-min") -> float | None:
    """Return the least share that is wanted. Raises `InputError` unless it is from 0 to 100."""
    if given is None:
        return None
    try:
        share = float(given)
    except ValueError:
        share = -1.0
    if not 0 <= share <= 100:
        raise InputError(f"{option} is {given!r}; give a share in percent, from 0 to 100")
    return share
