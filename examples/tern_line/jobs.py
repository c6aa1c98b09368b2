"""Tern Line's own job table: `put` adds a row to it, `work_off` runs what is due."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from typing import Any

from . import db

HANDLERS: dict[str, Callable[..., Any]] = {}


def handler(function: Callable[..., Any]) -> Callable[..., Any]:
    """Register a function as the handler of the jobs that bear its name."""
    HANDLERS[function.__name__] = function
    return function


def put(job: Callable[..., Any], *args: Any, wait: float = 0, to: str = "desk") -> int:
    """Add a job to the table, in the transaction that is open; it is due after `wait` seconds."""
    row = db.get().execute(
        "insert into jobs (name, args, queue, due_at) values (?, ?, ?, ?)",
        (job.__name__, json.dumps(args), to, time.time() + wait),
    )
    assert row.lastrowid is not None
    return row.lastrowid


def work_off() -> int:
    """Run every row that is due, and return how many were."""
    connection = db.get()
    due = connection.execute(
        "select * from jobs where state = 'waiting' and due_at <= ? order by due_at, id", (time.time(),)
    ).fetchall()
    for row in due:
        HANDLERS[row["name"]](*json.loads(row["args"]))
        with connection:
            connection.execute("update jobs set state = 'done' where id = ?", (row["id"],))
    return len(due)
