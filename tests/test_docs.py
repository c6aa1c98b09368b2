"""The README's and the tutorial's code, run as a reader would."""

from __future__ import annotations

import re
import shlex
import subprocess
import sys
import tomllib
from pathlib import Path
from typing import Any

import click
import pytest

import ironclock as ic
from ironclock.cli.main import main

ROOT = Path(__file__).parents[1]
CONFTEST = """
    import pytest
    from tern_line import db

    @pytest.fixture
    def ferry():
        yield db.open()
        db.get().close()
"""


def blocks(page: str, language: str) -> list[str]:
    return re.findall(
        rf"^```{language}\n(.*?)^```", (ROOT / page).read_text(encoding="utf-8"), re.MULTILINE | re.DOTALL
    )


def test_the_readmes_test_fails_as_it_says_and_passes_when_mended(pytester: pytest.Pytester) -> None:
    (code,) = blocks("README.md", "python")
    (output,) = blocks("README.md", "text")
    assert len([line for line in code.split("def test_")[1].splitlines() if line.strip()]) <= 15
    pytester.syspathinsert(ROOT / "examples")
    pytester.makeconftest(CONFTEST)
    pytester.makepyfile(test_manifest=code)
    result = pytester.runpytest()
    result.assert_outcomes(failed=1)
    printed = result.stdout.str().splitlines()
    for line in output.splitlines():
        assert line in printed
    pytester.makepyfile(test_manifest=code.replace("attempts=3", "attempts=6"))
    pytester.runpytest().assert_outcomes(passed=1)


def test_the_tutorial_typed_by_hand(pytester: pytest.Pytester, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/tutorial.md", "python")
    assert len(code) == 5
    names: dict[str, object] = {}
    for block in code:
        exec(compile(block, "docs/tutorial.md", "exec"), names)
    said = capsys.readouterr().out
    assert "21:20  booking 204 is released" in said
    assert "21:20  booking 205 is released" in said
    assert "dead letter" in said
    pytester.makepyfile(test_tutorial=code[0].split("rig =")[0] + code[4])
    pytester.runpytest().assert_outcomes(passed=1)


@pytest.mark.parametrize("number", range(5))
def test_the_page_on_workers(number: int, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/workers.md", "python")
    assert len(code) == 5
    exec(compile(code[number], "docs/workers.md", "exec"), {"__name__": "page"})
    said = capsys.readouterr().out
    if number == 0:
        assert said == blocks("docs/workers.md", "text")[0]
    for expected in re.findall(r"print\(.*\)\n?(?:  )?# (.*)", code[number]):
        assert expected.split(": ")[0] in said or expected in said


@pytest.mark.parametrize("number", range(6))
def test_the_page_on_the_probe(number: int, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/probe.md", "python")
    assert len(code) == 6
    exec(compile(code[number], "docs/probe.md", "exec"), {"__name__": "page"})
    said = capsys.readouterr().out
    if number == 0:
        assert said.startswith(blocks("docs/probe.md", "text")[0])
    for expected in re.findall(r"print\(.*\)  # (.*)", code[number]):
        assert said.strip() == expected


def test_the_page_on_databases(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    (code,) = blocks("docs/databases.md", "python")
    exec(compile(code, "docs/databases.md", "exec"), {"__name__": "page"})
    assert capsys.readouterr().out == blocks("docs/databases.md", "text")[0]


@pytest.mark.parametrize(
    ("page", "count"), [("scenario", 1), ("reports", 1), ("forecast", 1), ("howto", 3), ("trust", 3), ("contracts", 2)]
)
def test_code_on_the_other_pages(
    page: str, count: int, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "examples").symlink_to(ROOT / "examples")
    monkeypatch.chdir(tmp_path)
    code = blocks(f"docs/{page}.md", "python")
    assert len(code) == count
    for block in code:
        names: dict[str, Any] = {"__name__": "page"}
        exec(compile(block, f"docs/{page}.md", "exec"), names)
        for name, value in names.items():
            if name.startswith("test_") and not value.__code__.co_argcount:
                value()
        said = capsys.readouterr().out
        for expected in re.findall(r"print\(.*\)  # (.*)", block):
            assert expected in said


def test_the_page_on_suites(pytester: pytest.Pytester) -> None:
    (code,) = blocks("docs/suite.md", "python")
    pytester.makepyfile(test_letter=code)
    pytester.runpytest().assert_outcomes(passed=1)
    (toml,) = blocks("docs/suite.md", "toml")
    assert set(tomllib.loads(toml)["tool"]["ironclock"]) == {"laws"}
    finding, table = blocks("docs/suite.md", "text")
    (pytester.path / "examples").symlink_to(ROOT / "examples")
    pytester.makepyprojecttoml("")
    searched = pytester.runpytest_subprocess("examples/suite", "--ironclock-search", "-p", "no:cacheprovider")
    assert searched.ret == pytest.ExitCode.TESTS_FAILED
    assert finding in searched.stdout.str()
    assert "1 law broken" in searched.stdout.str()
    covered = pytester.runpytest_subprocess("examples/suite", "--ironclock-seams", "-p", "no:cacheprovider")
    assert table in covered.stdout.str()


def test_options_of_pytest_on_the_pages_exist(pytester: pytest.Pytester) -> None:
    known = set(re.findall(r"--ironclock-[a-z-]+", pytester.runpytest("--help").stdout.str()))
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        assert set(re.findall(r"--ironclock-[a-z-]+", page.read_text(encoding="utf-8"))) <= known, page


def test_scenarios_and_laws_on_the_pages_can_be_used() -> None:
    (scenario,) = blocks("docs/scenario.md", "toml")
    ran = ic.Scenario.loads(scenario).run()
    ran.check()
    assert len(ran.outcomes) == 2
    storm, settings = blocks("docs/forecast.md", "toml")
    arrival = '[[enqueue]]\njob = "submit_manifest"\n'
    assert ic.forecast(ic.Scenario.loads(storm + arrival), span="1h", replications=2).mean("jobs") == 1
    assert settings in (ROOT / "examples/scenarios/manifest_day.toml").read_text(encoding="utf-8")
    (laws,) = blocks("docs/reports.md", "toml")
    assert set(tomllib.loads(laws)) == {"zone", "columns", "outcomes", "laws"}


def test_commands_on_the_pages_exist() -> None:
    for page in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for line in re.findall(r"^ironclock (.*)$", page.read_text(encoding="utf-8"), re.MULTILINE):
            name, *arguments = shlex.split(line.split(" > ")[0], comments=True)
            command = main.get_command(click.Context(main), name)
            assert command is not None, line
            known = {option for parameter in command.params for option in parameter.opts}
            assert {a for a in arguments if a.startswith("--")} <= known, line


def test_the_reference_is_what_the_docstrings_say(tmp_path: Path) -> None:
    made = tmp_path / "reference.md"
    subprocess.run([sys.executable, ROOT / "docs/reference.py", made], check=True)
    assert made.read_text(encoding="utf-8") == (ROOT / "docs/reference.md").read_text(encoding="utf-8"), (
        "run: python docs/reference.py"
    )


@pytest.mark.parametrize(
    "page", ["README.md", "CONTRIBUTING.md", *(f"docs/{p.name}" for p in (ROOT / "docs").glob("*.md"))]
)
def test_links_lead_somewhere(page: str) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", (ROOT / page).read_text(encoding="utf-8")):
        assert ((ROOT / page).parent / target).exists(), target
