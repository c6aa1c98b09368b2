"""Delivery over HTTP: a job that is pushed as a request to an endpoint of the application."""

from __future__ import annotations

import datetime as dt
import email.utils
import random
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

from ..core.durations import NS, Duration, to_ns
from ..core.errors import InputError, IronClockError
from ..core.policy import JobType, Policy
from ..core.retry import Retry, Wait
from ..core.timeline import instant_ns

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..core.engine import Engine
    from .intake import Intake

AGAIN = frozenset({408, 425, 429})
"""Statuses from 400 to 499 that may do better later: Request Timeout, Too Early, Too Many Requests."""


class DeliveryFailed(IronClockError):
    """A delivery that was answered with a status which may do better later. `status`, `retry_after_ns`."""

    def __init__(self, words: str, status: int = 0, retry_after_ns: int = 0) -> None:
        super().__init__(words)
        self.status = status
        self.retry_after_ns = retry_after_ns


class DeliveryRejected(DeliveryFailed):
    """A delivery that was answered with a status which no retry will change: a dead letter at once."""


class DeliveryTimeout(DeliveryFailed):
    """A delivery that was not answered in time."""


class Honoured(Wait):
    """Another wait, or what the endpoint's ``Retry-After`` asks for where that is longer."""

    by_chance = True  # it depends on the answer, so that no table can hold it

    def __init__(self, inner: Wait) -> None:
        self._inner = inner

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        return max(self._inner.after(attempt, error, previous, chance), getattr(error, "retry_after_ns", 0))

    def describe(self) -> str:
        return f"{self._inner.describe()}, or as long as Retry-After says"


class Endpoint:
    """Where jobs are pushed to. Made by `Rig.endpoint`.

    A delivery is a POST with JSON: ``{"job": name, "args": [...], "kwargs": {...}, "attempt": n, "id": id}``.
    2xx is done, with the body as the result (parsed, where it is JSON). Statuses in `final` (none given: 400 to 499
    but 408, 425 and 429) are dead letters at once; everything else, and no answer within `answer_within`, is a
    failure that the job type's retry deals with, no earlier than ``Retry-After`` asks (RFC 9110, 10.2.3).

    Parameters: `app` a WSGI or ASGI application, run in process; `path` the endpoint's, ``{job}`` in it is replaced
    by the job's name; `secret` goes into the header `header` and is the application's to check; `headers` more of them.
    """

    def __init__(
        self, app: Any, path: str, engine: Engine, intake: Intake, client: Callable[[Any], Any], *,
        secret: str | None = None, header: str = "X-Job-Secret", headers: Mapping[str, str] | None = None,
        answer_within: Duration | None = None, final: Iterable[int] | None = None,
    ) -> None:  # fmt: skip
        if not isinstance(path, str) or not path.startswith("/"):
            raise InputError(f"path is {path!r}; give a path such as '/jobs/{{job}}'")
        self._engine = engine
        self._intake = intake
        self._path = path
        self._headers = {**(headers or {}), **({} if secret is None else {header: secret})}
        self._timeout = None if answer_within is None else to_ns(answer_within, what="answer_within") / NS
        self._final = None if final is None else frozenset(final)
        self._client = client(app)

    def job(self, name: str, *, retry: Retry | None = None, **policy: Any) -> JobType:
        """Return a job type that is delivered here; policy as in `Rig.job`."""
        if not isinstance(name, str) or not name:
            raise InputError(f"name is {name!r}; give text")
        given = retry or Retry()
        rule = Retry(given.attempts, Honoured(given.wait), given.on, (*given.never_on, DeliveryRejected), given.drop_on)
        rule.within = given.within

        def deliver(*args: Any, **kwargs: Any) -> Any:
            return self._deliver(name, args, kwargs)

        deliver.__name__ = name
        return self._intake.register(deliver, name, Policy(retry=rule).but(**policy))

    def _deliver(self, name: str, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        import httpx

        task: Any = self._engine.current
        message = {"job": name, "args": list(args), "kwargs": kwargs, "attempt": task.number, "id": task.job.id}
        path = self._path.replace("{job}", name)
        try:
            response = self._client.post(path, json=message, headers=self._headers, timeout=self._timeout)
        except httpx.TimeoutException as error:
            raise DeliveryTimeout(str(error)) from error
        if response.is_success:
            return _body(response)
        words = f"{path} answered {response.status_code} {response.reason_phrase} to {task.job.id}"
        after = self._after(response.headers.get("retry-after"))
        if self._is_final(response.status_code):
            raise DeliveryRejected(words, response.status_code)
        raise DeliveryFailed(words, response.status_code, after)

    def _is_final(self, status: int) -> bool:
        if self._final is not None:
            return status in self._final
        return 400 <= status < 500 and status not in AGAIN

    def _after(self, value: str | None) -> int:
        """Return what a ``Retry-After`` asks for in nanoseconds: seconds, or an HTTP date; 0 for what is neither."""
        if value is None:
            return 0
        if value.strip().isdigit():
            return int(value) * NS
        try:
            moment = email.utils.parsedate_to_datetime(value)
        except (TypeError, ValueError):
            return 0
        if moment.tzinfo is None:
            moment = moment.replace(tzinfo=dt.timezone.utc)
        return max(0, instant_ns(moment) - self._engine.now)


def _body(response: Any) -> Any:
    if not response.content:
        return None
    try:
        return response.json()
    except ValueError:
        return response.text
