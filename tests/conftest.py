"""What the tests share: the ferry line with a fresh database."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

import pytest

import ironclock
from ironclock import rig as _rig  # noqa: F401
from tern_line import booking, db, jobs, outside, watch

# All of it is imported here: pytester forgets what its runs import, and a package must not be half new.
FERRY_LINE = (booking, db, jobs, outside, watch)
IRON_CLOCK = [getattr(ironclock, name) for name in ironclock.__all__]
pytest_plugins = ["pytester"]


@pytest.fixture
def ferry() -> Iterator[sqlite3.Connection]:
    """The ferry line's database, with the timetable in it."""
    connection = db.open()
    outside.reopen()
    yield connection
    connection.close()
