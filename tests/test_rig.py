"""The rig as a test uses it: sleeping jobs, timeouts, dead letters, stories, and errors in words."""

from __future__ import annotations

import contextvars
import time
from datetime import datetime, timedelta, timezone
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic


def five_seconds() -> float:
    time.sleep(5)
    return time.time()


@pytest.mark.parametrize(("workers", "ends"), [(2, [5, 5]), (1, [5, 10])])
def test_jobs_that_sleep_let_others_go_on(workers: int, ends: list[int]) -> None:
    rig = ic.Rig()
    rig.workers(workers)
    kind = rig.job(five_seconds)
    with rig:
        start = time.time()
        first, second = rig.enqueue(kind.call()), rig.enqueue(kind.call())
        rig.advance("4s")
        assert (first.state, second.state) == ("running", "running" if workers == 2 else "ready")
        rig.run_dry()
    assert [first.result - start, second.result - start] == ends


def test_a_hundred_sleepers_interleave_in_the_order_of_their_instants() -> None:
    order: list[tuple[float, int]] = []

    def nap(number: int) -> None:
        for _ in range(3):
            time.sleep(1 + number % 7)
            order.append((time.time(), number))

    with ic.Rig() as rig:
        rig.workers(100)
        kind = rig.job(nap)
        for number in range(100):
            rig.enqueue(kind.call(number))
        rig.run_dry()
    assert len(order) == 300
    assert [at for at, _ in order] == sorted(at for at, _ in order)


def test_a_timeout_is_thrown_into_the_job_where_it_sleeps() -> None:
    seen: list[str] = []

    def stubborn() -> str:
        try:
            time.sleep(60)
        except ic.AttemptTimeout as error:
            seen.append(f"cleaned up at {datetime.now():%H:%M:%S}")
            if len(seen) == 1:
                raise
            return f"swallowed {error}"
        return "in time"

    with ic.Rig(start="2031-03-03T09:00") as rig:
        kind = rig.job(stubborn, timeout="30s", retry=ic.Retry(2, "10s"))
        job = rig.enqueue(kind.call())
        rig.run_dry()
    assert seen == ["cleaned up at 09:00:30", "cleaned up at 09:01:10"]
    assert [a.outcome for a in job.attempts] == ["timed-out", "timed-out"], "swallowing does not help"
    assert job.state == "dead"
    assert isinstance(job.error, TimeoutError)


def test_what_a_job_enqueues_runs_too() -> None:
    with ic.Rig() as rig:
        last = rig.job(lambda n: n, name="last")

        def first(n: int) -> None:
            rig.enqueue(last.call(n + 1), after="1m")

        rig.enqueue(rig.job(first).call(1))
        rig.advance("59s")
        assert rig.jobs("last").one().state == "held"
        rig.advance("1s")
        assert rig.jobs("last").one().result == 2


def test_the_design_page_example() -> None:
    class ManifestRefused(Exception):
        pass

    def submit_manifest(sailing: str) -> str:
        return sailing

    rig = ic.Rig(start="2031-03-29T21:00", zone="Atlantic/Faroe", seed=11)
    manifest = rig.job(
        submit_manifest, queue="harbour", timeout="30s",
        retry=ic.Retry(attempts=5, wait=ic.exponential("10s", factor=2, cap="10m", jitter=0.1), never_on=(ManifestRefused,)),
    )  # fmt: skip
    rig.workers(2, queues={"harbour": 3, "default": 1})
    rig.faults.fail("submit_manifest", attempts=(1, 2), error=ConnectionError("harbour office is down"))
    with rig:
        rig.enqueue(manifest.call("TL-204"), after="15m")
        assert rig.jobs("submit_manifest").one().state == "held"
        assert rig.next_due == datetime(2031, 3, 29, 21, 15, tzinfo=timezone.utc)
        rig.advance("1h")
    job = rig.jobs("submit_manifest").one()
    assert job.state == "done"
    assert (job.result, job.delay.total_seconds() >= 900) == ("TL-204", True)
    first, second, third = job.attempts
    assert timedelta(seconds=9) <= first.waited <= timedelta(seconds=11)  # type: ignore[operator]
    assert timedelta(seconds=18) <= second.waited <= timedelta(seconds=22)  # type: ignore[operator]
    assert third.waited is None
    assert second.started_at == first.ended_at + first.waited  # type: ignore[operator]
    assert str(first.error) == "harbour office is down"


