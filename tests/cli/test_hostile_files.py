"""Whatever a file holds, what comes back is a reading or one clear error, and nothing that was whole is lost."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from ferry_night import night
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import ironclock as ic
from ironclock.cli.main import main

EXAMPLES = Path(__file__).parents[2] / "examples"
SCENARIO = (EXAMPLES / "scenarios" / "manifest_day.toml").read_text(encoding="utf-8")
LOG = (EXAMPLES / "logs" / "friday.csv").read_text(encoding="utf-8")
COLUMNS = {
    "job": "task_id", "name": "task", "key": "booking", "enqueued": "created", "attempt": "try", "started": "begin",
    "ended": "finish", "outcome": "status", "error": "problem", "worker": "host",
}  # fmt: skip
PARTS = st.sampled_from(
    ['"', "'", "[", "]", "{", "}", "=", "\n", "#", ",", "-1", "0", "1e400", "true", "\x00", "ü", "1d", "inf"]
)


@st.composite
def damaged(draw: st.DrawFn, text: str) -> str:
    """A text with some of it cut out and something else put in."""
    for _ in range(draw(st.integers(1, 3))):
        at = draw(st.integers(0, len(text)))
        text = text[:at] + draw(PARTS) + text[at + draw(st.integers(0, 12)) :]
    return text


def refusal(act: Callable[[], object]) -> str | None:
    """Return the words of the library's own error that it ends with, if it does."""
    try:
        act()
    except ic.IronClockError as error:
        return str(error)
    return None


@settings(max_examples=400)
@given(damaged(SCENARIO.replace("24h", "10m").replace("count = 300", "count = 3")))
def test_a_damaged_scenario_is_read_or_refused_in_words(text: str) -> None:
    said = refusal(lambda: ic.Scenario.loads(text).world())
    assert said is None or said.startswith("scenario.toml:")


@settings(max_examples=200, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(damaged(LOG[: LOG.index("j0012")]))
def test_a_damaged_log_is_read_or_refused_in_words(tmp_path: Path, text: str) -> None:
    path = tmp_path / "log.csv"
    path.write_text(text, encoding="utf-8")
    said = refusal(lambda: ic.log_history(str(path), columns=COLUMNS, torn=[]))
    assert said is None or said.startswith((str(path), f"cannot read {path}"))


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(260, 4000))
def test_a_history_cut_anywhere_gives_its_whole_lines(tmp_path: Path, cut: int) -> None:
    night(8).history.save(tmp_path / "n.jsonl")
    text = (tmp_path / "n.jsonl").read_bytes()[:cut]
    (tmp_path / "cut.jsonl").write_bytes(text)
    torn: list[str] = []
    history = ic.History.load(tmp_path / "cut.jsonl", torn)
    whole = [line for line in text.split(b"\n")[1:] if line.endswith(b"}") and _is_json(line)]
    assert len(history) == len(whole)
    assert len(torn) == (0 if text.endswith((b"}", b"\n")) else 1)


def _is_json(line: bytes) -> bool:
    try:
        json.loads(line)
    except ValueError:
        return False
    return True


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.dictionaries(st.sampled_from(["job", "name", "started", "ended", "outcome", "attempt", "key"]),
                                st.none() | st.booleans() | st.floats() | st.text(max_size=4) | st.integers() |
                                st.lists(st.integers(), max_size=2), max_size=7), max_size=4))  # fmt: skip
