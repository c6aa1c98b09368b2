"""Laws: statements over what happened that must hold, with the excerpt of history that proves a breach.

A law is called with a `World`, and returns its breaches. A `World` is also the sequence of the jobs, so that a law of
your own can be as short as ``lambda jobs: [f"{job.id} is dead" for job in jobs if job.state == "dead"]``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property, update_wrapper
from typing import TYPE_CHECKING, Any, ParamSpec, Protocol, TypeAlias, cast, overload

from ..errors import InputError, IronClockError, SelectionError, nearest
from ..history.entries import Entry
from ..history.history import History
from ..history.job_records import JobRecord, job_records
from ..history.narrative import proof_lines
from ..simulation.jobs import Job, LiveJob
from ..simulation.policy import JobType, name_of

if TYPE_CHECKING:
    from ..history.log_in_columns import LogJobs

_MOST = 20


class BrokenLaw(IronClockError, AssertionError):
    """A law does not hold. The message names it and shows the entries that prove it. `breaches` has every breach."""

    def __init__(self, message: str, breaches: Sequence[Breach] = ()) -> None:
        super().__init__(message)
        self.breaches = list(breaches)


@dataclass(frozen=True)
class Breach:
    """One thing that breaks a law.

    Example::

        def none_dead(world):
            for job in world.job_records:
                if job.state == "dead":
                    yield ic.Breach(f"{job.id} is dead", (job.enqueue_entry, job.close_entry))

        rig.check(none_dead)
    """

    words: str
    """What is wrong."""
    proof: tuple[Entry, ...] = ()
    """The few entries that prove it."""
    law: str = ""
    """The name of the law."""


JobLike: TypeAlias = "str | JobType[..., Any] | Callable[..., Any]"
"""A job type: its name, itself, or its function."""

Found: TypeAlias = "Iterable[Breach | str]"


class Law(Protocol):
    """Anything that can be checked against a `World`."""

    def __call__(self, world: World, /) -> Found:
        """Return a breach, or a line of words, for each thing that is wrong. Return nothing if all is well."""


P = ParamSpec("P")


class StatedLaw:
    """A law as a function such as `once_per_key` returns it. It can be sent to another process.

    `limit_ns` is the time that it allows, or None: delays
    much longer than that say nothing about it. `reach` is what it has to see at once: each ``"job"`` for itself, all
    jobs with an effect of the same ``"key"``, or ``"all"``. `keys_of` is the effect whose keys it looks at (None: all),
    and if effects without a key count as well.
    """

    def __init__(self, factory: LawFactory[Any], args: tuple[Any, ...], kwargs: dict[str, Any], law: Law) -> None:
        self.law_name = factory.__name__  # a `__name__` would let pytest take it for a test, in a marker
        self.limit_ns: int | None = getattr(law, "limit_ns", None)
        self.reach: str = getattr(law, "reach", "all")
        self.keys_of: tuple[str | None, bool] = getattr(law, "keys_of", (None, False))
        self._made = factory, args, kwargs
        self._law = law

    def __call__(self, world: World, /) -> Found:
        return self._law(world)

    def __reduce__(self) -> Any:
        factory, args, kwargs = self._made
        return _state_again, (factory, args, kwargs)

    def __repr__(self) -> str:
        _, args, kwargs = self._made
        given = [*map(repr, args), *(f"{name}={value!r}" for name, value in kwargs.items())]
        return f"{self.law_name}({', '.join(given)})"


class LawFactory(Protocol[P]):
    """A function that returns a law."""

    __name__: str

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> Law: ...


def states(make: Callable[P, Law]) -> Callable[P, Law]:
    """Make the laws of a factory into `StatedLaw`."""

    def factory(*args: P.args, **kwargs: P.kwargs) -> Law:
        return StatedLaw(factory, args, kwargs, make(*args, **kwargs))

    update_wrapper(factory, make)
    factory.makes_laws = True  # type: ignore[attr-defined]
    return factory


def _state_again(factory: Callable[..., Law], args: tuple[Any, ...], kwargs: dict[str, Any]) -> Law:
    return factory(*args, **kwargs)


class World(Sequence[Job[Any]]):
    """What a law looks at: the history, and what is read from it. As a sequence, it is the jobs, with
    arguments, results and attempts. `Rig.world` is one of a live rig, ``World(History.load(path))`` of a saved history.

    Example::

        def each_seat_once(world: ic.laws.World) -> list[str]:
            seats = [job.args for job in world if job.name == "charge_fare" and job.state == "done"]
            return [f"{args} is charged {seats.count(args)} times" for args in set(seats) if seats.count(args) > 1]

        rig.check(each_seat_once)
    """

    def __init__(
        self, history: History, live_jobs: Sequence[LiveJob] | None = None, named: Callable[[object], str] = name_of
    ) -> None:
        self.history = history
        """Everything that happened."""
        self._live_jobs = live_jobs
        self._name_of = named
        self._made = _MadeEntries(history)
        self._seen = 0
        self._seen_named: int | None = None
        # How many things the law at work has looked at, and how many of a name. None: it asked for no name.
        self._reads: dict[str, Sequence[Any]] = {}

    @cached_property
    def jobs(self) -> list[Job[Any]]:
        """The jobs. Those of a saved history hold what JSON holds: lists and not tuples, text and not datetimes."""
        jobs = self._live_jobs
        if jobs is None:
            from .saved_jobs import SavedJobs

            jobs = SavedJobs(self.history, self._job_records).jobs
        return [job.reader for job in jobs]

    def __repr__(self) -> str:
        return f"<world of {len(self.history)} entries, {len(self.jobs)} jobs>"

    def begin(self) -> None:
        """Note that another law begins to look."""
        self._seen, self._seen_named = 0, None

    @property
    def was_looked_at(self) -> bool:
        """True if the law at work has found something to judge."""
        return bool(self._seen if self._seen_named is None else self._seen_named)

    def judged(self, count: int) -> None:
        """Note how many things the law at work has judged, if that is not what it has looked at. Parameters: `count` is
        how many."""
        self._seen_named = count

    def _named(self, count: int) -> None:
        self._seen_named = (self._seen_named or 0) + count

    def begin_reading(self) -> None:
        """Forget what was read: another predicate begins."""
        self._reads.clear()

    def told_reads(self) -> tuple[str, tuple[Entry, ...]]:
        """Return what was read since `begin_reading`, with counts, in words; and the last few of its entries."""
        words, proof = [], []
        for what, found in self._reads.items():
            words.append(_counted(what, len(found)))
            if what != "entry":
                entries = [self._shown(one) for one in found[-3:]]
                proof += [entry for entry in entries if entry is not None and entry not in proof]
        return ", ".join(words), tuple(proof)

    def _shown(self, read: Any) -> Entry | None:
        """Return the entry that stands for what was read: an entry, the index of one, or a job."""
        if isinstance(read, int):
            return self.entry(read)
        return read if isinstance(read, Entry) else _last_entry(read, self._job_records)

    @overload
    def __getitem__(self, index: int) -> Job[Any]: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Job[Any]]: ...
    def __getitem__(self, index: int | slice) -> Job[Any] | Sequence[Job[Any]]:
        self._read_jobs()
        return self.jobs[index]

    def __len__(self) -> int:
        self._read_jobs()
        return len(self.jobs)

    def __iter__(self) -> Iterator[Job[Any]]:
        self._read_jobs()
        return iter(self.jobs)

    def _read_jobs(self) -> None:
        self._seen += len(self.jobs)
        self._reads["job"] = self.jobs

    @property
    def entries(self) -> list[Entry]:
        """The entries of the history."""
        self._seen += len(self.history)
        self._reads["entry"] = self._entries
        return self._entries

    def numbers_that(self, *whats: str) -> list[int]:
        """Return the indexes of the entries that say one of these, such as ``"started"``. Parameters: `whats` are names
        of what happened."""
        self._seen += len(self.history)
        self._reads["entry"] = found = self.history.numbers_of(*whats)
        return found

    def entries_that(self, *whats: str) -> list[Entry]:
        """Return the entries that say one of `whats`, in order."""
        return [self.entry(number) for number in self.numbers_that(*whats)]

    def after(self, number: int) -> Iterator[Entry]:
        """Iterate over the entries after the one with that index. Parameters: `number` is its number or index."""
        return map(self.entry, range(number + 1, len(self.history)))

    @cached_property
    def _entries(self) -> list[Entry]:
        return [self.entry(number) for number in range(len(self.history))]

    def entry(self, number: int) -> Entry:
        """Return one entry by its index (`number`), always the same object."""
        return self._made.entry(number)

    @property
    def effects(self) -> list[Entry]:
        """The entries of effects that were done."""
        self._seen += len(self._effects_done) or len(self.history)
        self._reads["effect"] = self._effects_done
        return self._effects_done

    @cached_property
    def _effects_done(self) -> list[Entry]:
        return [self.entry(number) for number in self.history.effects_done()]

    def effects_of(self, name: str) -> list[Entry]:
        """Return the entries of the effects called `name` that were done.

        Example::

            def two_letters(world):
                return [] if len(world.effects_of("mail.send")) <= 2 else ["there are more than two letters"]

            rig.check(two_letters)
        """
        found = [entry for entry in self._effects_done if entry.effect == name]
        self._named(len(found))
        self._reads[f"effect {name}"] = found
        return found

    def keys_of(self, name: str, *, doubled: bool = False) -> list[tuple[int, Any]]:
        """Return the index of the entry and the key of each effect called `name` that was done.

        Parameters: `doubled`: only keys that are there more than once are needed; some others can be left out.
        """
        found = self.history.keys_of(name, doubled=doubled)
        self._named(len(found) or int(self._log_jobs is not None and name in self.effect_names))
        self._reads[f"effect {name}"] = [number for number, _ in found]
        return found

    @cached_property
    def effect_names(self) -> set[str]:
        """The name of every effect that there is or could have been."""
        named = self.history.fact("effects", None)
        if named is not None:
            return set(named)
        return self.history.effect_names()

    @property
    def job_records(self) -> Sequence[JobRecord]:
        """The jobs that the history tells of, in the order in which they were enqueued."""
        self._seen += len(self._job_records)
        self._reads["job"] = self._job_records
        return self._job_records

    @cached_property
    def _job_records(self) -> Sequence[JobRecord]:
        """The jobs that the history tells of, in the order in which they were enqueued."""
        found = self._log_jobs
        return job_records(self.history, self._made.entry) if found is None else found

    @cached_property
    def _log_jobs(self) -> LogJobs | None:
        found: LogJobs | None = self.history.jobs_in_columns(self._made.entry)
        return found

    def places_in_log(self) -> dict[str, tuple[int, int, int]]:
        """Return the place of each job that was read so far, if the history is a log in columns."""
        return {} if self._log_jobs is None else self._log_jobs.places()

    @property
    def all_ended_well(self) -> bool:
        """True if this is a live rig, and each of its jobs is closed and not lost."""
        self._seen += len(self._live_jobs or ())
        return bool(self._live_jobs) and all(job.state in _ENDED_WELL for job in self._live_jobs or ())

    @property
    def nothing_is_pending(self) -> bool:
        """True if nothing is left that could happen. False if a saved history does not say."""
        return bool(self.history.fact("nothing_pending", False))

    @property
    def end_ns(self) -> int:
        """The instant up to which the history tells, in nanoseconds: the rig's now, or when it was saved."""
        return self.history.end_ns

    def name_of(self, job: JobLike) -> str:
        """Return the name of a job type. Parameters: `job` is its name, itself, or its function."""
        return self._name_of(job)

    def suspects(self, job: JobLike | None, ask: Callable[[LogJobs], LogJobs]) -> Sequence[JobRecord]:
        """Return the jobs of a type that a law has to look at. Raises `SelectionError`.

        Parameters: `job` is as in `of`; `ask` picks them, if the history is a log in columns. Otherwise they are all.
        """
        found = self.of(job)
        return found if self._log_jobs is None else ask(cast("LogJobs", found))

    def of(self, job: JobLike | None) -> Sequence[JobRecord]:
        """Return the jobs of a type. Raises `SelectionError` for a name that no job type has.

        Parameters: `job` is a name, a job type or its function. None: all jobs.

        Example::

            def tried_once(world):
                return [f"{job.id} is tried again" for job in world.of("submit_manifest") if len(job.attempts) > 1]

            rig.check(tried_once)
        """
        if job is None:
            return self.job_records
        name = self._name_of(job)
        log = self._log_jobs
        names = (record.name for record in self._job_records) if log is None else log.type_names
        known = {*self.history.fact("job_types", ()), *names}
        if name not in known:
            raise SelectionError(
                f"a law is about the job {name!r}, and no job type has that name; {nearest(name, known)}"
            )
        found: Sequence[JobRecord]
        found = [one for one in self._job_records if one.name == name] if log is None else log.named(name)
        self._named(len(found))
        self._reads[f"job {name}"] = found
        for live in self._live_jobs or ():
            if live.type.name == name and live.state == "dead":
                live.home.attention.looked_at(live)  # the law is about it
        return found


