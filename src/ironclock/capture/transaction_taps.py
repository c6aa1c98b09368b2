"""Transaction taps: when the application opens its own transaction, a transaction of the rig opens as well."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from contextlib import AbstractContextManager
from types import TracebackType
from typing import Any

from ..errors import TapError, WorkerDied
from ..simulation.transactions import LiveTransaction, Transactions
from .targets import Replacement


class TransactionTap(Replacement):
    """A real function that returns the context manager of a transaction. `Rig.transaction_at` gives it."""

    def __init__(self, target: Any, transactions: Transactions, joins: bool) -> None:
        super().__init__(target)
        self._transactions = transactions
        self._joins = joins

    def replacement(self) -> Callable[..., Any]:
        return self._open

    def _open(self, *args: Any, **kwargs: Any) -> _Both:
        real = self.target.real(*args, **kwargs)
        if not hasattr(real, "__enter__") or not hasattr(real, "__exit__"):
            raise TapError(
                f"{self.target.label} returned {real!r}; transaction_at needs a function that returns a context manager"
            )
        return _Both(real, self._transactions, self._joins)


class _Both:
    """The real transaction and the rig's, which ends as the real one does."""

    def __init__(self, real: AbstractContextManager[Any], transactions: Transactions, joins: bool) -> None:
        self._real = real
        self._transactions = transactions
        self._joins = joins
        self._made: LiveTransaction | None = None

    def __enter__(self) -> Any:
        entered = self._real.__enter__()
        self._made = self._transactions.enter(self._joins)
        self._made.roll_back_real = self._roll_back_real
        return entered

    def _roll_back_real(self) -> None:
        died = WorkerDied("the worker died inside the transaction")
        with contextlib.suppress(BaseException):  # a real database rolls back in silence
            self._real.__exit__(WorkerDied, died, None)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool | None:
        assert self._made is not None
        if kind is None:
            try:
                self._transactions.pass_commit(self._made)
            except BaseException as failure:
                # The commit has failed: what the application wrote must go as well.
                if not self._real.__exit__(type(failure), failure, failure.__traceback__):
                    raise
                return True
        try:
            swallowed = self._real.__exit__(kind, error, trace)
        except BaseException:
            self._transactions.roll_back(self._made)
            raise
        if kind is None:
            self._transactions.commit(self._made)
        else:
            self._transactions.roll_back(self._made)
        return swallowed

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)
