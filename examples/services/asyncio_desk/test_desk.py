"""The asyncio desk: its limits and its end, in simulated time."""

from __future__ import annotations

import asyncio

import ironclock as ic
from services.asyncio_desk.desk import Desk


async def harbour(booking: int) -> None:
    """The harbour answers after as many seconds as the number of the booking."""
    await asyncio.sleep(booking)


def test_each_booking_has_its_limit(rig: ic.Rig) -> None:
    desk = Desk(harbour)
    rig.handler(desk.handle, id="booking")
    (worker,) = rig.run_loop(desk.run, [1, 2, 9, 3, 4], name="desk")
    rig.advance("1m")
    assert (sorted(desk.confirmed), desk.late) == ([1, 2, 3, 4], [9])
    assert (worker.state, worker.error) == ("ended", None)
    took = {job.args[0]: (job.attempts[0].ended_ns - job.attempts[0].started_ns) // 10**9 for job in rig.jobs("handle")}
    assert took == {1: 1, 2: 2, 3: 3, 4: 4, 9: 5}


def test_in_an_async_test_it_is_awaited(rig: ic.Rig) -> None:
    desk = Desk(harbour)
    asyncio.run(desk.run([3, 3, 3, 3]))
    assert desk.confirmed == [3, 3, 3, 3]
    assert f"{rig.now:%M:%S}" == "00:06", "three at once, then the last one"
