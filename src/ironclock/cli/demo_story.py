"""The demo's story: one evening at Tern Line, a made-up ferry company, told by its real code."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import ironclock as ic

from ..foundation.example_files import find_ferry_line

START, ZONE, SEED = "2031-03-29T21:00", "Atlantic/Faroe", 11


def evening(rig: ic.Rig, say: Callable[[str], None] = lambda line: None) -> dict[str, Any]:
    """Run the evening in a rig; return what the outside world saw."""
    find_ferry_line()
    from tern_line import booking, db, outside

    db.open()
    outside.reopen()
    rig.tap("tern_line.jobs:put", reads=ic.reading(job=0, args=slice(1, None), after="wait", queue="to"))
    rig.job(
        booking.charge_fare, timeout="30s",
        retry=ic.Retry(attempts=4, wait=ic.exponential("30s"), never_on=outside.CardRefused),
    )  # fmt: skip
    rig.job(
        booking.submit_manifest, timeout="20s",
        retry=ic.Retry(attempts=8, wait=ic.exponential("1m", cap="10m", jitter=0.1)),
    )  # fmt: skip
    rig.workers(2, queues={"harbour": 3, "payments": 2, "desk": 1})
    rig.faults.fail(
        "submit_manifest", between=("2031-03-29T23:00", "2031-03-29T23:20"),
        error=ConnectionError("harbour office is down"),
    )  # fmt: skip
    with rig:
        say("21:00  Four passengers reserve seats on TL-204 for 20 minutes, two wait for one.")
        made = [booking.reserve("TL-204", passenger) for passenger in (1, 2, 3, 5)]
        booking.join_waiting_list("TL-204", 4)
        booking.join_waiting_list("TL-204", 6)
        held = rig.jobs("release_hold", state="held")
        say(f"       {len(held)} jobs are held, the first until {held[0].due_at:%H:%M}. Nothing has run.")
        rig.advance("5m")
        say("21:05  Three of them pay. One card will be refused, one bank answers too late.")
        for paid in (made[0], made[2], made[3]):
            booking.pay(paid)
        booking.close_sailing("TL-204")
        rig.advance("30m")
        say("21:35  The unpaid hold was released at 21:20, its seat offered at 21:21.")
        say("       The harbour office goes down at 23:00, just when the manifest is due.")
        rig.advance("3h")
    return {"charges": list(outside.cards.charges), "manifests": dict(outside.office.manifests)}


def as_expected(rig: ic.Rig, seen: dict[str, Any]) -> list[tuple[str, bool]]:
    """Return each statement of the demo, and True if it holds."""
    manifest = rig.jobs("submit_manifest").one()
    refused = rig.dead
    slow = seen["charges"].count(("card-slow", 180))
    late = rig.jobs("charge_fare", where=lambda job: len(job.attempts) > 1).one()
    return [
        ("the unpaid hold was released, the others kept",
         [job.result for job in rig.jobs("release_hold")].count("released") == 1),
        ("the manifest reached the harbour office once it was back",
         manifest.state == "done" and len(manifest.attempts) > 1 and "TL-204" in seen["manifests"]),
        ("the refused card ended as a dead letter after one attempt",
         len(refused) == 1 and len(refused[0].attempts) == 1),
        (f"the late bank was asked {len(late.attempts)} times and the fare charged once", slow == 1),
    ]  # fmt: skip
