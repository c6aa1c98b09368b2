"""Open formats: what goes out is read by others, and what comes in is checked by the same laws."""

from __future__ import annotations

import json
from pathlib import Path
from xml.etree import ElementTree as Xml

import pandas
import pytest
from click.testing import CliRunner
from ferry_night import night

import ironclock as ic
from ironclock.cli.main import main
from ironclock.history.job_records import job_records, queue_depths
from ironclock.reports import open_formats as formats

LOGS = Path(__file__).parents[2] / "examples" / "logs"


def run(*arguments: str | Path) -> tuple[int, str, str]:
    result = CliRunner().invoke(main, [str(a) for a in arguments])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    return result.exit_code, result.stdout, result.stderr


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_a_table_of_attempts(tmp_path: Path, ending: str) -> None:
    rig = night()
    rig.history.save(tmp_path / "night.jsonl")
    code, said, _ = run("export", tmp_path / "night.jsonl", tmp_path / f"night.{ending}")
    assert (code, said.split()[0]) == (0, "wrote")
    table = (
        pandas.read_csv(tmp_path / "night.csv") if ending == "csv" else pandas.read_parquet(tmp_path / "night.parquet")
    )
    assert len(table) == sum(len(job.attempts) for job in rig.jobs())
    assert set(table["outcome"]) == {"done", "failed"}
    failed = table[(table["job"] == "poll_buoy-1") & (table["attempt"] == 1)].iloc[0]
    assert (failed["took_s"], failed["wait_s"], failed["state"]) == (30.0, 20.0, "dead")
    assert pandas.Timestamp(failed["started"]) == pandas.Timestamp("2031-03-29T21:00Z")


def test_trace_events_are_complete_and_in_microseconds() -> None:
    rig = night()
    events = json.loads(formats.trace_events(rig.history))["traceEvents"]
    boxes = [e for e in events if e["ph"] == "X"]
    assert len(boxes) == sum(len(job.attempts) for job in rig.jobs())
    assert {e["dur"] for e in boxes} == {30e6, 20e6}
    names = {e["args"]["name"] for e in events if e["name"] == "thread_name"}
    assert names == {"w1", "w2", "w3"}
    assert max(e["args"]["jobs"] for e in events if e["ph"] == "C" and e["name"] == "ready in harbour") > 3


def family() -> ic.Rig:
    """A job that enqueues another one in its second attempt."""
    rig = ic.Rig(start="2031-03-29T21:00", zone="UTC")
    rig.workers(2)
    child = rig.job(lambda: None, name="tell_harbour", takes="1.000000001s")

    def close_sailing() -> None:
        rig.enqueue(child, after="5s")

    parent = rig.job(close_sailing, name="close_sailing", takes="2s", retry=ic.Retry(2, "10s"))
    rig.faults.fail(parent, attempts=1)
    with rig:
        rig.enqueue(parent)
        rig.run_dry()
    return rig


def test_arrows_lead_from_attempt_to_attempt_and_to_what_it_enqueues(tmp_path: Path) -> None:
    rig = family()
    events = json.loads(formats.trace_events(rig.history))["traceEvents"]
    boxes = [e for e in events if e["ph"] == "X"]
    arrows = {
        e["id"]: (e, next(f for f in events if f["ph"] == "f" and f["id"] == e["id"])) for e in events if e["ph"] == "s"
    }
    assert [begin["name"] for begin, _ in arrows.values()] == ["tried again", "enqueued"]
    for begin, end in arrows.values():  # a viewer draws an arrow only between boxes
        for one in (begin, end):
            inside = [b for b in boxes if b["tid"] == one["tid"] and b["ts"] <= one["ts"] <= b["ts"] + b["dur"]]
            assert inside, one
        assert begin["ts"] <= end["ts"]
    assert {e["name"] for e in events if e["ph"] == "M"} == {
        "process_name", "process_sort_index", "thread_name", "thread_sort_index",
    }  # fmt: skip
    by = [entry.data["by"] for entry in rig.history if "by" in entry.data]
    assert by == ["close_sailing-1/2"]
    rig.history.save(tmp_path / "h.jsonl")
    child = next(job for job in job_records(ic.History.load(tmp_path / "h.jsonl")) if job.name == "tell_harbour")
    assert child.enqueued_by == ("close_sailing-1", 2)


