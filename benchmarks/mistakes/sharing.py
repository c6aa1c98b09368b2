"""What is shared without care: lost updates, check-then-act, deadlock, lost wake-ups."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from typing import Any

import ironclock as ic

from . import HERE, breaks

TRIES = ic.Retry(4, "10s")


class Deck:
    """The car deck: what jobs of one process share."""

    def __init__(self) -> None:
        self.free = 2
        self.cars = 0
        self.last_ticket = 0
        self.gate = threading.Lock()
        self.ramp = threading.Lock()

    def count_car(self) -> None:
        self.cars += 1

    def count_car_safely(self) -> None:
        with self.gate:
            self.cars += 1

    def park(self) -> bool:
        if self.free > 0:
            self.free = self.free - 1
            return True
        return False

    def park_safely(self) -> bool:
        with self.gate:
            return self.park()

    def ticket(self) -> int:
        number = self.last_ticket + 1
        self.last_ticket = number
        return number


def _counted_all(world: ic.laws.World) -> Iterator[str]:
    counts = [entry.data["text"] for entry in world.history if entry.what == "note"]
    if counts and counts[-1] != "3 cars on deck":
        yield f"three cars drove on board, and the deck has {counts[-1]}"


@breaks(_counted_all, lines=HERE, depth=0)
def lost_update(rig: ic.Rig, fixed: bool) -> None:
    """Reading, adding and storing are three steps, and another job comes between them."""
    deck = Deck()

    def drive_on(car: str) -> None:
        (deck.count_car_safely if fixed else deck.count_car)()

    rig.workers(3)
    kind = rig.job(drive_on)
    for car in ("red", "blue", "grey"):
        rig.enqueue(kind.call(car))
    rig.run_dry()
    rig.note(f"{deck.cars} cars on deck")


@breaks(ic.laws.holds("no more than two cars park", lambda world: len(_parked(world)) <= 2), lines=HERE, depth=1)
def check_then_act(rig: ic.Rig, fixed: bool) -> None:
    """There is room when both look, and not when both have parked."""
    deck = Deck()
    deck.free = 2
    park = rig.effect("deck.park", lambda car: None, key=lambda car: car)

    def drive_on(car: str) -> None:
        if (deck.park_safely if fixed else deck.park)():
            park(car)

    rig.workers(3)
    kind = rig.job(drive_on, retry=TRIES)
    for car in ("red", "blue", "grey"):
        rig.enqueue(kind.call(car))
    rig.run_dry()


def _parked(world: ic.laws.World) -> set[Any]:
    return {entry.key for entry in world.effects if entry.effect == "deck.park"}


@breaks(ic.laws.nothing_lost())
def locks_in_two_orders(rig: ic.Rig, fixed: bool) -> None:
    """One job takes the gate and then the ramp, the other the ramp and then the gate."""
    deck = Deck()

    def load() -> None:
        with deck.gate, deck.ramp:
            deck.cars += 1

    def unload() -> None:
        first, second = (deck.gate, deck.ramp) if fixed else (deck.ramp, deck.gate)
        with first, second:
            deck.cars -= 1

    rig.workers(2)
    kinds = rig.job(load), rig.job(unload)
    for kind in kinds:
        rig.enqueue(kind.call())
    rig.advance("1h")


@breaks(ic.laws.nothing_lost(), lines=HERE, depth=0)
def wake_up_before_the_wait(rig: ic.Rig, fixed: bool) -> None:
    """The signal comes between the look and the wait, and nobody hears it."""

    def board() -> None:
        ready, open_gate = threading.Condition(), []

        def opens() -> None:
            with ready:
                open_gate.append(True)
                ready.notify()

        opener = threading.Thread(target=opens)
        opener.start()
        if fixed:
            with ready:
                while not open_gate:
                    ready.wait()
        elif not open_gate:
            with ready:
                ready.wait()
        opener.join()

    kind = rig.job(board)
    rig.enqueue(kind.call())
    rig.advance("1h")


def _one_seat_each(world: ic.laws.World) -> Iterator[str]:
    taken: dict[Any, Any] = {}
    for entry in world.effects:
        if entry.effect == "seats.give":
            seat, passenger = entry.data["seat"], entry.key
            if taken.setdefault(seat, passenger) != passenger:
                yield f"seat {seat} is given to {taken[seat]} and to {passenger}"


@breaks(_one_seat_each)
def read_across_the_network(rig: ic.Rig, fixed: bool) -> None:
    """The next seat is read from a store and written back, instead of one step that does both."""
    store = rig.service(ic.services.KeyValue())
    seats = rig.service(Seats())

    def reserve(passenger: str) -> None:
        if fixed:
            seat = store.increment("next")
        else:
            seat = store.get("next", 0) + 1
            store.set("next", seat)
        seats.give(seat, passenger)

    rig.workers(2)
    kind = rig.job(reserve, retry=TRIES)
    for passenger in ("ina", "jo"):
        rig.enqueue(kind.call(passenger))
    rig.run_dry()


class Seats(ic.services.Service):
    """A service of our own: the harbour's list of seats."""

    operations = ("give",)

    def __init__(self) -> None:
        super().__init__("seats")

    def give(self, seat: int, passenger: str) -> None:
        self._operate("give", lambda: None, passenger, {"seat": seat})


@breaks(_one_seat_each, lines=HERE, depth=1)
def tickets_from_threads(rig: ic.Rig, fixed: bool) -> None:
    """The threads of one job draw their numbers from one counter."""
    seats = rig.service(Seats())

    def print_tickets(passengers: list[str]) -> None:
        deck = Deck()

        def one(passenger: str) -> None:
            if fixed:
                with deck.gate:
                    number = deck.ticket()
            else:
                number = deck.ticket()
            seats.give(number, f"{passenger}")

        threads = [threading.Thread(target=one, args=(passenger,)) for passenger in passengers]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    kind = rig.job(print_tickets)
    rig.enqueue(kind.call(["ina", "jo"]))
    rig.run_dry()
