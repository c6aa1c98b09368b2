"""Sets of jobs, as a test asks for them, and the dead letters."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, overload

from ..errors import InputError, SelectionError
from ..foundation.durations import spell
from .broker import Broker
from .expected_jobs import as_expected, must_be
from .jobs import Job, live_job, written_arguments

if TYPE_CHECKING:
    import pandas


class JobSet(Sequence[Job[Any]]):
    """Some jobs of a rig, in the order in which they were enqueued. `Rig.jobs` gives it. Its repr is a table.

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
        """Return the only job of the set. Raises `SelectionError` if the set has none, or more than one."""
        __tracebackhide__ = True  # so that pytest shows the line of the test
        if len(self) == 1:
            return self[0]
        shown = "".join(f"\n  {job!r}" for job in self._list()[:10]) + ("\n  ..." if len(self) > 10 else "")
        found = f"found {len(self)}:{shown}" if len(self) else f"found none{self._instead()}"
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
        must_be(self._list(), [as_expected(one) for one in jobs], in_order, False, self._asked_for)

    def must_include(self, *jobs: object, in_order: bool = False) -> None:
        """Raise `JobsDiffer`, with a table of the differences, unless the set has at least these jobs.

        Parameters: as in `must_be`; the order does not matter by default.
        """
        __tracebackhide__ = True
        must_be(self._list(), [as_expected(one) for one in jobs], in_order, True, self._asked_for)

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
        """Return how many jobs are in each state. A state without jobs is left out."""
        return dict(Counter(job.state for job in self))

    def story(self) -> str:
        """Return what happened to all of the jobs, one job below the other."""
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
        if not len(self):
            return f"<no jobs ({self._asked_for}){self._instead()}>"
        rows = [("job", "arguments", "queue", "state", "attempts", "due", "error")]
        for job in self._list()[:40]:
            live = live_job(job)  # so that a table is no look at the jobs
            error = "" if live.error is None else type(live.error).__name__
            delay = "+" + spell(live.due_ns - live.enqueued_ns)
            arguments = written_arguments(job.args, job.kwargs)[:40]
            rows.append((job.id, arguments, job.queue, live.state, str(job.attempts_made), delay, error))
        widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))]
        lines = ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in rows]
        if len(self) > 40:
            lines.append(f"... and {len(self) - 40} more")
        return "\n".join(lines)


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
        """
        return self._move(self._broker.requeue, jobs, where)

    def discard(self, *jobs: Job[Any], where: Callable[[Job[Any]], bool] | None = None) -> JobSet:
        """Give dead letters up for good: their state becomes ``dropped``. Parameters and errors as in `requeue`."""
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
