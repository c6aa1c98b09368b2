"""For the probe: a hold runs out, and its seat is offered to whoever has waited longest.

The ferry line thinks of moving its jobs from a table of its database to a queue server. Its own code runs here, as it
is; the tap stands for that server, which no transaction of the database covers. What would go wrong then, this finds:
``ironclock probe examples/probing/waiting_list.py:one_free_seat``.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import ironclock as ic

sys.path.insert(0, str(Path(__file__).parents[1]))

from tern_line import booking, db, outside

RIG = {"start": "2031-03-29T21:00", "zone": "Atlantic/Faroe"}


def one_free_seat(rig: ic.Rig) -> None:
    """Somebody reserves and does not pay; two others wait for a seat."""
    db.open()
    outside.reopen()
    rig.tap("tern_line.jobs:put", reads=ic.reading(job=0, args=slice(1, None), after="wait", queue="to"))
    for job in (booking.release_hold, booking.offer_seat):
        rig.job(job, retry=ic.Retry(attempts=4, wait="30s"))
    booking.reserve("TL-204", passenger=1)
    booking.join_waiting_list("TL-204", 4)
    booking.join_waiting_list("TL-204", 6)
    rig.run_dry()
    db.get().close()


def no_seat_offered_twice(world: ic.laws.World) -> Iterator[str]:
    """No more offers than seats that came free."""
    released = sum(job.result == "released" for job in world)
    offered = [job.result for job in world if job.name == "offer_seat" and job.result]
    if len(offered) > released:
        yield f"{released} seat is free, and it is offered to {' and '.join(offered)}"


LAWS = [no_seat_offered_twice, ic.laws.nothing_lost()]
