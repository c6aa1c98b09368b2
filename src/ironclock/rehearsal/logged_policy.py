"""The policy that a log shows: what followed each failed attempt; and, for others, a policy fitted to that."""

from __future__ import annotations

import builtins
import random
import tomllib
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from ..errors import AttemptTimeout
from ..foundation.durations import NS
from ..history.history import History
from ..history.records import DEAD, DROPPED
from ..scenario.estimation import fitted_wait
from ..scenario.values import retry_of
from ..simulation.retry import Retry, Verdict
from .logged_jobs import LoggedJob

_FOLLOWS = "follows_in_log"


class LoggedRetry(Retry):
    """What followed each failed attempt of the log. Another attempt is tried again as the policy says that is fitted
    to the log: as often as jobs were tried before they died, with the waits that were measured."""

    def decide(
        self, attempt: int, error: BaseException, previous: int, elapsed: int, chance: Callable[[], random.Random]
    ) -> tuple[Verdict, int]:
        follows: tuple[Verdict, int] | None = getattr(error, _FOLLOWS, None)
        return super().decide(attempt, error, previous, elapsed, chance) if follows is None else follows


def logged_retry(jobs: Sequence[LoggedJob]) -> LoggedRetry:
    """Return the policy of the jobs of one type, as the log shows it."""
    waits: dict[int, list[int]] = {}
    for job in jobs:
        for attempt in job.attempts:
            if attempt.has_failed and attempt.then >= 0:
                waits.setdefault(attempt.number, []).append(attempt.then)
    tries = sorted(len(job.attempts) for job in jobs if job.state == "dead")
    most = max(len(job.attempts) for job in jobs)
    count = max(1, tries[len(tries) // 2] if tries else most)
    words = fitted_wait(waits).removeprefix(", ") if count > 1 else ""
    fitted = retry_of({"attempts": count, **tomllib.loads(words)})
    made = LoggedRetry(fitted.attempts, fitted.wait)
    made.table = ()  # each failure is asked about
    return made


def follows(job: LoggedJob, number: int) -> tuple[Verdict, int] | None:
    """Return what followed a failed attempt of the log, and the wait in nanoseconds. None: the log does not say."""
    attempt = job.attempts[number - 1]
    if attempt.then == DEAD:
        return "dead", 0
    if attempt.then == DROPPED:
        return "dropped", 0
    if attempt.then < 0 or attempt.ended_ns is None:
        return None
    if number == len(job.attempts):
        return "retry", attempt.then
    following = job.attempts[number]
    return "retry", max(0, following.ready_ns - attempt.ended_ns + following.late_ns)


def logged_deliveries(history: History) -> dict[str, dict[str, Any]]:
    """Return, by job type, what a saved history shows of how its messages are delivered: `lease`, `ack` and
    `deliveries`, as a scenario has them."""
    found: dict[str, dict[str, Any]] = {}
    started: dict[tuple[str, int], int] = {}
    for number in history.numbers_of("started", "lease-ended", "lost", "given-up"):
        entry = history.entry(number)
        mine = found.setdefault(str(entry.name), {})
        if entry.what == "started":
            started[str(entry.job), entry.attempt] = entry.ns
        elif entry.what == "lost":
            mine["ack"] = "early"
        elif entry.what == "lease-ended" and (str(entry.job), entry.attempt) in started:
            mine["lease"] = (entry.ns - started[str(entry.job), entry.attempt]) / NS
        elif entry.what == "given-up" and "deliveries" in entry.data:
            mine["deliveries"] = entry.data["deliveries"]
    return found


class LoggedErrors:
    """Makes the errors of a log, of types with the same names.

    Parameters: `known` are types that a policy names, and those that the application has.
    """

    def __init__(self, known: Iterable[type[BaseException]] = ()) -> None:
        self._types: dict[str, type[BaseException]] = {kind.__name__: kind for kind in known}

    def make(self, words: str, follow: tuple[Verdict, int] | None) -> BaseException:
        """Return a new error from its words, such as ``OSError: no route``. Parameters: `follow` is what followed it in
        the log."""
        name, _, message = words.partition(": ")
        kind = self._types.get(name)
        if kind is None:
            kind = self._types[name] = _type_named(name or "Error")
        error = _error_of(kind, message)
        if follow is not None:
            setattr(error, _FOLLOWS, follow)
        return error

    def timeout(self, words: str, follow: tuple[Verdict, int] | None) -> BaseException:
        """Return the error of an attempt that timed out in the log. Parameters as in `make`."""
        error = AttemptTimeout(words.partition(": ")[2])
        if follow is not None:
            setattr(error, _FOLLOWS, follow)
        return error


def _error_of(kind: type[BaseException], message: str) -> BaseException:
    """Return an error whose words are these, whatever its type makes of its arguments."""
    try:
        error = kind(message) if message else kind()
        if str(error) == message:
            return error
    except Exception:  # its constructor wants something else
        pass
    told = {"__module__": kind.__module__, "__init__": _plain_init, "__str__": lambda self: message}
    said: type[BaseException] = type(kind.__name__, (kind,), told)
    return said(message)


def _plain_init(self: BaseException, message: str) -> None:
    self.args = (message,)


def _type_named(name: str) -> type[BaseException]:
    found = getattr(builtins, name, None)
    if isinstance(found, type) and issubclass(found, Exception):
        return found
    # In the log a name can be anything; a type's name must not end with an attempt's own exits.
    return type(name, (Exception,), {"__module__": "log"})
