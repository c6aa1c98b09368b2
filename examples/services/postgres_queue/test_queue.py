"""The PostgreSQL queue: backoff, dead workers, shutdown, and a week of it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

import psycopg
import pytest

import ironclock as ic
from services.postgres_queue import queue

COLUMNS = ic.Columns(
    name="kind", args=None, kwargs="payload", due="run_at", state="state", tries="attempts", worker="claimed_by",
    error="last_error", claimed="running", done="done", dead="dead",
)  # fmt: skip


@pytest.fixture
def desk(postgres_url: str) -> Iterator[psycopg.Connection]:
    with psycopg.connect(postgres_url, autocommit=True) as connection:
        connection.execute("drop table if exists jobs")
        connection.execute(queue.SCHEMA)
        yield connection


@pytest.fixture
def letters() -> Iterator[list[str]]:
    sent: list[str] = []

    @queue.handler
    def letter(to: str) -> None:
        time.sleep(2)
        sent.append(to)

    yield sent
    queue.HANDLERS.clear()


@pytest.fixture
def follows(rig: ic.Rig, postgres_url: str, desk: psycopg.Connection) -> ic.Rig:
    """The five lines of glue."""
    rig.database(postgres_url)
    rig.outbox(postgres_url, table="jobs", columns=COLUMNS, runs=False)
    rig.handler(queue.handle, id="row_id", job="kind")
    return rig


def test_a_letter_is_sent_in_its_time(follows: ic.Rig, desk: Any, postgres_url: str, letters: list[str]) -> None:
    follows.run_loop(queue.work, postgres_url, count=2, name="worker", skip_polls=True)
    queue.put(desk, "letter", wait=3_600, to="ada@tern-line.test")
    follows.advance("1h")
    assert letters == []
    follows.run_dry()
    job = follows.jobs("letter").one()
    assert (job.state, letters) == ("done", ["ada@tern-line.test"])
    assert job.attempts[0].started_at == job.due_at


def test_the_harbour_is_closed_for_a_while(follows: ic.Rig, desk: Any, postgres_url: str, letters: list[str]) -> None:
    follows.run_loop(queue.work, postgres_url, name="worker")
    follows.faults.fail("letter", attempts=(1, 2), error=ConnectionError("closed"))
    queue.put(desk, "letter", to="bo@tern-line.test")
    follows.run_dry()
    assert follows.jobs("letter").one().waits == ["20s", "40s"]
    assert letters == ["bo@tern-line.test"]


def test_a_worker_that_dies_sends_the_letter_twice(
    follows: ic.Rig, desk: Any, postgres_url: str, letters: list[str]
) -> None:
    """It dies after the letter and before its row is done. That is what a queue in a table cannot prevent."""
    follows.run_loop(queue.work, postgres_url, count=2, name="worker", restart="10s")
    follows.run_loop(queue.reap, postgres_url)
    follows.faults.crash("letter", at="ack", attempts=1)
    queue.put(desk, "letter", to="cy@tern-line.test")
    follows.run_dry()
    assert [attempt.outcome for attempt in follows.jobs("letter").one().attempts] == ["crashed", "done"]
    assert letters == ["cy@tern-line.test"] * 2


def test_sigterm_lets_the_running_job_end(follows: ic.Rig, desk: Any, postgres_url: str, letters: list[str]) -> None:
    workers = follows.run_loop(queue.work, postgres_url, name="worker")
    for name in ("one", "two"):
        queue.put(desk, "letter", to=name)
    follows.advance("1s")
    workers.stop("30s")
    follows.advance("1m")
    assert letters == ["one"]
    assert [job.state for job in follows.jobs()] == ["done", "ready"]


def test_a_quiet_week(follows: ic.Rig, desk: Any, postgres_url: str, letters: list[str]) -> None:
    follows.run_loop(queue.work, postgres_url, count=2, name="worker", skip_polls=True)
    follows.run_loop(queue.reap, postgres_url, skip_polls=True)
    days = (0, 3, 6)
    for day in days:
        queue.put(desk, "letter", wait=day * 86_400 + 3_600, to=f"day {day}")
    follows.advance("7d")
    assert letters == [f"day {day}" for day in days]