def test_the_span_of_a_job_is_linked_to_the_attempt_that_has_enqueued_it() -> None:
    (resource,) = json.loads(formats.spans(family().history))["resourceSpans"]
    spans = {span["spanId"]: span for span in resource["scopeSpans"][0]["spans"]}
    (linked,) = [span for span in spans.values() if "links" in span]
    assert linked["name"] == "tell_harbour job"
    (link,) = linked["links"]
    parent = spans[link["spanId"]]
    assert parent["traceId"] == link["traceId"]
    assert parent["name"] == "close_sailing process"
    assert {"key": "ironclock.attempt", "value": {"intValue": "2"}} in parent["attributes"]


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_tables_keep_nanoseconds(tmp_path: Path, ending: str) -> None:
    rig = family()
    formats.export(rig.history, str(tmp_path / f"t.{ending}"))
    read = pandas.read_csv if ending == "csv" else pandas.read_parquet
    table = read(tmp_path / f"t.{ending}")
    ended = pandas.Timestamp(table[table["job"] == "tell_harbour-2"].iloc[0]["ended"])
    (child,) = rig.jobs("tell_harbour")
    assert ended.value == child.attempts[0].ended_ns
    assert ended.nanosecond == 1


def test_spans_nest_and_have_their_ids_in_hexadecimal() -> None:
    rig = night()
    (resource,) = json.loads(formats.spans(rig.history))["resourceSpans"]
    spans = resource["scopeSpans"][0]["spans"]
    roots = {s["spanId"]: s for s in spans if "parentSpanId" not in s}
    assert len(roots) == len(rig.jobs())
    assert len({(s["traceId"], s["spanId"]) for s in spans}) == len(spans)
    for span in spans:
        assert len(bytes.fromhex(span["traceId"])) == 16
        assert len(bytes.fromhex(span["spanId"])) == 8
        if "parentSpanId" in span:
            root = roots[span["parentSpanId"]]
            assert root["traceId"] == span["traceId"]
            assert int(root["startTimeUnixNano"]) <= int(span["startTimeUnixNano"])
            assert int(span["endTimeUnixNano"]) <= int(root["endTimeUnixNano"])
    assert sum(s["status"]["code"] == 2 for s in roots.values()) == len(rig.dead)
    assert formats.spans(night().history) == formats.spans(rig.history)


def test_junit_fails_for_dead_jobs_and_holds_any_name() -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda x: 1 / 0, name="<&\x00\x1b bad").call("]]>"))
        rig.settle()
    root = Xml.fromstring(formats.junit("jobs", formats.job_cases(rig.history)))
    (case,) = root.iter("testcase")
    assert case.get("name") == "<&\\x00\\x1b bad-1(']]>')"
    assert case.find("failure").get("message").startswith("ZeroDivisionError")  # type: ignore[union-attr]


def test_calendar_has_an_event_for_each_attempt() -> None:
    text = formats.attempts_calendar(night(3).history)
    assert text.count("BEGIN:VEVENT") == text.count("SUMMARY:poll_buoy") == 5
    assert "DTSTART:20310329T210000Z" in text


def test_what_cannot_be_exported(tmp_path: Path) -> None:
    night(3).history.save(tmp_path / "n.jsonl")
    code, _, said = run("export", tmp_path / "n.jsonl", tmp_path / "n.doc")
    assert code == 2
    assert "names no format" in said
    code, _, said = run("export", tmp_path / "n.jsonl", "/nowhere/n.csv")
    assert code == 2
    assert "cannot write" in said
    with pytest.raises(ic.InputError, match="did you mean 'trace'"):
        formats.export(night(1).history, "x", "trase")


