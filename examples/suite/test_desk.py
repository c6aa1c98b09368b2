"""The tests of the booking desk, as a team would have them before it searches."""

from __future__ import annotations

import pytest

import ironclock as ic

from .desk import Desk


@pytest.fixture
def desk(rig: ic.Rig) -> Desk:
    return Desk(
        rig.service(ic.services.Ledger("bank", idempotent=True)),
        rig.service(ic.services.Mail()),
        rig.service(ic.services.HttpService("harbour")),
    )


def test_a_fare_is_charged(rig: ic.Rig, desk: Desk) -> None:
    charge = rig.job(desk.charge_fare, retry=ic.Retry(attempts=4, wait=ic.exponential("30s")))
    rig.enqueue(charge.call("TL-204/1", seats=2))
    rig.run_dry()
    assert [posting.amount for posting in desk.bank.postings] == [360]


def test_the_bank_is_away_for_a_minute(rig: ic.Rig, desk: Desk) -> None:
    desk.bank.fail(calls=(1, 2))
    charge = rig.job(desk.charge_fare, retry=ic.Retry(attempts=4, wait=ic.exponential("30s")))
    job = rig.enqueue(charge.call("TL-204/1"))
    rig.run_dry()
    assert job.waits == ["30s", "1m"]
    assert len(desk.bank.postings) == 1


@pytest.mark.parametrize("bookings", [1, 3])
def test_a_letter_follows_each_booking(rig: ic.Rig, desk: Desk, bookings: int) -> None:
    confirm = rig.job(desk.confirm, retry=ic.Retry(attempts=4, wait="1m"))
    for number in range(bookings):
        rig.enqueue(confirm.call(f"TL-204/{number}", to="ada@tern-line.test"))
    rig.run_dry()
    assert len(desk.mail.sent) == bookings


@pytest.mark.rig(start="2031-03-29T21:00", zone="Atlantic/Faroe")
def test_the_manifest_is_sent_each_night_also_at_the_clock_change(rig: ic.Rig, desk: Desk) -> None:
    submit = rig.job(desk.submit_manifest, retry=ic.Retry(attempts=5, wait="10m"))
    rig.schedule("manifest", submit.call("TL-204"), "30 1 * * *")
    desk.harbour.outage(("2031-03-30T02:30", "2031-03-30T02:45"))
    rig.advance("2d")
    assert [len(job.attempts) for job in rig.jobs("submit_manifest")] == [3, 1]
    assert len(desk.harbour.received) == 2
