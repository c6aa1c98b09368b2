"""What the tests share: the ferry line with a fresh database."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator

import hypothesis
import pytest

import ironclock
from ironclock import rig as _rig  # noqa: F401
from tern_line import booking, db, jobs, outside, watch

# All of it is imported here: pytester forgets what its runs import, and a package must not be half new.
FERRY_LINE = (booking, db, jobs, outside, watch)
IRON_CLOCK = [getattr(ironclock, name) for name in ironclock.__all__]
pytest_plugins = ["pytester"]
hypothesis.settings.register_profile("suite", deadline=None)  # a busy machine is no failure
hypothesis.settings.load_profile("suite")
# Processes of pytest-xdist have it, and readline sets it behind Python's back: commands would wrap their lines.
os.environ["COLUMNS"] = ""
del os.environ["COLUMNS"]
# Without their bytecode, each of the processes that tests start would compile every module anew, for half a second.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--exhaustive", action="store_true", help="run the exhaustive tests in full, and no others")


def pytest_xdist_auto_num_workers(config: pytest.Config) -> int:
    """One process more than there are cores: many tests wait for servers and for other processes."""
    return (os.cpu_count() or 1) + 1


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Choose the tests: marked as exhaustive, only with the option; with a fuller form, in that form with the option."""
    full = config.getoption("--exhaustive")
    chosen, rest = [], []
    for item in items:
        marked = item.get_closest_marker("exhaustive") is not None
        has_full_form = "exhaustive" in getattr(item, "fixturenames", ())
        (chosen if (marked or has_full_form if full else not marked) else rest).append(item)
    config.hook.pytest_deselected(items=rest)
    items[:] = chosen


@pytest.fixture
def exhaustive(request: pytest.FixtureRequest) -> bool:
    """True if the test runs in its exhaustive form: with every case instead of a sample of them."""
    return bool(request.config.getoption("--exhaustive"))


@pytest.fixture
def ferry() -> Iterator[sqlite3.Connection]:
    """The ferry line's database, with the timetable in it."""
    connection = db.open()
    outside.reopen()
    yield connection
    connection.close()
