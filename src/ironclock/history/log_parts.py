"""Logs as histories in columns: whole, or in parts on the disk if they are too large for the memory."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import IO, Any, TypeAlias

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ..foundation.instants import Timeline
from .history import History
from .loaded_entries import ListedEntries
from .log_batches import NONE, SCHEMA, TEXTS, Ints, Note, NotInColumns, batches, numbers
from .log_in_columns import LogColumns, sorted_by_job
from .log_rows import NO_END, OUTCOME_CODES, Cells, Reading, doubled, ends_too_early
from .log_sources import LogTable, opened_table, size_of

Order: TypeAlias = "tuple[Ints, Ints]"
_COMPRESSION = 8
"""About how many times as large a compressed log is."""
_PRIME, _INVERSE = 1099511628211, pow(1099511628211, -1, 1 << 64)
_MEANT = (*TEXTS, "started", "ended", "enqueued", "due", "attempt", "outcome")


def in_columns(
    places: Sequence[str], reading: Reading, delimiter: str | None, query: str | None, torn: list[str],
    guessed: dict[str, str] | None,
) -> History | None:  # fmt: skip
    """Return the history of logs, or None if only reading them row by row can. Parameters as in `log_history`. Raises
    `LogError`."""
    try:
        with opened_log(places, reading, delimiter, query, guessed) as log:
            read = list(log.batches())
            if not sum(batch.num_rows for batch in read):
                return None
            table, order = log.cleaned(pa.concat_tables(read))
            if not table.num_rows:
                return None
            torn += log.told()
    except NotInColumns:
        return None
    return History.of_entries(log.timeline, LogColumns(table, order, log.timeline))


@contextmanager
def opened_log(
    places: Sequence[str], reading: Reading, delimiter: str | None, query: str | None, guessed: dict[str, str] | None
) -> Iterator[OpenLog]:
    """Open the files of a log, or ask a database. Parameters as in `log_history`. Raises `LogError`, and `NotInColumns`
    if each row is an event."""
    with ExitStack() as files:
        tables, meanings, said = [], [], []
        for place in places:
            bad: list[str] = []
            table = files.enter_context(opened_table(place, bad, delimiter, query))
            meaning = reading.meaning(table, guessed)
            if "event" in meaning:
                raise NotInColumns("each row is an event")
            tables.append(table)
            meanings.append(meaning)
            said.append(bad)
        yield OpenLog(places, reading, tables, meanings, said)


class OpenLog:
    """The tables of a log, and what is wrong with their rows. `said` are lines about rows, by a table."""

    def __init__(
        self, places: Sequence[str], reading: Reading, tables: Sequence[LogTable],
        meanings: Sequence[Mapping[str, str]], said: Sequence[list[str]],
    ) -> None:  # fmt: skip
        self._places = places
        self._reading = reading
        self._tables = tables
        self._meanings = meanings
        self._said = said
        self._notes: list[Note] = []
        self._rows = [0] * len(tables)
        self.timeline = Timeline(reading.zone)

    def batches(self, tell: Callable[[int], None] = lambda size: None) -> Iterator[pa.Table]:
        """Yield the attempts, batch by batch. Raises `NotInColumns`.

        Parameters: `tell` is called with the number of bytes that are read. Default: nothing is told.
        """
        before = 0
        for place, (table, meaning) in enumerate(zip(self._tables, self._meanings, strict=True)):
            cells = Cells(self._reading, meaning.get("runtime"))
            at = {field: table.names.index(column) for field, column in meaning.items()}
            begin = before
            for batch in batches(table, place, at, cells, self._notes, lambda size: tell(begin + size)):  # noqa: B023
                self._rows[place] += batch.num_rows
                yield batch
            before += _size(table)
            tell(before)

    @property
    def size(self) -> int:
        """The size of the files in bytes, about as they are without compression."""
        return sum(map(_size, self._tables))

    def cleaned(self, table: pa.Table) -> tuple[pa.Table, Order]:
        """Return the rows without those that are there twice, or end before they start, and their order by job. Note
        them, and those without an end. All rows of a job must be in the table."""
        table = table.combine_chunks()
        keeps = np.ones(table.num_rows, dtype=bool)
        order = sorted_by_job(table)
        if not self._reading.keeps_doubles:
            self._drop_doubles(table, *order, keeps)
        files, lines = table["file"].to_numpy(), table["line"].to_numpy()
        started, ended = numbers(table, "started"), numbers(table, "ended")
        has_end = np.array(["ended" in meaning or "runtime" in meaning for meaning in self._meanings])
        for row in np.flatnonzero(keeps & (ended == NONE) & has_end[files]).tolist():
            self._notes.append((int(files[row]), int(lines[row]), NO_END))
        for row in np.flatnonzero(keeps & (ended != NONE) & (ended < started)).tolist():
            words = ends_too_early(self.timeline, int(started[row]), int(ended[row]))
            self._notes.append((int(files[row]), int(lines[row]), words))
            keeps[row] = False
        if (ended == NONE).any():
            ends = pc.coalesce(table["ended"], table["started"])
            table = table.set_column(table.schema.get_field_index("ended"), "ended", ends).combine_chunks()
        if keeps.all():
            return table, order
        table = table.filter(pa.array(keeps)).combine_chunks()
        return table, sorted_by_job(table)

    def _drop_doubles(self, table: pa.Table, codes: Ints, order: Ints, keeps: Ints) -> None:
        started, attempt = numbers(table, "started")[order], table["attempt"].fill_null(0).to_numpy()[order]
        same = (codes[1:] == codes[:-1]) & (started[1:] == started[:-1]) & (attempt[1:] == attempt[:-1])
        near = np.append(same, False) | np.append(False, same)
        if not near.any():
            return
        rows = np.sort(order[near])
        few = table.take(pa.array(rows))
        seen: dict[tuple[object, ...], tuple[str, int]] = {}
        meant = zip(*(few[name].to_pylist() for name in _MEANT), strict=True)
        for row, file, line, one in zip(
            rows.tolist(), few["file"].to_pylist(), few["line"].to_pylist(), meant, strict=True
        ):
            here = self._places[file], line
            first = seen.setdefault(one, here)
            if first is not here:
                keeps[row] = False
                self._notes.append((file, line, doubled(here[0], first)))

    def told(self) -> list[str]:
        """Return what is wrong, a line for each row, in the order of the files. Raises `LogError` for too much."""
        found = [list(said) for said in self._said]
        for file, line, words in sorted(self._notes):
            found[file].append(f"{self._places[file]}:{line}: {words}")
        for place, rows, said in zip(self._places, self._rows, found, strict=True):
            self._reading.must_be_good(place, len(said), rows, said[0] if said else "")
        return [line for lines in found for line in lines]


class SplitLog:
    """A log in parts on the disk. All rows of a job are in one part, and each part fits into the memory.

    Parameters: `log` is open; `folder` takes the parts, `count` is their number. `keyed` and `keyless` are the effects
    whose keys are looked at, with a key and without one (None: all).
    """

    def __init__(
        self, log: OpenLog, folder: Path, count: int, keyed: Collection[str] | None, keyless: Collection[str]
    ) -> None:
        self._log = log
        self._folder = folder
        self._count = count
        self._keyed = keyed
        self._keyless = keyless
        self.end_ns = NONE
        """The last instant of the log."""
        self._names: set[str] = set()
        self._effects: set[str] = set()

    @property
    def effects(self) -> set[str]:
        """The names of the effects that are in the log."""
        return self._effects

    @property
    def facts(self) -> dict[str, Any]:
        """The facts of the whole log, for the history of a part."""
        return {"job_types": sorted(self._names), "effects": sorted(self._effects), "end": self.end_ns}

    def write(self, tell: Callable[[int], None]) -> None:
        """Read the log and write its parts. `tell` is called with the number of bytes read. Raises `NotInColumns`."""
        options = pa.ipc.IpcWriteOptions(compression="lz4")
        writers = [pa.ipc.new_stream(self._rows_of(part), SCHEMA, options=options) for part in range(self._count)]
        keys = [self._keys_of(part).open("wb") for part in range(self._count)]
        try:
            for batch in self._log.batches(tell):
                self._note(batch)
                jobs = hashes(batch["job"])
                for part, rows in _split(jobs, self._count):
                    writers[part].write_table(batch.take(pa.array(rows)))
                self._write_keys(batch, jobs, keys)
        finally:
            for file in (*writers, *keys):
                file.close()

    def _rows_of(self, part: int) -> str:
        return str(self._folder / f"rows-{part}.arrow")

    def _keys_of(self, part: int) -> Path:
        return self._folder / f"keys-{part}"

    def _note(self, batch: pa.Table) -> None:
        started, ended = numbers(batch, "started"), numbers(batch, "ended")
        if len(started):
            self.end_ns = max(self.end_ns, int(started.max()), int(ended[ended >= started].max(initial=NONE)))
        self._names.update(pc.unique(batch["name"]).to_pylist())
        self._effects.update(pc.unique(batch["effect"].filter(_has_effect(batch))).to_pylist())

    def _write_keys(self, batch: pa.Table, jobs: Ints, files: Sequence[IO[bytes]]) -> None:
        """Write the hash of the key of each effect that was done and is looked at, beside that of its job."""
        done, effect, key = _has_effect(batch), batch["effect"], pc.is_valid(batch["key"])
        if self._keyed is not None:
            key = pc.and_(key, pc.is_in(effect, pa.array(list(self._keyed), pa.string())))
        without = pc.and_(pc.is_null(batch["key"]), pc.is_in(effect, pa.array(list(self._keyless), pa.string())))
        done = pc.and_(done, pc.or_(key, without))
        few = batch.filter(done)
        about = hashes(few["effect"]) * np.uint64(31) + hashes(few["key"])
        pairs = np.column_stack([about, jobs[done.to_numpy()]])
        for part, rows in _split(_mixed(about), self._count):
            pairs[rows].tofile(files[part])

    def jobs_with_doubled_keys(self) -> Ints:
        """Return the hashes of the jobs with an effect that was done twice with a key, and perhaps of a few more."""
        found = []
        for part in range(self._count):
            pairs = np.fromfile(self._keys_of(part), dtype=np.uint64).reshape(-1, 2)
            _, which, times = np.unique(pairs[:, 0], return_inverse=True, return_counts=True)
            found.append(pairs[times[which] > 1, 1])
        return np.unique(np.concatenate(found))

    def parts(self) -> Iterator[tuple[pa.Table, Order]]:
        """Yield the rows of each part that count, in the order of the log, and their order by job. What is wrong with
        others is noted."""
        for part in range(self._count):
            with pa.OSFile(self._rows_of(part)) as file:
                table, order = self._log.cleaned(pa.ipc.open_stream(file).read_all())
            if table.num_rows:
                yield table, order

    def columns(self, table: pa.Table, order: Order) -> LogColumns:
        """Return rows of the log in columns; all those of each job must be there."""
        return LogColumns(table, order, self._log.timeline, self.end_ns)

    def history(self, columns: LogColumns | None) -> History:
        """Return the history that some rows of the log tell, or none. It ends when the log ends."""
        entries = columns if columns is not None else ListedEntries([])
        return History.of_entries(self._log.timeline, entries, self.facts)


def _size(table: LogTable) -> int:
    return size_of([table.place]) * (_COMPRESSION if table.csv is not None and table.csv.compression else 1)


def rows_of_jobs(table: pa.Table, jobs: Ints) -> pa.Table:
    """Return the rows of the jobs with these hashes."""
    return table.filter(pa.array(np.isin(hashes(table["job"]), jobs)))


def in_order(tables: Sequence[pa.Table]) -> tuple[pa.Table, Order] | None:
    """Return the rows of several parts in the order of the log, and their order by job. None for no rows."""
    rows = pa.concat_tables(tables) if tables else None
    if rows is None or not rows.num_rows:
        return None
    sorted_rows = rows.combine_chunks().sort_by([("file", "ascending"), ("line", "ascending")])
    return sorted_rows, sorted_by_job(sorted_rows)


def hashes(column: pa.ChunkedArray) -> Ints:
    """Return a hash of each text, the same in every process."""
    text = column.fill_null("").combine_chunks()
    _, at, data = text.buffers()
    ends = np.frombuffer(at, dtype=np.int32)[text.offset : text.offset + len(text) + 1].astype(np.int64)
    if not len(text) or data is None:
        return np.zeros(len(text), dtype=np.uint64)
    ends, first = ends - ends[0], int(ends[0])
    letters = np.frombuffer(data, dtype=np.uint8)[first : first + int(ends[-1])].astype(np.uint64) + np.uint64(1)
    # A polynomial of the letters: the sum over all texts up to an end, less that up to the begin, divided by the power
    # at the begin. All is modulo 2 ** 64, in which an odd number can be divided by.
    powers = np.cumprod(np.full(len(letters), _PRIME, dtype=np.uint64))
    inverse = np.cumprod(np.full(len(letters) + 1, _INVERSE, dtype=np.uint64))
    sums = np.concatenate([np.zeros(1, dtype=np.uint64), np.cumsum(letters * powers)])
    return _mixed((sums[ends[1:]] - sums[ends[:-1]]) * inverse[ends[:-1]])


def _mixed(numbers: Ints) -> Ints:
    """Return numbers whose bits all depend on all bits of those given."""
    mixed = (numbers ^ (numbers >> np.uint64(32))) * np.uint64(0x9E3779B97F4A7C15)
    found: Ints = mixed ^ (mixed >> np.uint64(29))
    return found


def _split(numbers: Ints, count: int) -> Iterator[tuple[int, Ints]]:
    """Yield each part that has some of the numbers, and where they are."""
    part = ((numbers >> np.uint64(40)) % np.uint64(count)).astype(np.int64)
    order = np.argsort(part, kind="stable")
    ends = np.cumsum(np.bincount(part, minlength=count))
    for number, end in enumerate(ends.tolist()):
        begin = int(ends[number - 1]) if number else 0
        if end > begin:
            yield number, order[begin:end]


def _has_effect(batch: pa.Table) -> pa.ChunkedArray:
    done = pc.equal(batch["outcome"], OUTCOME_CODES["done"])
    return pc.and_(pc.is_valid(batch["effect"]), done)
