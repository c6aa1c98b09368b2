"""`ironclock rehearse`: what a practitioner types, and what comes back."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner, Result

from ironclock.cli.main import main

ROOT = Path(__file__).parents[2]
FRIDAY = "examples/rehearsal/friday.csv"
BRISK, PATIENT = "examples/rehearsal/brisk.toml", "examples/rehearsal/patient.toml"


def rehearse(*arguments: str) -> Result:
    return CliRunner().invoke(main, ["rehearse", *arguments], catch_exceptions=False)


def test_the_report_says_what_hurts_first() -> None:
    result = rehearse(FRIDAY, "--policies", BRISK, "--policies", PATIENT)
    assert result.exit_code == 0, result.output
    lines = result.stdout.splitlines()
    assert lines[0] == "friday.csv: 620 jobs, 687 attempts, 2031-03-28 05:30 to 2031-03-28 20:34"
    assert lines[1] == "✓ 100 % of the 620 jobs come back as they were."
    assert lines[2].startswith(
        "An outage, ConnectionError, from 14:08:10 to between 14:46:36 and 14:47:38: submit_manif"
    )
    assert "The times are those of jobs that are done: 7 jobs that are not done any more are not in them." in lines
    dead, earlier = (
        next(n for n, line in enumerate(lines) if words in line) for words in ("are dead, and", "done earlier")
    )
    assert dead < earlier
    assert lines[dead] == "7 jobs are dead, and were not: 7 submit_manifest"
    assert lines[dead + 1].startswith(
        "  j0356 submit_manifest: done in the log, dead in brisk; 7 attempts in the log, 8"
    )


def test_conditions_decide_the_exit_code() -> None:
    assert rehearse(FRIDAY, "--policies", PATIENT, "--fail-if", "dead+").exit_code == 0
    result = rehearse(FRIDAY, "--policies", BRISK, "--fail-if", "dead+", "--fail-if", "p95+10%")
    assert result.exit_code == 1
    assert result.stderr == "✗ brisk: dead is 7, and was 0 (dead+)\n"
    result = rehearse(FRIDAY, "--policies", BRISK, "--fail-if", "deed+")
    assert result.exit_code == 2
    assert "there is no figure 'deed'; did you mean 'dead'?" in result.stderr


def test_json_has_everything(tmp_path: Path) -> None:
    result = rehearse(FRIDAY, "--policies", BRISK, "--json", "--fail-if", "dead+", "--replications", "2")
    made = json.loads(result.stdout)
    assert result.exit_code == 1
    assert made["failing"] == ["brisk: dead is 7, and was 0 (dead+)"]
    (candidate,) = made["candidates"]
    assert candidate["figures"]["dead"] == [0, 7]
    assert candidate["by_job_type"]["submit_manifest"]["dead"] == [0, 7]
    assert len(candidate["changes"]["dead"]) == 7
    assert len(candidate["effects"]["lost"]) == 7


def test_pages_and_pictures_are_written(tmp_path: Path) -> None:
    pytest.importorskip("matplotlib")
    page, picture = tmp_path / "page.html", tmp_path / "jobs.png"
    result = rehearse(FRIDAY, "--policies", BRISK, "--html", str(page), "--png", str(picture), "--show", "0")
    assert result.exit_code == 0
    assert result.stdout.endswith(f"wrote {page}\nwrote {picture}\n")
    assert picture.read_bytes().startswith(b"\x89PNG")
    assert "<title>Rehearsal of friday.csv</title>" in page.read_text(encoding="utf-8")
    to_output = rehearse(FRIDAY, "--policies", BRISK, "--html", "-", "--show", "0")
    assert to_output.stdout.startswith("<!DOCTYPE html>")
    assert "7 jobs are dead" in to_output.stderr


def test_a_story_is_told() -> None:
    result = rehearse(FRIDAY, "--policies", BRISK, "--story", "j0356")
    assert result.stdout.startswith("the log: j0356\n  2031-03-28 (UTC)\n    14:08:10")
    assert "brisk: j0356" in result.stdout
    assert rehearse(FRIDAY, "--story", "x").exit_code == 2


def test_real_code_is_found_beside_the_log() -> None:
    result = rehearse(
        FRIDAY, "--with", "ferry_jobs", "--setup", "ferry_jobs:prepare", "--fail-at", "charge_fare=after charge",
        "--fail-if", "twice+", "--show", "2",
    )  # fmt: skip
    assert result.exit_code == 1
    assert "✗ 18 effects are done twice: charge of 'B-1016', charge of 'B-1038' and 16 more" in result.stdout
    assert result.stderr == "✗ ferry_jobs: twice is 18, and was 0 (twice+)\n"


def test_a_log_alone_says_how_faithful_it_is() -> None:
    result = rehearse("examples/logs/friday.csv", "--laws", "examples/logs/laws.toml")
    assert result.exit_code == 0
    assert "Nothing is changed. --policies, --workers or --with says what is to be another." in result.stdout


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        ([], "Give at least one LOG."),
        (["no.csv"], "no.csv"),
        ([FRIDAY, "--policies", "no.toml"], "cannot read no.toml"),
        (
            [FRIDAY, "--with", "no_module"],
            "no_module cannot be imported: ModuleNotFoundError: No module named 'no_module'",
        ),
        ([FRIDAY, "--setup", "no_colon"], "the function is 'no_colon'; give MODULE:FUNCTION"),
        ([FRIDAY, "--fail-at", "x"], "--fail-at is 'x'; give NAME=VALUE"),
        ([FRIDAY, "--jobs", "x"], "the log has no job 'x'"),
        ([FRIDAY, "--since", "2032-01-01T00:00"], "no job of the log is left to rehearse"),
        ([FRIDAY, "--png", "x.png"], "--png draws what differs; give --policies, --workers or --with."),
    ],
    ids=range(9),
)
def test_what_is_wrong_is_said(arguments: list[str], words: str) -> None:
    result = rehearse(*arguments)
    assert result.exit_code == 2
    assert words in result.stderr


def test_personal_data_can_be_hidden() -> None:
    shown = rehearse(FRIDAY, "--policies", BRISK, "--json")
    hidden = rehearse(FRIDAY, "--policies", BRISK, "--json", "--redact")
    assert "TL-556" in shown.stdout
    assert "TL-556" not in hidden.stdout
    assert len(json.loads(hidden.stdout)["candidates"][0]["effects"]["lost"]) == 7
