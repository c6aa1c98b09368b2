"""The report of a rehearsal in a terminal: how faithful it is, the figures side by side, and what differs most."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.table import Table
from rich.text import Text

from ..foundation.instants import Timeline
from ..history.comparison import Change
from ..reports.readable_numbers import number, seconds
from ..reports.side_by_side import rows
from .figures import KINDS, FigureKind
from .rehearsal import Rehearsal
from .rehearsed import CHANGES, Rehearsed

HEADS = {
    "dead": ("is dead, and was not", "are dead, and were not"),
    "otherwise": ("ends in another way", "end in another way"),
    "later": ("is done later", "are done later"),
    "saved": ("is done, and was not", "are done, and were not"),
    "earlier": ("is done earlier", "are done earlier"),
    "moved": ("takes another way to the same end", "take another way to the same end"),
}
"""By a kind of change, what is said of one job and of several."""
_STYLES = {"dead": "bold red", "otherwise": "red", "later": "yellow", "saved": "green", "earlier": "green"}
_TIMELINES = 4


def report(rehearsal: Rehearsal, title: str, show: int, width: int) -> Iterator[Text | Table]:
    """Yield the parts of the report. Parameters: `title` is the name of the log, `show` how many jobs to show of each
    difference, `width` that of the screen in columns."""
    timeline = rehearsal.recording.timeline
    yield Text(headline(rehearsal, title), style="bold")
    yield from _fidelity(rehearsal)
    for line in outage_lines(rehearsal):
        yield Text(line)
    for candidate in rehearsal.candidates:
        yield Text("")
        yield _table(rehearsal.as_logged.name, candidate)
        yield from _differences(candidate, show, timeline, width)
    if not rehearsal.candidates:
        yield Text("Nothing is changed. --policies, --workers or --with says what is to be another.", style="dim")


def headline(rehearsal: Rehearsal, title: str) -> str:
    """Return what was rehearsed, in a line."""
    recording = rehearsal.recording
    at = recording.timeline.at
    attempts = sum(len(job.attempts) for job in recording.jobs)
    since, until = (f"{at(ns):%Y-%m-%d %H:%M}" for ns in (recording.start_ns, recording.end_ns))
    return f"{title}: {len(recording.jobs):,} jobs, {attempts:,} attempts, {since} to {until}"


def _fidelity(rehearsal: Rehearsal) -> Iterator[Text]:
    fidelity = rehearsal.fidelity
    style = "green" if fidelity.is_enough else "bold red"
    mark = "✓" if fidelity.is_enough else "✗"
    yield Text(f"{mark} {fidelity.words()}.", style=style)
    for line in doubts(rehearsal):
        yield Text(line, style="yellow")


def doubts(rehearsal: Rehearsal) -> Iterator[str]:
    """Yield in words why the figures can be wrong."""
    fidelity = rehearsal.fidelity
    if not fidelity.is_enough:
        shown = [f"{rehearsal.recording.jobs[n].id} ({why})" for n, why in list(fidelity.differing.items())[:3]]
        yield f"  The rehearsal does not understand this log: read what follows with care. Such as {', '.join(shown)}."
    if rehearsal.notes:
        yield f"  Not rehearsed: {'; '.join(rehearsal.notes)}."
    if rehearsal.recording.is_sample:
        yield "  A share of the jobs: workers are not limited, and every job starts when it did."


def outage_lines(rehearsal: Rehearsal) -> Iterator[str]:
    """Yield each outage of the log in words."""
    at = rehearsal.recording.timeline.at
    for outage in rehearsal.outages:
        since, last, until = (f"{at(ns):%H:%M:%S}" for ns in (outage.since_ns, outage.last_ns, outage.until_ns))
        end = "the end of the log" if outage.is_open else f"between {last} and {until}"
        struck = ", ".join(f"{name} ({100 * victims.share:.0f} % failed)" for name, victims in outage.victims.items())
        yield f"An outage, {outage.error_name}, from {since} to {end}: {struck}"


def shown_value(kind: FigureKind, value: float) -> str:
    """Return a figure for people."""
    return seconds(value) if kind.unit == "s" else number(value)


def is_worse(kind: FigureKind, before: float, after: float) -> bool | None:
    """Return True if a figure has become worse, False if it has become better. None: neither."""
    if before == after or not kind.is_worse_if:
        return None
    return (after > before) == (kind.is_worse_if == "more")


def kinds_shown(candidate: Rehearsed) -> list[FigureKind]:
    """Return the figures that say something: not those that are 0 in both."""
    return [kind for kind in KINDS if candidate.before[kind.name] or candidate.after[kind.name]]


def _table(name: str, candidate: Rehearsed) -> Table:
    table = Table(box=None, pad_edge=False, header_style="bold")
    heads = ["", name, candidate.name, *(["from", "to"] if candidate.spread else [])]
    for head in heads:
        table.add_column(Text(head), justify="right" if head else "left", overflow="fold")
    for kind in kinds_shown(candidate):
        before, after = candidate.before[kind.name], candidate.after[kind.name]
        worse = is_worse(kind, before, after)
        style = "" if worse is None else "bold red" if worse else "green"
        cells = [Text(kind.words), Text(shown_value(kind, before)), Text(shown_value(kind, after), style=style)]
        cells += [Text(shown_value(kind, value)) for value in candidate.spread.get(kind.name, ())]
        table.add_row(*cells)
    return table


def what_times_hide(candidate: Rehearsed) -> str:
    """Return what the times of the table do not say, if they look better although more jobs are not done."""
    less = candidate.before["done"] - candidate.after["done"]
    better = any(candidate.after[name] < candidate.before[name] for name in ("median", "p95", "p99", "longest"))
    if less <= 0 or not better:
        return ""
    return f"The times are those of jobs that are done: {less:,.0f} jobs that are not done any more are not in them."


def _differences(candidate: Rehearsed, show: int, timeline: Timeline, width: int) -> Iterator[Text]:
    hidden = what_times_hide(candidate)
    if hidden:
        yield Text(hidden, style="yellow")
    yield Text("")
    yield Text(f"{candidate.name}: {assumed(candidate)}", style="dim")
    for law in candidate.newly_broken:
        yield Text(f"✗ {law} holds as logged, and is broken", style="bold red")
        for breach in candidate.broken[law][1][:show]:
            yield Text(f"    {breach.words}")
    for words, about in (("done twice", candidate.twice), ("not done any more", candidate.lost)):
        if about:
            more = f" and {len(about) - show:,} more" if len(about) > show else ""
            yield Text(f"✗ {len(about):,} effects are {words}: {', '.join(about[:show])}{more}", style="bold red")
    if not candidate.comparison.changes:
        yield Text("✓ every job runs as in the log", style="green")
        return
    for kind in CHANGES:
        changes = candidate.changes(kind)
        if changes:
            yield from _group(candidate, kind, changes, show)
    if show:
        yield Text("")
        yield from rows(candidate.comparison, timeline, width, _TIMELINES)


def _group(candidate: Rehearsed, kind: str, changes: Sequence[Change], show: int) -> Iterator[Text]:
    by_type: dict[str, int] = {}
    for change in changes:
        name = (change.after or change.before).name  # type: ignore[union-attr]
        by_type[name] = by_type.get(name, 0) + 1
    types = ", ".join(f"{count:,} {name}" for name, count in sorted(by_type.items(), key=lambda item: -item[1]))
    yield Text(f"{len(changes):,} jobs {HEADS[kind][1]}: {types}" if len(changes) > 1
               else f"1 job {HEADS[kind][0]}: {next(iter(by_type))}", style=_STYLES.get(kind, ""))  # fmt: skip
    for change in changes[: show if kind != "moved" else min(show, 2)]:
        yield Text(f"  {change.job}: {story_in_line(change, candidate)}")


def story_in_line(change: Change, candidate: Rehearsed) -> str:
    """Return in a line what is another with a job."""
    words = "; ".join(change.what)
    shown = change.after or change.before
    assert shown is not None
    if candidate.dead_in.get(shown.id) and change.after is not None:
        words += f"; dead in {candidate.dead_in[shown.id]:,} of the replications"
    return f"{words} (the log does not say if the outage was over)" if candidate.is_unsure(shown.id) else words


def assumed(candidate: Rehearsed) -> str:
    """Return how much of a run comes from the log, and how much from the model."""
    run = candidate.run
    words = f"{run.from_log:,} attempts as in the log"
    if run.drawn:
        words += f", {run.drawn:,} that it does not have (from what was measured)"
    if run.unsure:
        words += f", {run.unsure:,} at an instant at which it does not say if an outage was over"
    for name, count in run.doubled.items():
        words += f"; {count:,} {name} come from the code, and from the log as well (from_code leaves those out)"
    if run.refused:
        words += f"; {run.refused:,} jobs were refused"
    return words
