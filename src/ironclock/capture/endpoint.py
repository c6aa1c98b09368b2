"""Endpoints: jobs that are pushed to the application as HTTP requests."""

from __future__ import annotations

import datetime as dt
import email.utils
import json
import random
from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias, TypedDict, Unpack

from ..errors import DeliveryFailed, DeliveryRejected, DeliveryTimeout, InputError, must_be_keywords
from ..foundation.durations import NS, Duration, to_ns
from ..foundation.instants import instant_ns
from ..simulation.policy import JobType, Policy, PolicyKeywords
from ..simulation.retry import Retry, Wait

if TYPE_CHECKING:
    import httpx

    from ..simulation.event_loop import EventLoop
    from .job_registry import JobRegistry
    from .web import Application

AGAIN = frozenset({408, 425, 429})
"""The statuses from 400 to 499 after which a retry can help: Request Timeout, Too Early, Too Many Requests."""


Part: TypeAlias = "Mapping[str, str] | Callable[[Delivery], Mapping[str, str]] | None"
"""Headers or a query: the same for all, or made from the delivery."""


class AtLeastRetryAfter(Wait):
    """Another wait, or what the endpoint's ``Retry-After`` asks for if that is longer."""

    by_chance = True  # it depends on the answer, so that no table can hold it

    def __init__(self, inner: Wait) -> None:
        self._inner = inner

    def after(self, attempt: int, error: BaseException, previous: int, chance: random.Random) -> int:
        return max(self._inner.after(attempt, error, previous, chance), getattr(error, "retry_after_ns", 0))

    def describe(self) -> str:
        return f"{self._inner.describe()}, or as long as Retry-After says"


class Delivery(NamedTuple):
    """What is delivered to an endpoint."""

    job: str
    """The name of the job."""
    args: tuple[Any, ...]
    """Its positional arguments."""
    kwargs: dict[str, Any]
    """Its keyword arguments."""
    attempt: int
    """The number of the attempt, from 1."""
    id: str
    """A name for this job alone: the same in every attempt."""
    due_at: dt.datetime
    """When it was due, in the rig's time zone."""


class EndpointKeywords(TypedDict, total=False):
    """The keywords of `Endpoint`."""

    secret: str | None
    header: str
    headers: Part
    answer_within: Duration | None
    final: Iterable[int] | None
    method: str
    query: Part
    body: Callable[[Delivery], object] | None
    sign: Callable[[bytes], Mapping[str, str]] | None
    result: Callable[[httpx.Response], object] | None


