"""The report of a rehearsal as one HTML page that needs no other file: the log and each candidate on one scale."""

from __future__ import annotations

import html
from collections.abc import Iterable, Sequence
from pathlib import Path

from ..foundation.instants import Timeline
from ..history.comparison import Change
from ..history.entries import Entry
from ..history.job_records import JobRecord, queue_depths
from ..history.narrative import story_lines
from ..reports.html_page import style
from .figures import MINUTE_NS, Figures
from .redaction import Redaction
from .rehearsal import Rehearsal
from .rehearsal_report import (
    HEADS,
    assumed,
    doubts,
    headline,
    is_worse,
    kinds_shown,
    outage_lines,
    shown_value,
    story_in_line,
    what_times_hide,
)
from .rehearsed import CHANGES, Rehearsed
from .run import Run

_WIDTH, _LEFT, _ROW, _HEIGHT = 1160, 210, 13, 110
_MOST_ROWS, _FEW_ROWS, _MOST_STORIES = 16, 4, 12
_STEPS, _MOST_STEPS = (1, 2, 5, 10, 15, 30, 60, 120, 360), 120


def page(rehearsal: Rehearsal, title: str, shows_arguments: bool = False) -> str:
    """Return a page about a rehearsal. Every text is escaped, and a policy in the page forbids to fetch anything.

    Parameters: `title` is the name of the log; `shows_arguments`: the stories of jobs show their arguments, keys and
    results. Default False: they show codes, equal where the values are equal.
    """
    hidden = None if shows_arguments else Redaction()
    fidelity = rehearsal.fidelity
    mark = "holds" if fidelity.is_enough else "broken"
    lines = [*doubts(rehearsal), *outage_lines(rehearsal)]
    parts = [
        "<header>", f"<h1>{html.escape(f'Rehearsal of {title}')}</h1>",
        f'<p id="summary">{html.escape(headline(rehearsal, title))}</p>', "</header><main>",
        f'<section aria-label="Fidelity"><p class="{mark}">{html.escape(fidelity.words())}.</p>',
        *(f"<p>{html.escape(line.strip())}</p>" for line in lines), "</section>",
        *(_candidate(rehearsal, candidate, hidden) for candidate in rehearsal.candidates), "</main>",
    ]  # fmt: skip
    return _HEAD % {
        "title": html.escape(f"Rehearsal of {title}"),
        "css": style() + _own_style(),
        "body": "\n".join(parts),
    }


def _own_style() -> str:
    return (Path(__file__).parent / "rehearsal_page.css").read_text(encoding="utf-8")


_HEAD = """<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<title>%(title)s</title>
<style>
%(css)s
</style>
</head>
<body>
%(body)s
</body>
</html>
"""


def _candidate(rehearsal: Rehearsal, candidate: Rehearsed, hidden: Redaction | None) -> str:
    timeline = rehearsal.recording.timeline
    name = html.escape(candidate.name)
    scale = _Scale.of(rehearsal, candidate)
    step = next((step for step in _STEPS if (scale.last - scale.first) / (step * MINUTE_NS) <= _MOST_STEPS), 1440)
    waits = _backlog(rehearsal, candidate, scale) or "<p>No job waits for a worker in either.</p>"
    charts = (
        f"<h3>Attempts in {'a minute' if step == 1 else f'{step} minutes'}</h3>"
        f"{_load(rehearsal, candidate, scale, step)}<h3>Jobs that wait for a worker</h3>{waits}"
        f'<p class="soft">Dashed: {html.escape(rehearsal.as_logged.name)}. Line: {name}. Shaded: an outage.</p>'
    )
    return (
        f'<section aria-label="{name}"><h2>{name}</h2><p class="soft">{html.escape(assumed(candidate))}</p>'
        f'<div class="both"><div>{_figures(rehearsal, candidate)}<p class="worse">'
        f"{html.escape(what_times_hide(candidate))}</p></div><div>{_by_type(candidate)}{charts}</div></div></section>"
        f"<section><h2>What differs most</h2>{_timeline(rehearsal, candidate, timeline)}</section>"
        f"<section><h2>The jobs that differ</h2>{_laws(candidate)}{_groups(rehearsal, candidate, hidden)}</section>"
    )


