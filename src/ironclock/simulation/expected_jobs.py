"""Expected jobs: what a test says of jobs in short, and how it differs from the jobs that there are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..errors import InputError, JobsDiffer
from ..foundation.durations import Duration, spell, to_ns
from .jobs import Job, live_job, written_arguments
from .policy import JobType, job_name


class Expected:
    """What a job is expected to be. `expected` makes it."""

    def __init__(
        self, name: str, args: tuple[Any, ...], kwargs: dict[str, Any], after_ns: int | None, queue: str | None,
        state: str | None,
    ) -> None:  # fmt: skip
        self.name = name
        self.any_arguments = not args and not kwargs
        self.open_ended = bool(args) and args[-1] is ...
        self.args = args[:-1] if self.open_ended else args
        self.kwargs = kwargs
        self.after_ns = after_ns
        self.queue = queue
        self.state = state

    def differences(self, job: Job[Any]) -> list[str]:
        """Return in words what is different in a job. Empty if it is as expected."""
        found = []
        if job.name != self.name:
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
        """Return True if a job has the expected arguments."""
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
    name: object, /, *args: Any, after: Duration | None = None, queue: str | None = None, state: str | None = None,
    **kwargs: Any,
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
    return Expected(_name(name), args, kwargs, after_ns, queue, state)


def _name(given: object) -> str:
    if isinstance(given, str):
        return given
    return given.name if isinstance(given, JobType) else job_name(given)


def as_expected(given: object) -> Expected:
    """Return an expectation: it can be given as a name, a job type, a function, or a tuple of one and its arguments."""
    if isinstance(given, Expected):
        return given
    if isinstance(given, tuple):
        if not given:
            raise InputError("an empty tuple is no expected job; give (name, argument, ...) or ic.expected(...)")
        return expected(given[0], *given[1:])
    return expected(given)


def must_be(jobs: Sequence[Job[Any]], wanted: Sequence[Expected], in_order: bool, more: bool, asked: str) -> None:
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
        near = next((job for job in rest if job.name == one.name), None)
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


def must_wait(job: Job[Any], waits: Sequence[Duration], within: float) -> None:
    """Raise `JobsDiffer` unless a job has waited so long after its failed attempts."""
    __tracebackhide__ = True
    if isinstance(within, bool) or not isinstance(within, (int, float)) or not 0 <= within < 1:
        raise InputError(f"within is {within!r}; give a share from 0 to 1, such as 0.1")
    wanted = [to_ns(wait, what=f"wait {number}") for number, wait in enumerate(waits, 1)]
    found = [attempt.waited_ns for attempt in job.attempts if attempt.waited_ns is not None]
    if len(found) == len(wanted) and all(
        abs(ns - wish) <= within * wish for ns, wish in zip(found, wanted, strict=True)
    ):
        return
    share = f", up to {within:.0%} more or less" if within else ""
    rows = "\n".join(
        f"  after attempt {number}: expected {_spelled(wanted, number)}, found {_spelled(found, number)}"
        for number in range(1, max(len(found), len(wanted)) + 1)
    )
    raise JobsDiffer(f"the waits of {job.id} are not as expected{share}:\n{rows or '  none'}")


def _spelled(waits: Sequence[int], number: int) -> str:
    return spell(waits[number - 1]) if number <= len(waits) else "none"