def test_depth_is_what_was_ready_and_waited() -> None:
    rig = ic.Rig()
    rig.workers(1)
    job = rig.job(lambda: None, name="poll_buoy", takes="10s")
    for _ in range(3):
        rig.enqueue(job.call())
    rig.run_dry()
    instants, counts = queue_depths(job_records(rig.history))["default"]
    assert counts == [2, 1, 0]
    assert [(ns - instants[0]) // 10**9 for ns in instants] == [0, 10, 20]


# --- logs of real runs --------------------------------------------------------------------------------


def test_the_same_laws_hold_on_a_log() -> None:
    code, said, _ = run("check", LOGS / "friday.csv", "--laws", LOGS / "laws.toml")
    assert code == 1
    assert "charge of 'B-1067' is done 2 times" in said
    assert "✓ attempts_at_most('submit_manifest', 5)" in said
    assert "141 jobs, 154 attempts" in said


def test_laws_from_python_and_json_for_a_script(tmp_path: Path) -> None:
    (tmp_path / "mine.py").write_text(
        "import ironclock as ic\nLAWS = [ic.laws.nothing_lost()]\nFEW = ic.laws.attempts_at_most(None, 1)\n"
    )
    code, said, _ = run(
        "check", LOGS / "friday.csv", "--columns", LOGS / "laws.toml", "--laws", f"{tmp_path / 'mine.py'}", "--json"
    )
    assert (code, json.loads(said)) == (0, [{"law": "nothing_lost()", "holds": True, "judged": True, "breaches": []}])
    code, said, _ = run("check", LOGS / "friday.csv", "--columns", LOGS / "laws.toml", "--laws", f"{tmp_path / 'mine.py'}:FEW",
                        "--junit", tmp_path / "laws.xml")  # fmt: skip
    assert code == 1
    assert Xml.parse(tmp_path / "laws.xml").getroot().get("failures") == "1"


def log(tmp_path: Path, text: str, name: str = "run.jsonl") -> Path:
    (tmp_path / name).write_text(text, encoding="utf-8")
    return tmp_path / name


ROW = '{"job": "j1", "name": "charge_fare", "started": %s, "ended": %s, "outcome": "%s"}\n'


def test_attempts_of_a_log_become_a_story(tmp_path: Path) -> None:
    path = log(
        tmp_path,
        ROW % (1932670800, 1932670801.5, "error") + ROW % ('"2031-03-30T21:00:31Z"', '"2031-03-30T21:00:32Z"', "ok"),
    )
    history = ic.log_history(str(path))
    (job,) = job_records(history)
    assert (job.state, len(job.attempts)) == ("done", 2)
    assert job.attempts[0].wait_ns == job.attempts[1].started_ns - (job.attempts[0].ended_ns or 0)
    assert history.digest() == ic.log_history(str(path)).digest()


@pytest.mark.parametrize("scale", [1, 1_000, 1_000_000, 1_000_000_000])
def test_times_since_1970_are_told_apart_by_their_size(tmp_path: Path, scale: int) -> None:
    path = log(tmp_path, ROW % (1932670800 * scale, 1932670801 * scale, "ok"))
    assert ic.log_history(str(path))[1].at.isoformat() == "2031-03-30T21:00:00+00:00"


def test_half_written_lines_are_named_and_the_whole_ones_read(tmp_path: Path) -> None:
    path = log(tmp_path, ROW % (1932670800, 1932670801, "ok") + '{"job": "j2", "star')
    torn: list[str] = []
    assert len(ic.log_history(str(path), torn=torn)) == 3
    assert torn[0].startswith(f"{path}:2: the line is not whole JSON")
    night(3).history.save(tmp_path / "saved.jsonl")
    text = (tmp_path / "saved.jsonl").read_text(encoding="utf-8")
    (tmp_path / "saved.jsonl").write_text(text[:-30], encoding="utf-8")
    with pytest.raises(ic.HistoryError):
        ic.History.load(tmp_path / "saved.jsonl")
    code, said, warned = run("show", tmp_path / "saved.jsonl")
    assert code == 0
    assert "poll_buoy-1" in said
    assert f"Warning: {tmp_path / 'saved.jsonl'}:{text.count(chr(10))}: the line is not JSON" in warned


def test_a_short_row_of_a_csv_is_named(tmp_path: Path) -> None:
    path = log(tmp_path, "job,started,outcome\nj1,2031-03-29T21:00,ok\nj2,2031-03-29\n", "run.csv")
    torn: list[str] = []
    assert [entry.what for entry in ic.log_history(str(path), torn=torn)] == ["enqueued", "started", "done"]
    assert torn == [f"{path}:3: the head has 3 columns, and this row has 2"]


@pytest.mark.parametrize(
    ("text", "options", "says"),
    [
        ("what,when,how\n1,2031-03-29,ok\n", {}, "columns are missing: job (the job's id"),
        ("job,started,outcome\n1,2031-03-29,weird\n", {}, ":2: unknown outcome 'weird'; say what it means"),
        ("job,started,outcome\n1,yesterday,ok\n", {}, ":2: instant 'yesterday' is not ISO 8601"),
        ("job,started,outcome\n1,,ok\n", {}, ":2: started is empty"),
        ("job,started,outcome\n1,9.5e20,ok\n", {}, ":2: 9.5e20 is not an instant in the years 1 to 9999"),
        ("job,started,outcome\n1,inf,ok\n", {}, ":2: inf is too large for seconds"),
        ("job,started,outcome,attempt\n1,2031-03-29,ok,x\n", {}, ":2: the attempt is 'x'; it must be a number"),
        ("job,started,outcome\n", {}, "has no rows"),
        ("job,started,outcome\n1,2031-03-29,ok\n", {"columns": {"jbo": "x"}}, "did you mean 'job'?"),
        ("job,started,outcome\n1,2031-03-29,ok\n", {"outcomes": {"ok": "fine"}}, "unknown outcome 'fine'; give done"),
        ("job,started,outcome\n1,2031-03-29,ok\n", {"columns": {"worker": "host"}}, "columns are missing: worker"),
    ],
)  # fmt: skip
def test_logs_that_cannot_be_read(tmp_path: Path, text: str, options: dict[str, dict[str, str]], says: str) -> None:
    with pytest.raises(ic.LogError) as found:
        ic.log_history(str(log(tmp_path, text, "run.csv")), **options)  # type: ignore[arg-type]
    assert says in str(found.value)


def test_a_scenario_estimated_from_a_log_can_be_run(tmp_path: Path) -> None:
    code, _, _ = run("estimate", LOGS / "friday.csv", "--columns", LOGS / "laws.toml", "--out", tmp_path / "e.toml")
    assert code == 0
    scenario = ic.Scenario.load(tmp_path / "e.toml")
    ran = scenario.run()
    assert not ran.stopped
    real, modelled = 141, len(ran.rig.jobs())
    assert 0.6 * real < modelled < 1.4 * real
    took = [
        (a.ended_at - a.started_at).total_seconds()
        for j in ran.rig.jobs("charge_fare")
        for a in j.attempts
        if a.ended_at
    ]
    assert 0.5 < sum(took) / len(took) < 4


def test_estimates_come_near_to_what_made_the_history() -> None:
    from ironclock.scenario.estimation import estimate

    text = """
        run = "10h"
        [workers]
        count = 4
        [jobs.poll_buoy]
        takes = { median = "2s", p95 = "6s" }
        fails = 0.2
        retry = { attempts = 3, wait = "30s" }
        [[arrivals]]
        job = "poll_buoy"
        rate = "300/h"
    """
    made = ic.Scenario.loads(estimate(ic.Scenario.loads(text).run(seed=1).history)).source.tables
    job = made["jobs"]["poll_buoy"]
    assert abs(job["fails"]["share"] - 0.2) < 0.03
    assert job["retry"] == {"attempts": 3, "wait": "30s"}
    middle = job["takes"]["measured"][10]
    assert 1.8 < float(middle.rstrip("s")) < 2.2
    rates = [float(rate.split("/")[0]) for _, rate in made["arrivals"][0]["curve"]]
    assert all(240 < rate < 360 for rate in rates[9:19])


BAD = (
    ROW % (1932670800, 1932670801, "ok")
    + ROW % (1932670800, 1932670801, "ok")  # the same once more
    + ROW.replace("j1", "j2") % (1932670900, 1932670890, "ok")  # it ends before it starts
    + ROW.replace("j1", "j3") % (1932671000, "null", "ok")  # it has no end
)


def test_bad_rows_are_named_and_change_no_verdict(tmp_path: Path) -> None:
    path, torn = log(tmp_path, BAD), list[str]()
    history = ic.log_history(str(path), torn=torn)
    assert torn == [
        f"{path}:2: the row is the same as that of line 1; it counts once",
        f"{path}:3: it ends at 2031-03-30T21:01:30+00:00, before it starts at 2031-03-30T21:01:40+00:00; the row is "
        "left out",
        f"{path}:4: it has no end; it counts as what its outcome says, and its length is not known",
    ]
    assert [(job.id, job.state, len(job.attempts)) for job in job_records(history)] == [
        ("j1", "done", 1), ("j3", "done", 1),
    ]  # fmt: skip
    kept = ic.log_history(str(path), keeps_doubles=True)
    assert [len(job.attempts) for job in job_records(kept)] == [2, 1]
    (tmp_path / "laws.toml").write_text('[[laws]]\nlaw = "attempts_at_most"\nwith = ["charge_fare", 1]\n', "utf-8")
    laws = ["--laws", tmp_path / "laws.toml"]
    code, _, warned = run("check", path, *laws)
    assert code == 0
    assert f"Warning: {path}:2: the row is the same" in warned
    assert run("check", path, *laws, "--keep-doubles")[0] == 1


def test_a_log_with_too_many_bad_rows_is_refused(tmp_path: Path) -> None:
    path = log(tmp_path, ROW % (1932670800, 1932670801, "ok") * 12)
    with pytest.raises(ic.LogError, match=r"11 of its rows are bad, which is more than 10% of 12. The first is: "):
        ic.log_history(str(path))
    assert len(ic.log_history(str(path), bad_rows=1)) == 3
    code, _, said = run("show", path, "--bad-rows", "5")
    assert code == 2
    assert "11 of its rows are bad, which is more than 5% of 12" in said
    with pytest.raises(ic.LogError, match="bad_rows is 3; give a share from 0 to 1"):
        ic.log_history(str(path), bad_rows=3)
