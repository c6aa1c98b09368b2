"""Estimation: a scenario made from a history: how long jobs take, how often they fail, when they arrive."""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Iterator

from ..errors import InputError
from ..foundation.durations import NS, spell
from ..history.history import History
from ..history.job_records import JobRecord, job_records

_MEASURED = 21
"""How many quantiles represent the measured durations."""
_FEW_JOBS = 30
_BARE = re.compile("[A-Za-z0-9_-]+")


def estimate(history: History, title: str = "Estimated from a log") -> str:
    """Return a scenario file as text: the jobs of a history as modelled jobs, with their measured durations and failure
    shares, their rates by hour, their retries, and the same number of workers.

    Parameters: `title` is the title of the scenario.

    Raises `InputError` for a history without attempts.
    """
    found = job_records(history)
    attempts = [one for job in found for one in job.attempts]
    if not attempts:
        raise InputError("the history has no attempts; give the log of a real run, or a saved history with attempts")
    first = history.timeline.at(min(job.enqueued_ns for job in found))
    start = first.replace(minute=0, second=0, microsecond=0)
    last = history.timeline.at(
        max(max(t.ended_ns or t.started_ns for t in attempts), max(job.enqueued_ns for job in found))
    )
    hours = max(1.0, (last - start).total_seconds() / 3600)
    lines = [
        f"# Estimated from {len(found):,} jobs and {len(attempts):,} attempts,",
        f"# {first:%Y-%m-%d %H:%M} to {last:%Y-%m-%d %H:%M}.",
        f"title = {json.dumps(title, ensure_ascii=False)}",
        f"start = {json.dumps(start.replace(tzinfo=None).isoformat())}",
        f"zone = {json.dumps(str(history.timeline.zone))}",
        f'run = "{spell(round(hours) * 3600 * NS)}"', "", "[workers]",
        f"count = {max(1, len({one.worker for one in attempts}))}", "",
    ]  # fmt: skip
    for name in sorted({job.name for job in found}):
        mine = [job for job in found if job.name == name]
        lines += [*_job(name, mine), "", *_arrivals(name, mine, start, hours), ""]
    return "\n".join(lines).rstrip() + "\n"


def _job(name: str, mine: list[JobRecord]) -> Iterator[str]:
    attempts = [one for job in mine for one in job.attempts]
    took = sorted(one.ended_ns - one.started_ns for one in attempts if one.ended_ns is not None)
    bad = [one for one in attempts if one.outcome in ("failed", "timed-out", "crashed")]
    ended = sum(one.ended_ns is not None for one in attempts)
    most = max(len(job.attempts) for job in mine)
    waits = sorted(one.wait_ns for one in attempts if one.wait_ns is not None)
    yield f"[jobs.{name if _BARE.fullmatch(name) else json.dumps(name, ensure_ascii=False)}]"
    yield f"queue = {json.dumps(mine[0].queue, ensure_ascii=False)}"
    if took and took[-1] > 0:
        shown = (
            [took[round(n * (len(took) - 1) / (_MEASURED - 1))] for n in range(_MEASURED)] if len(took) > 1 else took
        )
        words = [json.dumps(spell(_rounded(ns))) for ns in shown]
        yield f"takes = {words[0]}" if len(set(words)) == 1 else f"takes = {{ measured = [{', '.join(words)}] }}"
    if bad and ended:
        errors: dict[str, int] = {}
        for one in bad:
            errors[one.error] = errors.get(one.error, 0) + 1
        usual = max(errors, key=lambda error: errors[error])
        yield f"fails = {{ share = {len(bad) / ended:.4g} }}  # most often: {_comment(usual)}"
    if most > 1:
        middle = spell(_rounded(waits[len(waits) // 2])) if waits else "0s"
        yield f'retry = {{ attempts = {most}, wait = "{middle}" }}  # the median of {len(waits):,} waits'


def _arrivals(name: str, mine: list[JobRecord], start: dt.datetime, hours: float) -> Iterator[str]:
    yield "[[arrivals]]"
    yield f"job = {json.dumps(name, ensure_ascii=False)}"
    counts = [0] * 24
    for job in mine:
        at = start + dt.timedelta(microseconds=(job.enqueued_ns - round(start.timestamp()) * NS) // 1000)
        counts[at.astimezone(start.tzinfo).hour] += 1
    if hours < 6 or len(mine) < _FEW_JOBS:
        yield f'rate = "{len(mine) / hours:.4g}/h"'
        return
    # How often each hour of the day occurs in the span.
    seen = [0.0] * 24
    for n in range(int(hours)):
        seen[(start + dt.timedelta(hours=n)).hour] += 1
    if hours % 1:
        seen[(start + dt.timedelta(hours=int(hours))).hour] += hours % 1
    rates = [
        f'["{hour:02d}:00", "{count / times if times else 0:.4g}/h"]'
        for hour, (count, times) in enumerate(zip(counts, seen, strict=True))
    ]
    yield f"curve = [{', '.join(rates)}]"


def _rounded(ns: int) -> int:
    """Round to three figures."""
    digits = max(0, len(str(ns)) - 3)
    return round(ns, -digits)


def _comment(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text)[:100]
