"""Transactions: jobs that are enqueued with the data they are about, or too early, or not at all."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from .errors import RigStateError
from .jobs import Attempt, Job
from .task import Task

if TYPE_CHECKING:
    from .engine import Engine


class Transaction:
    """One transaction of the application. `pending` holds what it enqueued and has not committed."""

    def __init__(self, number: int, task: Task | None, joins: bool, outer: Transaction | None) -> None:
        self.number = number
        self.task = task
        self.joins = joins
        self.outer = outer
        self.pending: list[Job] = []
        self.state = "open"


class Transactions:
    """The open transactions of an engine: each task, and the test itself, has its own."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._count = 0
        self.open: dict[Task | None, Transaction] = {}
        """By task, the innermost open transaction."""
        engine.delivery.died.append(self._died)

    @contextmanager
    def begin(self, joins: bool) -> Iterator[Transaction]:
        """Open a transaction; it commits at the end of the block, and is rolled back where an error leaves it."""
        made = self.enter(joins)
        try:
            yield made
        except BaseException:
            self.roll_back(made)
            raise
        self.commit(made)

    def enter(self, joins: bool) -> Transaction:
        """Open a transaction in the running task, inside the one that is open there."""
        self._count += 1
        task = self._engine.current
        made = self.open[task] = Transaction(self._count, task, joins, self.open.get(task))
        return made

    def commit(self, transaction: Transaction) -> None:
        """Commit: what was kept back is enqueued now, or handed to the transaction around this one."""
        engine = self._engine
        if engine.passing is not None:
            try:
                engine.passing("commit")
            except BaseException:
                self.roll_back(transaction)
                raise
        self._close(transaction, "committed")
        if transaction.outer is not None:
            transaction.outer.pending += transaction.pending
            return
        engine.record("committed", self._job(transaction), self._attempt(transaction), transaction.number)
        for job in transaction.pending:
            engine.put(job)
        if engine.passing is not None:
            engine.passing("after commit")

    def roll_back(self, transaction: Transaction) -> None:
        """Roll back: what was kept back was never enqueued."""
        if transaction.state != "open":
            return
        self._close(transaction, "rolled back")
        gone = [job.id for job in transaction.pending]
        for job in transaction.pending:
            job.state = "withdrawn"
        self._engine.record(
            "rolled-back", self._job(transaction), self._attempt(transaction), (transaction.number, gone)
        )

    def takes(self, job: Job) -> bool:
        """Whether a job is kept back by the transaction that it is enqueued in."""
        transaction = self.open.get(self._engine.current)
        if transaction is None or not transaction.joins:
            return False
        transaction.pending.append(job)
        return True

    def early(self, job: Job) -> None:
        """Take note of a job that workers can see before the transaction around its enqueueing has committed."""
        engine = self._engine
        transaction = self.open.get(engine.current)
        if transaction is None:
            return
        engine.record("before-commit", job, 0, transaction.number)
        struck = engine.pilot is not None and engine.pilot.commits(job) is not None
        for fault in engine.faults.early:
            struck = struck or (fault.hits(job.type.name) and fault.strikes(engine.now, transaction.number, job))
        if struck:
            if engine.current is not None:
                engine.sleep(0)
            else:
                engine.advance_to(engine.now)

    def _close(self, transaction: Transaction, state: str) -> None:
        if transaction.state != "open" or self.open.get(transaction.task) is not transaction:
            raise RigStateError(f"transaction {transaction.number} is {transaction.state}, or not the innermost one")
        transaction.state = state
        if transaction.outer is None:
            del self.open[transaction.task]
        else:
            self.open[transaction.task] = transaction.outer

    def _died(self, attempt: Attempt) -> None:
        while attempt in self.open:
            self.roll_back(self.open[attempt])

    @staticmethod
    def _job(transaction: Transaction) -> Job | None:
        return None if transaction.task is None else transaction.task.job

    @staticmethod
    def _attempt(transaction: Transaction) -> int:
        return transaction.task.number if isinstance(transaction.task, Attempt) else 0
