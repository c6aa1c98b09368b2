"""Faithful first: a log that is rehearsed against what made it comes back as it was."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from ferry_logs import day, modelled, rows, write_log

import ironclock as ic

RETRIES = [
    ic.Retry(5, "30s"),
    ic.Retry(6, ic.exponential("10s", jitter="full")),
    ic.Retry(8, ic.exponential("5s", cap="2m", jitter=0.2)),
    ic.Retry(3, ic.linear("40s")),
]


@pytest.mark.parametrize("retry", RETRIES, ids=lambda retry: retry.wait.describe())
@pytest.mark.parametrize("workers", [1, 4])
def test_a_day_comes_back(retry: ic.Retry, workers: int, tmp_path: Path) -> None:
    history = day(3, retry, jobs=400, workers=workers)
    history.save(tmp_path / "day.jsonl")
    saved = ic.rehearse(tmp_path / "day.jsonl").fidelity
    assert saved.share == 1.0, saved.words()
    assert saved.digests[0] == saved.digests[1] != ""
    for unit in (1_000, 1_000_000):
        log = ic.rehearse(write_log(history, tmp_path / "day.csv", unit)).fidelity
        assert log.share > 0.98, log.words()
        assert log.digests == ("", "")


def test_a_live_history_comes_back() -> None:
    fidelity = ic.rehearse(day(1, RETRIES[0], jobs=60)).fidelity
    assert fidelity.digests[0] == fidelity.digests[1]
    assert fidelity.words() == "100 % of the 60 jobs come back as they were"


Place = Callable[[ic.Rig, ic.JobType[..., Any]], None]


def crash(rig: ic.Rig, job: ic.JobType[..., Any]) -> None:
    rig.faults.crash("mail", chance=0.1, down="20s")


def crash_at_end(rig: ic.Rig, job: ic.JobType[..., Any]) -> None:
    rig.faults.crash("mail", chance=0.1, at="ack")


def lose_acks(rig: ic.Rig, job: ic.JobType[..., Any]) -> None:
    rig.faults.lose_ack("mail", chance=0.1)


def be_slow(rig: ic.Rig, job: ic.JobType[..., Any]) -> None:
    rig.faults.slow("mail", by="20s", chance=0.1)


def limit(rig: ic.Rig, job: ic.JobType[..., Any]) -> None:
    rig.queue("default").limit(1)


def nothing(rig: ic.Rig, job: ic.JobType[..., Any]) -> None:
    pass


@pytest.mark.parametrize(
    ("policy", "place"),
    [
        ({}, crash),
        ({}, crash_at_end),
        ({"lease": "30s"}, crash_at_end),
        ({"ack": "early"}, crash_at_end),
        ({"deliveries": 2}, crash),
        ({}, lose_acks),
        ({"timeout": "5s"}, be_slow),
        ({"lease": "15s"}, be_slow),
        ({"expires": "10s"}, be_slow),
        ({"retry": ic.Retry(9, "10s", within="40s")}, nothing),
        ({"retry": ic.Retry(9, "10s", never_on=KeyError)}, nothing),
        ({"retry": ic.Retry(9, "10s", drop_on=KeyError)}, nothing),
        ({"priority": 1}, nothing),
        ({}, limit),
    ],
    ids=lambda given: given.__name__ if callable(given) else " ".join(given) or "-",
)
def test_what_a_queue_can_do_comes_back(policy: dict[str, Any], place: Place, tmp_path: Path) -> None:
    luck = random.Random(5)
    with ic.Rig(start="2031-03-28T06:00", seed=9) as rig:
        rig.workers(2)
        mail = rig.job(modelled, name="mail", takes="3s", **{"retry": ic.Retry(4, "7s"), **policy})
        other = rig.job(modelled, name="other", takes={"median": "2s", "p95": "9s"})
        rig.faults.fail("mail", chance=0.2, error=KeyError("no such seat"))
        place(rig, mail)
        for number in range(150):
            rig.advance(luck.expovariate(0.4))
            job = rig.enqueue(luck.choice([mail, other]), number)
            if number % 40 == 0 and job.state in ("held", "ready"):
                job.withdraw()
        rig.run_dry()
        dead = [job for job in rig.jobs("mail") if job.state == "dead"]
        for job in dead[:2]:
            rig.dead.requeue(job)
        rig.run_dry()
    rig.history.save(tmp_path / "night.jsonl")
    fidelity = ic.rehearse(tmp_path / "night.jsonl").fidelity
    assert fidelity.digests[0] == fidelity.digests[1], fidelity.words()
    assert fidelity.share == 1.0, fidelity.words()


def a_night_of_everything(seed: int) -> ic.History:
    """Return the history of workers that die and stay away, limits, leases, lost answers, and jobs put back at once."""
    luck = random.Random(seed)
    with ic.Rig(start="2031-03-28T06:00", seed=seed) as rig:
        rig.workers(luck.randint(1, 3))
        wait = luck.choice(["10s", ic.exponential("5s", jitter="full")])
        more = luck.choice([{}, {"lease": "30s"}, {"deliveries": 2}, {"priority": 1}, {"timeout": "4s"}])
        mail = rig.job(modelled, name="mail", takes="1s", retry=ic.Retry(luck.randint(1, 4), wait), **more)
        other = rig.job(modelled, name="other", takes=luck.choice(["1s", {"median": "2s", "p95": "6s"}]))
        rig.faults.fail("mail", chance=0.25, error=OSError("no route"))
        if seed % 2:
            rig.faults.crash("mail", chance=0.1, down="20s")
        if seed % 3 == 0:
            rig.faults.lose_ack("other", chance=0.05)
        if seed % 5 == 0:
            rig.queue("default").limit(1)
        for number in range(120):
            rig.advance(luck.expovariate(0.3))
            rig.enqueue(luck.choice([mail, other]), number)
            dead = [job for job in rig.jobs("mail") if job.state == "dead"]
            if dead and luck.random() < 0.1:
                rig.dead.requeue(luck.choice(dead))
        if seed % 4:
            rig.run_dry()
    return rig.history


@pytest.mark.parametrize("seed", [*range(8), 65])
def test_a_night_of_everything_comes_back(seed: int, tmp_path: Path) -> None:
    a_night_of_everything(seed).save(tmp_path / "night.jsonl")
    fidelity = ic.rehearse(tmp_path / "night.jsonl").fidelity
    assert fidelity.digests[0] == fidelity.digests[1], fidelity.words()


@pytest.mark.exhaustive
def test_nearly_all_nights_of_everything_come_back(tmp_path: Path) -> None:
    """What starts first of two jobs that a limit holds until one instant is not known."""
    same = 0
    for seed in range(8, 308):
        a_night_of_everything(seed).save(tmp_path / "night.jsonl")
        fidelity = ic.rehearse(tmp_path / "night.jsonl").fidelity
        assert fidelity.share > 0.97
        same += fidelity.digests[0] == fidelity.digests[1]
    assert same >= 295


def test_an_answer_that_is_lost_at_the_end_of_the_log_is_lost_once() -> None:
    with ic.Rig(start="2031-03-28T06:00") as rig:
        charge = rig.job(modelled, name="charge", takes="1s", lease="30s")
        rig.faults.lose_ack("charge")
        rig.enqueue(charge, "B-1")
        rig.advance("3s")
        history = rig.history
    rehearsed = ic.rehearse(history, workers=2)
    (record,) = rehearsed.candidates[0].run.jobs
    assert [attempt.outcome for attempt in record.attempts] == ["done", "done"]


def test_jobs_that_enqueue_jobs_come_back_with_them() -> None:
    with ic.Rig(start="2031-03-28T06:00") as rig:
        ticket = rig.job(modelled, name="ticket", takes="1s")
        charge = rig.job(lambda booking: rig.enqueue(ticket, booking, after="10s"), name="charge", takes="2s")
        rig.faults.fail("charge", attempts=1, when=lambda attempt: attempt.job.args[0] == "B-2", error=OSError("no"))
        for number in range(30):
            rig.enqueue(charge, f"B-{number}")
        rig.run_dry()
        history = rig.history
    again = ic.rehearse(history, policies={"charge": ic.Retry(2, "1m")})
    assert again.fidelity.digests[0] == again.fidelity.digests[1]
    # As logged the second charge is dead, and has no ticket. What its ticket would be, no log can say.
    assert [change.job for change in again.candidates[0].changes("saved")] == ["charge-3 charge"]
    later = ic.rehearse(history, policies={"charge": ic.Policy(queue="slow")}, workers=1)
    assert {record.name for record in later.candidates[0].run.jobs} == {"charge", "ticket"}


def test_an_open_end_comes_back() -> None:
    with ic.Rig(start="2031-03-28T06:00") as rig:
        mail = rig.job(modelled, name="mail", takes="10m", retry=ic.Retry(3, "1h"))
        rig.faults.fail("mail", attempts=1, error=OSError("no"))
        rig.enqueue(mail, 1)
        rig.enqueue(mail, 2)
        rig.advance("15m")
        history = rig.history
    fidelity = ic.rehearse(history).fidelity
    assert fidelity.digests[0] == fidelity.digests[1]


def test_what_is_not_understood_is_said_first(tmp_path: Path) -> None:
    # Six jobs at once, on one worker that starts them from the last to the first, and is never idle.
    log = tmp_path / "odd.csv"
    attempts = [(f"j{n}", "scan", 0, 10 * (5 - n), 10 * (6 - n), "done", "", "w1") for n in range(6)]
    attempts += [("k", "scan", 5, 60, 70, "done", "", "w1"), ("l", "scan", 1, 70, 80, "done", "", "w1")]
    log.write_text("\n".join(rows(*attempts)), encoding="utf-8")
    rehearsal = ic.rehearse(log)
    assert rehearsal.fidelity.held > 0
    assert "wait as long as in the log, for a reason that it does not tell" in rehearsal.fidelity.words()


def test_what_is_not_rehearsed_is_said() -> None:
    with ic.Rig(start="2031-03-28T06:00") as rig:
        mail = rig.job(modelled, name="mail", takes="10s")
        job = rig.enqueue(mail, 1)
        rig.faults.deliver_twice("mail")
        rig.run_dry()
    assert job.state == "done"
    notes = ic.rehearse(rig.history).notes
    assert "1 jobs that were delivered twice" in notes


def test_a_pool_that_rests_between_jobs_is_understood(tmp_path: Path) -> None:
    # A worker that needs half a second between two jobs: what the log shows, and the candidate keeps.
    at, attempts = 0.0, []
    for number in range(40):
        attempts.append((f"j{number}", "scan", 0, at, at + 2, "done", "", "w1"))
        at += 2.5
    log = tmp_path / "rests.csv"
    log.write_text("\n".join(rows(*attempts)), encoding="utf-8")
    rehearsal = ic.rehearse(log, workers=2)
    assert rehearsal.fidelity.share == 1.0
    assert rehearsal.fidelity.held == 0
    before, after = rehearsal.candidates[0].value("longest")
    assert (before, after) == (99.5, 49.5)


def test_rows_and_columns_tell_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    pytest.importorskip("pyarrow")
    from ironclock.history import log_histories
    from ironclock.rehearsal.logged_jobs import logged_jobs

    path = write_log(day(2, RETRIES[0], jobs=200), tmp_path / "day.csv")
    slow = logged_jobs(ic.log_history(path), has_results=False)
    monkeypatch.setattr(log_histories, "_LARGE", 0)
    columns = ic.log_history(path)
    assert columns.job_rows() is not None
    assert logged_jobs(columns, has_results=False) == slow
