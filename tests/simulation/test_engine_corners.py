"""Corners of the engine: unique jobs, limits in time, deliveries, resources, transactions, and what is closed."""

from __future__ import annotations

import contextlib
import queue
import sqlite3
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic


class Desk:
    """A transaction of the application on a real database."""

    def __init__(self, path: Path) -> None:
        self.db = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        self.db.execute("create table booked (seat)")

    @contextlib.contextmanager
    def atomic(self) -> Iterator[None]:
        self.db.execute("begin")
        try:
            yield
        except BaseException:
            self.db.execute("rollback")
            raise
        self.db.execute("commit")


# --- unique jobs ------------------------------------------------------------------------------------------


@pytest.mark.parametrize("unique", ["refuse", "keep", "replace"])
def test_unique_knows_every_job_of_a_key(unique: Any) -> None:
    """The first runs, a second is admitted and done, the first backs off: it is pending again."""
    with ic.Rig() as rig:
        rig.workers(2)
        failures = [OSError("again")]

        def sync(route: str, number: int) -> None:
            if number == 1:
                time.sleep(60)
                raise failures.pop()

        kind = rig.job(sync, unique=unique, key="route", retry=ic.Retry(3, "10m"))
        first = rig.enqueue(kind, "north", 1)
        rig.advance("10s")
        assert rig.enqueue(kind, "north", 2) != first
        rig.advance("70s")
        assert [job.state for job in rig.jobs()] == ["backing-off", "done"]
        if unique == "refuse":
            with pytest.raises(ic.DuplicateJob, match="sync-1 is backing-off with the same key, 'north'"):
                rig.enqueue(kind, "north", 3)
        elif unique == "keep":
            assert rig.enqueue(kind, "north", 3) == first
        else:
            rig.enqueue(kind, "north", 3)
            assert first.state == "withdrawn"


def test_replace_withdraws_every_pending_job_of_the_key() -> None:
    with ic.Rig() as rig:
        rig.workers(3)
        failures = [OSError("again"), OSError("again")]

        def sync(route: str, number: int) -> None:
            time.sleep(60)
            if failures:
                raise failures.pop()

        kind = rig.job(sync, unique="replace", key="route", retry=ic.Retry(3, "10m"))
        first = rig.enqueue(kind, "north", 1)
        rig.advance("1s")
        second = rig.enqueue(kind, "north", 2)
        rig.advance("2m")
        assert (first.state, second.state) == ("backing-off", "backing-off")
        rig.enqueue(kind, "north", 3)
        assert (first.state, second.state) == ("withdrawn", "withdrawn")


def test_a_dead_letter_that_is_put_back_is_pending_again() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: 1 / 0, name="sync", unique="refuse")
        job = rig.enqueue(kind)
        rig.settle()
        rig.enqueue(kind).withdraw()
        rig.dead.requeue(job)
        with pytest.raises(ic.DuplicateJob):
            rig.enqueue(kind)
        assert job.state == "ready"


def test_one_job_that_is_kept_tells_everybody_who_waits_for_it() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: 3, name="weigh", unique="keep")
        flows = [rig.flow(name).add("weigh", kind).start() for name in ("north", "south")]
        rig.run_dry()
        assert [flow.state for flow in flows] == ["done", "done"]
        assert len(rig.jobs()) == 1


# --- limits in time ---------------------------------------------------------------------------------------


def test_no_attempt_starts_after_within_if_the_worker_was_busy() -> None:
    with ic.Rig() as rig:

        def body(seconds: int) -> None:
            if not seconds:
                raise OSError("the bank is away")
            time.sleep(seconds)

        kind = rig.job(body, name="charge", retry=ic.Retry(5, "1m", within="3m"))
        job = rig.enqueue(kind, 0)
        rig.enqueue(kind, 600)
        rig.advance("1h")
        assert (job.state, job.attempts_made) == ("dead", 1)
        assert isinstance(job.error, OSError)
        assert "dead letter: no attempt starts later than 3m after the first" in job.story()


