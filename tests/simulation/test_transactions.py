"""Transactions and requests: what is enqueued with its data, too early, or left behind."""

from __future__ import annotations

import contextlib
import sqlite3
import time
from collections.abc import Iterator
from typing import Any

import pytest

import ironclock as ic


class Desk:
    """A booking desk whose data and queue are separate things."""

    def __init__(self) -> None:
        self.rows: dict[int, str] = {}
        self.fresh: dict[int, str] = {}

    @contextlib.contextmanager
    def atomic(self) -> Iterator[None]:
        self.fresh = {}
        try:
            yield
        except BaseException:
            self.fresh = {}
            raise
        self.rows |= self.fresh
        self.fresh = {}

    def confirm(self, booking: int) -> str:
        return f"confirmed {self.rows[booking]}"


def test_what_a_rolled_back_transaction_enqueued_was_never_enqueued() -> None:
    rig = ic.Rig()
    kind = rig.job(lambda b: b, name="confirm")
    with rig:
        with rig.transaction():
            kept = rig.enqueue(kind.call(1), after="1m")
            assert len(rig.jobs()) == 0, "not before the commit"
        with pytest.raises(ValueError, match="full"), rig.transaction():
            rig.enqueue(kind.call(2))
            raise ValueError("the ship is full")
        rig.run_dry()
    assert [j.args for j in rig.jobs()] == [(1,)]
    assert kept.state == "done"
    story = rig.history.story()
    assert "transaction 1 commits" in story
    assert "transaction 2 is rolled back; never enqueued: confirm-2" in story


def test_nested_transactions_wait_for_the_outermost() -> None:
    rig = ic.Rig()
    kind = rig.job(lambda b: b, name="confirm")
    with rig:
        with rig.transaction():
            with rig.transaction():
                rig.enqueue(kind.call("inner"))
            with contextlib.suppress(ValueError), rig.transaction():
                rig.enqueue(kind.call("undone"))
                raise ValueError
            assert len(rig.jobs()) == 0
            rig.enqueue(kind.call("outer"))
        rig.run_dry()
    assert [j.args[0] for j in rig.jobs()] == ["inner", "outer"]


def test_enqueued_before_the_commit_and_fetched_too_early() -> None:
    desk, rig = Desk(), ic.Rig()
    kind = rig.job(desk.confirm)
    rig.transaction_at(desk.atomic, joins=False)

    def reserve(booking: int) -> ic.Job:
        with desk.atomic():
            desk.fresh[booking] = "TL-204"
            return rig.enqueue(kind.call(booking))

    with rig:
        fine = reserve(1)
        rig.run_dry()
        assert fine.result == "confirmed TL-204", "by luck"
        with pytest.raises(ic.laws.BrokenLaw, match="confirm-1 can be fetched before transaction 1 has committed"):
            rig.check(ic.laws.after_commit())
        rig.faults.fetch_early("confirm")
        early = reserve(2)
        rig.run_dry()
    assert early.state == "dead"
    assert isinstance(early.error, KeyError)


def test_put_in_after_the_commit_the_law_holds() -> None:
    desk, rig = Desk(), ic.Rig()
    kind = rig.job(desk.confirm)
    rig.transaction_at(desk.atomic, joins=False)
    rig.faults.fetch_early("confirm")
    with rig:
        with desk.atomic():
            desk.fresh[1] = "TL-204"
        rig.enqueue(kind.call(1))
        rig.run_dry()
    assert rig.jobs().one().result == "confirmed TL-204"
    rig.check(ic.laws.after_commit())


def test_a_worker_that_dies_in_a_transaction_rolls_it_back() -> None:
    rig = ic.Rig()
    follow = rig.job(lambda: None, name="follow")

    def first() -> None:
        with rig.transaction():
            rig.enqueue(follow.call())
            time.sleep(1)

    kind = rig.job(first)
    rig.faults.crash("first", at="sleep", attempts=1)
    rig.faults.crash("first", at="commit", attempts=2)
    rig.faults.crash("first", at="after commit", attempts=3)
    with rig:
        rig.enqueue(kind.call())
        rig.run_dry()
    assert [a.outcome for a in rig.jobs("first").one().attempts] == ["crashed", "crashed", "crashed", "done"]
    assert len(rig.jobs("follow")) == 2, "the one whose commit was through, and the last"


def test_a_failed_request_shows_what_it_left_behind() -> None:
    rig = ic.Rig()
    kind = rig.job(lambda b: b, name="confirm")
    with rig:
        with rig.request("GET /fares"):
            pass
        with pytest.raises(ValueError, match="no such card"), rig.request("POST /pay"):
            rig.enqueue(kind.call(7))
            rig.schedule("remind", kind.call(7), ic.every("1d"))
            raise ValueError("no such card")
    assert (
        "request POST /pay fails: ValueError: no such card; it leaves behind confirm-1, the schedule remind"
        in rig.history.story()
    )
    with pytest.raises(ic.laws.BrokenLaw, match="POST /pay failed and left confirm-1, the schedule remind behind"):
        rig.check(ic.laws.nothing_left_behind())


def test_in_a_transaction_a_failed_request_leaves_nothing() -> None:
    rig = ic.Rig()
    kind = rig.job(lambda b: b, name="confirm")
    with rig, pytest.raises(ValueError), rig.request("POST /pay"), rig.transaction():  # noqa: PT011
        rig.enqueue(kind.call(7))
        raise ValueError
    rig.check(ic.laws.nothing_left_behind())


class Collector:
    """The application's own: functions to run when the response is out."""

    def add(self, function: Any, *args: Any) -> None:
        raise AssertionError("only where it is not collected")


@pytest.mark.parametrize(("on_error", "ran"), [("stop", ["a"]), ("go on", ["a", "c"])])
def test_functions_collected_in_a_request_run_in_order_after_the_response(on_error: Any, ran: list[str]) -> None:
    rig, seen = ic.Rig(), []
    collector = Collector()
    rig.collector(collector.add, on_error=on_error)

    def note(name: str) -> None:
        time.sleep(5)
        if name == "b":
            raise ConnectionError("b is away")
        seen.append(name)

    with rig:
        with rig.request("POST /pay") as request:
            for name in "abc":
                collector.add(note, name)
            rig.advance("1m")
            assert seen == []
        rig.run_dry()
    assert seen == ran
    assert request.background is not None
    assert (request.background.name, request.background.state) == ("after_response", "dead")
    with rig, pytest.raises(ic.RigStateError, match="outside a request"):
        collector.add(note, "d")


def test_the_ferry_lines_put_joins_its_own_transaction(ferry: sqlite3.Connection) -> None:
    from tern_line import booking

    rig = ic.Rig()
    rig.tap("tern_line.jobs:put", reads=ic.reading(job=0, args=slice(1, None), after="wait", queue="to"))
    with rig:
        with rig.transaction():
            booking.reserve("TL-204", 1)
            assert len(rig.jobs()) == 0
        assert rig.jobs("release_hold").one().state == "held"
