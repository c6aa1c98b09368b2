"""The tests that the service had before: its parts, by themselves, with a real server and no clock but the real one."""

from __future__ import annotations

import datetime as dt
import threading

import httpx
import pytest
from django.db import connection
from django.utils import timezone

from services.booking_office import office
from services.booking_office.office import Booking, Crossing, Job, Office, Permanent, Worker

pytest_plugins = ["services.booking_office.tables"]


class Outside:
    """The bank and the post office. They note what they are asked, and answer with `status`."""

    def __init__(self) -> None:
        self.asked: list[tuple[str, str, str | None]] = []
        self.status = 200

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.asked.append((request.method, request.url.path, request.headers.get("idempotency-key")))
        return httpx.Response(self.status)


@pytest.fixture
def outside() -> Outside:
    return Outside()


@pytest.fixture
def desk(outside: Outside) -> Office:
    return Office(httpx.Client(transport=httpx.MockTransport(outside), base_url="http://outside.tern.test"))


@pytest.fixture
def worker(desk: Office) -> Worker:
    return Worker("w1", desk)


def states() -> list[tuple[str, str]]:
    return [(job.kind, job.state) for job in Job.objects.order_by("pk")]


def test_a_booking_asks_for_its_charge() -> None:
    office.book("TL-204", "ada")
    assert states() == [("charge", "queued")]


def test_no_booking_without_a_crossing() -> None:
    with pytest.raises(Crossing.DoesNotExist):
        office.book("TL-999", "ada")
    assert not Job.objects.exists()


def test_a_charge_has_a_key(desk: Office, outside: Outside) -> None:
    office.book("TL-204", "ada")
    desk.charge("ada")
    assert outside.asked == [("POST", "/charges", "charge ada")]


def test_a_charge_counts_the_seat_and_asks_for_a_letter(desk: Office) -> None:
    office.book("TL-204", "ada")
    desk.charge("ada")
    assert Crossing.objects.get().sold == 1
    assert Booking.objects.get().state == "paid"
    assert states() == [("charge", "queued"), ("letter", "queued")]


def test_a_booking_is_charged_once(desk: Office, outside: Outside) -> None:
    office.book("TL-204", "ada")
    desk.charge("ada")
    desk.charge("ada")
    assert len(outside.asked) == Crossing.objects.get().sold == 1


def test_a_letter_is_noted(desk: Office) -> None:
    office.book("TL-204", "ada")
    desk.letter("ada")
    assert Booking.objects.get().state == "told"


@pytest.mark.parametrize(("status", "error"), [(503, httpx.HTTPStatusError), (404, Permanent)])
def test_answers_that_are_errors(desk: Office, outside: Outside, status: int, error: type[Exception]) -> None:
    outside.status = status
    with pytest.raises(error):
        desk.ask("PUT", "/letters/ada", {}, {})


def test_a_claim_is_the_worker_s(worker: Worker) -> None:
    office.later("letter", "ada")
    job = worker.claim()
    assert job is not None
    assert (job.state, job.worker, job.tries) == ("running", "w1", 1)
    assert worker.claim() is None


def test_what_is_not_due_is_not_claimed(worker: Worker) -> None:
    office.later("letter", "ada", wait_s=60)
    assert worker.claim() is None


def test_two_workers_claim_two_jobs(worker: Worker, desk: Office) -> None:
    office.later("letter", "ada")
    office.later("letter", "bo")
    claimed: list[str] = []

    def other() -> None:
        job = Worker("w2", desk).claim()
        claimed.append("" if job is None else job.about)
        connection.close()

    job = worker.claim()
    thread = threading.Thread(target=other)
    thread.start()
    thread.join()
    assert job is not None
    assert {job.about, *claimed} == {"ada", "bo"}


def test_a_job_that_is_done(worker: Worker) -> None:
    office.book("TL-204", "ada")
    assert worker.work_once()
    assert states() == [("charge", "done"), ("letter", "queued")]


def test_a_job_that_fails_is_tried_later(worker: Worker, outside: Outside) -> None:
    outside.status = 500
    office.later("letter", "ada")
    worker.work_once()
    job = Job.objects.get()
    assert (job.state, job.worker) == ("queued", "")
    assert 8 < (job.run_at - timezone.now()).total_seconds() <= 10


@pytest.mark.parametrize(("status", "tries"), [(404, 0), (500, office.MOST_TRIES - 1)])
def test_a_job_that_is_dead(worker: Worker, outside: Outside, status: int, tries: int) -> None:
    outside.status = status
    office.later("letter", "ada")
    Job.objects.update(tries=tries)
    worker.work_once()
    assert states() == [("letter", "dead")]


def test_a_job_that_somebody_else_has_by_now_is_not_touched(worker: Worker) -> None:
    office.later("letter", "ada")
    job = worker.claim()
    assert job is not None
    Job.objects.update(worker="w2")
    worker.do(job)
    assert Job.objects.get().state == "running"


def test_the_reaper_looks_for_old_beats(monkeypatch: pytest.MonkeyPatch) -> None:
    for worker, seconds in (("dead", 120), ("alive", 10)):
        job = office.later("letter", worker)
        beat = timezone.now() - dt.timedelta(seconds=seconds)
        Job.objects.filter(pk=job.pk).update(state="running", worker=worker, beat_at=beat)

    class Once(Exception):
        pass

    def leave(seconds: float) -> None:
        raise Once

    monkeypatch.setattr(office.time, "sleep", leave)
    with pytest.raises(Once):
        office.reap()
    assert sorted((job.about, job.state) for job in Job.objects.all()) == [("alive", "running"), ("dead", "queued")]