def test_dead_letters() -> None:
    down = [True]

    def calls() -> str:
        if down[0]:
            raise ConnectionError("down")
        return "through"

    with ic.Rig() as rig:
        kind = rig.job(calls, retry=ic.Retry(2, "1m"))
        for _ in range(3):
            rig.enqueue(kind.call())
        rig.run_dry()
        assert [job.state for job in rig.dead] == ["dead"] * 3
        rig.dead.discard(rig.dead[2])
        down[0] = False
        assert len(rig.dead.requeue(where=lambda job: job.number == 1)) == 1
        assert len(rig.dead) == 1
        rig.dead.requeue()
        rig.settle()
    assert rig.jobs().states() == {"done": 2, "dropped": 1}
    assert [len(job.attempts) for job in rig.jobs()] == [3, 3, 2]
    with pytest.raises(ic.RigStateError, match="is done; only a dead letter can be"):
        rig.dead.requeue(rig.jobs()[0])


def test_drop_on_and_withdraw() -> None:
    class Gone(Exception):
        pass

    def offer() -> None:
        raise Gone

    with ic.Rig() as rig:
        kind = rig.job(offer, retry=ic.Retry(5, "1m", drop_on=Gone))
        dropped, cancelled = rig.enqueue(kind.call()), rig.enqueue(kind.call(), at="2031-03-03T10:00")
        rig.settle()
        cancelled.withdraw()
        rig.run_dry()
    assert (dropped.state, cancelled.state, len(rig.dead)) == ("dropped", "withdrawn", 0)
    with pytest.raises(ic.RigStateError, match="withdrawn"):
        cancelled.withdraw()


def test_faults_by_window_chance_predicate_and_kind() -> None:
    def job(n: int = 0) -> float:
        return time.time()

    with ic.Rig(start="2031-03-03T09:00", seed=3) as rig:
        rig.workers(500)
        steady = rig.job(job, timeout="10s", retry=ic.Retry(1))
        rig.faults.fail(job, between=("2031-03-03T10:00", "2031-03-03T11:00"), error=OSError)
        rig.faults.hang("job", when=lambda attempt: attempt.job.args == (7,))
        rig.faults.slow("job", by="4s", when=lambda attempt: attempt.job.args == (8,))
        lucky = rig.faults.fail("job", chance=0.25, between=("2031-03-03T12:00", "2031-03-03T13:00"))
        before, on, until = (rig.enqueue(steady.call(), at=f"2031-03-03T{t}") for t in ("09:59:59", "10:00", "11:00"))
        hung, slow = rig.enqueue(steady.call(7)), rig.enqueue(steady.call(8))
        many = [rig.enqueue(steady.call(), at="2031-03-03T12:30") for _ in range(400)]
        rig.run_dry()
    assert [job.state for job in (before, on, until)] == ["done", "dead", "done"]
    assert hung.attempts[0].outcome == "timed-out"
    assert slow.attempts[0].ended_at - slow.attempts[0].started_at == timedelta(seconds=4)  # type: ignore[operator]
    dead = [job.state for job in many].count("dead")
    assert dead == lucky.struck
    assert 70 < dead < 130


def test_a_refused_enqueue_reaches_the_code_that_enqueues() -> None:
    with ic.Rig() as rig:
        kind = rig.job(five_seconds)
        rig.faults.refuse_enqueue("five_seconds", calls=2)
        rig.enqueue(kind.call())
        with pytest.raises(ConnectionError):
            rig.enqueue(kind.call())
        rig.enqueue(kind.call())
        assert len(rig.jobs()) == 2
        assert [entry.what for entry in rig.history] == ["enqueued", "refused", "enqueued"]


def test_stories_and_tables() -> None:
    with ic.Rig(zone="Atlantic/Faroe", start="2031-03-29T23:30") as rig:
        kind = rig.job(five_seconds, name="nap", retry=ic.Retry(3, "90m"))
        rig.faults.fail("nap", attempts=1, error=OSError("fog"))
        job = rig.enqueue(kind.call(), after="15m")
        rig.run_dry()
    story = job.story()
    assert "due in 15m, at 23:45:00+00:00" in story
    assert "23:45:00+00:00  attempt 1 fails: OSError: fog; tries again in 1h30m" in story
    assert "02:15:00+01:00  attempt 2 starts on w1" in story, "the clock change of that night"
    assert "2031-03-30 (Atlantic/Faroe)" in story
    assert rig.history.story().count("nap-1: ") == len(rig.history) == 5
    assert "nap-1" in repr(rig.jobs())
    assert "1 done" in repr(rig)
    frame = rig.history.frame()
    assert list(frame["what"]) == ["enqueued", "started", "failed", "started", "done"]
    assert rig.jobs().frame().loc[0, "attempts"] == 2


