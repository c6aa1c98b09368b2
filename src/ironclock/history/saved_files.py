"""Saved histories: JSON Lines, a header line and then one line for each entry. docs/history.md describes the format."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Iterable, Iterator
from os import PathLike, fspath
from typing import Any, TypeAlias

from ..errors import HistoryError, InstantError, IronClockError
from ..foundation.instants import LATEST_NS, InstantTexts, Timeline
from .entries import Entry
from .records import plain

FORMAT = "ironclock-history"
VERSION = 1
_HEAD = frozenset(("at", "ns", "what", "job", "name", "attempt", "data"))
"""The keys of every line. If data have one of these names, all of them stand apart, under ``data``."""

# One encoder for all lines: to make one takes longer than to use it.
_encode = json.JSONEncoder(ensure_ascii=False).encode
_encode_escaped = json.JSONEncoder().encode
_encode_sorted = json.JSONEncoder(sort_keys=True).encode
_SURROGATES = re.compile("[\ud800-\udfff]")


# --- writing ----------------------------------------------------------------------------------------------


Row: TypeAlias = "tuple[int, str, str | None, str | None, int, dict[str, Any]]"
"""What an entry holds: its instant, what happened, the id and name of its job, the attempt, and its data."""


def _line(row: Row, text: Callable[[int], str]) -> dict[str, Any]:
    ns, what, job, name, attempt, data = row
    line: dict[str, Any] = {"at": text(ns), "ns": ns, "what": what}
    if job is not None:
        line["job"], line["name"] = job, name
    if attempt:
        line["attempt"] = attempt
    if _HEAD.isdisjoint(data):
        line.update(data)
    else:  # an effect of a service can have any data
        line["data"] = data
    return line


def digest_lines(rows: Iterable[Row], texts: InstantTexts) -> Iterator[bytes]:
    """Iterate over what a digest is made of, one line for each entry."""
    for row in rows:
        line = _line(row, texts.text)
        if row[1] != "effect":  # words of errors differ between Python versions
            line.pop("message", None)
            line.pop("line", None)
        yield _encode_sorted(line).encode() + b"\n"


def write(
    path: str | PathLike[str], rows: Iterable[Row], texts: InstantTexts, zone: object, seed: object,
    facts: dict[str, Any],
) -> None:  # fmt: skip
    """Write a history. `facts` are what else the header tells. Raises `HistoryError` if that is impossible."""
    head = {"format": FORMAT, "version": VERSION, "zone": str(zone), "seed": plain(seed), **facts}
    part = f"{os.fspath(path)}.part"
    try:
        with open(part, "w", encoding="utf-8") as file:
            file.write(json.dumps(head) + "\n")
            for row in rows:
                line = _line(row, texts.text)
                written = _encode(line)
                # Half of a surrogate pair is text for Python, and not for UTF-8. JSON can write it with an escape.
                if not written.isascii() and _SURROGATES.search(written):
                    written = _encode_escaped(line)
                file.write(written + "\n")
        os.replace(part, path)
    except OSError as error:
        raise HistoryError(f"cannot write the history to {os.fspath(path)}: {error.strerror}") from error


# --- reading ----------------------------------------------------------------------------------------------


def read(path: str | PathLike[str], torn: list[str] | None) -> tuple[Timeline, object, list[Entry], dict[str, Any]]:
    """Return the timeline, the seed, the entries and the facts of a saved history. `torn` is as in `History.load`.

    Raises `HistoryError`, which names the file and the line.
    """
    name = os.fspath(path)
    try:
        with open(path, "rb") as file:
            head = _json(file.readline(), name, 1)
            timeline, facts = _read_head(head, name)
            return timeline, head.get("seed", 0), _Entries(timeline, name).read(file, torn), facts
    except OSError as error:
        raise HistoryError(f"cannot read {name}: {error}") from None


def _json(text: bytes, name: str, number: int) -> dict[str, Any]:
    try:
        line = json.loads(text.decode())
    except (ValueError, RecursionError) as error:
        raise HistoryError(f"{name}:{number}: the line is not JSON: {error}") from None
    if not isinstance(line, dict):
        raise HistoryError(f"{name}:{number}: the line is {type(line).__name__}; each entry is a JSON object")
    return line


def _is_instant(value: Any) -> bool:
    return type(value) is int and abs(value) < LATEST_NS


def _is_text(value: Any) -> bool:
    return type(value) is str


def _is_count(value: Any) -> bool:
    return type(value) is int and 0 <= value < LATEST_NS


def _is_list_of_text(value: Any) -> bool:
    return isinstance(value, list) and all(map(_is_text, value))


_FACTS: dict[str, Callable[[Any], bool]] = {
    "end": _is_instant, **dict.fromkeys(("job_types", "effects", "addressed", "schedules"), _is_list_of_text),
    "nothing_pending": lambda value: isinstance(value, bool),
}  # fmt: skip


def _read_head(head: dict[str, Any], name: str) -> tuple[Timeline, dict[str, Any]]:
    """Return the timeline and the facts of a saved history."""
    if head.get("format") != FORMAT:
        raise HistoryError(
            f'{name}:1: not a saved history (its first line has no "format": "{FORMAT}"); '
            "give a file that History.save or --save wrote"
        )
    if head.get("version") != VERSION:
        raise HistoryError(
            f"{name}:1: the history has version {head.get('version')!r}, this release reads version {VERSION}; "
            "save it again with this release"
        )
    zone = head.get("zone", "UTC")
    try:
        timeline = Timeline(str(zone))
    except (InstantError, ValueError, OSError) as error:
        raise HistoryError(f"{name}:1: the zone is {zone!r}: {error}") from None
    for fact, fits in _FACTS.items():
        if fact in head and not fits(head[fact]):
            raise HistoryError(f"{name}:1: {fact} is {head[fact]!r}; save the history again")
    return timeline, {fact: head[fact] for fact in _FACTS if fact in head}


_TEXT = {
    "queue", "due", "worker", "error", "message", "then", "line", "seam", "why", "text", "asked", "schedule", "step",
    "resource", "waited", "request", "effect", "outcome",
}  # fmt: skip
_COUNTS = {"wait_ns", "waited_ns", "deliveries", "transaction"}
_LISTS = {"jobs", "schedules", "tasks"}
_OF_EFFECTS = {"effect", "outcome"}  # all other data of an effect is what its service has written

_CHECKS: dict[str, tuple[Callable[[Any], bool], str]] = {
    **dict.fromkeys(_TEXT, (_is_text, "give text")),
    **dict.fromkeys(_COUNTS, (_is_count, "give a whole number, at least 0")),
    **dict.fromkeys(_LISTS, (_is_list_of_text, "give an array of text")),
    "args": (lambda value: isinstance(value, list), "give an array"),
    "kwargs": (lambda value: isinstance(value, dict), "give an object"),
}
_Shape = tuple[tuple[str, ...], tuple[tuple[int, Callable[[Any], bool], str], ...]]


class _Entries:
    """Reads the entries of one file. What many entries have in common is kept once."""

    def __init__(self, timeline: Timeline, name: str) -> None:
        self._timeline = timeline
        self._name = name
        self._shapes: dict[tuple[Any, ...], _Shape] = {}
        self._texts: dict[str, str] = {}

    def read(self, lines: Iterable[bytes], torn: list[str] | None) -> list[Entry]:
        """Return the entries. Lines that cannot be read are named in `torn`; without one, the first is an error."""
        found = []
        for number, text in enumerate(lines, 2):
            try:
                found.append(self._entry(_json(text, self._name, number), number))
            except HistoryError as error:
                if torn is None:
                    raise
                torn.append(str(error))
        return found

    def _entry(self, line: dict[str, Any], number: int) -> Entry:
        ns, what = line.pop("ns", None), line.pop("what", None)
        line.pop("at", None)
        job, name, attempt = line.pop("job", None), line.pop("name", None), line.pop("attempt", 0)
        if not _is_instant(ns):
            raise self._wrong(number, "ns", ns, "give nanoseconds since 1970 as a whole number; each entry needs it")
        if not isinstance(what, str):
            raise self._wrong(number, "what", what, "give text, such as 'started'; each entry needs it")
        for key, value in (("job", job), ("name", name)):
            if value is not None and not isinstance(value, str):
                raise self._wrong(number, key, value, "give text")
        if type(attempt) is not int or attempt < 0:
            raise self._wrong(number, "attempt", attempt, "give a whole number, at least 0")
        if "data" in line:
            more = line.pop("data")
            if not isinstance(more, dict):
                raise self._wrong(number, "data", more, "give an object")
            line.update(more)
        shared = self._texts.setdefault
        names, checks = self._shapes.get((what, *line)) or self._shape(what, line)
        values = tuple([shared(v, v) if type(v) is str and len(v) < 40 else v for v in line.values()])
        for at, fits, advice in checks:
            if not fits(values[at]):
                raise self._wrong(number, names[at], values[at], advice)
        if what == "enqueued":
            self._check_due(line.get("due"), number)
        if job is not None:
            job = shared(job, job)
        if name is not None:
            name = shared(name, name)
        return Entry(self._timeline, ns, shared(what, what), job, name, attempt, names, None, values)

    def _shape(self, what: str, line: dict[str, Any]) -> _Shape:
        """Return the names of the data of entries like this one, and the checks of their values."""
        # All other data of an effect are what its service has written.
        checked = _CHECKS if what != "effect" else {name: _CHECKS[name] for name in _OF_EFFECTS}
        names = tuple(line)
        checks = tuple((at, *checked[name]) for at, name in enumerate(names) if name in checked)
        made = self._shapes[what, *line] = names, checks
        return made

    def _check_due(self, due: Any, number: int) -> None:
        try:
            self._timeline.ns(due)
        except IronClockError:
            raise self._wrong(number, "due", due, "give an instant as ISO 8601 text") from None

    def _wrong(self, number: int, name: str, value: Any, advice: str) -> HistoryError:
        return HistoryError(f"{self._name}:{number}: {name} is {value!r}; {advice}")


def is_saved(path: str | PathLike[str]) -> bool:
    """Return True if a file is a saved history, or can only be meant as one."""
    name = fspath(path)
    try:
        with open(name, encoding="utf-8") as file:
            head = file.readline(4096)
    except (OSError, UnicodeDecodeError):
        return name.endswith(".jsonl")
    return f'"{FORMAT}"' in head or (name.endswith(".jsonl") and not head.strip().startswith("{"))
