"""Sets of jobs, as a test asks for them, and the dead letters."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, overload

from .durations import spell
from .errors import SelectionError
from .jobs import Job

if TYPE_CHECKING:
    import pandas

    from .engine import Engine


class JobSet(Sequence[Job]):
    """Some jobs of a rig, in the order they were enqueued. Its repr is a table."""

    def __init__(self, jobs: Iterable[Job], asked: str = "any job") -> None:
        self._jobs = list(jobs)
        self._asked = asked

    def __len__(self) -> int:
        return len(self._jobs)

    @overload
    def __getitem__(self, index: int) -> Job: ...
    @overload
    def __getitem__(self, index: slice) -> list[Job]: ...
    def __getitem__(self, index: int | slice) -> Job | list[Job]:
        return self._jobs[index]

    def __eq__(self, other: object) -> bool:
        if isinstance(other, (JobSet, list, tuple)):
            return list(self) == list(other)
        return NotImplemented

    __hash__ = None  # type: ignore[assignment]

    def one(self) -> Job:
        """Return the only job of the set; raise `SelectionError` where there is none, or more than one."""
        __tracebackhide__ = True  # pytest shows the test's own line
        if len(self) == 1:
            return self[0]
        shown = "".join(f"\n  {job!r}" for job in self[:10]) + ("\n  ..." if len(self) > 10 else "")
        raise SelectionError(
            f"asked for one job ({self._asked}), found {len(self) or 'none'}{':' * bool(shown)}{shown}"
        )

    def states(self) -> dict[str, int]:
        """Return how many jobs are in each state that occurs."""
        counted: dict[str, int] = {}
        for job in self:
            counted[job.state] = counted.get(job.state, 0) + 1
        return counted

    def story(self) -> str:
        """Return the accounts of all of them, one below the other."""
        return "\n".join(job.story() for job in self)

    def frame(self) -> pandas.DataFrame:
        """Return a pandas table, one row a job (needs the extra ``ironclock[frame]``)."""
        import pandas

        columns = ("id", "name", "queue", "state", "enqueued_at", "due_at", "attempts", "args", "kwargs", "error")
        rows: list[dict[str, Any]] = [
            {
                "id": job.id, "name": job.name, "queue": job.queue, "state": job.state,
                "enqueued_at": job.enqueued_at, "due_at": job.due_at, "attempts": job.tries,
                "args": job.args, "kwargs": job.kwargs,
                "error": None if job.error is None else type(job.error).__name__,
            }
            for job in self
        ]  # fmt: skip
        return pandas.DataFrame(rows, columns=list(columns))

    def __repr__(self) -> str:
        if not len(self):
            return f"<no jobs ({self._asked})>"
        rows = [("job", "arguments", "queue", "state", "tries", "due", "error")]
        for job in self[:40]:
            given = ", ".join([repr(a) for a in job.args] + [f"{k}={v!r}" for k, v in job.kwargs.items()])
            error = "" if job.error is None else type(job.error).__name__
            delay = "+" + spell(job.due_ns - job.enqueued_ns)
            rows.append((job.id, given[:40], job.queue, job.state, str(job.tries), delay, error))
        widths = [max(len(row[i]) for row in rows) for i in range(len(rows[0]))]
        lines = ["  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)).rstrip() for row in rows]
        if len(self) > 40:
            lines.append(f"... and {len(self) - 40} more")
        return "\n".join(lines)


class DeadLetters(JobSet):
    """The dead letters of a rig, as they are at the moment they are looked at."""

    def __init__(self, engine: Engine) -> None:
        super().__init__((), "dead letters")
        self._engine = engine

    def __len__(self) -> int:
        return len(self._dead())

    @overload
    def __getitem__(self, index: int) -> Job: ...
    @overload
    def __getitem__(self, index: slice) -> list[Job]: ...
    def __getitem__(self, index: int | slice) -> Job | list[Job]:
        return self._dead()[index]

    def _dead(self) -> list[Job]:
        return [job for job in self._engine.jobs if job.state == "dead"]

    def requeue(self, *jobs: Job, where: Callable[[Job], bool] | None = None) -> JobSet:
        """Put dead letters back with a fresh set of attempts, due now: those given, else all that `where` accepts.

        Returns what was put back. Raises `RigStateError` for a job that is not dead, before any is moved.
        """
        return self._each(self._engine.requeue_now, jobs, where)

    def discard(self, *jobs: Job, where: Callable[[Job], bool] | None = None) -> JobSet:
        """Give dead letters up for good (they become `dropped`): those given, else all that `where` accepts."""
        return self._each(self._engine.discard, jobs, where)

    def _each(self, move: Callable[[Job], None], jobs: tuple[Job, ...], where: Callable[[Job], bool] | None) -> JobSet:
        chosen = [job for job in (jobs or self._dead()) if where is None or where(job)]
        for job in chosen:
            self._engine.must_be_dead(job)
        for job in chosen:
            move(job)
        return JobSet(chosen, "dead letters moved")