def test_a_history_is_saved_and_read_again(tmp_path: Path) -> None:
    with ic.Rig(seed=4) as rig:
        kind = rig.job(lambda **_: {"b", "a"}, name="sets", retry=ic.Retry(2, ic.fixed("1m", jitter="full")))
        rig.faults.fail("sets", attempts=1)
        rig.enqueue(kind.call(where="Eystnes"))
        rig.run_dry()
    path = tmp_path / "evening.jsonl"
    rig.history.save(path)
    again = ic.History.load(path)
    assert again.digest() == rig.history.digest()
    assert again.story() == rig.history.story()
    assert list(again) == list(rig.history)
    assert again[-1].data["result"] == ["a", "b"]


def test_a_context_variable_of_the_test_is_seen_in_jobs() -> None:
    harbour = contextvars.ContextVar("harbour", default="none")
    harbour.set("Eystnes")
    with ic.Rig() as rig:
        job = rig.enqueue(rig.job(harbour.get, name="look").call())
        rig.settle()
    assert job.result == "Eystnes"


def test_ctrl_c_in_a_job_ends_the_run() -> None:
    def interrupted() -> None:
        time.sleep(1)
        raise KeyboardInterrupt

    with ic.Rig() as rig:
        rig.enqueue(rig.job(interrupted).call())
        with pytest.raises(KeyboardInterrupt):
            rig.run_dry()
        other = rig.enqueue(rig.job(five_seconds).call())
        rig.run_dry()
        assert other.state == "done", "and the rig still works"


def test_an_exit_in_a_job_ends_its_attempt_only() -> None:
    with ic.Rig() as rig:
        job = rig.enqueue(rig.job(lambda: exit(3), name="exits").call())
        rig.settle()
    assert job.state == "dead"
    assert isinstance(job.error, SystemExit)


def test_a_job_that_enqueues_itself_without_delay_is_named() -> None:
    with ic.Rig() as rig:

        def again() -> None:
            rig.enqueue(kind.call())

        kind = rig.job(again)
        rig.enqueue(kind.call())
        with pytest.raises(ic.StuckError, match=r"again enqueues again without delay.*test_rig.py:\d+ in again"):
            rig.settle()


def test_everything_at_midnight_is_no_loop() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="nightly")
        for _ in range(20_000):
            rig.enqueue(kind.call())
        rig.settle()
        assert rig.jobs().states() == {"done": 20_000}