def _figures(rehearsal: Rehearsal, candidate: Rehearsed) -> str:
    rows = []
    for kind in kinds_shown(candidate):
        before, after = candidate.before[kind.name], candidate.after[kind.name]
        cells = [shown_value(kind, before), shown_value(kind, after)]
        cells += [shown_value(kind, value) for value in candidate.spread.get(kind.name, ())]
        mark = _mark(is_worse(kind, before, after))
        shown = "".join(f'<td class="n {mark if n == 1 else ""}">{cell}</td>' for n, cell in enumerate(cells))
        rows.append(f'<tr><th scope="row">{html.escape(kind.words)}</th>{shown}</tr>')
    heads = [rehearsal.as_logged.name, candidate.name, *(["from", "to"] if candidate.spread else [])]
    return _table(["", *heads], rows, "Figures")


def _mark(worse: bool | None) -> str:
    return "" if worse is None else "worse" if worse else "better"


def _by_type(candidate: Rehearsed) -> str:
    rows = []
    for name, (before, after) in candidate.by_type.items():
        cells = [f'<td class="n">{before["jobs"]:,.0f}</td>']
        for kind in kinds_shown(candidate):
            if kind.name in ("dead", "attempts", "p95"):
                one, other = before[kind.name], after[kind.name]
                mark = _mark(is_worse(kind, one, other))
                cells.append(f'<td class="n {mark}">{shown_value(kind, one)} → {shown_value(kind, other)}</td>')
        rows.append(f'<tr><th scope="row">{html.escape(name)}</th>{"".join(cells)}</tr>')
    heads = [kind.words for kind in kinds_shown(candidate) if kind.name in ("dead", "attempts", "p95")]
    return _table(["job", "jobs", *heads], rows, "By job type")


def _table(heads: Sequence[str], rows: Sequence[str], caption: str) -> str:
    head = "".join(f'<th scope="col"{" class=n" * (n > 0)}>{html.escape(text)}</th>' for n, text in enumerate(heads))
    return f"<h3>{caption}</h3><table><thead><tr>{head}</tr></thead><tbody>{''.join(rows)}</tbody></table>"


# --- charts -----------------------------------------------------------------------------------------------


class _Scale:
    """Turns instants into places of a chart."""

    def __init__(self, first: int, last: int, left: int, width: int) -> None:
        self.first, self.last = first, max(last, first + 1)
        self.left, self.width = left, width

    @classmethod
    def of(cls, rehearsal: Rehearsal, candidate: Rehearsed) -> _Scale:
        """Return the scale of all that happened in the log and in a candidate."""
        ends = [
            attempt.ended_ns or attempt.started_ns
            for run in (rehearsal.as_logged, candidate.run) for job in run.jobs for attempt in job.attempts[-1:]
        ]  # fmt: skip
        return cls(rehearsal.recording.start_ns, max(ends, default=0), 36, 560)

    def x(self, ns: int) -> float:
        """Return the place of an instant."""
        share = (min(max(ns, self.first), self.last) - self.first) / (self.last - self.first)
        return round(self.left + share * (self.width - self.left), 2)

    def axis(self, timeline: Timeline, height: int) -> str:
        """Return the lines and texts below a chart."""
        span = self.last - self.first
        is_long = span > 36 * 3600 * 10**9
        marks = []
        for step in range(5):
            ns = self.first + span * step // 4
            at = timeline.at(ns)
            text = f"{at:%m-%d %H:%M}" if is_long else f"{at:%H:%M}" if span > 600 * 10**9 else f"{at:%H:%M:%S}"
            anchor = "start" if step == 0 else "end" if step == 4 else "middle"
            marks.append(
                f'<line class="grid" x1="{self.x(ns)}" x2="{self.x(ns)}" y1="0" y2="{height}"/>'
                f'<text x="{self.x(ns)}" y="{height + 13}" text-anchor="{anchor}">{text}</text>'
            )
        return "".join(marks)


def _outages(rehearsal: Rehearsal, scale: _Scale, height: int) -> str:
    return "".join(
        f'<rect class="outage" x="{scale.x(outage.since_ns)}" y="0" height="{height}" '
        f'width="{max(1.0, scale.x(outage.until_ns) - scale.x(outage.since_ns)):.2f}"/>'
        for outage in rehearsal.outages
    )


