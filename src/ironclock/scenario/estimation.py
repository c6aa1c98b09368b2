"""Estimation: a scenario made from a history: how long jobs take, how often they fail, when they arrive."""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import ceil, exp, log

from ..errors import InputError
from ..foundation.durations import NS, spell
from ..history.history import History
from ..history.job_records import JobRecord, job_records
from .arrivals import DAYS
from .seen_workers import SeenAttempt, pools_in

_MEASURED = 21
"""How many quantiles represent the measured durations."""
_FEW_JOBS = 30
_FEW_WAITS = 8
_NO_JITTER = 0.03
_BAD = ("failed", "timed-out", "crashed")
_SURE = 12.0
"""How high the sum of an outage is at least: such a span comes by chance once in about 160,000."""
_ALIKE = 3.0
_MOST_COLUMNS = 100
"""How long a line with an array can be."""
_BARE = re.compile("[A-Za-z0-9_-]+")


def estimate(history: History, title: str = "Estimated from a log") -> str:
    """Return a scenario file as text: the jobs of a history as modelled jobs, with their measured durations and failure
    shares, their rates by weekday and hour, their retries (fitted to the waits by attempt), the outages that were seen,
    and the workers.

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
        f'run = "{spell(round(hours) * 3600 * NS)}"', "",
        *_workers(found, hours), "",
    ]  # fmt: skip
    for name in sorted({job.name for job in found}):
        mine = [job for job in found if job.name == name]
        outages = outages_in([one for job in mine for one in job.attempts])
        lines += [*_job(name, mine, outages), "", *_arrivals(name, mine, start, last), ""]
        for outage in outages:
            lines += [*_outage(name, outage, history), ""]
    return "\n".join(lines).rstrip() + "\n"


def _workers(found: list[JobRecord], hours: float) -> Iterator[str]:
    """Return the worker pools."""
    pools = pools_in(found)
    for pool in pools:
        busy = pool.busy_ns / (hours * 3600 * NS)
        seen = len(pool.workers)
        yield f"# {seen:,} workers were seen, at most {pool.most:,} ran at once, and the work needs {busy:.2g}."
        yield "[workers]" if len(pools) == 1 else "[[workers]]"
        yield f"count = {max(1, pool.places)}"
        if len(pools) > 1:
            yield f"queues = {json.dumps(pool.queues, ensure_ascii=False)}"


@dataclass(frozen=True)
class SeenOutage:
    """A span in which nearly all attempts failed."""

    since_ns: int
    until_ns: int
    attempts: tuple[SeenAttempt, ...]


def outages_in(attempts: Sequence[SeenAttempt]) -> list[SeenOutage]:
    """Return the spans in which nearly all attempts failed, that cannot be chance.

    Each failure counts for an outage and each success against it, by the logarithm of how likely it is in an outage
    (nine of ten fail) and outside. A span with a high sum is one. Source: maximal scoring subsequences, W. L. Ruzzo and
    M. Tompa, ISMB 1999.
    """
    ended = sorted((one for one in attempts if one.ended_ns is not None), key=lambda one: one.started_ns)
    failed = [one.outcome in _BAD for one in ended]
    if not any(failed):
        return []
    usual = max(0.01, _usual_share(failed))
    if usual > 0.5:  # then it is not an outage, but how the job is
        return []
    gain, loss = log(0.9 / usual), log(0.1 / (1 - usual))
    found = []
    best = total = 0.0
    begin = first = last = 0
    for number, bad in enumerate([*failed, False]):
        total += gain if bad else loss
        if total > best:
            best, first, last = total, begin, number
        if total <= 0 or number == len(failed) or best - total > _SURE:
            if best > _SURE and last - first < len(ended) / 2:
                inside = ended[first : last + 1]
                follows = ended[last + 1].started_ns if last + 1 < len(ended) else inside[-1].started_ns + 1
                found.append(SeenOutage(inside[0].started_ns, follows, tuple(inside)))
            begin, best, total = number + 1, 0.0, 0.0
    return found


def _usual_share(failed: list[bool]) -> float:
    """Return the share of failures in the middle one of up to 50 parts: an outage is in few of them."""
    size = max(20, len(failed) // 50)
    parts = sorted(sum(failed[n : n + size]) / len(failed[n : n + size]) for n in range(0, len(failed), size))
    return parts[len(parts) // 2]


def _outage(name: str, outage: SeenOutage, history: History) -> Iterator[str]:
    zone_text = [
        history.timeline.at(ns).replace(tzinfo=None, microsecond=0).isoformat()
        for ns in (outage.since_ns, outage.until_ns + NS)
    ]
    bad = [one for one in outage.attempts if one.outcome in _BAD]
    took = sorted((one.ended_ns or 0) - one.started_ns for one in bad)
    yield f"# Seen: {len(bad):,} of {len(outage.attempts):,} attempts failed, most often: {_comment(usual_error(bad))}"
    yield "[[faults]]"
    yield 'kind = "fail"'
    yield f"job = {json.dumps(name, ensure_ascii=False)}"
    yield f"between = {json.dumps(zone_text)}"
    share = len(bad) / len(outage.attempts)
    if share < 1:
        yield f"chance = {share:.3g}"
    yield f"takes = {json.dumps(spell(_rounded(took[len(took) // 2])))}"


def usual_error(bad: Sequence[SeenAttempt]) -> str:
    """Return the error that most of these attempts ended with. Empty if there are none."""
    errors: dict[str, int] = {}
    for one in bad:
        errors[one.error] = errors.get(one.error, 0) + 1
    return max(errors, key=lambda error: errors[error]) if errors else ""


def _job(name: str, mine: list[JobRecord], outages: Sequence[SeenOutage]) -> Iterator[str]:
    attempts = [one for job in mine for one in job.attempts]
    outside = {id(one) for outage in outages for one in outage.attempts}
    usual = [one for one in attempts if id(one) not in outside and one.ended_ns is not None]
    took = sorted((one.ended_ns or 0) - one.started_ns for one in usual)
    bad = [one for one in usual if one.outcome in _BAD]
    yield f"[jobs.{name if _BARE.fullmatch(name) else json.dumps(name, ensure_ascii=False)}]"
    yield f"queue = {json.dumps(mine[0].queue, ensure_ascii=False)}"
    if took and took[-1] > 0:
        shown = (
            [took[round(n * (len(took) - 1) / (_MEASURED - 1))] for n in range(_MEASURED)] if len(took) > 1 else took
        )
        words = [json.dumps(spell(_rounded(ns))) for ns in shown]
        yield f"takes = {words[0]}" if len(set(words)) == 1 else f"takes = {{ measured = {_array(words)} }}"
    if bad:
        yield f"fails = {{ share = {len(bad) / len(usual):.4g} }}  # most often: {_comment(usual_error(bad))}"
    dead = sorted(len(job.attempts) for job in mine if job.state == "dead")
    most = max((len(job.attempts) for job in mine), default=1)
    if most > 1 or dead:
        by_number: dict[int, list[int]] = {}
        for one in attempts:
            if one.wait_ns is not None:
                by_number.setdefault(one.number, []).append(one.wait_ns)
        tries = dead[len(dead) // 2] if dead else most
        why = f"{len(dead):,} jobs died" if dead else "none died: it can be more"
        yield f"retry = {{ attempts = {max(1, tries)}{fitted_wait(by_number)} }}  # {why}"


def fitted_wait(by_number: dict[int, list[int]]) -> str:
    """Return the wait of a retry as a scenario writes it, fitted to the waits after the failed attempts 1, 2 and so on.

    The waits of a log have the time in the queue in them, so that the shortest ones tell most; if they are spread to
    both sides of their median, there is a jitter. Factor, step and cap follow from how the medians grow.
    """
    numbers = [n for n in sorted(by_number) if n == 1 or (n - 1) in by_number]
    if not numbers or numbers[0] != 1:
        return ""
    levels, jitters = [], []
    for n in numbers:
        waits = sorted(by_number[n])
        low, middle = waits[int(0.05 * (len(waits) - 1))], waits[len(waits) // 2]
        inner = waits[len(waits) // 20 : len(waits) - len(waits) // 20]
        levels.append((low, sum(inner) / len(inner), len(waits)))
        if len(waits) >= _FEW_WAITS:
            jitters.append((1 - low / middle if middle else 0.0) / 0.9)
    jitter = sorted(jitters)[len(jitters) // 2] if jitters else 0.0
    full = jitter > 0.85
    if jitter <= _NO_JITTER:
        values = [float(low) for low, _, _ in levels]
    else:
        values = [mean * (2.0 if full else 1.0) for _, mean, _ in levels]
    parts = [*_growth(values, [count for _, _, count in levels]), *_jitter_words(jitter, full)]
    if len(parts) == 1 and parts[0].startswith("first = "):
        return f", wait = {parts[0].removeprefix('first = ')}"
    return f", wait = {{ {', '.join(parts)} }}"


def _jitter_words(jitter: float, full: bool) -> list[str]:
    if jitter <= _NO_JITTER:
        return []
    return ['jitter = "full"'] if full else [f"jitter = {jitter:.2g}"]


def _growth(values: list[float], counts: list[int]) -> list[str]:
    """Return first, factor or step, and cap of waits that grow. `counts` is how many waits each value comes from."""
    first = f"first = {json.dumps(spell(_nice(values[0])))}"
    if len(values) < 2 or min(values) <= 0 or values[-1] < 1.08 * values[0]:
        return [first]
    top = values[-1]
    # The last waits are alike if they have reached the cap.
    growing = len(values)
    while growing > 1 and abs(values[growing - 2] - top) <= 0.04 * top:
        growing -= 1
    rising = values[:growing] if growing < len(values) else values
    inside = rising[:-1] if growing < len(values) and len(rising) > 2 else rising
    ratios = [b / a for a, b in pairwise(inside) if a > 0]
    steps = [b - a for a, b in pairwise(inside)]
    ratio, step = _slope(inside, counts), sorted(steps)[len(steps) // 2]
    if ratio < 1:  # few waits with much jitter: only from the first to the last do they grow
        ratio = (top / values[0]) ** (1 / (len(values) - 1))
    off_ratio = max(abs(r / ratio - 1) for r in ratios)
    off_step = max(abs(s / step - 1) for s in steps) if step > 0 else 9.0
    grows = f"step = {json.dumps(spell(_nice(step)))}" if len(steps) > 1 and off_step < off_ratio else ""
    words = [
        first,
        grows or f"factor = {round(ratio, 1) if abs(round(ratio, 1) / ratio - 1) < 0.05 else round(ratio, 2):g}",
    ]
    if growing < len(values):
        words.append(f"cap = {json.dumps(spell(_nice(top)))}")
    return words


def _slope(values: list[float], counts: list[int]) -> float:
    """Return the factor from one value to the next, by least squares of the logarithms."""
    weights = counts[: len(values)]
    total = sum(weights)
    middle = sum(w * n for n, w in enumerate(weights)) / total
    height = sum(w * log(v) for v, w in zip(values, weights, strict=True)) / total
    rise = sum(w * (n - middle) * (log(v) - height) for n, (v, w) in enumerate(zip(values, weights, strict=True)))
    return exp(rise / sum(w * (n - middle) ** 2 for n, w in enumerate(weights)))


def _nice(ns: float) -> int:
    """Round to a number that somebody would have written, if one is within 3 %."""
    for unit in (3600 * NS, 60 * NS, NS, NS // 1000):
        if ns >= unit:
            for places in (0, 1):
                near = round(round(ns / unit, places) * unit)
                if abs(near - ns) <= 0.03 * ns:
                    return near
    return _rounded(round(ns))


def _arrivals(name: str, mine: list[JobRecord], start: dt.datetime, last: dt.datetime) -> Iterator[str]:
    hours = max(1.0, (last - start).total_seconds() / 3600)
    if hours < 6 or len(mine) < _FEW_JOBS:
        yield from [
            "[[arrivals]]",
            f"job = {json.dumps(name, ensure_ascii=False)}",
            f'rate = "{len(mine) / hours:.4g}/h"',
        ]
        return
    counts = [[0] * 24 for _ in range(7)]
    for job in mine:
        at = (start + dt.timedelta(microseconds=(job.enqueued_ns - round(start.timestamp()) * NS) // 1000)).astimezone(
            start.tzinfo
        )
        counts[at.weekday()][at.hour] += 1
    # How often each hour of each weekday occurs in the span.
    seen = [[0.0] * 24 for _ in range(7)]
    for n in range(ceil(hours)):
        at = (start.astimezone(dt.timezone.utc) + dt.timedelta(hours=n)).astimezone(start.tzinfo)
        seen[at.weekday()][at.hour] += min(1.0, hours - n)
    for number, days in enumerate(_groups(counts, seen)):
        if number:
            yield ""
        rates = []
        for hour in range(24):
            times = sum(seen[day][hour] for day in days)
            rates.append(f'["{hour:02d}:00", "{sum(counts[d][hour] for d in days) / times if times else 0:.4g}/h"]')
        yield "[[arrivals]]"
        yield f"job = {json.dumps(name, ensure_ascii=False)}"
        if len(days) < 7:
            yield f"days = {json.dumps([DAYS[day] for day in days])}"
        yield f"curve = {_array(rates)}"


def _array(items: list[str]) -> str:
    """Return an array of TOML, over several lines if it is long."""
    line = f"[{', '.join(items)}]"
    if len(line) <= _MOST_COLUMNS:
        return line
    lines = [""]
    for item in items:
        if len(lines[-1]) + len(item) > _MOST_COLUMNS - 6:
            lines.append("")
        lines[-1] += f" {item}," if lines[-1] else f"{item},"
    return "[\n" + "".join(f"    {one}\n" for one in lines) + "]"


def _groups(counts: list[list[int]], seen: list[list[float]]) -> list[list[int]]:
    """Return groups of weekdays with about the same number of jobs a day: all in one if they differ by chance alone, or
    if the log does not have each weekday."""
    whole = [sum(hours) / 24 for hours in seen]
    if min(whole) < 0.9:
        return [list(range(7))]
    groups: list[list[int]] = []
    for day in sorted(range(7), key=lambda d: sum(counts[d]) / whole[d]):
        rate = sum(counts[day]) / whole[day]
        if groups:
            mine = groups[-1]
            other = sum(sum(counts[d]) for d in mine) / sum(whole[d] for d in mine)
            doubt = (rate / whole[day] + other / sum(whole[d] for d in mine)) ** 0.5
            if abs(rate - other) <= max(_ALIKE * doubt, 0.1 * other):
                mine.append(day)
                continue
        groups.append([day])
    return sorted(sorted(group) for group in groups)


def _rounded(ns: int) -> int:
    """Round to three figures."""
    digits = max(0, len(str(ns)) - 3)
    return round(ns, -digits)


def _comment(text: str) -> str:
    return "".join(c if c.isprintable() else " " for c in text)[:100]
