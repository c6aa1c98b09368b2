"""The hard form of a crash: the attempt's process really dies, and a real database takes back what it had open."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from pathlib import Path

import pytest

import ironclock as ic

pytestmark = pytest.mark.skipif(not hasattr(os, "fork"), reason="needs os.fork")


def transfer(path: str) -> int:
    with contextlib.closing(sqlite3.connect(path)) as connection:
        return write(connection)


def write(connection: sqlite3.Connection) -> int:
    connection.execute("insert into fares values ('B-7', 180)")
    time.sleep(10)
    mark()
    connection.commit()
    return os.getpid()


def mark() -> None:
    return


@pytest.fixture
def path(tmp_path: Path) -> str:
    found = str(tmp_path / "tern.db")
    with contextlib.closing(sqlite3.connect(found)) as connection:
        connection.execute("create table fares (booking text, amount integer)")
    return found


def fares(path: str) -> int:
    with contextlib.closing(sqlite3.connect(path)) as connection:
        return int(connection.execute("select count(*) from fares").fetchone()[0])


@pytest.mark.parametrize(("at", "left"), [("before mark", 1), ("after mark", 1), ("sleep", 1)])
def test_a_dead_process_takes_its_open_transaction_with_it(path: str, at: str, left: int) -> None:
    rig = ic.Rig()
    rig.effect("mark", mark)
    kind = rig.job(transfer)
    rig.faults.crash("transfer", at=at, attempts=1, hard=True)
    with rig:
        job = rig.enqueue(kind.call(path))
        rig.run_dry()
    assert [a.outcome for a in job.attempts] == ["crashed", "done"]
    assert fares(path) == left
    assert job.result == os.getpid(), "the second attempt had no fault and no child"
    assert f"its worker dies at the seam {at!r}" in job.story()


def test_others_go_on_while_the_child_sleeps_and_its_effects_are_on_record() -> None:
    rig = ic.Rig(start="2031-03-03T09:00")
    rig.workers(2)
    mail, ran = rig.service(ic.services.Mail()), []
    rig.effect("mark", mark)
    follow = rig.job(lambda text: ran.append((text, rig.now.minute)), name="follow")

    def report(sailing: str) -> str:
        time.sleep(60)
        mail.send("office", f"{sailing} is loading")
        rig.enqueue(follow.call("from the child"), after="1m")
        rig.progress("half")
        rig.remember("seal", mark)
        time.sleep(120)
        mark()
        return "child's answer"

    kind = rig.job(report)
    rig.faults.crash("report", at="after mark", attempts=1, visits=2, hard=True)
    with rig:
        job = rig.enqueue(kind.call("TL-204"))
        other = rig.enqueue(rig.job(lambda: time.sleep(90), name="nap").call())
        rig.run_dry()
    assert (other.state, job.state, job.result, job.progress) == ("done", "done", "child's answer", "half")
    assert [f"{m.at:%H:%M}" for m in mail.sent] == ["09:01", "09:04"]
    assert ran == [("from the child", 2), ("from the child", 5)]
    assert [e.attempt for e in rig.effects("mark")] == [1, 1, 2], "the second attempt remembered its step"
    assert "step 'seal' was done before" in job.story()


def refuse() -> None:
    raise PermissionError("the gate is closed")


def answer() -> object:
    return lambda: 1


def test_errors_and_results_come_back_from_the_child_or_say_why_not() -> None:
    rig = ic.Rig()
    rig.effect("nothing", mark)
    for fn in (refuse, answer):
        kind = rig.job(fn)
        rig.faults.crash(fn, at="before nothing", hard=True)
        rig.enqueue(kind.call())
    rig.run_dry()
    first, second = rig.jobs()
    assert (type(first.error), str(first.error)) == (PermissionError, "the gate is closed")
    assert "the result of answer-2 cannot be sent from its forked child" in str(second.error)


def test_a_timeout_reaches_the_child_and_a_killed_attempt_leaves_none_behind() -> None:
    rig = ic.Rig()

    def stubborn() -> str:
        try:
            time.sleep(60)
        except ic.AttemptTimeout:
            time.sleep(1)
            raise
        return "in time"

    kind = rig.job(stubborn, timeout="10s")
    rig.effect("nothing", mark)
    rig.faults.crash("stubborn", at="before nothing", hard=True)
    with rig:
        job = rig.enqueue(kind.call())
        rig.run_dry()
        assert (job.state, job.attempts[0].outcome) == ("dead", "timed-out")
        killed = rig.enqueue(kind.call())
        rig.advance("1s")
        killed.withdraw(running="kill")
        rig.settle()
    assert killed.state == "withdrawn"
    rig.close()


def test_a_child_that_dies_of_something_else_is_a_crash_too() -> None:
    rig = ic.Rig()

    def fall() -> None:
        if rig.jobs().one().attempts_made < 3:
            os._exit(3)

    kind = rig.job(fall)
    rig.effect("nothing", mark)
    rig.faults.crash("fall", at="before nothing", attempts=(1, 2), hard=True)
    with rig:
        job = rig.enqueue(kind.call())
        rig.run_dry()
    assert [a.outcome for a in job.attempts] == ["crashed", "crashed", "done"]
    assert "the process itself" in job.story()
