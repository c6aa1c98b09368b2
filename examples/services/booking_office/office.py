"""Bookings of crossings: what is paid, which seats are sold, and the letters about it.

Jobs are rows. Workers claim them with SKIP LOCKED, a thread of each worker beats for the job that it does, and a reaper
puts back what dead workers had. Six mistakes can be planted, one at a time; without them the service keeps what it
promises.
"""

from __future__ import annotations

import datetime as dt
import logging
import os
import signal
import threading
import time
from collections.abc import Callable
from typing import Any

import django
import httpx
from django.conf import settings

if not settings.configured:
    settings.configure(
        DATABASES={
            "default": {
                "ENGINE": "django.db.backends.postgresql",
                "NAME": "postgres",
                "USER": "tern",
                "HOST": "127.0.0.1",
                "PORT": os.environ.get("OFFICE_PORT", "5432"),
            }
        },
        USE_TZ=True,
        TIME_ZONE="Atlantic/Faroe",
        INSTALLED_APPS=[],
        DEFAULT_AUTO_FIELD="django.db.models.BigAutoField",
    )
    django.setup()

from django.db import connection, models, transaction
from django.db.models import F, Q
from django.utils import timezone

PLANTED = set(os.environ.get("PLANTED", "").split())
MISTAKES = {
    "no-key": "the bank cannot tell a repeated charge from a second one",
    "paid-first": "a booking is marked as paid, and then its letter is put into the queue",
    "lost-update": "the sold seats are read, counted up and written back",
    "no-first-beat": "a claim does not count as a beat, and the reaper looks for old beats",
    "hard-errors": "an answer 503 is taken for a refusal, and an office that is down for nobody at home",
    "done-before": "a job is marked as done before its work",
}
LEASE = dt.timedelta(seconds=60)
BEAT_S = 15
MOST_TRIES = 5

log = logging.getLogger(__name__)


class Crossing(models.Model):
    """One sailing of a ship."""

    code = models.CharField(max_length=10, unique=True)
    seats = models.IntegerField(default=100)
    sold = models.IntegerField(default=0)

    class Meta:
        app_label = "office"


class Booking(models.Model):
    """A seat on a crossing for somebody."""

    class State(models.TextChoices):
        NEW = "new"
        PAID = "paid"
        TOLD = "told"

    crossing = models.ForeignKey(Crossing, on_delete=models.CASCADE)
    passenger = models.CharField(max_length=40)
    state = models.CharField(max_length=10, choices=State.choices, default=State.NEW)

    class Meta:
        app_label = "office"


