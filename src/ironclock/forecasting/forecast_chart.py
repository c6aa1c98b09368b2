"""Charts of a forecast: a figure over time in many replications, as a band of quantiles, in text or as PNG."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from rich.text import Text

from ..foundation.durations import NS
from ..foundation.instants import Timeline
from ..reports.readable_numbers import number

if TYPE_CHECKING:
    from .forecast import Forecast

_BLOCKS = " ▁▂▃▄▅▆▇█"
_COLOURS = ("#2f6f9f", "#b4562a")
_LINES = ("-", (0, (4, 2)))


def chart(found: Forecast, figure: str, width: int, height: int = 8) -> list[Text]:
    """Return a chart in text over the span: the median in full, up to the 95 % quantile in outline."""
    import numpy as np

    course = getattr(found.trajectories, figure)
    inner = max(20, width - 10)
    edges = np.linspace(0, len(course), inner + 1).astype(int)
    middle, high = np.quantile(course, [0.5, 0.95], axis=1)
    columns = [
        (float(middle[a:b].max()), float(high[a:b].max()))
        for a, b in zip(edges[:-1], np.maximum(edges[1:], edges[:-1] + 1), strict=True)
    ]
    top = max(max(h for _, h in columns), 1e-9)
    rows = []
    for row in range(height, 0, -1):
        mark = number(top) if row == height else "0" if row == 1 else ""
        line = Text(f"{mark:>8} ")
        for median, upper in columns:
            full, outline = (min(8, max(0, round((v / top * height - row + 1) * 8))) for v in (median, upper))
            if full:
                line.append(_BLOCKS[full], style="cyan")
            elif outline:
                line.append("░" if outline >= 4 else " ", style="dim cyan")
            else:
                line.append(" ")
        rows.append(line)
    timeline = Timeline(found.workload.zone)
    begin, end = (timeline.at(found.workload.start_ns + round(s * NS)) for s in (0.0, found.span))
    left, right = f"{begin:%m-%d %H:%M}", f"{end:%m-%d %H:%M}"
    rows.append(Text(" " * 9 + left + " " * max(1, inner - len(left) - len(right)) + right, style="dim"))
    return rows


def band_figure(forecasts: Sequence[tuple[str, Forecast]], path: str) -> None:
    """Draw backlog, age, retries and dead letters over the span as PNG: median, and band from 5 to 95 %, of each
    forecast.

    Needs the extra ``ironclock[plot]``.
    """
    import matplotlib

    matplotlib.use("Agg")
    import numpy as np
    from matplotlib import dates as mdates
    from matplotlib import pyplot as plt

    panels = (
        ("backlog", "ready jobs", False), ("age", "oldest ready job, minutes", False),
        ("retries", "retries a minute", False), ("dead", "dead letters so far", True),
    )  # fmt: skip
    figure, all_axes = plt.subplots(2, 2, figsize=(12.8, 8.0), dpi=100, layout="constrained", sharex=True)
    zone: Any = Timeline(forecasts[0][1].workload.zone).zone
    for axes, (name, label, summed) in zip(all_axes.flat, panels, strict=True):
        for (title, found), colour, line in zip(forecasts, _COLOURS, _LINES, strict=False):
            course = getattr(found.trajectories, name)
            if name == "age":
                course = course / 60
            if name == "retries":
                course = course * (60 / found.trajectories.frame)
            if summed:
                course = np.cumsum(course, axis=0)
            low, middle, high = np.quantile(course, [0.05, 0.5, 0.95], axis=1)
            timeline = Timeline(zone)
            ends = found.workload.start_ns + (np.arange(len(course)) + 1) * round(found.trajectories.frame * NS)
            at = [timeline.at(int(ns)) for ns in ends]
            axes.fill_between(at, low, high, color=colour, alpha=0.25, linewidth=0)
            axes.plot(at, middle, color=colour, linewidth=1.5, linestyle=line, label=title)
        for since, until in forecasts[0][1].workload.outages:
            timeline = Timeline(zone)
            start = forecasts[0][1].workload.start_ns
            axes.axvspan(
                timeline.at(start + round(since * NS)), timeline.at(start + round(until * NS)), color="0.5", alpha=0.18,
                linewidth=0,
            )  # fmt: skip
        axes.set_ylabel(label)
        axes.set_ylim(0, max(1.0, axes.get_ylim()[1]))
        axes.grid(color="0.9", linewidth=0.6)
        axes.spines[["top", "right"]].set_visible(False)
        axes.xaxis.set_major_formatter(mdates.DateFormatter("%H:%M", tz=zone))  # type: ignore[no-untyped-call]
    handles, labels = all_axes.flat[0].get_legend_handles_labels()
    figure.legend(handles, labels, loc="outside upper left", ncols=2, frameon=False)
    figure.supxlabel(
        f"local time, {zone}; the median, and 5 to 95 % of the replications; grey: an outage", fontsize=10, color="0.35"
    )
    figure.savefig(path)
    plt.close(figure)
