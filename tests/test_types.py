"""What static tools say about a user's file: nothing about right lines, and something about every wrong one.

A wrong line ends in a comment `wrong`. Both tools must report these lines and no others: so the code after an assertion
about a state is still checked, and no public name is `Any` without need.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

import ironclock

USERS_FILE = '''
"""A user's tests of the ferry line."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from typing import assert_type

import ironclock as ic


def charge_fare(booking: int, fare: float = 180.0) -> str:
    return f"{booking}: {fare}"


async def offer_seat(sailing: str) -> list[str]:
    return [sailing]


def rigs() -> Iterator[ic.Rig]:
    with ic.Rig(start="2031-03-29T21:00", zone="Atlantic/Faroe", seed=7) as rig:
        yield rig


def test_states(rig: ic.Rig) -> None:
    charge = rig.job(charge_fare, retry=ic.Retry(4, ic.exponential("10s", cap="5m")), timeout="30s")
    job = rig.enqueue(charge.call(7, fare=90.5), after="15m")
    assert job.state == "held"
    rig.advance("20m")
    assert job.state == "done"
    assert_type(job.result, str)
    job.result.upper()
    job.result.uper()  # wrong
    charge.call("no", 3)  # wrong
    charge.call()  # wrong
    charge.call(1, fair=3.0)  # wrong
    rig.enqueue(charge.call(7), after=["1m"])  # wrong
    rig.advance(None)  # wrong
    job.state = "dead"  # wrong
    attempt = job.attempts[-1]
    assert attempt.number == 1
    assert attempt.worker.startswith("w")
    assert attempt.outcome == "done"
    assert attempt.error is None
    assert_type(attempt.started_at, dt.datetime)
    assert attempt.wroker  # wrong
    assert [one.id for one in rig.jobs("charge_fare", state="done")] == [job.id]
    rig.jobs(stat="done")  # wrong


def test_async_jobs(rig: ic.Rig) -> None:
    offer = rig.job(offer_seat)
    rig.workers(2, queues={"desk": 2, "harbour": 1})
    job = rig.enqueue(offer.call("TL-204"), at="2031-03-29T22:00")
    rig.run_dry()
    assert_type(job.result, list[str])
    offer.call(204)  # wrong
    rig.worker(2)  # wrong


def test_schedules(rig: ic.Rig) -> None:
    nightly = rig.job(charge_fare, name="nightly")
    rig.schedule("tide", nightly.call(1), ic.cron("0 2 * * *", "Atlantic/Faroe"), overlap="skip")
    rig.schedule("tide", nightly.call("1"), ic.every("1h"))  # wrong
    rig.schedule("tide", nightly.call(1), 3600)  # wrong
    ic.cron(5)  # wrong
    ic.cron("0 2 * * *", gap="jump")  # wrong
    found = ic.cron("0 2 * * *").after(dt.datetime.now(dt.timezone.utc))
    assert_type(found, dt.datetime | None)


def test_laws_and_services(rig: ic.Rig) -> None:
    bank = rig.service(ic.services.Ledger("bank", idempotent=True))
    assert_type(bank, ic.services.Ledger)
    bank.post("passenger", "fares", 180, key="B-1")
    bank.pots("passenger", "fares", 180)  # wrong
    rig.faults.fail("charge_fare", attempts=(1, 2))
    rig.faults.fial("charge_fare")  # wrong
    rig.check(ic.laws.once_per_key("bank.post"), ic.laws.nothing_lost())
    rig.check(ic.laws.once_per_kex("bank.post"))  # wrong
    rig.check(3)  # wrong
    for dead in rig.dead:
        assert_type(dead.error, BaseException | None)


class Desk:
    def call(self, booking: int) -> None: ...

    def work(self, desk: str, batch: int = 10) -> None: ...


def sweep() -> None: ...


def charge_app(environ: dict[str, object], start_response: object) -> list[bytes]:
    return []


def test_what_is_enqueued(rig: ic.Rig, desk: Desk) -> None:
    charge = rig.job(charge_fare)
    assert_type(rig.enqueue(charge_fare, 3).result, str)
    assert_type(rig.enqueue(charge_fare, 3, fare=90.5).result, str)
    assert_type(rig.enqueue(offer_seat, "TL-204").result, list[str])
    assert_type(rig.enqueue(charge, 3, fare=90.5).result, str)
    assert_type(rig.enqueue(charge_fare, 3, after="5m", retry=3).result, str)
    assert_type(rig.enqueue(offer_seat, "TL-204", at=rig.now, key="TL").result, list[str])
    assert_type(rig.enqueue(charge, 3, queue="desk", priority=2).result, str)
    assert_type(rig.enqueue(desk.call, 3).result, None)
    assert_type(rig.enqueue(lambda: 3, priority=1).result, int)
    rig.enqueue(print, "a", 3)
    rig.enqueue(charge_fare, "3")  # wrong
    rig.enqueue(charge_fare)  # wrong
    rig.enqueue(charge_fare, 3, fair=90.5)  # wrong
    rig.enqueue(offer_seat, 204)  # wrong
    rig.enqueue(charge, "3")  # wrong
    rig.enqueue(desk.call, "3")  # wrong
    rig.enqueue(charge_fare, 3, afterwards="5m")  # wrong
    rig.enqueue("charge_fare", 3)  # wrong
    rig.enqueue(charge_fare, 3, after=["5m"])  # wrong
    rig.run_loop(desk.work, "desk")
    rig.run_loop(desk.work, "desk", 3, count=2, name="desk")
    rig.run_loop(sweep, restart="5s")
    rig.run_loop(desk.work, 3)  # wrong
    rig.run_loop(desk.work, "desk", cont=2)  # wrong
    rig.schedule("sweep", sweep, "15m")
    rig.schedule("sweep", rig.job(sweep), "15m")
    rig.schedule("sweep", charge.call(3), "15m")
    rig.schedule("sweep", charge_fare, "15m")  # wrong
    rig.schedule("sweep", charge, "15m")  # wrong


