"""Logs of real runs in the shapes in which they are found, and scenarios that are estimated from them."""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import random
import sqlite3
import tomllib
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from jsonschema import Draft202012Validator

import ironclock as ic
from ironclock.cli.main import main
from ironclock.foundation.durations import NS, to_ns
from ironclock.history.job_records import JobRecord, job_records
from ironclock.laws.log_check import check_logs
from ironclock.scenario.estimation import estimate
from ironclock.scenario.law_tables import law_file_schema, law_names

LOGS = Path(__file__).parents[2] / "examples" / "logs"
AT = 1_932_670_800  # 2031-03-30T21:00:00Z


def run(*arguments: object) -> tuple[int, str, str]:
    result = CliRunner().invoke(main, [*map(str, arguments)])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    return result.exit_code, result.stdout, result.stderr


def jobs(path: Path | list[Path], **options: Any) -> list[JobRecord]:
    return job_records(ic.log_history(path, **options))  # type: ignore[arg-type]


def two_attempts(found: list[JobRecord]) -> None:
    """The same two jobs, whatever the log looks like."""
    first, second = found
    assert [one.outcome for one in first.attempts] == ["failed", "done"]
    assert [one.started_ns - first.attempts[0].started_ns for one in first.attempts] == [0, 31_500_000_000]
    assert [(one.ended_ns or 0) - one.started_ns for one in first.attempts] == [1_500_000_000, 1_000_000_000]
    assert first.attempts[0].started_ns == AT * 10**9
    assert (first.state, second.state, len(second.attempts)) == ("done", "done", 1)


CSV = """job_id,task,start_time,end_time,status
a1,charge_fare,2031-03-30T21:00:00Z,2031-03-30T21:00:01.5Z,error
a1,charge_fare,2031-03-30T21:00:31.5Z,2031-03-30T21:00:32.5Z,ok
a2,charge_fare,2031-03-30T21:00:40Z,2031-03-30T21:00:41Z,ok
"""


@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
def test_the_delimiter_is_found_in_the_head(tmp_path: Path, delimiter: str) -> None:
    (tmp_path / "log.txt").write_text(CSV.replace(",", delimiter))
    two_attempts(jobs(tmp_path / "log.txt"))
    (tmp_path / "odd.txt").write_text(CSV.replace(",", "^"))
    two_attempts(jobs(tmp_path / "odd.txt", delimiter="^"))


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
@pytest.mark.parametrize("opened", [open, gzip.open, bz2.open, lzma.open])
def test_marks_of_byte_order_and_compression_are_seen(tmp_path: Path, encoding: str, opened: Any) -> None:
    path = tmp_path / "log"  # no ending says what it is
    with opened(path, "wb") as file:
        file.write(CSV.encode(encoding))
    two_attempts(jobs(path))


@pytest.mark.parametrize(
    ("start", "end"),
    [
        ("2031-03-30 21:00:00 UTC", "2031-03-30 21:00:01,5 UTC"), ("2031-03-30T23:00:00+02:00", "2031-03-30 23:00:01.5 +02:00"),
        (str(AT), f"{AT}.5"), (f"{AT}000", f"{AT + 1}500"), (f"{AT}000000", f"{AT + 1}500000"), (f"{AT}000000000", f"{AT + 1}500000000"),
    ],
)  # fmt: skip
def test_instants_as_logs_write_them(tmp_path: Path, start: str, end: str) -> None:
    (tmp_path / "log.csv").write_text(f'job,started,ended,outcome\na,"{start}","{end}",ok\n')
    (job,) = jobs(tmp_path / "log.csv")
    assert job.attempts[0].started_ns == AT * 10**9
    if end != f"{AT}.5":
        assert job.attempts[0].ended_ns == AT * 10**9 + 1_500_000_000


def test_nanoseconds_are_kept(tmp_path: Path) -> None:
    (tmp_path / "log.csv").write_text("job,started,outcome\na,2031-03-30T21:00:00.123456789Z,ok\n")
    (job,) = jobs(tmp_path / "log.csv")
    assert job.attempts[0].started_ns == AT * 10**9 + 123_456_789


