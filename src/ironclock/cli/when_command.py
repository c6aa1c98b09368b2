"""`ironclock when`: the next firings of a cron expression, with every clock change marked."""

from __future__ import annotations

import datetime as dt
import itertools
import json
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

import ironclock as ic

from ..foundation.durations import NS, spell
from ..foundation.instants import Timeline
from ..schedules.cron import Cron
from ..schedules.zone_offsets import Offsets
from .output import needing, output_file, print_text, say, screen, set_aside, write

if TYPE_CHECKING:
    from ..schedules.schedule import Schedule

_UTC = Timeline(dt.timezone.utc)


@click.command(short_help="Show when a cron expression fires next.")
@click.argument("expression")
@click.option("--zone", default="UTC", show_default=True, help="The time zone of the expression.")
@click.option("--from", "start", help="Where to begin: ISO 8601, in that zone. Default: now.")
@click.option("--count", default=10, show_default=True, type=click.IntRange(1, 10_000), help="How many firings.")
@click.option("--gap", type=click.Choice(["shift", "skip"]), help="What happens to a time that a clock change skips.")
@click.option("--fold", type=click.Choice(["first", "both"]), help="Which of a time that occurs twice fires.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines for a script.")
@click.option("--ics", type=click.Path(dir_okay=False), help="Write the firings as iCalendar (RFC 5545).")
@click.option("--png", type=click.Path(dir_okay=False), help="Draw the year by hour of day.")
def when(
    expression: str, zone: str, start: str | None, count: int, gap: Any, fold: Any, as_json: bool,
    ics: str | None, png: str | None,
) -> None:  # fmt: skip
    """Show when a cron EXPRESSION fires next, in local time and UTC, and what clock changes do to it.

    Five fields, or six with seconds first, or a nickname such as @daily. Write it in quotes.
    """
    schedule = ic.cron(expression, zone, gap=gap, fold=fold)
    bound = schedule.zone or dt.timezone.utc
    timeline = Timeline(bound)
    present = dt.datetime.now(dt.timezone.utc).replace(microsecond=0)
    now = timeline.ns(present if start is None else start)
    set_aside(ics, png)
    lines = list(_rows(schedule, bound, now, count))
    if ics is not None:
        from ..reports.calendar_export import icalendar

        instants = list(itertools.islice(_firings(schedule, now), count))
        write(ics, icalendar(expression, instants, timeline.ns(present)))
    if png is not None:
        with needing("plot"), output_file(png, ".png") as place:
            from ..reports.calendar_export import year_map

            year_map(schedule, bound, timeline.at(now).year, expression, place)
    if as_json:
        for local, utc, remark in lines:
            say(json.dumps({"local": local, "utc": utc, "remark": remark}))
        return
    console = screen()
    console.print(expression, style="bold", markup=False)
    console.print(f"{schedule.describe()}\n", markup=False)
    if not lines:
        console.print("It does not fire again.")
    for local, utc, remark in lines:
        style = "yellow" if remark.startswith("~") else "magenta" if remark else ""
        print_text(console, f"{local}   {utc}   {remark}".rstrip(), style=style)


def _firings(schedule: Schedule, start_ns: int) -> Iterator[int]:
    at = schedule.next_ns(start_ns - 1)
    while at is not None:
        yield at
        at = schedule.next_ns(at)


def _changes(offsets: Offsets, start: int, end: int) -> Iterator[tuple[int, int]]:
    """Yield the clock changes in (start, end]: when, and how far the clock jumps. Everything is in seconds."""
    at = start
    while (period := offsets.at(at)) is not None and period.end <= end:
        later = offsets.at(period.end)
        if later is not None and later.offset != period.offset:
            yield period.end, later.offset - period.offset
        at = period.end


def _rows(schedule: Schedule, zone: dt.tzinfo, start_ns: int, count: int) -> Iterator[tuple[str, str, str]]:
    """Yield local time, UTC and a remark for each of the next firings, and for each clock change between them."""
    timeline, offsets = Timeline(zone), Offsets(zone)
    at, seen = start_ns - 1, start_ns // NS
    for _ in range(count):
        found = schedule.next_ns(at)
        if found is None:
            return
        for moment, jump in _changes(offsets, seen, found // NS):
            yield _local(timeline, moment * NS), _utc(moment * NS), _change(jump)
        seen = max(seen, found // NS)
        yield _local(timeline, found), _utc(found), _remark(schedule, timeline, found)
        at = found


def _local(timeline: Timeline, ns: int) -> str:
    return timeline.at(ns).strftime("%a %Y-%m-%d %H:%M:%S %z")


def _utc(ns: int) -> str:
    return _UTC.at(ns).strftime("%Y-%m-%d %H:%M:%SZ")


def _change(jump: int) -> str:
    way = "forward" if jump > 0 else "back"
    return f"~ the clock goes {way} by {spell(abs(jump) * NS)}"


def _remark(schedule: Schedule, timeline: Timeline, ns: int) -> str:
    if not isinstance(schedule, Cron):
        return ""
    moment = timeline.at(ns)
    local = round((moment.replace(tzinfo=None) - dt.datetime(1970, 1, 1)).total_seconds())
    if schedule.calendar.next(local) != local:
        return "shifted: the clock change skips its time"
    if moment.replace(fold=0).utcoffset() != moment.replace(fold=1).utcoffset():
        return "time that occurs twice, the second" if moment.fold else "time that occurs twice, the first"
    return ""
