"""The history: everything that happened in a rig, in order.

While a rig runs, the fields of all records stand in one flat list: the garbage collector passes over one list quickly,
and slowly over a tuple for each record. Entries, which people and files see, are made when somebody asks.

The digest leaves out the words of error messages, which differ between Python versions, and the addresses of objects.
Everything else is in it.
"""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Callable, Iterator, Sequence
from itertools import starmap
from os import PathLike
from typing import TYPE_CHECKING, Any, Protocol, overload

from ..errors import HistoryError, InstantError, IronClockError
from ..foundation.instants import LATEST_NS, Timeline
from .records import THEN_WORDS, Record, RecordedJob, data_of, plain

if TYPE_CHECKING:
    import pandas

_NAMES = Record.__match_args__
_WIDTH = len(_NAMES)
_WHAT, _JOB, _DETAIL = (_NAMES.index(name) for name in ("what", "job", "detail"))

FORMAT = "ironclock-history"
VERSION = 1
_HEAD = frozenset(("at", "ns", "what", "job", "name", "attempt", "data"))
"""What each line has of its own. Data of these names stands apart, under ``data``."""


class Clock(Protocol):
    """What tells a history the time."""

    now: int


class Entry:
    """One thing that happened.

    - `ns`: its instant, in nanoseconds since 1970-01-01T00:00Z (`at`: as a datetime in the rig's zone).
    - `what`: what happened, one of enqueued, started, done, failed, timed-out, cancelled, crashed, withdrawn, requeued,
      discarded, refused, firing-refused, expired, lost, given-up, lease-ended, ack-lost, delivered-twice, redelivered,
      asked-to-stop, progress, effect, before-commit, committed, rolled-back, request-failed, remembered, waited,
      deadlocked, note.
    - `job`: the job's id, and `name` its type. None if it is not about a job.
    - `attempt`: the number of the attempt. 0 if it is not about an attempt.
    - `data`: everything else, as a saved file shows it.
    """

    __slots__ = ("_data", "_record", "_timeline", "attempt", "job", "name", "ns", "what")

    def __init__(
        self, timeline: Timeline, ns: int, what: str, job: str | None, name: str | None, attempt: int,
        data: dict[str, Any] | None, record: Record | None = None,
    ) -> None:  # fmt: skip
        self._timeline = timeline
        self.ns = ns
        self.what = what
        self.job = job
        self.name = name
        self.attempt = attempt
        self._data = data
        self._record = record

    @property
    def at(self) -> dt.datetime:
        """Its instant, in the rig's zone."""
        return self._timeline.at(self.ns)

    @property
    def data(self) -> dict[str, Any]:
        """Everything else, as a saved file shows it."""
        # Made when somebody asks: the laws of a search look at the data of few entries.
        if self._data is None:
            assert self._record is not None
            self._data = data_of(self._record, self._timeline)
        return self._data

    @property
    def effect(self) -> str | None:
        """The name of the effect that was done. None for anything else, and for an effect that failed."""
        if self.what != "effect":
            return None
        if self._data is None and self._record is not None:
            detail = self._record.detail
            return detail.name if detail.outcome == "done" else None
        return str(self.data.get("effect")) if self.data.get("outcome") == "done" else None

    @property
    def key(self) -> Any:
        """The key of its effect or its job, as a saved file shows it. None if there is no key."""
        if self._data is None and self._record is not None and self.what == "effect":
            return plain(self._record.detail.key)
        return self.data.get("key")

    def __eq__(self, other: object) -> bool:
        return self is other or (
            isinstance(other, Entry)
            and (self.ns, self.what, self.job, self.attempt) == (other.ns, other.what, other.job, other.attempt)
            and self.data == other.data
        )

    def __hash__(self) -> int:
        return hash((self.ns, self.what, self.job, self.attempt))

    def __repr__(self) -> str:
        about = f" {self.job}" if self.job else ""
        return f"<entry {self._timeline.text(self.ns)}{about} {self.what} {self.data}>"