EVENTS = [
    ("a1", "job.enqueued", 20 - 30, {}), ("a1", "started", 0, {"worker": "w1"}), ("a1", "failed", 1.5, {"error": "TimeoutError: no"}),
    ("a1", "started", 31.5, {"worker": "w2"}), ("a1", "completed", 32.5, {}), ("a2", "queued", 39, {}),
    ("a2", "picked_up", 40, {}), ("a2", "succeeded", 41, {}), ("a3", "enqueued", 50, {}),
]  # fmt: skip


def test_one_line_for_each_event(tmp_path: Path) -> None:
    lines = [
        json.dumps({"job_id": job, "event": what, "timestamp": AT + at, "meta": {"queue": "payments"}, **more})
        for job, what, at, more in EVENTS
    ]
    random.Random(1).shuffle(lines)
    (tmp_path / "log.jsonl").write_text("\n".join(lines))
    found = jobs(tmp_path / "log.jsonl", columns={"queue": "meta.queue"})
    first = next(job for job in found if job.id == "a1")
    two_attempts([first, next(job for job in found if job.id == "a2")])
    assert first.enqueued_ns == (AT - 10) * 10**9
    assert (first.queue, first.attempts[1].worker) == ("payments", "w2")
    assert first.attempts[0].error == "TimeoutError: no"
    waiting = next(job for job in found if job.id == "a3")
    assert (waiting.state, waiting.attempts) == ("ready", [])


def test_events_that_do_not_fit(tmp_path: Path) -> None:
    def log(*events: tuple[str, float]) -> Path:
        text = "job,event,time\n" + "".join(f"a,{what},{AT + at}\n" for what, at in events)
        (tmp_path / "log.csv").write_text(text)
        return tmp_path / "log.csv"

    torn: list[str] = []
    (job,) = jobs(log(("started", 0), ("started", 5), ("done", 6)), torn=torn)
    assert [one.outcome for one in job.attempts] == ["crashed", "done"], "nobody heard of the first one again"
    (job,) = jobs(log(("started", 0), ("done", 1), ("done", 2)), torn=torn)
    assert torn[-1].endswith("a ends (done) without a start; the row is left out")
    (job,) = jobs(log(("started", 0)), torn=torn)
    assert job.state == "running"
    assert torn[-1].endswith("a has no end; the attempt is taken to run on")
    with pytest.raises(ic.LogError, match="unknown event 'snoozed'; say what it means: --outcome snoozed=failed"):
        jobs(log(("snoozed", 0)))
    assert len(jobs(log(("fetched", 0), ("done", 1)), outcomes={"fetched": "started"})[0].attempts) == 1


@pytest.mark.parametrize(
    ("column", "value"),
    [
        ("runtime", "1.5"),
        ("duration_ms", "1500"),
        ("took_us", "1500000"),
        ("durationMs", "1500"),
        ("elapsed", "1.5s"),
        ("elapsed", "1500 ms"),
    ],
)
def test_the_end_with_the_runtime(tmp_path: Path, column: str, value: str) -> None:
    for given, at in (("started", AT), ("ended", AT + 1.5)):
        (tmp_path / "log.csv").write_text(f"job,{given},outcome,{column}\na,{at},ok,{value}\n")
        columns = {"runtime": column} if column == "durationMs" else {}
        (job,) = jobs(tmp_path / "log.csv", columns=columns)
        assert (job.attempts[0].started_ns, job.attempts[0].ended_ns) == (AT * 10**9, AT * 10**9 + 1_500_000_000)


