"""Queues and pools: shares, order, limits, rates, pauses, bounded resources; and what is wrong said in words."""

from __future__ import annotations

import itertools
import time
from typing import Any

import pytest

import ironclock as ic


def busy(seconds: float = 1.0) -> None:
    time.sleep(seconds)


def started(rig: ic.Rig, name: str | None = None) -> list[tuple[float, str]]:
    begin = rig.history[0].ns if len(rig.history) else 0
    return [((e.ns - begin) / 1e9, str(e.job)) for e in rig.history if e.what == "started" and name in (None, e.name)]


def test_weights_are_exact_over_a_long_run_and_starve_nobody() -> None:
    rig = ic.Rig()
    rig.workers(1, queues={"boarding": 7, "harbour": 2, "desk": 1})
    with rig:
        for queue in ("boarding", "harbour", "desk"):
            kind = rig.job(busy, name=f"on_{queue}", queue=queue)
            for _ in range(400):
                rig.enqueue(kind.call())
        rig.advance("199s")  # with the one that starts at its end, 200 starts
        served = [e.name for e in rig.history if e.what == "started"]
    assert len(served) == 200
    assert {n: served.count(n) for n in set(served)} == {"on_boarding": 140, "on_harbour": 40, "on_desk": 20}
    for ten in (
        itertools.batched(served, 10) if hasattr(itertools, "batched") else zip(*[iter(served)] * 10, strict=True)
    ):
        assert sorted(ten) == ["on_boarding"] * 7 + ["on_desk"] + ["on_harbour"] * 2


def test_a_queue_without_work_leaves_its_share_to_the_others() -> None:
    rig = ic.Rig()
    rig.workers(1, queues={"boarding": 3, "desk": 1})
    desk = rig.job(busy, name="on_desk", queue="desk")
    with rig:
        for _ in range(5):
            rig.enqueue(desk.call())
        rig.advance("10s")
    assert rig.jobs().states() == {"done": 5}


def test_strict_order_and_priorities_inside_a_queue() -> None:
    rig = ic.Rig()
    rig.workers(1, queues=["rescue", "desk"])
    order: list[str] = []

    def note(name: str) -> None:
        order.append(name)
        time.sleep(1)

    desk, rescue = rig.job(note, name="desk", queue="desk"), rig.job(note, name="rescue", queue="rescue")
    with rig:
        rig.enqueue(desk.call("first"))
        rig.settle()
        for name, priority in (("low", 5), ("high", -1), ("also high", -1)):
            rig.enqueue(desk.call(name), priority=priority)
        rig.enqueue(rescue.call("rescue"))
        rig.advance("10s")
    assert order == ["first", "rescue", "high", "also high", "low"]


def test_pools_of_their_own_do_not_wait_for_one_another() -> None:
    rig = ic.Rig()
    rig.workers(1, queues=["slow"])
    rig.workers(2, queues=["fast"])
    slow, fast = rig.job(busy, name="slow", queue="slow"), rig.job(busy, name="fast", queue="fast")
    with rig:
        for _ in range(2):
            rig.enqueue(slow.call(60))
        for _ in range(4):
            rig.enqueue(fast.call(1))
        rig.run_dry()
    ends = [(j.attempts[0].ended_at - j.enqueued_at).total_seconds() for j in rig.jobs()]  # type: ignore[operator]
    assert ends == [60, 120, 1, 1, 2, 2]


def test_limits_of_a_queue_and_of_a_key() -> None:
    rig = ic.Rig()
    rig.workers(4)
    kind = rig.job(lambda vessel: time.sleep(10), name="inspect", key="vessel")
    rig.queue("default").limit(running=3, per_key=1)
    with rig:
        for vessel in ("Fulmar", "Fulmar", "Dunlin", "Kittiwake", "Gannet"):
            rig.enqueue(kind.call(vessel))
        rig.settle()
        assert [j.args[0] for j in rig.jobs(state="running")] == ["Fulmar", "Dunlin", "Kittiwake"]
        rig.advance("10s")
        assert [j.args[0] for j in rig.jobs(state="running")] == ["Fulmar", "Gannet"]
        rig.run_dry()
    rig.check(ic.laws.no_overlap("inspect", per_key=True))


