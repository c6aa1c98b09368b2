"""What the web service does for passengers, and the jobs that follow from it."""

from __future__ import annotations

import time
from datetime import datetime

from . import db, outside
from .jobs import handler, put

HOLD = 20 * 60
"""How long an unpaid booking keeps its seat, in seconds."""

FARE = 180


def reserve(sailing: str, passenger: int) -> int:
    """Hold a seat for twenty minutes."""
    with db.get() as connection:
        taken = connection.execute(
            "select count(*) from bookings where sailing = ? and state != 'released'", (sailing,)
        ).fetchone()[0]
        seats = connection.execute("select seats from sailings where id = ?", (sailing,)).fetchone()[0]
        if taken >= seats:
            raise ValueError(f"{sailing} is full")
        booking = connection.execute(
            "insert into bookings (sailing, passenger, made_at) values (?, ?, ?)", (sailing, passenger, time.time())
        ).lastrowid
        assert booking is not None
        put(release_hold, booking, wait=HOLD)
    return booking


def pay(booking: int) -> None:
    """Ask for the fare; the passenger need not wait for the bank."""
    with db.get() as connection:
        connection.execute("update bookings set state = 'paying' where id = ?", (booking,))
        put(charge_fare, booking, to="payments")


def join_waiting_list(sailing: str, passenger: int) -> None:
    """Wait for a seat."""
    with db.get() as connection:
        connection.execute(
            "insert into waiting (sailing, passenger, asked_at) values (?, ?, ?)", (sailing, passenger, time.time())
        )


def close_sailing(sailing: str) -> None:
    """Close the gate; the manifest goes to the harbour office half an hour before departure."""
    with db.get() as connection:
        departs = connection.execute("select departs from sailings where id = ?", (sailing,)).fetchone()[0]
        left = datetime.fromisoformat(departs).timestamp() - time.time()
        put(submit_manifest, sailing, wait=max(0, left - 30 * 60), to="harbour")


@handler
def release_hold(booking: int) -> str:
    """Give the seat of an unpaid booking back."""
    with db.get() as connection:
        row = connection.execute("select * from bookings where id = ?", (booking,)).fetchone()
        if row["state"] != "held":
            return "kept"
        connection.execute("update bookings set state = 'released' where id = ?", (booking,))
        put(offer_seat, row["sailing"], wait=60)
    return "released"


@handler
def charge_fare(booking: int) -> str:
    """Charge the fare, once."""
    connection = db.get()
    row = connection.execute(
        "select bookings.*, card from bookings join passengers on passengers.id = passenger where bookings.id = ?",
        (booking,),
    ).fetchone()
    receipt = outside.cards.charge(row["card"], FARE, key=f"booking-{booking}")
    with connection:
        connection.execute(
            "update bookings set state = 'paid', fare = ?, receipt = ? where id = ?", (FARE, receipt, booking)
        )
    return receipt


@handler
def submit_manifest(sailing: str) -> int:
    """Tell the harbour office who is on board."""
    rows = db.get().execute(
        "select name from bookings join passengers on passengers.id = passenger "
        "where sailing = ? and state = 'paid' order by name",
        (sailing,),
    )
    names = [row["name"] for row in rows]
    outside.office.submit(sailing, names)
    return len(names)


@handler
def offer_seat(sailing: str) -> str | None:
    """Offer a free seat to whoever has waited longest."""
    with db.get() as connection:
        row = connection.execute(
            "select * from waiting where sailing = ? and offered_at is null order by asked_at, id", (sailing,)
        ).fetchone()
        if row is None:
            return None
        connection.execute("update waiting set offered_at = ? where id = ?", (time.time(), row["id"]))
        name = connection.execute("select name from passengers where id = ?", (row["passenger"],)).fetchone()[0]
    return str(name)