def test_keys_inside_of_objects(tmp_path: Path) -> None:
    rows = [
        {
            "meta": {"job": {"id": "a", "type": "charge_fare"}},
            "times": {"start": AT, "end": AT + 1},
            "result": {"state": "ok"},
        }
    ]
    for text in (json.dumps(rows), "\n".join(map(json.dumps, rows)), json.dumps(rows, indent=2)):
        (tmp_path / "log").write_text(text)
        guessed: dict[str, str] = {}
        (job,) = jobs(tmp_path / "log", columns={"job": "meta.job.id"}, guessed=guessed)
        assert (job.id, job.name, job.state) == ("a", "charge_fare", "done")
        assert guessed == {
            "name": "meta.job.type",
            "started": "times.start",
            "ended": "times.end",
            "outcome": "result.state",
        }


def test_several_files_are_one_log(tmp_path: Path) -> None:
    head, *rows = CSV.splitlines(keepends=True)
    (tmp_path / "a.csv").write_text(head + rows[0])
    (tmp_path / "b.csv").write_text(head.replace(",", ";") + (rows[1] + rows[2]).replace(",", ";"))
    two_attempts(jobs([tmp_path / "a.csv", tmp_path / "b.csv"]))
    code, said, _ = run("check", tmp_path / "a.csv", tmp_path / "b.csv", "--laws", law_file(tmp_path), "--json")
    assert (code, json.loads(said)[0]["holds"]) == (0, True)


def law_file(tmp_path: Path, text: str = "") -> Path:
    (tmp_path / "laws.toml").write_text(text + '[[laws]]\nlaw = "attempts_at_most"\nwith = ["charge_fare", 2]\n')
    return tmp_path / "laws.toml"


def test_spans_of_opentelemetry(tmp_path: Path) -> None:
    def attribute(key: str, value: str) -> dict[str, Any]:
        return {"key": key, "value": {"stringValue": value}}

    def span(job: str, start: float, end: float, code: int, kind: int = 5) -> dict[str, Any]:
        return {
            "traceId": "ab", "spanId": "cd", "name": "charge_fare", "kind": kind, "status": {"code": code},
            "startTimeUnixNano": str(round((AT + start) * 10**9)), "endTimeUnixNano": str(round((AT + end) * 10**9)),
            "attributes": [attribute("messaging.message.id", job), attribute("messaging.destination.name", "payments")],
        }  # fmt: skip

    spans = [span("a1", 0, 1.5, 2), span("a1", 31.5, 32.5, 1), span("a2", 40, 41, 0), span("x", 1, 2, 0, kind=3)]
    document = {"resourceSpans": [{"resource": {}, "scopeSpans": [{"spans": spans}]}]}
    for text in (json.dumps(document), json.dumps(document, indent=1)):
        (tmp_path / "spans.json").write_text(text)
        found = jobs(tmp_path / "spans.json")
        two_attempts(found)
        assert (found[0].name, found[0].queue) == ("charge_fare", "payments")


def test_our_own_spans_can_be_read_again(tmp_path: Path) -> None:
    from ironclock.reports.open_formats import export

    rig = ic.Rig(start="2031-03-30T21:00", zone="UTC")
    rig.workers(1)
    poll = rig.job(lambda: None, name="poll_buoy", takes="2s", retry=ic.Retry(3, "10s"))
    rig.faults.fail(poll, attempts=1)
    with rig:
        rig.enqueue(poll)
        rig.run_dry()
    export(rig.history, str(tmp_path / "x.otlp.json"))
    (job,) = jobs(tmp_path / "x.otlp.json")
    assert [one.outcome for one in job.attempts] == ["failed", "done"]


def test_a_query_on_a_database(tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "jobs.db") as database:
        database.execute("create table attempts (job_id text, task text, start_time text, end_time text, status text)")
        rows = [line.split(",") for line in CSV.splitlines()[1:]]
        database.executemany("insert into attempts values (?, ?, ?, ?, ?)", rows)
    database.close()
    url = f"sqlite:///{tmp_path / 'jobs.db'}"
    two_attempts(job_records(ic.log_history(url, query="select * from attempts")))
    code, said, told = run("check", url, "--query", "select * from attempts", "--laws", law_file(tmp_path))
    assert code == 0
    assert "2 jobs, 3 attempts" in said
    assert "Columns by their names: job = job_id, name = task" in told
    code, _, told = run("check", url, "--query", "select * from nowhere", "--laws", law_file(tmp_path))
    assert code == 2
    assert "cannot query the database" in told
    assert "no such table: nowhere" in told


