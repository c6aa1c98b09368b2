"""The attempts of a log in columns, batch by batch. Arrow reads CSV, many times as fast as row by row.

What it reads means exactly what `log_rows` says. What it cannot read, or what is wrong in a way that ends the reading,
is left to `log_rows`, which has the words for it. Needs numpy and pyarrow.
"""

from __future__ import annotations

import csv
import io
import itertools
import re
from collections.abc import Callable, Iterator, Mapping
from typing import Any, TypeAlias

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from ..errors import DurationError, InstantError, LogError
from .log_rows import OUTCOME_CODES, SCALES, Cells
from .log_sources import CsvFile, LogTable

Ints: TypeAlias = "np.ndarray[Any, np.dtype[Any]]"

Note: TypeAlias = "tuple[int, int, str]"
"""What is wrong with a row: the place of its file, its line, and words."""

NONE = -(1 << 63)
"""No instant, and no number."""
TEXTS = ("job", "name", "queue", "key", "args", "error", "worker", "effect")
_INSTANTS = ("started", "ended", "enqueued", "due")
SCHEMA = pa.schema([
    ("file", pa.int32()), ("line", pa.int64()), *((name, pa.string()) for name in TEXTS),
    *((name, pa.int64()) for name in (*_INSTANTS, "attempt")), ("outcome", pa.int8()),
])  # fmt: skip
"""One attempt a row. Instants are nanoseconds since the epoch; `file` is the place of the file in the list of files."""
_LINE_END = r"\r\n|\r|\n"
_BLOCK = 4 << 20
_SOME_ROWS = 50_000
_DIGITS = r"^(?P<whole>[0-9]{1,18})(?:\.(?P<rest>[0-9]{1,9}))?$"
_LONGEST = 4 * 10**18


class NotInColumns(Exception):
    """The log has something that can only be read, or only be told, row by row."""


def numbers(table: pa.Table, column: str) -> Ints:
    """Return a column of numbers, with `NONE` where nothing is."""
    found: Ints = table[column].fill_null(NONE).to_numpy()
    return found


def batches(
    table: LogTable, place: int, meaning: Mapping[str, int], cells: Cells, notes: list[Note],
    tell: Callable[[int], None],
) -> Iterator[pa.Table]:  # fmt: skip
    """Yield the rows of a table in batches, with the columns of `SCHEMA`.

    Parameters: `place` is the table's place among those of the log; `meaning` the place of each column; `notes` gets
    the rows of CSV that have too few or too many cells; `tell` is called with the bytes of CSV that are read, as they
    are without compression. Raises `NotInColumns`.
    """
    read = _rows(table, meaning) if table.csv is None else _csv(table.csv, _Lines(table.csv, place, notes), tell)
    try:
        for batch in read:
            yield _Batch(batch, place, meaning, cells).attempts()
    except (pa.ArrowException, InstantError, DurationError, LogError, ValueError, OverflowError, OSError) as error:
        raise NotInColumns(str(error)) from None


def _csv(csv: CsvFile, lines: _Lines, tell: Callable[[int], None]) -> Iterator[pa.Table]:
    """Yield batches of text from a file of CSV, with the line of each row."""
    with _opened(csv) as file:
        reader = pyarrow.csv.open_csv(
            file,
            read_options=pyarrow.csv.ReadOptions(
                use_threads=False, block_size=_BLOCK, column_names=list(map(str, range(csv.width))), skip_rows=1
            ),
            parse_options=pyarrow.csv.ParseOptions(
                delimiter=csv.delimiter, newlines_in_values=csv.has_quotes, ignore_empty_lines=False,
                invalid_row_handler=lines.ragged,
            ),
            convert_options=pyarrow.csv.ConvertOptions(
                column_types={str(n): pa.string() for n in range(csv.width)}, strings_can_be_null=False
            ),
        )  # fmt: skip
        for batch in reader:
            read = pa.Table.from_batches([batch])
            tell(file.tell())
            yield _without_empty(read.append_column("line", pa.array(lines.of(read))))
    lines.end()


