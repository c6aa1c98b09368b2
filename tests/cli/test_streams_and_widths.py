"""Every command on standard input and output, on narrow and wide screens, and with an error at the key."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree as Xml

import pytest

import ironclock as ic

ROOT = Path(__file__).parents[2]
SCENARIO = ROOT / "examples/scenarios/harbour_outage.toml"
DAY = ROOT / "examples/scenarios/manifest_day.toml"
LOG, LAWS = ROOT / "examples/logs/friday.csv", ROOT / "examples/logs/laws.toml"


def run(*arguments: object, given: bytes = b"", columns: int | None = None) -> tuple[int, bytes, str]:
    """Run a command in a process of its own, so that its real streams are used."""
    env = {**os.environ, "NO_COLOR": "1", **({} if columns is None else {"COLUMNS": str(columns)})}
    done = subprocess.run(
        [sys.executable, "-m", "ironclock.cli.main", *map(str, arguments)],
        input=given,
        capture_output=True,
        env=env,
        check=False,
    )
    return done.returncode, done.stdout, done.stderr.decode()


@pytest.fixture(scope="module")
def evening(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("streams") / "evening.jsonl"
    assert run("demo", "--save", place)[0] == 0
    return place


def test_standard_input(evening: Path) -> None:
    code, out, told = run("run", "-", given=DAY.read_bytes(), columns=200)
    assert (code, told) == (0, "")
    assert b"Manifests all day" in out
    code, out, _ = run("forecast", "-", "--span", "13h", "--replications", "2", "--json", given=DAY.read_bytes())
    assert json.loads(out)["file"] == "standard input"
    for arguments in (
        ["check", "-", "--laws", LAWS],
        ["show", "-", "--columns", LAWS],
        ["estimate", "-", "--columns", LAWS],
    ):
        code, out, told = run(*arguments, given=LOG.read_bytes())
        assert code in (0, 1), told
        assert b"charge" in out or b"j0001" in out
    code, out, told = run("show", "-", given=evening.read_bytes())
    assert code == 0
    assert b"submit_manifest-8" in out
    code, out, told = run("compare", evening, "-", given=evening.read_bytes())
    assert code == 0
    code, out, told = run("lint", "-", "--from", "2031-01-01", "--zone", "Atlantic/Faroe", given=b"30 1 * * * tally\n")
    assert code == 1
    assert out.startswith(b"standard input:1: clock change")


@pytest.mark.parametrize(
    ("arguments", "given"),
    [(["run", "-"], b"[jobs.x]\nqueu = 1\n"), (["check", "-", "--laws", str(LAWS)], b"a,b\n1,2\n")],
)
def test_errors_call_standard_input_so(arguments: list[str], given: bytes) -> None:
    code, _, told = run(*arguments, given=given)
    assert code == 2
    assert told.startswith("Error: standard input:")
    assert "/tmp/" not in told.replace(str(LAWS), "")


def test_standard_output(evening: Path) -> None:
    """What goes to standard output is the file alone; the report goes to standard error."""
    code, out, told = run("run", SCENARIO, "--junit", "-")
    assert Xml.fromstring(out).get("tests") == "5"
    assert "the manifest reaches the harbour office" in told
    code, out, told = run("run", SCENARIO, "--save", "-", "--json")
    assert len(out.splitlines()) > 100
    assert json.loads(out.splitlines()[0])["format"] == "ironclock-history"
    assert json.loads(told)["met"]
    for arguments in (["show", evening, "--html", "-"], ["check", LOG, "--laws", LAWS, "--html", "-"]):
        code, out, told = run(*arguments)
        assert out.startswith(b"<!DOCTYPE html>"), told
        assert out.rstrip().endswith(b"</html>")
    code, out, told = run("estimate", LOG, "--columns", LAWS, "--out", "-")
    assert (out[:11], told) == (b"# Estimated", "")
    code, out, _ = run("export", evening, "-", "--as", "parquet")
    assert out[:4] == b"PAR1"
    code, out, told = run("when", "30 1 * * *", "--from", "2031-03-28", "--ics", "-")
    assert out.startswith(b"BEGIN:VCALENDAR")
    assert "every day at 01:30" in told
    code, out, told = run("forecast", DAY, "--span", "13h", "--replications", "2", "--png", "-")
    assert out[:4] == b"\x89PNG"
    code, out, told = run("run", SCENARIO, "--junit", "-", "--html", "-")
    assert (code, out) == (2, b"")
    assert "2 outputs are -, and there is one standard output" in told
    assert not (Path.cwd() / "-").exists()


@pytest.mark.parametrize("width", [40, pytest.param(240, marks=pytest.mark.exhaustive)])
def test_output_fits_the_screen(evening: Path, width: int) -> None:
    commands: list[list[object]] = [
        ["run", SCENARIO], ["run", SCENARIO, "--jobs", "5"], ["check", LOG, "--laws", LAWS], ["show", evening],
        ["show", evening, "--job", "submit_manifest-8"], ["show", evening, "--story"], ["compare", evening, LOG],
        ["demo"], ["when", "30 1 * * *", "--from", "2031-03-28"], ["lint", ROOT / "examples/schedules/tern_line.crontab", "--from", "2031-01-01"],
        ["forecast", DAY, "--span", "13h", "--replications", "2"],
    ]  # fmt: skip
    longest = 0
    for command in commands:
        code, out, told = run(*command, columns=width)
        assert code in (0, 1), told
        assert "\x1b" not in out.decode()
        lines = out.decode().splitlines()
        # A path, or another word without a space, stays whole: it can be longer than the screen.
        assert all(len(line) <= width or len(max(line.split(), key=len)) > width - 8 for line in lines), command
        longest = max(longest, *map(len, lines))
    assert longest >= width, "all of the screen is used"


def test_a_forecast_on_a_narrow_screen_shows_whole_numbers() -> None:
    _, out, _ = run("forecast", DAY, "--span", "13h", "--replications", "2", columns=40)
    assert "…" not in out.decode()
    assert re.search(r"^ +mean +95 %$", out.decode(), re.MULTILINE)


@pytest.mark.parametrize(
    ("text", "place", "says"),
    [
        ('[jobs.a]\ntimeout = "5s"\nretry = { attempts = 3, wait = { first = "1m", cap = "10s" } }', "3:48", "cap is '10s'"),
        ('[jobs.a]\npriority = 1\nexpires = "0s"', "3:1", "expires is 0"),
        ('[jobs.a]\n[[enqueue]]\njob = "a"\nafter = "5m"\nat = "2031-03-29T21:00"', "4:1", "after and at are given"),
        ('start = "2031-03-29T21:00"\n[jobs.a]\n[[enqueue]]\njob = "a"\nat = "2031-03-29T20:00"', "5:1", "at is 2031-03-29T20:00"),
        ('[jobs.a]\n[schedules.s]\njob = "a"\ncron = "61 * * * *"', "4:1", "minute"),
        ('[jobs.a]\n[schedules.s]\njob = "a"\nevery = "5m"\nzone = "UTC"', "5:1", "zone is given with every"),
        ('[jobs.a]\ncalls = "office"', "2:1", "the file has no service 'office'"),
        ('[services.o]\ncapacity = 2\nbreaker = { of = 5, open = "0s" }\n[jobs.a]\ncalls = "o"', "3:21", "open is 0"),
    ],
)  # fmt: skip
def test_an_error_points_at_the_key(text: str, place: str, says: str) -> None:
    with pytest.raises(ic.ScenarioError) as found:
        ic.Scenario.loads(text, "s.toml").run()
    assert str(found.value).startswith(f"s.toml:{place}: ")
    assert says in str(found.value)


def piped(command: str, **more: str) -> tuple[int, str, str]:
    program = f"{sys.executable} -m ironclock.cli.main"
    done = subprocess.run(
        ["bash", "-c", f"set -o pipefail; {command.replace('ironclock', program)}"],
        capture_output=True,
        env={**os.environ, "NO_COLOR": "1", **more},
        check=False,
    )
    return done.returncode, done.stdout.decode("latin-1"), done.stderr.decode("latin-1")


@pytest.mark.parametrize("encoding", ["cp1252", "ascii", "latin-1"])
def test_what_an_encoding_does_not_have_is_replaced(encoding: str) -> None:
    code, out, told = piped("ironclock demo", PYTHONIOENCODING=encoding)
    assert (code, told) == (0, "")
    assert "the manifest reached the harbour office" in out


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="this system has no /dev/full")
def test_output_that_cannot_be_written_is_no_broken_law() -> None:
    code, _, told = piped("ironclock demo > /dev/full")
    assert code == 3
    assert told == "Error: cannot use the output: No space left on device\n"
    assert piped("ironclock when '* * * * *' --count 5000 | head -1") == (3, "* * * * *\n", "")
    assert piped("ironclock demo | head -1")[2] == ""


def test_a_mistake_of_the_program_itself_has_a_code_of_its_own(monkeypatch: pytest.MonkeyPatch) -> None:
    from click.testing import CliRunner

    from ironclock.cli import mistakes_command
    from ironclock.cli.main import main

    def fails(*_: object, **__: object) -> None:
        raise ZeroDivisionError("a slip")

    monkeypatch.setattr(mistakes_command.mistakes, "callback", fails)
    result = CliRunner().invoke(main, ["mistakes"])
    assert result.exit_code == 3
    assert "this is a mistake of ironclock itself: ZeroDivisionError: a slip" in result.output
    assert "3: the program itself has failed" in " ".join(CliRunner().invoke(main, ["--help"]).output.split())
