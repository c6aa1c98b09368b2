"""What Tern Line does by the clock: the till, the buoy, the lights on deck, the tide table."""

from __future__ import annotations

import time
from datetime import datetime

from . import db

log: list[str] = []
"""What the watch wrote down."""


def close_till() -> int:
    """Close the day's till at half past one, when the last ship is in."""
    total = int(db.get().execute("select coalesce(sum(fare), 0) from bookings where state = 'paid'").fetchone()[0])
    log.append(f"{datetime.now():%a %H:%M} till closed at {total}")
    return total


def poll_buoy() -> None:
    """Ask the wave buoy; around every full hour its radio is busy and the answer takes twelve minutes."""
    asked = datetime.now()
    time.sleep(12 * 60 if asked.minute == 0 else 3)
    log.append(f"{asked:%a %H:%M} buoy answered after {(datetime.now() - asked).total_seconds():.0f} s")


def deck_lights() -> None:
    """Switch the lights on deck on."""
    log.append(f"{datetime.now():%a %H:%M} deck lights on")


def tide_table() -> str:
    """Print the month's tide table."""
    month = f"{datetime.now():%B %Y}"
    log.append(f"{datetime.now():%a %H:%M} tide table for {month}")
    return month
