"""The entries of a history that no rig writes: of a saved file or a log, as a list."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from typing import Any, NamedTuple, Protocol

from .entries import Entry
from .records import ENDED, THEN_WORDS

Step = tuple[int, int, str, str, str, int, int]
"""What happened to a job: the index of the entry, its nanoseconds, what happened, the job's id and type, the attempt,
and `Record.then`."""


class LogAttemptRow(NamedTuple):
    """One attempt of a log. Instants are nanoseconds since the epoch."""

    number: int
    started_ns: int
    ended_ns: int | None
    outcome: str
    error: str
    worker: str
    then: int
    effect: str
    """The effect that it has done. Empty: none."""
    key: str


class LogJobRow(NamedTuple):
    """One job of a log. Instants are nanoseconds since the epoch."""

    id: str
    name: str
    queue: str
    args: str
    key: str
    enqueued_ns: int
    due_ns: int
    state: str
    attempts: list[LogAttemptRow]


class LoadedEntries(Protocol):
    """The entries of a history that is at an end, in order."""

    @property
    def last_ns(self) -> int:
        """The instant of the last entry, or 0."""

    def __len__(self) -> int: ...
    def __iter__(self) -> Iterator[Entry]: ...
    def entry(self, number: int) -> Entry:
        """Return one entry by its index."""

    def steps(self) -> Iterable[Step]:
        """Return what happened to jobs, effects left out."""

    def numbers_of(self, whats: Collection[str]) -> list[int]:
        """Return the indexes of the entries that say one of these."""

    def count_of(self, what: str) -> int:
        """Return how many entries say this."""

    def of_jobs(self, jobs: Collection[str]) -> list[int]:
        """Return the indexes of the entries of these jobs."""

    def effects_done(self) -> list[int]:
        """Return the indexes of the effects that were done."""

    def effect_names(self) -> set[str]:
        """Return the names of the effects."""

    def jobs_in_columns(self, entry: Callable[[int], Entry]) -> Any:
        """Return the jobs as `LogJobs`, if the entries are those of a log in columns. None otherwise.

        Parameters: `entry` returns an entry by its index.
        """

    def job_rows(self) -> Iterator[LogJobRow] | None:
        """Return the jobs without making their records. None if only records tell of them."""

    def keys_of(self, effect: str, doubled: bool) -> list[tuple[int, Any]]:
        """Return the index and the key of each effect of a name that was done.

        Parameters: `doubled`: only keys that are there more than once are needed; others can be left out.
        """


class ListedEntries:
    """Entries in a list."""

    def __init__(self, entries: Sequence[Entry]) -> None:
        self._entries = entries

    @property
    def last_ns(self) -> int:
        """The instant of the last entry, or 0."""
        return self._entries[-1].ns if self._entries else 0

    def __len__(self) -> int:
        return len(self._entries)

    def __iter__(self) -> Iterator[Entry]:
        return iter(self._entries)

    def entry(self, number: int) -> Entry:
        """Return one entry by its index."""
        return self._entries[number]

    def steps(self) -> Iterator[Step]:
        """Iterate over what happened to jobs, effects left out."""
        codes = {words: code for code, words in THEN_WORDS.items()}
        for number, entry in enumerate(self._entries):
            if entry.job is not None and entry.what != "effect":
                then = 0
                if entry.what in ENDED:  # only ends have a sequel, and to read the data takes long
                    data = entry.data
                    known = codes.get(str(data.get("then")))
                    then = int(data.get("wait_ns", 0)) if known is None else known
                yield number, entry.ns, entry.what, entry.job, str(entry.name), entry.attempt, then

    def numbers_of(self, whats: Collection[str]) -> list[int]:
        """Return the indexes of the entries that say one of these."""
        return [number for number, entry in enumerate(self._entries) if entry.what in whats]

    def count_of(self, what: str) -> int:
        """Return how many entries say this."""
        return sum(entry.what == what for entry in self._entries)

    def of_jobs(self, jobs: Collection[str]) -> list[int]:
        """Return the indexes of the entries of these jobs."""
        return [number for number, entry in enumerate(self._entries) if entry.job in jobs]

    def effects_done(self) -> list[int]:
        """Return the indexes of the effects that were done."""
        return [number for number, entry in enumerate(self._entries) if entry.effect is not None]

    def effect_names(self) -> set[str]:
        """Return the names of the effects."""
        return {str(entry.data.get("effect")) for entry in self._entries if entry.what == "effect"}

    def job_rows(self) -> None:
        """Return None: the jobs are read from the entries."""
        return

    def jobs_in_columns(self, entry: Callable[[int], Entry]) -> None:
        """Return None: they are not in columns."""

    def keys_of(self, effect: str, doubled: bool) -> list[tuple[int, Any]]:
        """Return the index and the key of each effect of a name that was done."""
        return [(number, entry.key) for number, entry in enumerate(self._entries) if entry.effect == effect]
