"""Shutting down, cancelling, reporting progress; hooks, scopes, uniqueness, conditions, expiry; clocks that are wrong."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import pytest

import ironclock as ic


def outcomes(job: ic.Job) -> list[str]:
    return [a.outcome for a in job.attempts]


def test_a_graceful_stop_lets_short_jobs_finish_and_puts_the_others_back() -> None:
    rig = ic.Rig()
    rig.workers(2)
    seen: list[str] = []

    def load(ship: str, seconds: float) -> str:
        try:
            time.sleep(seconds)
        finally:
            seen.append(ship)
        return ship

    kind = rig.job(load)
    with rig:
        short, long, queued = (rig.enqueue(kind.call(*c)) for c in (("Dunlin", 20), ("Fulmar", 600), ("Gannet", 1)))
        rig.advance("5s")
        rig.stop_workers(grace="30s")
        rig.advance("1h")
        assert (short.state, long.state, queued.state) == ("done", "ready", "ready")
        assert seen == ["Dunlin"], "what is killed runs no finally"
        rig.start_workers()
        rig.run_dry()
    assert outcomes(long) == ["cancelled", "done"]
    assert "delivered again: the workers were stopped" in long.story()
    rig.check(ic.laws.nothing_lost())
    with pytest.raises(ic.laws.BrokenLaw, match="attempt 1 of load-2 had to be killed 30s after it was asked to stop"):
        rig.check(ic.laws.stops_when_asked("30s"))


def test_a_job_can_ask_whether_it_is_to_stop_and_go_on_where_it_was() -> None:
    rig = ic.Rig()
    pages: list[int] = []

    def print_tickets(first: int = 0) -> str:
        for page in range(first, 10):
            if rig.cancelled():
                rig.enqueue(kind.call(page))
                return f"stopped before {page}"
            time.sleep(10)
            pages.append(page)
            rig.progress(f"{page + 1} of 10")
        return "all"

    kind = rig.job(print_tickets)
    with rig:
        job = rig.enqueue(kind.call())
        rig.advance("35s")
        assert job.progress == "3 of 10"
        rig.stop_workers(grace="15s")
        rig.advance("1m")
        assert (job.state, job.result) == ("done", "stopped before 4")
        rig.start_workers()
        rig.run_dry()
    assert pages == list(range(10))
    assert "attempt 1 reports '4 of 10'" in job.story()
    rig.check(ic.laws.stops_when_asked("10s"))


@pytest.mark.parametrize(
    ("how", "state", "cleaned"),
    [("ask", "done", True), ("throw", "withdrawn", True), ("kill", "withdrawn", False)],
)
def test_withdrawing_a_running_job(how: Any, state: str, cleaned: bool) -> None:
    rig, seen = ic.Rig(), []

    def load() -> None:
        try:
            time.sleep(60)
        finally:
            seen.append(f"cleaned up at {datetime.now():%S}")

    with rig:
        job = rig.enqueue(rig.job(load, retry=ic.Retry(3)).call())
        rig.advance("10s")
        with pytest.raises(ic.RigStateError, match="say what happens to a running job: running='ask'"):
            job.withdraw()
        job.withdraw(running=how)
        rig.advance("5m")
    assert (job.state, bool(seen)) == (state, cleaned)
    assert seen in ([], ["cleaned up at 10"], ["cleaned up at 00"])


def test_a_blanket_except_does_not_swallow_a_cancellation_but_a_bare_one_does() -> None:
    def polite() -> None:
        try:
            time.sleep(60)
        except Exception:
            pass
        time.sleep(60)

    def deaf() -> None:
        try:
            time.sleep(60)
        except BaseException:
            pass
        time.sleep(60)

    rig = ic.Rig()
    rig.workers(2)
    with rig:
        jobs = [rig.enqueue(rig.job(fn).call()) for fn in (polite, deaf)]
        rig.advance("10s")
        for job in jobs:
            job.withdraw(running="throw")
        rig.advance("5m")
    assert [j.state for j in jobs] == ["withdrawn", "done"]
    with pytest.raises(ic.laws.BrokenLaw, match="attempt 1 of deaf-2 ends 1m after it was asked to stop"):
        rig.check(ic.laws.stops_when_asked("5s"))
    rig.check(ic.laws.stops_when_asked(job="polite"))


def test_hooks_nest_in_order_on_error_too_and_each_attempt_has_a_fresh_scope() -> None:
    rig, seen = ic.Rig(), []
    scopes = iter(range(1, 9))

    def hook(name: str) -> Any:
        @contextlib.contextmanager
        def around(thing: Any) -> Iterator[None]:
            what = f"{name} {thing.number if isinstance(thing, ic.Attempt) else thing.type.name}"
            seen.append(f"> {what}")
            try:
                yield
            except ConnectionError:
                seen.append(f"! {what}")
                raise
            seen.append(f"< {what}")

        return around

    @contextlib.contextmanager
    def session() -> Iterator[int]:
        number = next(scopes)
        seen.append(f"session {number}")
        yield number

    def load() -> None:
        seen.append("load")
        if seen.count("load") == 1:
            raise ConnectionError

    rig.around_enqueue(hook("put"))
    rig.around_attempt(hook("outer"))
    rig.around_attempt(hook("inner"))
    with rig:
        rig.enqueue(rig.job(load, retry=ic.Retry(2), scope=session).call())
        rig.run_dry()
    assert seen == [
        "> put load", "< put load",
        "> outer 1", "> inner 1", "session 1", "load", "! inner 1", "! outer 1",
        "> outer 2", "> inner 2", "session 2", "load", "< inner 2", "< outer 2",
    ]  # fmt: skip


def test_a_hook_that_raises_refuses_the_enqueue_or_fails_the_attempt() -> None:
    @contextlib.contextmanager
    def closed(thing: Any) -> Iterator[None]:
        raise PermissionError("the gate is closed")
        yield

    rig = ic.Rig()
    kind = rig.job(time.sleep, name="nap")
    job = rig.enqueue(kind.call(1))
    rig.around_attempt(closed)
    rig.run_dry()
    assert (job.state, str(job.error)) == ("dead", "the gate is closed")
    rig.around_enqueue(closed)
    with pytest.raises(PermissionError):
        rig.enqueue(kind.call(1))
    assert len(rig.jobs()) == 1


@pytest.mark.parametrize(("rule", "left"), [("keep", ["first"]), ("replace", ["second"])])
def test_unique_jobs_are_kept_or_replaced(rule: Any, left: list[str]) -> None:
    rig, ran = ic.Rig(), []
    kind = rig.job(lambda sailing, by: ran.append(by), name="count", unique=rule, key="sailing")
    with rig:
        first = rig.enqueue(kind.call("TL-204", "first"), after="1m")
        second = rig.enqueue(kind.call("TL-204", "second"), after="1m")
        other = rig.enqueue(kind.call("TL-205", "other"), after="1m")
        assert (first is second) == (rule == "keep")
        rig.run_dry()
        rig.enqueue(kind.call("TL-204", "later"))
        rig.run_dry()
    assert ran == [*left, "other", "later"]
    assert other.state == "done"


def test_unique_jobs_are_refused_by_all_their_arguments_while_one_is_pending() -> None:
    rig = ic.Rig()
    kind = rig.job(time.sleep, name="nap", unique="refuse")
    with rig:
        rig.enqueue(kind.call(5), after="1m")
        rig.enqueue(kind.call(6), after="1m")
        with pytest.raises(ic.DuplicateJob, match=r"nap-1 is held with the same key, nap\(5,\)"):
            rig.enqueue(kind.call(5))
        rig.advance("1m")
        assert rig.jobs()[0].state == "running"
        rig.enqueue(kind.call(5))
        rig.run_dry()
    assert [e.what for e in rig.history].count("refused") == 1


def test_conditions_hold_jobs_back() -> None:
    rig = ic.Rig()
    kind = rig.job(lambda: None, name="sync", only_while=("network", "disk"))
    with rig:
        rig.conditions.off("network")
        job = rig.enqueue(kind.call())
        rig.advance("1h")
        assert job.state == "held"
        with pytest.raises(ic.JobsLeftOpen, match="sync-1 is held until network holds"):
            rig.run_dry("1h")
        rig.conditions.on("network")
        rig.settle()
    assert job.state == "done"
    assert (job.attempts[0].started_at - job.enqueued_at).total_seconds() == 3600


def test_a_condition_may_follow_the_state_of_the_world() -> None:
    rig, disk = ic.Rig(start="2031-03-03T09:00"), {"free": 1}
    sync = rig.job(lambda: None, name="sync", only_while=("disk",))
    rig.conditions.follow("disk", lambda: disk["free"] > 10)

    def clean() -> None:
        time.sleep(600)
        disk["free"] = 50

    rig.workers(2)
    with rig:
        job = rig.enqueue(sync.call())
        rig.enqueue(rig.job(clean).call(), after="1h")
        rig.run_dry()
        assert f"{job.attempts[0].started_at:%H:%M}" == "10:10"
        with pytest.raises(ic.InputError, match="the predicate of 'disk' is 3; give a function"):
            rig.conditions.follow("disk", 3)  # type: ignore[arg-type]


def test_a_job_that_waited_too_long_expires() -> None:
    rig = ic.Rig()
    kind = rig.job(time.sleep, name="nap", expires="1m")
    with rig:
        first, second = rig.enqueue(kind.call(90)), rig.enqueue(kind.call(1))
        rig.run_dry()
    assert (first.state, second.state) == ("done", "dropped")
    assert "expired: dropped after it had waited 1m" in second.story()


def test_jobs_started_by_a_named_event() -> None:
    rig, seen = ic.Rig(), []
    rig.listen("arrived", rig.job(lambda ship: seen.append(ship), name="unload"))
    rig.listen("arrived", rig.job(lambda ship: seen.append(f"clean {ship}"), name="clean"), after="1h")
    with rig:
        assert [j.name for j in rig.emit("arrived", "Fulmar")] == ["unload", "clean"]
        rig.run_dry()
        with pytest.raises(ic.InputError, match="did you mean 'arrived'"):
            rig.emit("arived", "Fulmar")
    assert seen == ["Fulmar", "clean Fulmar"]


def test_the_wall_clock_jumps_while_the_monotonic_clock_goes_on() -> None:
    rig, seen = ic.Rig(start="2031-03-03T09:00"), []

    def watch() -> None:
        wall, mono = time.time(), time.monotonic()
        time.sleep(60)
        seen.append((time.time() - wall, time.monotonic() - mono, f"{datetime.now():%H:%M}"))

    rig.faults.jump_clock("-1h", at="2031-03-03T09:00:30")
    with rig:
        rig.enqueue(rig.job(watch).call())
        rig.run_dry()
        assert rig.now.minute == 1
        rig.faults.jump_clock("2h")
        assert f"{datetime.now():%H:%M}" == "10:01"
        assert time.gmtime().tm_hour == 10
    assert seen == [(-3540.0, 60.0, "08:01")]


def test_a_worker_host_with_a_skewed_clock() -> None:
    rig = ic.Rig(start="2031-03-03T09:00")
    rig.workers(1, queues=["right"])
    rig.workers(1, queues=["wrong"], skew="-90s")

    def look() -> list[str]:
        first = f"{datetime.now():%H:%M:%S}"
        time.sleep(5)
        return [first, f"{datetime.now():%H:%M:%S}"]

    right, wrong = rig.job(look, name="right", queue="right"), rig.job(look, name="wrong", queue="wrong")
    with rig:
        jobs = [rig.enqueue(right.call()), rig.enqueue(wrong.call())]
        rig.run_dry()
        assert f"{datetime.now():%H:%M:%S}" == "09:00:05"
    assert [j.result for j in jobs] == [["09:00:00", "09:00:05"], ["08:58:30", "08:58:35"]]