class History(Sequence[Entry]):
    """An ordered, read-only record of a run. Iterating gives `Entry` objects. `Rig.history` is one.

    Example::

        rig.history.save("evening.jsonl")
        again = ic.History.load("evening.jsonl")
        assert again.digest() == rig.history.digest()
    """

    def __init__(
        self, timeline: Timeline, seed: object = 0, clock: Clock | None = None, entries: list[Entry] | None = None,
        facts: dict[str, Any] | None = None,
    ) -> None:  # fmt: skip
        self.timeline = timeline
        """Turns nanoseconds into instants of the rig's zone."""
        self.seed = seed
        """The seed of the rig."""
        self._clock = clock
        self._fields: list[Any] = []
        self.add: Callable[[tuple[Any, ...]], None] = self._fields.extend
        """Append the fields of one `Record`, in its order. (A tuple: the event loop cannot afford to make a Record.)"""
        self.forward: Callable[[str, Any], None] | None = None
        """Where records go instead, in a forked child: to the parent."""
        self._loaded = entries
        self._loaded_facts: dict[str, Any] = facts or {}
        self.facts: Callable[[], dict[str, Any]] = dict
        """What else a law can ask of a live run: its job types, its effects, and if nothing is pending."""
        self._index: dict[int, list[int]] = {}
        self._indexed = 0

    def record(self, what: str, job: RecordedJob | None = None, attempt: int = 0, detail: Any = None) -> None:
        """Write down what happened, at the clock's instant."""
        if self.forward is not None:
            self.forward(what, detail)
            return
        assert self._clock is not None
        self.add((self._clock.now, what, job, attempt, detail, 0, None, 0))

    @property
    def end_ns(self) -> int:
        """The instant up to which it tells, in nanoseconds: the rig's now, or when it was saved."""
        if self._clock is not None:
            return self._clock.now
        last = self._loaded[-1].ns if self._loaded else 0
        return max(last, int(self._loaded_facts.get("end", last)))

    def fact(self, name: str, default: Any) -> Any:
        """Return what a law can ask of a run beside its entries: ``job_types``, ``effects`` or ``nothing_pending``."""
        facts = self.facts() if self._loaded is None else self._loaded_facts
        return facts.get(name, default)

    def __len__(self) -> int:
        return len(self._fields) // _WIDTH if self._loaded is None else len(self._loaded)

    @overload
    def __getitem__(self, index: int) -> Entry: ...
    @overload
    def __getitem__(self, index: slice) -> list[Entry]: ...
    def __getitem__(self, index: int | slice) -> Entry | list[Entry]:
        if self._loaded is not None:
            return self._loaded[index]
        numbers = range(len(self))[index]
        if isinstance(numbers, range):
            return [self._entry(self._record(n)) for n in numbers]
        return self._entry(self._record(numbers))

    def __iter__(self) -> Iterator[Entry]:
        if self._loaded is not None:
            return iter(self._loaded)
        return map(self._entry, self.records())

    def records(self) -> Iterator[Record]:
        """Iterate over the records of a live history."""
        return starmap(Record, self._tuples())

    def _tuples(self) -> Iterator[tuple[Any, ...]]:
        items = iter(self._fields)
        return zip(*[items] * _WIDTH, strict=True)

    def entry(self, number: int) -> Entry:
        """Return one entry by its index, from 0."""
        return self._loaded[number] if self._loaded is not None else self._entry(self._record(number))

    def steps(self) -> Iterator[tuple[int, int, str, str, str, int, int]]:
        """Iterate over what happened to jobs, effects left out: the index of the entry, its nanoseconds, what
        happened, the job's id and type, the attempt, and `Record.then`."""
        if self._loaded is None:
            for number, (ns, what, job, attempt, _, then, _, _) in enumerate(self._tuples()):
                if job is not None and what != "effect":
                    yield number, ns, what, job.id, job.type.name, attempt, then
            return
        codes = {words: code for code, words in THEN_WORDS.items()}
        for number, entry in enumerate(self._loaded):
            if entry.job is not None and entry.what != "effect":
                then = codes.get(str(entry.data.get("then")))
                then = int(entry.data.get("wait_ns", 0)) if then is None else then
                yield number, entry.ns, entry.what, entry.job, str(entry.name), entry.attempt, then

    def effects_done(self) -> list[int]:
        """Return the indexes of the entries of effects that were done."""
        if self._loaded is not None:
            return [number for number, entry in enumerate(self._loaded) if entry.effect is not None]
        whats = self._fields[_WHAT::_WIDTH]
        details = self._fields[_DETAIL::_WIDTH]
        return [n for n, what in enumerate(whats) if what == "effect" and details[n].outcome == "done"]

    def keys_of(self, effect: str) -> Iterator[tuple[int, Any]]:
        """Iterate over the effects of a name that were done: the index of the entry, and its key as in a file."""
        if self._loaded is not None:
            yield from ((n, entry.key) for n, entry in enumerate(self._loaded) if entry.effect == effect)
            return
        for number in self.effects_done():
            done = self._fields[number * _WIDTH + _DETAIL]
            if done.name == effect:
                yield number, plain(done.key)

    def of_job(self, job: RecordedJob) -> Iterator[Record]:
        """Iterate over the records of one live job."""
        # One pass over what is new since the last question, however many jobs are asked about.
        fields, index = self._fields, self._index
        for first in range(self._indexed, len(fields), _WIDTH):
            about = fields[first + _JOB]
            if about is not None:
                index.setdefault(about.number, []).append(first)
        self._indexed = len(fields)
        for first in index.get(job.number, ()):
            yield Record(*fields[first : first + _WIDTH])

    def _record(self, number: int) -> Record:
        first = number * _WIDTH
        return Record(*self._fields[first : first + _WIDTH])

    def of(self, job: str) -> list[Entry]:
        """Return the entries of the job with that id."""
        if self._loaded is not None:
            return [entry for entry in self._loaded if entry.job == job]
        return [self._entry(r) for r in self.records() if r.job is not None and r.job.id == job]

    def _entry(self, record: Record) -> Entry:
        job = record.job
        if job is None:
            return Entry(self.timeline, record.ns, record.what, None, None, record.attempt, None, record)
        return Entry(self.timeline, record.ns, record.what, job.id, job.type.name, record.attempt, None, record)

    def _line(self, entry: Entry) -> dict[str, Any]:
        line: dict[str, Any] = {"at": self.timeline.text(entry.ns), "ns": entry.ns, "what": entry.what}
        if entry.job is not None:
            line["job"], line["name"] = entry.job, entry.name
        if entry.attempt:
            line["attempt"] = entry.attempt
        taken = {name: value for name, value in entry.data.items() if name in _HEAD}
        line.update(entry.data if not taken else {k: v for k, v in entry.data.items() if k not in _HEAD})
        if taken:
            line["data"] = taken  # an effect of a service can have any data
        return line

    def digest(self) -> str:
        """Return the SHA-256 of the history in hexadecimal.

        It is the same for the same story and seed on every machine, Python version and hash seed.
        """
        import hashlib

        total = hashlib.sha256()
        for line in self.lines():
            total.update(line)
        return total.hexdigest()

    def lines(self) -> Iterator[bytes]:
        """Iterate over what the digest is made of, one line for each entry."""
        for entry in self:
            line = self._line(entry)
            if entry.what != "effect":
                line.pop("message", None)
                line.pop("line", None)
            yield json.dumps(line, sort_keys=True, ensure_ascii=True).encode() + b"\n"

    def save(self, path: str | PathLike[str]) -> None:
        """Write the history to a file as JSON Lines: a header line, then one line for each entry.

        Parameters: `path` is the file. It is replaced only when everything is written. Raises `HistoryError` if it
        cannot be written.
        """
        import os

        head = {
            "format": FORMAT, "version": VERSION, "zone": str(self.timeline.zone), "seed": plain(self.seed),
            "end": self.end_ns, **self.facts(), **self._loaded_facts,
        }  # fmt: skip
        part = f"{os.fspath(path)}.part"
        try:
            with open(part, "w", encoding="utf-8") as file:
                file.write(json.dumps(head) + "\n")
                for entry in self:
                    file.write(_written(self._line(entry)) + "\n")
            os.replace(part, path)
        except OSError as error:
            raise HistoryError(f"cannot write the history to {os.fspath(path)}: {error.strerror}") from error

    @classmethod
    def of_entries(cls, timeline: Timeline, entries: list[Entry], seed: object = 0) -> History:
        """Return a history of these entries, which must be in order."""
        return cls(timeline, seed, entries=entries)

    @classmethod
    def load(cls, path: str | PathLike[str], torn: list[str] | None = None) -> History:
        """Read a file that `save` wrote.

        Parameters:

        - `path`: the file.
        - `torn`: a list. If it is given, lines that cannot be read are named in it, and the others are read: a file
          can be half written. Default: the first such line is an error.

        Raises `HistoryError`, which names the file and the line.
        """
        import os

        name = os.fspath(path)
        try:
            with open(path, encoding="utf-8") as file:
                lines = file.read().split("\n")
        except (OSError, ValueError) as error:
            raise HistoryError(f"cannot read {name}: {error}") from None
        head = _json(lines[0], name, 1)
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
        timeline, facts = _head_of(head, name)
        entries: list[Entry] = []
        for number, text in enumerate(lines[1:], 2):
            if not text and number == len(lines):
                break
            try:
                entries.append(_entry_of(_json(text, name, number), timeline, name, number))
            except HistoryError as error:
                if torn is None:
                    raise
                torn.append(str(error))
        return cls(timeline, head.get("seed", 0), entries=entries, facts=facts)

    def frame(self) -> pandas.DataFrame:
        """Return a pandas table, one row for each entry. Needs the extra ``ironclock[frame]``."""
        import pandas

        rows = [
            {"at": e.at, "ns": e.ns, "what": e.what, "job": e.job, "name": e.name, "attempt": e.attempt, **e.data}
            for e in self
        ]
        return pandas.DataFrame(rows)

    def story(self) -> str:
        """Return what happened in the whole run in words, one line for each entry."""
        from .narrative import whole_story

        return whole_story(self)

    def __repr__(self) -> str:
        return f"<history of {len(self)} entries>"


