"""`ironclock when` and `ironclock lint`, on the demo data."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ironclock.cli.main import main

CRONTAB = str(Path(__file__).parents[2] / "examples" / "schedules" / "tern_line.crontab")


def run(*arguments: str) -> tuple[int, str]:
    result = CliRunner().invoke(main, arguments, catch_exceptions=False)
    return result.exit_code, result.output


def test_when_marks_the_clock_change() -> None:
    code, text = run("when", "30 1 * * *", "--zone", "Atlantic/Faroe", "--from", "2031-03-29T12:00", "--count", "2")
    assert code == 0
    assert "every day at 01:30" in text
    assert "2031-03-30 02:00:00 +0100   2031-03-30 01:00:00Z   ~ the clock goes forward by 1h" in text
    assert "2031-03-30 02:30:00 +0100   2031-03-30 01:30:00Z   shifted" in text
    assert "2031-03-31 01:30:00 +0100" in text
    code, text = run("when", "30 1 * * *", "--zone", "Atlantic/Faroe", "--from", "2031-10-25T12:00", "--fold", "both")
    assert "time that occurs twice, the first" in text
    assert "time that occurs twice, the second" in text


def test_when_for_scripts_and_calendars(tmp_path: Path) -> None:
    ics, png = tmp_path / "c.ics", tmp_path / "y.png"
    more = ["--count", "3", "--json", "--ics", str(ics), "--png", str(png)]
    code, text = run("when", "0 6 * * 1#1", "--from", "2031-01-01", *more)
    assert code == 0
    found = [json.loads(line)["utc"] for line in text.splitlines()]
    assert found == ["2031-01-06 06:00:00Z", "2031-02-03 06:00:00Z", "2031-03-03 06:00:00Z"]
    calendar = ics.read_bytes().decode()
    assert calendar.count("BEGIN:VEVENT\r\n") == 3
    assert "DTSTART:20310203T060000Z\r\n" in calendar
    assert all(len(line.encode()) <= 75 for line in calendar.split("\r\n"))
    assert png.read_bytes().startswith(b"\x89PNG")


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["when", "61 * * * *"], "^^"), (["when", "0 0 30 2 *"], "can never fire"),
        (["when", "* * * * *", "--zone", "Mars"], "Mars"), (["when", "* * * * *", "--from", "soon"], "soon"),
        (["lint", "/nowhere"], "/nowhere"),
        (["when", "* * * * *", "--from", "2031-01-01", "--ics", "/nowhere/c.ics"], "cannot write"),
    ],
)  # fmt: skip
def test_wrong_commands(arguments: list[str], says: str) -> None:
    code, text = run(*arguments)
    assert code == 2
    assert says in text


def test_lint_on_the_ferry_lines_crontab() -> None:
    code, text = run("lint", CRONTAB, "--from", "2031-01-01")
    assert code == 1
    for line in [
        ":5: clock change: 01:30 is a time that Atlantic/Faroe skips on 2031-03-30; better: 30 2 * * *",
        ":5: clock change: 01:30 is a time that Atlantic/Faroe doubles on 2031-10-26; better: 30 2 * * *",
        ":7: step: */7 does not divide 60 minutes: the last wait is 4; better: */6 * * * *",
        ":8: days: day of the month and day of the week are both set",
        "better: two lines, 0 6 1 * * and 0 6 * * 1",
        ":9: never fires: '0 0 30 2 *'",
        ":14: crowd: 5 jobs start at 2031-01-01T00:00:00+00:00 (lines 10, 11, 12, 13, 14); better: 7 0 * * *",
        ":15: error: 61 is out of range in the minute field",
    ]:
        assert line in text
    assert "11 schedules, 7 warnings." in text


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("* 5 * * * close", "minutes: it fires 60 times, in each minute from 05:00 to 05:59; better: 0 5 * * *"),
        ("* 9-17 * * * look", ""),
        ("0 0 */2 * 1 load", "days: */2 in the day of the month begins with a star, so a day must match both fields"),
        ("0 0 1 * */3 load", "days: */3 in the day of the week begins with a star"),
        ("0 0 31 * * bill", "short months: day 31 is there in 7 of 12 months"),
        ("0 0 29 * * bill", "short months: day 29 is there in 12 of 12 months, and in February in leap years alone"),
        ("0 0 31 1,3 * bill", ""),
        ("0 4 * * * log $(date +%F)", "percent: an unescaped % ends the command"),
        ("0 4 * * * log $(date +\\%F)", ""),
    ],
)
def test_lint_of_what_is_seldom_meant(tmp_path: Path, line: str, says: str) -> None:
    table = tmp_path / "table"
    table.write_text(line + "\n")
    code, text = run("lint", str(table), "--from", "2031-01-01", "--zone", "UTC")
    assert code == (1 if says else 0), text
    assert says in text


def test_lint_of_system_crontabs_and_toml(tmp_path: Path) -> None:
    system = tmp_path / "etc-crontab"
    system.write_text("SHELL=/bin/sh\n17 * * * * purser count --share 5\\%\n@daily purser close\n")
    assert run("lint", str(system), "--system")[0] == 0
    toml = tmp_path / "pyproject.toml"
    close = 'close_till = {cron = "30 1 * * *", zone = "Atlantic/Faroe"}'
    toml.write_text(f'[tool.ironclock.schedules]\n{close}\npoll_buoy = "*/9 * * * *"\n')
    code, text = run("lint", str(toml), "--from", "2031-01-01")
    assert code == 1
    assert "pyproject.toml:2: clock change" in text
    assert "pyproject.toml:3: step" in text
    for broken, says in [("[other]\n", "schedules"), ("[schedules]\nx = 5\n", ":2: x is 5"), ("[", "is not TOML")]:
        toml.write_text(broken)
        code, text = run("lint", str(toml))
        assert code == 2
        assert says in text
    system.write_text("* * * *\n")
    code, text = run("lint", str(system))
    assert code == 2
    assert "etc-crontab:1: no command" in text


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.text(alphabet="*/0123456789 %\\\n#=@abTZ_CRONyd\t", max_size=60) | st.text(max_size=40))
def test_no_file_breaks_lint(tmp_path: Path, text: str) -> None:
    for name in ("crontab", "x.toml"):
        path = tmp_path / name
        path.write_text(text, encoding="utf-8")
        assert run("lint", str(path), "--from", "2031-01-01")[0] in (0, 1, 2)