def test_a_rate_holds_in_every_span() -> None:
    rig = ic.Rig()
    rig.workers(10)
    kind = rig.job(lambda: None, name="offer")
    rig.queue("default").limit(rate=(3, "1m"))
    with rig:
        for _ in range(10):
            rig.enqueue(kind.call())
        rig.advance("30s")
        for _ in range(2):
            rig.enqueue(kind.call())
        rig.run_dry()
    starts = [at for at, _ in started(rig)]
    assert starts == [0, 0, 0, 60, 60, 60, 120, 120, 120, 180, 180, 180]


def test_pause_and_resume() -> None:
    rig = ic.Rig()
    kind = rig.job(busy)
    desk = rig.queue("default")
    with rig:
        rig.enqueue(kind.call(5))
        rig.settle()
        desk.pause()
        second = rig.enqueue(kind.call(1))
        rig.advance("1h")
        assert (second.state, desk.depth, desk.paused) == ("ready", 1, True)
        with pytest.raises(ic.JobsLeftOpen, match="queue 'default' is paused"):
            rig.run_dry("1h")
        desk.resume()
        rig.settle()
        assert second.state == "running"
        rig.run_dry()


def test_a_pool_of_connections_smaller_than_the_workers() -> None:
    rig = ic.Rig()
    rig.workers(5)
    database = rig.resource("database", 2, timeout="25s")

    def query(number: int) -> int:
        with database.take():
            time.sleep(10)
        return number

    kind = rig.job(query, retry=ic.Retry(2, "1m"))
    with rig:
        for number in range(5):
            rig.enqueue(kind.call(number))
        rig.advance("5s")
        assert (database.used, database.waiting) == (2, 3)
        rig.run_dry()
    assert [j.state for j in rig.jobs()] == ["done"] * 5
    assert [len(j.attempts) for j in rig.jobs()] == [1, 1, 1, 1, 1]
    assert [e.data["waited_ns"] / 1e9 for e in rig.history if e.what == "waited"] == [10, 10, 20]
    assert database.longest_ns == 20 * 10**9


def test_waiting_too_long_for_a_connection_names_its_holders() -> None:
    rig = ic.Rig()
    rig.workers(2)
    database = rig.resource("database", 1)

    def query(seconds: float) -> None:
        with database.take(timeout="3s"):
            time.sleep(seconds)

    kind = rig.job(query)
    with rig:
        rig.enqueue(kind.call(60))
        late = rig.enqueue(kind.call(1))
        rig.run_dry()
    assert late.state == "dead"
    assert isinstance(late.error, ic.ResourceTimeout)
    assert str(late.error) == "query-2 waited 3s for database; its 1 place is held by query-1"
    assert "attempt 1 gives up waiting for database after 3s" in late.story()


def test_a_dead_worker_gives_its_connection_back() -> None:
    rig = ic.Rig()
    rig.workers(2)
    database = rig.resource("database", 1)

    def query() -> None:
        with database.take():
            time.sleep(10)

    kind = rig.job(query)
    rig.faults.crash(query, at="sleep", attempts=1, when=lambda a: a.job.number == 1)
    with rig:
        for _ in range(2):
            rig.enqueue(kind.call())
        rig.run_dry()
    assert rig.jobs().states() == {"done": 2}
    assert database.used == 0


