"""A job catches everything around its pause, its cancellation included, and cannot be stopped.

The fix catches errors, which a cancellation is not.
"""

from __future__ import annotations

import contextlib
import time

import ironclock as ic

LAWS = [ic.laws.stops_when_asked("10s")]


def _story(rig: ic.Rig, catches: type[BaseException]) -> None:
    def poll_buoy() -> None:
        for _ in range(60):
            with contextlib.suppress(catches):
                time.sleep(60)

    rig.enqueue(rig.job(poll_buoy).call())
    rig.advance("10m30s")
    rig.stop_workers(grace="30s", how="throw")
    rig.advance("5m")


def bug(rig: ic.Rig) -> None:
    """Catch everything."""
    _story(rig, BaseException)


def fix(rig: ic.Rig) -> None:
    """Catch errors."""
    _story(rig, Exception)
