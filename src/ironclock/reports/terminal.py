"""The report in a terminal: a table of jobs, and a timeline in which waits are drawn to scale."""

from __future__ import annotations

from rich.console import Console, Group, RenderableType
from rich.markup import escape
from rich.rule import Rule
from rich.table import Table
from rich.text import Text

from ..foundation.durations import NS, spell
from ..foundation.instants import Timeline
from ..history.history import History
from ..history.job_records import JobRecord, job_records, queue_depths

_STYLES = {
    "done": "green", "dead": "bold red", "dropped": "yellow", "withdrawn": "yellow",
    "running": "cyan", "ready": "cyan", "held": "cyan", "backing-off": "bright_magenta", "lost": "bold red",
}  # fmt: skip
_MARKS = {"done": "●", "dead": "✖", "dropped": "○", "withdrawn": "○", "lost": "✖"}
_BARS = "▁▂▃▄▅▆▇█"
_MANY = 40
LEGEND = "· held or queued  █ attempt  2 several attempts  ╌ backing off  ● done  ✖ dead letter  ○ given up"


def printable(text: str) -> str:
    """Return text in which control characters are shown and not obeyed."""
    return "".join(c if c.isprintable() else repr(c)[1:-1] for c in text)


def job_table(found: list[JobRecord], timeline: Timeline) -> Table:
    """Return the table of jobs."""
    table = Table(box=None, pad_edge=False, header_style="bold")
    for name in ("job", "with", "queue", "enqueued", "attempts", "state", "last error"):
        table.add_column(name, overflow="fold" if name == "last error" else "ellipsis", no_wrap=name != "last error")
    for job in found:
        error = job.error if job.state != "done" else ""
        table.add_row(
            escape(printable(job.id)), escape(printable(job.arguments)), escape(printable(job.queue)),
            timeline.at(job.enqueued_ns).strftime("%H:%M:%S"), str(len(job.attempts)),
            Text(job.state, style=_STYLES.get(job.state, "")), escape(printable(error)),
        )  # fmt: skip
    return table


def _scale(found: list[JobRecord], width: int, names: list[str]) -> tuple[int, int, int, int]:
    """Return the first and the last instant of a chart, and the widths of its labels and of its lines in columns."""
    label = min(40, max((len(name) for name in names), default=0)) + 1
    first = min(job.enqueued_ns for job in found)
    ends = [t.ended_ns or t.started_ns for job in found for t in job.attempts]
    ends += [job.due_ns for job in found] + [job.closed_ns or job.enqueued_ns for job in found]
    return first, max(max(ends), first + 1), label, max(20, width - label - 2)