@pytest.mark.parametrize(
    ("ask", "error", "says"),
    [
        (lambda rig: rig.workers(2, queues={"desk": 0}), ic.PolicyError, "weight of queue 'desk' is 0"),
        (lambda rig: rig.workers(2, queues={"desk": 1.5}), ic.PolicyError, "weight of queue 'desk' is 1.5"),
        (lambda rig: rig.queue("harbor"), ic.PolicyError, "no worker serves the queue 'harbor'; did you mean 'harbour'"),
        (lambda rig: rig.queue("harbour").limit(running=0), ic.PolicyError, "running is 0"),
        (lambda rig: rig.queue("harbour").limit(rate=5), ic.PolicyError, "rate is 5; give a pair"),
        (lambda rig: rig.queue("harbour").limit(rate=(0, "1m")), ic.PolicyError, "rate allows 0 starts"),
        (lambda rig: rig.queue("harbour").limit(rate=(1, 0)), ic.PolicyError, "span of rate is 0"),
        (lambda rig: rig.job(busy, lease="0.1ns"), ic.PolicyError, "lease is '0.1ns', shorter than the clock's resolution"),
        (lambda rig: rig.job(busy, lease="1m", ack="early"), ic.PolicyError, "after an early acknowledgement a lease does nothing"),
        (lambda rig: rig.job(busy, ack="never"), ic.PolicyError, "ack is 'never'"),
        (lambda rig: rig.job(busy, deliveries=0), ic.PolicyError, "deliveries is 0"),
        (lambda rig: rig.job(busy, unique="drop"), ic.PolicyError, "unique is 'drop'"),
        (lambda rig: rig.job(busy, only_while="network"), ic.PolicyError, "only_while is 'network'; give a list"),
        (lambda rig: rig.job(busy, expires=0), ic.PolicyError, "expires is 0"),
        (lambda rig: rig.job(busy, scope=3), ic.PolicyError, "scope is 3"),
        (lambda rig: rig.enqueue(rig.job(busy, key="ship").call()), ic.PolicyError, "key is 'ship', and busy has no such parameter"),
        (lambda rig: rig.resource("database", 0), ic.PolicyError, "size of database is 0"),
        (lambda rig: rig.conditions.off("network"), ic.InputError, "no job type has only_while='network'"),
        (lambda rig: rig.progress(1), ic.RigStateError, "no job is running"),
        (lambda rig: rig.remember("pay", busy), ic.RigStateError, "no job is running"),
        (lambda rig: rig.emit("arrived"), ic.InputError, "no job listens to the event 'arrived'"),
        (lambda rig: rig.stop_workers(how="shoot"), ic.InputError, "how is 'shoot'"),
        (lambda rig: rig.faults.crash(at="lunch"), ic.InputError, "at is 'lunch'; give one of start"),
        (lambda rig: rig.faults.crash(at="ack", hard=True), ic.InputError, "at is 'ack'; a hard crash happens inside the code of the job"),
        (lambda rig: rig.faults.outage(("2031-03-03T10:00", "2031-03-03T09:00")), ic.InputError, "not after its start"),
        (lambda rig: ic.services.Mail().send("Ina", "x"), ic.RigStateError, r"mail.send is used outside a rig, at .*test_queues"),
        (lambda rig: rig.effect("charge", busy, key="fare"), ic.InputError, "key is 'fare', and .*busy has no such parameter"),
        (lambda rig: rig.service("mail"), ic.InputError, "the service is 'mail'; give ic.services"),
        (lambda rig: rig.check(3), ic.InputError, "the law is 3; give ic.laws.once_per_key"),
        (lambda rig: rig.effects("charge"), ic.SelectionError, "there is no effect 'charge'"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said(ask: Any, error: type[Exception], says: str) -> None:
    rig = ic.Rig()
    rig.workers(1, queues={"harbour": 2, "default": 1})
    with pytest.raises(error, match=says):
        ask(rig)


def test_limits_count_what_runs_and_has_started_before_they_were_set() -> None:
    rig, most = ic.Rig(), 0
    rig.workers(5)

    def board(sailing: str) -> None:
        nonlocal most
        most = max(most, sum(job.state == "running" and job.args == (sailing,) for job in rig.jobs()))
        time.sleep(60)

    kind = rig.job(board, key="sailing")
    with rig:
        rig.enqueue(kind.call("TL-204"))
        rig.advance("10s")
        rig.queue("default").limit(per_key=1)
        for _ in range(3):
            rig.enqueue(kind.call("TL-204"))
        rig.run_dry()
        assert most == 1
        rig.queue("default").limit()
        for _ in range(4):
            rig.enqueue(kind.call("TL-206"))
        rig.advance("1s")
        assert len(rig.jobs(state="running")) == 4
        rig.queue("default").limit(per_key=1)
        rig.enqueue(kind.call("TL-206"))
        rig.advance("30s")
        assert len(rig.jobs(state="running")) == 4
        rig.run_dry()


def test_a_rate_counts_the_starts_before_it_was_set_or_changed() -> None:
    rig = ic.Rig()
    rig.workers(9)
    kind = rig.job(lambda: time.sleep(1), name="call")
    with rig:
        for _ in range(3):
            rig.enqueue(kind.call())
        rig.advance("10s")
        rig.queue("default").limit(rate=(3, "5s"))
        rig.queue("default").limit(rate=(3, "1m"))
        later = rig.enqueue(kind.call())
        rig.advance("49s")
        assert later.state == "ready"
        rig.advance("5s")
        assert later.state == "done"


def test_jobs_without_a_key_are_free_of_the_limit_per_key() -> None:
    rig = ic.Rig()
    rig.workers(3)
    rig.queue("default").limit(per_key=1)
    kind = rig.job(lambda: time.sleep(5), name="call")
    with rig:
        for _ in range(3):
            rig.enqueue(kind.call())
        rig.advance("1s")
        assert len(rig.jobs(state="running")) == 3
