"""The tests of the booking desk, after `pytest --ironclock-notice`: whatever is changed, one of them fails."""

from __future__ import annotations

import pytest

import ironclock as ic
from suite.desk import Desk


@pytest.fixture
def desk(rig: ic.Rig) -> Desk:
    return Desk(
        rig.service(ic.services.Ledger("bank", idempotent=True)),
        rig.service(ic.services.Mail()),
        rig.service(ic.services.HttpService("harbour")),
    )


@pytest.fixture
def charge(rig: ic.Rig, desk: Desk) -> ic.JobType[..., None]:
    return rig.job(desk.charge_fare, retry=ic.Retry(attempts=4, wait=ic.exponential("30s")))


@pytest.fixture
def confirm(rig: ic.Rig, desk: Desk) -> ic.JobType[..., None]:
    return rig.job(desk.confirm, retry=ic.Retry(attempts=4, wait="1m"))


def test_a_fare_is_charged(rig: ic.Rig, desk: Desk, charge: ic.JobType[..., None]) -> None:
    rig.enqueue(charge.call("TL-204/1", seats=2))
    rig.run_dry()
    assert [posting.amount for posting in desk.bank.postings] == [360]


def test_the_bank_is_away_for_a_minute(rig: ic.Rig, desk: Desk, charge: ic.JobType[..., None]) -> None:
    desk.bank.fail(calls=(1, 2))
    job = rig.enqueue(charge.call("TL-204/1"))
    rig.run_dry()
    assert (job.state, job.waits) == ("done", ["30s", "1m"])
    assert len(desk.bank.postings) == 1


def test_the_bank_is_away_all_evening(rig: ic.Rig, desk: Desk, charge: ic.JobType[..., None]) -> None:
    desk.bank.fail()
    job = rig.enqueue(charge.call("TL-204/1"))
    rig.run_dry()
    assert (job.state, job.waits) == ("dead", ["30s", "1m", "2m"])


def test_the_answer_of_the_bank_is_lost(rig: ic.Rig, desk: Desk, charge: ic.JobType[..., None]) -> None:
    desk.bank.lose_response(calls=1)
    job = rig.enqueue(charge.call("TL-204/1"))
    rig.run_dry()
    assert (job.state, len(job.attempts)) == ("done", 2)
    assert len(desk.bank.postings) == 1, "the bank knows the booking"


@pytest.mark.parametrize("bookings", [1, 3])
def test_a_letter_follows_each_booking(
    rig: ic.Rig, desk: Desk, confirm: ic.JobType[..., None], bookings: int
) -> None:  # fmt: skip
    for number in range(bookings):
        rig.enqueue(confirm.call(f"TL-204/{number}", to="ada@tern-line.test"))
    rig.run_dry()
    assert len(desk.mail.sent) == bookings


@pytest.mark.parametrize(("failures", "state", "letters"), [(3, "done", 1), (4, "dead", 0)])
def test_the_mail_server_is_away(
    rig: ic.Rig, desk: Desk, confirm: ic.JobType[..., None], failures: int, state: str, letters: int
) -> None:  # fmt: skip
    desk.mail.fail(calls=range(1, failures + 1))
    job = rig.enqueue(confirm.call("TL-204/1", to="ada@tern-line.test"))
    rig.run_dry()
    assert (job.state, job.waits, len(desk.mail.sent)) == (state, ["1m", "1m", "1m"], letters)


@pytest.mark.rig(start="2031-03-29T21:00", zone="Atlantic/Faroe")
def test_the_manifest_is_sent_each_night_also_at_the_clock_change(rig: ic.Rig, desk: Desk) -> None:
    submit = rig.job(desk.submit_manifest, retry=ic.Retry(attempts=5, wait="10m"))
    nightly = rig.schedule("manifest", submit.call("TL-204"), "30 1 * * *")
    desk.harbour.outage(("2031-03-30T02:30", "2031-03-30T02:45"))
    rig.advance("2d")
    assert [f"{run.enqueued_at:%d %H:%M}" for run in nightly.runs] == ["30 02:30", "31 01:30"]
    assert [run.waits for run in nightly.runs] == [["10m", "10m"], []]
    assert len(desk.harbour.received) == 2


def test_the_harbour_office_is_away_for_good(rig: ic.Rig, desk: Desk) -> None:
    submit = rig.job(desk.submit_manifest, retry=ic.Retry(attempts=5, wait="10m"))
    desk.harbour.fail()
    job = rig.enqueue(submit.call("TL-204"))
    rig.run_dry()
    assert (job.state, len(job.attempts)) == ("dead", 5)
