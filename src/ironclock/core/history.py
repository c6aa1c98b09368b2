"""The history: everything that happened in a rig, in order.

While a rig runs an entry is eight items in one flat list, which the garbage collector passes over quickly;
what a person or a file sees is made from them on demand.
The digest leaves out the words of error messages, which differ between Python versions, and object
addresses; everything else is in it.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Iterator, Sequence
from os import PathLike
from typing import TYPE_CHECKING, Any, overload

from .errors import HistoryError
from .shapes import THEN, Record, data_of, plain
from .timeline import Timeline

if TYPE_CHECKING:
    import pandas

    from .jobs import Job

_WIDTH = 8

FORMAT = "ironclock-history"
VERSION = 1


class Entry:
    """One thing that happened.

    `at` is the instant in the rig's zone and `ns` the same in nanoseconds since the epoch; `what` one of
    enqueued, started, done, failed, timed-out, cancelled, crashed, withdrawn, requeued, discarded, refused, expired,
    lost, given-up, lease-ended, ack-lost, delivered-twice, redelivered, asked-to-stop, progress, effect, before-commit,
    committed, rolled-back, request-failed, remembered, waited, deadlocked, note; `job` the job's id, `name` its
    type, `attempt` the attempt's number (0: none); `data` the rest, as it stands in a saved file.
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
        """The rest, as it stands in a saved file."""
        # Made when somebody asks: the laws of a search look into few of the many entries that it sees.
        if self._data is None:
            assert self._record is not None
            self._data = data_of(self._record, self._timeline)
        return self._data

    @property
    def effect(self) -> str | None:
        """The name of the effect that it is about, where it was done."""
        if self.what != "effect":
            return None
        if self._data is None and self._record is not None:
            detail = self._record[4]
            return detail.name if detail.outcome == "done" else None
        return str(self.data.get("effect")) if self.data.get("outcome") == "done" else None

    @property
    def key(self) -> Any:
        """The key of the effect or the job that it is about, as it stands in a saved file; None where it has none."""
        if self._data is None and self._record is not None and self.what == "effect":
            return plain(self._record[4].key)
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
    """An ordered, read-only record. Iterating gives `Entry` objects."""

    def __init__(self, timeline: Timeline, seed: object = 0) -> None:
        self.timeline = timeline
        self.seed = seed
        self._flat: list[Any] = []
        self.add: Callable[[Record], None] = self._flat.extend
        """Append one `Record`."""
        self._loaded: list[Entry] | None = None
        self._index: dict[int, list[int]] = {}
        self._indexed = 0

    def __len__(self) -> int:
        return len(self._flat) // _WIDTH if self._loaded is None else len(self._loaded)

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
        """Iterate over the raw records of a live history."""
        items = iter(self._flat)
        return zip(*[items] * _WIDTH, strict=True)

    def entry(self, number: int) -> Entry:
        """Return one entry by its place, from 0."""
        return self._loaded[number] if self._loaded is not None else self._entry(self._record(number))

    def steps(self) -> Iterator[tuple[int, int, str, str, str, int, int]]:
        """Iterate over what happened to jobs, effects aside: the entry's place, its nanoseconds, what it was, the
        job's id and type, the attempt, and what `Record` says of what comes then."""
        if self._loaded is None:
            for number, (ns, what, job, attempt, _, then, _, _) in enumerate(self.records()):
                if job is not None and what != "effect":
                    yield number, ns, what, job.id, job.type.name, attempt, then
            return
        codes = {words: code for code, words in THEN.items()}
        for number, entry in enumerate(self._loaded):
            if entry.job is not None and entry.what != "effect":
                then = codes.get(str(entry.data.get("then")), 0)
                yield number, entry.ns, entry.what, entry.job, str(entry.name), entry.attempt, then

    def effects_done(self) -> list[int]:
        """Return the places of the entries of effects that were done."""
        if self._loaded is not None:
            return [number for number, entry in enumerate(self._loaded) if entry.effect is not None]
        whats = self._flat[1::_WIDTH]
        return [n for n, what in enumerate(whats) if what == "effect" and self._flat[n * _WIDTH + 4].outcome == "done"]

    def keys_of(self, effect: str) -> Iterator[tuple[int, Any]]:
        """Iterate over the effects of a name that were done: the place of each entry, and its key as in a file."""
        if self._loaded is not None:
            yield from ((n, entry.key) for n, entry in enumerate(self._loaded) if entry.effect == effect)
            return
        flat = self._flat
        for number in self.effects_done():
            done = flat[number * _WIDTH + 4]
            if done.name == effect:
                yield number, plain(done.key)

    def of_job(self, job: Job) -> Iterator[Record]:
        """Iterate over the raw records of one live job."""
        # One pass over what is new since the last question, however many jobs are asked about.
        flat, index = self._flat, self._index
        for first in range(self._indexed, len(flat), _WIDTH):
            about = flat[first + 2]
            if about is not None:
                index.setdefault(about.number, []).append(first)
        self._indexed = len(flat)
        for first in index.get(job.number, ()):
            yield tuple(flat[first : first + _WIDTH])

    def _record(self, number: int) -> Record:
        first = number * _WIDTH
        return tuple(self._flat[first : first + _WIDTH])

    def of(self, job: str) -> list[Entry]:
        """Return the entries of the job with that id."""
        if self._loaded is not None:
            return [entry for entry in self._loaded if entry.job == job]
        return [self._entry(r) for r in self.records() if r[2] is not None and r[2].id == job]

    def _entry(self, record: Record) -> Entry:
        job = record[2]
        if job is None:
            return Entry(self.timeline, record[0], record[1], None, None, record[3], None, record)
        return Entry(self.timeline, record[0], record[1], job.id, job.type.name, record[3], None, record)

    def _line(self, entry: Entry) -> dict[str, Any]:
        line: dict[str, Any] = {"at": self.timeline.text(entry.ns), "ns": entry.ns, "what": entry.what}
        if entry.job is not None:
            line["job"], line["name"] = entry.job, entry.name
        if entry.attempt:
            line["attempt"] = entry.attempt
        line.update(entry.data)
        return line

    def digest(self) -> str:
        """Return the SHA-256 of the history in hexadecimal: the same for the same story and seed,
        on every machine, Python version and hash seed."""
        import hashlib

        total = hashlib.sha256()
        for line in self.lines():
            total.update(line)
        return total.hexdigest()

    def lines(self) -> Iterator[bytes]:
        """Iterate over what the digest is made of, a line an entry."""
        for entry in self:
            line = self._line(entry)
            line.pop("message", None)
            line.pop("line", None)
            yield json.dumps(line, sort_keys=True, ensure_ascii=True).encode() + b"\n"

    def save(self, path: str | PathLike[str]) -> None:
        """Write JSON Lines: a header line, then one line an entry. Replaces the file only when all is written."""
        import os

        head = {"format": FORMAT, "version": VERSION, "zone": str(self.timeline.zone), "seed": plain(self.seed)}
        part = f"{os.fspath(path)}.part"
        try:
            with open(part, "w", encoding="utf-8") as file:
                file.write(json.dumps(head) + "\n")
                for entry in self:
                    file.write(json.dumps(self._line(entry), ensure_ascii=False) + "\n")
            os.replace(part, path)
        except OSError as error:
            raise HistoryError(f"cannot write the history to {os.fspath(path)}: {error.strerror}") from error

    @classmethod
    def of_entries(cls, timeline: Timeline, entries: list[Entry], seed: object = 0) -> History:
        """Return a history that holds these entries, which are in order."""
        made = cls(timeline, seed)
        made._loaded = entries
        return made

    @classmethod
    def load(cls, path: str | PathLike[str], torn: list[str] | None = None) -> History:
        """Read what `save` wrote; raise `HistoryError` naming the file and line of what cannot be read.

        Where `torn` is given, whole lines are read, and the others named in it: a file may be half written.
        """
        import os

        name = os.fspath(path)
        try:
            with open(path, encoding="utf-8") as file:
                lines = file.read().split("\n")
        except (OSError, UnicodeDecodeError) as error:
            raise HistoryError(f"cannot read {name}: {error}") from None
        head = _json(lines[0], name, 1)
        if head.get("format") != FORMAT:
            raise HistoryError(f'{name}:1: no saved history (its first line has no "format": "{FORMAT}")')
        if head.get("version") != VERSION:
            raise HistoryError(f"{name}:1: history version {head.get('version')!r}; this release reads {VERSION}")
        timeline = Timeline(str(head.get("zone", "UTC")))
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
        return cls.of_entries(timeline, entries, head.get("seed", 0))

    def frame(self) -> pandas.DataFrame:
        """Return a pandas table, one row an entry (needs the extra ``ironclock[frame]``)."""
        import pandas

        rows = [
            {"at": e.at, "ns": e.ns, "what": e.what, "job": e.job, "name": e.name, "attempt": e.attempt, **e.data}
            for e in self
        ]
        return pandas.DataFrame(rows)

    def story(self) -> str:
        """Return a readable account of the whole run."""
        from .account import whole_story

        return whole_story(self)

    def __repr__(self) -> str:
        return f"<history of {len(self)} entries>"


def _entry_of(line: dict[str, Any], timeline: Timeline, name: str, number: int) -> Entry:
    try:
        ns, what = line.pop("ns"), line.pop("what")
        line.pop("at", None)
        job, kind, attempt = line.pop("job", None), line.pop("name", None), line.pop("attempt", 0)
        return Entry(timeline, ns, what, job, kind, attempt, line)
    except (KeyError, TypeError, OverflowError) as error:
        raise HistoryError(f"{name}:{number}: an entry without a usable {error}") from None


def _json(text: str, name: str, number: int) -> dict[str, Any]:
    try:
        line = json.loads(text)
    except ValueError as error:
        raise HistoryError(f"{name}:{number}: no JSON line: {error}") from None
    if not isinstance(line, dict):
        raise HistoryError(f"{name}:{number}: an entry is a JSON object, not {type(line).__name__}")
    return line
