"""Job records and what is drawn of them, compared with the live rig, whatever goes wrong in it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import ironclock as ic
from ironclock.forecasting.measured_figures import measured
from ironclock.foundation.durations import NS
from ironclock.history.job_records import JobRecord, job_records, queue_depths
from ironclock.reports.terminal import console, run_report

FAULTS = ("fail", "slow", "crash", "lose_ack", "deliver_twice", "hang", "delay")


@st.composite
def evenings(draw: st.DrawFn) -> ic.Rig:
    """A rig in which jobs of two kinds have run, with some faults."""
    rig = ic.Rig(start="2031-03-29T21:00", seed=draw(st.integers(0, 99)))
    rig.workers(draw(st.integers(1, 3)), queues={"harbour": 2, "desk": 1})
    retry = ic.Retry(
        attempts=draw(st.integers(1, 3)), wait=ic.exponential("5s", jitter=draw(st.sampled_from([None, 0.5])))
    )
    kinds = [
        rig.job(lambda n: n, name=name, queue=queue, takes=takes, retry=retry, timeout="40s", lease=lease)
        for name, queue, takes, lease in (
            ("poll_buoy", "harbour", "3s", "1m"),
            ("deck_lights", "desk", {"mean": "4s"}, None),
        )
    ]
    for kind in draw(st.lists(st.sampled_from(FAULTS), max_size=3)):
        more: dict[str, Any] = {"by": "20s"} if kind in ("slow", "delay") else {}
        getattr(rig.faults, kind)(
            draw(st.sampled_from([None, "poll_buoy"])), chance=draw(st.sampled_from([0.2, 0.6])), **more
        )
    jobs = [
        rig.enqueue(draw(st.sampled_from(kinds)).call(n), after=draw(st.integers(0, 20)))
        for n in range(draw(st.integers(1, 12)))
    ]
    rig.advance(draw(st.sampled_from(["5s", "30s", "10m"])))
    for job in draw(st.lists(st.sampled_from(jobs), max_size=2)):
        if job.state in ("held", "ready", "backing-off"):
            job.withdraw()
    rig.advance(draw(st.sampled_from(["0s", "1h"])))
    if rig.dead and draw(st.booleans()):
        rig.dead.requeue(rig.dead[0])
        rig.settle()
    return rig


@settings(max_examples=120)
@given(evenings())
def test_a_life_says_what_the_job_says(rig: ic.Rig) -> None:
    found = {record.id: record for record in job_records(rig.history)}
    assert list(found) == [job.id for job in rig.jobs()]
    for job in rig.jobs():
        record = found[job.id]
        assert [t.number for t in record.attempts] == [a.number for a in job.attempts]
        assert [t.outcome for t in record.attempts] == [a.outcome for a in job.attempts]
        assert [t.worker for t in record.attempts] == [a.worker for a in job.attempts]
        if job.state in ("done", "dead", "dropped", "withdrawn", "lost"):
            assert record.state == job.state, rig.history.story()
            assert record.closed_ns is not None
        else:
            assert record.closed_ns is None


@settings(max_examples=60)
@given(evenings())
def test_a_saved_history_gives_the_same_records(rig: ic.Rig) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        rig.history.save(Path(folder) / "h.jsonl")
        saved = ic.History.load(Path(folder) / "h.jsonl")
    assert [one.as_dict() for one in job_records(saved)] == [one.as_dict() for one in job_records(rig.history)]
    assert [one.ready_spans for one in job_records(saved)] == [one.ready_spans for one in job_records(rig.history)]
    assert ic.compare(saved, rig.history).same


@settings(max_examples=60)
@given(evenings())
def test_every_line_of_a_saved_history_fits_the_published_schema(rig: ic.Rig) -> None:
    import tempfile

    from jsonschema import Draft202012Validator

    schema = json.loads((Path(__file__).parents[2] / "docs" / "history.schema.json").read_text(encoding="utf-8"))
    Draft202012Validator.check_schema(schema)
    fits = Draft202012Validator(schema)
    with tempfile.TemporaryDirectory() as folder:
        rig.history.save(Path(folder) / "h.jsonl")
        for line in (Path(folder) / "h.jsonl").read_text(encoding="utf-8").splitlines():
            fits.validate(json.loads(line))
    assert not fits.is_valid({"what": "done", "ns": 1})


@settings(max_examples=60)
@given(evenings())
def test_depths_are_never_negative_and_end_with_nobody(rig: ic.Rig) -> None:
    found = job_records(rig.history)
    for instants, counts in queue_depths(found).values():
        assert instants == sorted(set(instants))
        assert all(count >= 0 for count in counts)
        assert not counts or counts[-1] == 0
    for record in found:
        assert all(since < until for since, until in record.ready_spans)


def test_depth_is_what_a_queue_says_at_every_second() -> None:
    rig = ic.Rig(seed=4)
    rig.workers(2)
    job = rig.job(lambda n: 1 / (n % 3), name="poll_buoy", takes={"mean": "4s"}, retry=ic.Retry(attempts=3, wait="7s"))
    for n in range(40):
        rig.enqueue(job.call(n), after=n * 1.1)
    start = rig.history.timeline.ns(rig.now)
    seen = []
    for _ in range(200):
        rig.advance("1s")
        seen.append(sum(j.state == "ready" for j in rig.jobs()))
    instants, counts = queue_depths(job_records(rig.history))["default"]

    def at(ns: int) -> int:
        before = [count for when, count in zip(instants, counts, strict=True) if when <= ns]
        return before[-1] if before else 0

    assert [at(start + (n + 1) * NS) for n in range(200)] == seen
    figures = measured(rig.history, start, 200.0, 1.0, 2)
    assert figures["backlog_peak"] == max(seen)
    # Looked at each second, it is nearly the mean of all instants.
    assert figures["backlog_mean"] == pytest.approx(sum(seen) / 200, rel=0.02)
    tries = [a for j in rig.jobs() for a in j.attempts]
    assert figures["attempts"] == len(tries) / 40
    assert figures["dead"] == len(rig.dead)
    spent = sum((a.ended_at - a.started_at).total_seconds() for a in tries if a.ended_at)
    assert figures["busy"] == pytest.approx(spent / 400, rel=1e-5)


@settings(max_examples=60)
@given(evenings(), st.integers(40, 140))
def test_the_report_fits_any_terminal(rig: ic.Rig, width: int) -> None:
    screen = console(plain=True)
    with screen.capture() as seen:
        screen.print(run_report(rig.history, width), width=width)
    lines = seen.get().splitlines()
    assert max(map(len, lines)) <= max(80, width)
    assert f"{len(rig.jobs())} jobs: " in " ".join(lines[-3:])


@settings(max_examples=80)
@given(st.text(min_size=1, max_size=30), st.text(max_size=30), st.text(min_size=1, max_size=20))
def test_any_name_is_shown_and_never_obeyed(name: str, argument: str, queue: str) -> None:
    rig = ic.Rig()
    rig.enqueue(rig.job(lambda x: 1 / 0, name=name, queue=queue).call(argument))
    rig.settle()
    screen = console(plain=True)
    with screen.capture() as seen:
        screen.print(run_report(rig.history, 80), width=80)
    assert all(c.isprintable() or c == "\n" for c in seen.get())


@settings(max_examples=60)
@given(evenings())
def test_an_exported_table_read_as_a_log_tells_the_same(rig: ic.Rig) -> None:
    import tempfile

    from ironclock.reports.open_formats import frame

    table = frame(rig.history)
    if "started" not in table:
        return
    table = table[table["outcome"].isin(["done", "failed", "timed-out", "crashed"])].drop(columns=["due"])
    if table.empty:
        return
    with tempfile.TemporaryDirectory() as folder:
        table.to_csv(Path(folder) / "run.csv", index=False)
        history = ic.log_history(str(Path(folder) / "run.csv"))

    def told(record: JobRecord) -> Any:
        tries = sorted(
            (t.started_ns // 1000, t.outcome, t.worker)
            for t in record.attempts
            if t.outcome not in ("running", "cancelled")
        )
        return record.name, tries

    real = {record.id: told(record) for record in job_records(rig.history)}
    for record in job_records(history):
        name, tries = told(record)
        assert (name, [(s, o, w) for s, o, w in tries]) == real[record.id]
