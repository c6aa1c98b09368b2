"""The rows of a log: CSV or JSON Lines, one attempt in each row, with columns that the reader names."""

from __future__ import annotations

import csv
import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from ..errors import InstantError, LogError, nearest
from ..foundation.durations import NS
from ..foundation.instants import Timeline

NEEDED = ("job", "started", "outcome")
FIELDS = {
    "job": "the job's id, the same for each of its attempts", "name": "its type", "queue": "its queue",
    "key": "what it is about", "args": "its arguments", "enqueued": "when it was enqueued",
    "due": "when it was due, if that is later", "attempt": "the attempt's number, from 1",
    "started": "when the attempt started", "ended": "when it ended", "outcome": "how it ended", "error": "its error",
    "worker": "who ran it", "effect": "the effect that it had outside",
}  # fmt: skip
"""What a column can mean."""

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
_FEW_BAD = 10
"""So many bad rows are never too many."""
_MOST = 1e21
_SCALES: tuple[tuple[float, int], ...] = ((1e17, 1), (1e14, 1_000), (1e11, 1_000_000), (0.0, NS))


@dataclass(frozen=True)
class Row:
    """One attempt of a log; instants are nanoseconds since the epoch."""

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


def read(
    path: str, columns: Mapping[str, str], outcomes: Mapping[str, str], zone: str, torn: list[str],
    keeps_doubles: bool = False, bad_rows: float = 0.1,
) -> Iterator[Row]:  # fmt: skip
    """Yield the rows of a log.

    Parameters as in `log_history`; `columns` has keys of `FIELDS`. Raises `LogError`.
    """
    if isinstance(bad_rows, bool) or not isinstance(bad_rows, (int, float)) or not 0 <= bad_rows <= 1:
        raise LogError(f"bad_rows is {bad_rows!r}; give a share from 0 to 1")
    for field in columns:
        if field not in FIELDS:
            raise LogError(f"unknown meaning of a column {field!r}; {nearest(field, FIELDS)}")
    for word in outcomes.values():
        if word not in ("done", "failed", "timed-out", "crashed", "dead"):
            raise LogError(f"unknown outcome {word!r}; give done, failed, timed-out, crashed or dead")
    names = {field: columns.get(field, field) for field in FIELDS}
    timeline = Timeline(zone)
    known = {**OUTCOMES, **{word.lower(): outcome for word, outcome in outcomes.items()}}
    some, count, before = False, 0, len(torn)
    seen: dict[int, int] = {}  # by the hash of a row, its line
    for line, raw in _lines(path, torn):
        if not some:
            some = True
            _must_have(path, line, names, columns, raw)
        try:
            row = _row(path, line, raw, names, timeline, known)
        except (InstantError, ValueError, OverflowError) as error:
            raise LogError(f"{path}:{line}: {error}") from None
        count += 1
        first = seen.setdefault(hash(replace(row, line=0)), line)
        if first != line and not keeps_doubles:
            torn.append(f"{path}:{line}: the row is the same as that of line {first}; it counts once")
        elif row.ended is not None and row.ended < row.started:
            words = f"it ends at {timeline.text(row.ended)}, before it starts at {timeline.text(row.started)}"
            torn.append(f"{path}:{line}: {words}; the row is left out")
        else:
            if row.ended is None and names["ended"] in raw:
                torn.append(f"{path}:{line}: it has no end; the attempt is taken to run on")
            yield row
    if not some:
        raise LogError(f"{path} has no rows; a log has one row for each attempt")
    bad = len(torn) - before
    if bad > max(_FEW_BAD, bad_rows * count):
        raise LogError(
            f"{path}: {bad:,} of its rows are bad, which is more than {bad_rows:.0%} of {count:,}. The first is: "
            f"{torn[before]}. Mend the log, or allow a larger share"
        )