def timeline_rows(
    found: list[JobRecord], timeline: Timeline, width: int, labels: list[str] | None = None
) -> list[Text]:
    """Return one line for each job, all on the same scale, under an axis. `labels` are shown instead of ids."""
    if not found:
        return []
    names = [job.id for job in found] if labels is None else labels
    first, last, label, span = _scale(found, width, names)

    def column(ns: int) -> int:
        return min(span - 1, (ns - first) * (span - 1) // (last - first))

    start, end = timeline.at(first), timeline.at(last)
    day = "%Y-%m-%d " if start.date() != end.date() else ""
    left, right = start.strftime(f"{day}%H:%M:%S"), end.strftime(f"{day}%H:%M:%S")
    scale = f"a column is {_rounded((last - first) // span)}"
    middle = scale.center(max(0, span - len(left) - len(right)))
    rows = [Text(" " * label + left + middle + right, style="dim")]
    for job, name in zip(found, names, strict=True):
        cells: list[tuple[str, str]] = [(" ", "")] * span

        def fill(since: int, until: int, mark: str, style: str, cells: list[tuple[str, str]] = cells) -> None:
            for i in range(column(since), column(until) + 1):
                cells[i] = (mark, style)

        rest = job.closed_ns if job.closed_ns is not None else last
        fill(job.enqueued_ns, job.attempts[0].started_ns if job.attempts else min(rest, last), "·", "cyan")
        for attempt in job.attempts:
            if attempt.wait_ns is not None and attempt.ended_ns is not None:
                fill(attempt.ended_ns, min(last, attempt.ended_ns + attempt.wait_ns), "╌", "bright_magenta")
        counts: dict[int, int] = {}
        for attempt in job.attempts:
            style = "green" if attempt.outcome == "done" else "red" if attempt.outcome != "running" else "cyan"
            until = last if attempt.ended_ns is None else attempt.ended_ns
            fill(attempt.started_ns, until, "█", style)
            for place in range(column(attempt.started_ns), column(until) + 1):
                counts[place] = counts.get(place, 0) + 1
                if counts[place] > 1:  # a column is longer than several attempts
                    cells[place] = (str(counts[place]) if counts[place] < 10 else "+", style)
        # The end, unless that would hide that several attempts are in its column.
        end_at = -1 if job.closed_ns is None else column(job.closed_ns)
        if end_at >= 0 and counts.get(end_at, 0) < 2:
            cells[end_at] = (_MARKS.get(job.state, "?"), _STYLES.get(job.state, ""))
        row = Text(printable(name)[: label - 1].ljust(label))
        for mark, style in cells:
            row.append(mark, style=style)
        row.rstrip()
        rows.append(row)
    return rows


def _rounded(ns: int) -> str:
    """Return a duration with about two digits, for a scale."""
    step = next((s for s in (3600 * NS, 60 * NS, NS, NS // 1000) if ns >= 2 * s), 1)
    return spell(max(1, ns // step * step))


def depth_rows(found: list[JobRecord], timeline: Timeline, width: int) -> list[Text]:
    """Return one line for each queue: how many of its jobs were ready and waited, the highest in each column."""
    if not found:
        return []
    depths = sorted(queue_depths(found).items())
    lines = [(queue, depth) for queue, depth in depths if max(depth[1], default=0)]
    never = [printable(queue)[:24] for queue, depth in depths if not max(depth[1], default=0)]
    names = [f"{printable(queue)[:24]}  {max(counts, default=0):,} at most" for queue, (_, counts) in lines]
    first, last, label, span = _scale(found, width, names)
    rows: list[Text] = []
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
    if never:
        rows.append(Text(f"{', '.join(never)}: no job waited for a worker", style="dim"))
    return rows


def chosen(found: list[JobRecord], most: int) -> list[JobRecord]:
    """Return at most so many jobs in their order; jobs that are not done come into it first."""
    if len(found) <= most:
        return found
    odd = sorted(range(len(found)), key=lambda n: (found[n].state == "done", len(found[n].attempts) < 2, n))
    return [found[n] for n in sorted(odd[:most])]


def run_report(history: History, width: int, most: int = _MANY) -> RenderableType:
    """Return the whole report of a history for a terminal `width` columns wide, with at most so many jobs."""
    every = job_records(history)
    counted: dict[str, int] = {}
    for job in every:
        counted[job.state] = counted.get(job.state, 0) + 1
    total = ", ".join(f"{count} {state}" for state, count in sorted(counted.items()))
    if not every:
        return Text("The history has no jobs.")
    found = chosen(every, most)
    rest = len(every) - len(found)
    more = [Text(f"... and {rest:,} more jobs: --jobs shows more of them, --html all", style="dim")] if rest else []
    return Group(
        Rule("Jobs", align="left", style="dim"), job_table(found, history.timeline), *more,
        Text(), Rule("Timeline", align="left", style="dim"), *timeline_rows(found, history.timeline, width),
        Text(LEGEND, style="dim"), Text(),
        Rule("Ready jobs by queue", align="left", style="dim"), *depth_rows(every, history.timeline, width), Text(),
        Text(f"{len(every)} jobs: {total}. {len(history)} entries, digest {history.digest()[:16]}."),
    )  # fmt: skip


class _Screen(Console):
    """Leaves it to the command line what to do if nobody reads any more. Rich ends the program with exit code 1."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def console(*, plain: bool = False, stderr: bool = False) -> Console:
    """Return the console on which commands print. It has colour only on a terminal."""
    return _Screen(highlight=False, no_color=True if plain else None, soft_wrap=False, stderr=stderr)
