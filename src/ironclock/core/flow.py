"""Flows: jobs that follow from the ends of others, with fan-out and join."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, Literal, TypeAlias

from .errors import FlowError, nearest
from .jobs import CLOSED, Job
from .policy import Call, JobType

if TYPE_CHECKING:
    from .engine import Engine

When: TypeAlias = Literal["done", "failed", "ended"]
"""Which end of a step lets the next one start: done, any other end, or either."""

Put: TypeAlias = "Callable[[Call], Job]"


class Step:
    """One step of a flow. `jobs` are its jobs: one, or one for each item of a fan-out."""

    def __init__(
        self, name: str, what: Call | JobType, after: tuple[str, ...], when: When, over: str | None, takes: bool,
        args: tuple[Any, ...],
    ) -> None:  # fmt: skip
        self.name = name
        self.what = what
        self.after = after
        self.when = when
        self.over = over
        self.takes = takes
        self.args = args
        self.jobs: list[Job] = []
        self.started = False
        self.error: Exception | None = None

    @property
    def state(self) -> str:
        """waiting, running, done, or failed (a fan-out is done when all of its jobs are)."""
        if self.error is not None:
            return "failed"
        if not self.started:
            return "waiting"
        if any(job.state not in CLOSED for job in self.jobs):
            return "running"
        return "done" if all(job.state == "done" for job in self.jobs) else "failed"

    @property
    def result(self) -> Any:
        """What it gave: its job's result, or the list of results of a fan-out."""
        results = [job.result for job in self.jobs]
        return results if self.over is not None else results[0] if results else None