class Endpoint:
    """An endpoint of the application to which jobs are pushed. `Rig.endpoint` gives it.

    A delivery has the shape that the endpoint expects. By default it is a POST with JSON: ``{"job": name, "args":
    [...], "kwargs": {...}, "attempt": n, "id": id}``. Any 2xx is done, and the body is the result (parsed if it is
    JSON). A final status is a dead letter at once. Everything else is a failure, and the retry of the job type waits at
    least as long as ``Retry-After`` asks (RFC 9110, 10.2.3).

    Parameters:

    - `app`: a WSGI or ASGI application, which runs in this process.
    - `path`: the path of the endpoint. ``{job}`` in it is replaced by the name of the job.
    - `method`: the method of HTTP. Default ``"POST"``.
    - `body`: a function of the `Delivery` that returns the body: text, bytes, or a value that becomes JSON. None as its
      result means no body. Default None: the JSON above.
    - `query`: what stands after the question mark: a mapping, or a function of the `Delivery`. Default: nothing.
    - `headers`: more headers: a mapping, or a function of the `Delivery`. Default: none.
    - `secret`: a text that the application checks. Default None. `header`: the header for it. Default
      ``"X-Job-Secret"``. A secret in the query or the body stands in `query` or `body`.
    - `sign`: a function of the body's bytes that returns headers with its signature. Default None.
    - `result`: a function of the response (`httpx.Response`) that returns the result of the job. Default: its body.
    - `answer_within`: how long an answer can take. Default None: for ever.
    - `final`: the final statuses. Default: 400 to 499, but not 408, 425 and 429.

    Raises `InputError`.

    Example::

        manifest = rig.endpoint(app, "/jobs/{job}", answer_within="10s").job("send_manifest")
        rig.enqueue(manifest.call("TL-204"))

    An existing endpoint is called unchanged::

        nightly = rig.endpoint(
            app, "/cron", method="GET", body=lambda delivery: None, headers={"Authorization": "Bearer s3"},
            query=lambda delivery: {"task": delivery.args[0]},
        ).job("nightly")
    """

    def __init__(
        self, app: Application, path: str, loop: EventLoop, registry: JobRegistry,
        client: Callable[[Application], httpx.Client], **options: Unpack[EndpointKeywords],
    ) -> None:  # fmt: skip
        must_be_keywords(options, EndpointKeywords)
        method, body, sign = options.get("method", "POST"), options.get("body"), options.get("sign")
        headers, query, result = options.get("headers"), options.get("query"), options.get("result")
        secret, within, final = options.get("secret"), options.get("answer_within"), options.get("final")
        if not isinstance(path, str) or not path.startswith("/"):
            raise InputError(f"path is {path!r}; give a path that begins with '/', such as '/jobs/{{job}}'")
        if not isinstance(method, str) or not method.isalpha():
            raise InputError(f"method is {method!r}; give a method of HTTP, such as 'POST'")
        for name, function in (("body", body), ("sign", sign), ("result", result)):
            if function is not None and not callable(function):
                raise InputError(f"{name} is {function!r}; give a function")
        for name, part in (("headers", headers), ("query", query)):
            if part is not None and not callable(part) and not isinstance(part, Mapping):
                raise InputError(f"{name} is {part!r}; give a mapping, or a function of the delivery")
        self._method = method.upper()
        self._query = query
        self._body = body
        self._sign = sign
        self._result = result
        self._loop = loop
        self._registry = registry
        self._path = path
        self._headers = headers
        self._secret = {} if secret is None else {options.get("header", "X-Job-Secret"): secret}
        self._timeout = None if within is None else to_ns(within, what="answer_within") / NS
        self._final = None if final is None else frozenset(final)
        self._client = client(app)

    def job(self, name: str, **policy: Unpack[PolicyKeywords]) -> JobType[..., Any]:
        """Return a job type whose jobs are pushed to this endpoint.

        Parameters: `name` is its name; `policy` is as in `Rig.job`, and so are the errors.
        """
        if not isinstance(name, str) or not name:
            raise InputError(f"name is {name!r}; give text that is not empty")
        asked = Policy().changed(**policy)
        given = asked.retry
        assert isinstance(given, Retry)  # the policy has made one of a number
        rule = Retry(
            given.attempts, AtLeastRetryAfter(given.wait), given.on, (*given.never_on, DeliveryRejected), given.drop_on
        )
        rule.within = given.within

        def deliver(*args: Any, **kwargs: Any) -> Any:
            return self._deliver(name, args, kwargs)

        deliver.__name__ = name
        return self._registry.register(deliver, name, asked.changed(retry=rule))

    def _deliver(self, name: str, args: tuple[Any, ...], kwargs: dict[str, Any]) -> Any:
        import httpx

        task: Any = self._loop.current
        job = task.job
        delivery = Delivery(name, args, kwargs, task.number, job.id, self._loop.timeline.at(job.due_ns))
        path = self._path.replace("{job}", name)
        content, kind = self._content(delivery)
        headers = {**kind, **_part(self._headers, delivery), **self._secret}
        if self._sign is not None:
            headers.update(self._sign(content))
        try:
            response = self._client.request(
                self._method, path, params=_part(self._query, delivery) or None, content=content or None,
                headers=headers, timeout=self._timeout,
            )  # fmt: skip
        except httpx.TimeoutException as error:
            raise DeliveryTimeout(str(error)) from error
        if response.is_success:
            return _body(response) if self._result is None else self._result(response)
        words = f"{path} answered {response.status_code} {response.reason_phrase} to {task.job.id}"
        after = self._after(response.headers.get("retry-after"))
        if self._is_final(response.status_code):
            raise DeliveryRejected(words, response.status_code)
        raise DeliveryFailed(words, response.status_code, after)

    def _content(self, delivery: Delivery) -> tuple[bytes, dict[str, str]]:
        """Return the bytes of the body of a delivery, and the header that says what they are."""
        if self._body is None:
            made: Any = {
                "job": delivery.job, "args": list(delivery.args), "kwargs": delivery.kwargs,
                "attempt": delivery.attempt, "id": delivery.id,
            }  # fmt: skip
        else:
            made = self._body(delivery)
        if made is None:
            return b"", {}
        if isinstance(made, (bytes, bytearray)):
            return bytes(made), {"Content-Type": "application/octet-stream"}
        if isinstance(made, str):
            return made.encode(), {"Content-Type": "text/plain; charset=utf-8"}
        try:
            return json.dumps(made).encode(), {"Content-Type": "application/json"}
        except (TypeError, ValueError) as error:
            raise InputError(f"the body of {delivery.id} is {made!r}, which is not JSON: {error}") from None

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


def _part(part: Part, delivery: Delivery) -> dict[str, str]:
    """Return headers or a query as a delivery has them."""
    found = part(delivery) if callable(part) else part
    return {str(name): str(value) for name, value in (found or {}).items()}


def _body(response: Any) -> Any:
    if not response.content:
        return None
    try:
        return response.json()
    except ValueError:
        return response.text
