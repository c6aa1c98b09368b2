"""Transaction taps: when the application opens its own transaction, a transaction of the rig opens as well.

What a function returns is often used in more ways than one: ``with atomic():``, ``@atomic``, ``@atomic(durable=True)``,
and by functions that were decorated when their module was imported. So the tap goes to where all these ways meet:

- a class of context managers, or a function that makes instances of one class (Django's ``atomic``): the class,
- a generator function under ``contextlib.contextmanager``: that function,
- any other function: the function, whose results are wrapped.
"""

from __future__ import annotations

import contextlib
import inspect
import sys
from collections.abc import Callable
from contextlib import ContextDecorator as _Decorator
from types import FunctionType, TracebackType
from typing import Any

from ..errors import TapError, WorkerDied
from ..interpreter.patching.builtin_patching import PythonFunction
from ..simulation.transactions import LiveTransaction, Transactions
from .targets import Replacement, TargetLike

End = Callable[[Any, Any, Any], Any]
"""The `__exit__` of a real transaction."""


class TransactionTap(Replacement):
    """A real function or class whose context managers are transactions. `Rig.transaction_at` gives it."""

    def __init__(self, target: TargetLike, transactions: Transactions, joins: bool) -> None:
        super().__init__(target)
        self._pairs = _Pairs(transactions, joins)
        self._class: _ClassTap | None = None
        self._generator: PythonFunction | None = None

    def install(self) -> None:
        cls = _made_class(self.target.real)
        generator = getattr(self.target.real, "__wrapped__", None)
        if cls is not None:
            self._class = _ClassTap(cls, self._pairs)
            self._class.put()
            self.active = True
        elif inspect.isgeneratorfunction(generator) and isinstance(generator, FunctionType):
            place = self._generator = PythonFunction(generator)
            manager = contextlib.contextmanager(place.real)

            def runs(*args: Any, **kwargs: Any) -> Any:
                with _Both(manager(*args, **kwargs), self._pairs) as entered:
                    yield entered

            place.point(runs)
            self.active = True
        else:
            super().install()

    def remove(self) -> None:
        if self._class is not None:
            self._class.restore()
            self._class = None
        elif self._generator is not None:
            self._generator.restore()
            self._generator = None
        else:
            super().remove()
        self.active = False

    def replacement(self) -> Callable[..., Any]:
        return self._open

    def _open(self, *args: Any, **kwargs: Any) -> _Both:
        real = self.target.real(*args, **kwargs)
        if not (hasattr(real, "__enter__") and hasattr(real, "__exit__")) and not hasattr(real, "__aenter__"):
            raise TapError(
                f"{self.target.label} returned {real!r}; transaction_at needs a function that returns a context manager"
            )
        return _Both(real, self._pairs)


def _made_class(target: Any) -> type | None:
    """Return the class of the context managers that a target makes, if they are decorators as well. None if not."""
    if inspect.isclass(target):
        return target if _is_manager(target) else None
    code = getattr(target, "__code__", None)
    if code is None or hasattr(target, "__wrapped__"):
        return None
    named = [target.__globals__.get(name) for name in code.co_names]
    found = {cls for cls in named if inspect.isclass(cls) and _is_manager(cls) and issubclass(cls, _Decorator)}
    return found.pop() if len(found) == 1 else None


def _is_manager(cls: type) -> bool:
    """Return True for a class of the application whose `__enter__` and `__exit__` can be replaced."""
    return all(isinstance(getattr(cls, name, None), FunctionType) for name in ("__enter__", "__exit__"))


class _Pairs:
    """Begins and ends a transaction of the rig together with a real one."""

    def __init__(self, transactions: Transactions, joins: bool) -> None:
        self._transactions = transactions
        self._joins = joins
        self._committing: list[LiveTransaction] = []

    def begin(self, end_real: End) -> LiveTransaction:
        """Begin the rig's, inside a real one that was just begun."""
        made = self._transactions.enter(self._joins)

        def roll_back_real() -> None:
            died = WorkerDied("the worker died inside the transaction")
            with contextlib.suppress(BaseException):  # a real database rolls back in silence
                end_real(WorkerDied, died, None)

        made.roll_back_real = roll_back_real
        return made

    def end(
        self, made: LiveTransaction, end_real: End, raised: tuple[Any, Any, Any], rolls_back: bool = False
    ) -> Any:  # fmt: skip
        """End both. Parameters: `rolls_back` is True if the real one will roll back without an error."""
        kind, error, trace = raised
        if kind is None and not rolls_back:
            try:
                self._transactions.pass_commit(made)
            except BaseException as failure:
                # The commit has failed: what the application wrote must go as well.
                if not end_real(type(failure), failure, failure.__traceback__):
                    raise
                return True
            self._committing.append(made)
        try:
            swallowed = end_real(kind, error, trace)
        except BaseException:
            self._transactions.roll_back(made)
            raise
        finally:
            if made in self._committing:
                self._committing.remove(made)
        self.ended(made, kind is None and not rolls_back)
        return swallowed

    async def end_async(self, made: LiveTransaction, end_real: Any, raised: tuple[Any, Any, Any]) -> Any:
        """Do what `end` does, with an `__aexit__`."""
        kind, error, trace = raised
        if kind is None:
            try:
                self._transactions.pass_commit(made)
            except BaseException as failure:
                if not await end_real(type(failure), failure, failure.__traceback__):
                    raise
                return True
        try:
            swallowed = await end_real(kind, error, trace)
        except BaseException:
            self._transactions.roll_back(made)
            raise
        self.ended(made, kind is None)
        return swallowed

    def is_of_running_task(self, made: LiveTransaction) -> bool:
        """Return True if a transaction is open in the running task."""
        return self._transactions.is_of_running_task(made)

    def ended(self, made: LiveTransaction, committed: bool) -> None:
        """End the rig's transaction, unless it has ended already."""
        if made.state == "open":
            if committed:
                self._transactions.commit(made)
            else:
                self._transactions.roll_back(made)

    def committed(self) -> None:
        """End the rig's transaction: the real one has committed, and functions that wait for that run now."""
        if self._committing:
            made = self._committing[-1]
            if made.outer is None:
                self.ended(made, True)


