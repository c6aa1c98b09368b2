"""A job is given the booking itself, as it is at that moment, and acts on it when it has long been changed.

The fix passes the booking's id and looks it up. (A rig that checks its payload, as it does unless told otherwise,
refuses the object in the first place.)
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import ironclock as ic

PAYLOAD = "any"


@dataclass(frozen=True)
class Booking:
    """A booking, as it was read."""

    id: int
    mail: str


LAWS = [
    ic.laws.each(
        "mail.send", "a letter goes to the address that the booking has by then", lambda sent: sent["to"] == "ina@new"
    )
]


def _story(rig: ic.Rig, *, by_id: bool) -> None:
    mail = rig.service(ic.services.Mail())
    bookings = {7: Booking(7, "ina@old")}

    def remind(booking: Booking | int) -> None:
        found = bookings[booking] if isinstance(booking, int) else booking
        mail.send(found.mail, "Your ship leaves at eight")

    kind = rig.job(remind)
    rig.enqueue(kind.call(7 if by_id else bookings[7]), after="1d")
    rig.advance("1h")
    bookings[7] = replace(bookings[7], mail="ina@new")
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """Pass the object."""
    _story(rig, by_id=False)


def fix(rig: ic.Rig) -> None:
    """Pass its id."""
    _story(rig, by_id=True)
