"""The history: everything that happened in a rig, in order.

While a rig runs, the fields of all records stand in one flat list: the garbage collector passes over one list quickly,
and slowly over a tuple for each record. Entries, which people and files see, are made when somebody asks.

The digest leaves out the words of error messages, which differ between Python versions, and the addresses of objects.
Everything else is in it.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from itertools import starmap
from os import PathLike
from typing import TYPE_CHECKING, Any, Protocol, overload

from ..foundation.instants import InstantTexts, Timeline
from .entries import Entry
from .records import Record, RecordedJob, data_of, plain

if TYPE_CHECKING:
    import pandas

    from .loaded_entries import LoadedEntries, LogJobRow, Step
    from .log_in_columns import LogJobs
    from .saved_files import Row

_NAMES = Record.__match_args__
_WIDTH = len(_NAMES)
_WHAT, _JOB, _DETAIL = (_NAMES.index(name) for name in ("what", "job", "detail"))


class Clock(Protocol):
    """What tells a history the time."""

    now: int


class History(Sequence[Entry]):
    """An ordered, read-only record of a run. Iterating gives `Entry` objects. `Rig.history` is one.

    Example::

        rig.history.save("evening.jsonl")
        again = ic.History.load("evening.jsonl")
        assert again.digest() == rig.history.digest()
    """

    def __init__(
        self, timeline: Timeline, seed: object = 0, clock: Clock | None = None, entries: LoadedEntries | None = None,
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

    def record(self, what: str, job: RecordedJob | None = None, attempt: int = 0, detail: object = None) -> None:
        """Write down what happened, at the clock's instant. Parameters: `what` is what happened; `job` is the job;
        `attempt` is the attempt or its number; `detail` is what else there is to say."""
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
        last = 0 if self._loaded is None else self._loaded.last_ns
        return max(last, int(self._loaded_facts.get("end", last)))

    def fact(self, name: str, default: object) -> Any:
        """Return what a law can ask of a run beside its entries. Parameters: `default` is returned if it is not known.

        Parameters: `name` is ``job_types``, ``effects``, ``schedules`` (their names) or ``nothing_pending``.
        """
        facts = self.facts() if self._loaded is None else self._loaded_facts
        return facts.get(name, default)

    def __len__(self) -> int:
        return len(self._fields) // _WIDTH if self._loaded is None else len(self._loaded)

    @overload
    def __getitem__(self, index: int) -> Entry: ...
    @overload
    def __getitem__(self, index: slice) -> list[Entry]: ...
    def __getitem__(self, index: int | slice) -> Entry | list[Entry]:
        numbers = range(len(self))[index]
        return [self.entry(n) for n in numbers] if isinstance(numbers, range) else self.entry(numbers)

    def __iter__(self) -> Iterator[Entry]:
        if self._loaded is not None:
            return iter(self._loaded)
        return map(self._entry, self.records())

    @property
    def is_live(self) -> bool:
        """True if it is the history of a rig, and not one that was loaded."""
        return self._loaded is None

    def column(self, name: str) -> list[Any]:
        """Return one field of every record of a live history, in order. That is faster than the records themselves.

        Parameters: `name` is a field of `Record`.
        """
        return self._fields[_NAMES.index(name) :: _WIDTH]

    def records(self, first: int = 0) -> Iterator[Record]:
        """Iterate over the records of a live history, from record `first` on."""
        return starmap(Record, self._tuples(first))

    def _tuples(self, first: int = 0) -> Iterator[tuple[Any, ...]]:
        items = iter(self._fields[first * _WIDTH :] if first else self._fields)
        return zip(*[items] * _WIDTH, strict=True)

    def entry(self, number: int) -> Entry:
        """Return one entry by its index, from 0. Parameters: `number` is its number or index."""
        return self._loaded.entry(number) if self._loaded is not None else self._entry(self._record(number))

    def steps(self) -> Iterable[Step]:
        """Return what happened to jobs, effects left out: the index of the entry, its nanoseconds, what happened, the
        job's id and type, the attempt, and `Record.then`."""
        return self._live_steps() if self._loaded is None else self._loaded.steps()

    def _live_steps(self) -> Iterator[Step]:
        for number, (ns, what, job, attempt, _, then, _, _) in enumerate(self._tuples()):
            if job is not None and what != "effect":
                yield number, ns, what, job.id, job.type.name, attempt, then

    def numbers_of(self, *whats: str) -> list[int]:
        """Return the indexes of the entries that say one of these, such as ``"started"``. Parameters: `whats` are names
        of what happened."""
        if self._loaded is not None:
            return self._loaded.numbers_of(whats)
        return [number for number, what in enumerate(self._fields[_WHAT::_WIDTH]) if what in whats]

    def count_of(self, what: str) -> int:
        """Return how many entries say this, such as ``"started"``. Parameters: `what` is what happened."""
        if self._loaded is not None:
            return self._loaded.count_of(what)
        return self._fields[_WHAT::_WIDTH].count(what)

    def of_jobs(self, jobs: Collection[str]) -> list[int]:
        """Return the indexes of the entries of the jobs with these ids. Parameters: `jobs` are ids of jobs."""
        if self._loaded is not None:
            return self._loaded.of_jobs(jobs)
        about = self._fields[_JOB::_WIDTH]
        return [number for number, job in enumerate(about) if job is not None and job.id in jobs]

    def effects_done(self) -> list[int]:
        """Return the indexes of the entries of effects that were done."""
        if self._loaded is not None:
            return self._loaded.effects_done()
        whats = self._fields[_WHAT::_WIDTH]
        details = self._fields[_DETAIL::_WIDTH]
        return [n for n, what in enumerate(whats) if what == "effect" and details[n].outcome == "done"]

    def jobs_in_columns(self, entry: Callable[[int], Entry]) -> LogJobs | None:
        """Return the jobs as `LogJobs`, if this is a log in columns. None otherwise.

        Parameters: `entry` returns an entry by its index.
        """
        return None if self._loaded is None else self._loaded.jobs_in_columns(entry)

    def job_rows(self) -> Iterator[LogJobRow] | None:
        """Return the jobs of a log in columns without making their records, which is faster. None for others."""
        return None if self._loaded is None else self._loaded.job_rows()

    def effect_names(self) -> set[str]:
        """Return the names of the effects, also of those that failed."""
        if self._loaded is not None:
            return self._loaded.effect_names()
        details = self._fields[_DETAIL::_WIDTH]
        return {str(details[number].name) for number in self.numbers_of("effect")}

    def keys_of(self, effect: str, *, doubled: bool = False) -> list[tuple[int, Any]]:
        """Return the effects of a name that were done: the index of the entry, and its key as in a file. Parameters:
        `effect` is the name of the effect.

        Parameters: `doubled`: only keys that are there more than once are needed; some others can be left out.
        """
        if self._loaded is not None:
            return self._loaded.keys_of(effect, doubled)
        details = self._fields[_DETAIL::_WIDTH]
        return [(n, plain(details[n].key)) for n in self.effects_done() if details[n].name == effect]

    def of_job(self, job: RecordedJob) -> Iterator[Record]:
        """Iterate over the records of one live job. Parameters: `job` is the job."""
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
        """Return the entries of a job. Parameters: `job` is its id.

        Example::

            job = rig.enqueue(submit_manifest, "TL-204")
            rig.settle()
            assert [entry.what for entry in rig.history.of(job.id)] == ["enqueued", "started", "done"]
        """
        return [self.entry(number) for number in self.of_jobs((job,))]

    def _entry(self, record: Record) -> Entry:
        job = record.job
        if job is None:
            return Entry(self.timeline, record.ns, record.what, None, None, record.attempt, None, record)
        return Entry(self.timeline, record.ns, record.what, job.id, job.type.name, record.attempt, None, record)

    def digest(self) -> str:
        """Return the SHA-256 of the history in hexadecimal.

        It is the same for the same story and seed on every machine, Python version and hash seed.

        Example::

            print(rig.history.digest())
        """
        import hashlib

        total = hashlib.sha256()
        for line in self.lines():
            total.update(line)
        return total.hexdigest()

    def lines(self) -> Iterator[bytes]:
        """Iterate over what the digest is made of, one line for each entry."""
        from .saved_files import digest_lines

        texts = InstantTexts(self.timeline)
        return digest_lines(self._rows(texts), texts)

    def _rows(self, texts: InstantTexts) -> Iterator[Row]:
        """Iterate over what the entries hold. No `Entry` is made, for the sake of long histories."""
        if self._loaded is not None:
            for entry in self._loaded:
                yield entry.ns, entry.what, entry.job, entry.name, entry.attempt, entry.data
            return
        for record in self.records():
            job = record.job
            data = data_of(record, texts)
            if job is None:
                yield record.ns, record.what, None, None, record.attempt, data
            else:
                yield record.ns, record.what, job.id, job.type.name, record.attempt, data

    def save(self, path: str | PathLike[str]) -> None:
        """Write the history to a file as JSON Lines: a header line, then one line for each entry.

        Parameters: `path` is the file. It is replaced only when everything is written. Raises `HistoryError` if it
        cannot be written.

        Example::

            rig.history.save("evening.jsonl")
        """
        from .saved_files import write

        facts = {"end": self.end_ns, **self.facts(), **self._loaded_facts}
        texts = InstantTexts(self.timeline)
        write(path, self._rows(texts), texts, self.timeline.zone, self.seed, facts)

    @classmethod
    def of_entries(
        cls, timeline: Timeline, entries: Sequence[Entry] | LoadedEntries, facts: dict[str, Any] | None = None
    ) -> History:
        """Return a history of these entries, which must be in order. Parameters: `timeline` is the time zone; `entries`
        are the entries.

        Parameters: `facts` are what else a law can ask, as `fact` says. Default None: nothing.
        """
        from .loaded_entries import ListedEntries

        loaded = ListedEntries(entries) if isinstance(entries, Sequence) else entries
        return cls(timeline, entries=loaded, facts=facts)

    @classmethod
    def load(cls, path: str | PathLike[str], torn: list[str] | None = None) -> History:
        """Read a file that `save` wrote.

        Parameters:

        - `path`: the file.
        - `torn`: a list. If it is given, lines that cannot be read are named in it, and the others are read: a file
          can be half written. Default: the first such line is an error.

        Raises `HistoryError`, which names the file and the line.

        Example::

            rig.history.save("evening.jsonl")
            history = ic.History.load("evening.jsonl")
        """
        from .loaded_entries import ListedEntries
        from .saved_files import read

        timeline, seed, entries, facts = read(path, torn)
        return cls(timeline, seed, entries=ListedEntries(entries), facts=facts)

    def frame(self) -> pandas.DataFrame:
        """Return a pandas table, one row for each entry. Needs the extra ``ironclock[frame]``."""
        import pandas

        rows = [
            {"at": e.at, "ns": e.ns, "what": e.what, "job": e.job, "name": e.name, "attempt": e.attempt, **e.data}
            for e in self
        ]
        return pandas.DataFrame(rows)

    def payloads(self) -> dict[str, list[dict[str, Any]]]:
        """Return the shapes of the arguments with which jobs were enqueued, by job type.

        A shape has the types and the structure of the arguments, and not their values. Each is a JSON Schema (draft
        2020-12) of an object with ``args`` and ``kwargs``; equal shapes are one.

        Example::

            charge = rig.job(charge_fare)
            rig.enqueue(charge.call("TL-204", seats=3))
            (shape,) = rig.history.payloads()["charge_fare"]
            assert shape["properties"]["kwargs"]["properties"] == {"seats": {"type": "integer"}}
        """
        from .payload_shapes import payloads

        return payloads(self)

    def story(self) -> str:
        """Return what happened in the whole run in words, one line for each entry.

        Example::

            print(rig.history.story())
        """
        from .narrative import whole_story

        return whole_story(self)

    def __repr__(self) -> str:
        return f"<history of {len(self)} entries>"