class Job(models.Model):
    """A row of the queue."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        DEAD = "dead"

    kind = models.CharField(max_length=20)
    about = models.CharField(max_length=40)
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED)
    run_at = models.DateTimeField(default=timezone.now)
    tries = models.IntegerField(default=0)
    worker = models.CharField(max_length=40, default="", blank=True)
    beat_at = models.DateTimeField(null=True)
    error = models.TextField(default="", blank=True)

    class Meta:
        app_label = "office"


MODELS = (Crossing, Booking, Job)


class Permanent(Exception):
    """The job can never be done."""


def later(kind: str, about: str, wait_s: float = 0) -> Job:
    """Add a job, in the transaction that is open."""
    return Job.objects.create(kind=kind, about=about, run_at=timezone.now() + dt.timedelta(seconds=wait_s))


@transaction.atomic
def book(crossing: str, passenger: str) -> Booking:
    """Take a booking, and ask for its charge."""
    made = Booking.objects.create(crossing=Crossing.objects.get(code=crossing), passenger=passenger)
    later("charge", passenger)
    return made


class Office:
    """What the jobs do. Parameters: `outside` reaches the bank and the post office."""

    def __init__(self, outside: httpx.Client) -> None:
        self.outside = outside
        self.jobs: dict[str, Callable[[str], None]] = {"charge": self.charge, "letter": self.letter}

    def charge(self, passenger: str) -> None:
        """Charge a booking, count its seat, and ask for a letter."""
        booking = Booking.objects.get(passenger=passenger)
        if booking.state != Booking.State.NEW:
            return
        headers = {} if "no-key" in PLANTED else {"Idempotency-Key": f"charge {passenger}"}
        self.ask("POST", "/charges", {"passenger": passenger}, headers)
        if "paid-first" in PLANTED:
            self.count(booking)
            later("letter", passenger)
            return
        with transaction.atomic():
            self.count(booking)
            later("letter", passenger)

    def count(self, booking: Booking) -> None:
        """Mark a booking as paid, and count its seat."""
        crossing = Crossing.objects.filter(pk=booking.crossing_id)
        with transaction.atomic():
            if not Booking.objects.filter(pk=booking.pk, state=Booking.State.NEW).update(state=Booking.State.PAID):
                return  # another worker was faster
            if "lost-update" in PLANTED:
                row = crossing.get()
                row.sold += 1
                row.save()
            else:
                crossing.update(sold=F("sold") + 1)

    def letter(self, passenger: str) -> None:
        """Send the letter about a booking."""
        self.ask("PUT", f"/letters/{passenger}", {"subject": "Your seat"}, {})
        Booking.objects.filter(passenger=passenger).update(state=Booking.State.TOLD)

    def ask(self, method: str, path: str, body: dict[str, Any], headers: dict[str, str]) -> None:
        """Send a request outside. Raises `Permanent` if it is refused for good."""
        try:
            answer = self.outside.request(method, path, json=body, headers=headers)
        except httpx.TransportError:
            if "hard-errors" in PLANTED:
                log.warning("%s %s: nobody at home", method, path)
                return
            raise
        if 400 <= answer.status_code < 500:
            raise Permanent(f"{path} is refused: {answer.status_code}")
        answer.raise_for_status()


class Worker:
    """Claims jobs and does them. Parameters: `name` is its name in the rows that it has claimed."""

    def __init__(self, name: str, office: Office) -> None:
        self.name = name
        self.office = office
        self.stopping = threading.Event()
        self._job: Job | None = None

    def run(self) -> None:
        """Work until SIGTERM comes; the job that runs is finished."""
        signal.signal(signal.SIGTERM, lambda number, frame: self.stopping.set())
        threading.Thread(target=self.beat, name=f"{self.name} beats", daemon=True).start()
        try:
            while not self.stopping.is_set():
                if not self.work_once():
                    time.sleep(1)
        finally:
            self.stopping.set()
            connection.close()

    def work_once(self) -> bool:
        """Do one job that is due; return False if there is none."""
        job = self.claim()
        if job is None:
            return False
        self._job = job
        try:
            self.do(job)
        finally:
            self._job = None
        return True

    @transaction.atomic
    def claim(self) -> Job | None:
        """Claim the job that has been due longest."""
        due = Job.objects.filter(state=Job.State.QUEUED, run_at__lte=timezone.now()).order_by("run_at", "pk")
        job = due.select_for_update(skip_locked=True).first()
        if job is None:
            return None
        job.state, job.worker, job.tries = Job.State.RUNNING, self.name, job.tries + 1
        job.beat_at = None if "no-first-beat" in PLANTED else timezone.now()
        job.save()
        return job

    def do(self, job: Job) -> None:
        """Do a job, and note how it went, if it is still this worker's."""
        if "done-before" in PLANTED:
            self.mine(job).update(state=Job.State.DONE)
        try:
            self.office.jobs[job.kind](job.about)
        except Permanent as error:
            self.mine(job).update(state=Job.State.DEAD, error=str(error))
        except Exception as error:
            if job.tries >= MOST_TRIES:
                self.mine(job).update(state=Job.State.DEAD, error=str(error))
            else:
                due = timezone.now() + dt.timedelta(seconds=5 * 2**job.tries)
                self.mine(job).update(state=Job.State.QUEUED, error=str(error), run_at=due, worker="")
        else:
            self.mine(job).update(state=Job.State.DONE, error="")

    def mine(self, job: Job) -> Any:
        """Return the row of a job, if nobody else has it by now."""
        return Job.objects.filter(pk=job.pk, worker=self.name, tries=job.tries, state=Job.State.RUNNING)

    def beat(self) -> None:
        """Say every 15 seconds that the job which runs is alive."""
        while not self.stopping.wait(BEAT_S):
            job = self._job
            if job is None:
                continue
            try:
                self.mine(job).update(beat_at=timezone.now())
            except django.db.Error:
                log.exception("no beat")
                connection.close()
        connection.close()


def reap() -> None:
    """Put back the jobs of dead workers, for ever. This is the body of a management command."""
    while True:
        old = Q(beat_at__lt=timezone.now() - LEASE)
        Job.objects.filter(old, state=Job.State.RUNNING).update(state=Job.State.QUEUED, worker="")
        time.sleep(20)


def remind() -> None:
    """Once a minute, ask for the charge of bookings that nobody has asked for. A management command as well."""
    while True:
        new = Booking.objects.filter(state=Booking.State.NEW)
        asked = Job.objects.filter(kind="charge").values("about")
        for booking in new.exclude(passenger__in=asked):
            later("charge", booking.passenger)
        time.sleep(60)