class _Both:
    """A real transaction and the rig's, which ends as the real one does."""

    def __init__(self, real: Any, pairs: _Pairs) -> None:
        self._real = real
        self._pairs = pairs
        self._made: LiveTransaction | None = None

    def __enter__(self) -> Any:
        entered = self._real.__enter__()
        self._made = self._pairs.begin(self._real.__exit__)
        return entered

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool | None:
        assert self._made is not None
        swallowed: bool | None = self._pairs.end(self._made, self._real.__exit__, (kind, error, trace))
        return swallowed

    async def __aenter__(self) -> Any:
        entered = await self._real.__aenter__()
        self._made = self._pairs.begin(lambda *_: None)
        return entered

    async def __aexit__(self, *raised: Any) -> Any:
        assert self._made is not None
        return await self._pairs.end_async(self._made, self._real.__aexit__, raised)

    def __call__(self, function: Any) -> Any:
        """Decorate a function, if the real one can."""
        return self._real(function)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._real, name)


class _ClassTap:
    """`__enter__` and `__exit__` of a class, replaced."""

    def __init__(self, cls: type, pairs: _Pairs) -> None:
        self._cls = cls
        self._pairs = pairs
        self._enter, self._exit = cls.__enter__, cls.__exit__  # type: ignore[attr-defined]
        self._own = {name: vars(cls)[name] for name in ("__enter__", "__exit__") if name in vars(cls)}
        self._open: list[tuple[Any, LiveTransaction]] = []
        self._hooks: tuple[Any, Any] | None = None

    def put(self) -> None:
        enter, exit_ = self._enter, self._exit

        def entering(instance: Any) -> Any:
            entered = enter(instance)
            made = self._pairs.begin(lambda *raised: exit_(instance, *raised))
            self._open.append((instance, made))
            return entered

        def leaving(instance: Any, *raised: Any) -> Any:
            made = self._innermost(instance)
            end_real: End = lambda *raised: exit_(instance, *raised)  # noqa: E731
            if made is None:  # it was entered before the rig was
                return end_real(*raised)
            return self._pairs.end(made, end_real, raised, _rolls_back(instance))

        self._cls.__enter__ = entering  # type: ignore[attr-defined]
        self._cls.__exit__ = leaving  # type: ignore[attr-defined]
        wrappers = sys.modules.get("django.db.backends.base.base")
        if wrappers is not None and self._cls.__module__ == "django.db.transaction":
            base: Any = wrappers.BaseDatabaseWrapper
            run_hooks = base.run_and_clear_commit_hooks

            def run(connection: Any) -> Any:
                self._pairs.committed()
                return run_hooks(connection)

            self._hooks = base, run_hooks
            base.run_and_clear_commit_hooks = run

    def _innermost(self, instance: Any) -> LiveTransaction | None:
        """Return and forget the transaction that an instance has opened last in the running task."""
        for at in range(len(self._open) - 1, -1, -1):
            other, made = self._open[at]
            if other is instance and self._pairs.is_of_running_task(made):
                del self._open[at]
                return made
        return None

    def restore(self) -> None:
        for name in ("__enter__", "__exit__"):
            if name in self._own:
                setattr(self._cls, name, self._own[name])
            else:
                delattr(self._cls, name)
        if self._hooks is not None:
            base, run_hooks = self._hooks
            base.run_and_clear_commit_hooks = run_hooks


def _rolls_back(instance: Any) -> bool:
    """Return True if an `atomic` of Django will roll back without an error: something inside has asked for it."""
    if type(instance).__module__ != "django.db.transaction":
        return False
    from django.db import transaction

    return bool(transaction.get_connection(instance.using).needs_rollback)
