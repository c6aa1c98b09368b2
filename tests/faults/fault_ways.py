"""One job, in every way in which a job can run, for the table of faults: `WAYS` are stories of a rig."""

from __future__ import annotations

import asyncio
import contextlib
import json
import sqlite3
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import ironclock as ic

POLICY: dict[str, Any] = {"retry": ic.Retry(4, "10s"), "timeout": "5m"}
COLUMNS = ic.Columns(args=None, kwargs="payload", state="state", tries="tries", claimed="running", done="done")


class Gateway:
    """Who charges passengers."""

    def __init__(self) -> None:
        self.charged: list[str] = []

    def charge(self, booking: str) -> None:
        self.charged.append(booking)


class Desk:
    """A service with a job table, a worker loop, and retries of its own."""

    def __init__(self, gateway: Gateway) -> None:
        self._folder = tempfile.TemporaryDirectory()
        self.path = str(Path(self._folder.name) / "desk.db")
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
        self.gateway.charge(booking)

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
                except (ConnectionError, ic.ServiceError):
                    connection.execute("update jobs set state = 'waiting' where id = ?", (row[0],))
                else:
                    connection.execute("update jobs set state = 'done' where id = ?", (row[0],))


def _gateway(rig: ic.Rig) -> Gateway:
    gateway = Gateway()
    rig.effect("charge", gateway.charge, key="booking")
    return gateway


def rigs_worker(rig: ic.Rig) -> None:
    """One of the rig's workers."""
    gateway = _gateway(rig)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.charge(booking)

    rig.enqueue(rig.job(charge, **POLICY).call("B-1"))
    rig.run_dry()


def loop_with_handler(rig: ic.Rig) -> None:
    """A worker loop over a table, whose handler is known."""
    desk = Desk(_gateway(rig))
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, runs=False)
    rig.handler(desk.handle, id="id")
    rig.run_loop(desk.work, name="worker", restart="1s")
    desk.put("B-1")
    rig.advance("10m")


def loop_over_a_list(rig: ic.Rig) -> None:
    """A worker loop over a list of its own, whose handler is known."""
    gateway, waiting = _gateway(rig), ["B-1"]

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.charge(booking)

    handle = [charge]

    def work() -> None:
        while True:
            if not waiting:
                time.sleep(5)
                continue
            booking = waiting.pop()
            try:
                handle[0](booking)
            except (ConnectionError, ic.ServiceError):
                waiting.append(booking)
                time.sleep(10)

    rig.handler(charge, id="booking")
    rig.run_loop(work, name="worker", restart="1s")
    rig.advance("10m")


def asyncio_loop(rig: ic.Rig) -> None:
    """A worker loop of coroutines, whose handler is known."""
    gateway, waiting = _gateway(rig), ["B-1"]

    async def charge(booking: str) -> None:
        await asyncio.sleep(2)
        gateway.charge(booking)

    async def work() -> None:
        while True:
            if not waiting:
                await asyncio.sleep(5)
                continue
            booking = waiting.pop()
            try:
                await charge(booking)
            except (ConnectionError, ic.ServiceError):
                waiting.append(booking)
                await asyncio.sleep(10)

    rig.handler(charge, id="booking")
    rig.run_loop(work, name="worker", restart="1s")
    rig.advance("10m")


def watched_rows(rig: ic.Rig) -> None:
    """A worker loop over a table that is only watched."""
    desk = Desk(_gateway(rig))
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, runs=False)
    rig.run_loop(desk.work, name="worker", restart="1s")
    desk.put("B-1")
    rig.advance("10m")


def outbox_run(rig: ic.Rig) -> None:
    """A table whose jobs the rig's workers run."""
    gateway = _gateway(rig)
    desk = Desk(gateway)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.charge(booking)

    kind = rig.job(charge, **POLICY)
    rig.outbox(f"sqlite:///{desk.path}", table="jobs", columns=COLUMNS, handlers={"charge": kind})
    desk.put("B-1")
    rig.run_dry()


def endpoint(rig: ic.Rig) -> None:
    """A job that is pushed to the application as an HTTP request."""
    gateway = _gateway(rig)

    def app(environ: Any, start_response: Any) -> list[bytes]:
        time.sleep(2)
        try:
            gateway.charge("B-1")
        except ic.ServiceError:
            start_response("503 Service Unavailable", [])
            return [b""]
        start_response("200 OK", [])
        return [b"charged"]

    pushed = rig.endpoint(app, "/jobs/{job}").job("charge", retry=ic.Retry(4, "10s"), timeout="5m")
    rig.enqueue(pushed.call())
    rig.run_dry()


def collector(rig: ic.Rig) -> None:
    """A function that runs after the response to a request."""
    gateway = _gateway(rig)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.charge(booking)

    class Later:
        def add(self, function: Callable[..., Any], *args: Any) -> None:
            raise NotImplementedError

    later = Later()
    rig.collector(later.add)
    with rig.request("POST /bookings"):
        later.add(charge, "B-1")
    rig.run_dry()


def deployment(rig: ic.Rig) -> None:
    """A job while an old and a new version of its handler are there."""
    gateway = _gateway(rig)

    def charge(booking: str) -> None:
        time.sleep(2)
        gateway.charge(booking)

    def charge_2(booking: str) -> None:
        time.sleep(3)
        gateway.charge(booking)

    kind = rig.job(charge, **POLICY)
    rig.deploy(old=charge, new={"charge": charge_2}["charge"], over="1h") if False else rig.deploy(
        old={"charge": charge}, new={"charge": charge_2}, over="1h"
    )
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


WAYS: dict[str, Callable[[ic.Rig], None]] = {
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
