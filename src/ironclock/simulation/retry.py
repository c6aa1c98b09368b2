"""Retry: which errors are tried again, how often, and how long to wait between attempts."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from operator import attrgetter
from typing import Literal, TypeAlias

from ..errors import PolicyError
from ..foundation.durations import Duration, spell, to_ns

Jitter: TypeAlias = 'float | Literal["full", "equal", "decorrelated"] | None'
ErrorTypes: TypeAlias = "type[BaseException] | tuple[type[BaseException], ...]"
Verdict: TypeAlias = Literal["retry", "dead", "dropped"]

_NO_CAP = to_ns("36500d")


class Wait:
    """How long to wait after a failed attempt. A subclass has `after` and `describe`.

    Example::

        class Fibonacci(ic.Wait):
            def after(self, attempt, error, previous, chance):
                return (1, 1, 2, 3, 5, 8)[min(attempt, 6) - 1] * 10**9

            def describe(self):
                return "1, 1, 2, 3, 5, 8 seconds"

        retry = ic.Retry(attempts=5, wait=Fibonacci())
    """

    by_chance = False
    """True if the wait depends on chance, or on anything else but the number of the attempt."""

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        """Return the wait in nanoseconds after attempt number `attempt` (1 is the first).

        Parameters: `error` is what the attempt raised; `previous` is the wait before that attempt in nanoseconds, 0 for
        the first attempt; `chance` is the generator of the rig, for waits by lot.
        """
        raise NotImplementedError

    def describe(self) -> str:
        """Return the wait in words."""
        raise NotImplementedError

    def __repr__(self) -> str:
        return f"<wait {self.describe()}>"


@dataclass(frozen=True, repr=False)
class Curve(Wait):
    """The wait ``first * factor ** (n - 1) + step * (n - 1)`` after attempt n, at most a cap, then with jitter."""

    first: int
    factor: float = 1.0
    step: int = 0
    cap: int = _NO_CAP
    jitter: Jitter = None

    @property
    def by_chance(self) -> bool:  # type: ignore[override]
        return self.jitter is not None

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        jitter = self.jitter
        if jitter == "decorrelated":
            high = max(self.first, (previous or self.first) * 3)
            return min(self.cap, self.first + int(chance.random() * (high - self.first)))
        wait = self.plain(attempt)
        if jitter is None:
            return wait
        if jitter == "full":
            return int(chance.random() * wait)
        if jitter == "equal":
            half = wait // 2
            return half + int(chance.random() * (wait - half))
        assert isinstance(jitter, float)
        return int(wait * (1.0 - jitter + 2.0 * jitter * chance.random()))

    def plain(self, attempt: int) -> int:
        """Return the wait before jitter, in nanoseconds."""
        cap = self.cap
        if self.factor != 1.0:
            # Repeated multiplication gives the same result on every machine; pow of the C library does not.
            wait, factor = float(self.first), self.factor
            for _ in range(attempt - 1):
                wait *= factor
                if wait >= cap:
                    return cap
            return min(cap, int(wait))
        return min(cap, self.first + self.step * (attempt - 1))

    def describe(self) -> str:
        words = spell(self.first)
        if self.factor != 1.0:
            words += f" x{self.factor:g} each time"
        elif self.step:
            words += f" +{spell(self.step)} each time"
        if self.cap < _NO_CAP:
            words += f", at most {spell(self.cap)}"
        if self.jitter is not None:
            words += f", {self.jitter} jitter" if isinstance(self.jitter, str) else f", +-{self.jitter:.0%}"
        return words


@dataclass(frozen=True, repr=False)
class Listed(Wait):
    """A list of waits. The last one repeats."""

    waits: tuple[int, ...]

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        return self.waits[min(attempt, len(self.waits)) - 1]

    def describe(self) -> str:
        return ", ".join(spell(w) for w in self.waits)


@dataclass(frozen=True, repr=False)
class Asked(Wait):
    """A wait that a function returns: ``(attempt, error) -> duration``."""

    ask: Callable[[int, BaseException], Duration]

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        what = f"the wait that {_named(self.ask)} returned after attempt {attempt}"
        return to_ns(self.ask(attempt, error), what=what)

    def describe(self) -> str:
        return f"as {_named(self.ask)} says"


def _named(function: object) -> str:
    return str(getattr(function, "__qualname__", type(function).__name__))


def fixed(wait: Duration, *, jitter: Jitter = None) -> Wait:
    """Return a wait that is the same after every failure.

    Parameters: `wait` a duration; `jitter` as in `exponential`. Raises `DurationError` or `PolicyError`.

    Example::

        retry = ic.Retry(attempts=3, wait=ic.fixed("30s"))  # or wait="30s"
    """
    return Curve(to_ns(wait, what="wait"), jitter=_checked(jitter))


def linear(
    first: Duration, *, step: Duration | None = None, cap: Duration | None = None, jitter: Jitter = None
) -> Wait:
    """Return a wait that is `first`, then `step` longer after each failure, and at most `cap`.

    Parameters: durations. `step`: default `first`. `cap`: default None, no limit. `jitter` as in `exponential`. Raises
    `DurationError` or `PolicyError`.

    Example::

        retry = ic.Retry(attempts=5, wait=ic.linear("10s"))  # 10, 20, 30, 40 seconds
    """
    start = to_ns(first, what="first")
    grow = start if step is None else to_ns(step, what="step")
    return Curve(start, step=grow, cap=_capped(cap, start, first), jitter=_checked(jitter))


def exponential(first: Duration, *, factor: float = 2, cap: Duration | None = None, jitter: Jitter = None) -> Wait:
    """Return a wait that is `first`, then `factor` times longer after each failure, and at most `cap`.

    Parameters:

    - `first`: the wait after the first failure, a duration.
    - `factor`: a number, at least 1. Default 2.
    - `cap`: the longest wait. Default None: no limit. It is applied before the jitter.
    - `jitter`: how chance changes the wait. A share from 0 to 1: 0.1 is up to 10 % more or less. ``"full"``: from 0 to
      the wait. ``"equal"``: from half the wait to the whole. ``"decorrelated"``: from `first` to three times the wait
      before, at most `cap`, without `factor`. Default None: no jitter.

    Raises `DurationError` or `PolicyError`. Source of the named jitters: M. Brooker, "Exponential Backoff And Jitter",
    2015.

    Example::

        ic.Retry(attempts=5, wait=ic.exponential("10s", cap="10m", jitter="full"))
    """
    if isinstance(factor, bool) or not isinstance(factor, (int, float)) or not 1 <= factor < 1e6:
        raise PolicyError(f"factor is {factor!r}; give a number, at least 1")
    start = to_ns(first, what="first")
    return Curve(start, float(factor), cap=_capped(cap, start, first), jitter=_checked(jitter))


def _capped(cap: Duration | None, start_ns: int, first: Duration) -> int:
    """Return the longest wait in nanoseconds. Raises `PolicyError` if the first wait is longer."""
    if cap is None:
        return _NO_CAP
    cap_ns = to_ns(cap, what="cap")
    if cap_ns < start_ns:
        raise PolicyError(f"cap is {cap!r}, shorter than first, {first!r}; give a cap that is at least as long")
    return cap_ns


def _checked(jitter: Jitter) -> Jitter:
    if jitter is None or jitter in ("full", "equal", "decorrelated"):
        return jitter
    if isinstance(jitter, (int, float)) and not isinstance(jitter, bool) and 0 <= jitter <= 1:
        return float(jitter) or None
    raise PolicyError(f"jitter is {jitter!r}; give a share from 0 to 1, 'full', 'equal' or 'decorrelated'")


_ANY: tuple[type[BaseException], ...] = (Exception,)


def error_types(given: object, what: str) -> tuple[type[BaseException], ...]:
    """Return exception types as a tuple. Raises `PolicyError` for anything else."""
    if given is _ANY or given == ():
        return given
    types = given if isinstance(given, (tuple, list)) else (given,)
    for one in types:
        if not (isinstance(one, type) and issubclass(one, BaseException)):
            raise PolicyError(f"{what} has {one!r}; give exception types")
    return tuple(types)


_NO_CHANCE = random.Random(0)  # nothing is drawn from it


_COMPARED = attrgetter("attempts", "wait", "on", "never_on", "drop_on", "within", "budget", "reserve")


class Retry:
    """What happens after a failed attempt.

    Parameters:

    - `attempts`: how many attempts there are at most, the first included. Default 1.
    - `wait`: the wait between attempts: `fixed`, `linear`, `exponential`, a duration, a list of durations (the last one
      repeats), or a function ``(attempt, error) -> duration``. Default 0.
    - `on`: the error types that are tried again; all others make a dead letter. Default: `Exception`.
    - `never_on`: error types that make a dead letter at once. Default: none.
    - `drop_on`: error types after which the job is dropped, without a dead letter. Default: none.
    - `within`: after a failure no attempt starts later than this after the start of the first: a job that would start
      later is a dead letter. Default None: no limit.
    - `budget`: what all jobs of the type can retry. Each first attempt saves up this share of a retry. A job that fails
      when less than one is left is a dead letter. So retries cannot multiply the load of what is down. Default None: no
      limit.
    - `reserve`: how many retries of the budget are there at the start, and how many are saved up at most. However many
      jobs went well before, an outage finds no more than these, and the shares of the jobs that it strikes. With 0, one
      is saved up. Default 10.

    Raises `PolicyError` or `DurationError`.

    Example::

        ic.Retry(attempts=5, wait=ic.exponential("10s"), never_on=CardRefused)
    """

    __slots__ = ("_simple", "attempts", "budget", "drop_on", "never_on", "on", "reserve", "table", "wait", "within")

    def __init__(
        self,
        attempts: int = 1,
        wait: Wait | Duration | Sequence[Duration] | Callable[[int, BaseException], Duration] = 0,
        on: ErrorTypes = _ANY,
        never_on: ErrorTypes = (),
        drop_on: ErrorTypes = (),
        within: Duration | None = None,
        budget: float | None = None,
        reserve: float = 10,
    ) -> None:
        if isinstance(attempts, bool) or not isinstance(attempts, int) or attempts < 1:
            raise PolicyError(f"attempts is {attempts!r}; give a whole number, at least 1 (the first attempt counts)")
        self.attempts = attempts
        self.wait = _as_wait(wait)
        self.on = error_types(on, "on")
        self.never_on = error_types(never_on, "never_on")
        self.drop_on = error_types(drop_on, "drop_on")
        self.within = None if within is None else to_ns(within, what="within")
        if budget is not None and (
            isinstance(budget, bool) or not isinstance(budget, (int, float)) or not 0 <= budget < 1e6
        ):
            raise PolicyError(f"budget is {budget!r}; give retries for each first attempt, such as 0.1, or None")
        self.budget = budget
        if isinstance(reserve, bool) or not isinstance(reserve, (int, float)) or not 0 <= reserve < 1e9:
            raise PolicyError(f"reserve is {reserve!r}; give how many retries are saved up at most, such as 10")
        self.reserve = reserve
        both = [kind for kind in self.never_on if self.on is not _ANY and kind in self.on]
        if both:
            raise PolicyError(f"{both[0].__name__} is both in on and in never_on; give it in one of the two")
        if isinstance(self.wait, Listed) and len(self.wait.waits) > max(1, attempts - 1):
            raise PolicyError(
                f"wait lists {len(self.wait.waits)} waits, and {attempts} attempts have {attempts - 1} between them; "
                "give as many waits, or more attempts"
            )
        self._simple = not self.never_on and not self.drop_on and self.within is None and budget is None
        self.table: tuple[int, ...] = ()
        """The waits after the first attempts. Empty if they depend on chance or on another rule."""
        if self._simple and isinstance(self.wait, (Curve, Listed)) and not self.wait.by_chance:
            self.table = _table(self.wait, attempts)

    def decide(
        self, attempt: int, error: BaseException, previous: int, elapsed: int, chance: Callable[[], random.Random]
    ) -> tuple[Verdict, int]:
        """Return what follows failed attempt number `attempt`, and the wait in nanoseconds. Parameters: `error` is an
        error.

        `previous` is the wait before this attempt, `elapsed` the time since the start of the first one, both in
        nanoseconds. `chance` returns the generator for jitter.
        """
        if not self._simple:
            if isinstance(error, self.drop_on):
                return "dropped", 0
            if isinstance(error, self.never_on):
                return "dead", 0
        # A shutdown or cancellation is not an Exception, but workers try such jobs again.
        if attempt >= self.attempts or not (isinstance(error, self.on) or not isinstance(error, Exception)):
            return "dead", 0
        wait = self.wait.after(attempt, error, previous, chance())
        if self.within is not None and elapsed + wait > self.within:
            return "dead", 0
        return "retry", wait

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Retry) and _COMPARED(self) == _COMPARED(other)

    def __hash__(self) -> int:
        return hash(_COMPARED(self))

    def describe(self) -> str:
        """Return the policy in words."""
        if self.attempts == 1:
            return "one attempt"
        words = f"{self.attempts} attempts, waiting {self.wait.describe()}"
        if self.within is not None:
            words += f", within {spell(self.within)}"
        if self.budget is not None:
            words += f", retries at most {self.budget:.0%} of first attempts and {self.reserve:g} saved up"
        return words

    def __repr__(self) -> str:
        return f"<Retry: {self.describe()}>"


def most_saved(share: float, reserve: float) -> float:
    """Return how many retries a budget saves up at most: its reserve, and at least one if first attempts save any."""
    return max(float(reserve), share, 1.0 if share else 0.0)


class RetryBudget:
    """What is left of the retries that the jobs of one type can make.

    Each first attempt saves up a share of a retry. Parameters: `reserve` is how many are there at the start.
    """

    def __init__(self, share: float, reserve: float) -> None:
        self._share = share
        self._most = most_saved(share, reserve)
        self._left = float(reserve)

    def first_attempt(self) -> None:
        """Save up for the first attempt of a job."""
        self._left = min(self._most, self._left + self._share)

    def pays(self) -> bool:
        """Pay for one retry; return False if too little is left."""
        if self._left < 1.0:
            return False
        self._left -= 1.0
        return True


def _as_wait(wait: object) -> Wait:
    if isinstance(wait, Wait):
        return wait
    if isinstance(wait, (list, tuple)):
        if not wait:
            raise PolicyError("wait is an empty list; give at least one duration")
        return Listed(tuple(to_ns(w, what=f"wait[{i}]") for i, w in enumerate(wait)))
    if callable(wait):
        return Asked(wait)
    return _constant(to_ns(wait, what="wait"))  # type: ignore[arg-type]


@lru_cache(maxsize=64)
def _constant(ns: int) -> Wait:
    return Curve(ns)


@lru_cache(maxsize=64)
def _table(wait: Wait, attempts: int) -> tuple[int, ...]:
    return tuple(wait.after(n, Exception(), 0, _NO_CHANCE) for n in range(1, min(attempts, 16)))