class _MadeEntries:
    """The entries of a history that somebody has asked for. Records refer to this, and not to their world: so a world
    that nobody needs is gone at once, with a log of any size."""

    def __init__(self, history: History) -> None:
        self._history = history
        self._made: dict[int, Entry] = {}

    def entry(self, number: int) -> Entry:
        """Return one entry by its index, always the same object."""
        found = self._made.get(number)
        if found is None:
            found = self._made[number] = self._history.entry(number)
        return found


def _counted(what: str, count: int) -> str:
    """Return a count in words: ``no effect mail.send``, ``1 job``, ``3 entries``."""
    kind, _, name = what.partition(" ")
    plural = "entries" if kind == "entry" else f"{kind}s"
    return f"{count or 'no'} {plural if count > 1 else kind}{f' {name}' if name else ''}"


def _last_entry(job: Any, records: Sequence[JobRecord]) -> Entry | None:
    """Return the entry that closes a job, or the last one of its attempts."""
    record = job if isinstance(job, JobRecord) else next((one for one in records if one.id == job.id), None)
    if record is None:
        return None
    if record.close_entry is not None:
        return record.close_entry
    return record.attempts[-1].entries[-1] if record.attempts else record.enqueue_entry


_ENDED_WELL = frozenset(("done", "dead", "dropped", "withdrawn"))


