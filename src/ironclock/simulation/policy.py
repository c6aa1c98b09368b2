"""A job type: a callable with its policy; and a call of one, with its arguments bound."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass, fields
from datetime import timedelta
from functools import partial
from types import FunctionType, MethodType
from typing import TYPE_CHECKING, Any, Generic, Literal, ParamSpec, Protocol, TypeAlias, TypedDict, TypeVar, Unpack

from ..errors import InputError, PolicyError, RigWarning, WrongName, must_be_keywords, nearest
from ..foundation.durations import Duration, spell, to_ns
from ..foundation.other_words import no_attribute
from .retry import Retry, RetryBudget

if TYPE_CHECKING:
    from ..foundation.distributions import Spread

P = ParamSpec("P")
R_co = TypeVar("R_co", covariant=True)


class PolicyKeywords(TypedDict, total=False):
    """The parameters of `Policy`, as `Rig.job` and `Endpoint.job` take them. None: as the policy of the rig says."""

    queue: str | None
    retry: Retry | int | None
    timeout: Duration | None
    priority: int | None
    takes: Duration | Spread | Mapping[str, Any] | None
    lease: Duration | None
    ack: Literal["late", "early"] | None
    deliveries: int | None
    key: str | Callable[..., object] | None
    unique: Literal["refuse", "replace", "keep"] | None
    expires: Duration | None
    only_while: Iterable[str] | None
    scope: Callable[[], AbstractContextManager[Any]] | None


@dataclass(frozen=True, repr=False)
class Policy:
    """How workers and queues treat a job. `Rig.job` takes the same parameters.

    Running:

    - `queue`: the queue's name. Default ``"default"``.
    - `retry`: what follows an error (`Retry`), or how many attempts there are. Default: one attempt.
    - `timeout`: how long one attempt can take, in simulated time. Default None: no timeout.
    - `priority`: the lowest number starts first, as in the standard `sched` and `queue`. Default 0.
    - `takes`: how long an attempt takes before its code runs, for a job that is modelled. A duration, or a
      distribution such as ``{"median": "2s", "p95": "9s"}``. Default 0.

    Delivery:

    - `lease`: how long the queue waits for the acknowledgement before it delivers the job again (the visibility
      timeout). Default None: no lease, and the queue notices at once that a worker has died.
    - `ack`: when the worker acknowledges. ``"late"`` (the default): after the job. ``"early"``: before it, so that a
      crash loses the job.
    - `deliveries`: after how many deliveries a job whose workers always die becomes a dead letter. Default None: never.

    Admission:

    - `key`: the name of a parameter, or a function of the arguments. Limits per key and `unique` compare it. Default
      None: `unique` compares all arguments.
    - `unique`: what happens to a new job while another job with its key is pending. ``"refuse"`` raises
      `DuplicateJob`, ``"replace"`` withdraws the other job, ``"keep"`` keeps the other job. Default None: both are
      jobs.
    - `expires`: how long a job can wait for its first attempt before it is dropped. Default None: for ever.
    - `only_while`: names of conditions (`Rig.conditions`) that must hold for an attempt to start. Default: none.
    - `scope`: a function that returns a new context manager for each attempt. Default None.

    Durations are `Duration`: ``"1m30s"``, seconds, or a `timedelta`. Raises `PolicyError` or `DurationError`.

    Example::

        rig = ic.Rig(policy=ic.Policy(retry=ic.Retry(attempts=3), timeout="30s"))
    """

    queue: str = "default"
    retry: Retry | int = Retry()
    timeout: Duration | None = None
    priority: int = 0
    takes: Duration | Spread | Mapping[str, Any] = 0
    lease: Duration | None = None
    ack: Literal["late", "early"] = "late"
    deliveries: int | None = None
    key: str | Callable[..., object] | None = None
    unique: Literal["refuse", "replace", "keep"] | None = None
    expires: Duration | None = None
    only_while: tuple[str, ...] = ()
    scope: Callable[[], AbstractContextManager[Any]] | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.queue, str) or not self.queue:
            raise PolicyError(f"queue is {self.queue!r}; give a name as text")
        if isinstance(self.retry, int) and not isinstance(self.retry, bool):
            object.__setattr__(self, "retry", Retry(attempts=self.retry))
        if not isinstance(self.retry, Retry):
            raise PolicyError(f"retry is {self.retry!r}; give an ic.Retry(...), or the number of attempts")
        if isinstance(self.priority, bool) or not isinstance(self.priority, int):
            raise PolicyError(f"priority is {self.priority!r}; give a whole number (the lowest runs first)")
        if self.timeout is not None and to_ns(self.timeout, what="timeout") == 0:
            raise PolicyError("timeout is 0; give how long an attempt may take, or None")
        _takes(self.takes)
        if self.lease is not None and to_ns(self.lease, what="lease") < 1:
            raise PolicyError(
                f"lease is {self.lease!r}, shorter than the clock's resolution of 1 ns; give a longer lease or None"
            )
        if self.expires is not None and to_ns(self.expires, what="expires") == 0:
            raise PolicyError("expires is 0; give how long a job may wait, or None")
        if self.lease is not None and self.timeout is not None and to_ns(self.lease) < to_ns(self.timeout):
            warnings.warn(
                f"the lease of {spell(to_ns(self.lease))} is shorter than the timeout of {spell(to_ns(self.timeout))}: "
                "a job that uses its timeout is delivered a second time while it runs",
                RigWarning, stacklevel=4,
            )  # fmt: skip
        if self.ack not in ("late", "early"):
            raise PolicyError(f"ack is {self.ack!r}; give 'late' or 'early'")
        if self.ack == "early" and self.lease is not None:
            raise PolicyError(
                "ack is 'early' and there is a lease; after an early acknowledgement a lease does nothing, give one "
                "of the two"
            )
        if self.deliveries is not None and (
            isinstance(self.deliveries, bool) or not isinstance(self.deliveries, int) or self.deliveries < 1
        ):
            raise PolicyError(f"deliveries is {self.deliveries!r}; give a whole number, at least 1")
        if self.unique not in (None, "refuse", "replace", "keep"):
            raise PolicyError(f"unique is {self.unique!r}; give 'refuse', 'replace' or 'keep'")
        if self.key is not None and not isinstance(self.key, str) and not callable(self.key):
            raise PolicyError(f"key is {self.key!r}; give a parameter's name or a function of the arguments")
        if not isinstance(self.only_while, (str, tuple)):
            object.__setattr__(self, "only_while", tuple(self.only_while))
        if isinstance(self.only_while, str) or not all(isinstance(name, str) and name for name in self.only_while):
            raise PolicyError(f"only_while is {self.only_while!r}; give a list of names of conditions")
        if self.scope is not None and not callable(self.scope):
            raise PolicyError(f"scope is {self.scope!r}; give a function that returns a context manager")

    def __repr__(self) -> str:
        values = (
            f"{one.name}={getattr(self, one.name)!r}" for one in fields(self) if getattr(self, one.name) != one.default
        )
        return f"Policy({', '.join(values)})"

    def changed(self, **changes: Unpack[PolicyKeywords]) -> Policy:
        """Return this policy with some values changed. Parameters: `changes` are those of `Policy`; None keeps a value.
        Raises `TypeError` for another keyword, and `PolicyError` or `DurationError` for a value that cannot be used.
        """
        must_be_keywords(changes, PolicyKeywords)
        made = object.__new__(Policy)  # each run of a search makes its policies anew: `replace` takes twice as long
        vars(made).update(vars(self))
        vars(made).update({name: value for name, value in changes.items() if value is not None})
        made.__post_init__()
        return made


class Versions(Protocol):
    """What a deployment decides: which version of a callable takes an attempt."""

    def handler_of(self, attempt: Any, /) -> Callable[..., Any]:
        """Return the callable that takes an attempt."""


class JobType(Generic[P, R_co]):
    """A callable with its policy, under a name. `Rig.job` returns it; `call` binds arguments.

    Example::

        charge = rig.job(charge_fare, retry=ic.Retry(attempts=3), timeout="30s")
        rig.enqueue(charge.call("TL-204", 3))
    """

    __slots__ = (
        "_is_made", "_plain_counts", "_signatures", "asked", "by_default", "deployment", "expires_ns", "fn",
        "has_admission_rules", "is_async", "is_simple", "known_fns", "lease_ns", "name", "needs_tracking", "policy",
        "priority", "queue", "retry", "retry_budget", "spread", "takes_ns", "timeout_ns",
    )  # fmt: skip

    def __setattr__(self, name: str, value: object) -> None:
        if name in _OF_POLICY and self._is_made:
            raise WrongName(
                f"{name} of the job type {self.name!r} cannot be set; give it to rig.job(...), or another policy"
            )
        object.__setattr__(self, name, value)

    def __init__(self, fn: Callable[P, Any], name: str, policy: Policy) -> None:
        self._is_made = False
        self.fn: Callable[..., Any] = fn
        """The callable."""
        self.known_fns: tuple[Callable[..., Any], ...] = (fn,)
        """Every callable that it has had: a deployment gives it another one."""
        self.deployment: Versions | None = None
        """The deployment that is under way. None: there is one version of the callable."""
        flags = _code_flags(fn)
        if flags & _GENERATORS:
            raise InputError(
                f"{name} is a generator function: a call of it runs none of its code; give a function that runs "
                f"through it, such as lambda *args: list({name}(*args))"
            )
        self.name = name
        """Its name in the rig."""
        self.policy = policy
        """How its jobs are treated."""
        self.asked = policy
        """The policy that the code has asked for: in a changed world another one holds."""
        assert isinstance(policy.retry, Retry)  # the policy has made one of a number
        self.retry = policy.retry
        """When failed attempts are tried again."""
        self.retry_budget = (
            None if policy.retry.budget is None else RetryBudget(policy.retry.budget, policy.retry.reserve)
        )
        """What is left of the retries of its jobs. None: there is no limit."""
        self.queue = policy.queue
        """The queue of its jobs, if an enqueue names no other."""
        self.priority = policy.priority
        """Their priority; the lowest runs first."""
        self.timeout_ns = None if policy.timeout is None else to_ns(policy.timeout)
        """How long an attempt can take, in nanoseconds. None: no limit."""
        takes = _takes(policy.takes)
        self.spread = None if isinstance(takes, int) else takes
        """What the time of each attempt is drawn from. None if it is always the same."""
        self.takes_ns = takes if isinstance(takes, int) else round(takes.mean_ns)
        """How long an attempt takes before its code runs, on average."""
        self.lease_ns = -1 if policy.lease is None else to_ns(policy.lease)
        """After how long a message without an acknowledgement is delivered again, in nanoseconds. -1: never."""
        self.expires_ns = -1 if policy.expires is None else to_ns(policy.expires)
        """After how long a job that has not started is dropped, in nanoseconds. -1: never."""
        self.by_default = False
        """True if a tap has captured it, and nobody has said how it is treated."""
        self.is_async = bool(flags & _COROUTINE)
        """True if the callable is a coroutine function."""
        self.has_admission_rules = bool(policy.key or policy.unique or policy.expires or policy.only_while)
        """True if its jobs cannot simply be put into their queue."""
        self.needs_tracking = bool(
            self.is_async or policy.lease or policy.ack == "early" or policy.deliveries or policy.scope
        )
        """True if an attempt is more than the call of the function."""
        self.is_simple = not (
            self.needs_tracking or policy.timeout or self.spread or self.takes_ns or self.retry_budget is not None
        )
        """True if an attempt is the call of the function at once, and no more."""
        self._signatures: tuple[Any, ...] | None = None
        self._plain_counts = _positional(fn)
        self._is_made = True

    def deploy(self, deployment: Versions | None, fn: Callable[..., Any], *versions: Callable[..., Any]) -> None:
        """Begin a deployment, or end one (None). Parameters: `deployment` is the deployment that begins (None: one
        ends).

        Parameters: `fn` is the callable from now on; `versions` are others that its jobs can meet as well.
        """
        self.deployment = deployment
        self.fn = fn
        self.known_fns = tuple(dict.fromkeys((*self.known_fns, fn, *versions)))
        self._signatures = tuple(_signature_of(one) for one in dict.fromkeys((fn, *versions)))
        self._plain_counts = _positional(fn) if not versions else range(0)
        self.is_async = any(_code_flags(one) & _COROUTINE for one in (fn, *versions))
        self.needs_tracking = True
        self.is_simple = False

    def has(self, fn: object) -> bool:
        """Return True if a callable is one that it has, or has had. Parameters: `fn` is a callable."""
        return any(one is fn for one in self.known_fns)

    def call(self, *args: P.args, **kwargs: P.kwargs) -> Call[R_co]:
        """Bind arguments; return the call. Raises `InputError` if the callable does not take them.

        Example::

            rig.enqueue(manifest.call("TL-204"), after="20m")
        """
        # To bind is slow beside the rest of an enqueue. For plain positional arguments their count is enough.
        if kwargs or len(args) not in self._plain_counts:
            self._bound(args, kwargs)
        return Call(self, args, kwargs)

    def _bound(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        """Return the arguments as a version of the callable takes them. None for a callable that does not say how."""
        if self._signatures is None:
            self._signatures = (_signature_of(self.fn),)
        refused: list[str] = []
        for signature in self._signatures:
            if signature is None:
                return None
            try:
                return signature.bind(*args, **kwargs)
            except TypeError as error:
                refused.append(f"{error}; its signature is {self.name}{signature}")
        raise InputError(f"{self.name} does not take these arguments: {'; or, in the other version: '.join(refused)}")

    def key_of(self, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        """Return the key of a job with these arguments. Raises `PolicyError` if `key` names no parameter."""
        key = self.policy.key
        if key is None:
            return None
        if callable(key):
            return key(*args, **kwargs)
        bound = self._bound(args, kwargs)
        bound.apply_defaults()
        if key not in bound.arguments:
            raise PolicyError(f"key is {key!r}, and {self.name} has no such parameter; {nearest(key, bound.arguments)}")
        return bound.arguments[key]

    if not TYPE_CHECKING:  # with it, static tools would accept every misspelled name

        def __getattr__(self, name: str) -> object:
            raise no_attribute(self, name)

    def check_key(self) -> None:
        """Raise `PolicyError` if the key of the policy names no parameter of the callable."""
        key = self.policy.key
        if isinstance(key, str):
            parameters = self.parameters()
            if parameters and key not in parameters and not any(p.kind is p.VAR_KEYWORD for p in parameters.values()):
                raise PolicyError(f"key is {key!r}, and {self.name} has no such parameter; {nearest(key, parameters)}")

    def parameters(self) -> Mapping[str, Any]:
        """Return the parameters of the callable by name, as `inspect` describes them. Empty if they cannot be read."""
        if self._signatures is None:
            self._signatures = (_signature_of(self.fn),)
        return {} if self._signatures[-1] is None else self._signatures[-1].parameters

    def __repr__(self) -> str:
        timeout = "" if self.timeout_ns is None else f", timeout {spell(self.timeout_ns)}"
        return f"<job type {self.name}: queue {self.queue}, {self.retry.describe()}{timeout}>"


JobLike: TypeAlias = "str | JobType[..., Any] | Callable[..., object]"
"""A job type: its name, itself, or its callable."""


class Call(Generic[R_co]):
    """A job type with bound arguments, not enqueued yet. `JobType.call` returns it.

    Example::

        call = manifest.call("TL-204")
        rig.enqueue(call)
        rig.enqueue(call, after="1h")
    """

    __slots__ = ("args", "kwargs", "type")

    def __init__(self, type: JobType[..., R_co], args: tuple[Any, ...], kwargs: dict[str, Any]) -> None:
        self.type = type
        """The job type."""
        self.args = args
        """The positional arguments."""
        self.kwargs = kwargs
        """The keyword arguments."""

    def __repr__(self) -> str:
        given = [repr(a) for a in self.args] + [f"{k}={v!r}" for k, v in self.kwargs.items()]
        return f"{self.type.name}({', '.join(given)})"


_OF_POLICY = frozenset((
    "name", "policy", "retry", "queue", "priority", "timeout_ns", "takes_ns", "lease_ns", "expires_ns", "spread",
))  # fmt: skip
_COROUTINE = 0x80  # inspect.CO_COROUTINE, without importing inspect
_GENERATORS = 0x20 | 0x200  # CO_GENERATOR, CO_ASYNC_GENERATOR


def _takes(given: Duration | Spread | Mapping[str, Any]) -> int | Spread:
    """Return how long attempts take: nanoseconds, or a distribution. Raises `DurationError`."""
    if isinstance(given, (int, float, str, timedelta)):
        return to_ns(given, what="takes")
    from ..foundation.distributions import Fixed, spread_of

    found = spread_of(given)
    return found.ns if isinstance(found, Fixed) else found


def _whole(fn: Any) -> Any:
    """Return the function behind partial ones. Whatever else has an attribute `func` is left as it is: a mock has every
    attribute, without an end."""
    while isinstance(fn, partial):
        fn = fn.func
    return fn


def _name_of_stand_in(fn: Any) -> str:
    """Return the name of what a mock of `unittest.mock` replaces. Empty for anything else, and if it has none."""
    if not any(cls.__module__ == "unittest.mock" for cls in type(fn).__mro__):
        return ""
    name = vars(fn).get("_mock_name")
    return name.rpartition(".")[2] if isinstance(name, str) else ""


def _code_flags(fn: Any) -> int:
    fn = _whole(fn)
    fn = getattr(fn, "__func__", fn)
    code = getattr(fn, "__code__", None)
    if code is None and not isinstance(fn, type) and callable(fn):
        code = getattr(type(fn).__call__, "__code__", None)
    return 0 if code is None else int(code.co_flags)


def _signature_of(fn: Callable[..., Any]) -> Any:
    import inspect

    try:
        return inspect.signature(fn)
    except (TypeError, ValueError):  # a builtin without one
        return None


def _positional(fn: Any) -> range:
    """Return how many plain positional arguments a function or method takes, if its code alone tells that."""
    function, given = (fn.__func__, 1) if type(fn) is MethodType else (fn, 0)
    if type(function) is not FunctionType or hasattr(function, "__wrapped__"):
        return range(0)
    code = function.__code__
    if len(function.__kwdefaults__ or ()) < code.co_kwonlyargcount or code.co_argcount < given:
        return range(0)
    most = code.co_argcount - given
    return range(max(0, most - len(function.__defaults__ or ())), most + 1)


def name_of(job: Any) -> str:
    """Return the name of a job type that is given by its name, as itself, or as a function of that name."""
    if isinstance(job, str):
        return job
    return job.name if isinstance(job, JobType) else job_name(job)


def job_name(fn: Any) -> str:
    """Return the name of a callable. Raises `InputError` if it cannot be called."""
    if not callable(fn):
        raise InputError(f"the job is {fn!r} ({type(fn).__name__}), which cannot be called; give a function")
    fn = _whole(fn)
    name = str(_name_of_stand_in(fn) or getattr(fn, "__name__", type(fn).__name__))
    of = getattr(fn, "__self__", None) if type(fn) is MethodType else None
    return f"{of.__name__}.{name}" if isinstance(of, type) else name  # a class method: the class tells which one
