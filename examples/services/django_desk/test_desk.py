"""Runs the tests of the Django app in a process of their own."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest


def test_the_django_desk() -> None:
    pytest.importorskip("django")
    command = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-p",
        "no:cacheprovider",
        str(Path(__file__).with_name("run_tests.py")),
    ]
    done = subprocess.run(command, capture_output=True, text=True, timeout=120, cwd=Path(__file__).parents[3])
    assert "3 passed" in done.stdout, done.stdout[-3000:]