def _rows(table: LogTable, meaning: Mapping[str, int]) -> Iterator[pa.Table]:
    """Yield batches of text from the rows of any table, with the line of each row."""
    rows = iter(table.rows)
    while some := list(itertools.islice(rows, _SOME_ROWS)):
        columns = {str(at): pa.array([values[at] for _, values in some], pa.string()) for at in meaning.values()}
        yield pa.table({**columns, "line": pa.array([line for line, _ in some], pa.int64())})


def _opened(csv: CsvFile) -> Any:
    if csv.compression is None:
        return pa.OSFile(csv.path)  # a mapped file would count as memory
    return pa.input_stream(csv.path, compression=csv.compression)


class _Lines:
    """Tells in which line of the file each row ends."""

    def __init__(self, csv: CsvFile, place: int, notes: list[Note]) -> None:
        self._csv = csv
        self._place = place
        self._notes = notes
        self._ragged: list[tuple[int, int, str]] = []
        self._row = 2  # the next row of the file, counted as Arrow does: the head is the first one
        self._line = 1

    def ragged(self, row: Any) -> str:
        """Note a row with too few or too many cells, and leave it out."""
        self._ragged.append((row.number, row.actual_columns, row.text))
        return "skip"

    def of(self, read: pa.Table) -> Ints:
        """Return the line of each row of the next batch."""
        rows = read.num_rows
        lengths = np.ones(rows, dtype=np.int64)
        if self._csv.has_quotes:
            for column in read.columns:
                lengths += pc.count_substring_regex(column, _LINE_END).to_numpy()
        skipped = 0
        lines = self._line + np.cumsum(lengths)
        while self._ragged and self._ragged[0][0] - self._row - skipped < rows:
            at = self._ragged[0][0] - self._row - skipped
            lines[at:] += self._note(int(lines[at] - lengths[at]))
            skipped += 1
        self._row += rows + skipped
        self._line = int(lines[-1]) if rows else self._line
        return lines

    def end(self) -> None:
        """Note the rows after the last batch."""
        while self._ragged:
            self._line += self._note(self._line)

    def _note(self, before: int) -> int:
        """Note the next row that is left out, after that line. Return how many lines it has."""
        _, cells, text = self._ragged.pop(0)
        length = 1 + len(re.findall(_LINE_END, text))
        if text.count('"') % 2:
            raise NotInColumns("a quote has no end")
        values = next(csv.reader(io.StringIO(text, newline=""), delimiter=self._csv.delimiter), [])
        if any(values):  # else it is not a row
            words = f"the head has {self._csv.width} columns, and this row has {cells}"
            self._notes.append((self._place, before + length, words))
        return length


def _without_empty(read: pa.Table) -> pa.Table:
    """Return the rows without those that have no text at all."""
    empty = pc.equal(read[0], "")
    for name in read.column_names[1:-1]:
        if not pc.any(empty).as_py():
            return read
        empty = pc.and_(empty, pc.equal(read[name], ""))
    return read.filter(pc.invert(empty))


