"""Sets of jobs, as a test asks for them; what a test expects of them; and the dead letters."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, overload

from ..errors import InputError, JobsDiffer, SelectionError, nearest
from ..foundation.durations import Duration, spell, to_ns
from ..foundation.other_words import no_attribute
from .broker import Broker
from .jobs import CLOSED, OPEN, Job, State, live_job, written_arguments
from .policy import JobLike, name_of

if TYPE_CHECKING:
    import pandas


class JobSet(Sequence[Job[Any]]):
    """Some jobs of a rig, in the order in which they were enqueued. `Rig.jobs` gives it. Printed, it is a table.

    A property (`names`, `args`, `waits`) is a list with one value for each job. What counts, or checks, is a method.

    Example::

        assert rig.jobs("charge_fare").states() == {"done": 3, "dead": 1}
        print(rig.jobs(state="dead").one().story())
    """

    def __init__(
        self, jobs: Iterable[Job[Any]], asked_for: str = "any job", there_is: Callable[[], str] | None = None
    ) -> None:  # fmt: skip
        self._jobs = list(jobs)
        self._asked_for = asked_for
        self._there_is = there_is

    def __len__(self) -> int:
        return len(self._list())

    @overload
    def __getitem__(self, index: int) -> Job[Any]: ...
    @overload
    def __getitem__(self, index: slice) -> JobSet: ...
    def __getitem__(self, index: int | slice) -> Job[Any] | JobSet:
        if isinstance(index, slice):
            return JobSet(self._list()[index], self._asked_for, self._there_is)
        return self._list()[index]

    def __iter__(self) -> Iterator[Job[Any]]:
        return iter(self._list())

    def _list(self) -> list[Job[Any]]:
        return self._jobs

    def __eq__(self, other: object) -> bool:
        if isinstance(other, (JobSet, list, tuple)):
            return list(self) == list(other)
        return NotImplemented

    __hash__ = None  # type: ignore[assignment]

    def one(self) -> Job[Any]:
        """Return the only job of the set. Raises `SelectionError` if the set has none, or more than one.

        Example::

            rig.enqueue(submit_manifest, "TL-204")
            assert rig.jobs("submit_manifest").one().args == ("TL-204",)
        """
        __tracebackhide__ = True  # so that pytest shows the line of the test
        if len(self) == 1:
            return self[0]
        found = f"found {len(self)}:{listed(self._list(), 10)}" if len(self) else f"found none{self._instead()}"
        raise SelectionError(f"asked for one job ({self._asked_for}), {found}")

    def _instead(self) -> str:
        return "" if self._there_is is None else f"; {self._there_is()}"

    def must_be(self, *jobs: object, in_order: bool = True) -> None:
        """Raise `JobsDiffer`, with a table of the differences, unless the set has exactly these jobs.

        Parameters: `jobs` are `expected` jobs, or in short: names, job types, functions, or tuples of one and its
        arguments. `in_order`: in this order (the default), or in any.

        Example::

            rig.enqueue(submit_manifest, "TL-204")
            rig.enqueue(submit_manifest, "TL-206", after="20m")
            rig.jobs().must_be((submit_manifest, "TL-204"), ic.expected(submit_manifest, after="20m"))
        """
        __tracebackhide__ = True
        _must_be(self._list(), [_as_expected(one) for one in jobs], in_order, False, self._asked_for)

    def must_include(self, *jobs: object, in_order: bool = False) -> None:
        """Raise `JobsDiffer`, with a table of the differences, unless the set has at least these jobs.

        Parameters: `jobs` as in `must_be`; `in_order`: True if their order matters. Default False.

        Example::

            rig.enqueue(submit_manifest, "TL-204")
            rig.jobs().must_include(("submit_manifest", "TL-204"))
        """
        __tracebackhide__ = True
        _must_be(self._list(), [_as_expected(one) for one in jobs], in_order, True, self._asked_for)

    @property
    def names(self) -> list[str]:
        """The names of the job types, one for each job."""
        return [job.name for job in self]

    @property
    def args(self) -> list[tuple[Any, ...]]:
        """The positional arguments, one tuple for each job."""
        return [job.args for job in self]

    @property
    def waits(self) -> list[list[str]]:
        """The waits after failed attempts, one list for each job, as `Job.waits`."""
        return [job.waits for job in self]

    def states(self) -> dict[str, int]:
        """Return how many jobs are in each state. A state without jobs is left out.

        Example::

            rig.enqueue(submit_manifest, "TL-204")
            rig.run_dry()
            assert rig.jobs().states() == {"done": 1}
        """
        return dict(Counter(job.state for job in self))

    if not TYPE_CHECKING:  # with it, static tools would accept every misspelled name

        def __getattr__(self, name: str) -> object:
            raise no_attribute(self, name)

    def story(self) -> str:
        """Return what happened to all of the jobs, one job below the other.

        Example::

            rig.enqueue(submit_manifest, "TL-204")
            rig.run_dry()
            print(rig.jobs().story())
        """
        return "\n".join(job.story() for job in self)

    def frame(self) -> pandas.DataFrame:
        """Return a pandas table, one row for each job. Needs the extra ``ironclock[frame]``."""
        import pandas

        columns = ("id", "name", "queue", "state", "enqueued_at", "due_at", "attempts", "args", "kwargs", "error")
        rows: list[dict[str, Any]] = [
            {
                "id": job.id, "name": job.name, "queue": job.queue, "state": job.state,
                "enqueued_at": job.enqueued_at, "due_at": job.due_at, "attempts": job.attempts_made,
                "args": job.args, "kwargs": job.kwargs,
                "error": None if job.error is None else type(job.error).__name__,
            }
            for job in self
        ]  # fmt: skip
        return pandas.DataFrame(rows, columns=list(columns))

    def __repr__(self) -> str:
        jobs = self._list()
        if not jobs:
            return f"<no jobs ({self._asked_for}){self._instead()}>"
        listed = ", ".join(f"{job.id} {live_job(job).state}" for job in jobs[:5]) + (", ..." if len(jobs) > 5 else "")
        return f"<{len(jobs)} {'job' if len(jobs) == 1 else 'jobs'} ({self._asked_for}): {listed}>"

    def __str__(self) -> str:
        """A table, one line for each job."""
        if not self._list():
            return repr(self)
        rows = [("job", "arguments", "queue", "state", "attempts", "due", "error")]
        for job in self._list()[:40]:
            live = live_job(job)  # so that a table does not count as a look at the jobs
            error = "" if live.error is None else type(live.error).__name__
            delay = "+" + spell(live.due_ns - live.enqueued_ns)
            arguments = written_arguments(job.args, job.kwargs)[:40]
            rows.append((job.id, arguments, job.queue, live.state, str(job.attempts_made), delay, error))
        widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))]
        lines = ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in rows]
        if len(self) > 40:
            lines.append(f"... and {len(self) - 40} more")
        return "\n".join(lines)


def chosen(
    broker: Broker, name: object, args: Sequence[Any] | None, queue: str | None, state: str | Iterable[str] | None,
    where: Callable[[Job[Any]], bool] | None,
) -> JobSet:  # fmt: skip
    """Return the jobs of a broker that a test asks for. Parameters and errors as in `Rig.jobs`."""
    asked = []
    wanted = None
    if name is not None:
        # A function or a job type is no wrong name: if it is unknown, there are no jobs of it.
        wanted = broker.known_name(name) if isinstance(name, str) else broker.name_of(name)
        asked.append(f"name {wanted}")
    states: tuple[str, ...] | None = None
    if state is not None:
        states = (state,) if isinstance(state, str) else tuple(state)
        for known in states:
            if known not in _STATES:
                raise InputError(f"unknown job state {known!r}; {nearest(str(known), _STATES)}")
        asked.append(f"state {' or '.join(states)}")
    if queue is not None:
        asked.append(f"queue {queue}")
    if args is not None:
        asked.append(f"args {args!r}")
        wanted_args = expected("", *args)
        fits = where
        where = lambda job: wanted_args.has_arguments(job) and (fits is None or fits(job))  # noqa: E731
    elif where is not None:
        asked.append("where=")
    near = [
        job.reader
        for job in broker.jobs
        if (wanted is None or job.type.name == wanted)
        and (queue is None or job.queue == queue)
        and (states is None or job.state in states)
    ]
    if states is not None and "dead" in states:
        for job in near:
            _ = job.state  # the test looks for dead ones
    selected = near if where is None else [job for job in near if where(job)]

    def there_is() -> str:
        if near:
            return f"without {'where=' if args is None else 'args='} there are {len(near)}:{listed(near, 5)}"
        return broker.what_there_is()

    return JobSet(selected, ", ".join(asked) or "any job", there_is)


_STATES = (*OPEN, *CLOSED)


class DeadLetters(JobSet):
    """The dead letters of a rig, as they are when you look. `Rig.dead` gives them.

    Example::

        assert len(rig.dead) == 1
        rig.dead.requeue()
        rig.advance("1h")
    """

    def __init__(self, broker: Broker) -> None:
        super().__init__((), "dead letters")
        self._broker = broker

    def _list(self) -> list[Job[Any]]:
        dead = [job.reader for job in self._broker.jobs if job.state == "dead"]
        return [job for job in dead if job.state]  # the test looks at them

    def requeue(self, *jobs: Job[Any], where: Callable[[Job[Any]], bool] | None = None) -> JobSet:
        """Put dead letters back into their queues, due now, with all of their attempts again.

        Parameters:

        - `jobs`: the dead letters. Default: all.
        - `where`: only those for which this function of the job is true. Default: all.

        Returns the jobs that were put back. Raises `RigStateError` for a job that is not dead, before any is moved.

        Example::

            rig.faults.fail("submit_manifest", between=("2031-03-03T09:00", "2031-03-03T10:00"))
            job = rig.enqueue(submit_manifest, "TL-204")
            rig.advance("2h")
            rig.dead.requeue()
            rig.settle()
            assert job.state == "done"
        """
        return self._move(self._broker.requeue, jobs, where)

    def discard(self, *jobs: Job[Any], where: Callable[[Job[Any]], bool] | None = None) -> JobSet:
        """Give dead letters up for good: their state becomes ``dropped``.

        Parameters: `jobs`, `where` and errors as in `requeue`.

        Example::

            rig.faults.fail("submit_manifest")
            job = rig.enqueue(submit_manifest, "TL-204")
            rig.settle()
            rig.dead.discard(where=lambda job: job.args == ("TL-204",))
            assert job.state == "dropped"
        """
        return self._move(self._broker.discard, jobs, where)

    def _move(
        self, move: Callable[[Any], None], jobs: tuple[Job[Any], ...], where: Callable[[Job[Any]], bool] | None
    ) -> JobSet:
        chosen = [job for job in (jobs or self._list()) if where is None or where(job)]
        for job in chosen:
            if not isinstance(job, Job):
                raise InputError(f"{job!r} is not a job; give jobs, as rig.dead holds them")
            self._broker.must_be_dead(live_job(job))
        for job in chosen:
            move(live_job(job))
        return JobSet(chosen, "dead letters moved")


def listed(jobs: Sequence[Job[Any]], most: int) -> str:
    """Return the first of some jobs, one a line, for a message."""
    return "".join(f"\n  {job!r}" for job in jobs[:most]) + ("\n  ..." if len(jobs) > most else "")


# --- what a test expects ----------------------------------------------------------------------------------


class Expected:
    """What a job is expected to be. `expected` makes it."""

    def __init__(
        self, job: object, args: tuple[object, ...] = (), kwargs: Mapping[str, object] | None = None,
        after_ns: int | None = None, queue: str | None = None, state: State | None = None,
    ) -> None:  # fmt: skip
        self.name = name_of(job)
        """The name of its type."""
        self._job = job  # a function can be registered under another name
        self.any_arguments = not args and not kwargs
        """True if every argument fits."""
        self.open_ended = bool(args) and args[-1] is ...
        """True if more arguments can follow."""
        self.args = args[:-1] if self.open_ended else args
        """Its positional arguments."""
        self.kwargs = kwargs or {}
        """Its keyword arguments."""
        self.after_ns = after_ns
        """Its delay in nanoseconds. None: any."""
        self.queue = queue
        """Its queue. None: any."""
        self.state = state
        """Its state. None: any."""

    def is_of(self, job: Job[Any]) -> bool:
        """Return True if a job is of the expected type. Parameters: `job` is the job."""
        return job.name == self.name or live_job(job).type.has(self._job)

    def differences(self, job: Job[Any]) -> list[str]:
        """Return in words what is different in a job. Empty if it is as expected. Parameters: `job` is the job."""
        found = []
        if not self.is_of(job):
            found.append(f"name {job.name}")
        if not self.any_arguments and not self.has_arguments(job):
            found.append(f"arguments ({written_arguments(job.args, job.kwargs)})")
        delay_ns = live_job(job).due_ns - live_job(job).enqueued_ns
        if self.after_ns is not None and delay_ns != self.after_ns:
            found.append(f"after {spell(delay_ns)}")
        if self.queue is not None and job.queue != self.queue:
            found.append(f"queue {job.queue}")
        if self.state is not None and job.state != self.state:
            found.append(f"state {job.state}")
        return found

    def has_arguments(self, job: Job[Any]) -> bool:
        """Return True if a job has the expected arguments. Parameters: `job` is the job."""
        args, kwargs = job.args, job.kwargs
        if self.open_ended:
            args = args[: len(self.args)]
            kwargs = {name: value for name, value in kwargs.items() if name in self.kwargs}
        return bool(self.args == args and self.kwargs == kwargs)

    def __repr__(self) -> str:
        given = "..." if self.any_arguments else written_arguments(self.args, self.kwargs)
        given += ", ..." if self.open_ended else ""
        rest = [f"after {spell(self.after_ns)}"] if self.after_ns is not None else []
        rest += [f"queue {self.queue}"] if self.queue is not None else []
        rest += [f"state {self.state}"] if self.state is not None else []
        return f"{self.name}({given}){''.join(f', {one}' for one in rest)}"


def expected(
    name: JobLike, /, *args: object, after: Duration | None = None, queue: str | None = None,
    state: State | None = None, **kwargs: object,
) -> Expected:  # fmt: skip
    """Return what a job is expected to be, for `JobSet.must_be` and `JobSet.must_include`.

    Parameters:

    - `name`: the name of the job type, the job type, or its function.
    - `args`, `kwargs`: its arguments, compared with ``==``, so that `mock.ANY` and `pytest.approx` fit. Without any,
      the arguments do not matter. If the last one is ``...``, more can follow.
    - `after`: the time from enqueueing until it is due, a duration. Default None: it does not matter.
    - `queue`, `state`: the queue and the state. Default None: they do not matter.

    Raises `InputError` or `DurationError`.

    Example::

        rig.enqueue(submit_manifest, "TL-204")
        rig.enqueue(submit_manifest, "TL-206", after="20m")
        rig.jobs().must_be(
            ic.expected("submit_manifest", "TL-204"),
            ic.expected("submit_manifest", ..., after="20m"),
        )
    """
    after_ns = None if after is None else to_ns(after, what="after")
    return Expected(name, args, kwargs, after_ns, queue, state)


def _as_expected(given: object) -> Expected:
    """Return an expectation: it can be given as a name, a job type, a function, or a tuple of one and its arguments."""
    if isinstance(given, Expected):
        return given
    if isinstance(given, tuple):
        if not given:
            raise InputError("an empty tuple is not an expected job; give (name, argument, ...) or ic.expected(...)")
        return Expected(given[0], given[1:])
    return Expected(given)


def _must_be(jobs: Sequence[Job[Any]], wanted: Sequence[Expected], in_order: bool, more: bool, asked: str) -> None:
    """Raise `JobsDiffer` unless jobs are as wanted. `more`: there can be others beside them."""
    __tracebackhide__ = True
    pairs = _in_order(jobs, wanted) if in_order else _in_any_order(jobs, wanted)
    missing = [one for number, one in enumerate(wanted) if number not in pairs]
    taken = set(pairs.values())
    extra = [job for number, job in enumerate(jobs) if number not in taken]
    if not missing and (more or not extra):
        return
    rows = [("", "expected", "found")]
    if in_order and not more and len(jobs) == len(wanted):
        rows += _side_by_side(jobs, wanted)
    else:
        rows += _gaps(jobs, wanted, pairs, [] if more else extra)
    widths = [max(len(row[column]) for row in rows) for column in range(2)]
    table = "\n".join(f"  {a.ljust(widths[0])}  {b.ljust(widths[1])}  {c}".rstrip() for a, b, c in rows)
    how = "at least " if more else ""
    order = "in this order" if in_order else "in any order"
    raise JobsDiffer(f"the jobs ({asked}) are not {how}these {len(wanted)}, {order}; there are {len(jobs)}:\n{table}")


def _side_by_side(jobs: Sequence[Job[Any]], wanted: Sequence[Expected]) -> list[tuple[str, str, str]]:
    """Return the rows of a table of as many jobs as were expected."""
    reordered = len(_in_any_order(jobs, wanted)) == len(wanted)
    rows = []
    for one, job in zip(wanted, jobs, strict=True):
        differs = one.differences(job)
        found = f"{job.id}: {', '.join(differs)}" if differs else job.id
        rows.append(("" if not differs else "order" if reordered else "differs", repr(one), found))
    return rows


def _gaps(
    jobs: Sequence[Job[Any]], wanted: Sequence[Expected], pairs: dict[int, int], extra: list[Job[Any]]
) -> list[tuple[str, str, str]]:  # fmt: skip
    """Return the rows of a table with what is missing and what is extra."""
    rows = []
    rest = list(extra)
    for number, one in enumerate(wanted):
        if number in pairs:
            rows.append(("", repr(one), jobs[pairs[number]].id))
            continue
        near = next((job for job in rest if one.is_of(job)), None)
        if near is None:
            rows.append(("missing", repr(one), "-"))
        else:
            rest.remove(near)
            differs = one.differences(near)
            found = f"{near.id}: {', '.join(differs) or 'elsewhere'}"
            rows.append(("differs" if differs else "order", repr(one), found))
    rows += [("extra", "-", f"{job.id}({written_arguments(job.args, job.kwargs)})") for job in rest]
    return rows


def _in_order(jobs: Sequence[Job[Any]], wanted: Sequence[Expected]) -> dict[int, int]:
    """Return the longest row of pairs that keeps both orders: index in `wanted` to index in `jobs`."""
    fits = [[not one.differences(job) for job in jobs] for one in wanted]
    best = [[0] * (len(jobs) + 1) for _ in range(len(wanted) + 1)]
    for i in range(len(wanted) - 1, -1, -1):
        for j in range(len(jobs) - 1, -1, -1):
            skip = max(best[i + 1][j], best[i][j + 1])
            best[i][j] = max(skip, best[i + 1][j + 1] + 1) if fits[i][j] else skip
    pairs = {}
    i = j = 0
    while i < len(wanted) and j < len(jobs):
        if fits[i][j] and best[i][j] == best[i + 1][j + 1] + 1:
            pairs[i] = j
            i, j = i + 1, j + 1
        elif best[i + 1][j] >= best[i][j + 1]:
            i += 1
        else:
            j += 1
    return pairs


def _in_any_order(jobs: Sequence[Job[Any]], wanted: Sequence[Expected]) -> dict[int, int]:
    """Return as many pairs as there can be (augmenting paths), since one job can fit several expectations."""
    fits = [[j for j, job in enumerate(jobs) if not one.differences(job)] for one in wanted]
    owner: dict[int, int] = {}

    def place(i: int, seen: set[int]) -> bool:
        for j in fits[i]:
            if j not in seen:
                seen.add(j)
                if j not in owner or place(owner[j], seen):
                    owner[j] = i
                    return True
        return False

    for i in range(len(wanted)):
        place(i, set())
    return {i: j for j, i in owner.items()}
