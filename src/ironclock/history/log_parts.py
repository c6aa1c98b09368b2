"""Logs of CSV as histories in columns: whole, or in parts on the disk if they are too large for the memory."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import TypeAlias

import numpy as np
import pyarrow as pa

from ..foundation.instants import Timeline
from .history import History
from .log_batches import NONE, TEXTS, Ints, Note, NotInColumns, batches, numbers
from .log_in_columns import LogColumns, sorted_by_job
from .log_rows import NO_END, Cells, Reading, doubled, ends_too_early
from .log_sources import CsvFile, opened_table

Order: TypeAlias = "tuple[Ints, Ints]"
_MEANT = (*TEXTS, "started", "ended", "enqueued", "due", "attempt", "outcome")


def in_columns(
    places: Sequence[str], reading: Reading, delimiter: str | None, torn: list[str], guessed: dict[str, str] | None
) -> History | None:
    """Return the history of logs, or None if only reading them row by row can. Parameters as in `log_history`. Raises
    `LogError`."""
    log = CsvLog(places, reading, delimiter)
    if not log.opens(guessed):
        return None
    try:
        read = list(log.batches())
        if not sum(batch.num_rows for batch in read):
            return None
        table = pa.concat_tables(read)
        table, order = log.cleaned(table)
        if not table.num_rows:
            return None
    except NotInColumns:
        return None
    torn += log.told()
    return History.of_entries(log.timeline, LogColumns(table, order, log.timeline))


@dataclass
class CsvLog:
    """The files of a log of CSV, and what is wrong with their rows."""

    places: Sequence[str]
    reading: Reading
    delimiter: str | None
    notes: list[Note] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.timeline = Timeline(self.reading.zone)
        self._files: list[tuple[CsvFile, dict[str, str], list[str]]] = []
        self._rows = [0] * len(self.places)

    def opens(self, guessed: dict[str, str] | None) -> bool:
        """Read the heads. Return False if a file must be read row by row. Raises `LogError`."""
        for place in self.places:
            with opened_table(place, [], self.delimiter) as table:
                if table.csv is None:
                    return False
                meaning = self.reading.meaning(table, guessed)
                if "event" in meaning:
                    return False
                self._files.append((table.csv, meaning, table.names))
        return True

    def batches(self) -> Iterator[pa.Table]:
        """Yield the attempts, batch by batch. Raises `NotInColumns`."""
        for place, (csv, meaning, names) in enumerate(self._files):
            cells = Cells(self.reading, meaning.get("runtime"))
            at = {field: names.index(column) for field, column in meaning.items()}
            for batch in batches(csv, place, at, cells, self.notes):
                self._rows[place] += batch.num_rows
                yield batch

    def cleaned(self, table: pa.Table) -> tuple[pa.Table, Order]:
        """Return the rows without those that are there twice, or end before they start, and their order by job. Note
        them, and those without an end. All rows of a job must be in the table."""
        table = table.combine_chunks()
        keeps = np.ones(table.num_rows, dtype=bool)
        order = sorted_by_job(table)
        if not self.reading.keeps_doubles:
            self._drop_doubles(table, *order, keeps)
        files, lines = table["file"].to_numpy(), table["line"].to_numpy()
        started, ended = numbers(table, "started"), numbers(table, "ended")
        has_end = np.array(["ended" in meaning or "runtime" in meaning for _, meaning, _ in self._files])
        for row in np.flatnonzero(keeps & (ended == NONE) & has_end[files]).tolist():
            self.notes.append((int(files[row]), int(lines[row]), NO_END))
        for row in np.flatnonzero(keeps & (ended != NONE) & (ended < started)).tolist():
            words = ends_too_early(self.timeline, int(started[row]), int(ended[row]))
            self.notes.append((int(files[row]), int(lines[row]), words))
            keeps[row] = False
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
            here = self.places[file], line
            first = seen.setdefault(one, here)
            if first is not here:
                keeps[row] = False
                self.notes.append((file, line, doubled(here[0], first)))

    def told(self) -> list[str]:
        """Return what is wrong, a line for each row, in the order of the files. Raises `LogError` for too much."""
        found: list[list[str]] = [[] for _ in self.places]
        for file, line, words in sorted(self.notes):
            found[file].append(f"{self.places[file]}:{line}: {words}")
        for place, rows, said in zip(self.places, self._rows, found, strict=True):
            self.reading.must_be_good(place, len(said), rows, said[0] if said else "")
        return [line for lines in found for line in lines]
