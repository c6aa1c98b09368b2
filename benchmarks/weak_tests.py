"""Weak tests with a known answer: what nobody notices there, what somebody does, and what does not count.

Each is a file of tests, as somebody writes it in a hurry. Its answers say of some changes what becomes of them:
``noticed``, ``unnoticed``, or ``the same``.
"""

from __future__ import annotations

from typing import NamedTuple

HEAD = """
import asyncio
import sqlite3
import time
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

import ironclock as ic


class CardRefused(Exception):
    pass


@pytest.fixture
def bank(rig):
    return rig.service(ic.services.Ledger("bank", idempotent=True))


@pytest.fixture
def mail(rig):
    return rig.service(ic.services.Mail())
"""


class Weak(NamedTuple):
    """A file of tests. `code` is the module ``app`` whose code is changed; empty: none is."""

    name: str
    tests: str
    answers: dict[str, str]
    code: str = ""


def _retries(asserts: str, fails: str = "") -> str:
    return f"""
def test_charge(rig, bank):
    def charge(booking):
        bank.post("passenger", "fares", 180, key=booking)
    retry = ic.Retry(attempts=3, wait=ic.exponential("10s"), never_on=CardRefused)
    kind = rig.job(charge, retry=retry, timeout="30s")
    {fails}
    job = rig.enqueue(kind.call("TL-1"))
    rig.run_dry()
    {asserts}
"""


def _outbox(asserts: str) -> str:
    return """
@pytest.fixture
def table(tmp_path):
    connection = sqlite3.connect(tmp_path / "desk.db", isolation_level=None)
    connection.execute("create table outbox (id integer primary key, job text, args text, due text, state text)")
    yield connection
    connection.close()

COLUMNS = ic.Columns(name="job", args="args", due="due", state="state", waiting="new", done="done")

def tell(to):
    pass

def test_relay(rig, table):
    rig.outbox(table, table="outbox", columns=COLUMNS, handlers={"tell": tell})
    table.execute("insert into outbox (job, args, state) values ('tell', '[\\"ada\\"]', 'new')")
""" + asserts.lstrip("\n")


