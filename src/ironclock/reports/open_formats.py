"""A history in open formats: Trace Event JSON, OTLP/JSON spans, JUnit XML, iCalendar, CSV and Parquet."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any
from xml.etree import ElementTree as Xml

from ..errors import InputError, nearest
from ..foundation.durations import NS
from ..history.history import History
from ..history.job_records import AttemptRecord, JobRecord, job_records, queue_depths
from .calendar_export import icalendar

if TYPE_CHECKING:
    import pandas

_NOT_XML = re.compile("[^\t\n\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
_BAD = ("failed", "timed-out", "crashed", "cancelled")


def trace_events(history: History) -> str:
    """Return a history as Trace Event JSON: a row for each worker, a box for each attempt, arrows from attempt to
    attempt and from an attempt to the jobs that it has enqueued, and the depth of each queue.

    Source: the Trace Event Format (docs.google.com/document/d/1CvAClvFfyA5R-PhYUmn5OOQtYMH4h6I0nSsKchNAySU), events of
    the phases X (complete), C (counter), s and f (flow) and M (metadata); times are microseconds.
    """
    found = job_records(history)
    workers = sorted({one.worker for job in found for one in job.attempts}, key=lambda name: (len(name), name))
    number = {name: n for n, name in enumerate(workers, 1)}
    events: list[dict[str, Any]] = [
        {"ph": "M", "pid": 1, "name": "process_name", "args": {"name": f"workers ({history.timeline.zone})"}},
        {"ph": "M", "pid": 1, "name": "process_sort_index", "args": {"sort_index": 1}},
        {"ph": "M", "pid": 2, "name": "process_name", "args": {"name": "queues"}},
        {"ph": "M", "pid": 2, "name": "process_sort_index", "args": {"sort_index": 2}},
    ]
    for name, n in number.items():
        events += [
            {"ph": "M", "pid": 1, "tid": n, "name": "thread_name", "args": {"name": name}},
            {"ph": "M", "pid": 1, "tid": n, "name": "thread_sort_index", "args": {"sort_index": n}},
        ]
    last = max((one.ended_ns or one.started_ns for job in found for one in job.attempts), default=0)
    for job in found:
        for one in job.attempts:
            about: dict[str, Any] = {"job": job.id, "with": job.arguments, "queue": job.queue, "attempt": one.number}
            if one.error:
                about["error"] = one.error
            if one.wait_ns is not None:
                about["wait_ms"] = one.wait_ns / 1e6
            end = last if one.ended_ns is None else one.ended_ns
            events.append(
                {
                    "ph": "X", "pid": 1, "tid": number[one.worker], "name": job.name, "cat": one.outcome,
                    "ts": one.started_ns / 1000, "dur": (end - one.started_ns) / 1000, "args": about,
                }
            )  # fmt: skip
    events += _arrows(found, number)
    for queue, (instants, counts) in sorted(queue_depths(found).items()):
        events += [
            {"ph": "C", "pid": 2, "name": f"ready in {queue}", "ts": ns / 1000, "args": {"jobs": count}}
            for ns, count in zip(instants, counts, strict=True)
        ]
    return json.dumps({"traceEvents": events, "displayTimeUnit": "ms"}, ensure_ascii=False)


def _arrows(found: Sequence[JobRecord], number: dict[str, int]) -> list[dict[str, Any]]:
    """Return the flow events: from the end of each attempt to the next one of its job, and from the attempt that has
    enqueued a job to the first attempt of that."""
    by_id = {job.id: job for job in found}
    pairs: list[tuple[str, AttemptRecord, AttemptRecord, int]] = []
    for job in found:
        pairs += [("tried again", a, b, a.ended_ns or a.started_ns) for a, b in pairwise(job.attempts)]
        parent = by_id.get(job.enqueued_by[0]) if job.enqueued_by is not None else None
        if parent is not None and job.enqueued_by is not None and job.attempts:
            pairs += [
                ("enqueued", one, job.attempts[0], job.enqueued_ns)
                for one in parent.attempts
                if one.number == job.enqueued_by[1]
            ]
    events: list[dict[str, Any]] = []
    for n, (what, before, after, ns) in enumerate(pairs, 1):
        common = {"pid": 1, "cat": "jobs", "name": what, "id": n}
        # An arrow begins inside the box of its attempt, whose end does not count.
        begin = max(before.started_ns, min(ns, (before.ended_ns or ns) - 1))
        events.append({"ph": "s", "tid": number[before.worker], "ts": begin / 1000, **common})
        events.append({"ph": "f", "bp": "e", "tid": number[after.worker], "ts": after.started_ns / 1000, **common})
    return events


def spans(history: History) -> str:
    """Return a history as OTLP/JSON: a trace for each job, with a span from its enqueueing to its end, and inside it a
    span for each attempt. The span of a job that an attempt has enqueued has a link to that attempt.

    Source: OpenTelemetry Protocol 1.5, JSON Protobuf Encoding (ids in hexadecimal, 64-bit numbers as text), and the
    semantic conventions for messaging.
    """
    found = job_records(history)
    last = max((entry.ns for entry in history), default=0)
    made: list[dict[str, Any]] = []
    for job in found:
        trace = _id(f"{history.seed}/{job.id}", 32)
        whole = _id(f"{job.id}/job", 16)
        bad = job.state in ("dead", "lost")
        made.append(
            _span(
                trace, whole, "", f"{job.name} job", 4, job.enqueued_ns, job.closed_ns or last,
                {
                    "messaging.system": "ironclock", "messaging.destination.name": job.queue,
                    "messaging.message.id": job.id, "ironclock.state": job.state, "ironclock.args": job.arguments,
                },
                job.error if bad else None, _links(history, job),
            )
        )  # fmt: skip
        for one in job.attempts:
            about = {
                "messaging.system": "ironclock", "messaging.destination.name": job.queue,
                "messaging.message.id": job.id, "messaging.operation.type": "process",
                "ironclock.attempt": one.number, "ironclock.outcome": one.outcome, "ironclock.worker": one.worker,
            }  # fmt: skip
            if one.wait_ns is not None:
                about["ironclock.wait_ns"] = one.wait_ns
            made.append(
                _span(
                    trace, _id(f"{job.id}/{one.number}", 16), whole, f"{job.name} process", 5, one.started_ns,
                    last if one.ended_ns is None else one.ended_ns, about, one.error if one.outcome in _BAD else None,
                )
            )  # fmt: skip
    resource = {"attributes": _attributes({"service.name": "ironclock", "ironclock.zone": str(history.timeline.zone)})}
    scope = {"scope": {"name": "ironclock"}, "spans": made}
    return json.dumps({"resourceSpans": [{"resource": resource, "scopeSpans": [scope]}]}, ensure_ascii=False)


def _span(
    trace: str, span: str, parent: str, name: str, kind: int, start: int, end: int, about: dict[str, Any],
    error: str | None, links: Sequence[dict[str, Any]] = (),
) -> dict[str, Any]:  # fmt: skip
    made: dict[str, Any] = {
        "traceId": trace, "spanId": span, "name": name, "kind": kind, "startTimeUnixNano": str(start),
        "endTimeUnixNano": str(max(start, end)), "attributes": _attributes(about),
        "status": {"code": 1} if error is None else {"code": 2, "message": error},
    }  # fmt: skip
    if parent:
        made["parentSpanId"] = parent
    if links:
        made["links"] = list(links)
    return made


def _links(history: History, job: JobRecord) -> list[dict[str, Any]]:
    """Return the link to the span of the attempt that has enqueued a job."""
    if job.enqueued_by is None:
        return []
    parent, attempt = job.enqueued_by
    about = _attributes({"ironclock.link": "enqueued by"})
    return [
        {"traceId": _id(f"{history.seed}/{parent}", 32), "spanId": _id(f"{parent}/{attempt}", 16), "attributes": about}
    ]


def _attributes(about: dict[str, Any]) -> list[dict[str, Any]]:
    return [
        {"key": key, "value": {"intValue": str(value)} if isinstance(value, int) else {"stringValue": value}}
        for key, value in about.items()
    ]


def _id(text: str, digits: int) -> str:
    # The same in every run of the same story.
    return hashlib.sha256(text.encode()).hexdigest()[:digits]


@dataclass(frozen=True)
class Case:
    """One case of JUnit XML.

    Parameters: `place` is its file, with a colon and the line if there is one; `wrong` is what is wrong, empty if it
    has passed; `seconds` is how long it took.
    """

    name: str
    place: str = ""
    wrong: str = ""
    seconds: float = 0.0


def junit(suite: str, cases: Sequence[Case]) -> str:
    """Return JUnit XML with a case for each, with its time in seconds."""
    failures = sum(bool(case.wrong) for case in cases)
    total = f"{sum(case.seconds for case in cases):.3f}"
    root = Xml.Element("testsuites", tests=str(len(cases)), failures=str(failures), time=total)
    one = Xml.SubElement(
        root, "testsuite", name=_xml(suite), tests=str(len(cases)), failures=str(failures), errors="0", time=total
    )
    for case in cases:
        made = Xml.SubElement(one, "testcase", name=_xml(case.name), classname=_xml(suite), time=f"{case.seconds:.3f}")
        file, _, line = case.place.rpartition(":")
        if case.place:
            made.set("file", _xml(file if file and line.isdigit() else case.place))
            if file and line.isdigit():
                made.set("line", line)
        if case.wrong:
            Xml.SubElement(made, "failure", message=_xml(case.wrong.splitlines()[0])).text = _xml(case.wrong)
    Xml.indent(root)
    return '<?xml version="1.0" encoding="utf-8"?>\n' + Xml.tostring(root, encoding="unicode") + "\n"


def _xml(text: str) -> str:
    """Return text in which characters that XML 1.0 cannot hold are shown as they are written in code."""
    return _NOT_XML.sub(lambda found: repr(found[0])[1:-1], text)


def job_cases(history: History) -> list[Case]:
    """Return the jobs of a history as cases for JUnit. A job that is dead or lost has failed. Its time is from when it
    was enqueued until it was closed."""
    return [
        Case(
            f"{job.id}({job.arguments})", "", (job.error or job.state) if job.state in ("dead", "lost") else "",
            ((job.closed_ns or job.last_ns) - job.enqueued_ns) / NS,
        )
        for job in job_records(history)
    ]  # fmt: skip


def attempts_calendar(history: History) -> str:
    """Return an iCalendar with an event for the start of each attempt (RFC 5545)."""
    found = job_records(history)
    starts = sorted((one.started_ns, job.name) for job in found for one in job.attempts)
    return icalendar([name for _, name in starts], [ns for ns, _ in starts], starts[0][0] if starts else 0)


def frame(history: History) -> pandas.DataFrame:
    """Return the attempts of a history as a table: one row for each, and one for each job without attempts. Its
    instants have nanoseconds.

    Needs the extra ``ironclock[frame]``.
    """
    import pandas

    rows: list[dict[str, Any]] = []
    for job in job_records(history):
        about = {
            "job": job.id, "name": job.name, "args": job.arguments, "queue": job.queue, "state": job.state,
            "enqueued": job.enqueued_ns, "due": job.due_ns,
        }  # fmt: skip
        rows += [
            {
                **about, "attempt": one.number, "worker": one.worker, "started": one.started_ns,
                "ended": one.ended_ns, "outcome": one.outcome,
                "error": one.error or None,
                "took_s": None if one.ended_ns is None else (one.ended_ns - one.started_ns) / NS,
                "wait_s": None if one.wait_ns is None else one.wait_ns / NS,
            }
            for one in job.attempts
        ] or [about]  # fmt: skip
    made = pandas.DataFrame(rows, dtype=object)
    for column in ("enqueued", "due", "started", "ended"):
        if column in made:
            # Not through real numbers, which do not hold so many nanoseconds.
            instants = [pandas.NaT if pandas.isna(ns) else pandas.Timestamp(int(ns), tz="UTC") for ns in made[column]]
            made[column] = pandas.Series(instants, dtype="datetime64[ns, UTC]")
    return made.infer_objects()


_TEXTS: dict[str, Callable[[History], str]] = {
    "trace": trace_events, "otlp": spans, "ics": attempts_calendar,
    "junit": lambda history: junit("jobs", job_cases(history)),
}  # fmt: skip
_TABLES = ("csv", "parquet")
FORMATS = (*_TEXTS, "jsonl", *_TABLES)
_ENDINGS = {
    ".trace.json": "trace", ".otlp.json": "otlp", ".jsonl": "jsonl", ".csv": "csv", ".parquet": "parquet",
    ".ics": "ics", ".xml": "junit",
}  # fmt: skip


def export(history: History, path: str, form: str | None = None) -> str:
    """Write a history in an open format; return the name of the format.

    Parameters: `form` is the format. Default None: the ending of the file tells. Raises `InputError` for an unknown
    format, and OSError if the file cannot be written.
    """
    if form is None:
        form = next((form for ending, form in _ENDINGS.items() if path.endswith(ending)), None)
        if form is None:
            raise InputError(f"the ending of {path} names no format; known: {', '.join(_ENDINGS)}; or give the format")
    if form not in FORMATS:
        raise InputError(f"unknown format {form!r}; {nearest(form, FORMATS)}")
    if form == "jsonl":
        history.save(path)
    elif form in _TEXTS:
        with open(path, "w", encoding="utf-8", newline="") as file:
            file.write(_TEXTS[form](history))
    elif form == "csv":
        frame(history).to_csv(path, index=False)
    else:
        frame(history).to_parquet(path, index=False)
    return form