def _written(line: dict[str, Any]) -> str:
    text = json.dumps(line, ensure_ascii=False)
    # Half of a surrogate pair is text for Python, and not for UTF-8. JSON can write it with an escape.
    return text if text.isascii() or not _SURROGATES.search(text) else json.dumps(line)


_SURROGATES = re.compile("[\ud800-\udfff]")
_FACTS: dict[str, Callable[[Any], bool]] = {
    "end": lambda value: type(value) is int and abs(value) < LATEST_NS,
    "job_types": lambda value: isinstance(value, list) and all(isinstance(one, str) for one in value),
    "effects": lambda value: isinstance(value, list) and all(isinstance(one, str) for one in value),
    "nothing_pending": lambda value: isinstance(value, bool),
}


def _head_of(head: dict[str, Any], name: str) -> tuple[Timeline, dict[str, Any]]:
    """Return the timeline and the facts of a saved history."""
    zone = head.get("zone", "UTC")
    try:
        timeline = Timeline(str(zone))
    except (InstantError, ValueError, OSError) as error:
        raise HistoryError(f"{name}:1: the zone is {zone!r}: {error}") from None
    for fact, fits in _FACTS.items():
        if fact in head and not fits(head[fact]):
            raise HistoryError(f"{name}:1: {fact} is {head[fact]!r}; save the history again")
    return timeline, {fact: head[fact] for fact in _FACTS if fact in head}


