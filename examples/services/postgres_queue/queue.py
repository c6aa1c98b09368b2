"""Jobs in a table of PostgreSQL: claimed with SKIP LOCKED, retried with backoff, taken back from dead workers."""

from __future__ import annotations

import json
import signal
import threading
import time
from collections.abc import Callable
from typing import Any

import psycopg

SCHEMA = """
create table if not exists jobs (
    id bigserial primary key, kind text not null, payload jsonb not null default '{}',
    state text not null default 'waiting', run_at timestamptz not null default now(), attempts int not null default 0,
    claimed_by text, claimed_at timestamptz, last_error text
);
create index if not exists jobs_due on jobs (run_at) where state = 'waiting';
"""
MOST_ATTEMPTS = 4
HANDLERS: dict[str, Callable[..., Any]] = {}

_CLAIM = """
update jobs set state = 'running', attempts = attempts + 1, claimed_by = %(worker)s, claimed_at = now()
where id = (select id from jobs where state = 'waiting' and run_at <= now()
            order by run_at, id for update skip locked limit 1)
returning id, kind, payload, attempts
"""


def handler(function: Callable[..., Any]) -> Callable[..., Any]:
    """Let a function handle the jobs of its name."""
    HANDLERS[function.__name__] = function
    return function


def put(connection: psycopg.Connection, kind: str, wait: float = 0, **payload: Any) -> int:
    """Add a job, in the transaction that is open; it is due after `wait` seconds."""
    row = connection.execute(
        "insert into jobs (kind, payload, run_at) values (%s, %s, now() + make_interval(secs => %s)) returning id",
        (kind, json.dumps(payload), wait),
    ).fetchone()
    assert row is not None
    return int(row[0])


def handle(row_id: int, kind: str, payload: dict[str, Any]) -> None:
    """Do one job."""
    HANDLERS[kind](**payload)


def work_once(connection: psycopg.Connection) -> bool:
    """Do one job that is due; return False if there is none."""
    row = connection.execute(_CLAIM, {"worker": threading.current_thread().name}).fetchone()
    if row is None:
        return False
    number, kind, payload, attempts = row
    try:
        handle(number, kind, payload)
    except Exception as error:
        if attempts >= MOST_ATTEMPTS:
            change = "update jobs set state = 'dead', last_error = %s where id = %s"
            connection.execute(change, (str(error), number))
        else:
            change = (
                "update jobs set state = 'waiting', last_error = %s, run_at = now() + make_interval(secs => %s) "
                "where id = %s"
            )
            connection.execute(change, (str(error), 10 * 2**attempts, number))
    else:
        connection.execute("update jobs set state = 'done', last_error = null where id = %s", (number,))
    return True


def work(address: str) -> None:
    """Work until SIGTERM asks for the end; the job that runs is finished."""
    stopping = threading.Event()
    signal.signal(signal.SIGTERM, lambda number, frame: stopping.set())
    with psycopg.connect(address, autocommit=True) as connection:
        while not stopping.is_set():
            if not work_once(connection):
                time.sleep(1)


def reap(address: str) -> None:
    """Give the jobs of dead workers back, for ever."""
    with psycopg.connect(address, autocommit=True) as connection:
        while True:
            connection.execute(
                "update jobs set state = 'waiting', claimed_by = null "
                "where state = 'running' and claimed_at < now() - interval '2 minutes'"
            )
            time.sleep(30)
