"""What the clocks of real servers cost, and worker loops over them: statements, commands, a week of polls."""

from __future__ import annotations

import contextlib
import datetime as dt
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from turns import in_turns, median, ratio, verdict

import ironclock as ic

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
import postgres
import servers

real, MONOTONIC = time.clock_gettime, time.CLOCK_MONOTONIC
STATEMENTS, WEEK = 400, 7 * 86_400


def lasts(work: Callable[[], Any]) -> float:
    """Return how many real seconds something takes: servers use other processors than this process does."""
    began = real(MONOTONIC)
    work()
    return real(MONOTONIC) - began


@contextlib.contextmanager
def a_database(server: postgres.PostgreSQL) -> Iterator[Any]:
    with server.connect() as connection:
        connection.autocommit = True
        connection.execute("drop table if exists log")
        connection.execute("create table log (id serial primary key, at timestamptz default now())")
        yield connection


def statements(server: postgres.PostgreSQL, follows: bool, moves: bool) -> Callable[[], float]:
    """Return a side: the seconds of inserts in a rig, whose clock stands still or moves before each."""

    def side() -> float:
        with a_database(server) as connection, ic.Rig() as rig:
            if follows:
                rig.database(connection)
            connection.execute("insert into log default values")

            def run() -> None:
                for _ in range(STATEMENTS):
                    if moves:
                        rig.advance("1s")
                    connection.execute("insert into log default values")

            took = lasts(run)
            rig.allow("real clocks")
            return took

    return side


def week(server: postgres.PostgreSQL, skips: bool, span: float, jobs: int) -> float:
    """Return the seconds that three workers and a reaper take for a span of simulated time."""
    import psycopg

    address = f"postgresql://tern@127.0.0.1:{server.port}/postgres"
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute("drop table if exists jobs")
        connection.execute(
            "create table jobs (id serial primary key, kind text, payload jsonb, state text default 'waiting', "
            "run_at timestamptz, worker text, claimed_at timestamptz)"
        )

        def handle(id: int) -> None:
            time.sleep(2)

        def work() -> None:
            with psycopg.connect(address, autocommit=True) as mine:
                while True:
                    row = mine.execute(
                        "update jobs set state = 'running', worker = %s, claimed_at = now() where id = (select id from "
                        "jobs where state = 'waiting' and run_at <= now() order by run_at for update skip locked "
                        "limit 1) returning id", (threading.current_thread().name,),
                    ).fetchone()  # fmt: skip
                    if row is None:
                        time.sleep(1)
                        continue
                    handle(row[0])
                    mine.execute("update jobs set state = 'done' where id = %s", row)

        def reap() -> None:
            with psycopg.connect(address, autocommit=True) as mine:
                while True:
                    mine.execute(
                        "update jobs set state = 'waiting' "
                        "where state = 'running' and claimed_at < now() - interval '1m'"
                    )
                    time.sleep(15)

        with ic.Rig() as rig:
            rig.database(address)
            columns = ic.Columns(
                name="kind", args=None, kwargs="payload", due="run_at", state="state", worker="worker",
                claimed="running", done="done",
            )  # fmt: skip
            rig.outbox(address, table="jobs", columns=columns, runs=False)
            rig.handler(handle, id="id")
            rig.run_loop(work, count=3, name="worker", skip_polls=skips)
            rig.run_loop(reap, skip_polls=skips)
            for number in range(jobs):
                due = rig.now + dt.timedelta(seconds=span * number / jobs + 0.25)
                connection.execute("insert into jobs (kind, payload, run_at) values ('handle', '{}', %s)", (due,))
            took = lasts(lambda: rig.advance(span))
            (left,) = connection.execute("select count(*) from jobs where state <> 'done'").fetchone() or (None,)
            assert left == 0
        return took


def commands(server: servers.Redis, follows: bool) -> Callable[[], float]:
    """Return a side: the seconds of commands of a job in a rig."""
    import redis

    def side() -> float:
        with ic.Rig() as rig, redis.Redis(port=server.port) as client:
            if follows:
                rig.database(f"redis://127.0.0.1:{server.port}/0")
            client.ping()
            took: list[float] = []

            def job() -> None:
                took.append(lasts(lambda: [client.incr("seats") for _ in range(STATEMENTS)]))

            rig.enqueue(job)
            rig.run_dry()
            return took[0]

    return side


def main() -> None:
    if not postgres.missing():
        with postgres.PostgreSQL() as server:
            sides = {
                "as it is": statements(server, False, False), "follows": statements(server, True, False),
                "as it is, moving": statements(server, False, True), "follows, moving": statements(server, True, True),
            }  # fmt: skip
            found = in_turns(sides, 5)
            still = ratio(found, "follows", "as it is")
            moving = ratio(found, "follows, moving", "as it is, moving")
            each = median(found["as it is"]) / STATEMENTS * 1e6
            print(f"PostgreSQL, {STATEMENTS} inserts of {each:.0f} us each in a rig")
            verdict(f"with its clock, which stands still: {still:.2f} times (at most 1.2)", still <= 1.2)
            verdict(f"with its clock, which moves before each: {moving:.2f} times (at most 2)", moving <= 2)
            whole, hour = week(server, True, WEEK, 50), week(server, False, 600, 2)
            polls = 3 * WEEK
            print(f"three workers and a reaper: ten minutes of all polls take {hour:.2f} s")
            verdict(f"a week with 50 jobs, {polls:,} polls skipped: {whole:.2f} s (at most 5)", whole <= 5)
            print(f"   a week of all polls would take {hour * WEEK / 600 / whole:,.0f} times as long")
    if not servers.redis_missing():
        with servers.Redis() as kept:
            found = in_turns({"direct": commands(kept, False), "proxy": commands(kept, True)}, 5)
            share = ratio(found, "proxy", "direct")
            each = median(found["direct"]) / STATEMENTS * 1e6
            print(f"key-value server, {STATEMENTS} commands of {each:.0f} us each in a rig")
            print(f"   through the proxy: {share:.1f} times")


if __name__ == "__main__":
    main()