def test_words(rig: ic.Rig, model: object) -> None:
    rig.job(sweep, retries=3)  # wrong
    rig.job(sweep, ack="soon")  # wrong
    rig.job(sweep, only_while=["open"], takes={"median": "2s", "p95": "9s"}, key=lambda: 3)
    rig.jobs(sweep, state=["done", "dead"])
    rig.jobs(state="ded")  # wrong
    rig.jobs(3)  # wrong
    rig.jobs().must_be((sweep, 3), ic.expected(sweep, state="dead"))
    ic.expected(3)  # wrong
    ic.expected("sweep", state="ded")  # wrong
    rig.faults.fail(sweep, attempts=range(1, 3), error=TimeoutError)
    rig.faults.fail(3)  # wrong
    rig.faults.hang(sweep, attempt=2)  # wrong
    rig.effect("charge", "tern_line.outside:CardGateway.charge", key="key", answers={"ok": True})
    rig.effect("charge", 3)  # wrong
    rig.effects("charge", outcome="dun")  # wrong
    assert rig.effects("charge")[0].key.upper() == "B-1"
    rig.tap(sweep, reads=ic.reading(job=0, args="args"))
    rig.tap(3)  # wrong
    rig.outside(3)  # wrong
    rig.collector(3)  # wrong
    rig.transaction_at("django.db.transaction:atomic")
    rig.handler({"sweep": sweep})
    rig.handler(Desk.call, id="booking", job=lambda desk, booking: "call")
    rig.handler(3)  # wrong
    rig.handler(Desk.call, 3)  # wrong
    rig.endpoint(charge_app, "/jobs/{job}", secret="salt").job("call", retry=ic.Retry(3), timeout="5s")
    rig.endpoint(charge_app, "/jobs/{job}", secert="salt")  # wrong
    rig.endpoint(charge_app, "/jobs/{job}").job("call", retires=3)  # wrong
    rig.outbox("sqlite:///x.db", table=model, handlers={"sweep": sweep})
    rig.outbox("sqlite:///x.db", table=model, handlers=3)  # wrong
    ic.Policy().changed(retry=3, queue=None)
    ic.Policy().changed(retires=3)  # wrong


def story(rig: ic.Rig) -> None:
    test_laws_and_services(rig)


def test_probe() -> None:
    findings = ic.probe(story, [ic.laws.nothing_lost()], runs=50)
    assert findings.coverage.runs <= 50
    ic.probe(story, run=50)  # wrong
    ic.Retry(attempts="3")  # wrong
    ic.Retry(3, ic.exponential())  # wrong
    ic.Policy(queue=3)  # wrong
    ic.Rigg()  # wrong
    ic.services.Mial()  # wrong


EVERY_NAME = [
'''
USERS_FILE += "".join(f"    ic.{name},\n" for name in ironclock.__all__) + "]\n"
ROOT = Path(__file__).parents[1]
WRONG = {number for number, line in enumerate(USERS_FILE.splitlines(), 1) if line.endswith("# wrong")}


@pytest.fixture
def users_file(tmp_path: Path) -> Path:
    path = tmp_path / "test_ferry.py"
    path.write_text(USERS_FILE)
    return path


def test_mypy_reports_the_wrong_lines_and_no_others(users_file: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "mypy",
        "--strict",
        "--no-error-summary",
        "--config-file",
        str(ROOT / "pyproject.toml"),
    ]
    command += ["--cache-dir", str(ROOT / ".mypy_cache"), str(users_file)]  # the cache of `make check`
    done = subprocess.run(command, cwd=users_file.parent, capture_output=True, text=True)
    assert done.returncode == 1, done.stdout + done.stderr
    said = {int(found[1]): found[0] for found in re.finditer(r"^test_ferry.py:(\d+): error.*", done.stdout, re.M)}
    assert set(said) == WRONG, {n: said.get(n, "not reported") for n in set(said) ^ WRONG}


def test_pyright_reports_the_wrong_lines_and_no_others(users_file: Path) -> None:
    command = [sys.executable, "-m", "pyright", "--outputjson", "--pythonpath", sys.executable, str(users_file)]
    done = subprocess.run(command, cwd=users_file.parent, capture_output=True, text=True)
    found = json.loads(done.stdout)["generalDiagnostics"]
    said = {one["range"]["start"]["line"] + 1: one["message"] for one in found if one["severity"] == "error"}
    assert set(said) == WRONG, {n: said.get(n, "not reported") for n in set(said) ^ WRONG}
