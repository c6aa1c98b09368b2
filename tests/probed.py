"""Stories that the tests of the probe search: here, so that other processes can import them."""

from __future__ import annotations

import os
import signal
import threading
from pathlib import Path

import ironclock as ic
from ironclock.rig import simulation_of

LAWS = [ic.laws.once_per_key("bank.post"), ic.laws.nothing_lost()]


def charges(rig: ic.Rig, *, idempotent: bool = False, bookings: int = 2) -> None:
    """Every booking is charged by a job of its own."""
    bank = rig.service(ic.services.Ledger("bank", idempotent=idempotent))

    def charge_fare(booking: str) -> None:
        bank.post("passenger", "fares", 180, key=booking)

    kind = rig.job(charge_fare, retry=ic.Retry(4, "30s"))
    for number in range(bookings):
        rig.enqueue(kind.call(f"B-{number + 1}"))
    rig.run_dry()


def sound(rig: ic.Rig) -> None:
    """The same with a bank that knows a repeated charge."""
    charges(rig, idempotent=True)


class Deck:
    """What the jobs of one process share."""

    def __init__(self) -> None:
        self.cars = 0
        self.free = 1
        self.gate = threading.Lock()
        self.ramp = threading.Lock()


def counted(rig: ic.Rig, *, cars: int = 2) -> None:
    """Cars are counted by jobs, in one line of ordinary code."""
    deck = Deck()

    def drive_on() -> None:
        deck.cars += 1

    rig.workers(cars)
    kind = rig.job(drive_on)
    for _ in range(cars):
        rig.enqueue(kind.call())
    rig.run_dry()
    rig.note(f"{deck.cars} of {cars} cars")


def all_counted(world: ic.laws.World) -> list[str]:
    """The law that no car is left uncounted."""
    notes = [entry.data["text"] for entry in world.history if entry.what == "note" and " cars" in entry.data["text"]]
    return [note for note in notes if note.split()[0] != note.split()[2]]


COUNTED = [all_counted]


def crossed(rig: ic.Rig) -> None:
    """Two jobs take two locks in two orders."""
    deck = Deck()

    def load() -> None:
        with deck.gate, deck.ramp:
            deck.cars += 1

    def unload() -> None:
        with deck.ramp, deck.gate:
            deck.cars -= 1

    rig.workers(2)
    for kind in (rig.job(load), rig.job(unload)):
        rig.enqueue(kind.call())
    rig.advance("1h")


def deadly(rig: ic.Rig) -> None:
    """The process itself dies, once: in the first run of it that has a fault and finds no file."""
    mark = Path(os.environ["IRONCLOCK_TEST_MARK"])

    def charge_fare() -> None:
        task = simulation_of(rig).loop.current
        if task is not None and task.number == 2 and not mark.exists():  # type: ignore[attr-defined]
            mark.touch()
            os.kill(os.getpid(), signal.SIGSEGV)

    kind = rig.job(charge_fare, retry=ic.Retry(3, "30s"))
    rig.enqueue(kind.call())
    rig.run_dry()


def fatal(rig: ic.Rig) -> None:
    """The process dies whenever a second attempt is made."""

    def charge_fare() -> None:
        if simulation_of(rig).loop.current.number == 2:  # type: ignore[union-attr]
            os.kill(os.getpid(), signal.SIGSEGV)

    kind = rig.job(charge_fare, retry=ic.Retry(3, "30s"))
    rig.enqueue(kind.call())
    rig.run_dry()