def test_json_lines_of_any_kind(tmp_path: Path, rows: list[dict[str, Any]]) -> None:
    path = tmp_path / "run.jsonl"
    path.write_text("".join(json.dumps(row) + "\n" for row in rows), encoding="utf-8")
    said = refusal(lambda: ic.log_history(str(path)))
    assert said is None or said.startswith(str(path))


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["run", "{folder}/binary"], "cannot read"), (["forecast", "{folder}/none.toml"], "cannot read"),
        (["show", "{folder}/binary"], "cannot read"), (["check", "{folder}/none.csv", "--laws", "{laws}"], "cannot read"),
        (["check", "{log}", "--laws", "{folder}/none.toml"], "No such file"),
        (["check", "{log}", "--laws", "{folder}/bad.toml", "--columns", "{laws}"], "[[laws]] is 3; give [[laws]]"),
        (["check", "{log}", "--laws", "{folder}/odd.toml", "--columns", "{laws}"], "table 1 of [[laws]] is {'low': 'x'}; give law = NAME"),
        (["check", "{log}", "--laws", "{folder}/none.py", "--columns", "{laws}"], "there is no file"),
        (["check", "{log}", "--laws", "{folder}/raises.py", "--columns", "{laws}"], "ZeroDivisionError"),
        (["check", "{log}", "--laws", "json:nothing", "--columns", "{laws}"], "json has no 'nothing' with laws"),
        (["check", "{log}", "--laws", "{laws}", "--column", "job"], "--column is 'job'; give NAME=VALUE"),
        (["compare", "{folder}/odd.csv", "{log}"], "columns are missing"), (["compare", "{folder}/none.jsonl"], "Give two files"),
        (["run", "{scenario}", "--save", "/nowhere/h.jsonl"], "cannot write"),
        (["run", "{scenario}", "--html", "/nowhere/h.html"], "cannot write"),
        (["run", "{scenario}", "--junit", "/nowhere/h.xml"], "cannot write"),
        (["estimate", "{log}", "--columns", "{laws}", "--out", "/nowhere/s.toml"], "cannot write"),
        (["forecast", "{scenario}", "--load", "0"], "not in the range"), (["completion", "tcsh"], "tcsh"),
    ],
)  # fmt: skip
def test_commands_say_what_is_wrong(tmp_path: Path, arguments: list[str], says: str) -> None:
    (tmp_path / "binary").write_bytes(b"\xff\xfe\x00\x80")
    (tmp_path / "bad.toml").write_text("laws = 3\n")
    (tmp_path / "odd.toml").write_text("[[laws]]\nlow = 'x'\n")
    (tmp_path / "odd.csv").write_text("a,b\n1,2\n")
    (tmp_path / "raises.py").write_text("1 / 0\n")
    names = {
        "folder": tmp_path, "laws": EXAMPLES / "logs" / "laws.toml", "log": EXAMPLES / "logs" / "friday.csv",
        "scenario": EXAMPLES / "scenarios" / "harbour_outage.toml",
    }  # fmt: skip
    result = CliRunner().invoke(main, [argument.format(**names) for argument in arguments])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    assert result.exit_code == 2, result.output
    assert says in result.output
    assert "Traceback" not in result.output


def test_spreads_and_slow_failures_on_a_rig() -> None:
    rig = ic.Rig(seed=3)
    rig.workers(3)
    slow = rig.job(
        lambda: None, name="poll_buoy", takes={"from": "1s", "to": "2s"}, timeout="10s", retry=ic.Retry(attempts=2)
    )
    rig.faults.fail("poll_buoy", attempts=1, takes="30s")
    rig.faults.deliver_twice("poll_buoy", attempts=2)
    job = rig.enqueue(slow.call())
    rig.run_dry()
    assert [a.outcome for a in job.attempts] == ["timed-out", "done", "done"]
    assert job.attempts[0].ended_at == job.attempts[0].started_at + rig.history.timeline.at(10**10).__sub__(
        rig.history.timeline.at(0)
    )
    with pytest.raises(ic.DurationError, match="did you mean 'median'"):
        rig.job(lambda: None, name="x", takes={"medain": "1s", "p95": "2s"})


def test_the_history_of_a_scenario_is_the_same_in_another_process_and_hash_seed() -> None:
    import os
    import subprocess
    import sys

    code = (
        "import ironclock as ic, sys; from ironclock.foundation.example_files import find_ferry_line; find_ferry_line();"
        "print(ic.Scenario.load(sys.argv[1]).run().history.digest())"
    )
    path = str(EXAMPLES / "scenarios" / "harbour_outage.toml")
    digests = {
        subprocess.run([sys.executable, "-c", code, path], env={**os.environ, "PYTHONHASHSEED": seed}, capture_output=True,
                       text=True, check=True).stdout
        for seed in ("1", "2")
    }  # fmt: skip
    assert digests == {ic.Scenario.load(path).run().history.digest() + "\n"}
