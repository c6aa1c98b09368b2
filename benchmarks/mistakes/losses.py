"""What is lost: work that nobody does, although somebody counted on it."""

from __future__ import annotations

import asyncio
import queue
import threading
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import ironclock as ic

from . import breaks

TRIES = ic.Retry(4, "10s")


@breaks(ic.laws.nothing_lost("submit_manifest", effect="office.request"))
def blanket_except(rig: ic.Rig, fixed: bool) -> None:
    """Every error is caught, so that the job is done without what it was for."""
    office = rig.service(ic.services.HttpService("office"))

    def submit_manifest(sailing: str) -> None:
        try:
            office.request("PUT", f"/manifests/{sailing}")
        except Exception:
            if fixed:
                raise

    kind = rig.job(submit_manifest, retry=TRIES)
    for sailing in ("TL-204", "TL-206"):
        rig.enqueue(kind.call(sailing))
    rig.run_dry()


@breaks(ic.laws.nothing_lost())
def acknowledged_before_the_work(rig: ic.Rig, fixed: bool) -> None:
    """The queue is told that a job is done when it begins."""
    mail = rig.service(ic.services.Mail())

    def remind(booking: str) -> None:
        mail.send("ina", f"{booking} sails tomorrow")

    kind = rig.job(remind, ack="late" if fixed else "early", retry=TRIES)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


def _every_charge_has_its_ticket(world: ic.laws.World) -> Iterator[str]:
    charged = {entry.key for entry in world.effects if entry.effect == "bank.post"}
    mailed = {entry.key for entry in world.effects if entry.effect == "mail.send"}
    for booking in sorted(charged - mailed):
        yield f"{booking} is charged and never gets its ticket"


@breaks(_every_charge_has_its_ticket)
def marked_done_before_the_follow_up(rig: ic.Rig, fixed: bool) -> None:
    """A job marks itself as done and then enqueues what comes next; its retry sees the mark and stops."""
    bank, store = rig.service(ic.services.Ledger("bank", idempotent=True)), rig.service(ic.services.KeyValue())
    mail = rig.service(ic.services.Mail())

    def send_ticket(booking: str) -> None:
        mail.send("ina", "Your ticket", key=booking)

    ticket = rig.job(send_ticket, retry=TRIES)

    def charge_fare(booking: str) -> None:
        if store.get(booking) == "done":
            return
        bank.post("passenger", "fares", 180, key=booking)
        if fixed:
            rig.enqueue(ticket.call(booking))
            store.set(booking, "done")
        else:
            store.set(booking, "done")
            rig.enqueue(ticket.call(booking))

    kind = rig.job(charge_fare, retry=TRIES)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


@breaks(ic.laws.nothing_lost("confirm", effect="mail.send"))
def enqueued_before_the_commit(rig: ic.Rig, fixed: bool) -> None:
    """A worker is faster than the commit, and finds no booking."""
    mail = rig.service(ic.services.Mail())
    bookings: dict[int, str] = {}

    def confirm(booking: int) -> str:
        if booking not in bookings:
            return "no such booking"
        mail.send(bookings[booking], "Your seat is booked")
        return "confirmed"

    kind = rig.job(confirm, retry=TRIES)
    with rig.transaction(joins=False):
        if not fixed:
            rig.enqueue(kind.call(7))
        written = {7: "ina"}
    bookings.update(written)
    if fixed:
        rig.enqueue(kind.call(7))
    rig.run_dry()


def _no_hold_is_left(world: ic.laws.World) -> Iterator[str]:
    last = {entry.key: entry.effect for entry in world.effects if entry.effect in ("store.set", "store.delete")}
    for booking, what in last.items():
        if what == "store.set":
            yield f"the seat of {booking} stays held for good"