def test_what_was_guessed_is_said_and_can_be_saved(tmp_path: Path) -> None:
    (tmp_path / "log.csv").write_text(CSV)
    code, _, told = run("show", tmp_path / "log.csv", "--save-columns", tmp_path / "columns.toml")
    assert code == 0
    assert "Columns by their names: job = job_id, name = task, started = start_time, ended = end_time" in told
    saved = tomllib.loads((tmp_path / "columns.toml").read_text())
    assert saved["columns"]["outcome"] == "status"
    code, _, told = run("show", tmp_path / "log.csv", "--columns", tmp_path / "columns.toml")
    assert (code, told) == (0, "")


def test_a_column_with_ids_beside_one_with_types(tmp_path: Path) -> None:
    (tmp_path / "log.csv").write_text(f"id,job,started,status\n7,charge_fare,{AT},ok\n8,charge_fare,{AT},ok\n")
    assert [(job.id, job.name) for job in jobs(tmp_path / "log.csv")] == [("7", "charge_fare"), ("8", "charge_fare")]


@pytest.mark.parametrize(
    ("text", "options", "says"),
    [
        ("job,started,outcome,started\na,1,ok,1\n", {}, "the head names started twice"),
        ("[1, 2]", {}, "has no rows"), ("[{]", {}, "the file is not JSON"),
        ("job,started,outcome\na,1,ok\n", {"delimiter": "::"}, "delimiter is '::'; give one character"),
        ("job,started,outcome,runtime\na,1,ok,-3\n", {}, ":2: the runtime is -3; give a duration of at least 0"),
        ("job,started,outcome,runtime\na,1,ok,long\n", {}, ":2: runtime 'long' cannot be read"),
        ("job,event,time\na,started,now\n", {}, ":2: instant 'now' is not ISO 8601"),
        ("foo,bar\n1,2\n", {}, "columns are missing: job (the job's id"),
    ],
)  # fmt: skip
def test_logs_that_cannot_be_read(tmp_path: Path, text: str, options: dict[str, Any], says: str) -> None:
    (tmp_path / "log").write_text(text)
    with pytest.raises(ic.LogError) as found:
        jobs(tmp_path / "log", **options)
    assert says in str(found.value)


def test_no_log_at_all() -> None:
    with pytest.raises(ic.LogError, match="the list of logs is empty"):
        ic.log_history([])
    assert run("check", "--laws", LOGS / "laws.toml")[0] == 2


# --- laws in TOML ---------------------------------------------------------------------------------------


DOUBLED = """task_id,task,booking,created,begin,finish,status
j1,charge,B-1,2031-03-28T06:06:49Z,2031-03-28T06:06:50Z,2031-03-28T06:06:51Z,done
j2,charge,B-1,2031-03-28T06:06:49Z,2031-03-28T06:07:50Z,2031-03-28T06:07:51Z,done
"""
COLUMNS = """
[columns]
job = "task_id"
name = "task"
started = "begin"
ended = "finish"
enqueued = "created"
outcome = "status"
"""