class _Batch:
    """One batch of rows as text, and what they mean."""

    def __init__(self, read: pa.Table, place: int, meaning: Mapping[str, int], cells: Cells) -> None:
        self._read = read
        self._place = place
        self._meaning = meaning
        self._cells = cells
        self._rows = read.num_rows

    def attempts(self) -> pa.Table:
        """Return the attempts of the batch, with the columns of `SCHEMA`."""
        made = {
            "file": pa.repeat(pa.scalar(self._place, pa.int32()), self._rows), "line": self._read["line"],
            **{name: self._text(name) for name in TEXTS}, **{name: self._instants(name) for name in _INSTANTS},
            "attempt": self._attempt_numbers(), "outcome": self._outcomes(),
        }  # fmt: skip
        made["name"], made["queue"] = made["name"].fill_null("job"), made["queue"].fill_null("default")
        self._add_runtimes(made)
        if made["job"].null_count or made["started"].null_count:
            raise NotInColumns("a job or the start of an attempt is empty")
        return pa.table(made, schema=SCHEMA)

    def _text(self, field: str) -> Any:
        """Return a column of text without spaces around it; null where nothing is."""
        if field not in self._meaning:
            return pa.nulls(self._rows, pa.string())
        text = pc.utf8_trim_whitespace(self._read[str(self._meaning[field])])
        return pc.if_else(pc.equal(text, ""), None, text)

    def _instants(self, field: str) -> Any:
        """Return a column of instants as nanoseconds."""
        text = self._text(field)
        if text.null_count == self._rows:
            return pa.nulls(self._rows, pa.int64())
        zone = str(self._cells.timeline.zone)
        for read in (_with_offset, lambda one: _without_offset(one, zone), _since_1970):
            try:
                return read(text)
            except pa.ArrowInvalid:
                pass
        return self._each(text, self._cells.instant)

    def _each(self, text: Any, read: Any) -> Any:
        """Return what each different text means."""
        known = pc.unique(text).drop_null()
        means = pa.array([read(one) for one in known.to_pylist()], pa.int64())
        return means.take(pc.index_in(text, value_set=known))

    def _attempt_numbers(self) -> Any:
        text = self._text("attempt")
        try:
            return pc.cast(text, pa.int64())
        except pa.ArrowInvalid:
            return self._each(text, self._cells.number)

    def _outcomes(self) -> Any:
        text = self._text("outcome")
        if text.null_count:
            raise NotInColumns("an outcome is empty")
        return pc.cast(self._each(text, lambda word: OUTCOME_CODES[self._cells.outcome(word)]), pa.int8())

    def _add_runtimes(self, made: dict[str, Any]) -> None:
        """Work out starts and ends that are missing."""
        text = self._text("runtime")
        started, ended = made["started"], made["ended"]
        needed = pc.and_(pc.is_valid(text), pc.or_(pc.is_null(started), pc.is_null(ended)))
        if not pc.any(needed).as_py():
            return
        lengths = self._lengths(pc.if_else(needed, text, None))
        made["started"] = pc.coalesce(started, pc.subtract_checked(ended, lengths))
        made["ended"] = pc.coalesce(ended, pc.add_checked(started, lengths))

    def _lengths(self, text: Any) -> Any:
        try:
            exact = pc.multiply(pc.cast(text, pa.float64()), float(self._cells.unit))
        except pa.ArrowInvalid:
            return self._each(text, self._cells.length)
        if not pc.all(pc.and_(pc.greater_equal(exact, 0.0), pc.less(exact, float(_LONGEST)))).as_py():
            raise NotInColumns("a runtime is below 0, or very long")
        return pc.cast(pc.round(exact, round_mode="half_to_even"), pa.int64())


def _with_offset(text: Any) -> Any:
    return pc.cast(pc.cast(text, pa.timestamp("ns", "UTC")), pa.int64())


def _without_offset(text: Any, zone: str) -> Any:
    wall = pc.cast(text, pa.timestamp("ns"))
    if zone != "UTC":
        wall = pc.assume_timezone(wall, zone, ambiguous="earliest", nonexistent="raise")
    return pc.cast(wall, pa.int64())


def _since_1970(text: Any) -> Any:
    parts = pc.extract_regex(text, _DIGITS)
    if parts.null_count > text.null_count:
        raise pa.ArrowInvalid("not a number")
    whole, rest = pc.struct_field(parts, "whole"), pc.struct_field(parts, "rest")
    number = pc.cast(whole, pa.int64())
    scale = pa.scalar(SCALES[-1][1], pa.int64())
    for least, unit in reversed(SCALES[:-1]):
        scale = pc.if_else(pc.greater_equal(number, least), unit, scale)
    found = pc.multiply_checked(number, scale)
    if pc.any(pc.greater(pc.binary_length(rest), 0)).as_py():
        if pc.any(pc.equal(scale, 1)).as_py():
            raise pa.ArrowInvalid("a fraction of a nanosecond")
        digits = pc.cast(pc.if_else(pc.equal(rest, ""), "0", rest), pa.int64())
        power = pc.cast(pc.power(10.0, pc.cast(pc.binary_length(rest), pa.float64())), pa.int64())
        found = pc.add_checked(found, pc.divide(pc.multiply_checked(digits, scale), power))
    return found
