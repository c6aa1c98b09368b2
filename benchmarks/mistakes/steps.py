"""What takes several steps: checkpoints, sagas, watermarks, files, transactions, requests."""

from __future__ import annotations

import contextlib
import json
import os
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import ironclock as ic

from . import breaks

TRIES = ic.Retry(5, "10s")


def _every_passenger_is_told(world: ic.laws.World) -> Iterator[str]:
    told = {entry.key for entry in world.effects_of("mail.send")}
    if any(job.state == "done" for job in world):
        for number in sorted({1, 2, 3, 4} - told):
            yield f"passenger {number} is never told"


@breaks(_every_passenger_is_told)
def checkpoint_before_the_work(rig: ic.Rig, fixed: bool) -> None:
    """The checkpoint says that a passenger was told before it is so; the retry goes on after it."""
    mail, store = rig.service(ic.services.Mail()), rig.service(ic.services.KeyValue())

    def tell_all() -> None:
        for number in range(store.get("told", 0) + 1, 5):
            if not fixed:
                store.set("told", number)
            mail.send(f"passenger {number}", "ten minutes late", key=number)
            if fixed:
                store.set("told", number)

    kind = rig.job(tell_all, retry=TRIES)
    rig.enqueue(kind.call())
    rig.run_dry()


def _no_seat_without_a_cabin(world: ic.laws.World) -> Iterator[str]:
    outcomes = [(entry.data["effect"], entry.data["outcome"]) for entry in world.entries if entry.what == "effect"]
    held, refused = ("seat.hold", "done") in outcomes, ("cabin.hold", "failed") in outcomes
    if held and refused and ("seat.release", "done") not in outcomes:
        yield "there is no cabin, and the seat stays booked"


@breaks(_no_seat_without_a_cabin, faults=("fail",))
def compensation_that_fails(rig: ic.Rig, fixed: bool) -> None:
    """The seat is given back if there is no cabin; and if that fails as well, nobody tries again."""
    hold_seat, free_seat = rig.effect("seat.hold", lambda: None), rig.effect("seat.release", lambda: None)
    hold_cabin = rig.effect("cabin.hold", lambda: None)

    def give_back() -> None:
        free_seat()

    back = rig.job(give_back, retry=ic.Retry(6, "1m"))

    def reserve() -> None:
        hold_seat()
        try:
            hold_cabin()
        except ConnectionError:
            if fixed:
                rig.enqueue(back.call())
                return
            with contextlib.suppress(ConnectionError):
                free_seat()

    kind = rig.job(reserve)
    rig.enqueue(kind.call())
    rig.run_dry()


def _every_booking_is_billed(world: ic.laws.World) -> Iterator[str]:
    written = {entry.key for entry in world.effects_of("bookings.write")}
    billed = {entry.key for entry in world.effects_of("bookings.bill")}
    for booking in sorted(written - billed):
        yield f"booking {booking} is written and never billed"


@breaks(_every_booking_is_billed, faults=("slow", "delay"))
def watermark_by_the_clock(rig: ic.Rig, fixed: bool) -> None:
    """The watermark is the time of the run. A booking with an earlier time that is committed later is never seen."""
    rows: dict[int, float] = {}
    write = rig.effect(
        "bookings.write", lambda booking, at: rows.update({booking: at}), key=lambda booking, at: booking
    )
    bill = rig.effect("bookings.bill", lambda booking: None, key=lambda booking: booking)
    seen: set[int] = set()
    mark = [0.0]

    def book(booking: int) -> None:
        write(booking, time.time())

    def bill_new() -> None:
        fresh = [b for b, at in rows.items() if (b not in seen if fixed else at > mark[0])]
        for booking in fresh:
            bill(booking)
            seen.add(booking)
        mark[0] = time.time()

    rig.workers(2)
    kind, billing = rig.job(book), rig.job(bill_new)
    for number in range(3):
        rig.enqueue(kind.call(number), after=f"{25 * number + 5}s")
    rig.schedule("bill", billing.call(), ic.every("30s"))
    rig.advance("10m")


