"""A job type: a callable with its policy; and a call of one, with its arguments bound."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from types import FunctionType
from typing import Any, Literal

from .durations import Duration, spell, to_ns
from .errors import InputError, PolicyError, nearest
from .retry import Retry
from .spreads import Fixed, Spread, spread_of


@dataclass(frozen=True)
class Policy:
    """How a worker treats a job.

    Parameters: `queue` the queue's name; `retry` what follows a failure; `timeout` how long one attempt may take
    in simulated time (none: for ever); `priority` the lowest number runs first, as in the standard `sched` and
    `queue`; `takes` how long an attempt takes before its code runs, for a job that is modelled rather than real: a
    duration, or a spread such as ``{"median": "2s", "p95": "9s"}`` (see `spread_of`).

    Delivery: `lease` (visibility timeout) is how long the queue waits for the acknowledgement before it delivers
    again; without one it notices at once that a worker has died. `ack` is when a worker acknowledges: ``"late"``,
    after the job, or ``"early"``, before it, and then a crash loses the job. `deliveries` is after how many of them
    a job whose workers keep dying becomes a dead letter (none: never).

    Admission: `key` names a parameter, or is a function of the arguments; per-key limits and `unique` go by it
    (`unique` goes by all arguments where there is none). `unique` is what becomes of a job while another of its
    key is pending: ``"refuse"`` raises `DuplicateJob`, ``"replace"`` withdraws the other, ``"keep"`` keeps the
    other. `expires` is how long a job may wait for its first attempt before it is dropped. `only_while` names the
    conditions (`Rig.conditions`) that must hold for an attempt to start. `scope` gives a fresh context manager
    for each attempt.
    Raises `PolicyError` or `DurationError`.
    """

    queue: str = "default"
    retry: Retry = Retry()
    timeout: Duration | None = None
    priority: int = 0
    takes: Duration | Spread | Mapping[str, Any] = 0
    lease: Duration | None = None
    ack: Literal["late", "early"] = "late"
    deliveries: int | None = None
    key: str | Callable[..., Any] | None = None
    unique: Literal["refuse", "replace", "keep"] | None = None
    expires: Duration | None = None
    only_while: tuple[str, ...] = ()
    scope: Callable[[], AbstractContextManager[Any]] | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.queue, str) or not self.queue:
            raise PolicyError(f"queue is {self.queue!r}; give a name")
        if not isinstance(self.retry, Retry):
            raise PolicyError(f"retry is {self.retry!r}; give an ic.Retry(...)")
        if isinstance(self.priority, bool) or not isinstance(self.priority, int):
            raise PolicyError(f"priority is {self.priority!r}; give a whole number (the lowest runs first)")
        if self.timeout is not None and to_ns(self.timeout, what="timeout") == 0:
            raise PolicyError("timeout is 0; give how long an attempt may take, or None")
        spread_of(self.takes)
        if self.lease is not None and to_ns(self.lease, what="lease") < 1:
            raise PolicyError(f"lease is {self.lease!r}, shorter than the clock's resolution of 1 ns")
        if self.expires is not None and to_ns(self.expires, what="expires") == 0:
            raise PolicyError("expires is 0; give how long a job may wait, or None")
        if self.ack not in ("late", "early"):
            raise PolicyError(f"ack is {self.ack!r}; give 'late' or 'early'")
        if self.ack == "early" and self.lease is not None:
            raise PolicyError("ack='early' leaves nothing for a lease to guard; give one or the other")
        if self.deliveries is not None and (
            isinstance(self.deliveries, bool) or not isinstance(self.deliveries, int) or self.deliveries < 1
        ):
            raise PolicyError(f"deliveries is {self.deliveries!r}; give a whole number of at least 1")
        if self.unique not in (None, "refuse", "replace", "keep"):
            raise PolicyError(f"unique is {self.unique!r}; give 'refuse', 'replace' or 'keep'")
        if self.key is not None and not isinstance(self.key, str) and not callable(self.key):
            raise PolicyError(f"key is {self.key!r}; give a parameter's name or a function of the arguments")
        if isinstance(self.only_while, str) or not all(isinstance(name, str) and name for name in self.only_while):
            raise PolicyError(f"only_while is {self.only_while!r}; give a list of names of conditions")
        if self.scope is not None and not callable(self.scope):
            raise PolicyError(f"scope is {self.scope!r}; give a function that returns a context manager")

    def but(self, **changes: Any) -> Policy:
        """Return this policy with some of its values changed; what is None keeps its value."""
        made = object.__new__(Policy)  # a world is set up for each run of a search: `replace` takes twice as long
        vars(made).update(vars(self))
        vars(made).update({name: value for name, value in changes.items() if value is not None})
        made.__post_init__()
        return made


class JobType:
    """A callable with its policy, under a name. Made by `Rig.job`."""

    __slots__ = (
        "_fits", "_signature", "admits", "awaits", "expires_ns", "fn", "lease_ns", "name", "policy", "priority",
        "queue", "retry", "special", "spread", "takes_ns", "timeout_ns",
    )  # fmt: skip

    def __init__(self, fn: Callable[..., Any], name: str, policy: Policy) -> None:
        self.fn = fn
        self.name = name
        self.policy = policy
        self.retry = policy.retry
        self.queue = policy.queue
        self.priority = policy.priority
        self.timeout_ns = None if policy.timeout is None else to_ns(policy.timeout)
        takes = spread_of(policy.takes)
        self.spread = None if isinstance(takes, Fixed) else takes
        """What each attempt's time is drawn from, where it is not always the same."""
        self.takes_ns = round(takes.mean_ns)
        """How long an attempt takes before its code runs, on average."""
        self.lease_ns = -1 if policy.lease is None else to_ns(policy.lease)
        self.expires_ns = -1 if policy.expires is None else to_ns(policy.expires)
        self.awaits = _is_async(fn)
        self.admits = bool(policy.key or policy.unique or policy.expires or policy.only_while)
        """Whether there is more to enqueueing it than putting it in its queue."""
        self.special = bool(self.awaits or policy.lease or policy.ack == "early" or policy.deliveries or policy.scope)
        """Whether there is more to an attempt than calling the function."""
        self._signature: Any = _UNREAD
        self._fits = _positional(fn)

    def call(self, *args: Any, **kwargs: Any) -> Call:
        """Bind arguments; raise `InputError` where the callable does not take them."""
        # Binding is slow beside the rest of an enqueue; a count is enough for plain positional arguments.
        if kwargs or len(args) not in self._fits:
            if self._signature is _UNREAD:
                self._signature = _signature_of(self.fn)
            try:
                if self._signature is None:
                    return Call(self, args, kwargs)
                self._signature.bind(*args, **kwargs)
            except TypeError as error:
                raise InputError(f"{self.name} cannot be called so: {error}") from None
        return Call(self, args, kwargs)

    def key_of(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        """Return the key that the policy gives to these arguments; raise `PolicyError` where it gives none."""
        key = self.policy.key
        if key is None:
            return None
        if callable(key):
            return key(*args, **kwargs)
        import inspect

        bound = inspect.signature(self.fn).bind(*args, **kwargs)
        bound.apply_defaults()
        if key not in bound.arguments:
            raise PolicyError(
                f"{self.name} has no parameter {key!r} to take its key from; {nearest(key, bound.arguments)}"
            )
        return bound.arguments[key]

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
_COROUTINE = 0x80  # inspect.CO_COROUTINE, without importing inspect


def _is_async(fn: Any) -> bool:
    fn = getattr(fn, "func", fn)  # functools.partial
    fn = getattr(fn, "__func__", fn)
    code = getattr(fn, "__code__", None)
    if code is None and not isinstance(fn, type) and callable(fn):
        code = getattr(type(fn).__call__, "__code__", None)
    return bool(code is not None and code.co_flags & _COROUTINE)


def _signature_of(fn: Callable[..., Any]) -> Any:
    import inspect

    try:
        return inspect.signature(fn)
    except (TypeError, ValueError):  # a builtin without one
        return None


def _positional(fn: Any) -> range:
    """Return how many plain positional arguments a function takes, as far as its code says so by itself."""
    code = getattr(fn, "__code__", None)
    if type(fn) is not FunctionType or code is None or hasattr(fn, "__wrapped__"):
        return range(0)
    if len(fn.__kwdefaults__ or ()) < code.co_kwonlyargcount:
        return range(0)
    most = code.co_argcount
    return range(most - len(fn.__defaults__ or ()), most + 1)


def job_name(fn: Any) -> str:
    """Return the name that a callable goes by unless the test gives one; raise `InputError` for what is none."""
    if not callable(fn):
        raise InputError(f"a job is a callable, not {fn!r} ({type(fn).__name__})")
    while not hasattr(fn, "__name__") and hasattr(fn, "func"):  # functools.partial
        fn = fn.func
    return str(getattr(fn, "__name__", type(fn).__name__))
