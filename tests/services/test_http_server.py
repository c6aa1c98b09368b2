"""A simulated HTTP service at a URL: clients of ordinary packages reach it as they are."""

from __future__ import annotations

import asyncio
import datetime as dt
import json
import urllib.error
import urllib.request
from typing import Any

import aiohttp
import httpx
import pytest
import requests
import urllib3

import ironclock as ic


def office(rig: ic.Rig, **more: Any) -> ic.services.HttpService:
    return rig.service(
        ic.services.HttpService("office", lambda method, path, body: {"path": path, "got": body}, **more)
    )


def test_any_client_reaches_it(rig: ic.Rig) -> None:
    service = office(rig)
    url = service.url
    assert url == service.url
    assert requests.post(f"{url}/a", json={"x": 1}, timeout=5).json() == {"path": "/a", "got": {"x": 1}}
    with urllib.request.urlopen(f"{url}/b%20c?q=1") as answer:
        assert json.load(answer) == {"path": "/b c", "got": None}
    chunks = iter([b"TL-", b"204"])
    assert urllib3.request("PUT", f"{url}/c", body=chunks).json()["got"] == "TL-204"
    with httpx.Client(base_url=url) as client:
        assert client.get("/d").json()["path"] == "/d"
        assert client.head("/d").content == b""

    async def ask() -> Any:
        async with aiohttp.ClientSession() as session, session.get(f"{url}/e") as answer:
            return await answer.json()

    assert asyncio.run(ask())["path"] == "/e"
    assert [effect.data["method"] for effect in rig.effects("office.request")] == [
        "POST", "GET", "PUT", "GET", "HEAD", "GET",
    ]  # fmt: skip


def test_a_request_is_that_of_the_job_that_has_sent_it_and_fails_as_placed(rig: ic.Rig) -> None:
    service = office(rig)
    service.lose_response(calls=1)
    service.answer(503, retry_after="30s", calls=2)
    service.slow("20s", calls=3)
    url = service.url

    def submit() -> None:
        with requests.Session() as session:
            session.put(f"{url}/m", json=[1], timeout=5).raise_for_status()

    kind = rig.job(submit, retry=ic.Retry(5, "1m"))
    rig.faults.fail("submit", at="before office.request", attempts=4)
    job = rig.enqueue(kind.call())
    rig.run_dry()
    kinds = [type(attempt.error).__name__ for attempt in job.attempts]
    assert kinds == ["ConnectionError", "HTTPError", "ReadTimeout", "ConnectionError", "NoneType"]
    assert (job.attempts[2].ended_at - job.attempts[2].started_at).total_seconds() == 5  # type: ignore[operator]
    effects = rig.effects("office.request")
    assert [str(effect.job and effect.job.id) for effect in effects] == ["submit-1"] * 5
    assert [effect.outcome for effect in effects] == ["done", "failed", "done", "failed", "done"]
    assert "after the end of its attempt" in job.story(), "the slow one was done all the same"


def test_two_jobs_share_a_session(rig: ic.Rig) -> None:
    service = office(rig)
    url, session = service.url, requests.Session()
    kind = rig.job(lambda number: session.post(f"{url}/{number}", timeout=5).status_code, name="post")
    for number in (1, 2, 3):
        rig.enqueue(kind.call(number))
    rig.run_dry()
    assert [effect.job.id for effect in rig.effects("office.request")] == ["post-1", "post-2", "post-3"]  # type: ignore[union-attr]
    session.close()


def test_a_worker_dies_after_its_request(rig: ic.Rig) -> None:
    service = office(rig)
    url = service.url
    kind = rig.job(lambda: requests.post(f"{url}/m", json=[1], timeout=5), name="submit")
    rig.faults.crash("submit", at="after office.request", attempts=1)
    job = rig.enqueue(kind.call())
    rig.run_dry()
    assert [attempt.outcome for attempt in job.attempts] == ["crashed", "done"]
    with pytest.raises(ic.BrokenLaw, match="is done 2 times"):
        rig.check(ic.laws.no_key_twice())


def test_it_is_down_and_up_again(rig: ic.Rig) -> None:
    service = office(rig)
    url = service.url
    service.outage((rig.now, rig.now + dt.timedelta(minutes=1)))
    with pytest.raises(requests.ConnectionError):
        requests.get(url, timeout=5)
    rig.advance("1m")
    assert requests.get(url, timeout=5).ok


def test_signatures_and_keys(rig: ic.Rig) -> None:
    secret = "tern"
    service = office(rig, check=lambda body, headers: "" if headers.get("x-desk") == secret else "who is that?")
    url = service.url
    refused = requests.post(url, data=b"a", timeout=5)
    assert (refused.status_code, refused.text) == (401, "who is that?")
    for _ in range(2):
        headers = {"X-Desk": secret, "Idempotency-Key": "B-7"}
        assert requests.post(f"{url}/r", json=[7], headers=headers, timeout=5).json()["got"] == [7]
    assert service.received == [[7]]


def test_where_it_cannot_be_started() -> None:
    rig = ic.Rig()
    service = office(rig)
    with pytest.raises(ic.RigStateError, match="ask for the address of a server inside"):
        assert service.url
    job = None
    with rig:
        job = rig.enqueue(rig.job(lambda: service.url, name="late").call())
        rig.run_dry()
        assert job.state == "dead"
        assert "office is started in a job; ask for its url in the test first" in str(job.error)
