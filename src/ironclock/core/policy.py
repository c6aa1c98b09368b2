"""A job type: a callable with its policy; and a call of one, with its arguments bound."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from .durations import Duration, spell, to_ns
from .errors import InputError, PolicyError
from .retry import Retry


@dataclass(frozen=True)
class Policy:
    """How a worker treats a job.

    Parameters: `queue` the queue's name; `retry` what follows a failure; `timeout` how long one attempt may take
    in simulated time (none: for ever); `priority` the lowest number runs first, as in the standard `sched` and
    `queue`; `takes` how long an attempt takes before its code runs, for a job that is modelled rather than real.
    Raises `PolicyError` or `DurationError`.
    """

    queue: str = "default"
    retry: Retry = Retry()
    timeout: Duration | None = None
    priority: int = 0
    takes: Duration = 0

    def __post_init__(self) -> None:
        if not isinstance(self.queue, str) or not self.queue:
            raise PolicyError(f"queue is {self.queue!r}; give a name")
        if not isinstance(self.retry, Retry):
            raise PolicyError(f"retry is {self.retry!r}; give an ic.Retry(...)")
        if isinstance(self.priority, bool) or not isinstance(self.priority, int):
            raise PolicyError(f"priority is {self.priority!r}; give a whole number (the lowest runs first)")
        if self.timeout is not None and to_ns(self.timeout, what="timeout") == 0:
            raise PolicyError("timeout is 0; give how long an attempt may take, or None")
        to_ns(self.takes, what="takes")

    def but(self, **changes: Any) -> Policy:
        """Return this policy with some of its values changed; what is None keeps its value."""
        return replace(self, **{name: value for name, value in changes.items() if value is not None})


class JobType:
    """A callable with its policy, under a name. Made by `Rig.job`."""

    __slots__ = ("_fits", "_signature", "fn", "name", "policy", "priority", "queue", "retry", "takes_ns", "timeout_ns")

    def __init__(self, fn: Callable[..., Any], name: str, policy: Policy) -> None:
        self.fn = fn
        self.name = name
        self.policy = policy
        self.retry = policy.retry
        self.queue = policy.queue
        self.priority = policy.priority
        self.timeout_ns = None if policy.timeout is None else to_ns(policy.timeout)
        self.takes_ns = to_ns(policy.takes)
        self._signature: Any = _UNREAD
        self._fits = range(0)

    def call(self, *args: Any, **kwargs: Any) -> Call:
        """Bind arguments; raise `InputError` where the callable does not take them."""
        if self._signature is _UNREAD:
            self._signature = _signature_of(self.fn)
            self._fits = _positional(self._signature)
        # Binding is slow beside the rest of an enqueue; a count is enough for plain positional arguments.
        if self._signature is not None and (kwargs or len(args) not in self._fits):
            try:
                self._signature.bind(*args, **kwargs)
            except TypeError as error:
                raise InputError(f"{self.name} cannot be called so: {error}") from None
        return Call(self, args, kwargs)

    def __repr__(self) -> str:
        timeout = "" if self.timeout_ns is None else f", timeout {spell(self.timeout_ns)}"
        return f"<job type {self.name}: queue {self.queue}, {self.retry.describe()}{timeout}>"


class Call:
    """A job type with bound arguments, not yet enqueued."""

    __slots__ = ("args", "kwargs", "type")

    def __init__(self, type: JobType, args: tuple[Any, ...], kwargs: dict[str, Any]) -> None:
        self.type = type
        self.args = args
        self.kwargs = kwargs

    def __repr__(self) -> str:
        given = [repr(a) for a in self.args] + [f"{k}={v!r}" for k, v in self.kwargs.items()]
        return f"{self.type.name}({', '.join(given)})"


_UNREAD = object()


def _signature_of(fn: Callable[..., Any]) -> Any:
    import inspect

    try:
        return inspect.signature(fn)
    except (TypeError, ValueError):  # a builtin without one
        return None


def _positional(signature: Any) -> range:
    """Return how many plain positional arguments fit a signature, as far as that can be said by counting."""
    if signature is None:
        return range(0)
    least = most = 0
    for parameter in signature.parameters.values():
        if parameter.kind in (parameter.POSITIONAL_ONLY, parameter.POSITIONAL_OR_KEYWORD):
            most += 1
            least += parameter.default is parameter.empty
        elif parameter.kind is parameter.KEYWORD_ONLY and parameter.default is parameter.empty:
            return range(0)
    return range(least, most + 1)


def job_name(fn: Any) -> str:
    """Return the name that a callable goes by unless the test gives one; raise `InputError` for what is none."""
    if not callable(fn):
        raise InputError(f"a job is a callable, not {fn!r} ({type(fn).__name__})")
    while not hasattr(fn, "__name__") and hasattr(fn, "func"):  # functools.partial
        fn = fn.func
    return str(getattr(fn, "__name__", type(fn).__name__))
