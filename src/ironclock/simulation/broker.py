"""The broker: where jobs are enqueued, routed to workers, closed, withdrawn and put back."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from typing import Any

from ..errors import PolicyError, RigStateError, StuckError, UnknownJob, nearest
from ..foundation.source_location import calling
from ..history.history import History
from .admission import Admission
from .decisions import ARGUMENT, FUNCTION
from .event_loop import EventLoop
from .faults.judge import Judge
from .faults.kind import Operation, Passing, Subject
from .host import Host
from .jobs import WAITING, JobHome, LiveJob, State
from .life import JobLives
from .policy import Call, JobType, name_of
from .pools import Pools
from .transactions import Transactions
from .world_change import WorldChange

DEPTH_LIMIT = 10_000
"""How many jobs can enqueue one another at one instant before that is an endless loop."""


class Broker:
    """The queues' side of a simulation: it takes jobs in, and knows every job and job type."""

    def __init__(
        self, home: JobHome, loop: EventLoop, history: History, pools: Pools, judge: Judge, lives: JobLives, host: Host,
    ) -> None:  # fmt: skip
        self._home = home
        self._loop = loop
        self._history = history
        self._pools = pools
        self._judge = judge
        self._lives = lives
        self._host = host
        self.types: dict[str, JobType[..., Any]] = {}
        self.jobs = lives.jobs
        self.around_enqueue: list[Callable[[Call[Any]], AbstractContextManager[Any]]] = []
        """The user's context managers around every enqueue."""
        self.listeners: list[Callable[[LiveJob], None]] = []
        """Called with every job that is enqueued."""
        self.on_due: Callable[[LiveJob], None] = self._no_attempts
        """What happens when a job becomes due."""
        self.admission = Admission(loop, history, self.types, lives, self.withdraw, self.make_due)
        self.transactions = Transactions(
            loop, history, judge, lives, self._put, self._withdraw_for_good, self._bring_back
        )
        loop.is_idle[self.admission.expire] = lambda job: not self.admission.can_expire(job)
        self.with_rows: dict[str, None] = {}
        """The names of the job types whose jobs came from the rows of an outbox, and have ended."""
        self._last_number = 0
        self._enqueue_calls: dict[str, int] = {}  # by job name, for faults.refuse_enqueue

    # --- job types ----------------------------------------------------------------------------------

    @property
    def change(self) -> WorldChange | None:
        """What is another in this world. None: nothing."""
        return self.transactions.change

    def name_of(self, job: object) -> str:
        """Return the name of a job type that is given by name, callable or job type."""
        for known in () if isinstance(job, (str, JobType)) else self.types.values():
            if known.has(job):
                return known.name
        return name_of(job)

    def known_name(self, job: object) -> str:
        """Return the name of a job type. Raises `UnknownJob` if the name is unknown and cannot appear later."""
        name = self.name_of(job)
        if name not in self.types:
            if not self._host.can_meet_new_names():
                raise UnknownJob(f"no job type is called {name!r}; {nearest(name, self.types)}")
            self._home.attention.asked_for(name, "job type")
        return name

    def what_there_is(self) -> str:
        """Return the job types with the number of their jobs, in words."""
        counts = Counter(job.type.name for job in self.jobs)
        names = [*counts, *(name for name in self.types if name not in counts)]
        if not names:
            return "the rig has no jobs, and knows no job type"
        listed = ", ".join(f"{name} ({counts[name]})" for name in names[:12])
        return f"the rig has {listed}{', ...' if len(names) > 12 else ''}"

    # --- taking jobs in -----------------------------------------------------------------------------

    def enqueue(
        self, type: JobType[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int,
        queue: str | None = None, priority: int | None = None, key: Any = None, copies_arguments: bool = False,
        hooked: bool = False,
    ) -> LiveJob:  # fmt: skip
        """Enqueue a job that the rig's workers run: every such job comes in here.

        Parameters: `due_ns` is when it is due, in nanoseconds since the epoch, not before now. `queue`, `priority` and
        `key`: None: as its type says. `copies_arguments`: each attempt gets its own copy. `hooked`: the user's context
        managers are entered already.
        """
        if self.around_enqueue and not hooked:
            with ExitStack() as stack:
                for hook in self.around_enqueue:
                    stack.enter_context(hook(Call(type, args, kwargs)))
                return self.enqueue(type, args, kwargs, due_ns, queue, priority, key, copies_arguments, True)
        loop = self._loop
        current = loop.current
        if loop.fault_hook is not None:
            loop.fault_hook("enqueue", type.name)
        now = loop.now
        if queue is None:
            queue = type.queue
        if priority is None:
            priority = type.priority
        if self._judge.guards_queues:
            self._refuse_if_faulty(type, args, queue)
        if queue not in self._pools.found and self._pools.all and self._pools.find(queue) is None:
            raise PolicyError(f"{type.name} cannot be enqueued: no worker serves {self._pools.unserved(queue)}")
        pending = ""
        if type.has_admission_rules:
            key = type.key_of(args, kwargs) if key is None else key
            kept, pending = self.admission.admit(type, args, kwargs, key)
            if kept is not None:
                return kept
        self._last_number += 1
        job = LiveJob(self._home, type, self._last_number, args, kwargs, queue, priority, now, due_ns)
        if key is not None:
            job.key = key
        if copies_arguments:
            job.copies_arguments = True
        if current is None and self._judge.plan is not None and self._judge.plan.leaves_out(job.id):
            self._lives.never_enter(job)
            return job
        if pending:
            self.admission.remember_pending(pending, job)
        if current is not None and current.job is not None:
            owner = current.owner
            if owner is not None:
                job.enqueued_by = owner.job, owner.number
            if due_ns <= now:
                self._limit_depth(job, current.job)
        transactions = self.transactions
        if transactions.open and transactions.keeps(job):
            return job
        self._lives.enter(job)
        self._plan(job)
        if loop.fault_hook is not None:
            loop.fault_hook("after enqueue")
        if transactions.open:
            transactions.visible_early(job)
        return job

    def _limit_depth(self, job: LiveJob, parent: LiveJob) -> None:
        """Stop the run if jobs enqueue one another without end at one instant."""
        now = self._loop.now
        if parent.enqueued_ns == now:
            job.depth = parent.depth + 1
            if job.depth > DEPTH_LIMIT:
                raise self._loop.stop(StuckError(
                    f"{parent.type.name} enqueues {job.type.name} without delay, over {DEPTH_LIMIT} times in a row at "
                    f"{self._loop.timeline.text(now)}, at {calling()}; give the job a delay, or let the chain end"
                ))  # fmt: skip

    def _refuse_if_faulty(self, type: JobType[..., Any], args: tuple[Any, ...], queue: str) -> None:
        """Raise the error of a fault that refuses this enqueue."""
        now = self._loop.now
        number = self._enqueue_calls[type.name] = self._enqueue_calls.get(type.name, 0) + 1
        error = self._judge.placed.outage_error(queue, now)
        if error is not None:
            self._history.record("refused", detail=(type.name, error))
            raise error
        self._judge.strike_placed(_Put(self._history, type.name, number, args))

    def _put(self, job: LiveJob) -> None:
        """Let a job in that its transaction has kept until now."""
        self._lives.enter_later(job)
        self._plan(job)

    def _plan(self, job: LiveJob) -> None:
        """Put a job that has come in on the heap, and tell who listens."""
        loop = self._loop
        loop.schedule_in_order(job.due_ns, job.priority, self.on_due, job)
        if job.type.expires_ns >= 0:
            loop.schedule(loop.now + job.type.expires_ns, 0, self.admission.expire, job)
        if self.listeners:
            for listener in self.listeners[:]:
                listener(job)

    def write_down(
        self, type: JobType[..., Any], args: tuple[Any, ...], kwargs: dict[str, Any], due_ns: int, queue: str | None,
        priority: int | None, key: Any,
    ) -> LiveJob:  # fmt: skip
        """Let a job in that the application's own workers run; return it."""
        now = self._loop.now
        queue = type.queue if queue is None else queue
        priority = type.priority if priority is None else priority
        self._last_number += 1
        job = LiveJob(self._home, type, self._last_number, args, kwargs, queue, priority, now, due_ns)
        job.key = type.key_of(args, kwargs) if key is None and type.has_admission_rules else key
        self._lives.enter(job)
        return job

    def make_due(self, job: LiveJob) -> None:
        """Put a job on the heap for this instant."""
        self._loop.schedule(self._loop.now, job.priority, self.on_due, job)

    @staticmethod
    def _no_attempts(job: LiveJob) -> None:
        raise RigStateError(f"{job.id} is due, and nothing runs attempts here; make a Simulation, not a Broker alone")

    # --- closing jobs, and putting them back --------------------------------------------------------

    def withdraw(self, job: LiveJob) -> None:
        """Cancel a job. Raises `RigStateError` if it is running or closed."""
        if job.state not in WAITING:
            more = "; say what happens to a running job: running='ask', 'throw' or 'kill'" * (job.state == "running")
            raise RigStateError(
                f"{job.id} is {job.state}; only a held, ready or backing-off job can be withdrawn{more}"
            )
        if not self.transactions.withdraws(job):
            self._withdraw_for_good(job)

    def _withdraw_for_good(self, job: LiveJob) -> None:
        self._lives.close(job, "withdrawn", "withdrawn")

    def _bring_back(self, job: LiveJob, state: State) -> None:
        """Undo a withdrawal: the job has the state again that it had, and is due at its time."""
        loop = self._loop
        self._lives.bring_back(job, state)
        self.admission.forget_held(job)
        if job.due_ns > loop.now or any(e[FUNCTION] == self.on_due and e[ARGUMENT] is job for e in loop.due_events()):
            return  # its event is still to come
        pool = self._pools.find(job.queue)
        if pool is not None and state == "ready" and pool.holds(job):
            loop.work_to_dispatch = True
            return
        self.make_due(job)

    def must_be_dead(self, job: LiveJob) -> None:
        """Raise `RigStateError` unless the job is a dead letter of this simulation."""
        if job.home is not self._home:
            raise RigStateError(f"{job!r} is a job of another rig; give a dead letter of this rig")
        if job.state != "dead":
            raise RigStateError(f"{job.id} is {job.state}; only a dead letter can be put back or discarded")

    def requeue(self, job: LiveJob) -> None:
        """Put a dead letter back into its queue, due now, with all of its attempts again."""
        self.must_be_dead(job)
        self.admission.pending_again(job)
        self._lives.put_back(job, self._loop.now)
        self.make_due(job)

    def discard(self, job: LiveJob) -> None:
        """Give a dead letter up for good: its state becomes `dropped`."""
        self.must_be_dead(job)
        self._lives.discard(job)


class _Put(Passing):
    """A job on its way into its queue."""

    can: frozenset[Operation] = frozenset({"fail"})

    def __init__(self, history: History, job: str, number: int, args: tuple[Any, ...]) -> None:
        super().__init__("put", job)
        self._history = history
        self._subject = Subject(job, number, lambda: args)

    def subjects(self) -> tuple[Subject, ...]:
        return (self._subject,)

    def fail(self, error: BaseException, after_ns: int = 0) -> None:
        self._history.record("refused", detail=(self.who, error))
        raise error