@breaks(_no_hold_is_left, faults=("fail", "hang", "slow", "delay"))
def hold_without_finally(rig: ic.Rig, fixed: bool) -> None:
    """An error between taking and giving back a hold leaves the seat held."""
    office, store = rig.service(ic.services.HttpService("office")), rig.service(ic.services.KeyValue())

    def give_back(booking: str) -> None:
        store.delete(booking)

    back = rig.job(give_back, retry=TRIES)

    def reserve(booking: str) -> None:
        if fixed:
            try:
                store.set(booking, "held")
                office.request("POST", f"/seats/{booking}")
            finally:
                rig.enqueue(back.call(booking))
        else:
            store.set(booking, "held")
            office.request("POST", f"/seats/{booking}")
            rig.enqueue(back.call(booking))

    kind = rig.job(reserve)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


@breaks(ic.laws.nothing_lost("price_sailings", effect="office.request", key=lambda sailings: f"GET /{sailings[-1]}"))
def futures_nobody_asks(rig: ic.Rig, fixed: bool) -> None:
    """Work handed to a pool of threads fails there, and nobody asks for its result."""
    office = rig.service(ic.services.HttpService("office"))

    def price_sailings(sailings: list[str]) -> None:
        with ThreadPoolExecutor(2) as pool:
            asked = [pool.submit(office.request, "GET", f"/{sailing}") for sailing in sailings]
        if fixed:
            for one in asked:
                one.result()

    kind = rig.job(price_sailings, retry=TRIES)
    rig.enqueue(kind.call(["TL-204", "TL-206"]))
    rig.run_dry()


@breaks(ic.laws.nothing_lost("ask_harbours", effect="office.request", key=lambda: "GET /tides/1"))
def gathered_errors(rig: ic.Rig, fixed: bool) -> None:
    """Errors of coroutines come back as results, and nobody looks at them."""
    office = rig.service(ic.services.HttpService("office"))

    async def ask(number: int) -> None:
        await asyncio.sleep(1)
        office.request("GET", f"/tides/{number}")

    async def ask_harbours() -> None:
        found = await asyncio.gather(ask(0), ask(1), return_exceptions=True)
        if fixed:
            for one in found:
                if isinstance(one, BaseException):
                    raise one

    kind = rig.job(ask_harbours, retry=TRIES)
    rig.enqueue(kind.call())
    rig.run_dry()


@breaks(ic.laws.nothing_lost())
def item_never_ticked_off(rig: ic.Rig, fixed: bool) -> None:
    """A worker thread that fails does not tick its item off, and whoever joins the queue waits for ever."""
    office = rig.service(ic.services.HttpService("office"))

    def load_cars() -> None:
        lane: queue.Queue[str | None] = queue.Queue()

        def load() -> None:
            while (car := lane.get()) is not None:
                if fixed:
                    try:
                        office.request("POST", f"/cars/{car}")
                    except ConnectionError:
                        failed.append(car)
                    finally:
                        lane.task_done()
                else:
                    try:
                        office.request("POST", f"/cars/{car}")
                        lane.task_done()
                    except ConnectionError:
                        failed.append(car)

        failed: list[str] = []
        loader = threading.Thread(target=load)
        loader.start()
        for car in ("red", "blue"):
            lane.put(car)
        lane.join()
        lane.put(None)
        loader.join()

    kind = rig.job(load_cars, retry=TRIES)
    rig.enqueue(kind.call())
    rig.advance("1h")


def _there_is_always_a_price(world: ic.laws.World) -> Iterator[str]:
    there = False
    for entry in world.effects:
        if entry.effect in ("store.set", "store.delete"):
            there = entry.effect == "store.set"
        elif entry.effect == "mail.send" and not there:
            yield "a passenger is told no price"


@breaks(_there_is_always_a_price)
def deleted_then_written(rig: ic.Rig, fixed: bool) -> None:
    """The old price is deleted before the new one is there."""
    store, mail = rig.service(ic.services.KeyValue()), rig.service(ic.services.Mail())

    def new_price(price: int) -> None:
        if not fixed:
            store.delete("price")
        store.set("price", price)

    def quote() -> None:
        mail.send("ina", f"a seat costs {store.get('price')}")

    rig.workers(2)
    prices, quotes = rig.job(new_price, retry=TRIES), rig.job(quote, retry=TRIES)
    store.set("price", 180)
    rig.enqueue(prices.call(190))
    rig.enqueue(quotes.call(), after="5s")
    rig.run_dry()
