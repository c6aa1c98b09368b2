"""A card that was refused is tried again and again, at the bank's expense and the passenger's.

The fix says which errors no retry will change.
"""

from __future__ import annotations

import ironclock as ic
from tern_line.outside import CardRefused

LAWS = [ic.laws.attempts_at_most("charge_fare", 1, on=CardRefused)]


def _story(rig: ic.Rig, retry: ic.Retry) -> None:
    def charge_fare(card: str) -> None:
        raise CardRefused(f"{card} was refused")

    kind = rig.job(charge_fare, retry=retry)
    rig.enqueue(kind.call("card-refused"))
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """Retry everything."""
    _story(rig, ic.Retry(6, ic.exponential("1m")))


def fix(rig: ic.Rig) -> None:
    """Give up on what can never succeed."""
    _story(rig, ic.Retry(6, ic.exponential("1m"), never_on=CardRefused))
