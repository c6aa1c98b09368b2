"""One night of jobs, some of which die: what the tests of reports and files show."""

from __future__ import annotations

import ironclock as ic


def night(jobs: int = 40) -> ic.Rig:
    """Some jobs at the ferry line, every seventh of which dies."""
    rig = ic.Rig(start="2031-03-29T21:00", zone="Atlantic/Faroe", seed=3)
    rig.workers(3, queues={"harbour": 2, "desk": 1})
    retry = ic.Retry(attempts=3, wait=ic.exponential("20s"))
    buoy = rig.job(lambda n: 1 / (n % 7), name="poll_buoy", queue="harbour", takes="30s", retry=retry)
    lights = rig.job(lambda n: n, name="deck_lights", queue="desk", takes="20s")
    for n in range(jobs):
        rig.enqueue((lights if n % 4 == 3 else buoy).call(n), after=n * 5)
    rig.run_dry()
    return rig