def bad_inputs() -> list[Any]:
    def rig() -> ic.Rig:
        made = ic.Rig()
        made.job(five_seconds)
        return made

    def kind(made: ic.Rig) -> ic.JobType:
        return made.job(five_seconds)

    return [
        (lambda r: r.jobs("five_second"), ic.UnknownJob, "did you mean 'five_seconds'"),
        (lambda r: r.jobs(state="finished"), ic.InputError, "unknown job state 'finished'"),
        (lambda r: r.enqueue("five_seconds"), ic.InputError, "takes a call"),
        (lambda r: r.enqueue(kind(r).call(), 7), ic.InputError, "has its arguments already"),
        (lambda r: r.enqueue(five_seconds, 7), ic.InputError, "does not take these arguments"),
        (lambda r: r.enqueue(kind(r), retry=3), ic.InputError, "has a policy already"),
        (lambda r: r.jobs(queue="defualt"), ic.InputError, "did you mean 'default'"),
        (lambda r: r.job(five_seconds, timeout="1m"), ic.InputError, "with another policy"),
        (lambda r: r.job(lambda crate: None, key="sailing"), ic.PolicyError, "no such parameter"),
        (lambda r: r.check(), ic.InputError, "check has no laws"),
        (lambda r: r.check(ic.laws.nothing_lost), ic.InputError, r"call it: ic\.laws\.nothing_lost\("),
        (lambda r: r.allow("dead job"), ic.InputError, "did you mean 'dead jobs'"),
        (lambda r: ic.Rig(strict="no"), ic.InputError, "give True or False"),
        (lambda r: ic.Retry(3, ["1s", "2s", "3s", "4s"]), ic.PolicyError, "4 waits, and 3 attempts have 2 between them"),
        (lambda r: ic.Retry(3, on=(KeyError, OSError), never_on=OSError), ic.PolicyError, "both in on and in never_on"),
        (lambda r: r.jobs().must_be(()), ic.InputError, "an empty tuple is not an expected job"),
        (lambda r: r.enqueue(ic.Rig().job(idle).call()), ic.UnknownJob, "idle"),
        (lambda r: r.enqueue(kind(r).call(), after=-1), ic.DurationError, "negative"),
        (lambda r: r.enqueue(kind(r).call(), after="soon"), ic.DurationError, "soon"),
        (lambda r: r.enqueue(kind(r).call(), at=datetime(2031, 4, 1)), ic.InstantError, "naive"),
        (lambda r: r.enqueue(kind(r).call(), at="2031-03-03T08:59:59"), ic.InstantError, "before the rig's now"),
        (lambda r: r.enqueue(kind(r).call(), after=1, at="2031-04-01"), ic.InputError, "give one of the two"),
        (lambda r: r.enqueue(kind(r).call(), priority="high"), ic.PolicyError, "high"),
        (lambda r: kind(r).call(1), ic.InputError, "does not take these arguments"),
        (lambda r: r.advance("-1h"), ic.DurationError, "negative"),
        (lambda r: r.advance_to("2031-03-03T08:00"), ic.InstantError, "only goes forward"),
        (lambda r: r.job(five_seconds, retry="3"), ic.PolicyError, "ic.Retry"),
        (lambda r: r.job(five_seconds, timeout="0s"), ic.PolicyError, "timeout"),
        (lambda r: r.job("five_seconds"), ic.InputError, "cannot be called; give a function"),
        (lambda r: r.job(idle, name="five_seconds"), ic.InputError, "another name"),
        (lambda r: r.workers(0), ic.PolicyError, "0"),
        (lambda r: r.workers(2, queues={"a": 0}), ic.PolicyError, "weight of queue 'a'"),
        (lambda r: r.workers(2, queues="desk"), ic.PolicyError, "desk"),
        (lambda r: r.workers(2, queues=[]), ic.PolicyError, "empty"),
        (lambda r: r.faults.fail("five_second"), ic.UnknownJob, "did you mean 'five_seconds'"),
        (lambda r: r.faults.fail("five_seconds", error="boom"), ic.PolicyError, "error is 'boom'; give an exception or its class"),
        (lambda r: r.faults.fail("five_seconds", attempts=0), ic.InputError, "the number of an attempt is 0"),
        (lambda r: r.faults.fail("five_seconds", chance=2), ic.InputError, "chance"),
        (lambda r: r.faults.fail("five_seconds", between=("2031-01-02", "2031-01-01")), ic.InputError, "not after"),
        (lambda r: r.faults.slow("five_seconds", by="long"), ic.DurationError, "long"),
        (lambda r: r.jobs().one(), ic.SelectionError, "found none"),
        (lambda r: ic.Rig(zone="Atlantic/Nowhere"), ic.ZoneError, "Nowhere"),
        (lambda r: ic.Rig(start="once"), ic.InstantError, "once"),
        (lambda r: ic.Rig(seed=1.5), ic.InputError, "seed"),
        (lambda r: ic.Rig(payload="pickle"), ic.InputError, "pickle"),
        (lambda r: ic.History.load("/nowhere/at/all"), ic.HistoryError, "/nowhere"),
    ]  # fmt: skip


def idle() -> None:
    return


@pytest.mark.parametrize("case", bad_inputs(), ids=lambda case: case[2])
def test_bad_input_is_refused_in_words_and_nothing_is_half_done(case: Any) -> None:
    does, kind, says = case
    rig = ic.Rig()
    rig.job(five_seconds)
    with pytest.raises(kind, match=says):
        does(rig)
    assert issubclass(kind, ic.IronClockError)
    assert len(rig.jobs()) == len(rig.history) == 0
    rig.run_dry()


def test_histories_that_cannot_be_read_say_where(tmp_path: Path) -> None:
    head = '{"format": "ironclock-history", "version": 1, "zone": "UTC", "seed": 0}\n'
    for text, says in [
        ("", "1: the line is not JSON"), ("[]\n", "each entry is a JSON object"), ('{"format": "other"}\n', "not a saved history"),
        (head.replace("1,", "99,"), "version 99"), (head + '{"ns": 1, "wh', "2: the line is not JSON"), (head + '{"ns": 1}\n', "2: .*what"),
    ]:  # fmt: skip
        path = tmp_path / "bad.jsonl"
        path.write_text(text)
        with pytest.raises(ic.HistoryError, match=says):
            ic.History.load(path)


def test_the_story_of_a_job_that_is_ready_says_why_it_has_not_started() -> None:
    with ic.Rig() as rig:
        job = rig.enqueue(five_seconds)
        assert job.story().startswith(
            "five_seconds-1(): ready (due now; the clock has not moved since: advance or settle"
        )
        rig.settle()
        other = rig.enqueue(five_seconds)
        rig.advance("1s")
        assert other.story().startswith("five_seconds-2(): ready (it waits for w1, which runs five_seconds-1)")
        rig.run_dry()
        assert repr(rig.jobs()) == "<2 jobs (any job): five_seconds-1 done, five_seconds-2 done>"
        assert str(rig.jobs()).splitlines()[0].split() == [
            "job", "arguments", "queue", "state", "attempts", "due", "error",
        ]  # fmt: skip
