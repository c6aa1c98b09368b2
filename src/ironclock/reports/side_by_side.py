"""The picture of a comparison: the jobs that differ, before and after, on one scale."""

from __future__ import annotations

from rich.text import Text

from ..foundation.durations import NS
from ..foundation.instants import Timeline
from ..history.comparison import Comparison
from ..history.job_records import JobRecord
from .history_figures import COLOURS, moments
from .terminal import printable, timeline_rows

_MOST = 20


def rows(found: Comparison, timeline: Timeline, width: int, most: int = 8) -> list[Text]:
    """Return the timeline of the jobs that differ, each before and after, for a terminal `width` columns wide."""
    shown: list[JobRecord] = []
    labels: list[str] = []
    names = found.names or ("before", "after")
    longest = max(map(len, names))
    for change in found.changes[:most]:
        for name, job in zip(names, (change.before, change.after), strict=True):
            if job is not None:
                shown.append(job)
                labels.append(f"{name:{longest}} {change.job}")
    return timeline_rows(shown, timeline, width, labels)


def draw(found: Comparison, timeline: Timeline, path: str, names: tuple[str, str]) -> None:
    """Draw the jobs that differ as PNG. Needs the extra ``ironclock[plot]``."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot as plt
    from matplotlib.patches import Patch

    changes = found.changes[:_MOST]
    figure, axes = plt.subplots(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    jobs = [job for change in changes for job in (change.before, change.after) if job is not None]
    first = min((job.enqueued_ns for job in jobs), default=0)
    last = max((t.ended_ns or t.started_ns for job in jobs for t in job.attempts), default=first + NS)
    least = max(last - first, 1) / 600
    day = moments(axes, timeline)
    for number, change in enumerate(changes):
        for job, offset in ((change.before, -0.2), (change.after, 0.2)):
            if job is None:
                continue
            row = number + offset
            for one in job.attempts:
                end = last if one.ended_ns is None else one.ended_ns
                axes.broken_barh(
                    [(day(one.started_ns), day(round(max(end - one.started_ns, least))))], (row - 0.15, 0.3),
                    color=COLOURS.get(one.outcome, COLOURS["running"]), alpha=0.55 if offset < 0 else 1.0,
                    hatch="////" if offset < 0 else None, edgecolor="w" if offset < 0 else None, linewidth=0,
                )  # fmt: skip
                if one.wait_ns is not None:
                    axes.hlines(row, day(end), day(end + one.wait_ns), color="#8a80bd", linewidth=1.5, linestyle=":")
            if job.closed_ns is not None:
                axes.plot(day(job.closed_ns), row, marker="o" if job.state == "done" else "x", color="0.15", ms=5)
    axes.set_yticks(range(len(changes)), [printable(change.job)[:36] for change in changes], fontsize=9)
    axes.invert_yaxis()
    axes.grid(axis="x", color="0.9", linewidth=0.6)
    axes.set_axisbelow(True)
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(
        handles=[
            Patch(facecolor="0.6", hatch="////", edgecolor="w", label=names[0]), Patch(color="0.3", label=names[1])
        ],
        loc="upper right", frameon=False,
    )  # fmt: skip
    rest = len(found.changes) - len(changes)
    axes.set_title(
        f"{len(found.changes):,} of {found.count:,} jobs differ" + (f"; {rest:,} are not shown" if rest else ""),
        loc="left",
    )
    figure.savefig(path)
    plt.close(figure)
