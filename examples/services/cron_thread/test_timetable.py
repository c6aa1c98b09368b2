"""The home-made cron thread: what it does at the clock changes. Both tests show a mistake that is easy to make."""

from __future__ import annotations

import pytest

import ironclock as ic
from services.cron_thread.timetable import Timetable


@pytest.mark.parametrize(
    ("start", "runs"),
    [
        ("2031-03-28T12:00", ["29 01:30", "31 01:30"]),  # on the 30th the clock goes from 1 to 2
        ("2031-10-25T12:00", ["26 01:30", "26 01:30", "27 01:30"]),  # on the 26th it goes from 2 back to 1
    ],
)
def test_the_till_is_closed_every_night_but_not_at_the_clock_changes(start: str, runs: list[str]) -> None:
    closed: list[str] = []
    table = Timetable()
    table.add("30 1", lambda moment: closed.append(f"{moment:%d %H:%M}"))
    with ic.Rig(start=start, zone="Atlantic/Faroe") as rig:
        rig.run_loop(table.run, name="cron")
        rig.advance("3d" if "03-28" in start else "2d")
    assert closed == runs


def test_a_slow_function_makes_the_thread_miss_a_minute(rig: ic.Rig) -> None:
    import time

    seen: list[int] = []
    table = Timetable()
    table.add("* *", lambda moment: seen.append(moment.minute))
    table.add("10 *", lambda moment: time.sleep(150))
    rig.run_loop(table.run, name="cron")
    rig.advance("15m")
    assert seen == [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 13, 14, 15]
