"""What protects a service, and does it wrongly: breakers, retries inside retries, locks with an expiry, caches."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections.abc import Iterator
from itertools import pairwise
from typing import Any

import ironclock as ic

from . import HERE, breaks


class Breaker:
    """Keeps callers away from a service that has failed three times in a row, for a minute."""

    def __init__(self, closes: bool) -> None:
        self._closes = closes
        self._failures = 0
        self._opened = 0.0

    def call(self, function: Any, *args: Any) -> Any:
        if self._failures >= 3 and not (self._closes and time.monotonic() - self._opened >= 60):
            raise ConnectionError("the breaker is open")
        try:
            result = function(*args)
        except ConnectionError:
            self._failures += 1
            self._opened = time.monotonic()
            raise
        self._failures = 0
        return result


def _sent_in_time(world: ic.laws.World) -> Iterator[str]:
    if not world.effects_of("office.request") and any(job.state == "dead" for job in world):
        yield "the breaker never closes again: the manifest is not sent, although the office is back"


@breaks(_sent_in_time)
def breaker_never_closes(rig: ic.Rig, fixed: bool) -> None:
    """After three failures in a row the breaker is open for good."""
    office = rig.service(ic.services.HttpService("office"))
    breaker = Breaker(closes=fixed)

    def submit_manifest(sailing: str) -> None:
        breaker.call(office.request, "PUT", f"/manifests/{sailing}")

    kind = rig.job(submit_manifest, retry=ic.Retry(12, "5m"))
    rig.enqueue(kind.call("TL-204"))
    rig.run_dry()


def _few_calls_a_minute(world: ic.laws.World) -> Iterator[str]:
    calls = [entry for entry in world.entries if entry.what == "effect" and entry.data["effect"] == "office.request"]
    for first, fifth in zip(calls, calls[4:], strict=False):
        if fifth.ns - first.ns < 60 * 10**9:
            yield "an office that is down is called five times in a minute"
            return


@breaks(_few_calls_a_minute)
def retries_inside_retries(rig: ic.Rig, fixed: bool) -> None:
    """The client tries three times, the job four times: twelve calls for a service that is down."""
    office = rig.service(ic.services.HttpService("office"))

    def submit_manifest(sailing: str) -> None:
        for left in (0,) if fixed else (2, 1, 0):
            try:
                office.request("PUT", f"/manifests/{sailing}")
                return
            except ConnectionError:
                if not left:
                    raise
                time.sleep(1)

    kind = rig.job(submit_manifest, retry=ic.Retry(4, "20s"))
    rig.enqueue(kind.call("TL-204"))
    rig.run_dry()


def _only_the_holder_frees(world: ic.laws.World) -> Iterator[str]:
    for entry in world.history:
        if entry.what == "note" and entry.data["text"].endswith("has the deck"):
            yield f"the deck is given free by another car: {entry.data['text']}"


@breaks(_only_the_holder_frees, faults=("slow",))
def releases_the_lock_of_another(rig: ic.Rig, fixed: bool) -> None:
    """Its lock expires while it works, another one takes it, and the first one gives that free."""
    lock: dict[str, float] = {}
    load_cars = rig.effect("deck.load", lambda: None)

    def load(car: str) -> None:
        if any(until > time.monotonic() for until in lock.values()):
            raise ConnectionError("the deck is taken")
        lock.clear()
        lock[car] = time.monotonic() + 30
        load_cars()
        if fixed and car not in lock:
            return
        for holder in lock:
            if holder != car:
                rig.note(f"{car} goes, and {holder} has the deck")
        lock.clear()

    rig.workers(3)
    kind = rig.job(load, retry=ic.Retry(30, "10s"))
    for number, car in enumerate(("red", "blue", "grey")):
        rig.enqueue(kind.call(car), after=f"{10 * number}s")
    rig.run_dry()


def _priced_once(world: ic.laws.World) -> Iterator[str]:
    at = [entry.ns for entry in world.effects_of("tariff.ask")]
    for one, other in pairwise(at):
        if other - one < 60 * 10**9:
            yield "several ask for the price that one of them would have fetched for all"
            return


@breaks(_priced_once, faults=("slow",))
def stampede(rig: ic.Rig, fixed: bool) -> None:
    """The price expires, and all who want it ask the slow tariff office at once."""
    store, prices = rig.service(ic.services.KeyValue()), threading.Lock()
    ask = rig.effect("tariff.ask", lambda: 180)

    def price() -> int:
        found = store.get("price")
        if found is None:
            found = ask()
            store.set("price", found, expires="10m")
        return int(found)

    def quote() -> None:
        if fixed:
            with prices:
                price()
        else:
            price()

    rig.workers(4)
    kind = rig.job(quote, retry=ic.Retry(3, "1s"))
    for number in range(4):
        rig.enqueue(kind.call(), after=f"{20 * number}s")
    rig.run_dry()


def _told_after_three(world: ic.laws.World) -> Iterator[str]:
    failures, told = 0, False
    for entry in world.entries:
        if entry.what == "effect" and entry.data["effect"] == "buoy.read":
            failures = failures + 1 if entry.data["outcome"] == "failed" else 0
        told = told or (entry.what == "effect" and entry.data["effect"] == "mail.send")
        if failures > 3 and not told:
            yield "the buoy has failed more than three times in a row, and nobody was told"
            return


@breaks(_told_after_three, faults=("fail", "fail_repeatedly"), depth=1)
def alert_that_starts_again(rig: ic.Rig, fixed: bool) -> None:
    """The alert after three failures in a row counts in the worker's memory, which each attempt makes new."""
    mail, buoy = rig.service(ic.services.Mail()), rig.effect("buoy.read", lambda: 7)
    failures: list[int] = []

    def poll_buoy() -> None:
        if not fixed:
            failures.clear()
        try:
            buoy()
        except ConnectionError:
            failures.append(1)
            if len(failures) == 3:
                mail.send("harbour", "The buoy does not answer")
            raise
        failures.clear()

    kind = rig.job(poll_buoy, retry=ic.Retry(6, "1m"))
    rig.enqueue(kind.call())
    rig.run_dry()


