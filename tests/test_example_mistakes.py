"""The ten mistakes of the examples: each breaks its law, shows why, and its fix breaks none."""

from __future__ import annotations

import importlib
import re
import subprocess
import sys
from pathlib import Path

import pytest

from mistakes import NAMES
from mistakes.__main__ import broken

EXAMPLES = Path(__file__).parents[1] / "examples"


@pytest.mark.parametrize("name", NAMES)
def test_the_bug_breaks_a_law_and_the_fix_keeps_them_all(name: str) -> None:
    module = importlib.import_module(f"mistakes.{name}")
    said = broken(module, module.bug)
    assert said.startswith("a law is broken:\n  ")
    assert broken(module, module.fix) == ""
    if name != "poison_at_the_head":  # what never happened has no entries
        assert re.search(r"\n      2031-03-[23]\d \(.*\)\n        \d\d:\d\d:\d\d", said), "the excerpt that proves it"


def test_they_are_shown_by_one_command() -> None:
    done = subprocess.run(
        [sys.executable, "-m", "mistakes", "blanket_except"], cwd=EXAMPLES, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert "submit_manifest-1 is done without its office.request" in done.stdout
    assert "with the fix, every law holds" in done.stdout
