"""Four schedules of the ferry line over the night of the clock change: run it with `python four_watches.py`."""

from __future__ import annotations

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

import ironclock as ic
from tern_line import db, watch


def story(rig: ic.Rig) -> None:
    """Run the watches for nine days around the end of March 2031."""
    db.open()
    watch.log.clear()
    rig.workers(4)
    call = {
        f.__name__: rig.job(f).call() for f in (watch.close_till, watch.poll_buoy, watch.deck_lights, watch.tide_table)
    }
    rig.schedule("close-till", call["close_till"], ic.cron("30 1 * * *"))
    rig.schedule("poll-buoy", call["poll_buoy"], ic.every("10m"), overlap="skip")
    rig.schedule("deck-lights", call["deck_lights"], ic.sun("sunset", 62.0, -6.8))
    rig.schedule("tide-table", call["tide_table"], ic.cron("0 6 * * 1#1"))
    with rig:
        rig.advance("9d")


if __name__ == "__main__":
    rig = ic.Rig(start="2031-03-29T12:00", zone="Atlantic/Faroe")
    story(rig)
    for line in watch.log:
        if "buoy" not in line:
            print(line)
    for entry in rig.schedules:
        print(entry)
