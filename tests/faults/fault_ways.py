"""One job, in every way in which a job can run, for the table of faults: `WAYS` are stories of a rig.

`ready` is called when everything is in place, and before the job runs: a test places its fault then.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import shutil
import sqlite3
import tempfile
import time
import weakref
from collections.abc import Callable
from pathlib import Path
from typing import Any

import ironclock as ic

POLICY: dict[str, Any] = {"retry": ic.Retry(4, "10s"), "timeout": "5m"}
COLUMNS = ic.Columns(args=None, kwargs="payload", state="state", tries="tries", claimed="running", done="done")


Ready = Callable[[ic.Rig], None]


def _nothing(rig: ic.Rig) -> None:
    return


class Gateway:
    """Who charges passengers. A receipt follows each charge, as a job of the rig."""

    def __init__(self, rig: ic.Rig) -> None:
        self.charged: list[str] = []
        self._rig = rig
        rig.effect("charge", self.charge, key="booking")

    def charge(self, booking: str) -> None:
        self.charged.append(booking)

    def pay(self, booking: str) -> None:
        self.charge(booking)
        self._rig.enqueue(receipt, booking)


def receipt(booking: str) -> None:
    """Print a receipt."""


class Desk:
    """A service with a job table, a worker loop, and retries of its own."""

    def __init__(self, gateway: Gateway) -> None:
        folder = tempfile.mkdtemp()
        weakref.finalize(self, shutil.rmtree, folder, ignore_errors=True)
        self.path = str(Path(folder) / "desk.db")
        self.gateway = gateway
        with contextlib.closing(self.connect()) as connection:
            connection.execute(
                "create table jobs (id integer primary key, name text, payload text, state text default 'waiting', "
                "tries int default 0, claimed_at real)"
            )

    def connect(self) -> sqlite3.Connection:
        return sqlite3.connect(self.path, isolation_level=None)

    def put(self, booking: str) -> None:
        with contextlib.closing(self.connect()) as connection:
            connection.execute(
                "insert into jobs (name, payload) values ('charge', ?)", (json.dumps({"booking": booking}),)
            )

    def handle(self, id: int, booking: str) -> None:
        time.sleep(2)
        self.gateway.pay(booking)

    def work(self) -> None:
        with contextlib.closing(self.connect()) as connection:
            while True:
                row = connection.execute(
                    "update jobs set state = 'running', tries = tries + 1, claimed_at = ? where id = (select id from "
                    "jobs where state = 'waiting' or (state = 'running' and claimed_at < ?) limit 1) returning id, payload",
                    (time.time(), time.time() - 60),
                ).fetchone()
                if row is None:
                    time.sleep(5)
                    continue
                try:
                    self.handle(row[0], **json.loads(row[1]))
                except (ConnectionError, ic.ServiceError, ic.EnqueueRefused):
                    connection.execute("update jobs set state = 'waiting' where id = ?", (row[0],))
                else:
                    connection.execute("update jobs set state = 'done' where id = ?", (row[0],))


def rigs_worker(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """One of the rig's workers."""
    gateway = Gateway(rig)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.pay(booking)

    kind = rig.job(charge, **POLICY)
    ready(rig)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


def loop_with_handler(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A worker loop over a table, whose handler is known."""
    desk = Desk(Gateway(rig))
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, runs=False)
    rig.handler(desk.handle, id="id")
    ready(rig)
    rig.run_loop(desk.work, name="worker", restart="1s")
    desk.put("B-1")
    rig.advance("10m")


def loop_over_a_list(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A worker loop over a list of its own, whose handler is known."""
    gateway, waiting = Gateway(rig), {"B-1": 0.0}  # until when somebody has it

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.pay(booking)

    handle = [charge]

    def work() -> None:
        while True:
            booking = next((name for name, until in waiting.items() if until < time.time()), None)
            if booking is None:
                time.sleep(5)
                continue
            waiting[booking] = time.time() + 60
            try:
                handle[0](booking)
            except (ConnectionError, ic.ServiceError, ic.EnqueueRefused):
                waiting[booking] = time.time() + 10
            else:
                del waiting[booking]

    rig.handler(charge, id="booking")
    ready(rig)
    rig.run_loop(work, name="worker", restart="1s")
    rig.advance("10m")


def asyncio_loop(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A worker loop of coroutines, whose handler is known."""
    gateway, waiting = Gateway(rig), {"B-1": 0.0}  # until when somebody has it

    async def charge(booking: str) -> None:
        await asyncio.sleep(2)
        gateway.pay(booking)

    async def work() -> None:
        while True:
            booking = next((name for name, until in waiting.items() if until < time.time()), None)
            if booking is None:
                await asyncio.sleep(5)
                continue
            waiting[booking] = time.time() + 60
            try:
                await charge(booking)
            except (ConnectionError, ic.ServiceError, ic.EnqueueRefused):
                waiting[booking] = time.time() + 10
            else:
                del waiting[booking]

    rig.handler(charge, id="booking")
    ready(rig)
    rig.run_loop(work, name="worker", restart="1s")
    rig.advance("10m")


def watched_rows(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A worker loop over a table that is only watched."""
    desk = Desk(Gateway(rig))
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, runs=False)
    ready(rig)
    rig.run_loop(desk.work, name="worker", restart="1s")
    desk.put("B-1")
    rig.advance("10m")


def outbox_run(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A table whose jobs the rig's workers run."""
    gateway = Gateway(rig)
    desk = Desk(gateway)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.pay(booking)

    kind = rig.job(charge, **POLICY)
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, handlers={"charge": kind})
    ready(rig)
    desk.put("B-1")
    rig.run_dry()


def endpoint(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A job that is pushed to the application as an HTTP request."""
    gateway = Gateway(rig)

    def app(environ: Any, start_response: Any) -> list[bytes]:
        time.sleep(2)
        try:
            gateway.pay("B-1")
        except (ic.ServiceError, ic.EnqueueRefused):
            start_response("503 Service Unavailable", [])
            return [b""]
        start_response("200 OK", [])
        return [b"charged"]

    pushed = rig.endpoint(app, "/jobs/{job}").job("charge", retry=ic.Retry(4, "10s"), timeout="5m")
    ready(rig)
    rig.enqueue(pushed.call())
    rig.run_dry()


def collector(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A function that runs after the response to a request."""
    gateway = Gateway(rig)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.pay(booking)

    class Later:
        def add(self, function: Callable[..., Any], *args: Any) -> None:
            raise NotImplementedError

    later = Later()
    rig.collector(later.add)
    ready(rig)
    with rig.request("POST /bookings"):
        later.add(charge, "B-1")
    rig.run_dry()


def deployment(rig: ic.Rig, ready: Ready = _nothing) -> None:
    """A job while an old and a new version of its handler are there."""
    gateway = Gateway(rig)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.pay(booking)

    def charge_2(booking: str) -> None:
        time.sleep(3)
        gateway.pay(booking)

    kind = rig.job(charge, **POLICY)
    rig.deploy(old={"charge": charge}, new={"charge": charge_2}, over="1h")
    ready(rig)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


WAYS: dict[str, Callable[[ic.Rig, Ready], None]] = {
    "the rig's workers": rigs_worker,
    "a loop with a handler": loop_with_handler,
    "a loop over a list": loop_over_a_list,
    "a loop of coroutines": asyncio_loop,
    "watched rows": watched_rows,
    "an outbox that the rig runs": outbox_run,
    "an endpoint": endpoint,
    "a collector": collector,
    "a deployment": deployment,
}