def _all_are_called(world: ic.laws.World) -> Iterator[str]:
    called = {entry.key for entry in world.effects_of("gate.open")}
    if len(called) < 2:
        yield f"two cars have come, and the gate has opened for {sorted(called) or 'none'}"


@breaks(_all_are_called, lines=HERE, depth=0)
def cleared_after_the_look(rig: ic.Rig, fixed: bool) -> None:
    """The event is cleared after the work: a car that comes meanwhile wakes nobody up."""
    open_gate = rig.effect("gate.open", lambda car: None, key=lambda car: car)
    waiting: list[str] = []
    came = threading.Event()

    def attend() -> None:
        for _ in range(2):
            if not came.wait(60):
                return
            if fixed:
                came.clear()
            while waiting:
                open_gate(waiting.pop(0))
            if not fixed:
                came.clear()

    def arrive(car: str) -> None:
        waiting.append(car)
        came.set()

    rig.workers(3)
    rig.enqueue(rig.job(attend).call())
    kind = rig.job(arrive)
    for car in ("red", "blue"):
        rig.enqueue(kind.call(car))
    rig.run_dry()


def _every_hour_is_exported(world: ic.laws.World) -> Iterator[str]:
    hours = {str(entry.key) for entry in world.effects_of("office.export")}
    for hour in sorted({"09", "10", "11", "12"} - hours):
        if hour < max(hours, default=""):
            yield f"the bookings of hour {hour} are never exported, and later ones are"


@breaks(_every_hour_is_exported)
def hour_lost_in_an_outage(rig: ic.Rig, fixed: bool) -> None:
    """Each run exports the hour before it. If all its attempts fail, nobody exports that hour."""
    export = rig.effect("office.export", lambda hour: None, key=lambda hour: hour)
    done: list[int] = []

    def export_hours() -> None:
        last = dt.datetime.now().hour - 1
        for hour in range(done[-1] + 1 if done else 9, last + 1) if fixed else (last,):
            try:
                export(f"{hour:02}")
            except ConnectionError:
                return
            done.append(hour)

    kind = rig.job(export_hours, retry=ic.Retry(2, "1m"))
    rig.schedule("export", kind.call(), ic.cron("5 10-13 * * *"), missed="last")
    rig.advance("6h")
