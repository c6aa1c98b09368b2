"""A fare is good for an hour; the job keeps what it has read in a dict of its own, for good.

The fix asks the store, which knows how long a fare is good for.
"""

from __future__ import annotations

import ironclock as ic

PRICES = {"B-7": 180, "B-8": 210}
LAWS = [
    ic.laws.each(
        "till.post", "a passenger pays the fare of the hour", lambda paid: paid["amount"] == PRICES[paid["key"]]
    )
]


def _story(rig: ic.Rig, *, keeps: bool) -> None:
    store, till = rig.service(ic.services.KeyValue("fares")), rig.service(ic.services.Ledger("till"))
    price = {"TL-204": 180}
    kept: dict[str, int] = {}

    def fare(sailing: str) -> int:
        if keeps and sailing in kept:
            return kept[sailing]
        found = store.get(sailing)
        if found is None:
            found = price[sailing]
            store.set(sailing, found, expires="1h")
        kept[sailing] = found
        return int(found)

    def charge_fare(booking: str) -> None:
        till.post(booking, "fares", fare("TL-204"), key=booking)

    kind = rig.job(charge_fare)
    rig.enqueue(kind.call("B-7"))
    rig.advance("30m")
    price["TL-204"] = 210
    rig.enqueue(kind.call("B-8"), after="1h")
    rig.run_dry()


def bug(rig: ic.Rig) -> None:
    """Keep it in the process."""
    _story(rig, keeps=True)


def fix(rig: ic.Rig) -> None:
    """Ask the store."""
    _story(rig, keeps=False)
