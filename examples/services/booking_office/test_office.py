"""Runs the tests of the office in a process of their own, since Django is configured once in a process."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import postgres
import pytest

HERE = Path(__file__).parent


def test_the_booking_office() -> None:
    pytest.importorskip("django")
    if postgres.missing():
        pytest.skip(postgres.missing())
    files = [str(HERE / name) for name in ("run_ordinary.py", "run_office.py")]
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *files]
    done = subprocess.run(command, capture_output=True, text=True, timeout=120, cwd=HERE.parents[2])
    assert "19 passed" in done.stdout, done.stdout[-3000:]
