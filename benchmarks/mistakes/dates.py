"""What goes wrong on some dates only: clock changes, months' ends, leap days, years' ends, late firings."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from itertools import pairwise
from zoneinfo import ZoneInfo

import ironclock as ic

from . import breaks

TRIES = ic.Retry(4, "10s")
FAROE = {"start": "2031-03-03T09:00", "zone": "Atlantic/Faroe"}


def _closed_once_a_night(world: ic.laws.World) -> Iterator[str]:
    nights = [entry.key for entry in world.effects if entry.effect == "till.close"]
    for night in sorted({str(n) for n in nights}):
        if nights.count(night) > 1:
            yield f"the till is closed {nights.count(night)} times on {night}"
    days = [dt.date.fromisoformat(str(night)) for night in nights]
    for before, after in pairwise(days):
        if (after - before).days > 1:
            yield f"the till is not closed between {before} and {after}"


@breaks(_closed_once_a_night, starts="clock change", rig=FAROE, faults=("delay",))
def doubled_hour(rig: ic.Rig, fixed: bool) -> None:
    """The till is closed at half past one, which there is twice in one night of the year."""
    close = rig.effect("till.close", lambda night: None, key=lambda night: night)

    def close_till() -> None:
        close(dt.datetime.now().date().isoformat())

    kind = rig.job(close_till)
    rig.schedule("close", kind.call(), ic.cron("30 1 * * *", fold="first" if fixed else "both"))
    rig.advance("3d")


@breaks(_closed_once_a_night, starts="clock change", rig=FAROE, faults=("delay",))
def skipped_hour(rig: ic.Rig, fixed: bool) -> None:
    """The till is closed at half past one, which there is not at all in another night."""
    close = rig.effect("till.close", lambda night: None, key=lambda night: night)

    def close_till() -> None:
        close(dt.datetime.now().date().isoformat())

    kind = rig.job(close_till)
    rig.schedule("close", kind.call(), ic.cron("30 1 * * *", gap="shift" if fixed else "skip"))
    rig.advance("4d")


def _no_error_of_the_calendar(world: ic.laws.World) -> Iterator[str]:
    for job in world:
        if isinstance(job.error, (ValueError, TypeError)) and not isinstance(job.error, ic.IronClockError):
            yield f"{job.id}: {job.error}"


@breaks(_no_error_of_the_calendar, starts=("month end",))
def same_day_next_month(rig: ic.Rig, fixed: bool) -> None:
    """The bill is due on the same day of the next month, which not every month has."""
    due: list[dt.date] = []

    def bill() -> None:
        today = dt.date.today()
        if fixed:
            first = (today.replace(day=1) + dt.timedelta(days=32)).replace(day=1)
            last = (first + dt.timedelta(days=32)).replace(day=1) - dt.timedelta(days=1)
            due.append(min(first + dt.timedelta(days=today.day - 1), last))
        else:
            month = today.month % 12 + 1
            due.append(today.replace(year=today.year + (month == 1), month=month))

    kind = rig.job(bill, retry=TRIES)
    rig.enqueue(kind.call(), after="2h")
    rig.run_dry()


@breaks(_no_error_of_the_calendar, starts=("leap day",))
def same_day_next_year(rig: ic.Rig, fixed: bool) -> None:
    """A season ticket ends on the same day of the next year, which one day does not have."""
    ends: list[dt.date] = []

    def renew() -> None:
        today = dt.date.today()
        if fixed and (today.month, today.day) == (2, 29):
            today = today.replace(day=28)
        ends.append(today.replace(year=today.year + 1))

    kind = rig.job(renew, retry=TRIES)
    rig.enqueue(kind.call(), after="2h")
    rig.run_dry()


def _a_week_has_one_name(world: ic.laws.World) -> Iterator[str]:
    names: dict[tuple[int, int], set[str]] = {}
    for entry in world.effects:
        year, week, _ = entry.at.isocalendar()
        names.setdefault((year, week), set()).add(str(entry.key))
    yield from (f"one week has the names {' and '.join(sorted(n))}" for n in names.values() if len(n) > 1)


@breaks(_a_week_has_one_name, starts=("year end",))
def week_of_the_wrong_year(rig: ic.Rig, fixed: bool) -> None:
    """A week is named by the calendar's year and the week's number, which at new year do not belong together."""
    file = rig.effect("reports.file", lambda name: None, key=lambda name: name)

    def daily() -> None:
        today = dt.date.today()
        year, week, _ = today.isocalendar()
        file(f"{year if fixed else today.year}-W{week:02d}")

    kind = rig.job(daily, retry=TRIES)
    rig.schedule("daily", kind.call(), ic.every("1d"))
    rig.advance("3d")


@breaks(ic.laws.covers("read_rows"), faults=("delay", "miss_firing", "slow"))
def window_from_the_clock(rig: ic.Rig, fixed: bool) -> None:
    """Each run reads the last ten minutes by the clock, and not what came since the run before."""
    since = {"at": dt.datetime.fromtimestamp(0, ZoneInfo("UTC"))}

    def read_rows() -> list[float]:
        now = dt.datetime.now(ZoneInfo("UTC"))
        begin = since["at"] if fixed and since["at"].year > 1970 else now - dt.timedelta(minutes=10)
        since["at"] = now
        return [begin.timestamp(), now.timestamp()]

    kind = rig.job(read_rows)
    rig.schedule("read", kind.call(), ic.every("10m"))
    rig.advance("41m")
