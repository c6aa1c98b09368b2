"""The endpoint of the cloud scheduler, called unchanged: over the clock change, twice, and with a wrong secret."""

from __future__ import annotations

import hmac
from collections.abc import Iterator
from typing import Any

import pytest

import ironclock as ic
from services.scheduler_endpoint import app as service


@pytest.fixture
def rig() -> Iterator[ic.Rig]:
    service.closed.clear()
    with ic.Rig(start="2031-03-28T12:00", zone="Atlantic/Faroe") as made:
        yield made


def close_till(rig: ic.Rig, secret: str = service.SECRET) -> Any:
    return rig.endpoint(
        service.app, "/tasks/close-till",
        body=lambda delivery: {"task": {"day": f"{delivery.due_at:%m-%d}"}},
        sign=lambda body: {"X-Task-Signature": hmac.new(secret.encode(), body, "sha256").hexdigest()},
        result=lambda response: response.json()["closed"],
    ).job("close-till", retry=ic.Retry(3, "5m"))  # fmt: skip


def test_it_is_called_every_night_also_at_the_clock_change(rig: ic.Rig) -> None:
    rig.schedule("nightly", close_till(rig), ic.cron("30 1 * * *"))
    rig.advance("3d")
    assert service.closed == ["03-29", "03-30", "03-31"]
    assert [job.result for job in rig.jobs("close-till")] == service.closed


def test_a_second_call_changes_nothing(rig: ic.Rig) -> None:
    kind = close_till(rig)
    rig.faults.deliver_twice("close-till")
    rig.enqueue(kind)
    rig.run_dry()
    assert service.closed == ["03-28"]


def test_a_wrong_secret_is_final(rig: ic.Rig) -> None:
    job = rig.enqueue(close_till(rig, "sweet water"))
    rig.run_dry()
    assert (job.state, len(job.attempts)) == ("dead", 1)
    assert "403" in str(job.error)
