"""Endpoints: jobs that are pushed to the application as HTTP requests."""

from __future__ import annotations

import datetime as dt
import email.utils
import random
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

from ..errors import DeliveryFailed, DeliveryRejected, DeliveryTimeout, InputError
from ..foundation.durations import NS, Duration, to_ns
from ..foundation.instants import instant_ns
from ..simulation.policy import JobType, Policy
from ..simulation.retry import Retry, Wait

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..simulation.event_loop import EventLoop
    from .job_registry import JobRegistry

AGAIN = frozenset({408, 425, 429})
"""The statuses from 400 to 499 after which a retry can help: Request Timeout, Too Early, Too Many Requests."""


class AtLeastRetryAfter(Wait):
    """Another wait, or what the endpoint's ``Retry-After`` asks for if that is longer."""

    by_chance = True  # it depends on the answer, so that no table can hold it

    def __init__(self, inner: Wait) -> None:
        self._inner = inner

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        return max(self._inner.after(attempt, error, previous, chance), getattr(error, "retry_after_ns", 0))

    def describe(self) -> str:
        return f"{self._inner.describe()}, or as long as Retry-After says"


class Endpoint:
    """An endpoint of the application to which jobs are pushed. `Rig.endpoint` gives it.

    A delivery is a POST with JSON: ``{"job": name, "args": [...], "kwargs": {...}, "attempt": n, "id": id}``. Any 2xx
    is done, and the body is the result (parsed if it is JSON). A final status is a dead letter at once. Everything else
    is a failure, and the retry of the job type waits at least as long as ``Retry-After`` asks (RFC 9110, 10.2.3).

    Parameters:

    - `app`: a WSGI or ASGI application, which runs in this process.
    - `path`: the path of the endpoint. ``{job}`` in it is replaced by the name of the job.
    - `secret`: a text that the application checks. Default None. `header`: the header for it. Default
      ``"X-Job-Secret"``.
    - `headers`: more headers. Default: none.
    - `answer_within`: how long an answer can take. Default None: for ever.
    - `final`: the final statuses. Default: 400 to 499, but not 408, 425 and 429.

    Raises `InputError`.

    Example::

        manifest = rig.endpoint(app, "/jobs/{job}", answer_within="10s").job("send_manifest")
        rig.enqueue(manifest.call("TL-204"))
    """

    def __init__(
        self, app: Any, path: str, loop: EventLoop, registry: JobRegistry, client: Callable[[Any], Any], *,
        secret: str | None = None, header: str = "X-Job-Secret", headers: Mapping[str, str] | None = None,
        answer_within: Duration | None = None, final: Iterable[int] | None = None,
    ) -> None:  # fmt: skip
        if not isinstance(path, str) or not path.startswith("/"):
            raise InputError(f"path is {path!r}; give a path that begins with '/', such as '/jobs/{{job}}'")
        self._loop = loop
        self._registry = registry
        self._path = path
        self._headers = {**(headers or {}), **({} if secret is None else {header: secret})}
        self._timeout = None if answer_within is None else to_ns(answer_within, what="answer_within") / NS
        self._final = None if final is None else frozenset(final)
        self._client = client(app)

    def job(self, name: str, *, retry: Retry | None = None, **policy: Any) -> JobType[..., Any]:
        """Return a job type whose jobs are pushed to this endpoint. Parameters and errors as in `Rig.job`."""
        if not isinstance(name, str) or not name:
            raise InputError(f"name is {name!r}; give text that is not empty")
        given = retry or Retry()
        rule = Retry(
            given.attempts, AtLeastRetryAfter(given.wait), given.on, (*given.never_on, DeliveryRejected), given.drop_on
        )
        rule.within = given.within

        def deliver(*args: Any, **kwargs: Any) -> Any:
            return self._deliver(name, args, kwargs)

        deliver.__name__ = name
        return self._registry.register(deliver, name, Policy(retry=rule).changed(**policy))

    def _deliver(self, name: str, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        import httpx

        task: Any = self._loop.current
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
        """Return the wait of a ``Retry-After`` in nanoseconds: seconds, or an HTTP date. 0 for anything else."""
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
        return max(0, instant_ns(moment) - self._loop.now)


def _body(response: Any) -> Any:
    if not response.content:
        return None
    try:
        return response.json()
    except ValueError:
        return response.text