def _load(rehearsal: Rehearsal, candidate: Rehearsed, scale: _Scale, step: int) -> str:
    """Return how many attempts started, in steps of so many minutes."""
    first = scale.first // MINUTE_NS

    def line(figures: Figures) -> list[tuple[int, int]]:
        counts: dict[int, int] = {}
        for minute, count in figures.starts.items():
            place = (minute - first) // step
            counts[place] = counts.get(place, 0) + count
        last = (scale.last // MINUTE_NS - first) // step + 1
        return [((first + place * step) * MINUTE_NS, counts.get(place, 0)) for place in range(last + 1)]

    return _chart(rehearsal, scale, line(candidate.before), line(candidate.after))


def _backlog(rehearsal: Rehearsal, candidate: Rehearsed, scale: _Scale) -> str:
    """Return how many jobs wait for a worker. Empty: none ever does."""

    def line(run: Run) -> list[tuple[int, int]]:
        steps: dict[int, int] = {}
        for instants, counts in queue_depths(run.jobs).values():
            before = 0
            for ns, count in zip(instants, counts, strict=True):
                steps[ns] = steps.get(ns, 0) + count - before
                before = count
        points, now = [(scale.first, 0)], 0
        for ns in sorted(steps):
            now += steps[ns]
            points.append((ns, now))
        return points

    lines = line(rehearsal.as_logged), line(candidate.run)
    return _chart(rehearsal, scale, *lines) if any(count for points in lines for _, count in points) else ""


def _chart(
    rehearsal: Rehearsal, scale: _Scale, before: Sequence[tuple[int, int]], after: Sequence[tuple[int, int]]
) -> str:  # fmt: skip
    top = max((count for _, count in (*before, *after)), default=0) or 1

    def path(points: Sequence[tuple[int, int]], name: str) -> str:
        # Of each place the highest and the last value: more points than places cannot be seen.
        places: dict[int, tuple[int, int]] = {}
        for ns, count in points:
            place = round(scale.x(ns))
            places[place] = max(places.get(place, (0, 0))[0], count), count
        moves: list[str] = []
        for place, both in sorted(places.items()):
            high, last = (round(_HEIGHT - count / top * (_HEIGHT - 8), 1) for count in both)
            moves.append(f"H{place}V{high}V{last}" if moves else f"M{place} {high}V{last}")
        return f'<path class="{name}" d="{"".join(moves)}H{scale.width}"/>'

    labels = f'<text x="{scale.left - 4}" y="12" text-anchor="end">{top:,}</text>' \
             f'<text x="{scale.left - 4}" y="{_HEIGHT}" text-anchor="end">0</text>'  # fmt: skip
    return (
        f'<svg viewBox="0 0 {scale.width} {_HEIGHT + 18}" role="img">{_outages(rehearsal, scale, _HEIGHT)}'
        f"{scale.axis(rehearsal.recording.timeline, _HEIGHT)}{labels}"
        f"{path(before, 'before')}{path(after, 'after')}</svg>"
    )


def _timeline(rehearsal: Rehearsal, candidate: Rehearsed, timeline: Timeline) -> str:
    """Return the jobs that differ most, each in the log and below it in the candidate."""
    changes: list[Change] = []
    for kind in CHANGES:
        if kind not in ("saved", "earlier", "moved") or len(changes) < _FEW_ROWS:
            changes += candidate.changes(kind)[: _MOST_ROWS - len(changes)]
    if not changes:
        return "<p>No job differs.</p>"
    records = [record for change in changes for record in (change.before, change.after) if record is not None]
    last = max((attempt.ended_ns or attempt.started_ns for record in records for attempt in record.attempts), default=0)
    scale = _Scale(min(record.enqueued_ns for record in records), last, _LEFT, _WIDTH)
    height = len(changes) * (2 * _ROW + 8)
    rows = []
    for place, change in enumerate(changes):
        top = place * (2 * _ROW + 8)
        shown = change.after or change.before
        assert shown is not None
        label = f"{shown.id} {shown.name}"
        rows.append(f'<text x="{_LEFT - 8}" y="{top + 16}" text-anchor="end">{html.escape(label[:32])}</text>')
        if change.before is not None:
            rows.append(_bars(change.before, scale, top + 2, "logged"))
        if change.after is not None:
            rows.append(_bars(change.after, scale, top + 2 + _ROW, ""))
    more = len(candidate.comparison.changes) - len(changes)
    rest = f'<p class="soft">{more:,} more jobs differ.</p>' if more else ""
    return (
        f'<p class="soft">Above, pale: {html.escape(rehearsal.as_logged.name)}. Below: {html.escape(candidate.name)}. '
        "● done, ✖ dead. A line is a wait between attempts.</p>"
        f'<svg viewBox="0 0 {_WIDTH + 20} {height + 18}" role="img">{_outages(rehearsal, scale, height)}'
        f"{scale.axis(timeline, height)}{''.join(rows)}</svg>{rest}"
    )


def _bars(record: JobRecord, scale: _Scale, top: int, extra: str) -> str:
    parts = []
    middle = top + _ROW / 2 - 1
    for attempt in record.attempts:
        since, until = scale.x(attempt.started_ns), scale.x(attempt.ended_ns or scale.last)
        if attempt.wait_ns is not None and attempt.ended_ns is not None:
            to = scale.x(attempt.ended_ns + attempt.wait_ns)
            parts.append(f'<line class="wait" x1="{until}" x2="{to}" y1="{middle}" y2="{middle}"/>')
        parts.append(
            f'<rect class="{html.escape(attempt.outcome)}" x="{since}" y="{top}" height="{_ROW - 3}" '
            f'width="{max(2.0, until - since):.2f}"/>'
        )
    if record.closed_ns is not None:
        mark = {"done": "●", "dead": "✖"}.get(record.state, "○")
        parts.append(f'<text class="end" x="{scale.x(record.closed_ns) + 3}" y="{top + _ROW - 3}">{mark}</text>')
    return f'<g class="{extra}">{"".join(parts)}</g>'


# --- words ------------------------------------------------------------------------------------------------


def _laws(candidate: Rehearsed) -> str:
    lines = [f"{law} holds as logged, and is broken" for law in candidate.newly_broken]
    for words, about in (("done twice", candidate.twice), ("not done any more", candidate.lost)):
        if about:
            lines.append(f"{len(about):,} effects are {words}")
    return "".join(f'<p class="worse">✗ {html.escape(line)}</p>' for line in lines)


def _groups(rehearsal: Rehearsal, candidate: Rehearsed, hidden: Redaction | None) -> str:
    parts = []
    for kind in CHANGES:
        changes = candidate.changes(kind)
        if not changes:
            continue
        head = HEADS[kind][len(changes) > 1]
        items = "".join(_story(rehearsal, candidate, change, hidden) for change in changes[:_MOST_STORIES])
        more = len(changes) - _MOST_STORIES
        rest = f'<p class="soft">and {more:,} more</p>' if more > 0 else ""
        parts.append(f"<h3>{len(changes):,} {'jobs' if len(changes) > 1 else 'job'} {head}</h3>{items}{rest}")
    return "".join(parts) or '<p class="holds">No job differs.</p>'


def _story(rehearsal: Rehearsal, candidate: Rehearsed, change: Change, hidden: Redaction | None) -> str:
    shown = change.after or change.before
    assert shown is not None
    stories = []
    for run in (rehearsal.as_logged, candidate.run):
        entries: Iterable[Entry] = run.history.of(shown.id)
        if hidden is not None:
            entries = [hidden.entry(entry, run.history.timeline) for entry in entries]
        lines = "\n".join(story_lines(entries, run.history.timeline)) or "  it is not there"
        stories.append(f"<div><b>{html.escape(run.name)}</b><pre>{html.escape(lines)}</pre></div>")
    words = html.escape(story_in_line(change, candidate)) if hidden is None else html.escape(_plain(change, candidate))
    return (
        f"<details><summary>{html.escape(f'{shown.id} {shown.name}')}: {words}</summary>"
        f'<div class="both">{"".join(stories)}</div></details>'
    )


def _plain(change: Change, candidate: Rehearsed) -> str:
    """Return what is another with a job, without what could be personal."""
    kept = tuple(words for words in change.what if not words.startswith(("arguments", "gives")))
    return story_in_line(Change(change.job, change.before, change.after, kept), candidate)
