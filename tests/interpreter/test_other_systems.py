"""Other systems than Linux: the suite with Linux's own names taken away, and a system that is no POSIX."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
SHORT = [
    "tests/interpreter/test_interrupts.py",
    "tests/interpreter/test_outside_calls.py",
    "-k",
    "not signals_reach and not asks_again",
]


def _suite(*what: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-x", "-p", "without_linux", "-p", "no:cacheprovider", *what],
        cwd=ROOT, env={**os.environ, "PYTHONPATH": str(ROOT / "tests")}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-1000:]


@pytest.mark.exhaustive
def test_a_part_of_the_suite_without_what_only_linux_has() -> None:
    _suite(*SHORT)


@pytest.mark.exhaustive
@pytest.mark.slow
def test_the_suite_of_the_interpreter_without_what_only_linux_has() -> None:
    _suite("tests/interpreter", "tests/capture", "--deselect", __file__)


NO_POSIX = """
import sys
class Missing:
    def find_spec(self, name, path=None, target=None):
        if name in ("fcntl", "termios", "resource", "pwd", "grp"):
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)
sys.meta_path.insert(0, Missing())
for name in ("fcntl", "termios", "resource", "pwd", "grp"):
    sys.modules.pop(name, None)
"""


def _on_no_posix(code: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-c", NO_POSIX + code], capture_output=True, text=True, timeout=60, check=False, cwd=ROOT
    )


def test_a_rig_on_a_system_that_is_no_posix_is_an_error_that_says_so() -> None:
    done = _on_no_posix("import ironclock as ic\nic.Rig()")
    assert done.returncode == 1
    last = done.stderr.splitlines()[-1]
    assert last.startswith("ImportError: a rig needs a POSIX system, such as Linux or macOS")
    assert "the commands when, lint, check and show work here" in last


@pytest.mark.parametrize(
    "command",
    [
        ["when", "*/5 * * * *"], ["lint", "examples/schedules/tern_line.crontab"], ["--help"],
        ["check", "--schema"], ["check", "examples/logs/friday.csv", "--laws", "examples/logs/laws.toml"],
    ],
    ids=" ".join,
)  # fmt: skip
def test_what_needs_no_rig_works_there(command: list[str]) -> None:
    done = _on_no_posix(f"sys.argv = ['ironclock', *{command!r}]\nfrom ironclock.cli.main import main\nmain()")
    assert done.returncode in (0, 1), done.stderr[-1500:]
    assert "Traceback" not in done.stderr
    assert done.stdout
