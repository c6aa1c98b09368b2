"""The report as one HTML page that needs no other file: timeline, queue depth, jobs, and what laws say."""

from __future__ import annotations

import datetime as dt
import html
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ..foundation.instants import Timeline
from ..foundation.paused_collector import paused_collector
from ..history.history import History
from ..history.job_records import JobRecord, job_records, queue_depths
from ..history.narrative import proof_lines
from ..laws.law import Breach

_MS = 1_000_000
_STATES = ("held", "ready", "running", "backing-off", "done", "dead", "dropped", "withdrawn", "lost")
_HOUR = 3_600_000 * _MS
_SMALL = 20_000
_MOST_BREACHES = 20


def page(
    history: History, title: str, laws: Sequence[tuple[str, Sequence[Breach]]] = (), heading: str = "Laws",
    verdicts: tuple[str, str] = ("holds", "is broken"),
) -> str:  # fmt: skip
    """Return a page about a history that needs no other file.

    Parameters: `laws` are names of laws (or other statements) with what breaks each of them; empty: it holds. `heading`
    is the title above them, `verdicts` the words behind each. Every text is escaped, and a policy in the page forbids
    to fetch anything.
    """
    with paused_collector():
        return _page(history, title, _laws(laws, history, heading, verdicts))


def _page(history: History, title: str, laws: str) -> str:
    found = job_records(history)
    counted: dict[str, int] = {}
    for job in found:
        counted[job.state] = counted.get(job.state, 0) + 1
    attempts = sum(len(job.attempts) for job in found)
    total = ", ".join(f"{count:,} {state}" for state, count in sorted(counted.items())) or "none"
    summary = f"{len(found):,} jobs ({total}), {attempts:,} attempts; zone {history.timeline.zone}"
    if len(history) <= _SMALL:  # for a longer history the digest takes longer than everything else
        summary += f"; digest {history.digest()[:16]}"
    return _part("page.html") % {
        "title": html.escape(title), "summary": html.escape(summary), "css": style(), "js": _part("page.js"),
        "laws": laws, "data": _script(_data(found, history.timeline)),
    }  # fmt: skip


def style() -> str:
    """Return the style sheet of our pages."""
    return _part("page.css")


def _part(name: str) -> str:
    return (Path(__file__).parent / "page" / name).read_text(encoding="utf-8")


def _script(data: dict[str, Any]) -> str:
    # Inside a script element no entity is read, and only "</" or "<!--" can end it.
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
    return text.replace("<", "\\u003c").replace("\u2028", "\\u2028").replace("\u2029", "\\u2029")


def _laws(
    laws: Sequence[tuple[str, Sequence[Breach]]], history: History, heading: str, verdicts: tuple[str, str]
) -> str:
    if not laws:
        return ""
    good, bad = map(html.escape, verdicts)
    items = []
    for name, breaches in laws:
        shown = html.escape(name)
        if not breaches:
            items.append(f'<li><span class="holds">✓ {shown}</span> {good}</li>')
            continue
        proof = "".join(_proof(breach, history.timeline) for breach in breaches[:_MOST_BREACHES])
        if len(breaches) > _MOST_BREACHES:
            proof += f"<p>... and {len(breaches) - _MOST_BREACHES:,} more breaches</p>"
        items.append(f'<li><span class="broken">✗ {shown}</span> {bad}{proof}</li>')
    title = html.escape(heading)
    return f'<section aria-label="{title}"><h2>{title}</h2><ul class="laws">{"".join(items)}</ul></section>'


def _proof(breach: Breach, timeline: Timeline) -> str:
    """Return a breach with the entries that prove it. Those of an attempt are links to it."""
    lines, entries = [], iter(breach.proof)
    for line in proof_lines(breach.proof, timeline):
        shown = html.escape(line.strip())
        if line.startswith("    "):  # the others are days
            entry = next(entries)
            if entry.job is not None:
                about = f'data-job="{html.escape(entry.job)}" data-attempt="{max(1, entry.attempt)}"'
                shown = f'<a href="#detail" {about}>{shown}</a>'
        lines.append(f"<li>{shown}</li>")
    words = f"<p>{html.escape(breach.words)}</p>"
    proof = f"<ul>{''.join(lines)}</ul>" if lines else ""
    return f'<div class="breach">{words}{proof}</div>'


