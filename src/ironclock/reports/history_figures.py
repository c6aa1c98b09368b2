"""Figures of a history as PNG: timeline, queue depth, retries, starts by hour. They need ``ironclock[plot]``."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..foundation.durations import NS, spell
from ..foundation.instants import Timeline
from ..history.history import History
from ..history.job_records import JobRecord, job_records, queue_depths
from .terminal import chosen, printable

if TYPE_CHECKING:
    from matplotlib.axes import Axes

COLOURS = {
    "done": "#3b7f5c", "failed": "#b4562a", "timed-out": "#9a6a00", "crashed": "#a3224b", "cancelled": "#6b6f76",
    "running": "#2f6f9f",
}  # fmt: skip
_MOST_ROWS = 40


def draw_all(history: History, folder: str) -> list[str]:
    """Draw every figure of a history into a folder, which is created; return the paths."""
    import os

    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot as plt

    os.makedirs(folder, exist_ok=True)
    found = job_records(history)
    drawings: dict[str, Callable[[Any, list[JobRecord], Timeline], None]] = {
        "timeline": _timeline, "depth": _depth, "retries": _retries, "hours": _hours,
    }  # fmt: skip
    made = []
    for name, drawing in drawings.items():
        figure, axes = plt.subplots(figsize=(12.8, 8.0 if name == "timeline" else 5.2), dpi=100, layout="constrained")
        drawing(axes, found, history.timeline)
        if name != "hours":
            axes.grid(axis="x" if name == "timeline" else "both", color="0.9", linewidth=0.6)
            axes.set_axisbelow(True)
            axes.spines[["top", "right"]].set_visible(False)
        path = os.path.join(folder, f"{name}.png")
        figure.savefig(path)
        plt.close(figure)
        made.append(path)
    return made


def moments(axes: Axes, timeline: Timeline) -> Callable[[int], float]:
    """Let an axis show local time; return a function that turns nanoseconds into numbers of the axis."""
    from matplotlib import dates as mdates

    zone: Any = timeline.zone
    locator = mdates.AutoDateLocator(tz=zone, maxticks=9)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(mdates.ConciseDateFormatter(locator, tz=zone))  # type: ignore[no-untyped-call]
    axes.set_xlabel(f"local time, {timeline.zone}")
    return lambda ns: ns / (86_400 * NS)


def _timeline(axes: Axes, found: list[JobRecord], timeline: Timeline) -> None:
    from matplotlib.patches import Patch

    shown = chosen(found, _MOST_ROWS)
    day = moments(axes, timeline)
    seen = set()
    last = max((t.ended_ns or t.started_ns for job in shown for t in job.attempts), default=0)
    first = min((job.enqueued_ns for job in shown), default=0)
    least = max(last - first, 1) / 600  # wide enough to be seen
    for row, job in enumerate(shown):
        if job.attempts:
            axes.hlines(row, day(job.enqueued_ns), day(job.attempts[0].started_ns), color="0.78", linewidth=2)
        for one in job.attempts:
            end = one.ended_ns if one.ended_ns is not None else last
            seen.add(one.outcome)
            axes.broken_barh(
                [(day(one.started_ns), day(round(max(end - one.started_ns, least))))], (row - 0.36, 0.72),
                color=COLOURS.get(one.outcome, "0.4"),
            )  # fmt: skip
            if one.wait_ns is not None:
                axes.hlines(row, day(end), day(end + one.wait_ns), color="#8a80bd", linewidth=2, linestyle=(0, (2, 1)))
    axes.set_yticks(range(len(shown)), [printable(job.id)[:30] for job in shown], fontsize=9)
    axes.invert_yaxis()
    handles = [Patch(color=COLOURS.get(name, "0.4"), label=name) for name in sorted(seen)]
    handles += [Patch(color="0.78", label="held or queued"), Patch(color="#8a80bd", label="backing off")]
    axes.legend(handles=handles, loc="upper right", frameon=False, ncols=2, fontsize=9)
    rest = len(found) - len(shown)
    axes.set_title("Jobs and their attempts" + (f" ({rest:,} jobs more are not shown)" if rest else ""), loc="left")


def _depth(axes: Axes, found: list[JobRecord], timeline: Timeline) -> None:
    day = moments(axes, timeline)
    end = max((job.closed_ns or job.due_ns for job in found), default=0)
    for queue, (instants, counts) in sorted(queue_depths(found).items()):
        if instants:
            at = [day(ns) for ns in (instants[0], *instants, max(end, instants[-1]))]
            axes.step(at, [0, *counts, counts[-1]], where="post", linewidth=1.4, label=printable(queue))
    axes.set_ylim(bottom=0)
    axes.set_ylabel("ready jobs that wait")
    if axes.get_legend_handles_labels()[1]:
        axes.legend(frameon=False)
    axes.set_title("Queue depth", loc="left")


def _retries(axes: Axes, found: list[JobRecord], timeline: Timeline) -> None:
    counted: dict[str, dict[int, int]] = {}
    for job in found:
        mine = counted.setdefault(job.name, {})
        mine[len(job.attempts)] = mine.get(len(job.attempts), 0) + 1
    most = max((attempts for mine in counted.values() for attempts in mine), default=0)
    low = [0.0] * (most + 1)
    for name, mine in sorted(counted.items()):
        heights = [float(mine.get(attempts, 0)) for attempts in range(most + 1)]
        axes.bar(range(most + 1), heights, bottom=low, width=0.8, label=printable(name))
        low = [a + b for a, b in zip(low, heights, strict=True)]
    axes.set_xticks(range(most + 1))
    axes.set_xlabel("attempts")
    axes.set_ylabel("jobs")
    if counted:
        axes.legend(frameon=False)
    waits = [t.wait_ns for job in found for t in job.attempts if t.wait_ns is not None]
    longest = (
        f"; {len(waits):,} retries, the longest wait {spell(max(waits) // 1_000_000 * 1_000_000)}" if waits else ""
    )
    axes.set_title(f"Attempts a job{longest}", loc="left")


def _hours(axes: Axes, found: list[JobRecord], timeline: Timeline) -> None:
    import numpy as np

    names = sorted({job.name for job in found})
    counts = np.zeros((max(1, len(names)), 24))
    for job in found:
        for one in job.attempts:
            moment: dt.datetime = timeline.at(one.started_ns)
            counts[names.index(job.name), moment.hour] += 1
    image = axes.imshow(np.ma.masked_equal(counts, 0), aspect="auto", cmap="viridis_r", interpolation="nearest")
    for row, hour in zip(*np.nonzero(counts), strict=True):
        dark = counts[row, hour] > counts.max() / 2
        axes.text(
            hour, row, f"{counts[row, hour]:.0f}", ha="center", va="center", fontsize=8, color="w" if dark else "0.1"
        )
    axes.set_yticks(range(len(names)), [printable(name)[:30] for name in names])
    axes.set_xticks(range(24), [f"{hour:02d}" for hour in range(24)])
    axes.set_xlabel(f"hour of the day, {timeline.zone}")
    axes.set_title("Attempts by the hour at which they start", loc="left")
    if counts.any():
        axes.figure.colorbar(image, ax=axes, label="attempts", pad=0.01)
