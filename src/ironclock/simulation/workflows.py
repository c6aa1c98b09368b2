"""Workflows: jobs that follow from the ends of other jobs, with fan-out and join."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from typing import Any, Literal, TypeAlias

from ..errors import FlowError, nearest
from ..history.history import History
from .jobs import CLOSED, Job, LiveJob, live_job
from .policy import Call, JobType

When: TypeAlias = Literal["done", "failed", "ended"]
"""Which end of a step lets the next one start: done, any other end, or either."""

Put: TypeAlias = "Callable[[Call[Any]], Job[Any]]"


class Step:
    """One step of a workflow. `Workflow` holds its steps by name."""

    def __init__(
        self, name: str, job: Call[Any] | JobType[..., Any], after: tuple[str, ...], when: When, over: str | None,
        with_results: bool, args: tuple[Any, ...],
    ) -> None:  # fmt: skip
        self.name = name
        """Its name."""
        self.what = job
        self.after = after
        """The names of the steps that must end before it starts."""
        self.when = when
        self.over = over
        self.with_results = with_results
        self.args = args
        self.jobs: list[Job[Any]] = []
        """Its jobs: one, or one for each item of a fan-out."""
        self.started = False
        self.error: Exception | None = None
        self.waits_for = set(after)
        """The steps before it that have not ended."""
        self.followers: list[Step] = []
        """The steps that come after it."""
        self.never_starts = False
        """True if it cannot start any more, because a step before it has ended otherwise."""
        self.closed: set[int] = set()
        """The numbers of its jobs that were closed."""

    @property
    def state(self) -> str:
        """``waiting``, ``running``, ``done`` or ``failed``. A fan-out is done if all of its jobs are."""
        if self.error is not None:
            return "failed"
        if not self.started:
            return "waiting"
        if any(job.state not in CLOSED for job in self.jobs):
            return "running"
        return "done" if all(job.state == "done" for job in self.jobs) else "failed"

    @property
    def is_over(self) -> bool:
        """True if it was started, and each of its jobs is closed."""
        return self.started and all(job.state in CLOSED for job in self.jobs)

    @property
    def result(self) -> Any:
        """The result of its job, or the list of results of a fan-out."""
        results = [job.result for job in self.jobs]
        return results if self.over is not None else results[0] if results else None


class Workflow:
    """Steps with their order. `Rig.flow` gives one: `add` the steps, then `start` it.

    Example::

        flow = rig.flow("loading")
        flow.add("weigh", weigh.call("TL-204"))
        flow.add("load", load, after="weigh", with_results=True)
        flow.start()
        rig.run_dry()
        assert flow.state == "done"
    """

    def __init__(
        self, history: History, name: str, put: Put, job_type: Callable[[Any], JobType[..., Any]] | None = None
    ) -> None:  # fmt: skip
        self._history = history
        self._put = put
        self._job_type = job_type  # makes one of a function
        self.name = name
        """Its name."""
        self.steps: dict[str, Step] = {}
        """Its steps by name."""
        self._started = False
        self._steps_of: dict[int, list[Step]] = {}  # by the number of a job

    def add(
        self, name: str, job: Call[Any] | JobType[..., Any] | Callable[..., Any], *,
        after: str | Sequence[str] = (), when: When = "done", over: str | None = None, with_results: bool = False,
        args: Sequence[Any] = (),
    ) -> Workflow:  # fmt: skip
        """Add a step; return the workflow.

        Parameters:

        - `name`: the name of the step.
        - `job`: a call. Or a job type or a function, without arguments or with those of other steps.
        - `after`: the steps that must end before this one starts. Default: it starts with the workflow.
        - `when`: how they must end: ``"done"`` (the default), ``"failed"``, or ``"ended"`` for either.
        - `over`: fan out: one job for each item of the result of that step, a list. The item is the first argument.
        - `with_results`: True passes the results of the `after` steps, in that order, as the first arguments.
        - `args`: more arguments, after those from other steps.

        A step whose `after` steps end otherwise never starts. Raises `FlowError`.

        Example::

            flow = rig.flow("loading")
            flow.add("weigh", weigh.call(3))
            flow.add("load", load, after="weigh", args=[3])
        """
        if self._started:
            raise FlowError(f"flow {self.name!r} has started, and step {name!r} is new; add all steps before start()")
        if not isinstance(name, str) or not name:
            raise FlowError(f"the name of a step of flow {self.name!r} is {name!r}; give text that is not empty")
        if name in self.steps:
            raise FlowError(f"flow {self.name!r} has a step {name!r} already; give this one another name")
        if callable(job) and not isinstance(job, (Call, JobType)) and self._job_type is not None:
            job = self._job_type(job)
        if not isinstance(job, (Call, JobType)):
            raise FlowError(f"step {name!r} is {job!r}; give a call (job_type.call(...)) or a job type")
        if when not in ("done", "failed", "ended"):
            raise FlowError(f"when is {when!r} at step {name!r}; give 'done', 'failed' or 'ended'")
        if isinstance(job, Call) and (over is not None or with_results or args):
            raise FlowError(
                f"step {name!r} is a call, and gets arguments from other steps as well; give its job type, and "
                "args=(...) for the rest"
            )
        befores = (after,) if isinstance(after, str) else tuple(after)
        if over is not None and over not in befores:
            befores = (*befores, over)
        self.steps[name] = Step(name, job, befores, when, over, with_results, tuple(args))
        return self

    def start(self) -> Workflow:
        """Enqueue the steps that wait for nothing; return the workflow.

        Raises `FlowError` for a step after one that does not exist, and for a cycle, before anything is enqueued.

        Example::

            flow = rig.flow("loading")
            flow.add("weigh", weigh.call(3))
            flow.start()
        """
        if self._started:
            raise FlowError(f"flow {self.name!r} has started already; make another one with rig.flow(...)")
        self.check()
        self._started = True
        self._history.record("note", detail=f"flow {self.name!r} starts")
        for step in self.steps.values():
            for before in dict.fromkeys(step.after):
                self.steps[before].followers.append(step)
        for step in [step for step in self.steps.values() if not step.after]:
            self._begin(step)
            if step.is_over:
                self._ended(step)
        return self

    def check(self) -> None:
        """Raise `FlowError` for a workflow without steps, a step after one that does not exist, and a cycle."""
        if not self.steps:
            raise FlowError(f"flow {self.name!r} has no steps; add at least one")
        for step in self.steps.values():
            for before in step.after:
                if before not in self.steps:
                    raise FlowError(
                        f"step {step.name!r} comes after {before!r}, which is not a step; {nearest(before, self.steps)}"
                    )
        self._no_cycle()

    @property
    def state(self) -> str:
        """``new``, ``running``, ``done`` (every failure has a step that waits for it) or ``failed``."""
        if not self._started:
            return "new"
        states = {name: step.state for name, step in self.steps.items()}
        if "running" in states.values():
            return "running"
        # A failure that some step waits for was expected.
        expected = {b for s in self.steps.values() if s.when != "done" and s.state == "done" for b in s.after}
        return "failed" if any(s == "failed" and name not in expected for name, s in states.items()) else "done"

    def job(self, step: str) -> Job[Any]:
        """Return the only job of the step with the name `step`. Raises `FlowError` if it has none, or several.

        Example::

            flow = rig.flow("loading")
            flow.add("weigh", weigh.call(3))
            flow.start()
            rig.settle()
            assert flow.job("weigh").state == "done"
        """
        found = self[step].jobs
        if len(found) != 1:
            raise FlowError(f"step {step!r} of flow {self.name!r} has {len(found) or 'no'} jobs, not one; see .steps")
        return found[0]

    def __getitem__(self, step: str) -> Step:
        if step not in self.steps:
            raise FlowError(f"flow {self.name!r} has no step {step!r}; {nearest(str(step), self.steps)}")
        return self.steps[step]

    def _no_cycle(self) -> None:
        clear: set[str] = set()
        for first in self.steps:
            path = {} if first in clear else {first: iter(self.steps[first].after)}  # in order, from `first` on
            while path:
                last = next(reversed(path))
                before = next(path[last], None)
                if before is None:
                    del path[last]
                    clear.add(last)
                elif before in path:
                    names = list(path)
                    ring = [*names[names.index(before) :], before]
                    raise FlowError(f"the steps of flow {self.name!r} form a cycle: {' -> '.join(reversed(ring))}")
                elif before not in clear:
                    path[before] = iter(self.steps[before].after)

    def _closed(self, job: LiveJob) -> None:
        for step in self._steps_of.get(job.number, ()):
            step.closed.add(job.number)
            if len(step.closed) >= len(step.jobs):
                self._ended(step)

    def _ended(self, first: Step) -> None:
        """Let the steps after one that has ended start, or note that they never will; and so on."""
        changed = deque([first])
        while changed:
            step = changed.popleft()
            for follower in step.followers:
                if follower.started or follower.error is not None:
                    continue
                follower.waits_for.discard(step.name)
                was = follower.never_starts
                # One step after another: to look at all of them each time would be slow for a wide join.
                follower.never_starts = self._prevents(step, follower) or (was and self._never_starts(follower))
                if not follower.waits_for and self._can_start(follower):
                    self._begin(follower)
                    if follower.is_over:
                        changed.append(follower)  # an empty fan-out ends at once
                elif follower.never_starts != was:
                    changed.append(follower)

    def _can_start(self, step: Step) -> bool:
        befores = [self.steps[before] for before in step.after]
        if step.when == "ended":
            return all(before.never_starts or before.state in ("done", "failed") for before in befores)
        return all(before.state == step.when for before in befores)

    def _never_starts(self, step: Step) -> bool:
        """Return True if a step cannot start any more, because a step before it has ended otherwise."""
        return any(self._prevents(self.steps[before], step) for before in step.after)

    @staticmethod
    def _prevents(before: Step, step: Step) -> bool:
        if step.when == "ended":
            return False
        return before.never_starts or before.state == ("failed" if step.when == "done" else "done")

    def _begin(self, step: Step) -> None:
        step.started = True
        given = [self.steps[before].result for before in step.after if before != step.over] if step.with_results else []
        try:
            if step.over is None:
                calls = [self._call(step, given)]
            else:
                items = self.steps[step.over].result
                if not isinstance(items, (list, tuple)):
                    raise FlowError(
                        f"step {step.name!r} fans out over the result of {step.over!r}, which is {items!r}; let that "
                        "step return a list"
                    )
                calls = [self._call(step, [item, *given]) for item in items]
            step.jobs = [self._put(call) for call in calls]
        except Exception as error:
            step.error = error
            self._history.record("note", detail=f"step {step.name!r} of flow {self.name!r} cannot start: {error}")
            raise
        for job in step.jobs:
            live = live_job(job)
            self._steps_of.setdefault(live.number, []).append(step)
            live.when_closed(self._closed)

    def _call(self, step: Step, first: list[Any]) -> Call[Any]:
        if isinstance(step.what, JobType):
            return step.what.call(*first, *step.args)
        return step.what

    def __repr__(self) -> str:
        steps = ", ".join(f"{name} {step.state}" for name, step in self.steps.items())
        return f"<flow {self.name!r}: {self.state} ({steps})>"
