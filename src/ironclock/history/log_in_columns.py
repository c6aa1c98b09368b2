"""A log of attempts in columns. Its entries and jobs are made only when somebody asks for them, and laws ask the
columns which jobs they have to look at. It tells exactly what `history_of` tells of the same rows.

Needs numpy and pyarrow.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from functools import cached_property
from typing import Any, overload

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..foundation.instants import InstantTexts, Timeline
from .entries import Entry
from .job_records import JobRecord, records_from
from .loaded_entries import LogAttemptRow, LogJobRow, Step
from .log_batches import NONE, Ints, numbers
from .log_rows import OF_AN_INSTANT, ORDER, OUTCOME_CODES
from .records import DEAD

_DONE, _FAILED, _TIMED_OUT, _CRASHED, _DEAD = (
    OUTCOME_CODES[word] for word in ("done", "failed", "timed-out", "crashed", "dead")
)
_ENQUEUED, _STARTED, _EFFECT, _ENDED, _REDELIVERED = range(5)
"""The kinds of entries that a row can have, in the order in which it has them."""
_KINDS = 5
_RANKS = np.array([ORDER[what] for what in ("enqueued", "started", "effect", "done", "redelivered")], dtype=np.int64)
"""By a kind, its place among entries with the same instant."""
_WORDS = ("done", "failed", "timed-out", "crashed", "failed")
_FOREVER = (1 << 63) - 1
_FEW_CELLS = 1_000
"""From how many cells on a whole column is faster to read than cell by cell."""


class LogColumns:
    """The attempts of a log, sorted by job; the history that they tell, entry by entry; and its jobs.

    Parameters: `table` has the columns of `log_batches.SCHEMA`, and a row at least; `order` is what `sorted_by_job`
    returns for it; `timeline` is that of the history; `end_ns` the end of the history, if the table is a part of it
    (None: the last instant of the table).
    """

    def __init__(
        self, table: pa.Table, order: tuple[Ints, Ints], timeline: Timeline, end_ns: int | None = None
    ) -> None:
        self.codes, self._at = order
        """By a row, the number of its job. Rows are numbered as they are sorted; `_at` is their place in the table."""
        self._table = table
        self.timeline = timeline
        self._texts = InstantTexts(timeline)
        self._end_ns = end_ns
        self.started, self.ended = self._numbers("started"), self._numbers("ended")
        self.outcome = self._table["outcome"].to_numpy()[self._at]
        self.has_end = self.ended != NONE
        rows = len(self.codes)
        self.begin = np.flatnonzero(np.diff(self.codes, prepend=-1))
        """By a job, its first row."""
        self.count = np.diff(self.begin, append=rows)
        """By a job, how many rows it has."""
        self.number = np.arange(rows) - np.repeat(self.begin, self.count) + 1
        """By a row, the number of the attempt."""
        self.follows = np.append(self.codes[1:] == self.codes[:-1], False)
        """By a row, if another attempt follows."""
        enqueued = self._numbers("enqueued")
        self.enqueued = np.minimum.reduceat(np.where(enqueued == NONE, self.started, enqueued), self.begin)
        due = self._numbers("due")[self.begin]
        self.due = np.maximum(np.where(due == NONE, self.enqueued, due), self.enqueued)
        self._coded: dict[str, tuple[Ints, list[str]]] = {}
        self._asked: dict[str, int] = {}

    # --- columns ------------------------------------------------------------------------------------

    def _numbers(self, column: str) -> Ints:
        return numbers(self._table, column)[self._at]

    def coded(self, column: str) -> tuple[Ints, list[str]]:
        """Return a column of text as numbers, and the texts that they stand for. -1: nothing is there."""
        if column not in self._coded:
            found = self._table[column].combine_chunks().dictionary_encode()
            codes = found.indices.fill_null(-1).to_numpy()[self._at]
            self._coded[column] = codes, found.dictionary.to_pylist()
        return self._coded[column]

    def text(self, column: str, row: int) -> str:
        """Return the text of a cell; empty if nothing is there."""
        asked = self._asked[column] = self._asked.get(column, 0) + 1
        if asked < _FEW_CELLS:
            return self._table[column][int(self._at[row])].as_py() or ""
        codes, texts = self.coded(column)
        code = int(codes[row])
        return texts[code] if code >= 0 else ""

    @cached_property
    def next_started(self) -> Ints:
        """By a row, when the next attempt at its job starts. It means nothing if none follows."""
        return np.append(self.started[1:], 0)[: len(self.started)]

    @cached_property
    def names(self) -> tuple[Ints, list[str]]:
        """By a job, the number of its type; and the names of the types."""
        codes, names = self.coded("name")
        return codes[self.begin], names

    @cached_property
    def effects(self) -> tuple[Ints, list[str]]:
        """By a row, the number of the effect that it has done, or -1; and the names of the effects."""
        codes, names = self.coded("effect")
        codes = np.where((self.outcome == _DONE) & self.has_end, codes, -1)
        there = set(np.flatnonzero(np.bincount(codes + 1, minlength=1)[1:]).tolist())
        return codes, [name if code in there else "" for code, name in enumerate(names)]

    @cached_property
    def last_ns(self) -> int:
        """The instant of the last entry, or 0."""
        if self._end_ns is not None:
            return self._end_ns
        return int(max(self.started.max(), self.ended.max(), self.enqueued.max())) if len(self.started) else 0

    @cached_property
    def odd(self) -> Ints:
        """By a job, if its attempts overlap, or one starts before it is enqueued: only its record tells its state."""
        open_before = self.follows & (
            ~self.has_end | (self.ended > self.next_started)
            | ((self.ended == self.next_started) & (self.started == self.ended))
        )  # fmt: skip
        found = np.zeros(len(self.begin), dtype=bool)
        found[self.codes[open_before]] = True
        return found | self.starts_early

    @cached_property
    def closing(self) -> Ints:
        """By a job that is not odd, the row that closes it. -1: it is open."""
        failed = (self.outcome == _FAILED) | (self.outcome == _TIMED_OUT)
        closes = (self.outcome == _DONE) | (self.outcome == _DEAD) | (failed & ~self.follows)
        rows = np.flatnonzero(closes & self.has_end)[::-1]  # of several, the first one is written last
        found = np.full(len(self.begin), -1)
        found[self.codes[rows]] = rows
        return found

    @property
    def is_done(self) -> Ints:
        """By a job that is not odd, if it is done."""
        found: Ints = (self.closing >= 0) & (self.outcome[self.closing] == _DONE)
        return found

    @cached_property
    def starts_early(self) -> Ints:
        """By a job, if it starts before it is enqueued. Such attempts are in the history, and not in the record."""
        return self.enqueued > self.started[self.begin]

    # --- entries ------------------------------------------------------------------------------------

    @cached_property
    def _order(self) -> Ints:
        """The entries in order; each is its row * 5 + its kind."""
        rows = len(self.started)
        at = np.zeros((rows, _KINDS), dtype=np.int64)
        there = np.zeros((rows, _KINDS), dtype=bool)
        at[self.begin, _ENQUEUED], there[self.begin, _ENQUEUED] = self.enqueued, True
        at[:, _STARTED], there[:, _STARTED] = self.started, True
        at[:, _EFFECT], there[:, _EFFECT] = self.ended, self.effects[0] >= 0
        at[:, _ENDED], there[:, _ENDED] = self.ended, self.has_end
        at[:, _REDELIVERED] = np.maximum(self.ended, 0)
        there[:, _REDELIVERED] = self._is_redelivered
        ranks = np.broadcast_to(_RANKS, (rows, _KINDS)).copy()
        of_an_instant = self.started == self.ended
        ranks[of_an_instant, _EFFECT] += OF_AN_INSTANT
        ranks[of_an_instant, _ENDED] += OF_AN_INSTANT
        flat = np.flatnonzero(there.ravel())
        at_flat, rank_flat = at.ravel()[flat], ranks.ravel()[flat]
        return flat[np.lexsort((rank_flat, at_flat))]

    @cached_property
    def _position(self) -> Ints:
        """By a row * 5 + a kind, the index of the entry."""
        found = np.full(len(self.started) * _KINDS, -1, dtype=np.int64)
        found[self._order] = np.arange(len(self._order))
        return found

    @property
    def _is_redelivered(self) -> Ints:
        found: Ints = self.has_end & self.follows & (self.outcome == _CRASHED)
        return found

    def ends_at(self, rows: Ints) -> Ints:
        """Return the indexes of the entries with which rows end."""
        found: Ints = self._position[rows * _KINDS + _ENDED]
        return found

    def __len__(self) -> int:
        more = [self.has_end, self._is_redelivered, self.effects[0] >= 0]
        return len(self.begin) + len(self.started) + sum(int(np.count_nonzero(one)) for one in more)

    def __iter__(self) -> Iterator[Entry]:
        return map(self._entry, self._order.tolist())

    def entry(self, number: int) -> Entry:
        """Return one entry by its index."""
        return self._entry(int(self._order[number]))

    def _entry(self, which: int) -> Entry:
        row, kind = divmod(which, _KINDS)
        job = int(self.codes[row])
        first = int(self.begin[job])
        about = self.text("job", first), self.text("name", first)
        attempt = int(self.number[row])

        def entry(ns: Any, what: str, attempt: int, data: dict[str, Any]) -> Entry:
            return Entry(self.timeline, int(ns), what, *about, attempt, data)

        if kind == _ENQUEUED:
            args, key = self.text("args", first), self.text("key", first)
            data: dict[str, Any] = {"queue": self.text("queue", first), "args": [args] if args else []}
            data["due"] = self._texts.text(int(self.due[job]))
            if key:
                data["key"] = key
            return entry(self.enqueued[job], "enqueued", 0, data)
        if kind == _STARTED:
            return entry(self.started[row], "started", attempt, {"worker": self.text("worker", row) or "?"})
        if kind == _EFFECT:
            key = self.text("key", row)
            data = {"effect": self.text("effect", row), "outcome": "done", **({"key": key} if key else {})}
            return entry(self.ended[row], "effect", attempt, data)
        if kind == _REDELIVERED:
            return entry(max(int(self.ended[row]), 0), "redelivered", 0, {"why": "its worker died"})
        outcome = int(self.outcome[row])
        if outcome == _DONE:
            data = {}
        elif outcome == _CRASHED:
            data = {"seam": "start"}
        else:
            error, _, message = self.text("error", row).partition(": ")
            wait_ns = int(self.thens[row])
            data = {"error": error or "Error", "message": message}
            data |= {"then": "dead"} if wait_ns == DEAD else {"then": "backing-off", "wait_ns": wait_ns}
        return entry(self.ended[row], _WORDS[outcome], attempt, data)

    @cached_property
    def thens(self) -> Ints:
        """By a row, the wait after it if it failed, or `DEAD`; 0 after another."""
        failed = (self.outcome == _FAILED) | (self.outcome == _TIMED_OUT)
        waits = np.where(self.follows, np.maximum(0, self.next_started - self.ended), DEAD)
        return np.where(failed, waits, np.where(self.outcome == _DEAD, DEAD, 0))

    def steps(self) -> Iterator[Step]:
        """Iterate over what happened to jobs, effects left out."""
        order = self._order
        kinds, rows = order % _KINDS, order // _KINDS
        jobs = self._table["job"].take(pa.array(self._at[self.begin])).to_pylist()
        types = [self.names[1][code] for code in self.names[0].tolist()]
        of_attempts, thens = self.number.tolist(), self.thens.tolist()
        words = np.array(_WORDS)[self.outcome].tolist()
        at = self._instants(kinds, rows).tolist()
        codes = self.codes.tolist()
        for number, (kind, row, ns) in enumerate(zip(kinds.tolist(), rows.tolist(), at, strict=True)):
            job = codes[row]
            if kind == _STARTED:
                yield number, ns, "started", jobs[job], types[job], of_attempts[row], 0
            elif kind == _ENDED:
                yield number, ns, words[row], jobs[job], types[job], of_attempts[row], thens[row]
            elif kind == _ENQUEUED:
                yield number, ns, "enqueued", jobs[job], types[job], 0, 0
            elif kind == _REDELIVERED:
                yield number, ns, "redelivered", jobs[job], types[job], 0, 0

    def _instants(self, kinds: Ints, rows: Ints) -> Ints:
        at = np.where(kinds == _STARTED, self.started[rows], self.ended[rows])
        at = np.where(kinds == _REDELIVERED, np.maximum(at, 0), at)
        return np.where(kinds == _ENQUEUED, self.enqueued[self.codes[rows]], at)

    def numbers_of(self, whats: Collection[str]) -> list[int]:
        """Return the indexes of the entries that say one of these."""
        wanted = {
            "enqueued": _ENQUEUED, "started": _STARTED, "effect": _EFFECT, "redelivered": _REDELIVERED,
            **dict.fromkeys(_WORDS, _ENDED),
        }  # fmt: skip
        if not wanted.keys() & set(whats):
            return []
        kinds, rows = self._order % _KINDS, self._order // _KINDS
        found = np.isin(kinds, [kind for what, kind in wanted.items() if what in whats and kind != _ENDED])
        ends = [code for code, word in enumerate(_WORDS) if word in whats]
        return list(np.flatnonzero(found | ((kinds == _ENDED) & np.isin(self.outcome[rows], ends))).tolist())

    def count_of(self, what: str) -> int:
        """Return how many entries say this."""
        if what == "enqueued":
            return len(self.begin)
        return len(self.started) if what == "started" else len(self.numbers_of((what,)))

    def of_jobs(self, jobs: Collection[str]) -> list[int]:
        """Return the indexes of the entries of these jobs."""
        rows = np.flatnonzero(pc.is_in(self._table["job"], pa.array(list(jobs), pa.string())).to_numpy()[self._at])
        found = self._position.reshape(-1, _KINDS)[rows].ravel()
        return list(np.sort(found[found >= 0]).tolist())

    def effects_done(self) -> list[int]:
        """Return the indexes of the effects that were done."""
        rows = np.flatnonzero(self.effects[0] >= 0)
        return list(np.sort(self._position[rows * _KINDS + _EFFECT]).tolist())

    def effect_names(self) -> set[str]:
        """Return the names of the effects."""
        return set(self.effects[1]) - {""}

    def keys_of(self, effect: str, doubled: bool) -> list[tuple[int, Any]]:
        """Return the index and the key of each effect of a name that was done."""
        codes, names = self.effects
        if effect not in self.effect_names():
            return []
        rows = np.flatnonzero(codes == names.index(effect))
        if doubled:
            keys = self.coded("key")[0][rows] + 1
            rows = rows[np.bincount(keys)[keys] > 1]
            if not len(rows):
                return []
        at = self._position[rows * _KINDS + _EFFECT]
        order = np.argsort(at)
        found = self._table["key"].take(pa.array(self._at[rows[order]])).to_pylist()
        return list(zip(at[order].tolist(), found, strict=True))

    # --- jobs ---------------------------------------------------------------------------------------

    def jobs_in_columns(self, entry: Callable[[int], Entry]) -> LogJobs:
        """Return the jobs in the order in which they were enqueued. `entry` returns an entry by its index."""
        return LogJobs(self, np.argsort(self.enqueued, kind="stable"), entry, {})

    def job_rows(self) -> Iterator[LogJobRow] | None:
        """Return the jobs in the order in which they were enqueued, without making their records. None if only records
        tell the state of some of them."""
        return None if self.odd.any() else self._job_rows()

    def _job_rows(self) -> Iterator[LogJobRow]:
        texts = {name: self._listed(name) for name in ("job", "name", "queue", "args", "key", "worker", "error")}
        effects, effect_names = self.effects[0].tolist(), self.effects[1]
        begin, count, due = self.begin.tolist(), self.count.tolist(), self.due.tolist()
        started, ended, thens = self.started.tolist(), self.ended.tolist(), self.thens.tolist()
        words = np.array(_WORDS)[self.outcome].tolist()
        ends_done, closing = self.is_done.tolist(), self.closing.tolist()
        for job in np.argsort(self.enqueued, kind="stable").tolist():
            first = begin[job]
            attempts = []
            for number in range(1, count[job] + 1):
                row = first + number - 1
                is_over = ended[row] != NONE
                effect = "" if effects[row] < 0 else effect_names[effects[row]]
                attempts.append(LogAttemptRow(
                    number, started[row], ended[row] if is_over else None, words[row] if is_over else "running",
                    texts["error"][row], texts["worker"][row] or "?", thens[row] if is_over else 0, effect,
                    texts["key"][row],
                ))  # fmt: skip
            if closing[job] >= 0:
                state = "done" if ends_done[job] else "dead"
            else:
                state = "running" if attempts[-1].ended_ns is None else "ready"
            yield LogJobRow(
                texts["job"][first], texts["name"][first], texts["queue"][first], texts["args"][first],
                texts["key"][first], int(self.enqueued[job]), due[job], state, attempts,
            )  # fmt: skip

    def _listed(self, column: str) -> list[str]:
        """Return the texts of a column by row; empty if nothing is there."""
        codes, texts = self.coded(column)
        texts = [*texts, ""]  # the code -1
        return [texts[code] for code in codes.tolist()]

    def place(self, job: int) -> tuple[int, int, int]:
        """Return the place of a job in the log: when it was enqueued, and the file and line of its first row."""
        row = int(self._at[self.begin[job]])
        return int(self.enqueued[job]), self._table["file"][row].as_py(), self._table["line"][row].as_py()

    def record(self, job: int, entry: Callable[[int], Entry]) -> JobRecord:
        """Make the record of a job, given by its number. `entry` returns an entry by its index."""
        first = int(self.begin[job])
        id, name = self.text("job", first), self.text("name", first)
        told: list[tuple[int, Step]] = []

        def tell(row: int, kind: int, ns: int, what: str, attempt: int = 0, then: int = 0) -> None:
            at = int(self._position[row * _KINDS + kind])
            told.append((at, (at, ns, what, id, name, attempt, then)))

        tell(first, _ENQUEUED, int(self.enqueued[job]), "enqueued")
        for attempt, row in enumerate(range(first, first + int(self.count[job])), 1):
            ended, outcome = int(self.ended[row]), int(self.outcome[row])
            tell(row, _STARTED, int(self.started[row]), "started", attempt)
            if ended != NONE:
                tell(row, _ENDED, ended, _WORDS[outcome], attempt, int(self.thens[row]))
                if outcome == _CRASHED and self.follows[row]:
                    tell(row, _REDELIVERED, max(ended, 0), "redelivered")
        (made,) = records_from((step for _, step in sorted(told)), entry, self.timeline, self.last_ns)
        return made


class LogJobs(Sequence[JobRecord]):
    """Some of the jobs of a log. The records are made when somebody reads them.

    Its methods return the jobs that a law has to look at: all that can break it, and often none.
    """

    def __init__(self, log: LogColumns, jobs: Ints, entry: Callable[[int], Entry], made: dict[int, JobRecord]) -> None:
        self._log = log
        self._jobs = jobs
        self._entry = entry
        self._made = made

    def __len__(self) -> int:
        return len(self._jobs)

    @overload
    def __getitem__(self, index: int) -> JobRecord: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[JobRecord]: ...
    def __getitem__(self, index: int | slice) -> JobRecord | Sequence[JobRecord]:
        if isinstance(index, slice):
            return self._some(self._jobs[index])
        return self._record(int(self._jobs[index]))

    def __iter__(self) -> Iterator[JobRecord]:
        return map(self._record, self._jobs.tolist())

    def _some(self, jobs: Ints) -> LogJobs:
        return LogJobs(self._log, jobs, self._entry, self._made)

    def _record(self, job: int) -> JobRecord:
        """Return a job by its number, always the same object."""
        if job not in self._made:
            self._made[job] = self._log.record(job, self._entry)
        return self._made[job]

    def places(self) -> dict[str, tuple[int, int, int]]:
        """Return the place in the log of each job that was read so far, by its id."""
        return {record.id: self._log.place(job) for job, record in self._made.items()}

    def _that(self, mask: Ints) -> LogJobs:
        """Return those of a mask over all jobs of the log."""
        return self._some(self._jobs[mask[self._jobs]])

    @property
    def type_names(self) -> list[str]:
        """The names of their types."""
        codes, names = self._log.names
        return [names[code] for code in np.unique(codes[self._jobs]).tolist()]

    def named(self, name: str) -> LogJobs:
        """Return those of a type."""
        codes, names = self._log.names
        return self._that(codes == names.index(name)) if name in names else self._some(self._jobs[:0])

    def tried_over(self, limit: int, error: str | None) -> LogJobs:
        """Return those with more attempts than that, or with more that end with an error type."""
        log = self._log
        if error is None:
            return self._that(log.count > limit)
        codes, texts = log.coded("error")
        mine = [code for code, text in enumerate(texts) if (text.partition(": ")[0] or "Error") == error]
        mine += [-1] if error == "Error" else []
        failed = np.isin(codes, mine) & log.has_end & np.isin(log.outcome, (_FAILED, _TIMED_OUT, _DEAD))
        return self._that(np.bincount(log.codes[failed], minlength=len(log.begin)) > limit)

    def closed_later(self, limit_ns: int) -> LogJobs:
        """Return those that were closed later than that after they were due, or are open so long."""
        log = self._log
        closed = np.where(log.closing < 0, log.last_ns, log.ended[log.closing])
        # A record reads when it was due from text, in microseconds.
        return self._that(log.odd | (closed - log.due > limit_ns - 1_000))

    def lost(self, effect: str | None, is_at_rest: bool) -> LogJobs:
        """Return those that can be lost, never end (if nothing is pending), or are done without an effect."""
        log = self._log
        found = log.odd.copy()
        if is_at_rest:
            found |= log.closing < 0
        if effect is not None:
            codes, names = log.effects
            did = np.zeros(len(log.begin), dtype=bool)
            if effect in names:
                did[log.codes[codes == names.index(effect)]] = True
            found |= ~did & log.is_done
        return self._that(found)

    def overlapping(self, together: bool, per_key: bool) -> LogJobs:
        """Return those with attempts that overlap: each with its own; or all together, or those with the same key."""
        log = self._log
        if log.starts_early.any():
            return self
        rows = self._rows
        groups = np.zeros(len(rows), dtype=np.int64) if together else log.codes[rows]
        if together and per_key:
            groups = log.coded("key")[0][log.begin][log.codes[rows]]
        until = np.where(log.has_end, log.ended, _FOREVER)[rows]
        # Records come in the order in which they were enqueued: attempts that start together keep it.
        place = np.argsort(np.argsort(log.enqueued, kind="stable"))[log.codes[rows]]
        order = np.lexsort((rows, place, log.started[rows], groups))
        return self._after_others(log.codes[rows][order], groups[order], log.started[rows][order], until[order])

    def out_of_order(self, per_key: bool) -> LogJobs:
        """Return those that are done before others that come earlier: any, or those with the same key."""
        log = self._log
        at = np.where(log.is_done, log.ends_at(log.closing), -1)
        for job in np.flatnonzero(log.odd).tolist():
            record = self._record(job)
            at[job] = record.close_number if record.state == "done" else -1
        jobs = self._jobs[at[self._jobs] >= 0]
        groups = log.coded("key")[0][log.begin][jobs] if per_key else np.zeros(len(jobs), dtype=np.int64)
        order = np.argsort(groups, kind="stable")
        return self._after_others(jobs[order], groups[order], at[jobs][order], at[jobs][order])

    def waiting(self, queue: str, limit: int) -> LogJobs:
        """Return those of a queue, if as many as that can wait in it at a time; else none."""
        log = self._log
        codes, names = log.coded("queue")
        mine = codes[log.begin] == (names.index(queue) if queue in names else -2)
        found = self._that(mine)
        if not mine.any() or (mine & log.starts_early).any():
            return found
        rows = np.flatnonzero(mine[log.codes])
        due_again = np.where(log.has_end, log.ended + np.maximum(log.thens, 0), _FOREVER)
        is_first = log.number[rows] == 1
        due = np.where(is_first, log.due[log.codes[rows]], np.roll(due_again, 1)[rows])
        last = rows[~log.follows[rows] & log.has_end[rows]]
        is_open = log.odd[log.codes[last]] | (log.closing[log.codes[last]] < 0)
        more = np.concatenate([due, due_again[last[is_open]]])
        more, fewer = more[more <= log.last_ns], log.started[rows]
        at = np.concatenate([more, fewer])
        by = np.concatenate([np.ones(len(more), dtype=np.int64), np.full(len(fewer), -1)])
        order = np.argsort(at, kind="stable")
        depth = np.cumsum(by[order])
        at = at[order]
        is_last = np.append(at[1:] != at[:-1], True)
        return found if (depth[is_last] >= limit).any() else self._some(self._jobs[:0])

    @property
    def _rows(self) -> Ints:
        """The rows of these jobs."""
        log = self._log
        mine = np.zeros(len(log.begin), dtype=bool)
        mine[self._jobs] = True
        return np.flatnonzero(mine[log.codes])

    def _after_others(self, jobs: Ints, groups: Ints, at: Ints, until: Ints) -> LogJobs:
        """Return jobs that come, in order and in a group, at an instant before which another one is not over; and the
        other ones, those that last longest."""
        if not len(jobs):
            return self._some(jobs)
        ranks = np.unique(until, return_inverse=True)[1] + np.unique(groups, return_inverse=True)[1] * (len(until) + 1)
        longest = np.maximum.accumulate(ranks)
        is_new = np.append(True, longest[1:] > longest[:-1])
        holder = np.append(0, np.maximum.accumulate(np.where(is_new, np.arange(len(jobs)), 0))[:-1])
        is_late = np.append(False, groups[1:] == groups[:-1]) & (at < until[holder])
        found = np.zeros(len(self._log.begin), dtype=bool)
        found[jobs[is_late]] = found[jobs[holder[is_late]]] = True
        return self._that(found)


def sorted_by_job(table: pa.Table) -> tuple[Ints, Ints]:
    """Return the number of the job of each row, and the place of the row in a table: sorted by job, in the order in
    which the jobs first appear, then by start, attempt and place."""
    codes = table["job"].combine_chunks().dictionary_encode().indices.to_numpy()
    started, attempt = numbers(table, "started"), table["attempt"].fill_null(0).to_numpy()
    order = np.argsort(codes, kind="stable")
    mine, at, number = codes[order], started[order], attempt[order]
    is_wrong = (at[1:] < at[:-1]) | ((at[1:] == at[:-1]) & (number[1:] < number[:-1]))
    if (is_wrong & (mine[1:] == mine[:-1])).any():
        order = np.lexsort((attempt, started, codes))
    return codes[order], order
