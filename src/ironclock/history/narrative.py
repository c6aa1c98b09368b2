"""Narratives: a history in words, for people who ask what happened to a job."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from ..foundation.durations import spell
from ..foundation.instants import Timeline
from .entries import Entry
from .history import History
from .records import RecordedJob

_DAY = 10
MS = 1_000_000
_HOW = {"failed": "fails", "timed-out": "times out", "cancelled": "is cancelled"}
_THEN = {
    "dead": "; dead letter", "dropped": "; given up on purpose", "unheard": "; the queue does not hear of it",
}  # fmt: skip
_WORDS = {
    "crashed": "attempt {n}: its worker dies at the seam {seam!r}",
    "lost": "lost: it was acknowledged before it ran",
    "expired": "expired: dropped after it had waited {waited}",
    "lease-ended": "the lease of attempt {n} has ended",
    "ack-lost": "the acknowledgement of attempt {n} is lost",
    "delivered-twice": "the message of attempt {n} is delivered a second time",
    "redelivered": "delivered again: {why}",
    "overtaken": "attempt {n} is overtaken: {by} has taken its job",
    "asked-to-stop": "attempt {n} is asked to stop",
    "progress": "attempt {n} reports {progress!r}",
    "before-commit": "visible to the workers before transaction {transaction} has committed",
    "deadlocked": "deadlock: {message}",
    "committed": "transaction {transaction} commits",
    "remembered": "step {step!r} was done before and is not run again",
}


class _Known(dict[str, Any]):
    """Data of an entry. What a damaged file has lost is a question mark."""

    def __missing__(self, key: str) -> str:
        return "?"


def job_story(history: History, job: RecordedJob, why: str = "") -> str:
    """Return what happened to a live job, one line for each entry. `why` follows its state."""
    return "\n".join([_head(job) + why, *_lines(history.of(job.id), history.timeline, named=False)])


def story_of(history: History, job: str) -> str:
    """Return what happened to the job with that id. The history can be a saved one."""
    return "\n".join([job, *_lines(history.of(job), history.timeline, named=False)])


def whole_story(history: History) -> str:
    """Return what happened in a whole run, one line for each entry."""
    return "\n".join(_lines(history, history.timeline, named=True))


def described(history: History) -> list[tuple[str, str]]:
    """Return each entry of a history as its time of day (``HH:MM:SS``), and the rest in words.

    If the history is longer than a day, the time has month and day as well (``MM-DD HH:MM:SS``).
    """
    timeline = history.timeline
    texts = [timeline.text(_rounded(entry.ns)) for entry in history]
    begin = 5 if texts and texts[0][:_DAY] != texts[-1][:_DAY] else _DAY + 1
    return [
        (text[begin : _DAY + 9].replace("T", " "), f"{entry.job or '-'}: {describe(entry, timeline)}")
        for text, entry in zip(texts, history, strict=True)
    ]


def _head(job: RecordedJob) -> str:
    given = [repr(a) for a in job.args] + [f"{k}={v!r}" for k, v in job.kwargs.items()]
    return f"{job.id}({', '.join(given)}): {job.state}"


def proof_lines(entries: Iterable[Entry], timeline: Timeline) -> list[str]:
    """Return entries of several jobs in words, each day once and then the times."""
    return list(_lines(entries, timeline, named=True))


def story_lines(entries: Iterable[Entry], timeline: Timeline) -> list[str]:
    """Return entries of one job in words, each day once and then the times."""
    return list(_lines(entries, timeline, named=False))


def _lines(entries: Iterable[Entry], timeline: Timeline, *, named: bool) -> Iterable[str]:
    day = ""
    for entry in entries:
        text = timeline.text(_rounded(entry.ns))
        if text[:_DAY] != day:
            day = text[:_DAY]
            yield f"  {day} ({timeline.zone})"
        clock = text[_DAY + 1 :]
        who = f"{entry.job or '-'}: " if named else ""
        yield f"    {clock}  {who}{describe(entry, timeline)}"


def _rounded(ns: int) -> int:
    """Round an instant down to the millisecond, for readers."""
    return ns if ns < MS else ns // MS * MS


def _one_line(text: object) -> str:
    return "; ".join(line.strip() for line in str(text).splitlines() if line.strip())


def describe(entry: Entry, timeline: Timeline) -> str:
    """Return one entry in words, without its instant and job."""
    data: dict[str, Any] = entry.data
    what = entry.what
    if what == "enqueued":
        given = [repr(a) for a in data.get("args", [])] + [f"{k}={v!r}" for k, v in data.get("kwargs", {}).items()]
        words = f"enqueued in {data.get('queue')!r} with ({', '.join(given)})"
        due = timeline.ns(data["due"]) - entry.ns
        if due <= 0:
            return words
        at, today = str(data["due"]), timeline.text(entry.ns)[:_DAY]
        return f"{words}, due in {spell(due)}, at {at.removeprefix(f'{today}T')}"
    if what == "started":
        return f"attempt {entry.attempt} starts on {data.get('worker')}"
    if what == "done":
        words = f"attempt {entry.attempt} is done" + (f", result {data['result']!r}" if "result" in data else "")
        return words + _THEN.get(str(data.get("then")), "")
    if what in _HOW:
        how = _HOW[what]
        words = f"attempt {entry.attempt} {how}: {data.get('error')}: {_one_line(data.get('message'))}"
        if data.get("line"):
            words += f" [{data['line']}]"
        if data.get("then") == "backing-off":
            return words + f"; tries again in {spell(_rounded(data.get('wait_ns', 0)))}"
        return words + _THEN.get(str(data.get("then")), "")
    if what == "effect":
        about = f" {data['key']!r}" if "key" in data else ""
        outcome = data.get("outcome")
        went = "" if outcome == "done" else f" fails: {data.get('error', outcome)}"
        if outcome == "repeated":
            went = ": asked for again, and answered as before"
        whose = f"attempt {entry.attempt}" if entry.attempt else "its attempt"
        late = f", after the end of {whose}" * bool(data.get("after_end"))
        known = ("effect", "key", "outcome", "error", "after_end")
        more = {k: v for k, v in data.items() if k not in known and v not in (None, "")}
        with_ = f" ({', '.join(f'{k}={v!r}' for k, v in more.items())})" if more else ""
        return f"effect {data.get('effect')}{about}{went}{with_}{late}"
    if what == "rolled-back":
        gone = f"; never enqueued: {', '.join(data['jobs'])}" if data.get("jobs") else ""
        return f"transaction {data.get('transaction')} is rolled back{gone}"
    if what == "request-failed":
        left = [*data.get("jobs", ()), *(f"the schedule {name}" for name in data.get("schedules", ()))]
        behind = f"; it leaves behind {', '.join(left)}" if left else ""
        return f"request {data.get('request')} fails: {data.get('error')}: {_one_line(data.get('message'))}{behind}"
    if what == "waited":
        got = "gets" if data.get("got") else "gives up waiting for"
        return f"attempt {entry.attempt} {got} {data.get('resource')} after {spell(data.get('waited_ns', 0))}"
    if what == "overtaken" and not data.get("end_seen"):
        return _WORDS[what].format_map(_Known({**data, "n": entry.attempt})) + "; its end is not seen"
    if what in _WORDS:
        return _WORDS[what].format_map(_Known({**data, "n": entry.attempt}))
    if what == "requeued":
        return f"{data.get('why', 'put back from the dead letters')}, due at {data.get('due')}"
    if what == "discarded":
        return "dead letter discarded"
    if what == "given-up":
        return (
            f"dead letter: {data['why']}" if "why" in data else f"dead letter after {data.get('deliveries')} deliveries"
        )
    if what == "firing-refused":
        return f"a firing of {data.get('schedule')!r} is refused: {data.get('error')}: {_one_line(data.get('message'))}"
    if what == "refused":
        return f"enqueue of {data.get('asked')} refused: {data.get('error')}: {_one_line(data.get('message'))}"
    if what == "note":
        return str(data.get("text"))
    if what == "worker-up":
        start = data.get("start", 1)
        return f"worker {data.get('worker')} starts" + (f" again (start {start})" if start != 1 else "")
    if what == "worker-down":
        return f"worker {data.get('worker')} is down: {_one_line(data.get('why'))}"
    if what == "polls-skipped":
        return f"worker {data.get('worker')} skips {data.get('count')} polls, until {data.get('until')}"
    return what
