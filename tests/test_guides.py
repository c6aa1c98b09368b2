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