class Flow:
    """Steps with their order. Made by `Rig.flow`; `add` the steps, then `start` it."""

    def __init__(self, engine: Engine, name: str, put: Put) -> None:
        self._engine = engine
        self._put = put
        self.name = name
        self.steps: dict[str, Step] = {}
        self._begun = False

    def add(
        self, name: str, what: Call | JobType, *, after: str | Sequence[str] = (), when: When = "done",
        over: str | None = None, takes: bool = False, args: Sequence[Any] = (),
    ) -> Flow:  # fmt: skip
        """Add a step; return the flow.

        Parameters: `what` a call; or a job type, where arguments come from other steps, with `args` after those.
        `after` the steps that must have ended before this one starts (none: it starts with the flow), and `when` how:
        ``"done"``, ``"failed"`` or ``"ended"``, either way. `over` fans out: one job for each item of that step's
        result, which is a list, each with the item as its first argument. `takes` passes the results of the `after`
        steps, in that order, as the first arguments. A step whose `after` ended otherwise never starts.
        Raises `FlowError`.
        """
        if self._begun:
            raise FlowError(f"flow {self.name!r} has started; step {name!r} comes too late")
        if not isinstance(name, str) or not name:
            raise FlowError(f"a step of flow {self.name!r} has the name {name!r}; give text")
        if name in self.steps:
            raise FlowError(f"flow {self.name!r} has a step {name!r} already")
        if not isinstance(what, (Call, JobType)):
            raise FlowError(f"step {name!r} is {what!r}; give a call (job_type.call(...)) or a job type")
        if when not in ("done", "failed", "ended"):
            raise FlowError(f"when is {when!r} at step {name!r}; give 'done', 'failed' or 'ended'")
        if isinstance(what, Call) and (over is not None or takes or args):
            raise FlowError(
                f"step {name!r} gets arguments from other steps; give its job type, and args=(...) for the rest"
            )
        befores = (after,) if isinstance(after, str) else tuple(after)
        if over is not None and over not in befores:
            befores = (*befores, over)
        self.steps[name] = Step(name, what, befores, when, over, takes, tuple(args))
        return self

    def start(self) -> Flow:
        """Enqueue the steps that wait for nothing; return the flow.

        Raises `FlowError` for a step after one that does not exist, and for a cycle, before anything is enqueued.
        """
        if self._begun:
            raise FlowError(f"flow {self.name!r} has started already")
        self.check()
        self._begun = True
        self._engine.record("note", detail=f"flow {self.name!r} starts")
        self._go_on()
        return self

    def check(self) -> None:
        """Raise `FlowError` for a flow without steps, a step after one that does not exist, and a cycle."""
        if not self.steps:
            raise FlowError(f"flow {self.name!r} has no steps")
        for step in self.steps.values():
            for before in step.after:
                if before not in self.steps:
                    raise FlowError(f"step {step.name!r} comes after {before!r}; {nearest(before, self.steps)}")
        self._no_cycle()

    @property
    def state(self) -> str:
        """new, running, done (no step failed unforeseen) or failed."""
        if not self._begun:
            return "new"
        states = {name: step.state for name, step in self.steps.items()}
        if "running" in states.values():
            return "running"
        # A failure that some step waits for was foreseen.
        foreseen = {b for s in self.steps.values() if s.when != "done" and s.state == "done" for b in s.after}
        return "failed" if any(s == "failed" and name not in foreseen for name, s in states.items()) else "done"

    def job(self, step: str) -> Job:
        """Return the only job of a step; raise `FlowError` where it has none, or several."""
        found = self[step].jobs
        if len(found) != 1:
            raise FlowError(f"step {step!r} of flow {self.name!r} has {len(found) or 'no'} jobs")
        return found[0]

    def __getitem__(self, step: str) -> Step:
        if step not in self.steps:
            raise FlowError(f"flow {self.name!r} has no step {step!r}; {nearest(str(step), self.steps)}")
        return self.steps[step]

    def _no_cycle(self) -> None:
        clear: set[str] = set()
        path: list[str] = []

        def visit(name: str) -> None:
            if name in path:
                ring = [*path[path.index(name) :], name]
                raise FlowError(f"flow {self.name!r} goes round in a circle: {' -> '.join(reversed(ring))}")
            if name not in clear:
                path.append(name)
                for before in self.steps[name].after:
                    visit(before)
                clear.add(path.pop())

        for name in self.steps:
            visit(name)

    def _closed(self, job: Job) -> None:
        self._go_on()

    def _go_on(self) -> None:
        more = True
        while more:  # an empty fan-out is over at once
            more = False
            for step in self.steps.values():
                if not step.started and step.error is None and self._may_start(step):
                    more = True
                    self._begin(step)

    def _may_start(self, step: Step) -> bool:
        ends = [self.steps[before].state for before in step.after]
        if step.when == "ended":
            return all(
                end in ("done", "failed") or self._never(before) for end, before in zip(ends, step.after, strict=True)
            )
        return all(end == step.when for end in ends)

    def _never(self, name: str) -> bool:
        """Whether a step will not start any more, since what it waits for has ended otherwise."""
        step = self.steps[name]
        if step.started or not step.after:
            return False
        if step.when == "ended":
            return False
        other = "failed" if step.when == "done" else "done"
        return any(self.steps[b].state == other or self._never(b) for b in step.after)

    def _begin(self, step: Step) -> None:
        step.started = True
        given = [self.steps[before].result for before in step.after if before != step.over] if step.takes else []
        try:
            if step.over is None:
                calls = [self._call(step, given)]
            else:
                items = self.steps[step.over].result
                if not isinstance(items, (list, tuple)):
                    raise FlowError(
                        f"step {step.name!r} fans out over the result of {step.over!r}, which is {items!r} and no list"
                    )
                calls = [self._call(step, [item, *given]) for item in items]
            step.jobs = [self._put(call) for call in calls]
        except Exception as error:
            step.error = error
            self._engine.record("note", detail=f"step {step.name!r} of flow {self.name!r} cannot start: {error}")
            raise
        for job in step.jobs:
            job.closed = self._closed

    def _call(self, step: Step, first: list[Any]) -> Call:
        if isinstance(step.what, JobType):
            return step.what.call(*first, *step.args)
        return step.what

    def __repr__(self) -> str:
        steps = ", ".join(f"{name} {step.state}" for name, step in self.steps.items())
        return f"<flow {self.name!r}: {self.state} ({steps})>"
