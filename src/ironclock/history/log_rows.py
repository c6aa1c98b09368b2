"""The rows of a log: one attempt each, with what its columns mean; or made from rows with one event each."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from operator import itemgetter
from typing import Any, NamedTuple

from ..errors import DurationError, InstantError, LogError
from ..foundation.durations import NS, to_ns
from ..foundation.instants import Timeline
from .log_columns import meaning_of, unit_of
from .log_sources import LogTable

OUTCOMES = {
    "done": "done", "ok": "done", "success": "done", "succeeded": "done", "successful": "done", "completed": "done",
    "complete": "done", "finished": "done", "true": "done", "1": "done", "200": "done",
    "failed": "failed", "failure": "failed", "fail": "failed", "error": "failed", "errored": "failed",
    "false": "failed", "0": "failed", "retry": "failed", "retried": "failed", "exception": "failed",
    "timed-out": "timed-out", "timeout": "timed-out", "timed_out": "timed-out",
    "crashed": "crashed", "killed": "crashed", "lost": "crashed",
    "dead": "dead", "dead-letter": "dead", "discarded": "dead",
}  # fmt: skip
"""Words for outcomes that need no mapping."""
EVENTS = {
    "enqueued": "enqueued", "queued": "enqueued", "created": "enqueued", "published": "enqueued", "sent": "enqueued",
    "submitted": "enqueued", "scheduled": "enqueued", "added": "enqueued",
    "started": "started", "start": "started", "begin": "started", "begun": "started", "running": "started",
    "processing": "started", "picked-up": "started", "active": "started", "attempt": "started",
}  # fmt: skip
"""Words for events that need no mapping, beside the outcomes."""
_FEW_BAD = 10
"""So many bad rows are never too many."""
_MOST = 1e21
SCALES: tuple[tuple[int, int], ...] = ((10**17, 1), (10**14, 1_000), (10**11, 1_000_000), (0, NS))
"""From which size on a number since 1970 is in nanoseconds, microseconds, milliseconds or seconds; and that unit."""
ORDER = {
    "enqueued": 0, "effect": 1, "done": 2, "failed": 2, "timed-out": 2, "crashed": 2, "redelivered": 3, "started": 4,
}  # fmt: skip
"""The order of events to which a log gives the same instant."""
OF_AN_INSTANT = 4
"""What is added for the end of an attempt that takes no time: it ends after it starts, and not before."""
OUTCOME_CODES = {"done": 0, "failed": 1, "timed-out": 2, "crashed": 3, "dead": 4}
"""The outcomes of attempts, and the number that stands for each in columns."""
_KNOWN_OUTCOMES = tuple(OUTCOME_CODES)


class Row(NamedTuple):
    """One attempt; instants are nanoseconds since the epoch. With the outcome ``enqueued``, a job without attempts."""

    line: int
    job: str
    name: str
    started: int
    outcome: str
    ended: int | None = None
    enqueued: int | None = None
    due: int | None = None
    attempt: int | None = None
    queue: str = "default"
    key: str | None = None
    args: str = ""
    error: str = ""
    worker: str = ""
    effect: str = ""


class _Places(NamedTuple):
    """The place of each column in a row."""

    job: int
    name: int
    queue: int
    key: int
    args: int
    enqueued: int
    due: int
    attempt: int
    started: int
    ended: int
    runtime: int
    outcome: int
    error: int
    worker: int
    effect: int


@dataclass(frozen=True)
class Reading:
    """How to read logs. Parameters as in `log_history`."""

    columns: Mapping[str, str]
    outcomes: Mapping[str, str]
    zone: str
    keeps_doubles: bool = False
    bad_rows: float = 0.1

    @classmethod
    def of(
        cls, columns: Mapping[str, str] | None = None, outcomes: Mapping[str, str] | None = None, zone: str = "UTC",
        keeps_doubles: bool = False, bad_rows: float = 0.1,
    ) -> Reading:  # fmt: skip
        """Return how to read logs, from the keywords of `log_history`. Raises `LogError`."""
        return cls(columns or {}, outcomes or {}, zone, keeps_doubles, bad_rows)

    def __post_init__(self) -> None:
        share = self.bad_rows
        if isinstance(share, bool) or not isinstance(share, (int, float)) or not 0 <= share <= 1:
            raise LogError(f"bad_rows is {share!r}; give a share from 0 to 1")
        for word in self.outcomes.values():
            if word not in (*_KNOWN_OUTCOMES, "enqueued", "started"):
                raise LogError(
                    f"unknown outcome {word!r}; give {', '.join(_KNOWN_OUTCOMES[:-1])} or {_KNOWN_OUTCOMES[-1]}"
                )

    def meaning(self, table: LogTable, guessed: dict[str, str] | None) -> dict[str, str]:
        """Return which column of a table holds what. `guessed` gets what is guessed. Raises `LogError`."""
        return meaning_of(table.place, table.names, self.columns, guessed)

    def must_be_good(self, place: str, bad: int, rows: int, first: str) -> None:
        """Raise `LogError` if too many rows of a log are bad, or it has none. `first` is the first bad row in words."""
        if not rows:
            raise LogError(f"{place} has no rows; a log has one row for each attempt, or for each event")
        if bad > max(_FEW_BAD, self.bad_rows * rows):
            raise LogError(
                f"{place}: {bad:,} of its rows are bad, which is more than {self.bad_rows:.0%} of {rows:,}. "
                f"The first is: {first}. Mend the log, or allow a larger share"
            )


Seen = dict[int, tuple[str, int]]
"""By the hash of a row, where it stands: its file and its line."""


def doubled(place: str, first: tuple[str, int]) -> str:
    """Return what is said of a row of a file that is there already."""
    where = f"that of line {first[1]}" if first[0] == place else f"that of {first[0]}:{first[1]}"
    return f"the row is the same as {where}; it counts once"


def ends_too_early(timeline: Timeline, started: int, ended: int) -> str:
    """Return what is said of a row that ends before it starts."""
    text = timeline.text
    return f"it ends at {text(ended)}, before it starts at {text(started)}; the row is left out"


NO_END = "it has no end; it counts as what its outcome says, and its length is not known"
RUNS_ON = "has no end; the attempt is taken to run on"


def read(table: LogTable, reading: Reading, meaning: Mapping[str, str], torn: list[str], seen: Seen) -> Iterator[Row]:
    """Yield the rows of a log.

    Parameters: `meaning` is which column holds what; `torn` gets a line for each bad row; `seen` gets the rows, so that
    those of several files count once. Raises `LogError`.
    """
    reader = _Reader(table, reading, meaning, torn, seen)
    return reader.attempts()


class Cells:
    """What the cells of a log mean. `runtime` is the column of runtimes: its name says the unit."""

    def __init__(self, reading: Reading, runtime: str | None) -> None:
        self.timeline = Timeline(reading.zone)
        self.instant = Instants(self.timeline).read
        self.unit = NS if runtime is None else unit_of(runtime)
        """The unit of a runtime that is a number, in nanoseconds."""
        self._outcomes: dict[str, str] = {}  # by a word of the log, what it means
        self._words = {word.lower(): outcome for word, outcome in reading.outcomes.items()}

    def outcome(self, word: str) -> str:
        """Return what a word for an outcome means. Raises `ValueError`."""
        known = self._outcomes.get(word)
        if known is not None:
            return known
        found = self._words.get(word.lower()) or OUTCOMES.get(word.lower())
        if found is None or found not in _KNOWN_OUTCOMES:
            raise ValueError(f"unknown outcome {word!r}; say what it means: --outcome {word}=failed")
        self._outcomes[word] = found
        return found

    def event(self, word: str) -> str:
        """Return what a word for an event means. Raises `ValueError`."""
        plain = word.lower().replace("_", "-")
        plain = re.sub(r"^(?:job|task|message)[-. :]", "", plain)
        found = self._words.get(word.lower()) or EVENTS.get(plain) or OUTCOMES.get(plain)
        if found is None:
            raise ValueError(
                f"unknown event {word!r}; say what it means: --outcome {word}=failed (or =started, =enqueued)"
            )
        return found

    def length(self, text: str) -> int:
        """Return a runtime in nanoseconds: a number in the unit of its column, or a duration such as ``350ms``."""
        try:
            number = float(text)
        except ValueError:
            return to_ns(text.replace(" ", ""), what="runtime")
        if not 0 <= number * self.unit < _MOST:
            raise ValueError(f"the runtime is {text}; give a duration of at least 0")
        return round(number * self.unit)

    def number(self, text: str) -> int:
        """Return the number of an attempt. Raises `ValueError`."""
        try:
            return int(float(text))  # tools write whole numbers as 1.0 if the column has gaps
        except ValueError:
            raise ValueError(f"the attempt is {text!r}; it must be a number") from None


class _Reader:
    def __init__(
        self, table: LogTable, reading: Reading, meaning: Mapping[str, str], torn: list[str], seen: Seen
    ) -> None:
        self._table = table
        self._place = table.place
        self._reading = reading
        self._torn = torn
        self._seen = seen
        self._before = len(torn)
        self._by_events = "event" in meaning
        self._at = {field: table.names.index(column) for field, column in meaning.items()}
        self._cells = Cells(reading, meaning.get("runtime"))
        missing = len(table.names)
        self._places = _Places(*(self._at.get(field, missing) for field in _Places.__annotations__))
        self._count = 0

    def attempts(self) -> Iterator[Row]:
        """Yield the attempts. Raises `LogError` if too many rows are bad."""
        yield from self._of_events() if self._by_events else self._of_attempts()
        bad = self._torn[self._before :]
        self._reading.must_be_good(self._place, len(bad), self._count, bad[0] if bad else "")

    def _is_double(self, line: int, row: Any) -> bool:
        """Return True, and say so, if there is a row that says the same."""
        here = self._place, line
        first = here if self._reading.keeps_doubles else self._seen.setdefault(hash(row), here)
        if first is not here:
            self._bad(line, doubled(self._place, first))
        return first is not here

    def _bad(self, line: int, words: str) -> None:
        self._torn.append(f"{self._place}:{line}: {words}")

    def _wrong(self, line: int, error: Exception) -> LogError:
        return LogError(f"{self._place}:{line}: {error}")

    # --- a row is an attempt ------------------------------------------------------------------------

    def _of_attempts(self) -> Iterator[Row]:
        has_end = "ended" in self._at or "runtime" in self._at
        for line, values in self._table.rows:
            self._count += 1
            try:
                row = self._attempt(line, values)
            except (InstantError, DurationError, ValueError, OverflowError) as error:
                raise self._wrong(line, error) from None
            if self._is_double(line, row[1:]):
                continue
            if row.ended is None:  # it ended, at some instant: an attempt that runs on would break laws that hold
                if has_end:
                    self._bad(line, NO_END)
                row = row._replace(ended=row.started)
            elif row.ended < row.started:
                self._bad(line, ends_too_early(self._cells.timeline, row.started, row.ended))
                continue
            yield row

    def _attempt(self, line: int, values: list[str]) -> Row:
        cells = self._cells
        read = cells.instant
        values = [*map(str.strip, values), ""]  # the last one is that of a column that the log has not
        at = self._places
        started = read(values[at.started]) if values[at.started] else None
        ended = read(values[at.ended]) if values[at.ended] else None
        if values[at.runtime] and (ended is None or started is None):
            length = cells.length(values[at.runtime])
            if started is None and ended is not None:
                started = ended - length
            elif started is not None:
                ended = started + length
        job, word = values[at.job], values[at.outcome]
        if started is None or not job or not word:
            empty = [f for f, v in (("job", job), ("started", started), ("outcome", word)) if v is None or v == ""]
            raise ValueError(f"{' and '.join(empty)} {'is' if len(empty) == 1 else 'are'} empty")
        enqueued, due, attempt = values[at.enqueued], values[at.due], values[at.attempt]
        return Row(
            line, job, values[at.name] or "job", started, cells.outcome(word), ended,
            read(enqueued) if enqueued else None, read(due) if due else None,
            cells.number(attempt) if attempt else None, values[at.queue] or "default",
            values[at.key] or None, values[at.args], values[at.error], values[at.worker], values[at.effect],
        )  # fmt: skip

    # --- a row is an event --------------------------------------------------------------------------

    def _of_events(self) -> Iterator[Row]:
        """Put events together: an attempt begins with a start, and ends with the next event of its job."""
        events: list[tuple[int, int, str, list[str]]] = []
        used = itemgetter(*sorted(set(self._at.values())))
        cells = self._cells
        for line, values in self._table.rows:
            self._count += 1
            if self._is_double(line, used(values)):
                continue
            try:
                at = cells.instant(values[self._at["time"]].strip())
                events.append((at, line, cells.event(values[self._at["event"]].strip()), values))
            except (InstantError, ValueError, OverflowError) as error:
                raise self._wrong(line, error) from None
        events.sort(key=lambda event: event[:2])
        enqueued: dict[str, int] = {}
        first: dict[str, list[str]] = {}
        open_rows: dict[str, tuple[int, int, list[str]]] = {}
        started: set[str] = set()

        def value(field: str, *rows: list[str]) -> str:
            place = self._at.get(field)
            return "" if place is None else next((row[place].strip() for row in rows if row[place].strip()), "")

        def row(job: str, line: int, begin: int, end: int | None, outcome: str, *rows: list[str]) -> Row:
            both = (*rows, first[job])
            due, attempt = value("due", *both), value("attempt", *rows)
            return Row(
                line, job, value("name", *both) or "job", begin, outcome, end, enqueued.get(job),
                cells.instant(due) if due else None, cells.number(attempt) if attempt else None,
                value("queue", *both) or "default", value("key", *both) or None, value("args", *both),
                value("error", *rows), value("worker", *rows), value("effect", *rows),
            )  # fmt: skip

        for at, line, what, values in events:
            job = value("job", values)
            if not job:
                raise self._wrong(line, ValueError("job is empty"))
            first.setdefault(job, values)
            begun = open_rows.pop(job, None)
            if what == "enqueued":
                enqueued.setdefault(job, at)
                if begun is not None:
                    open_rows[job] = begun
            elif what == "started":
                started.add(job)
                if begun is not None:  # the worker of the attempt before was never heard of again
                    yield row(job, begun[1], begun[0], at, "crashed", begun[2])
                open_rows[job] = (at, line, values)
            elif begun is None:
                self._bad(line, f"{job} ends ({what}) without a start; the row is left out")
            else:
                yield row(job, begun[1], begun[0], at, what, values, begun[2])
        for job, (at, line, values) in open_rows.items():
            self._bad(line, f"{job} {RUNS_ON}")
            yield row(job, line, at, None, "done", values)
        for job in enqueued:
            if job not in started:
                yield row(job, 0, enqueued[job], None, "enqueued", first[job])


class Instants:
    """Reads the instants of a log: ISO 8601 (also with a space, a comma, or `UTC` at the end), or a number since 1970.

    The size of a number tells if it is seconds, milliseconds, microseconds or nanoseconds.
    """

    def __init__(self, timeline: Timeline) -> None:
        self.timeline = timeline
        self._minutes: dict[tuple[str, str], int] = {}
        """By a minute and an offset as text, its nanoseconds: most rows of a log share theirs with others."""

    def read(self, text: str) -> int:
        """Return an instant as nanoseconds since the epoch. Raises `InstantError`."""
        if text[16:17] == ":" and text[17:19].isdigit():
            digits, offset = "", text[19:]
            if offset[:1] in (".", ","):
                end = 1
                while offset[end : end + 1].isdigit():
                    end += 1
                digits, offset = offset[1:end], offset[end:]
            key = (text[:16], offset)
            minute = self._minutes.get(key)
            if minute is None:
                minute = self._minutes[key] = self._slowly(f"{text[:16]}:00{offset}", text)
            second = int(text[17:19])
            if second < 60:
                return minute + second * NS + (int(f"{digits:0<9.9}") if digits else 0)
        return self._slowly(text, text)

    def _slowly(self, text: str, whole: str) -> int:
        try:
            number = float(text)
        except ValueError:
            plain = re.sub(r"\s*(?:UTC|GMT)$", "+00:00", text)
            plain = re.sub(r"\s+(?=[+-]\d\d)", "", plain.replace(" ", "T", 1)).replace(",", ".")
            try:
                return self.timeline.ns(plain)
            except InstantError as error:
                raise InstantError(str(error).replace(repr(plain), repr(whole))) from None
        found = _scaled(text, number)
        try:
            self.timeline.at(found)
        except (OverflowError, ValueError):
            raise InstantError(f"{text} is not an instant in the years 1 to 9999") from None
        return found


def _scaled(text: str, number: float) -> int:
    if not abs(number) < _MOST:
        raise InstantError(f"{text} is too large for seconds, milliseconds, microseconds or nanoseconds since 1970")
    scale = next((scale for least, scale in SCALES if abs(number) >= least), NS)
    if text.isdigit():
        return int(text) * scale
    whole, _, rest = text.partition(".")
    if rest.isdigit() and whole.isdigit() and scale > 1:
        return int(whole) * scale + int(rest) * scale // int(10 ** len(rest))
    return round(number * scale)
