"""What is done twice: at-least-once delivery meets work that is not idempotent."""

from __future__ import annotations

import time
from collections.abc import Iterator

import ironclock as ic

from . import breaks

TRIES = ic.Retry(4, "10s")


@breaks(ic.laws.once_per_key("bank.post"))
def charge_without_a_key(rig: ic.Rig, fixed: bool) -> None:
    """The bank cannot tell a repeated charge from a second one."""
    bank = rig.service(ic.services.Ledger("bank", idempotent=fixed))

    def charge_fare(booking: str) -> None:
        bank.post("passenger", "fares", 180, key=booking)

    kind = rig.job(charge_fare, retry=TRIES)
    for booking in ("B-1", "B-2", "B-3"):
        rig.enqueue(kind.call(booking))
    rig.run_dry()


@breaks(ic.laws.once_per_key("mail.send"))
def mark_after_the_letter(rig: ic.Rig, fixed: bool) -> None:
    """That a letter was sent is written down after it, not before."""
    mail, store = rig.service(ic.services.Mail()), rig.service(ic.services.KeyValue())

    def confirm(booking: str) -> None:
        if fixed:
            if store.add(booking, "sent"):
                mail.send("ina", "Your seat is booked", key=booking)
        elif store.get(booking) is None:
            mail.send("ina", "Your seat is booked", key=booking)
            store.set(booking, "sent")

    kind = rig.job(confirm, retry=TRIES)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


@breaks(ic.laws.once_per_key("bank.post"))
def batch_from_the_start(rig: ic.Rig, fixed: bool) -> None:
    """A batch that fails in the middle begins anew, and pays the first ones again."""
    bank, store = rig.service(ic.services.Ledger("bank")), rig.service(ic.services.KeyValue())

    def refund_sailing(sailing: str) -> None:
        for seat in ("1A", "1B", "1C"):
            key = f"{sailing}-{seat}"
            if not fixed or store.add(key, "refunded"):
                bank.post("fares", "passenger", 90, key=key)

    kind = rig.job(refund_sailing, retry=TRIES)
    rig.enqueue(kind.call("TL-204"))
    rig.run_dry()


@breaks(ic.laws.once_per_key("mail.send"))
def children_without_a_key(rig: ic.Rig, fixed: bool) -> None:
    """A job that hands out others is delivered again, and hands them out again."""
    mail, store = rig.service(ic.services.Mail()), rig.service(ic.services.KeyValue())

    def tell_passenger(name: str) -> None:
        if not fixed or store.add(name, "told"):
            mail.send(name, "TL-204 leaves late", key=name)

    tell = rig.job(tell_passenger, retry=TRIES)

    def tell_everybody() -> None:
        for name in ("ina", "jo", "kai"):
            rig.enqueue(tell.call(name))

    everybody = rig.job(tell_everybody, retry=TRIES)
    rig.enqueue(everybody.call())
    rig.run_dry()


def _paid_back_once(world: ic.laws.World) -> Iterator[str]:
    paid = [str(entry.key) for entry in world.effects if entry.effect == "bank.post"]
    if len(paid) > 1:
        yield f"B-1 is paid back {len(paid)} times: {', '.join(paid)}"


@breaks(_paid_back_once)
def refund_at_every_failure(rig: ic.Rig, fixed: bool) -> None:
    """Each failed attempt asks for the refund, and not the failure for good."""
    bank = rig.service(ic.services.Ledger("bank", idempotent=True))
    office = rig.service(ic.services.HttpService("office"))

    def refund(booking: str, attempt: int) -> None:
        bank.post("fares", "passenger", 180, key=booking if fixed else f"{booking}-{attempt}")

    paid_back = rig.job(refund, retry=TRIES)
    tries: dict[str, int] = {}

    def rebook(booking: str) -> None:
        tries[booking] = tries.get(booking, 0) + 1
        try:
            office.request("POST", f"/rebook/{booking}")
        except ConnectionError:
            rig.enqueue(paid_back.call(booking, tries[booking]))
            raise

    kind = rig.job(rebook, retry=TRIES)
    rig.enqueue(kind.call("B-1"))
    rig.run_dry()


@breaks(ic.laws.once_per_key("printer.print"))
def look_then_print(rig: ic.Rig, fixed: bool) -> None:
    """Two deliveries of one message both look, find nothing, and print."""
    store = rig.service(ic.services.KeyValue())
    done: list[str] = []

    def on_paper(ticket: str) -> None:
        done.append(ticket)

    print_it = rig.effect("printer.print", on_paper, key="ticket")

    def print_ticket(ticket: str) -> None:
        if fixed:
            if store.add(ticket, "printing"):
                time.sleep(2)
                print_it(ticket)
            return
        if store.get(ticket) is None:
            time.sleep(2)
            print_it(ticket)
            store.set(ticket, "printed")

    rig.workers(2)
    kind = rig.job(print_ticket, retry=TRIES)
    rig.enqueue(kind.call("T-9"))
    rig.run_dry()


@breaks(ic.laws.no_overlap())
def lease_shorter_than_a_slow_run(rig: ic.Rig, fixed: bool) -> None:
    """The lease covers the usual run, and no slower one."""
    mail = rig.service(ic.services.Mail())

    def print_tickets(sailing: str) -> None:
        time.sleep(20)
        mail.send("desk", f"tickets of {sailing}")

    rig.workers(2)
    kind = rig.job(print_tickets, lease="10m" if fixed else "45s", retry=TRIES)
    rig.enqueue(kind.call("TL-204"))
    rig.run_dry()


@breaks(ic.laws.once_per_key("buoy.reading"), durations={"poll_buoy": ("1s", "50s")})
def polls_that_overlap(rig: ic.Rig, fixed: bool) -> None:
    """A slow poll is still at work when the next one begins at the same place."""
    place = {"next": 0}
    reading = rig.effect("buoy.reading", lambda number: None, key=lambda number: number)

    def poll_buoy() -> None:
        number = place["next"]
        if fixed and not lock_free.pop("free", False):
            return
        try:
            time.sleep(3)
            place["next"] = max(place["next"], number + 1)
            reading(number)
        finally:
            lock_free["free"] = True

    lock_free = {"free": True}
    rig.workers(2)
    kind = rig.job(poll_buoy)
    rig.schedule("poll", kind.call(), ic.every("2m"), overlap="skip" if fixed else "allow", missed="last")
    rig.advance("9m")
