"""The guides, as a reader types them: each file of a guide is written into a folder, and pytest runs there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import postgres
import pytest
import servers

GUIDES = Path(__file__).parents[1] / "docs" / "guides"
FENCE = re.compile(r'^```(\w+) title="([^"]+)"\n(.*?)^```', re.MULTILINE | re.DOTALL)
NEEDS_DATABASE, NEEDS_KEY_VALUE = "DATABASE_URL", "KEY_VALUE_URL"
HAVE = sorted(page.stem for page in GUIDES.glob("*.md") if page.stem not in ("index", "fears"))


def files(text: str) -> list[tuple[str, str]]:
    """Return the name and the text of each block of code that has a title."""
    return [(name, code) for _, name, code in FENCE.findall(text)]


def run(folder: Path, environment: dict[str, str]) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-rA"]
    env = {name: value for name, value in os.environ.items() if not name.startswith("PYTEST")} | environment
    return subprocess.run(command, cwd=folder, env=env, capture_output=True, text=True, check=False)


@pytest.fixture
def needed(request: pytest.FixtureRequest) -> Iterator[dict[str, str]]:
    """Start the servers that a guide asks for; return their URLs."""
    text = (GUIDES / f"{request.getfixturevalue('guide')}.md").read_text(encoding="utf-8")
    with ExitStack() as stack:
        urls = {}
        if NEEDS_DATABASE in text:
            if postgres.missing():
                pytest.skip(postgres.missing())
            urls[NEEDS_DATABASE] = (
                f"postgresql://tern@127.0.0.1:{stack.enter_context(postgres.PostgreSQL()).port}/postgres"
            )
        if NEEDS_KEY_VALUE in text:
            if servers.redis_missing():
                pytest.skip(servers.redis_missing())
            urls[NEEDS_KEY_VALUE] = f"redis://127.0.0.1:{stack.enter_context(servers.Redis()).port}/0"
        yield urls


@pytest.mark.parametrize("guide", HAVE)
def test_a_guide_by_what_you_have(guide: str, needed: dict[str, str], tmp_path: Path) -> None:
    found = files((GUIDES / f"{guide}.md").read_text(encoding="utf-8"))
    first = found[0][1].strip().splitlines()
    assert len(first) <= 40, "a guide begins with a few lines of somebody's code"
    assert "ironclock" not in found[0][1], "that code does not know Iron Clock"
    assert found[-1][0].startswith("test_"), "it ends with a test"
    for name, code in found:
        (tmp_path / name).write_text(code, encoding="utf-8")
    done = run(tmp_path, needed)
    assert done.returncode == 0, done.stdout + done.stderr
    tests = sum(code.count("\ndef test_") + code.count("\nasync def test_") for _, code in found)
    assert f"{tests} passed" in done.stdout


FEARS = (GUIDES / "fears.md").read_text(encoding="utf-8")
PARTS = re.findall(r"^## (.*?)\n(.*?)(?=^## |\Z)", FEARS, re.MULTILINE | re.DOTALL)


def test_each_fear_has_a_symptom_a_test_and_a_fix(tmp_path: Path) -> None:
    """With the mistakes every test fails; without them every test passes."""
    wrong, mended = tmp_path / "wrong", tmp_path / "mended"
    names = []
    for title, text in PARTS[:-1]:
        assert text.lstrip().startswith("**Symptom.**"), title
        assert "**Fix.**" in text, title
        (code, bad), (test, of_test), (fixed, good) = files(text)
        assert (f"test_{code}" == test or test.startswith("test_"), fixed) == (True, f"{code}, mended"), title
        for folder, module in ((wrong, bad), (mended, good)):
            folder.mkdir(exist_ok=True)
            assert not (folder / code).exists(), f"{code} is used twice"
            (folder / code).write_text(module, encoding="utf-8")
            (folder / test).write_text(of_test, encoding="utf-8")
        names += re.findall(r"^def (test_\w+)", of_test, re.MULTILINE)
    assert len(names) >= 20
    failed = run(wrong, {})
    assert not re.findall(r"^PASSED .*", failed.stdout, re.MULTILINE), "each mistake breaks its test"
    assert sorted(re.findall(r"^FAILED \S+::(\w+)", failed.stdout, re.MULTILINE)) == sorted(names)
    passed = run(mended, {})
    assert sorted(re.findall(r"^PASSED \S+::(\w+)", passed.stdout, re.MULTILINE)) == sorted(names), passed.stdout
