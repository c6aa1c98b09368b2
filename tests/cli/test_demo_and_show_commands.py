"""The command line on the demo data."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest
from click.testing import CliRunner

import ironclock as ic
from ironclock.cli import demo_story as evening
from ironclock.cli.main import main


def run(*arguments: str) -> tuple[int, str]:
    result = CliRunner().invoke(main, arguments, catch_exceptions=False)
    return result.exit_code, result.output


def test_the_demo_runs_as_expected() -> None:
    code, text = run("demo")
    assert code == 0
    assert text.count("✓") == 4
    assert "✗" not in text
    assert "CardRefused" in text
    assert "\x1b" not in text, "plain when piped"
    assert max(map(len, text.splitlines())) <= 80


def test_the_evening_itself() -> None:
    rig = ic.Rig(start=evening.START, zone=evening.ZONE, seed=evening.SEED)
    said: list[str] = []
    seen = evening.evening(rig, said.append)
    assert all(held for _, held in evening.as_expected(rig, seen))
    assert seen["charges"] == [("card-1001", 180), ("card-slow", 180)]
    assert seen["manifests"] == {"TL-204": ["Asa Brimoy", "Barba Lomvigi"]}
    manifest = rig.jobs("submit_manifest").one()
    assert manifest.due_at.isoformat() > "2031-03-29T23:20"
    assert said


def test_a_broken_claim_ends_in_exit_code_1(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(evening, "as_expected", lambda rig, seen: [("pigs fly", False)])
    code, text = run("demo")
    assert code == 1
    assert "✗ pigs fly" in text


def test_show_renders_what_demo_saved(tmp_path: Path) -> None:
    path = tmp_path / "evening.jsonl"
    code, text = run("demo", "--save", str(path), "--story")
    assert code == 0
    code, shown = run("show", str(path))
    assert code == 0
    table = text[text.index("Jobs ─") : text.index("entries, digest")]
    assert table in shown
    assert re.search(r"submit_manifest-8 +·+█", shown)
    code, story = run("show", str(path), "--job", "submit_manifest-8")
    assert "harbour office is down" in story
    assert story.count("starts on") == 6
    code, story = run("show", str(path), "--story")
    assert story.count("\n") > 38


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["show", "/nowhere.jsonl"], "cannot read /nowhere.jsonl"), (["shwo"], "No such command"), (["demo", "--seed", "x"], "x"),
        (["demo", "--save", "/nowhere/at/all.jsonl"], "cannot write"),
    ],
)  # fmt: skip
def test_wrong_commands_end_in_exit_code_2(arguments: list[str], says: str) -> None:
    done = subprocess.run([sys.executable, "-m", "ironclock.cli.main", *arguments], capture_output=True, text=True)
    assert done.returncode == 2
    assert says in done.stderr
    assert "Traceback" not in done.stderr


def test_an_unknown_job_is_named(tmp_path: Path) -> None:
    path = tmp_path / "evening.jsonl"
    run("demo", "--save", str(path))
    code, text = run("show", str(path), "--job", "submit_manifest-9")
    assert code == 2
    assert "did you mean 'submit_manifest-8'" in text


def test_help_speaks_to_a_newcomer() -> None:
    for command in ([], ["demo"], ["show"]):
        code, text = run(*command, "--help")
        assert code == 0
        assert "Usage:" in text


def test_hostile_names_are_shown_not_obeyed(tmp_path: Path) -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda x: None, name="[red]\x1b[31m bad").call("[/red]\x1b[2J"))
        rig.settle()
    rig.history.save(tmp_path / "h.jsonl")
    code, text = run("show", str(tmp_path / "h.jsonl"))
    assert code == 0
    assert "\x1b" not in text
    assert "[red]" in text


def test_the_mistakes_are_shown_with_their_laws_and_their_fixes() -> None:
    code, text = run("mistakes")
    assert code == 0
    assert text.count("✗ with the bug a law is broken") == text.count("✓ with the fix every law holds") == 10
    assert "bank.post of 'B-7' is done 2 times" in text
    code, text = run("mistakes", "--list")
    assert (code, len(text.split())) == (0, 10)


def test_a_mistake_that_does_not_exist() -> None:
    result = CliRunner().invoke(main, ["mistakes", "charge_repeatd_on_retry"])
    assert result.exit_code == 2
    assert "did you mean 'charge_repeated_on_retry'" in result.output


def test_standard_input_and_output(tmp_path: Path) -> None:
    saved = tmp_path / "evening.jsonl"
    run("demo", "--save", str(saved))
    text = saved.read_bytes()

    def piped(*arguments: str) -> subprocess.CompletedProcess[bytes]:
        command = [sys.executable, "-m", "ironclock.cli.main", *arguments]
        return subprocess.run(command, input=text, capture_output=True, cwd=tmp_path, check=False)

    assert piped("export", "-", "-", "--as", "jsonl").stdout == text
    table = piped("export", str(saved), "-", "--as", "csv").stdout
    assert table.startswith(b"job,name,args,queue")
    assert piped("show", "-").stdout.decode() == piped("show", str(saved)).stdout.decode()
    assert not (tmp_path / "-").exists()
    refused = piped("export", "-", "-")
    assert refused.returncode == 2
    assert b"OUT is -, and standard output has no ending that names a format; give --as" in refused.stderr