def _entry_of(line: dict[str, Any], timeline: Timeline, name: str, number: int) -> Entry:
    where = f"{name}:{number}"
    if "ns" not in line or "what" not in line:
        raise HistoryError(f"{where}: the entry has no {'ns' if 'ns' not in line else 'what'}; each needs ns and what")
    ns, what = line.pop("ns"), line.pop("what")
    line.pop("at", None)
    job, kind, attempt = line.pop("job", None), line.pop("name", None), line.pop("attempt", 0)
    if type(ns) is not int or abs(ns) >= LATEST_NS:
        raise HistoryError(f"{where}: ns is {ns!r}; give nanoseconds since 1970 as a whole number")
    if not isinstance(what, str):
        raise HistoryError(f"{where}: what is {what!r}; give text, such as 'started'")
    for key, value in (("job", job), ("name", kind)):
        if value is not None and not isinstance(value, str):
            raise HistoryError(f"{where}: {key} is {value!r}; give text")
    if type(attempt) is not int or attempt < 0:
        raise HistoryError(f"{where}: attempt is {attempt!r}; give a whole number, at least 0")
    if "data" in line:
        more = line.pop("data")
        if not isinstance(more, dict):
            raise HistoryError(f"{where}: data is {more!r}; give a JSON object")
        line.update(more)
    _check_data(what, line, timeline, where)
    return Entry(timeline, ns, what, job, kind, attempt, line)


_TEXT = {
    "queue", "due", "worker", "error", "message", "then", "line", "seam", "why", "text", "asked", "schedule", "step",
    "resource", "waited", "request", "effect", "outcome",
}  # fmt: skip
_COUNTS = {"wait_ns", "waited_ns", "deliveries", "transaction"}
_LISTS = {"jobs", "schedules", "tasks"}
_OF_EFFECTS = {"effect", "outcome"}  # all other data of an effect is what its service has written


def _check_data(what: str, data: dict[str, Any], timeline: Timeline, where: str) -> None:
    """Raise `HistoryError` if the data that readers work with cannot be what was saved."""
    for key in data if what != "effect" else data.keys() & _OF_EFFECTS:
        value = data[key]
        if key in _TEXT and not isinstance(value, str):
            raise HistoryError(f"{where}: {key} is {value!r}; give text")
        if key in _COUNTS and (type(value) is not int or not 0 <= value < LATEST_NS):
            raise HistoryError(f"{where}: {key} is {value!r}; give a whole number, at least 0")
        if key in _LISTS and not (isinstance(value, list) and all(isinstance(one, str) for one in value)):
            raise HistoryError(f"{where}: {key} is {value!r}; give an array of text")
    if what != "enqueued":
        return
    args, kwargs = data.get("args", []), data.get("kwargs", {})
    if not isinstance(args, list) or not isinstance(kwargs, dict):
        raise HistoryError(f"{where}: args is {args!r} and kwargs {kwargs!r}; give an array and an object")
    try:
        timeline.ns(data["due"])
    except (KeyError, IronClockError):
        raise HistoryError(f"{where}: due is {data.get('due')!r}; give an instant as ISO 8601 text") from None


def _json(text: str, name: str, number: int) -> dict[str, Any]:
    try:
        line = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise HistoryError(f"{name}:{number}: the line is not JSON: {error}") from None
    if not isinstance(line, dict):
        raise HistoryError(f"{name}:{number}: the line is {type(line).__name__}; each entry is a JSON object")
    return line