def test_a_job_that_waits_for_a_worker_does_not_start_when_its_condition_is_off() -> None:
    with ic.Rig() as rig:
        ran = []

        def body(number: int) -> None:
            ran.append((number, rig.now.minute))
            time.sleep(600)

        kind = rig.job(body, name="sync", only_while=["online"])
        rig.enqueue(kind, 0)
        rig.enqueue(kind, 1)
        rig.advance("1m")
        rig.conditions.off("online")
        rig.advance("30m")
        assert ran == [(0, 0)]
        rig.conditions.on("online")
        rig.run_dry()
        assert ran == [(0, 0), (1, 31)]


def test_a_delay_beyond_the_expiry_is_refused_where_it_is_asked_for() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="remind", expires="1h")
        with pytest.raises(ic.InputError, match="due 2h after it is enqueued, and expires after 1h"):
            rig.enqueue(kind, after="2h")
        assert not rig.jobs()
        assert rig.enqueue(kind, after="1h").state == "held"
        rig.run_dry()
        assert rig.jobs().one().state == "done"


def test_what_can_no_longer_happen_is_not_the_next_event() -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda: None, name="remind", expires="1h"))
        rig.enqueue(rig.job(lambda: None, name="charge", lease="1h"))
        rig.enqueue(rig.job(lambda: None, name="later"), after="2h").withdraw()
        assert rig.next_due is not None
        rig.settle()
        assert rig.next_due is None
        assert not rig.step()


@pytest.mark.parametrize("zero", [0, "0s", {"from": 0, "to": 0}])
def test_durations_of_nothing(zero: Any) -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="quick", takes=zero, retry=ic.Retry(2, 0, within=0))
        rig.faults.fail("quick", attempts=1)
        job = rig.enqueue(kind, after=0)
        rig.run_dry()
        assert (job.state, job.attempts_made) == ("done", 2)


def test_generator_functions_are_refused_since_a_call_runs_none_of_their_code() -> None:
    def rows() -> Iterator[int]:
        yield 1

    async def pages() -> Any:
        yield 1

    with ic.Rig() as rig:
        for function in (rows, pages):
            for ask in (rig.job, rig.enqueue):
                with pytest.raises(ic.InputError, match=f"{function.__name__} is a generator function"):
                    ask(function)
        assert rig.enqueue(lambda: list(rows())).state == "ready"
        rig.settle()


def test_a_stop_that_was_taken_back_kills_nobody() -> None:
    with ic.Rig() as rig:
        job = rig.enqueue(lambda: time.sleep(3600))
        rig.advance("1s")
        rig.stop_workers("10m")
        rig.advance("1m")
        rig.start_workers()
        rig.advance("1m")
        rig.stop_workers("30m")
        rig.advance("29m")
        assert job.state == "running"
        rig.advance("2m")
        assert job.state == "ready"


# --- deliveries -------------------------------------------------------------------------------------------


def test_deliveries_count_what_nobody_acknowledged_and_begin_anew_after_a_requeue() -> None:
    with ic.Rig() as rig:
        failures = [OSError(), OSError(), OSError()]

        def body() -> None:
            if failures:
                raise failures.pop()

        kind = rig.job(body, name="often", deliveries=3, retry=ic.Retry(9, "1s"))
        rig.faults.crash("often", attempts=4)
        assert rig.enqueue(kind).number == 1
        crashes = rig.job(lambda: None, name="crashes", deliveries=2)
        rig.faults.crash("crashes", attempts=(1, 2, 3))
        job = rig.enqueue(crashes)
        rig.run_dry()
        assert rig.jobs("often").one().state == "done", "ordinary failures are the business of the retry"
        assert (job.state, job.attempts_made) == ("dead", 2)
        rig.dead.requeue(job)
        rig.run_dry()
        assert (job.state, job.attempts_made) == ("done", 4)


