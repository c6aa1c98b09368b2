"""The queue takes a slow job for lost, and gives it to a second worker while the first still runs.

The fix is a lease longer than the longest run.
"""

from __future__ import annotations

import time

import ironclock as ic

LAWS = [ic.laws.no_overlap(), ic.laws.once_per_key("mail.send")]


def _story(rig: ic.Rig, lease: str) -> None:
    mail = rig.service(ic.services.Mail())

    def print_tickets(sailing: str) -> None:
        time.sleep(90)
        mail.send("desk", f"tickets of {sailing}")

    rig.workers(2)
    kind = rig.job(print_tickets, lease=lease)
    rig.enqueue(kind.call("TL-204"))
    rig.run_dry()
    rig.advance("10m")


def bug(rig: ic.Rig) -> None:
    """Half a minute."""
    _story(rig, "30s")


def fix(rig: ic.Rig) -> None:
    """Five minutes."""
    _story(rig, "5m")
