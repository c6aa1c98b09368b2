"""The decorated jobs: delays, two workers, and what a worker that dies loses."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

redis = pytest.importorskip("redis")

import ironclock as ic  # noqa: E402
from services.decorated_jobs import jobs  # noqa: E402


@pytest.fixture
def client(redis_url: str) -> Iterator[redis.Redis]:
    with redis.Redis.from_url(redis_url, socket_timeout=None) as made:
        made.flushall()
        yield made


@pytest.fixture
def desk(rig: ic.Rig, redis_url: str, client: redis.Redis) -> jobs.Jobs:
    rig.database(redis_url)
    rig.handler(jobs.run, id="id", job="name")
    return jobs.Jobs(client)


def test_a_delay_and_two_workers(rig: ic.Rig, desk: jobs.Jobs) -> None:
    done: list[int] = []

    @desk.job
    def book(number: int) -> None:
        done.append(number)

    for name in "ab":
        rig.run_loop(desk.work, name, name=f"worker-{name}")
    for number in range(4):
        book.later(number)  # type: ignore[attr-defined]
    book.later(9, after=20)  # type: ignore[attr-defined]
    rig.advance("19s")
    assert sorted(done) == [0, 1, 2, 3]
    rig.advance("5s")
    assert sorted(done) == [0, 1, 2, 3, 9]
    assert {job.state for job in rig.jobs("book")} == {"done"}


def test_what_a_dead_worker_had_is_left_in_its_list(rig: ic.Rig, desk: jobs.Jobs, client: redis.Redis) -> None:
    """Nobody takes it from there: the design loses a job with its worker, and the test shows it."""

    @desk.job
    def book(number: int) -> None:
        pass

    rig.run_loop(desk.work, "a", name="worker", restart="10s")
    rig.faults.crash("book", at="ack", attempts=1)
    book.later(7)  # type: ignore[attr-defined]
    rig.advance("30s")
    assert client.llen("jobs:doing:a") == 1
    assert rig.jobs("book").one().attempts[0].outcome == "crashed"
