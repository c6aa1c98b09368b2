"""Histories made from the log of a real run."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping, Sequence
from importlib.util import find_spec
from os import PathLike, fspath
from typing import Any, TypedDict

from ..errors import LogError
from ..foundation.example_files import example
from ..foundation.instants import InstantTexts, Timeline
from ..foundation.paused_collector import paused_collector
from .entries import Entry
from .history import History
from .log_rows import OF_AN_INSTANT, ORDER, Reading, Row, Seen, read
from .log_sources import opened_table, size_of

_LARGE = 500_000
"""The size in bytes from which files are read in columns. For smaller ones, the import alone would take longer."""


class LogKeywords(TypedDict, total=False):
    """The keywords of `log_history`."""

    columns: Mapping[str, str] | None
    outcomes: Mapping[str, str] | None
    zone: str
    torn: list[str] | None
    keeps_doubles: bool
    bad_rows: float
    delimiter: str | None
    encoding: str | None
    query: str | None
    guessed: dict[str, str] | None


def log_history(
    path: str | PathLike[str] | Sequence[str | PathLike[str]], *, columns: Mapping[str, str] | None = None,
    outcomes: Mapping[str, str] | None = None, zone: str = "UTC", torn: list[str] | None = None,
    keeps_doubles: bool = False, bad_rows: float = 0.1, delimiter: str | None = None, query: str | None = None,
    guessed: dict[str, str] | None = None, encoding: str | None = None,
) -> History:  # fmt: skip
    """Return the history of a real run, made from its log. Each row of the log is one attempt, or one event.

    Parameters:

    - `path`: a file, or several of them: CSV, JSON Lines, a JSON array, or OpenTelemetry spans (OTLP/JSON); also
      compressed (gzip, bzip2, xz). With `query`: the URL of a database, such as ``"postgresql://..."``.
    - `columns`: by what a column means (job, name, queue, key, args, enqueued, due, attempt, started, ended, runtime,
      outcome, error, worker, effect; event and time if each row is one event), its name in the log. Keys inside of JSON
      objects are written ``meta.job.id``. Default: the same name, or one that is usual for it.
    - `outcomes`: by a word of the log, one of done, failed, timed-out, crashed or dead (of an event also enqueued or
      started). Default: the usual words.
    - `zone`: the zone of times without an offset. Default UTC.
    - `torn`: a list that gets a line for each bad row: one that cannot be read or ends before it starts (such a row is
      left out), has no end (it counts as what its outcome says, and its length as nothing), or is the same as another
      one (it counts once). Default None.
    - `keeps_doubles`: True: equal rows count as several attempts. Default False.
    - `bad_rows`: the share of bad rows, from 0 to 1, above which the log is refused; ten are never too many. Default
      0.1.
    - `delimiter`: what separates the columns of CSV. Default None: comma, semicolon, tab or bar, as the head has them.
    - `query`: a SELECT whose result is the log. Needs the extra ``ironclock[query]`` and the database's driver.
    - `encoding`: the encoding of the text, such as ``"latin-1"``. Default None: UTF-8, or UTF-16 if it
      begins as that does.
    - `guessed`: a mapping that gets the columns that were guessed from their names, as `columns` has them.

    Raises `LogError`.

    Example::

        history = ic.log_history("friday.csv", columns={"job": "message_id"}, zone="Atlantic/Faroe")
    """
    bad = torn if torn is not None else []
    before = len(bad)
    reading = Reading.of(columns, outcomes, zone, keeps_doubles, bad_rows)
    places = places_of(path, query)
    with paused_collector():
        if has_arrow() and encoding is None and (query is not None or size_of(places) >= _LARGE):
            from .log_parts import in_columns

            found = in_columns(places, reading, delimiter, query, bad, guessed)
            if found is not None:
                return found
            del bad[before:]
        rows: list[Row] = []
        seen: Seen = {}
        for one in places:
            with opened_table(one, bad, delimiter, query, encoding) as table:
                rows += read(table, reading, reading.meaning(table, guessed), bad, seen)
        return history_of(rows, zone)


def places_of(path: str | PathLike[str] | Sequence[str | PathLike[str]], query: str | None) -> list[str]:
    """Return the files of a log, or the URL of a database. Raises `LogError` if the list is empty."""
    paths = [path] if isinstance(path, (str, PathLike)) else list(path)
    if not paths:
        raise LogError("the list of logs is empty; give the path of at least one")
    return [fspath(one) if query else example(fspath(one)) for one in paths]


def has_arrow() -> bool:
    """Return True if logs can be read in columns."""
    return all(find_spec(name) is not None for name in ("numpy", "pyarrow"))


def give_back_memory() -> None:
    """Give back the memory that logs in columns have used, and need no more."""
    arrow = sys.modules.get("pyarrow")
    if arrow is not None:
        arrow.default_memory_pool().release_unused()


def history_of(rows: Iterable[Row], zone: str) -> History:
    """Return the history of attempts. If another attempt follows a failed one, it was tried again. If none does, the
    job is dead."""
    timeline = Timeline(zone)
    texts = InstantTexts(timeline)
    jobs: dict[str, list[Row]] = {}
    for row in rows:
        jobs.setdefault(row.job, []).append(row)
    entries: list[tuple[int, int, int, Entry]] = []

    def add(ns: int, what: str, job: str, name: str, attempt: int, data: dict[str, Any]) -> None:
        entry = Entry(timeline, ns, what, job, name, attempt, data)
        rank = ORDER[what] + (OF_AN_INSTANT if attempt in instant and what != "started" else 0)
        entries.append((ns, rank, len(entries), entry))

    for job, attempts in jobs.items():
        if len(attempts) > 1:
            attempts.sort(key=lambda row: (row.started, row.attempt or 0, row.line))
        first = attempts[0]
        enqueued = min(row.enqueued if row.enqueued is not None else row.started for row in attempts)
        due = first.due if first.due is not None else enqueued
        instant: set[int] = {n for n, row in enumerate(attempts, 1) if row.ended == row.started}
        about: dict[str, Any] = {"queue": first.queue, "args": [first.args] if first.args else []}
        about["due"] = texts.text(max(due, enqueued))
        if first.key is not None:
            about["key"] = first.key
        add(enqueued, "enqueued", job, first.name, 0, about)
        for number, row in enumerate(attempts, 1):
            if row.outcome == "enqueued":
                continue
            add(row.started, "started", job, first.name, number, {"worker": row.worker or "?"})
            if row.ended is None:
                continue
            follows = attempts[number] if number < len(attempts) else None
            if row.effect and row.outcome == "done":
                effect = {"effect": row.effect, "outcome": "done", **({} if row.key is None else {"key": row.key})}
                add(row.ended, "effect", job, first.name, number, effect)
            if row.outcome == "done":
                add(row.ended, "done", job, first.name, number, {})
            elif row.outcome == "crashed":
                add(row.ended, "crashed", job, first.name, number, {"seam": "start"})
                if follows is not None:
                    add(max(row.ended, 0), "redelivered", job, first.name, 0, {"why": "its worker died"})
            else:
                error, _, message = row.error.partition(": ")
                data: dict[str, Any] = {"error": error or "Error", "message": message}
                if follows is not None and row.outcome != "dead":
                    data |= {"then": "backing-off", "wait_ns": max(0, follows.started - row.ended)}
                else:
                    data["then"] = "dead"
                what = "failed" if row.outcome == "dead" else row.outcome
                add(row.ended, what, job, first.name, number, data)
    entries.sort(key=lambda item: item[:3])
    return History.of_entries(timeline, [item[3] for item in entries])
