"""Jobs pushed over HTTP to the application's own endpoint, and what runs after a response; WSGI and ASGI."""

from __future__ import annotations

import asyncio
import json
import time
from typing import Any

import pytest

import ironclock as ic

SECRET = "salt water"


class Harbour:
    """A WSGI and ASGI application with the same endpoint: what it answers is a list of statuses to work off."""

    def __init__(self, *answers: Any) -> None:
        self.answers = list(answers)
        self.got: list[Any] = []

    def handle(self, path: str, secret: str | None, body: bytes) -> tuple[int, list[tuple[str, str]], Any]:
        if secret != SECRET:
            return 403, [], {"error": "who are you?"}
        message = json.loads(body)
        self.got.append((path, message["args"], message["attempt"]))
        answer = self.answers.pop(0) if self.answers else 200
        if isinstance(answer, tuple):
            return answer[0], [("Retry-After", answer[1])], None
        if answer == "slow":
            time.sleep(60)
            answer = 200
        return answer, [], {"handed in": message["args"]}

    def wsgi(self, environ: Any, start_response: Any) -> list[bytes]:
        body = environ["wsgi.input"].read()
        status, headers, answer = self.handle(environ["PATH_INFO"], environ.get("HTTP_X_JOB_SECRET"), body)
        start_response(f"{status} Whatever", [("Content-Type", "application/json"), *headers])
        return [json.dumps(answer).encode()]

    async def asgi(self, scope: Any, receive: Any, send: Any) -> None:
        body = (await receive())["body"]
        secret = dict(scope["headers"]).get(b"x-job-secret", b"").decode()
        status, headers, answer = await asyncio.to_thread(self.handle, scope["path"], secret, body)
        pairs = [(k.lower().encode(), v.encode()) for k, v in [("content-type", "application/json"), *headers]]
        await send({"type": "http.response.start", "status": status, "headers": pairs})
        await send({"type": "http.response.body", "body": json.dumps(answer).encode()})


@pytest.fixture(params=["wsgi", "asgi"])
def kind(request: pytest.FixtureRequest) -> str:
    return str(request.param)


def deliver(rig: ic.Rig, harbour: Harbour, kind: str, secret: str = SECRET, **more: Any) -> ic.JobType:
    endpoint = rig.endpoint(getattr(harbour, kind), "/jobs/{job}", secret=secret, **more)
    return endpoint.job("submit_manifest", retry=ic.Retry(4, "10s"))


def test_two_hundred_is_done_with_the_body_as_the_result(kind: str) -> None:
    rig, harbour = ic.Rig(), Harbour()
    with rig:
        job = rig.enqueue(deliver(rig, harbour, kind).call("TL-204"))
        rig.run_dry()
    assert (job.state, job.result) == ("done", {"handed in": ["TL-204"]})
    assert harbour.got == [("/jobs/submit_manifest", ["TL-204"], 1)]
    assert "POST /jobs/submit_manifest is answered with 200" in rig.history.story()


def test_errors_are_tried_again_no_earlier_than_retry_after_asks(kind: str) -> None:
    rig = ic.Rig(start="2031-03-03T09:00")
    harbour = Harbour(500, (503, "90"), (429, "Mon, 03 Mar 2031 09:10:00 GMT"), 204)
    with rig:
        job = rig.enqueue(deliver(rig, harbour, kind).call("TL-204"))
        rig.run_dry()
    assert [f"{a.started_at:%H:%M:%S}" for a in job.attempts] == ["09:00:00", "09:00:10", "09:01:40", "09:10:00"]
    assert job.state == "done"
    assert "DeliveryFailed: /jobs/submit_manifest answered 503" in job.story()


@pytest.mark.parametrize(("answer", "secret"), [(404, SECRET), (410, SECRET), (200, "sweet water")])
def test_what_no_retry_will_change_is_a_dead_letter_at_once(kind: str, answer: int, secret: str) -> None:
    rig = ic.Rig()
    with rig:
        job = rig.enqueue(deliver(rig, Harbour(answer), kind, secret).call("TL-204"))
        rig.run_dry()
    assert (job.state, len(job.attempts)) == ("dead", 1)
    assert isinstance(job.error, ic.DeliveryRejected)
    assert f"answered {answer if secret == SECRET else 403}" in str(job.error)