def must_be_law(given: object) -> None:
    """Raise `InputError` for anything that is not a law."""
    if getattr(given, "makes_laws", False):
        name = getattr(given, "__name__", "")
        raise InputError(f"the law is {name} itself; call it: ic.laws.{name}(...)")
    if isinstance(given, str):
        raise InputError(f"the law is the text {given!r}; give a law, such as ic.laws.{given.strip('()')}()")
    if not callable(given):
        raise InputError(
            f"the law is {given!r}; give ic.laws.once_per_key(...) or another law, or a function of the world"
        )


def name_of_law(law: Law) -> str:
    """Return the name of a law."""
    return str(getattr(law, "law_name", "") or getattr(law, "__name__", type(law).__name__))


def as_breach(found: Breach | str) -> Breach:
    """Return what a law found as a breach; it can be a line of words."""
    return found if isinstance(found, Breach) else Breach(str(found))


def broken_by(
    laws: Sequence[Law], world: World, tell: Callable[[str, bool], None] | None = None
) -> list[Breach]:  # fmt: skip
    """Return every breach of every law, in order. `tell` is called with each law in words, and if it had anything to
    judge."""
    found: list[Breach] = []
    for law in laws:
        must_be_law(law)
        name = name_of_law(law)
        world.begin()
        count = len(found)
        for one in law(world):
            breach = as_breach(one)
            found.append(Breach(breach.words, breach.proof, breach.law or name))
        if tell is not None:
            tell(repr(law) if isinstance(law, StatedLaw) else name, world.was_looked_at or len(found) > count)
    return found


def check(laws: Sequence[Law], world: World, tell: Callable[[str, bool], None] | None = None) -> None:
    """Raise `BrokenLaw` if a law is broken, with every breach and its proof. `tell` is as in `broken_by`."""
    breaches = broken_by(laws, world, tell)
    if breaches:
        raise BrokenLaw(shown(breaches, world.history), breaches)


def shown(breaches: Sequence[Breach], history: History) -> str:
    """Return the message about breaches, with the first of them."""
    more = f"\n  ... and {len(breaches) - _MOST} more" if len(breaches) > _MOST else ""
    found = "\n".join(told(breach, history) for breach in breaches[:_MOST])
    return f"a law is broken:\n{found}{more}"


def told(breach: Breach, history: History) -> str:
    """Return a breach in words, with the entries that prove it below."""
    return "\n".join([f"  {breach.words}", *(f"    {line}" for line in proof_lines(breach.proof, history.timeline))])