def test_a_dry_run_waits_for_every_delivery_that_a_short_lease_has_caused() -> None:
    with ic.Rig() as rig:
        rig.workers(3)
        charges = []

        def charge() -> None:
            time.sleep(30)
            charges.append(rig.now)

        rig.enqueue(rig.job(charge, lease="10s"))
        rig.run_dry()
        assert len(charges) == 3


def test_a_dry_run_names_a_delivery_that_never_ends() -> None:
    with ic.Rig() as rig:
        rig.workers(2)
        waits = [10**8, 0]
        rig.enqueue(rig.job(lambda: time.sleep(waits.pop(0)), name="charge", lease="10s"))
        with pytest.raises(ic.JobsLeftOpen, match="attempt 1 of charge-1, which was delivered again, still runs"):
            rig.run_dry("1h")


# --- who waits and is killed ------------------------------------------------------------------------------


def _things() -> dict[str, Any]:
    return {
        "resource": None, "lock": threading.Lock(), "reentrant lock": threading.RLock(),
        "semaphore": threading.Semaphore(), "condition": threading.Condition(), "queue": queue.Queue(),
    }  # fmt: skip


@pytest.mark.parametrize("what", _things())
def test_a_waiter_that_is_killed_stands_in_nobodys_way(what: str) -> None:
    with ic.Rig() as rig:
        rig.workers(3)
        thing = _things()[what]
        pool = rig.resource("database", 1)
        if what == "queue":
            thing.put("place")

        def use(seconds: int) -> None:
            if what == "queue":
                thing.get()
                time.sleep(seconds)
                thing.put("place")
                return
            with pool.take() if thing is None else thing:
                time.sleep(seconds)

        kind = rig.job(use)
        rig.enqueue(kind, 60)
        waiter, last = rig.enqueue(kind, 1), rig.enqueue(kind, 1)
        rig.advance("10s")
        waiter.withdraw(running="kill")
        rig.advance("2m")
        assert last.state == "done"


# --- transactions -----------------------------------------------------------------------------------------


def test_a_job_withdrawn_in_the_transaction_that_enqueued_it_never_runs() -> None:
    with ic.Rig() as rig:
        ran: list[int] = []
        with rig.transaction() as transaction:
            job = rig.enqueue(ran.append, 1)
            job.withdraw()
            assert transaction.pending == []
        rig.run_dry()
        assert (ran, job.state) == ([], "withdrawn")


@pytest.mark.parametrize("after", [None, "5s", "5m"])
@pytest.mark.parametrize("commits", [True, False])
def test_replace_in_a_transaction_is_undone_with_it(after: str | None, commits: bool) -> None:
    with ic.Rig() as rig:
        ran: list[int] = []
        kind = rig.job(lambda route, number: ran.append(number), name="sync", unique="replace", key="route")
        first = rig.enqueue(kind, "north", 1, after=after)
        with contextlib.suppress(ZeroDivisionError), rig.transaction():
            rig.enqueue(kind, "north", 2)
            assert first.state == "withdrawn"
            time.sleep(10)
            if not commits:
                raise ZeroDivisionError
        rig.run_dry()
        assert ran == ([2] if commits else [1])
        assert first.attempts_made == (0 if commits else 1)


def test_a_withdrawal_that_is_rolled_back_leaves_the_job_in_its_place() -> None:
    with ic.Rig() as rig:
        ran = []

        def body(number: int) -> None:
            ran.append(number)
            time.sleep(60)

        rig.enqueue(body, 0)
        rig.advance("1s")
        waiting = rig.enqueue(body, 1)
        rig.advance("1s")
        for error in (ZeroDivisionError, None):
            with contextlib.suppress(ZeroDivisionError), rig.transaction(), rig.transaction():
                waiting.withdraw()
                if error is not None:
                    raise error
            assert waiting.state == ("ready" if error else "withdrawn")
        rig.run_dry()
        assert ran == [0]


