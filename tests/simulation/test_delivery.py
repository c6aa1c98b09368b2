"""At-least-once delivery: leases, acknowledgements, doubles, outages, and workers that die."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from typing import Any

import pytest

import ironclock as ic


class Till:
    """Counts what was charged, and how the code around it ended."""

    def __init__(self) -> None:
        self.charged: list[str] = []
        self.ended: list[str] = []

    def charge(self, booking: str) -> None:
        self.charged.append(booking)

    def charge_fare(self, booking: str, seconds: float = 10) -> str:
        try:
            self.charge(booking)
            time.sleep(seconds)
            return "receipt"
        except BaseException as error:
            self.ended.append(f"except {type(error).__name__}")
            raise
        finally:
            self.ended.append("finally")


def outcomes(job: ic.Job) -> list[str]:
    return [a.outcome for a in job.attempts]


def test_a_lease_shorter_than_the_job_gives_a_second_delivery_while_the_first_still_runs() -> None:
    rig, till = ic.Rig(), Till()
    rig.workers(2)
    rig.effect("charge", till.charge, key="booking")
    kind = rig.job(till.charge_fare, lease="30s")
    with rig:
        job = rig.enqueue(kind.call("B-7", 40))
        rig.advance("35s")
        assert [a.outcome for a in job.attempts] == ["running", "running"]
        rig.run_dry()
        rig.advance("1m")
    assert (job.state, outcomes(job), till.charged) == ("done", ["done", "done"], ["B-7", "B-7"])
    assert "the queue does not hear of it" in job.story(), "the first to be done has done it"
    with pytest.raises(ic.laws.BrokenLaw) as caught:
        rig.check(ic.laws.once_per_key("charge"), ic.laws.no_overlap())
    message = str(caught.value)
    assert "charge of 'B-7' is done" in message
    assert "the lease of attempt 1 has ended" in message, "the excerpt shows why"
    assert "attempt 2 of charge_fare-1 starts while attempt 1 of charge_fare-1 runs" in message


def test_a_lease_longer_than_the_job_is_no_second_delivery() -> None:
    rig, till = ic.Rig(), Till()
    rig.workers(2)
    rig.effect("charge", till.charge, key="booking")
    with rig:
        job = rig.enqueue(rig.job(till.charge_fare, lease="30s").call("B-7", 30))
        rig.run_dry()
        rig.advance("1h")
    assert (job.state, outcomes(job), till.charged) == ("done", ["done"], ["B-7"])
    rig.check(ic.laws.once_per_key("charge", due=["B-7"]), ic.laws.no_overlap(), ic.laws.nothing_lost())


@pytest.mark.parametrize(
    ("at", "charged", "tries"),
    [("start", 1, 2), ("before charge", 1, 2), ("after charge", 2, 2), ("sleep", 2, 2), ("ack", 2, 2)],
)
def test_a_crash_at_any_seam_runs_no_except_and_no_finally(at: str, charged: int, tries: int) -> None:
    rig, till = ic.Rig(), Till()
    rig.effect("charge", till.charge, key="booking")
    kind = rig.job(till.charge_fare)
    rig.faults.crash("charge_fare", at=at, attempts=1)
    with rig:
        job = rig.enqueue(kind.call("B-7"))
        rig.run_dry()
    assert (job.state, outcomes(job)) == ("done", ["crashed", "done"])
    assert len(till.charged) == charged
    assert till.ended == (["finally"] * (2 if at == "ack" else 1)), "only what reached its end ran its handlers"
    assert isinstance(job.attempts[0].error, ic.WorkerDied)
    assert f"its worker dies at the seam {at!r}" in job.story()


def test_generators_and_context_managers_of_a_dead_worker_do_not_close() -> None:
    closed: list[str] = []

    class Lock:
        def __enter__(self) -> None:
            closed.append("locked")

        def __exit__(self, *_: Any) -> None:
            closed.append("unlocked")

    @contextlib.contextmanager
    def session() -> Iterator[None]:
        try:
            yield
        finally:
            closed.append("session closed")

    def rows() -> Iterator[int]:
        try:
            yield from range(3)
        finally:
            closed.append("cursor closed")

    def job() -> None:
        with Lock(), session():
            for _ in rows():
                time.sleep(1)

    rig = ic.Rig()
    kind = rig.job(job)
    rig.faults.crash("job", at="sleep", visits=2, attempts=1)
    with rig:
        rig.enqueue(kind.call())
        rig.advance("1500ms")
        assert closed == ["locked", "locked"], "the second attempt has begun, the first closed nothing"
        rig.run_dry()
    assert closed == ["locked", "locked", "cursor closed", "session closed", "unlocked"]


def test_with_a_lease_a_crash_is_noticed_when_that_ends() -> None:
    rig, till = ic.Rig(), Till()
    kind = rig.job(till.charge_fare, lease="5m")
    rig.faults.crash("charge_fare", at="sleep", attempts=1, down="1m")
    with rig:
        job = rig.enqueue(kind.call("B-7"))
        rig.run_dry()
    first, second = job.attempts
    assert (second.started_at - first.started_at).total_seconds() == 300


def test_acknowledged_early_a_crash_loses_the_job() -> None:
    rig, till = ic.Rig(), Till()
    kind = rig.job(till.charge_fare, ack="early")
    rig.faults.crash("charge_fare", at="sleep")
    with rig:
        job = rig.enqueue(kind.call("B-7"))
        rig.run_dry()
    assert (job.state, till.charged) == ("lost", ["B-7"])
    with pytest.raises(ic.laws.BrokenLaw, match="charge_fare-1 is lost"):
        rig.check(ic.laws.nothing_lost())


def test_a_worker_that_is_down_for_a_while() -> None:
    rig, till = ic.Rig(), Till()
    kind = rig.job(till.charge_fare)
    rig.faults.crash("charge_fare", at="sleep", attempts=1, down="1m")
    with rig:
        job = rig.enqueue(kind.call("B-7"))
        rig.run_dry()
    assert [(a.started_at - job.enqueued_at).total_seconds() for a in job.attempts] == [0, 60]


def test_poison_that_kills_every_worker_ends_as_a_dead_letter() -> None:
    rig, till = ic.Rig(), Till()
    kind = rig.job(till.charge_fare, deliveries=3)
    rig.faults.crash("charge_fare", at="sleep")
    with rig:
        job = rig.enqueue(kind.call("B-7"))
        rig.run_dry()
    assert (job.state, outcomes(job)) == ("dead", ["crashed"] * 3)
    assert "dead letter after 3 deliveries" in job.story()


def test_without_a_limit_it_is_a_loop_and_called_one() -> None:
    rig, till = ic.Rig(), Till()
    kind = rig.job(till.charge_fare)
    rig.faults.crash("charge_fare", at="start")
    with rig:
        rig.enqueue(kind.call("B-7"))
        with pytest.raises(
            ic.StuckError, match=r"charge_fare-1 is delivered over 500 times .* give the fault attempts="
        ):
            rig.run_dry()


def test_delivered_twice_a_lost_acknowledgement_and_late() -> None:
    rig, till = ic.Rig(), Till()
    rig.workers(2)
    rig.effect("charge", till.charge, key="booking")
    kind = rig.job(till.charge_fare)
    rig.faults.deliver_twice("charge_fare", when=lambda a: a.job.number == 1)
    rig.faults.lose_ack("charge_fare", attempts=1, when=lambda a: a.job.number == 2)
    rig.faults.delay("charge_fare", by="1h", when=lambda job: job.number == 3)
    with rig:
        jobs = [rig.enqueue(kind.call(b)) for b in ("twice", "unheard", "late", "fine")]
        rig.run_dry()
    assert [len(rig.effects("charge", key=b)) for b in ("twice", "unheard", "late", "fine")] == [2, 2, 1, 1]
    assert [j.state for j in jobs] == ["done"] * 4
    assert jobs[0].story().count("starts on") == 2
    assert "the acknowledgement of attempt 1 is lost" in jobs[1].story()
    assert jobs[2].attempts[0].started_at > jobs[3].attempts[0].started_at
    with pytest.raises(ic.laws.BrokenLaw, match="charge_fare-4 is done before charge_fare-3") as caught:
        rig.check(ic.laws.in_order("charge_fare"))
    assert "charge_fare-3: enqueued in 'default' with ('late')" in str(caught.value)


def test_an_outage_of_the_queue_server() -> None:
    rig, till = ic.Rig(start="2031-03-03T09:00"), Till()
    kind = rig.job(till.charge_fare)
    rig.faults.outage(("2031-03-03T09:00:05", "2031-03-03T09:10"))
    with rig:
        running = rig.enqueue(kind.call("acked in the outage"))
        waiting = rig.enqueue(kind.call("fetched after it"))
        rig.advance("1m")
        with pytest.raises(ic.EnqueueRefused, match=r"the queue server is down until 2031-03-03T09:10:00"):
            rig.enqueue(kind.call("refused"))
        assert waiting.state == "ready"
        rig.run_dry()
    assert len(rig.jobs()) == 2
    assert outcomes(running) == ["done", "done"], "nobody heard the first acknowledgement"
    assert [f"{a.started_at:%H:%M}" for a in waiting.attempts] == ["09:10"]


def test_a_fault_at_a_seam_can_fail_or_slow_an_attempt() -> None:
    rig, till = ic.Rig(), Till()
    rig.effect("charge", till.charge, key="booking")
    kind = rig.job(till.charge_fare, retry=ic.Retry(3, "1m"))
    rig.faults.fail("charge_fare", at="after charge", attempts=1, error=ConnectionError("the answer was lost"))
    rig.faults.slow("charge_fare", at="before charge", attempts=2, by="20s")
    with rig:
        job = rig.enqueue(kind.call("B-7"))
        rig.run_dry()
    assert (outcomes(job), till.charged) == (["failed", "done"], ["B-7", "B-7"])
    assert (job.attempts[1].ended_at - job.attempts[1].started_at).total_seconds() == 30  # type: ignore[operator]


def test_what_a_job_enqueued_before_it_died_stays() -> None:
    rig = ic.Rig()
    rig.effect("note", rig_note, key="text")
    follow = rig.job(rig_note, name="follow")

    def first() -> None:
        rig.enqueue(follow.call("on its way"))
        rig_note("never in the first attempt")

    kind = rig.job(first)
    rig.faults.crash("first", at="after enqueue", attempts=1)
    with rig:
        rig.enqueue(kind.call())
        rig.run_dry()
    assert len(rig.jobs("follow")) == 2
    assert len(rig.effects("note", key="never in the first attempt")) == 1


def rig_note(text: str) -> str:
    return text


def test_the_same_story_has_the_same_digest() -> None:
    def run() -> str:
        rig, till = ic.Rig(seed=4), Till()
        rig.workers(3)
        rig.effect("charge", till.charge, key="booking")
        kind = rig.job(till.charge_fare, lease="15s", retry=ic.Retry(4, ic.exponential("5s", jitter="full")))
        rig.faults.crash("charge_fare", at="after charge", chance=0.2)
        rig.faults.lose_ack("charge_fare", chance=0.2)
        with rig:
            for n in range(40):
                rig.enqueue(kind.call(f"B-{n}", n % 20), after=n)
            rig.run_dry()
        return rig.history.digest()

    assert run() == run()


def test_a_fault_at_an_effect_that_does_not_exist_is_no_silent_one() -> None:
    rig, till = ic.Rig(), Till()
    rig.effect("charge", till.charge)
    kind = rig.job(till.charge_fare)
    rig.faults.crash("charge_fare", at="after chrage")
    with rig:
        rig.enqueue(kind.call("B-7"))
        with pytest.raises(ic.InputError, match="there is no effect 'chrage'; did you mean 'charge'"):
            rig.settle()


def test_running_dry_waits_for_the_second_of_two_deliveries() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="work")
        rig.faults.deliver_twice("work", after="1m", attempts=1)
        job = rig.enqueue(kind.call())
        rig.run_dry()
    assert [attempt.outcome for attempt in job.attempts] == ["done", "done"]
    assert rig.now.minute == 1


@pytest.mark.parametrize("seed", [24, *range(100, 112)])
def test_a_job_is_closed_once_however_often_it_is_delivered(seed: int) -> None:
    """A worker dies, its message was delivered twice, and the second delivery is taken before the job is back."""
    rig = ic.Rig(start="2031-03-29T21:00", seed=seed)
    rig.workers(2, queues={"harbour": 2, "desk": 1})
    retry = ic.Retry(attempts=1 + seed % 3, wait=ic.exponential("5s"))
    options: dict[str, Any] = {"retry": retry, "timeout": "40s"}
    poll = rig.job(lambda n: n, name="poll_buoy", queue="harbour", takes="3s", lease="1m", **options)
    lights = rig.job(lambda n: n, name="deck_lights", queue="desk", takes={"mean": "4s"}, **options)
    rig.faults.fail(chance=0.6)
    rig.faults.deliver_twice(chance=0.6)
    rig.faults.crash(chance=0.2, at="start")
    for number in range(6):
        rig.enqueue((poll if (seed >> number) & 1 else lights).call(number), after=number % 3)
    rig.run_dry()
    for job in rig.jobs():
        closing = [
            entry for entry in rig.history.of(job.id)
            if (entry.what == "done" and entry.data.get("then") != "unheard") or entry.data.get("then") == "dead"
        ]  # fmt: skip
        assert len(closing) == 1, job.story()
        assert job.state == ("done" if closing[0].what == "done" else "dead"), job.story()