def _lines(path: str, torn: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    try:
        with open(path, encoding="utf-8-sig", newline="") as file:
            if path.endswith((".jsonl", ".ndjson", ".json")):
                yield from _json_lines(file, path, torn)
            else:
                yield from _csv_lines(file, path, torn)
    except (OSError, UnicodeDecodeError) as error:
        raise LogError(f"cannot read {path}: {error}") from None
    except csv.Error as error:
        raise LogError(f"{path}: the file is not CSV: {error}") from None


def _json_lines(file: Iterable[str], path: str, torn: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    for number, text in enumerate(file, 1):
        if not text.strip():
            continue
        try:
            value = json.loads(text)
        except ValueError as error:
            torn.append(f"{path}:{number}: the line is not whole JSON: {error}")
            continue
        if isinstance(value, dict):
            yield number, value
        else:
            torn.append(f"{path}:{number}: the line is {type(value).__name__}; each row is a JSON object")


def _csv_lines(file: Iterable[str], path: str, torn: list[str]) -> Iterator[tuple[int, dict[str, Any]]]:
    reader = csv.DictReader(file)
    width = len(reader.fieldnames or ())
    for row in reader:
        values = list(row.values())
        if None in row or len(values) != width or None in values:
            torn.append(f"{path}:{reader.line_num}: the head has {width} columns, this row has another number")
            continue
        yield reader.line_num, row


def _must_have(
    path: str, line: int, names: Mapping[str, str], given: Mapping[str, str], raw: Mapping[str, Any]
) -> None:
    missing = [field for field in FIELDS if (field in NEEDED or field in given) and names[field] not in raw]
    if missing:
        what = ", ".join(f"{field} ({FIELDS[field]})" for field in missing)
        raise LogError(
            f"{path}:{line}: columns are missing: {what}. The log has {', '.join(map(str, raw))}. "
            f"Say which is which: {' '.join(f'--column {field}=...' for field in missing)}"
        )


def _row(
    path: str, line: int, raw: Mapping[str, Any], names: Mapping[str, str], timeline: Timeline, known: Mapping[str, str]
) -> Row:
    def value(field: str) -> str:
        found = raw.get(names[field])
        if found is None:
            return ""
        return found.strip() if isinstance(found, str) else json.dumps(found, ensure_ascii=False)

    def instant(field: str) -> int | None:
        found = value(field)
        return to_instant(found, timeline) if found else None

    started = instant("started")
    job, word = value("job"), value("outcome")
    if started is None or not job or not word:
        empty = [field for field in NEEDED if not value(field)]
        raise ValueError(f"{' and '.join(empty)} {'is' if len(empty) == 1 else 'are'} empty")
    outcome = known.get(word.lower())
    if outcome is None:
        raise ValueError(f"unknown outcome {word!r}; say what it means: --outcome {word}=failed")
    attempt = value("attempt")
    return Row(
        line, job, value("name") or "job", started, outcome, instant("ended"), instant("enqueued"), instant("due"),
        _number(attempt) if attempt else None, value("queue") or "default", value("key") or None, value("args"),
        value("error"), value("worker"), value("effect"),
    )  # fmt: skip


def _number(text: str) -> int:
    try:
        return int(float(text))  # tools write whole numbers as 1.0 if the column has gaps
    except ValueError:
        raise ValueError(f"the attempt is {text!r}; it must be a number") from None


def to_instant(text: str, timeline: Timeline) -> int:
    """Return an instant as nanoseconds since the epoch.

    Parameters: `text` is ISO 8601, or a number since 1970. The size of the number tells if it is seconds, milliseconds,
    microseconds or nanoseconds. Raises `InstantError`.
    """
    try:
        number = float(text)
    except ValueError:
        return timeline.ns(text.replace(" ", "T", 1) if " " in text else text)
    found = _scaled(text, number)
    try:
        timeline.at(found)
    except (OverflowError, ValueError):
        raise InstantError(f"{text} is not an instant in the years 1 to 9999") from None
    return found


def _scaled(text: str, number: float) -> int:
    if not abs(number) < _MOST:
        raise InstantError(f"{text} is too large for seconds, milliseconds, microseconds or nanoseconds since 1970")
    scale = next((scale for least, scale in _SCALES if abs(number) >= least), NS)
    if text.isdigit():
        return int(text) * scale
    whole, _, rest = text.partition(".")
    if rest.isdigit() and whole.isdigit() and scale > 1:
        return int(whole) * scale + int(rest) * scale // int(10 ** len(rest))
    return round(number * scale)