@pytest.mark.parametrize("fault", ["fail", "crash"])
def test_a_fault_at_the_commit_rolls_the_applications_transaction_back(
    fault: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk = Desk(tmp_path / "desk.db")
    with ic.Rig() as rig:
        rig.transaction_at(desk.atomic)
        follow = rig.job(lambda: None, name="follow")

        def book() -> None:
            with desk.atomic():
                desk.db.execute("insert into booked values ('3F')")
                rig.enqueue(follow)

        kind = rig.job(book, retry=ic.Retry(2, "1s"))
        getattr(rig.faults, fault)("book", at="commit", attempts=1)
        rig.enqueue(kind)
        rig.run_dry()
        assert desk.db.execute("select count(*) from booked").fetchone() == (1,)
        assert len(rig.jobs("follow")) == 1


def test_a_worker_that_dies_inside_the_applications_transaction_leaves_nothing(tmp_path: Path) -> None:
    desk = Desk(tmp_path / "desk.db")
    with ic.Rig() as rig:
        rig.transaction_at(desk.atomic)

        def book() -> None:
            with desk.atomic():
                desk.db.execute("insert into booked values ('3F')")
                time.sleep(1)

        kind = rig.job(book)
        rig.faults.crash("book", at="sleep", attempts=1)
        rig.enqueue(kind)
        rig.run_dry()
        assert desk.db.execute("select count(*) from booked").fetchone() == (1,)


# --- flows, effects ---------------------------------------------------------------------------------------


def test_long_flows_and_wide_joins() -> None:
    with ic.Rig() as rig:
        step = rig.job(lambda: None, name="step")
        backwards = rig.flow("backwards")
        for number in reversed(range(1_500)):
            backwards.add(f"{number}", step, after=f"{number - 1}" if number else ())
        fails = rig.flow("diamonds").add("first", lambda: 1 / 0)
        last = "first"
        for number in range(200):
            fails.add(f"a{number}", step, after=last).add(f"b{number}", step, after=last)
            last = f"c{number}"
            fails.add(last, step, after=(f"a{number}", f"b{number}"))
        fails.add("anyway", step, after=last, when="ended")
        backwards.start()
        fails.start()
        rig.run_dry()
        assert backwards.state == "done"
        assert (fails["anyway"].state, fails["c199"].state, len(fails.steps)) == ("done", "waiting", 602)
        assert rig.dead.one().name == "<lambda>"


def test_effects_of_one_name_are_those_of_all_effects() -> None:
    with ic.Rig() as rig:
        ledger = rig.service(ic.services.Ledger(idempotent=True))
        ledger.fail(calls=1)
        with pytest.raises(ic.ServiceError):
            ledger.post("fares", "till", 5, key="TL-204")
        for _ in range(2):
            ledger.post("fares", "till", 5, key="TL-204")
        outcomes = ["failed", "done", "repeated"]
        assert [effect.outcome for effect in rig.effects] == outcomes
        assert [effect.outcome for effect in rig.effects("ledger.post")] == outcomes
        assert len(rig.effects("ledger.post", outcome="done")) == len(ledger.postings) == 1
        rig.check(ic.laws.once_per_key("ledger.post"))
        with pytest.raises(ic.SelectionError, match="outcome is 'ok'"):
            rig.effects("ledger.post", outcome="ok")


def test_an_idempotent_ledger_takes_one_of_two_at_once_and_answers_nobody_in_an_outage() -> None:
    with ic.Rig() as rig:
        rig.workers(2)
        ledger = rig.service(ic.services.Ledger(idempotent=True))
        ledger.slow(by="5s")
        kind = rig.job(lambda: ledger.post("fares", "till", 5, key="TL-204"), name="post")
        jobs = [rig.enqueue(kind) for _ in range(2)]
        rig.run_dry()
        assert len(ledger.postings) == 1
        assert jobs[0].result == jobs[1].result == ledger.postings[0]
        ledger.fail(between=(rig.now, "2031-04-01"))
        with pytest.raises(ic.ServiceError):
            ledger.post("fares", "till", 5, key="TL-204")
