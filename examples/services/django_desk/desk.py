"""A Django app: bookings that enqueue a letter after the commit, and a function that works the queue."""

from __future__ import annotations

import datetime as dt
import os
import time

import django
from django.conf import settings

if not settings.configured:
    settings.configure(
        DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": os.environ.get("DESK_DB", ":memory:")}},
        USE_TZ=True, INSTALLED_APPS=[], TIME_ZONE="Atlantic/Faroe",
    )  # fmt: skip
    django.setup()

from django.db import models, transaction
from django.utils import timezone


class Booking(models.Model):
    """A seat on a sailing."""

    sailing = models.CharField(max_length=10)

    class Meta:
        app_label = "desk"


class Task(models.Model):
    """A row of the queue."""

    class Status(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"

    task = models.CharField(max_length=20)
    payload = models.JSONField(default=dict)
    status = models.CharField(max_length=10, choices=Status.choices, default=Status.QUEUED)
    run_at = models.DateTimeField(default=timezone.now)

    class Meta:
        app_label = "desk"


sent: list[int] = []


@transaction.atomic
def book(sailing: str, fails: bool = False) -> Booking:
    """Take a booking. Its letter is enqueued when the booking is committed."""
    made = Booking.objects.create(sailing=sailing)
    transaction.on_commit(lambda: later("letter", booking=made.pk))
    if fails:
        raise ValueError("no berth left")
    return made


def later(task: str, wait: float = 0, **payload: int) -> None:
    """Add a task."""
    Task.objects.create(task=task, payload=payload, run_at=timezone.now() + dt.timedelta(seconds=wait))


def letter(booking: int) -> None:
    """Send the letter of a booking."""
    sent.append(Booking.objects.get(pk=booking).pk)


def work_off() -> int:
    """Do what is due; return how much that was. This is the body of a management command."""
    due = list(Task.objects.filter(status=Task.Status.QUEUED, run_at__lte=timezone.now()).order_by("run_at"))
    for task in due:
        Task.objects.filter(pk=task.pk).update(status=Task.Status.RUNNING)
        globals()[task.task](**task.payload)
        Task.objects.filter(pk=task.pk).update(status=Task.Status.DONE)
    return len(due)


def work() -> None:
    """Work the queue for ever."""
    while True:
        work_off()
        time.sleep(10)
