"""What the tests share: the ferry line with a fresh database."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator

import pytest

from tern_line import db, outside

pytest_plugins = ["pytester"]


@pytest.fixture
def ferry() -> Iterator[sqlite3.Connection]:
    """The ferry line's database, with the timetable in it."""
    connection = db.open()
    outside.reopen()
    yield connection
    connection.close()
