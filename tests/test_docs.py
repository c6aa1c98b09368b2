"""The README's and the tutorial's code, run as a reader would."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

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


@pytest.mark.parametrize("number", range(4))
def test_the_page_on_the_probe(number: int, capsys: pytest.CaptureFixture[str]) -> None:
    code = blocks("docs/probe.md", "python")
    assert len(code) == 4
    exec(compile(code[number], "docs/probe.md", "exec"), {"__name__": "page"})
    said = capsys.readouterr().out
    if number == 0:
        assert said.startswith(blocks("docs/probe.md", "text")[0])
    for expected in re.findall(r"print\(.*\)  # (.*)", code[number]):
        assert said.strip() == expected


@pytest.mark.parametrize(
    "page", ["README.md", "CONTRIBUTING.md", *(f"docs/{p.name}" for p in (ROOT / "docs").glob("*.md"))]
)
def test_links_lead_somewhere(page: str) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", (ROOT / page).read_text(encoding="utf-8")):
        assert ((ROOT / page).parent / target).exists(), target
