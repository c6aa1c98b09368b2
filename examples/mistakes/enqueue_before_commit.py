"""A job is enqueued inside the transaction that writes what it is about, and fetched before that commits.

The fix enqueues after the commit.
"""

from __future__ import annotations

import ironclock as ic

LAWS = [ic.laws.after_commit(), ic.laws.nothing_lost("confirm", effect="mail.send")]


def _story(rig: ic.Rig, *, inside: bool) -> None:
    mail = rig.service(ic.services.Mail())
    bookings: dict[int, str] = {}

    def confirm(booking: int) -> str:
        if booking not in bookings:
            return "no such booking"
        mail.send(bookings[booking], "Your seat is booked")
        return "confirmed"

    kind = rig.job(confirm)
    rig.faults.fetch_early("confirm")
    with rig.transaction(joins=False):
        if inside:
            rig.enqueue(kind.call(7))
        written = {7: "ina"}
    bookings.update(written)
    if not inside:
        rig.enqueue(kind.call(7))
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """Enqueue, then commit."""
    _story(rig, inside=True)


def fix(rig: ic.Rig) -> None:
    """Commit, then enqueue."""
    _story(rig, inside=False)
