"""Transactions: jobs that are enqueued with the data they are about, or too early, or not at all."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from ..errors import RigStateError
from ..history.history import History
from .event_loop import EventLoop
from .faults.judge import Judge
from .faults.kind import About, Operation, Passing, Subject
from .jobs import Job, LiveAttempt, LiveJob, State
from .life import JobLives
from .task import Task
from .world_change import WorldChange


class Transaction:
    """One transaction of the application. `Rig.transaction` gives it.

    Example::

        with rig.transaction() as transaction:
            book(3)
            assert len(transaction.pending) == 1
        assert transaction.state == "committed"
    """

    __slots__ = ("_live",)

    def __init__(self, live: LiveTransaction) -> None:
        self._live = live

    @property
    def number(self) -> int:
        """Its number in the rig, from 1."""
        return self._live.number

    @property
    def joins(self) -> bool:
        """True if the queue is part of the transaction."""
        return self._live.joins

    @property
    def state(self) -> str:
        """``open``, ``committed`` or ``rolled back``."""
        return self._live.state

    @property
    def pending(self) -> list[Job[object]]:
        """The jobs that it has enqueued and not committed yet."""
        return [job.reader for job in self._live.kept]

    def __repr__(self) -> str:
        return f"<transaction {self.number}: {self.state}, {len(self._live.kept)} jobs>"


class LiveTransaction:
    """One transaction, as the simulation keeps it."""

    def __init__(self, number: int, task: Task | None, joins: bool, outer: LiveTransaction | None) -> None:
        self.number = number
        self.task = task
        self.joins = joins
        self.outer = outer
        self.kept: list[LiveJob] = []
        self.withdrawn: list[tuple[LiveJob, State]] = []  # jobs that it withdraws at its commit, and their states
        self.state = "open"
        self.roll_back_real: Callable[[], None] | None = None
        """Rolls the application's own transaction back if its worker dies, as a database does."""
        self.reader = Transaction(self)