def _fares_can_be_read(world: ic.laws.World) -> Iterator[str]:
    for job in world:
        if job.name == "show_fares" and job.state == "dead":
            yield f"the fares cannot be read: {job.error}"


@breaks(_fares_can_be_read, seams="files")
def file_written_in_place(rig: ic.Rig, fixed: bool) -> None:
    """The file is opened to be written before the new content is there: whoever reads meanwhile finds half of it."""
    path = Path(tempfile.mkdtemp()) / "fares.json"
    path.write_text(json.dumps({"TL-204": 180}))

    def new_fares() -> None:
        text = json.dumps({"TL-204": 190, "TL-206": 210})
        if fixed:
            beside = path.with_suffix(".new")
            beside.write_text(text)
            os.replace(beside, path)
        else:
            path.write_text(text)

    def show_fares() -> None:
        json.loads(path.read_text())

    writes, reads = rig.job(new_fares, retry=TRIES), rig.job(show_fares)
    rig.enqueue(writes.call())
    rig.enqueue(reads.call(), after="5s")
    rig.run_dry()


def _money_is_kept(world: ic.laws.World) -> Iterator[str]:
    for entry in world.history:
        if entry.what == "note" and entry.data["text"].endswith("in all") and entry.data["text"] != "360 in all":
            yield f"there were 360, and now there are {entry.data['text']}"


@breaks(_money_is_kept, seams="sql")
def two_statements_two_commits(rig: ic.Rig, fixed: bool) -> None:
    """The fare is taken from one account in one transaction and given to the other one in another."""
    path = Path(tempfile.mkdtemp()) / "bank.db"
    with contextlib.closing(sqlite3.connect(path)) as connection:
        connection.execute("create table accounts (name text, amount integer)")
        connection.execute("create table paid (booking text primary key)")
        connection.execute("insert into accounts values ('passenger', 360), ('fares', 0)")
        connection.commit()

    def charge_fare(booking: str) -> None:
        with contextlib.closing(sqlite3.connect(path)) as connection:
            if connection.execute("select 1 from paid where booking = ?", (booking,)).fetchone():
                return
            connection.execute("insert into paid values (?)", (booking,))
            connection.execute("update accounts set amount = amount - 180 where name = 'passenger'")
            if not fixed:
                connection.commit()
            connection.execute("update accounts set amount = amount + 180 where name = 'fares'")
            connection.commit()

    kind = rig.job(charge_fare, retry=TRIES)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()
    with contextlib.closing(sqlite3.connect(path)) as connection:
        (total,) = connection.execute("select sum(amount) from accounts").fetchone()
    rig.note(f"{total} in all")


def _row_has_its_file(world: ic.laws.World) -> Iterator[str]:
    for entry in world.history:
        if entry.what == "note" and entry.data["text"].endswith("has no file"):
            yield f"the table has a row, and {entry.data['text']}"


@breaks(_row_has_its_file, seams=("sql", "files"))
def row_before_its_file(rig: ic.Rig, fixed: bool) -> None:
    """The row is committed before its file is there, and the retry finds the row and believes that all is done."""
    folder = Path(tempfile.mkdtemp())
    with contextlib.closing(sqlite3.connect(folder / "manifests.db")) as connection:
        connection.execute("create table manifests (name text primary key)")
        connection.commit()

    def write_manifest(name: str) -> None:
        with contextlib.closing(sqlite3.connect(folder / "manifests.db")) as connection:
            if connection.execute("select 1 from manifests where name = ?", (name,)).fetchone():
                return
            if fixed:
                (folder / name).write_text("40 passengers")
            with connection:
                connection.execute("insert into manifests values (?)", (name,))
            if not fixed:
                (folder / name).write_text("40 passengers")

    kind = rig.job(write_manifest, retry=TRIES)
    rig.enqueue(kind.call("TL-204.txt"))
    rig.run_dry()
    with contextlib.closing(sqlite3.connect(folder / "manifests.db")) as connection:
        named = [name for (name,) in connection.execute("select name from manifests")]
    for name in named:
        if not (folder / name).exists():
            rig.note(f"{name} has no file")
