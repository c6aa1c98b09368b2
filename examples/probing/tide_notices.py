"""Tide notices: the harbour gets one every six hours. One that fails is never sent again.

ironclock probe examples/probing/tide_notices.py:a_week
"""

from __future__ import annotations

import contextlib
import datetime as dt
from itertools import pairwise

import ironclock as ic


def a_week(rig: ic.Rig) -> None:
    """A week of notices, and a letter to a passenger."""
    mail = rig.service(ic.services.Mail())

    def tide_notice() -> None:
        with contextlib.suppress(ConnectionError):  # the next one comes in six hours
            mail.send("harbour", "Tide table")

    def confirm(passenger: str) -> None:
        mail.send(passenger, "Your seat is booked")

    rig.schedule("tides", rig.job(tide_notice).call(), ic.every("6h"))
    rig.enqueue(rig.job(confirm, retry=ic.Retry(attempts=3, wait="1m")).call("ina"), after="40h")
    rig.advance("7d")


def never_eight_hours_without(world: ic.laws.World) -> list[ic.laws.Breach]:
    """The harbour is never without a notice for eight hours."""
    sent = [entry for entry in world.effects_of("mail.send") if entry.key == "harbour: Tide table"]
    return [
        ic.laws.Breach(f"no notice from {one.at:%a %H:%M} to {other.at:%a %H:%M}", (one, other))
        for one, other in pairwise(sent)
        if other.at - one.at > dt.timedelta(hours=8)
    ]


LAWS = [never_eight_hours_without]
