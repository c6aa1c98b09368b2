"""The bank takes the money, its answer is lost, and the retry pays again.

The fix gives the bank a key of the booking's own, so that it knows a repeated charge.
"""

from __future__ import annotations

import ironclock as ic

LAWS = [ic.laws.once_per_key("bank.post", due=["B-7"])]


def _story(rig: ic.Rig, *, guarded: bool) -> None:
    bank = rig.service(ic.services.Ledger("bank", idempotent=guarded))
    bank.lose_response(calls=1)

    def charge_fare(booking: str) -> None:
        bank.post("passenger", "fares", 180, key=booking)

    kind = rig.job(charge_fare, retry=ic.Retry(3, "30s"))
    rig.enqueue(kind.call("B-7"))
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """The bank does what it is told."""
    _story(rig, guarded=False)


def fix(rig: ic.Rig) -> None:
    """The bank is told what the charge is for."""
    _story(rig, guarded=True)
