"""`ironclock run`, and what every command shares."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from xml.etree import ElementTree as Xml

import click
import pytest
from click.testing import CliRunner

from ironclock.cli.main import main

SCENARIO = Path(__file__).parents[2] / "examples" / "scenarios" / "harbour_outage.toml"
COMMANDS = ["check", "compare", "completion", "demo", "estimate", "export", "forecast", "init", "lint", "mistakes", "probe", "rehearse",
            "run", "show", "when"]  # fmt: skip


def run(*arguments: object) -> tuple[int, str]:
    result = CliRunner().invoke(main, ["run", *map(str, arguments)])
    assert result.exception is None or isinstance(result.exception, SystemExit), result.exception
    return result.exit_code, result.output


def test_outcomes_against_expectations(tmp_path: Path) -> None:
    code, said = run(
        SCENARIO, "--junit", tmp_path / "out.xml", "--save", tmp_path / "h.jsonl", "--html", tmp_path / "h.html"
    )
    assert code == 0
    assert said.count("✓") == 4
    suite = Xml.parse(tmp_path / "out.xml").getroot()
    assert (suite.get("tests"), suite.get("failures")) == ("5", "0"), (
        "the four expectations, and that the run comes to its end"
    )
    assert float(suite.get("time") or 0) > 0
    assert "the manifest reaches the harbour office" in (tmp_path / "h.html").read_text(encoding="utf-8")
    assert "✓ the manifest" not in run(SCENARIO, "--json")[1]


def test_a_miss_ends_in_exit_code_1_and_names_its_line(tmp_path: Path) -> None:
    text = SCENARIO.read_text(encoding="utf-8").replace('by = "2031-03-29T23:45"', 'by = "2031-03-29T23:05"')
    (tmp_path / "s.toml").write_text(text, encoding="utf-8")
    code, said = run(tmp_path / "s.toml", "--junit", tmp_path / "out.xml", "--jobs", 5)
    assert code == 1
    line = text[: text.index('[[expect]]\nwords = "the manifest')].count("\n") + 1
    place = re.escape(f"{tmp_path / 's.toml'}:{line}")
    assert re.search(rf"{place}: submit_manifest-\d+ ended at 2031-03-29T23:[23]", said)
    assert "Timeline" in said
    assert "more jobs" in said
    (failure,) = Xml.parse(tmp_path / "out.xml").getroot().iter("failure")
    assert "submit_manifest" in str(failure.get("message"))


def test_json_and_schema_for_scripts() -> None:
    code, said = run(SCENARIO, "--json", "--seed", "5")
    made = json.loads(said)
    assert made["met"] is (code == 0)
    assert len(made["outcomes"]) == 4
    code, said = run("--schema")
    assert json.loads(said)["title"].startswith("Iron Clock scenario")


@pytest.mark.parametrize(
    ("text", "says"),
    [("[jobs.a]\nqueu = 1\n", ":2:1: jobs.a has no key 'queu'"), ("]", "is not TOML"), ("[jobs.a]\ncall = 'nowhere:x'", "cannot be imported")],
)  # fmt: skip
def test_a_file_that_cannot_be_used_ends_in_exit_code_2(tmp_path: Path, text: str, says: str) -> None:
    (tmp_path / "s.toml").write_text(text)
    code, said = run(tmp_path / "s.toml")
    assert code == 2
    assert says in said
    assert run()[0] == 2
    assert "cannot read" in run(tmp_path / "none.toml")[1]


def test_watch_runs_again_after_a_change(tmp_path: Path) -> None:
    path = tmp_path / "s.toml"
    path.write_text('title = "first"\n[jobs.a]\n[[enqueue]]\njob = "a"\n')
    with open(tmp_path / "out.txt", "w") as out:
        process = subprocess.Popen(
            [sys.executable, "-m", "ironclock.cli.main", "run", str(path), "--watch"],
            stdout=out,
            stderr=subprocess.STDOUT,
        )
        try:
            wait_for(tmp_path / "out.txt", "first")
            path.write_text('title = "second"\n[jobs.a]\n')
            os.utime(path, (time.time() + 5, time.time() + 5))
            wait_for(tmp_path / "out.txt", "second")
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(10)
    assert "Traceback" not in (tmp_path / "out.txt").read_text()


def wait_for(path: Path, words: str) -> None:
    until = time.monotonic() + 30
    while words not in path.read_text():
        assert time.monotonic() < until, path.read_text()
        time.sleep(0.05)


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help(command: str) -> None:
    result = CliRunner().invoke(main, [command, "--help"])
    assert result.exit_code == 0
    assert len(result.output.splitlines()) > 5
    assert main.list_commands(click.Context(main)) == COMMANDS


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion(shell: str) -> None:
    result = CliRunner().invoke(main, ["completion", shell])
    assert result.exit_code == 0
    assert "_IRONCLOCK_COMPLETE" in result.output
    asked = {"_IRONCLOCK_COMPLETE": "bash_complete", "COMP_WORDS": "ironclock fore", "COMP_CWORD": "1"}
    done = subprocess.run(
        [Path(sys.executable).parent / "ironclock"], env={**os.environ, **asked}, capture_output=True, text=True
    )
    assert "forecast" in done.stdout


@pytest.mark.parametrize(
    ("expects", "says"),
    [
        ("", "The file expects nothing; add [[expect]]"),
        (
            '[[expect]]\nlaw = "attempts_at_most"\nwith = ["moor", 3]',
            ":8: it could not have failed: the law found nothing to judge",
        ),
        (
            '[[expect]]\njob = "weigh"\ncount = {at_least = 0}',
            ":8: it could not have failed: any number is as expected",
        ),
        (
            '[[expect]]\njob = "weigh"\nstate = "dead"\ncount = 0\nattempts = 2',
            "it could not have failed: no job was there",
        ),
        ('[[expect]]\njob = "weigh"\nstate = "done"\ncount = 1', "✓ weigh: 1 done"),
    ],
)
def test_what_expects_nothing_is_said_and_can_fail(tmp_path: Path, expects: str, says: str) -> None:
    text = f'[jobs.weigh]\ntakes = "1s"\n[jobs.moor]\ntakes = "1s"\n[[enqueue]]\njob = "weigh"\n\n{expects}\n'
    (tmp_path / "s.toml").write_text(text, encoding="utf-8")
    code, said = run(tmp_path / "s.toml")
    assert (code, says in said) == (0, True), said
    code, _ = run(tmp_path / "s.toml", "--strict")
    assert code == (0 if says.startswith("✓") else 1)
    assert run(SCENARIO, "--strict")[0] == 0