def test_a_law_that_had_nothing_to_judge_does_not_hold(tmp_path: Path) -> None:
    log = tmp_path / "friday.csv"
    log.write_text(DOUBLED)
    laws = tmp_path / "laws.toml"
    law = '[[laws]]\nlaw = "once_per_key"\nwith = ["charge"]\n'
    laws.write_text(COLUMNS + law)
    code, told, _ = run("check", log, "--laws", laws)
    assert (code, told.splitlines()[-1]) == (0, "- once_per_key('charge') had nothing to judge")
    assert run("check", log, "--laws", laws, "--strict")[0] == 1
    assert json.loads(run("check", log, "--laws", laws, "--json")[1])[0]["judged"] is False
    columns = {"job": "task_id", "name": "task", "started": "begin", "ended": "finish", "enqueued": "created"}
    columns["outcome"] = "status"
    with pytest.warns(ic.RigWarning, match="once_per_key had nothing to judge in .*friday.csv; give the column"):
        ic.check_log(log, ic.laws.once_per_key("charge"), columns=columns)
    with pytest.raises(ic.BrokenLaw, match="had nothing to judge"):
        ic.check_log(log, ic.laws.once_per_key("charge"), strict=True, columns=columns)
    laws.write_text(COLUMNS + 'key = "booking"\n' + law)
    code, told, _ = run("check", log, "--laws", laws)
    assert code == 1
    assert "'B-1' is handled 2 times, by j1" in told, "a law about keys uses the key column"
    options = {"columns": {**columns, "key": "booking"}}
    in_parts = check_logs(log, [ic.laws.once_per_key("charge")], options, large=1, part=60)
    assert [breach.words[:24] for breach in in_parts.found[0]] == ["'B-1' is handled 2 times"]


def test_the_schema_of_a_file_of_laws() -> None:
    schema = law_file_schema()
    Draft202012Validator.check_schema(schema)
    check = Draft202012Validator(schema)
    assert check.is_valid(tomllib.loads((LOGS / "laws.toml").read_text()))
    assert not check.is_valid({"laws": [{"law": "once_per_kye"}]})
    assert not check.is_valid({"lows": []})
    assert check.is_valid({"laws": [{"law": "my.module:LAW"}, {"law": "no_overlap", "with": {"per_key": True}}]})
    assert not check.is_valid({"laws": [{"law": "no_overlap", "with": {"per_kye": True}}]})
    assert len(schema["properties"]["laws"]["items"]["anyOf"]) == len(law_names()) + 1
    code, said, _ = run("check", "--schema")
    assert (code, json.loads(said)) == (0, schema)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("lows = 3\n", "the file has an unknown key 'lows'; did you mean 'laws'?"), ("zone = 'UTC'\n", "[[laws]] is nothing; give [[laws]]"),
        ("[[laws]]\nlaw = 'once_per_kye'\n", "table 1 of [[laws]]: there is no law 'once_per_kye'"),
        ("[[laws]]\nlaw = 'no.such:law'\n", "table 1 of [[laws]]: the law 'no.such:law' cannot be imported"),
    ],
)  # fmt: skip
def test_files_of_laws_that_cannot_be_used(tmp_path: Path, text: str, says: str) -> None:
    (tmp_path / "laws.toml").write_text(text)
    code, _, told = run("check", LOGS / "friday.csv", "--laws", tmp_path / "laws.toml")
    assert code == 2
    assert says in told


# --- estimates ------------------------------------------------------------------------------------------


def estimated(text: str, seed: int = 1) -> dict[str, Any]:
    return ic.Scenario.loads(estimate(ic.Scenario.loads(text).run(seed=seed).history)).source.tables


WAITS = {
    'wait = "40s"': "40s", 'wait = { first = "1m", factor = 2 }': {"first": "1m", "factor": 2},
    'wait = { first = "10s", factor = 3, cap = "4m" }': {"first": "10s", "factor": 3, "cap": "4m"},
    'wait = { first = "20s", step = "30s" }': {"first": "20s", "step": "30s"},
    'wait = ["10s"]': "10s",
}  # fmt: skip
ONE_JOB = """
    run = "30h"
    [workers]
    count = 40
    [jobs.weigh]
    takes = "2s"
    fails = 0.5
    retry = {{ attempts = 6, {wait} }}
    [[arrivals]]
    job = "weigh"
    rate = "60/h"
"""


@pytest.mark.parametrize("wait", WAITS)
def test_waits_are_fitted_by_attempt(wait: str) -> None:
    retry = estimated(ONE_JOB.format(wait=wait))["jobs"]["weigh"]["retry"]
    assert retry == {"attempts": 6, "wait": WAITS[wait]}


