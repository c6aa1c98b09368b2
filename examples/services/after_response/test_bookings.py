"""What runs after the response of the booking service."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

import ironclock as ic
from services.after_response import bookings


@pytest.fixture(autouse=True)
def empty() -> Iterator[None]:
    yield
    bookings.letters.clear()
    bookings.visits.clear()
    bookings.seats["TL-204"] = 3


def test_the_response_comes_first_and_the_rest_takes_its_time(rig: ic.Rig) -> None:
    response = rig.web(bookings.app).post("/bookings/TL-204")
    assert (response.status_code, response.json()) == (202, {"state": "accepted"})
    assert (bookings.letters, bookings.seats["TL-204"]) == ([], 3)
    rig.advance("1s")
    assert bookings.letters == []
    rig.advance("1s")
    assert (bookings.letters, bookings.seats["TL-204"], bookings.visits) == (["TL-204/1"], 2, ["visit"])


def test_as_a_job_each_failure_can_be_placed(rig: ic.Rig) -> None:
    """The functions of one response run as one job, in order; one that fails stops those after it."""
    rig.collector("starlette.background:BackgroundTasks.add_task")
    rig.effect("letter", bookings.send_letter, key="booking")
    bookings.seats["TL-204"] = 0
    rig.web(bookings.app).post("/bookings/TL-204")
    rig.run_dry()
    assert [effect.key for effect in rig.effects("letter")] == ["TL-204/1"]
    job = rig.jobs(state="dead").one()
    assert "no seat is left on TL-204" in str(job.error)