class _Texts:
    """Texts by number; each text occurs once."""

    def __init__(self) -> None:
        self.all: list[str] = []
        self._known: dict[str, int] = {}

    def of(self, text: str) -> int:
        number = self._known.get(text)
        if number is None:
            number = self._known[text] = len(self.all)
            self.all.append(text)
        return number


def _data(found: list[JobRecord], timeline: Timeline) -> dict[str, Any]:
    """Return the data of the page, column by column. Times are milliseconds since the start."""
    start = min((job.enqueued_ns for job in found), default=0) // _MS * _MS
    texts, names, queues, workers, outcomes = _Texts(), _Texts(), _Texts(), _Texts(), _Texts()
    states = [state for state in _STATES if any(job.state == state for job in found)]

    def ms(ns: int) -> float | int:
        off = ns - start
        return off // _MS if off % _MS == 0 else round(off / _MS, 6)

    jobs: dict[str, list[Any]] = {
        key: [] for key in ("id", "name", "args", "queue", "enqueued", "due", "state", "error")
    }
    attempts: dict[str, list[Any]] = {
        key: [] for key in ("job", "number", "start", "end", "worker", "outcome", "error", "wait")
    }
    last = start
    for number, job in enumerate(found):
        jobs["id"].append(job.id)
        jobs["name"].append(names.of(job.name))
        jobs["args"].append(texts.of(job.arguments) if job.arguments else -1)
        jobs["queue"].append(queues.of(job.queue))
        jobs["enqueued"].append(ms(job.enqueued_ns))
        jobs["due"].append(ms(job.due_ns))
        jobs["state"].append(states.index(job.state))
        error = "" if job.state == "done" else job.error
        jobs["error"].append(texts.of(error) if error else -1)
        last = max(last, job.due_ns, job.enqueued_ns)
        for one in job.attempts:
            attempts["job"].append(number)
            attempts["number"].append(one.number)
            attempts["start"].append(ms(one.started_ns))
            attempts["end"].append(-1 if one.ended_ns is None else ms(one.ended_ns))
            attempts["worker"].append(workers.of(one.worker))
            attempts["outcome"].append(outcomes.of(one.outcome))
            error, wait_ns = one.error, one.wait_ns
            attempts["error"].append(texts.of(error) if error else -1)
            attempts["wait"].append(-1 if wait_ns is None else ms(wait_ns + start))
            last = max(last, one.ended_ns or one.started_ns)
    _in_order(workers, attempts["worker"])
    depth = queue_depths(found)
    lines = []
    for queue in queues.all:
        at, count = depth.get(queue, ([], []))
        lines.append({"at": [ms(ns) for ns in at], "count": count, "top": max(count, default=0)})
    return {
        "start": start // _MS, "last": ms(last), "offsets": _offsets(timeline, start, last), "texts": texts.all,
        "names": names.all, "queues": queues.all, "workers": workers.all, "states": states, "outcomes": outcomes.all,
        "jobs": jobs, "tries": attempts, "depth": lines,
    }  # fmt: skip


def _in_order(workers: _Texts, numbers: list[int]) -> None:
    """Sort the workers by name, w2 before w10."""

    def key(number: int) -> tuple[str, int, str]:
        name = workers.all[number]
        head = name.rstrip("0123456789")
        return head, int(name[len(head) :] or 0), name

    order = sorted(range(len(workers.all)), key=key)
    place = {old: new for new, old in enumerate(order)}
    workers.all[:] = [workers.all[old] for old in order]
    numbers[:] = [place[number] for number in numbers]


def _offsets(timeline: Timeline, start: int, last: int) -> list[list[int]]:
    """Return the offsets of a zone from UTC in a span, each with the instant from which it holds, in milliseconds."""

    def offset(ns: int) -> int:
        return int((timeline.at(ns).utcoffset() or dt.timedelta()).total_seconds() * 1000)

    made = [[0, offset(start)]]
    step = max(_HOUR // 2, (last - start) // 20_000)
    for at in range(start // step * step + step, last + 1, step):
        if offset(at) != made[-1][1]:
            made.append([(at - start) // _MS, offset(at)])
    return made