@pytest.mark.parametrize("jitter", [0.1, 0.25, "full"])
def test_the_jitter_is_fitted(jitter: float | str) -> None:
    shown = json.dumps(jitter)
    wait = estimated(ONE_JOB.format(wait=f'wait = {{ first = "1m", factor = 2, jitter = {shown} }}'))["jobs"]["weigh"][
        "retry"
    ]["wait"]
    assert wait["jitter"] == (jitter if jitter == "full" else pytest.approx(jitter, rel=0.25))
    assert 1.75 <= wait["factor"] <= 2.25
    assert 50 <= to_ns(wait["first"]) / NS <= 70


def test_an_outage_is_seen_and_does_not_change_the_usual_share() -> None:
    text = """
        start = "2031-03-29T06:00"
        run = "12h"
        [workers]
        count = 20
        [jobs.weigh]
        takes = "2s"
        fails = 0.05
        retry = { attempts = 4, wait = "2m" }
        [[arrivals]]
        job = "weigh"
        rate = "200/h"
        [[faults]]
        kind = "fail"
        between = ["2031-03-29T09:00", "2031-03-29T09:30"]
        takes = "10s"
    """
    found = estimated(text)
    (fault,) = found["faults"]
    since, until = fault["between"]
    assert "2031-03-29T08:58" <= since <= "2031-03-29T09:01"
    assert "2031-03-29T09:29" <= until <= "2031-03-29T09:33"
    assert fault["takes"] == "10s"
    assert abs(found["jobs"]["weigh"]["fails"]["share"] - 0.05) < 0.015
    quiet = text[: text.index("[[faults]]")].replace("0.05", "0.6")
    assert "faults" not in estimated(quiet), "a job that fails often is not an outage"


def test_long_arrays_of_an_estimate_stand_on_several_lines() -> None:
    written = estimate(ic.log_history(LOGS / "friday.csv"))
    assert max(map(len, written.splitlines())) <= 110
    job = ic.Scenario.loads(written).source.tables["jobs"]["charge_fare"]
    assert len(job["takes"]["measured"]) == 21


def test_arrivals_by_weekday_and_hour() -> None:
    text = """
        start = "2031-03-03T00:00"
        zone = "Atlantic/Faroe"
        run = "14d"
        [workers]
        count = 4
        [jobs.weigh]
        [[arrivals]]
        job = "weigh"
        days = ["Mon", "Tue", "Wed", "Thu", "Fri"]
        curve = [["00:00", "10/h"], ["08:00", "60/h"], ["16:00", "10/h"]]
        [[arrivals]]
        job = "weigh"
        days = ["Sat", "Sun"]
        curve = [["00:00", "5/h"]]
    """
    tables = estimated(text)["arrivals"]
    by_days = {tuple(table["days"]): dict(table["curve"]) for table in tables}
    assert set(by_days) == {("Mon", "Tue", "Wed", "Thu", "Fri"), ("Sat", "Sun")}
    noon = float(by_days["Mon", "Tue", "Wed", "Thu", "Fri"]["12:00"].split("/")[0])
    assert 50 < noon < 70
    assert 2 < float(by_days["Sat", "Sun"]["12:00"].split("/")[0]) < 9
    same = text.replace('days = ["Mon", "Tue", "Wed", "Thu", "Fri"]', "")
    same = same[: same.rindex("[[arrivals]]")]
    assert ["days" in table for table in estimated(same)["arrivals"]] == [False]


def test_pools_of_workers_are_told_apart() -> None:
    text = """
        run = "4h"
        [[workers]]
        count = 2
        queues = ["harbour"]
        [[workers]]
        count = 3
        queues = ["desk", "mail"]
        [jobs.weigh]
        takes = "30s"
        queue = "harbour"
        [jobs.post]
        takes = "30s"
        queue = "desk"
        [jobs.send]
        takes = "30s"
        queue = "mail"
        [[arrivals]]
        job = "weigh"
        rate = "200/h"
        [[arrivals]]
        job = "post"
        rate = "150/h"
        [[arrivals]]
        job = "send"
        rate = "150/h"
    """
    assert estimated(text)["workers"] == [{"count": 3, "queues": ["desk", "mail"]}, {"count": 2, "queues": ["harbour"]}]