def test_no_answer_in_time_is_a_failure(kind: str) -> None:
    rig = ic.Rig()
    harbour = Harbour("slow", "slow", 200)
    with rig:
        job = rig.enqueue(deliver(rig, harbour, kind, answer_within="5s").call("TL-204"))
        rig.run_dry()
        rig.advance("5m")
    assert [type(a.error).__name__ for a in job.attempts] == ["DeliveryTimeout", "DeliveryTimeout", "NoneType"]
    assert len(harbour.got) == 3, "the endpoint did it all the same"


def test_final_statuses_can_be_chosen(kind: str) -> None:
    rig = ic.Rig()
    with rig:
        job = rig.enqueue(deliver(rig, Harbour(404, 503), kind, final=[503]).call("TL-204"))
        rig.run_dry()
    assert [a.error.status for a in job.attempts] == [404, 503]  # type: ignore[union-attr]


def test_an_accepted_request_goes_on_after_its_response() -> None:
    rig, seen = ic.Rig(start="2031-03-03T09:00"), []

    async def app(scope: Any, receive: Any, send: Any) -> None:
        await receive()
        await send({"type": "http.response.start", "status": 202, "headers": []})
        await send({"type": "http.response.body", "body": b"accepted"})
        for step in ("count", "seal"):
            await asyncio.sleep(60)
            seen.append(f"{step} {rig.now:%H:%M}")
        raise ConnectionError("the office is closed")

    with rig:
        client = rig.web(app)
        response = client.post("/manifests", json={})
        assert (response.status_code, response.text, f"{rig.now:%H:%M}", seen) == (202, "accepted", "09:00", [])
        rig.advance("1h")
    assert seen == ["count 09:01", "seal 09:02"]
    story = rig.history.story()
    assert "POST /manifests is answered with 202" in story
    assert "what goes on after the response fails: ConnectionError('the office is closed')" in story
    client.close()


def test_a_wsgi_application_works_while_it_closes() -> None:
    rig, seen = ic.Rig(start="2031-03-03T09:00"), []

    class Body:
        def __iter__(self) -> Any:
            return iter([b"accepted"])

        def close(self) -> None:
            time.sleep(90)
            seen.append(f"{rig.now:%H:%M:%S}")

    def app(environ: Any, start_response: Any) -> Body:
        start_response("202 Accepted", [])
        return Body()

    with rig:
        assert rig.web(app).get("/").status_code == 202
        assert seen == []
        rig.advance("1h")
    assert seen == ["09:01:30"]
    assert "what went on after the response is over" in rig.history.story()


def test_an_application_that_raises_says_so() -> None:
    async def app(scope: Any, receive: Any, send: Any) -> None:
        raise LookupError("no such sailing")

    rig = ic.Rig()
    with rig, pytest.raises(LookupError, match="no such sailing"):
        rig.web(app).get("/")
    with pytest.raises(ic.InputError, match="the application is 3"):
        rig.web(3)
    with pytest.raises(ic.InputError, match="path is 'jobs'"):
        rig.endpoint(app, "jobs")


def test_an_error_of_the_application_is_raised_in_the_test_unless_the_response_is_wanted() -> None:
    def breaks(environ: object, start_response: object) -> list[bytes]:
        raise LookupError("no such sailing")

    async def answers_and_breaks(scope: Any, receive: Any, send: Any) -> None:
        await send({"type": "http.response.start", "status": 500, "headers": []})
        await send({"type": "http.response.body", "body": b"sorry"})
        raise LookupError("no such sailing")  # as frameworks do, for the server's log

    for app in (breaks, answers_and_breaks):
        with ic.Rig() as rig:
            with pytest.raises(LookupError, match="no such sailing"):
                rig.web(app).get("/sailings")
            assert rig.web(app, raise_errors=False).get("/sailings").status_code == 500


class Later:
    """An application's list of what it does after the response."""

    def add(self, function: Any, *args: Any) -> None:
        raise AssertionError("the real one was called")