class Transactions:
    """The open transactions of a simulation. Each task has its own, and so has the test's own code."""

    def __init__(
        self, loop: EventLoop, history: History, judge: Judge, lives: JobLives, put: Callable[[LiveJob], None],
        withdraw: Callable[[LiveJob], None], bring_back: Callable[[LiveJob, State], None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._judge = judge
        self._lives = lives
        self._put = put
        self._withdraw = withdraw
        self._bring_back = bring_back
        self._last_number = 0
        self.change: WorldChange | None = None
        """What is another in this world. None: nothing."""
        self.kept_types: dict[str, None] = {}
        """The names of the job types whose jobs have waited for a commit."""
        self.open: dict[Task | None, LiveTransaction] = {}
        """By task, the innermost open transaction."""

    @contextmanager
    def begin(self, joins: bool) -> Iterator[Transaction]:
        """Open a transaction. It commits at the end of the block. An error that leaves the block rolls it back."""
        made = self.enter(joins)
        try:
            yield made.reader
        except BaseException:
            self.roll_back(made)
            raise
        self.pass_commit(made)
        self.commit(made)

    def enter(self, joins: bool) -> LiveTransaction:
        """Open a transaction in the running task, inside the one that is open there."""
        self._last_number += 1
        task = self._loop.current
        made = self.open[task] = LiveTransaction(self._last_number, task, joins, self.open.get(task))
        return made

    def is_of_running_task(self, transaction: LiveTransaction) -> bool:
        """Return True if the running task, or the test's own code, has begun a transaction."""
        return transaction.task is self._loop.current

    def pass_commit(self, transaction: LiveTransaction) -> None:
        """Pass the seam before the commit. A fault there rolls the transaction back, and its error is raised."""
        if self._loop.fault_hook is not None:
            try:
                self._loop.fault_hook("commit")
            except BaseException:
                self.roll_back(transaction)
                raise

    def commit(self, transaction: LiveTransaction) -> None:
        """Commit: jobs that it kept are enqueued now, or go to the transaction around it."""
        loop = self._loop
        self._close(transaction, "committed")
        if transaction.outer is not None:
            transaction.outer.kept += transaction.kept
            transaction.outer.withdrawn += transaction.withdrawn
            return
        self._record("committed", transaction, transaction.number)
        for job, _ in transaction.withdrawn:
            self._withdraw(job)
        for job in transaction.kept:
            self._put(job)
        if loop.fault_hook is not None:
            loop.fault_hook("after commit")

    def roll_back(self, transaction: LiveTransaction) -> None:
        """Roll back: jobs that it kept are never enqueued."""
        if transaction.state != "open":
            return
        self._close(transaction, "rolled back")
        stays = "" if self.change is None else self.change.rolled_back_too
        gone = [job for job in transaction.kept if job.type.name != stays]
        for job in gone:
            self._lives.never_enter(job)
        self._record("rolled-back", transaction, (transaction.number, [job.id for job in gone]))
        for job in transaction.kept:
            if job not in gone:
                self._put(job)
        for job, state in transaction.withdrawn:
            self._bring_back(job, state)

    def keeps(self, job: LiveJob) -> bool:
        """Keep a job until the commit if the queue is part of its transaction; return True if it is kept."""
        transaction = self.open.get(self._loop.current)
        if transaction is None or not transaction.joins:
            return False
        if self.change is not None and job.type.name == self.change.early:
            return False
        self.kept_types[job.type.name] = None
        transaction.kept.append(job)
        return True

    def withdraws(self, job: LiveJob) -> bool:
        """Withdraw a waiting job as part of the transaction around the running code, if the queue is part of it.

        No worker starts the job from now on. The commit withdraws it, and a rollback brings it back. Returns False if
        there is no such transaction.
        """
        for transaction in self.open.values():
            level: LiveTransaction | None = transaction
            while level is not None:
                if job in level.kept:  # nobody else has ever seen it
                    level.kept.remove(job)
                    self._lives.never_enter(job)
                    return True
                level = level.outer
        current = self.open.get(self._loop.current)
        if current is None or not current.joins:
            return False
        current.withdrawn.append((job, self._lives.set_aside(job)))
        return True

    def visible_early(self, job: LiveJob) -> None:
        """Record a job that workers can see before its transaction has committed. A fault can let them fetch it."""
        loop = self._loop
        transaction = self.open.get(loop.current)
        if transaction is None:
            return
        self._history.record("before-commit", job, 0, transaction.number)
        self._judge.strike(_BeforeCommit(loop, job, transaction.number))

    def worker_died(self, attempt: LiveAttempt) -> None:
        """Roll back every open transaction of an attempt whose worker has died."""
        for task in [task for task in self.open if task is not None and task.owner is attempt]:
            while task in self.open:
                transaction = self.open[task]
                if transaction.roll_back_real is not None:
                    transaction.roll_back_real()
                self.roll_back(transaction)

    def _close(self, transaction: LiveTransaction, state: str) -> None:
        if transaction.state != "open" or self.open.get(transaction.task) is not transaction:
            raise RigStateError(
                f"transaction {transaction.number} is {transaction.state}, or another one is open inside it; "
                "end the innermost open transaction first"
            )
        transaction.state = state
        if transaction.outer is None:
            del self.open[transaction.task]
        else:
            self.open[transaction.task] = transaction.outer

    def _record(self, what: str, transaction: LiveTransaction, detail: object) -> None:
        task = transaction.task
        number = 0 if task is None else task.attempt_number
        self._history.record(what, None if task is None else task.job, number, detail)


class _BeforeCommit(Passing):
    """A job that workers can see before the transaction around its enqueue has committed."""

    can: frozenset[Operation] = frozenset({"fetch"})
    about: About = "job"
    runs_code = False

    def __init__(self, loop: EventLoop, job: LiveJob, transaction: int) -> None:
        super().__init__("before commit", job.id)
        self._loop = loop
        self._job = job
        self._transaction = transaction

    def subjects(self) -> tuple[Subject, ...]:
        return (Subject(self._job.type.name, self._transaction, lambda: self._job.reader),)

    def fetch(self) -> None:
        self.over = True
        if self._loop.current is not None:
            self._loop.sleep(0)
        else:
            self._loop.advance_to(self._loop.now)