@pytest.mark.parametrize(("opened", "suffix"), [(gzip.open, "gz"), (bz2.open, "bz2"), (lzma.open, "xz")])
def test_a_compressed_log_that_is_cut_off_is_read_up_to_there(tmp_path: Path, opened: Any, suffix: str) -> None:
    chance = random.Random(3)
    rows = [
        f"{n},weigh,{AT + n},{AT + n + chance.random():.3f},done" for n in range(30_000 if suffix == "bz2" else 3_000)
    ]
    path = tmp_path / f"night.csv.{suffix}"
    with opened(path, "wt") as file:
        file.write("\n".join(["job,name,started,ended,outcome", *rows]))
    path.write_bytes(path.read_bytes()[:-90])
    torn: list[str] = []
    found = jobs(path, torn=torn)
    assert 0 < len(found) < len(rows)
    assert [job.id for job in found] == [str(n) for n in range(len(found))]
    assert torn[0] == f"{path}: the file is cut off; what is there is read"


def test_a_log_in_another_encoding(tmp_path: Path) -> None:
    path, laws = tmp_path / "night.csv", tmp_path / "laws.toml"
    path.write_bytes(
        f"job,name,started,ended,outcome\n1,weigh,{AT},{AT + 1},done\n2,sk\xe1p,{AT},{AT + 1},done\n".encode("latin-1")
    )
    (tmp_path / "night.csv.gz").write_bytes(gzip.compress(path.read_bytes()))
    for one in (path, tmp_path / "night.csv.gz"):
        with pytest.raises(
            ic.LogError, match=r"line 3 is not text in UTF-8, at b'2,sk\\xe1p,1932670.*encoding='latin-1'"
        ):
            jobs(one)
        assert [job.name for job in jobs(one, encoding="latin-1")] == ["weigh", "sk\xe1p"]
    for wrong, words in [
        ("lattin", "there is no encoding 'lattin'"),
        ("ascii", "it is not text in ascii"),
        ("utf-16", "not text in utf-16"),
    ]:
        with pytest.raises(ic.LogError, match=words):
            jobs(path, encoding=wrong)
    laws.write_text('[[laws]]\nlaw = "attempts_at_most"\nwith = ["sk\xe1p", 1]\n')
    assert run("check", path, "--laws", laws, "--encoding", "latin-1")[0] == 0
    laws.write_text(f'encoding = "latin-1"\n{laws.read_text()}')
    assert run("check", path, "--laws", laws)[0] == 0


def test_a_row_that_is_done_and_has_no_end_breaks_no_law(tmp_path: Path) -> None:
    path, laws = tmp_path / "night.csv", tmp_path / "laws.toml"
    path.write_text(
        "job,name,key,effect,started,ended,outcome\n"
        f"1,weigh,k,scale,{AT},,done\n2,weigh,k,,{AT + 60},{AT + 65},done\n3,weigh,m,,{AT + 120},,failed\n"
    )
    laws.write_text(
        '[[laws]]\nlaw = "no_overlap"\nwith = ["weigh"]\n[[laws]]\nlaw = "finishes_within"\nwith = ["weigh", "1m"]\n'
        '[[laws]]\nlaw = "once_per_key"\nwith = ["scale"]\n'
    )
    code, said, warned = run("check", path, "--laws", laws, "--bad-rows", 100)
    assert code == 0, said
    assert f"Warning: {path}:2: it has no end; it counts as what its outcome says" in warned
    assert [(job.state, len(job.attempts)) for job in jobs(path)] == [("done", 1), ("done", 1), ("dead", 1)]