@pytest.mark.parametrize("place", ["wsgi", "asgi", "a thread of an asgi application"])
def test_a_collector_follows_a_request_to_the_application(place: str) -> None:
    later = Later()
    sent: list[tuple[str, int]] = []
    other_thread = place.startswith("a thread")

    def tell(harbour: str) -> None:
        sent.append((harbour, int(time.time()) % 60))

    def wsgi(environ: Any, start: Any) -> list[bytes]:
        later.add(tell, environ["PATH_INFO"])
        time.sleep(2)
        start("200 OK", [])
        return [b"ok"]

    async def asgi(scope: Any, receive: Any, send: Any) -> None:
        if other_thread:
            await asyncio.to_thread(later.add, tell, scope["path"])
        else:
            later.add(tell, scope["path"])
        await asyncio.sleep(2)
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b"ok"})

    with ic.Rig() as rig:
        rig.collector(later.add)
        web = rig.web(wsgi if place == "wsgi" else asgi)
        assert web.get("/north").text == "ok"
        assert sent == []
        rig.settle()
        assert sent == [("/north", 2)]
        assert rig.jobs("tell").one().state == "done"


def test_a_fault_for_a_collected_job_is_no_loose_end() -> None:
    later = Later()

    def wsgi(environ: Any, start: Any) -> list[bytes]:
        later.add(tell)
        start("202 Accepted", [])
        return [b""]

    def tell() -> None:
        raise AssertionError("the fault strikes before")

    with ic.Rig() as rig:
        rig.collector(later.add)
        rig.faults.fail("tell", attempts=1)
        rig.web(wsgi).get("/")
        rig.run_dry()
        rig.dead.must_be("tell")
        assert rig.loose_ends() == []


# --- an endpoint in the application's own shape -----------------------------------------------------------


def test_an_endpoint_that_a_cloud_scheduler_calls_is_called_unchanged() -> None:
    import hashlib
    import hmac

    seen: list[tuple[Any, ...]] = []

    def app(environ: Any, start_response: Any) -> list[bytes]:
        size = int(environ.get("CONTENT_LENGTH") or 0)
        body = environ["wsgi.input"].read(size)
        signed = hmac.new(b"salt", body, hashlib.sha256).hexdigest()
        fine = environ.get("HTTP_X_SIGNATURE") == signed
        seen.append(
            (
                environ["REQUEST_METHOD"],
                environ["PATH_INFO"],
                environ["QUERY_STRING"],
                body,
                environ.get("HTTP_X_DUE"),
                fine,
            )
        )
        start_response(
            "200 OK" if fine else "401 Unauthorized", [("Content-Type", "application/json"), ("X-Run", "r-7")]
        )
        return [b'{"ok": true}']

    with ic.Rig(start="2031-03-29T21:00") as rig:
        endpoint = rig.endpoint(
            app, "/cron", method="put", query=lambda delivery: {"task": delivery.args[0], "n": delivery.attempt},
            headers=lambda delivery: {"X-Due": delivery.due_at.isoformat()}, body=lambda delivery: {"message": {"id": delivery.id}},
            sign=lambda body: {"X-Signature": hmac.new(b"salt", body, hashlib.sha256).hexdigest()},
            result=lambda response: response.headers["x-run"],
        )  # fmt: skip
        nightly = endpoint.job("nightly")
        job = rig.enqueue(nightly.call("close-till"), after="1h")
        bare = rig.enqueue(rig.endpoint(app, "/cron", method="GET", body=lambda delivery: None).job("bare").call())
        rig.run_dry()
    assert job.result == "r-7"
    assert seen[1] == (
        "PUT",
        "/cron",
        "task=close-till&n=1",
        b'{"message": {"id": "nightly-1"}}',
        "2031-03-29T22:00:00+00:00",
        True,
    )
    assert seen[0][:4] == ("GET", "/cron", "", b"")
    assert isinstance(bare.error, ic.DeliveryRejected)


@pytest.mark.parametrize(
    ("options", "says"),
    [
        ({"method": "PO ST"}, "method is 'PO ST'; give a method of HTTP"), ({"body": 5}, "body is 5; give a function"),
        ({"query": "a=b"}, "query is 'a=b'; give a mapping, or a function"), ({"sign": "key"}, "sign is 'key'; give a function"),
    ],
)  # fmt: skip
def test_an_endpoint_with_parts_that_cannot_be(options: Any, says: str) -> None:
    with ic.Rig() as rig, pytest.raises(ic.InputError, match=says):
        rig.endpoint(lambda environ, start: [b""], "/cron", **options)


def test_a_body_that_is_not_json_is_named() -> None:
    with ic.Rig() as rig:
        kind = rig.endpoint(lambda environ, start: [b""], "/cron", body=lambda delivery: {1, 2}).job("nightly")
        job = rig.enqueue(kind.call())
        rig.run_dry()
        assert "the body of nightly-1 is {1, 2}, which is not JSON" in str(job.error)
