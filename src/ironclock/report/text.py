"""The report in a terminal: a table of jobs, and a timeline with waits drawn to scale."""

from __future__ import annotations

from rich.console import Console, Group, RenderableType
from rich.markup import escape
from rich.rule import Rule
from rich.table import Table
from rich.text import Text

from ..core.durations import NS, spell
from ..core.history import History
from ..core.timeline import Timeline
from .lives import Life, depths, lives

_STYLES = {
    "done": "green", "dead": "bold red", "dropped": "yellow", "withdrawn": "yellow",
    "running": "cyan", "ready": "cyan", "held": "cyan", "backing-off": "bright_magenta", "lost": "bold red",
}  # fmt: skip
_MARKS = {"done": "●", "dead": "✖", "dropped": "○", "withdrawn": "○", "lost": "✖"}
_BARS = "▁▂▃▄▅▆▇█"
_MANY = 40
LEGEND = "· held or queued  █ attempt  ╌ backing off  ● done  ✖ dead letter  ○ given up"


def printable(text: str) -> str:
    """Return text with control characters shown rather than obeyed."""
    return "".join(c if c.isprintable() else repr(c)[1:-1] for c in text)


def job_table(found: list[Life], timeline: Timeline) -> Table:
    """Return the table of jobs."""
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in ("job", "with", "queue", "enqueued", "tries", "state", "last error"):
        table.add_column(name, overflow="fold" if name == "last error" else "ellipsis", no_wrap=name != "last error")
    for life in found:
        error = life.error if life.state != "done" else ""
        table.add_row(
            escape(printable(life.id)), escape(printable(life.args)), escape(printable(life.queue)),
            timeline.at(life.enqueued).strftime("%H:%M:%S"), str(len(life.tries)),
            Text(life.state, style=_STYLES.get(life.state, "")), escape(printable(error)),
        )  # fmt: skip
    return table


def _scale(found: list[Life], width: int, names: list[str]) -> tuple[int, int, int, int]:
    """Return the first and the last instant of a chart, and how many columns its labels and its lines take."""
    label = min(40, max(len(name) for name in names)) + 1
    first = min(life.enqueued for life in found)
    ends = [t.ended or t.started for life in found for t in life.tries]
    ends += [life.due for life in found] + [life.closed or life.enqueued for life in found]
    return first, max(max(ends), first + 1), label, max(20, width - label - 2)


def timeline_rows(found: list[Life], timeline: Timeline, width: int, labels: list[str] | None = None) -> list[Text]:
    """Return one line a job, every line on the same scale, under an axis with its instants. `labels` stand for ids."""
    if not found:
        return []
    names = [life.id for life in found] if labels is None else labels
    first, last, label, span = _scale(found, width, names)

    def column(ns: int) -> int:
        return min(span - 1, (ns - first) * (span - 1) // (last - first))

    start, end = timeline.at(first), timeline.at(last)
    day = "%Y-%m-%d " if start.date() != end.date() else ""
    left, right = start.strftime(f"{day}%H:%M:%S"), end.strftime(f"{day}%H:%M:%S")
    scale = f"a column is {_rounded((last - first) // span)}"
    middle = scale.center(max(0, span - len(left) - len(right)))
    rows = [Text(" " * label + left + middle + right, style="dim")]
    for life, name in zip(found, names, strict=True):
        cells: list[tuple[str, str]] = [(" ", "")] * span

        def fill(since: int, until: int, mark: str, style: str, cells: list[tuple[str, str]] = cells) -> None:
            for i in range(column(since), column(until) + 1):
                cells[i] = (mark, style)

        rest = life.closed if life.closed is not None else last
        fill(life.enqueued, life.tries[0].started if life.tries else min(rest, last), "·", "cyan")
        for attempt in life.tries:
            if attempt.wait is not None and attempt.ended is not None:
                fill(attempt.ended, min(last, attempt.ended + attempt.wait), "╌", "bright_magenta")
        for attempt in life.tries:
            style = "green" if attempt.outcome == "done" else "red" if attempt.outcome != "running" else "cyan"
            fill(attempt.started, last if attempt.ended is None else attempt.ended, "█", style)
        if life.closed is not None:
            cells[column(life.closed)] = (_MARKS.get(life.state, "?"), _STYLES.get(life.state, ""))
        row = Text(printable(name)[: label - 1].ljust(label))
        for mark, style in cells:
            row.append(mark, style=style)
        row.rstrip()
        rows.append(row)
    return rows


def _rounded(ns: int) -> str:
    """A duration to about two digits, for a scale."""
    step = next((s for s in (3600 * NS, 60 * NS, NS, NS // 1000) if ns >= 2 * s), 1)
    return spell(max(1, ns // step * step))


def depth_rows(found: list[Life], timeline: Timeline, width: int) -> list[Text]:
    """Return one line a queue: how many of its jobs were ready and waited, the highest in each column."""
    if not found:
        return []
    lines = sorted(depths(found).items())
    names = [f"{printable(queue)[:24]}  {max(counts, default=0):,} at most" for queue, (_, counts) in lines]
    first, last, label, span = _scale(found, width, names)
    rows = []
    for name, (_, (instants, counts)) in zip(names, lines, strict=True):
        columns = [0] * span
        top = max(counts, default=0)
        for place, (ns, count) in enumerate(zip(instants, counts, strict=True)):
            until = instants[place + 1] if place + 1 < len(instants) else ns
            begin, end = (min(span - 1, max(0, (at - first) * (span - 1) // (last - first))) for at in (ns, until))
            for column in range(begin, end + 1):
                columns[column] = max(columns[column], count)
        row = Text(name.ljust(label))
        for count in columns:
            row.append(_BARS[min(7, (count * 8 - 1) // top)] if count else " ", style="cyan")
        row.rstrip()
        rows.append(row)
    return rows


def chosen(found: list[Life], most: int) -> list[Life]:
    """Return at most so many jobs, those that did not go through first, in their order."""
    if len(found) <= most:
        return found
    odd = sorted(range(len(found)), key=lambda n: (found[n].state == "done", len(found[n].tries) < 2, n))
    return [found[n] for n in sorted(odd[:most])]


def run_report(history: History, width: int, most: int = _MANY) -> RenderableType:
    """Return the whole report of a history for a terminal `width` columns wide, with at most so many jobs."""
    every = lives(history, history.timeline)
    counted: dict[str, int] = {}
    for life in every:
        counted[life.state] = counted.get(life.state, 0) + 1
    total = ", ".join(f"{count} {state}" for state, count in sorted(counted.items()))
    if not every:
        return Text("The history holds no job.")
    found = chosen(every, most)
    rest = len(every) - len(found)
    more = [Text(f"... and {rest:,} jobs more: --jobs shows more of them, --html all", style="dim")] if rest else []
    return Group(
        Rule("Jobs", align="left", style="dim"), job_table(found, history.timeline), *more,
        Text(), Rule("Timeline", align="left", style="dim"), *timeline_rows(found, history.timeline, width),
        Text(LEGEND, style="dim"), Text(),
        Rule("Ready jobs by queue", align="left", style="dim"), *depth_rows(every, history.timeline, width), Text(),
        Text(f"{len(every)} jobs: {total}. {len(history)} entries, digest {history.digest()[:16]}."),
    )  # fmt: skip


def console(*, plain: bool = False) -> Console:
    """Return the console that commands print on: colour only on a terminal."""
    return Console(highlight=False, no_color=True if plain else None, soft_wrap=False)
