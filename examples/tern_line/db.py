"""The database: one SQLite connection for the process, and the tables."""

from __future__ import annotations

import csv
import sqlite3
from pathlib import Path

SCHEMA = """
create table sailings (
    id text primary key, vessel text, departs text, seats integer, from_harbour text, to_harbour text
);
create table passengers (id integer primary key, name text, card text);
create table bookings (
    id integer primary key, sailing text references sailings, passenger integer references passengers,
    state text default 'held', made_at real, fare integer default 0, receipt text
);
create table waiting (id integer primary key, sailing text, passenger integer, asked_at real, offered_at real);
create table jobs (
    id integer primary key, name text, args text, queue text, due_at real,
    state text default 'waiting', tries integer default 0
);
"""

_connection: sqlite3.Connection | None = None


def open(path: str = ":memory:") -> sqlite3.Connection:
    """Open a new database with the timetable in it, and make it the process's own."""
    global _connection
    if _connection is not None:
        _connection.close()
    _connection = sqlite3.connect(path, check_same_thread=False)  # the test and the workers share it
    _connection.row_factory = sqlite3.Row
    with _connection:
        _connection.executescript(SCHEMA)
        for table in ("sailings", "passengers"):
            with (Path(__file__).parent / "data" / f"{table}.csv").open(newline="", encoding="utf-8") as file:
                rows = list(csv.DictReader(file))
            marks = ",".join(f":{name}" for name in rows[0])
            _connection.executemany(f"insert into {table} values ({marks})", rows)
    return _connection


def get() -> sqlite3.Connection:
    """The process's connection."""
    if _connection is None:
        raise RuntimeError("open the database first")
    return _connection
