"""The tests with simulated time: what a passenger gets, and when. Nobody here thinks of failures."""

from __future__ import annotations

import httpx
import pytest

import ironclock as ic
from services.booking_office import office
from services.booking_office.office import Booking, Crossing, Job, Office, Worker

pytest_plugins = ["services.booking_office.tables"]


@pytest.fixture
def outside(rig: ic.Rig, office_database: str) -> ic.services.HttpService:
    """Two workers, the reaper and the reminder, and what they reach outside."""
    rig.database(office_database)
    service = rig.service(ic.services.HttpService("outside"))
    client = httpx.Client(transport=service.transport(), base_url="http://outside.tern.test", timeout=10)
    for number in (1, 2):
        rig.run_loop(work, f"worker-{number}", client, name=f"worker-{number}")
    rig.run_loop(office.reap)
    rig.run_loop(office.remind)
    return service


def work(name: str, client: httpx.Client) -> None:
    Worker(name, Office(client)).run()


def test_each_booking_is_paid_and_told(rig: ic.Rig, outside: ic.services.HttpService) -> None:
    for passenger in ("ada", "bo"):
        office.book("TL-204", passenger)
    rig.advance("15s")
    assert [booking.state for booking in Booking.objects.all()] == ["told", "told"]
    assert not Job.objects.exclude(state="done").exists()


def test_the_seats_that_are_sold_are_counted(rig: ic.Rig, outside: ic.services.HttpService) -> None:
    for passenger in ("ada", "bo", "cleo"):
        office.book("TL-204", passenger)
    rig.advance("10s")
    assert Crossing.objects.get().sold == 3