WEAK = [
    Weak("a queue, a priority, a condition, a lease, chance", """
def test_manifests(rig):
    rig.workers(1, queues=["harbour", "default"])
    retry = ic.Retry(3, ic.exponential("1m", jitter=0.1), within="1h")
    kind = rig.job(
        lambda: time.sleep(5), name="manifest", queue="harbour", priority=-5,
        only_while=["harbour is open"], lease="10m", retry=retry,
    )
    rig.enqueue(kind.call())
    rig.run_dry()
    assert rig.jobs("manifest").one().state == "done"
""", {
        "manifest: another queue": "unnoticed", "manifest: the opposite priority": "unnoticed",
        "manifest: its conditions always hold": "unnoticed", "manifest: no jitter": "unnoticed",
        "manifest: no limit within which it is tried": "unnoticed",
    }),
    Weak("they are looked at", """
def test_manifests(rig):
    rig.workers(2, queues=["harbour", "default"])
    kind = rig.job(
        lambda: time.sleep(120), name="manifest", queue="harbour", priority=-5,
        only_while=["harbour is open"], lease="10m",
    )
    letter = rig.job(lambda: time.sleep(1), name="letter", queue="harbour")
    rig.conditions.off("harbour is open")
    rig.enqueue(letter.call(), after="1m")
    job = rig.enqueue(kind.call(), after="1m")
    rig.advance("2m")
    assert job.state == "held" and job.queue == "harbour"
    rig.conditions.on("harbour is open")
    rig.enqueue(letter.call(), after="1m")
    rig.enqueue(kind.call(), after="1m")
    rig.run_dry()
    assert [len(one.attempts) for one in rig.jobs("manifest")] == [1, 1]
""", {
        "manifest: another queue": "noticed", "manifest: its conditions always hold": "noticed",
        "manifest: a lease of 6s instead of 10m": "noticed",
    }),
    Weak("functions in a policy", """
def test_charge(rig):
    kind = rig.job(
        lambda booking: None, name="charge", retry=ic.Retry(3, wait=lambda attempt, error: 5),
        key=lambda booking: booking, timeout="30s",
    )
    rig.faults.fail("charge")
    job = rig.enqueue(kind.call("TL-1"))
    rig.run_dry()
    assert job.state == "dead" and len(job.attempts) == 3
""", {
        "charge: 1 attempt instead of 3": "noticed", "charge: 4 attempts instead of 3": "noticed",
        "charge: no timeout": "unnoticed",
    }),
    Weak("nobody lets it fail", _retries("assert job.state == 'done'"), {
        "charge: 1 attempt instead of 3": "unnoticed",
        "charge: 2 attempts instead of 3": "unnoticed",
        "charge: the first wait doubled": "unnoticed",
        "charge: no timeout": "unnoticed",
        "charge: CardRefused is treated as other errors are, and not as never_on says": "unnoticed",
        "charge: its dead letters are dropped without a word": "unnoticed",
        "bank.post: it is left out": "unnoticed",
    }),
    Weak("it fails once", _retries("assert job.state == 'done'", "rig.faults.fail('charge', attempts=1)"), {
        "charge: 1 attempt instead of 3": "noticed",
        "charge: 2 attempts instead of 3": "unnoticed",
        "charge: the first wait doubled": "unnoticed",
    }),
    Weak("it fails once, and the wait is looked at", _retries(
        "assert job.waits == ['10s']", "rig.faults.fail('charge', attempts=1)"
    ), {
        "charge: the first wait doubled": "noticed",
        "charge: the first wait halved": "noticed",
        "charge: the same wait each time, and no longer one": "unnoticed",
    }),
    Weak("it fails for good", _retries(
        "assert job.state == 'dead' and len(job.attempts) == 3", "rig.faults.fail('charge')"
    ), {
        "charge: 2 attempts instead of 3": "noticed",
        "charge: 4 attempts instead of 3": "noticed",
        "charge: its dead letters are dropped without a word": "noticed",
        "charge: the same wait each time, and no longer one": "unnoticed",
    }),
    Weak("the card is refused", _retries(
        "assert job.state == 'dead'", "rig.faults.fail('charge', attempts=1, error=CardRefused)"
    ), {"charge: CardRefused is treated as other errors are, and not as never_on says": "noticed"}),
    Weak("it hangs", _retries(
        "assert [one.outcome for one in job.attempts] == ['timed-out', 'done']",
        "rig.faults.slow('charge', by='1m', attempts=1)",
    ), {"charge: no timeout": "noticed", "charge: a timeout of 15s instead of 30s": "unnoticed"}),
    Weak("the money is counted", _retries("assert bank.balance('fares') == 180"), {
        "bank.post: it is left out": "noticed", "charge: 1 attempt instead of 3": "unnoticed",
    }),
    Weak("the answer is lost", _retries(
        "assert bank.balance('fares') == 180", "rig.faults.fail('charge', at='after bank.post', attempts=1)"
    ), {"bank.post: its key is another each time": "noticed"}),
    Weak("nobody loses an answer", _retries("assert bank.balance('fares') == 180"), {
        "bank.post: its key is another each time": "unnoticed",
    }),
    Weak("a schedule is there", """
def test_till(rig):
    rig.schedule("close-till", rig.job(lambda: None, name="close").call(), ic.cron("30 1 * * *"))
    rig.advance("3d")
    assert rig.jobs("close")
""", {
        "close-till: it is not there": "noticed",
        "close-till: an hour later": "unnoticed",
        "close-till: a minute later": "unnoticed",
        "close-till: its first firing is left out": "unnoticed",
        "close-till: each firing is two": "unnoticed",
    }),
    Weak("a schedule has its time", """
def test_till(rig):
    rig.schedule("close-till", rig.job(lambda: None, name="close").call(), ic.cron("30 1 * * *"))
    rig.advance("1d")
    assert [str(job.enqueued_at) for job in rig.jobs("close")] == ["2031-03-04 01:30:00+00:00"]
""", {
        "close-till: an hour later": "noticed", "close-till: a minute later": "noticed",
        "close-till: its first firing is left out": "noticed", "close-till: each firing is two": "noticed",
    }),
    Weak("nobody asks for the zone", """
@pytest.mark.rig(start="2031-07-01T12:00", zone="Europe/Athens")
def test_till(rig):
    rig.schedule("close-till", rig.job(lambda: None, name="close").call(), ic.cron("30 1 * * 2"))
    rig.advance("7d")
    assert len(rig.jobs("close")) == 1
""", {"close-till: in UTC, and not in its zone": "unnoticed", "close-till: a day later": "unnoticed"}),
    Weak("the zone is asked for", """
@pytest.mark.rig(start="2031-07-01T12:00", zone="Europe/Athens")
def test_till(rig):
    rig.schedule("close-till", rig.job(lambda: None, name="close").call(), ic.cron("30 1 * * 2"))
    rig.advance("7d")
    assert [job.enqueued_at.hour for job in rig.jobs("close")] == [1]
""", {"close-till: in UTC, and not in its zone": "noticed"}),
    Weak("a delay", """
def test_hold(rig):
    job = rig.enqueue(rig.job(lambda: None, name="release_hold").call(), after="15m")
    rig.run_dry()
    assert job.state == "done"
""", {"release_hold: no delay": "unnoticed", "release_hold: twice the delay": "unnoticed"}),
    Weak("a delay that is waited for", """
def test_hold(rig):
    job = rig.enqueue(rig.job(lambda: None, name="release_hold").call(), after="15m")
    rig.advance("14m")
    assert job.state == "held"
    rig.advance("1m")
    assert job.state == "done"
""", {"release_hold: no delay": "noticed", "release_hold: twice the delay": "noticed"}),
    Weak("a transaction", """
def test_booking(rig, mail):
    confirm = rig.job(lambda: mail.send("ada@tern-line.test", "Booked"), name="confirm")
    with rig.transaction():
        rig.enqueue(confirm.call())
        time.sleep(1)
    rig.run_dry()
    assert len(mail.sent) == 1
""", {
        "confirm: it is enqueued before the commit": "unnoticed",
        "confirm: it comes although the transaction is rolled back": "unnoticed",
        "mail.send: it is done twice": "noticed",
    }),
    Weak("a transaction that is rolled back", """
def test_booking(rig, mail):
    confirm = rig.job(lambda: mail.send("ada@tern-line.test", "Booked"), name="confirm")
    with pytest.raises(ValueError), rig.transaction():
        rig.enqueue(confirm.call())
        raise ValueError
    rig.run_dry()
    assert mail.sent == [] and not rig.jobs(confirm)
""", {
        "confirm: it is enqueued before the commit": "noticed",
        "confirm: it comes although the transaction is rolled back": "noticed",
    }),
    Weak("overlap", """
def test_poll(rig):
    poll = rig.job(lambda: time.sleep(90), name="poll")
    rig.workers(2)
    rig.schedule("poll", poll.call(), ic.every("1m"), overlap="skip")
    rig.advance("10m")
    assert rig.jobs("poll")
""", {"poll: it can overlap": "unnoticed"}),
    Weak("unique", """
def test_sync(rig):
    sync = rig.job(lambda berth: None, name="sync", key="berth", unique="keep")
    for _ in range(3):
        rig.enqueue(sync.call(4), after="1m")
    rig.run_dry()
    assert len(rig.jobs("sync")) == 1
""", {"sync: it is not unique": "noticed"}),
    Weak("expires", """
def test_offer(rig):
    offer = rig.job(lambda: None, name="offer", expires="10m")
    job = rig.enqueue(offer.call())
    rig.run_dry()
    assert job.state == "done"
""", {"offer: it never expires": "unnoticed"}),
    Weak("a law notices", """
@pytest.mark.laws(ic.laws.once_per_key("bank.post"))
def test_charge(rig):
    bank = rig.service(ic.services.Ledger("bank"))
    rig.enqueue(rig.job(lambda booking: bank.post("passenger", "fares", 180, key=booking), name="charge").call("B-1"))
    rig.run_dry()
""", {"bank.post: it is done twice": "noticed"}),
    Weak("the mail server never fails", """
def test_letter(rig, mail):
    kind = rig.job(lambda: mail.send("ada@tern-line.test", "Hello"), name="letter", retry=2)
    rig.enqueue(kind.call())
    rig.run_dry()
    assert mail.sent
""", {"mail.send: its answer is ignored": "unnoticed"}),
    Weak("the mail server fails", """
def test_letter(rig, mail):
    kind = rig.job(lambda: mail.send("ada@tern-line.test", "Hello"), name="letter", retry=2)
    mail.fail(calls=1)
    rig.enqueue(kind.call())
    rig.run_dry()
    assert len(mail.sent) == 1
""", {"mail.send: its answer is ignored": "noticed"}),
    Weak("an outbox", _outbox("""
    rig.advance("1m")
    assert rig.jobs("tell")[0].state == "done"
"""), {"tell: its row in the outbox stays as it was": "unnoticed"}),
    Weak("an outbox whose rows are looked at", _outbox("""
    rig.run_dry()
    assert table.execute("select state from outbox").fetchall() == [("done",)]
"""), {"tell: its row in the outbox stays as it was": "noticed"}),
    Weak("a shutdown", """
def test_deploy(rig):
    job = rig.enqueue(rig.job(lambda: time.sleep(20), name="load").call())
    rig.advance("5s")
    rig.stop_workers(grace="30s")
    rig.advance("1m")
    assert job.state in ("done", "ready")
""", {"workers: a shutdown gives no time": "unnoticed"}),
    Weak("a shutdown that lets jobs end", """
def test_deploy(rig):
    job = rig.enqueue(rig.job(lambda: time.sleep(20), name="load").call())
    rig.advance("5s")
    rig.stop_workers(grace="30s")
    rig.advance("1m")
    assert job.state == "done"
""", {"workers: a shutdown gives no time": "noticed"}),
    Weak("an error is swallowed", """
import app
def test_submit(rig):
    office = rig.service(ic.services.HttpService("office"))
    submit = rig.job(app.submit, retry=ic.Retry(attempts=2, wait="1m"))
    office.fail(calls=1)
    app.office = office
    job = rig.enqueue(submit.call(3))
    rig.run_dry()
    assert job.state == "done"
""", {
        "app.submit: Exception is swallowed": "unnoticed",
        "app.submit: <= for < in passengers < 1": "the same",
        "app.submit: it returns before log.append(passengers)": "the same",
    }, """
office = None
log = []
def submit(passengers):
    if passengers < 1:
        return
    try:
        office.request("PUT", "/manifests/TL-1", {"passengers": passengers})
    except Exception:
        raise ConnectionError("the office does not answer")
    office.request("POST", "/done")
    log.append(passengers)
"""),
    Weak("an error is seen", """
import app
def test_submit(rig):
    office = rig.service(ic.services.HttpService("office"))
    submit = rig.job(app.submit, retry=ic.Retry(attempts=2, wait="1m"))
    office.fail(calls=1)
    app.office = office
    job = rig.enqueue(submit.call(3))
    rig.run_dry()
    assert len(job.attempts) == 2 and office.received == [{"passengers": 3}, "sent"]
    empty = rig.enqueue(submit.call(0))
    rig.run_dry()
    assert len(office.received) == 2
    single = rig.enqueue(submit.call(1))
    rig.run_dry()
    assert len(office.received) == 4
""", {
        "app.submit: Exception is swallowed": "noticed",
        "app.submit: <= for < in passengers < 1": "noticed",
        "app.submit: it returns before office.request('POST', '/done', 'sent')": "noticed",
    }, """
office = None
def submit(passengers):
    if passengers < 1:
        return
    try:
        office.request("PUT", "/manifests/TL-1", {"passengers": passengers})
    except Exception:
        raise ConnectionError("the office does not answer")
    office.request("POST", "/done", "sent")
"""),
    Weak("an await is left out", """
import app
def test_tell(rig, mail):
    app.mail = mail
    rig.enqueue(rig.job(app.tell).call("ada"))
    rig.run_dry()
    assert mail.sent[0].to == "ada"
""", {
        "app.tell: send(to) is not awaited": "noticed",
        "app.tell: note(to) is not awaited": "unnoticed",
    }, """
mail = None
async def send(to):
    mail.send(to, "Hello")
async def note(to):
    mail.send("desk@tern-line.test", to)
async def tell(to):
    await send(to)
    await note(to)
"""),
    Weak("the day of another zone", """
import app
@pytest.mark.rig(start="2031-03-03T12:00")
def test_report(rig, mail):
    app.mail = mail
    rig.enqueue(rig.job(app.report).call())
    rig.run_dry()
    assert len(mail.sent) == 1
""", {"app.report: date.today() of a zone that is 14 hours ahead": "unnoticed"}, """
from datetime import date
mail = None
def report():
    mail.send("desk@tern-line.test", f"Report of {date.today()}")
"""),
]  # fmt: skip
