"""A schedule for others: iCalendar (RFC 5545), and a picture of its year by hour of day."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence

from ..foundation.instants import Timeline
from ..schedules.schedule import Schedule


def icalendar(name: str | Sequence[str], instants: Iterable[int], stamp_ns: int) -> str:
    """Return an iCalendar with one event for each instant, in UTC.

    Parameters: instants are nanoseconds since the epoch; `name` is the name of all events, or a list with one for each.

    Source: RFC 5545, 3.4 (objects), 3.1 (lines of at most 75 octets), 3.3.11 (text).
    """
    utc = Timeline(dt.timezone.utc)

    def form(ns: int) -> str:
        return utc.at(ns).strftime("%Y%m%dT%H%M%SZ")

    def text(words: str) -> str:
        words = "".join(c if c.isprintable() or c == "\n" else repr(c)[1:-1] for c in words)
        return words.replace("\\", "\\\\").replace(";", "\\;").replace(",", "\\,").replace("\n", "\\n")

    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Iron Clock//schedule//EN"]
    for number, ns in enumerate(instants, 1):
        lines += [
            "BEGIN:VEVENT", f"UID:{form(ns)}-{number}@ironclock.invalid", f"DTSTAMP:{form(stamp_ns)}",
            f"DTSTART:{form(ns)}", f"SUMMARY:{text(name if isinstance(name, str) else name[number - 1])}", "END:VEVENT",
        ]  # fmt: skip
    lines.append("END:VCALENDAR")
    return "".join(_folded(line) + "\r\n" for line in lines)


def _folded(line: str) -> str:
    parts, octets = [""], 0
    for character in line:
        size = len(character.encode())
        if octets + size > 75:
            parts.append(" ")
            octets = 1
        parts[-1] += character
        octets += size
    return "\r\n".join(parts)


def year_map(schedule: Schedule, zone: dt.tzinfo, year: int, title: str, path: str) -> None:
    """Draw a year of firings in local time, days across and hours down. Needs the extra ``ironclock[plot]``."""
    import matplotlib

    matplotlib.use("Agg")
    import numpy as np
    from matplotlib import pyplot as plt
    from matplotlib.colors import LogNorm

    timeline = Timeline(zone)
    start, end = timeline.ns(f"{year}-01-01T00:00"), timeline.ns(f"{year + 1}-01-01T00:00")
    first = dt.date(year, 1, 1)
    counts = np.zeros((24, (dt.date(year + 1, 1, 1) - first).days))
    changes = []
    for ns in schedule.in_zone(zone).span_ns(start, end):
        local = timeline.at(int(ns))
        counts[local.hour, (local.date() - first).days] += 1
    for day in range(counts.shape[1]):
        noon = dt.datetime(year, 1, 1, 12, tzinfo=zone) + dt.timedelta(days=day)
        if noon.utcoffset() != (noon + dt.timedelta(days=1)).utcoffset():
            changes.append(day + 1)
    figure, axes = plt.subplots(figsize=(12.8, 5.2), dpi=100, layout="constrained")
    shown = np.ma.masked_equal(counts, 0)
    top = max(2.0, float(counts.max()))
    image = axes.imshow(
        shown, aspect="auto", interpolation="nearest", cmap="viridis_r", norm=LogNorm(1, top),
        extent=(0, counts.shape[1], 24, 0),
    )  # fmt: skip
    for day in changes:
        axes.axvline(day, color="crimson", linestyle="--", linewidth=1)
        axes.annotate("clock change", (day, 0), (3, 4), textcoords="offset points", color="crimson", fontsize=8)
    months = [(dt.date(year, m, 1) - first).days for m in range(1, 13)]
    axes.set_xticks(months, [dt.date(year, m, 1).strftime("%b") for m in range(1, 13)])
    axes.set_yticks(range(0, 25, 3), [f"{h:02d}:00" for h in range(0, 25, 3)])
    axes.set_ylabel(f"local time, {zone}")
    axes.grid(color="0.9", linewidth=0.5)
    axes.set_title(f"{title}: {int(counts.sum()):,} firings in {year}", loc="left", pad=18)
    ticks = sorted({1, round(top**0.5), int(top)})
    figure.colorbar(image, ax=axes, label="firings in the hour", ticks=ticks, format="%d", pad=0.01)
    figure.savefig(path)
    plt.close(figure)
