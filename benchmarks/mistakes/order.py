"""What depends on an order or a duration that nothing promises."""

from __future__ import annotations

from collections.abc import Iterator

import ironclock as ic

from . import breaks

TRIES = ic.Retry(4, "10s")


def _latest_stands(world: ic.laws.World) -> Iterator[str]:
    shown = [entry.data["value"] for entry in world.effects if entry.effect == "board.set"]
    done = sum(job.state == "done" for job in world)
    if done == len(world) and shown and shown[-1] != [2, "cancelled"] and [2, "cancelled"] in shown:
        yield f"the board says {shown[-1][1]!r} although TL-204 is cancelled"


@breaks(_latest_stands)
def late_news_over_newer(rig: ic.Rig, fixed: bool) -> None:
    """An older message that was tried again overwrites the newer one."""
    board = rig.service(ic.services.KeyValue("board"))

    def show(sailing: str, version: int, text: str) -> None:
        if fixed and (board.get(sailing) or [0])[0] > version:
            return
        board.set(sailing, [version, text])

    rig.workers(2 if not fixed else 1)
    kind = rig.job(show, retry=TRIES)
    rig.enqueue(kind.call("TL-204", 1, "ten minutes late"))
    rig.enqueue(kind.call("TL-204", 2, "cancelled"), after="1s")
    rig.run_dry()


def _paid_or_released(world: ic.laws.World) -> Iterator[str]:
    done = [entry.effect for entry in world.effects]
    if "bank.post" in done and "seats.release" in done:
        yield "the seat is paid for and released"


@breaks(_paid_or_released)
def same_instant(rig: ic.Rig, fixed: bool) -> None:
    """The payment and the end of the hold fall due together, and only one order of the two works."""
    bank = rig.service(ic.services.Ledger("bank", idempotent=True))
    seats: dict[str, str] = {}
    release = rig.effect("seats.release", lambda seat: None, key=lambda seat: seat)

    def charge_fare(seat: str) -> None:
        if fixed and seats.setdefault(seat, "paid") != "paid":
            return
        seats[seat] = "paid"
        bank.post("passenger", "fares", 180, key=seat)

    def release_hold(seat: str) -> None:
        if seats.setdefault(seat, "free") == "free":
            release(seat)

    rig.workers(2)
    charge, end = rig.job(charge_fare, retry=TRIES), rig.job(release_hold, retry=TRIES)
    rig.enqueue(charge.call("1A"), after="20m")
    rig.enqueue(end.call("1A"), after="20m")
    rig.run_dry()


@breaks(ic.laws.finishes_within("board_passenger", "30m"))
def one_queue_for_all(rig: ic.Rig, fixed: bool) -> None:
    """A job with no timeout hangs on a service, and what waits behind it comes too late."""
    office = rig.service(ic.services.HttpService("office"))
    if not fixed:
        office.slow("50m", calls=3)

    def board_passenger(name: str) -> None:
        office.request("POST", f"/board/{name}")

    kind = rig.job(board_passenger, retry=TRIES, timeout="30s")
    report = rig.job(lambda: office.request("GET", "/report"), name="report", retry=TRIES)
    rig.enqueue(kind.call("ina"))
    rig.enqueue(kind.call("jo"))
    rig.enqueue(report.call())
    rig.enqueue(kind.call("kai"))
    rig.run_dry()


@breaks(
    ic.laws.each("board.set", "nobody boards a boat that has left", lambda data: data["value"] != "boarding, gone"),
    durations={"fetch_list": ("5s", "25m")},
)
def usually_fast_enough(rig: ic.Rig, fixed: bool) -> None:
    """Boarding begins when the list is there, which usually is before the boat leaves."""
    board = rig.service(ic.services.KeyValue("board"))
    gone: list[str] = []

    def leave() -> None:
        gone.append("TL-204")

    def fetch_list() -> None:
        if fixed and gone:
            return
        board.set("TL-204", "boarding, gone" if gone else "boarding")

    rig.workers(2)
    fetch, left = rig.job(fetch_list, retry=TRIES), rig.job(leave, retry=TRIES)
    rig.enqueue(fetch.call())
    rig.enqueue(left.call(), after="20m")
    rig.run_dry()
