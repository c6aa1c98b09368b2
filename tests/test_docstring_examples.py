"""Every example in a docstring runs as it stands, in a rig in which what it names exists."""

from __future__ import annotations

import ast
import datetime as dt
import json
import re
import smtplib
import sqlite3
import textwrap
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest
import servers

import ironclock as ic
from tern_line import outside

ROOT = Path(__file__).parents[1]
PACKAGE = ROOT / "src" / "ironclock"
Names = dict[str, Any]


def examples() -> Iterator[tuple[str, str]]:
    """Yield each example of the package's docstrings, with the name of what it explains."""
    for path in sorted(PACKAGE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, (ast.ClassDef, ast.FunctionDef, ast.Module)):
                text = ast.get_docstring(node) or ""
                for found in re.finditer(r"Example::\n\n((?:    .*\n?|\n)+)", text):
                    name = getattr(node, "name", "ironclock")
                    yield name if name[0].isupper() else f"{path.stem}.{name}", textwrap.dedent(found[1])


EXAMPLES = list(examples())


class CardRefused(Exception):
    """An error on which the examples do not retry."""


def scene(rig: ic.Rig) -> Names:
    """Return the names that the examples use: functions, their job types, and what the tests import."""

    def submit_manifest(sailing: str = "TL-204") -> str:
        return sailing

    def charge_fare(booking: str = "TL-204", seats: int = 1) -> int:
        return seats

    functions = {name: _named(name) for name in ("close_till", "poll_buoy", "sync")}
    types = {name: rig.job(_named(name)) for name in ("weigh", "load")}
    return {
        **functions, **types, "submit_manifest": submit_manifest, "charge_fare": charge_fare, "CardRefused": CardRefused,
        "manifest": rig.job(submit_manifest), "till": rig.job(functions["close_till"]),
        "ic": ic, "rig": rig, "dt": dt, "time": time, "smtplib": smtplib, "json": json, "urllib": urllib,
    }  # fmt: skip


def _named(name: str) -> Callable[..., str]:
    def function(*args: object) -> str:
        return name

    function.__name__ = name
    return function


# --- what some examples need beyond the scene -----------------------------------------------------------


def _file(rig: ic.Rig, names: Names) -> None:
    rig.history.save("before.jsonl")


def _log(rig: ic.Rig, names: Names) -> None:
    Path("friday.csv").write_text("message_id,started,outcome\n1,2031-03-28T09:00,done\n")


def _checked_log(*_: Any) -> None:
    head = "job,started,ended,outcome,effect,key"
    Path("friday.csv").write_text(f"{head}\n1,2031-03-28T09:00,2031-03-28T09:01,done,charge,B-7\n")


def _table(rig: ic.Rig, names: Names) -> None:
    names["connection"] = sqlite3.connect(":memory:")
    names["connection"].execute("CREATE TABLE outbox (id INTEGER PRIMARY KEY, name, payload, run_at, state, attempts)")


def _app(rig: ic.Rig, names: Names) -> None:
    def app(environ: Any, start_response: Any) -> list[bytes]:
        start_response("200 OK", [])
        return [b""]

    names["app"] = app


def _charges(rig: ic.Rig, names: Names) -> None:
    """Three bookings are charged; the fourth fails for good."""
    charge = rig.job(names["charge_fare"])
    rig.faults.fail("charge_fare", between=("2031-03-03T09:30", "2031-03-03T09:45"))
    for minute in (10, 20, 29, 40):
        rig.enqueue(charge.call("TL-204"), at=f"2031-03-03T09:{minute}")
    rig.advance("50m")


def _charged(rig: ic.Rig, names: Names) -> None:
    rig.effect("charge", "tern_line.outside:CardGateway.charge", key="key")
    rig.job(names["charge_fare"])
    rig.enqueue(rig.job(lambda: outside.cards.charge("4000", 180, "TL-204"), name="charging").call())
    rig.advance("1s")


def _harbour(rig: ic.Rig, names: Names) -> None:
    rig.service(ic.services.HttpService("harbour"))
    rig.service(ic.services.Mail())
    rig.job(names["poll_buoy"])


def _poll(rig: ic.Rig, names: Names) -> None:
    """The buoy is polled every ten minutes; each run returns the window that it covers."""
    ten = dt.timedelta(minutes=10)
    poll = rig.job(lambda: (rig.now - ten, rig.now), name="poll_buoy")
    rig.schedule("poll", poll.call(), ic.every("10m"))
    rig.advance("1h")


def _letters(rig: ic.Rig, names: Names) -> None:
    mail = rig.service(ic.services.Mail())
    rig.enqueue(rig.job(lambda: [mail.send("ada@tern-line.test", n) for n in "12"], name="letters").call())
    rig.settle()


def _failed_once(rig: ic.Rig, names: Names) -> None:
    kind = rig.job(names["sync"], retry=ic.Retry(2, "10s"))
    rig.faults.fail("sync", attempts=1, error=ConnectionError)
    names["job"] = rig.enqueue(kind.call())
    rig.run_dry()


def _queue(rig: ic.Rig, names: Names) -> None:
    kind = rig.job(names["sync"], queue="harbour")
    for number in range(3):
        rig.enqueue(kind.call(number), after="1m")


def _httpx(rig: ic.Rig, names: Names) -> None:
    names["httpx"] = pytest.importorskip("httpx")


def _story(rig: ic.Rig, names: Names) -> None:
    (text,) = [code for name, code in EXAMPLES if name == "probe.probe"]
    exec(text, names)


def _booking(rig: ic.Rig, names: Names) -> None:
    names["book"] = lambda seats: rig.enqueue(names["charge_fare"], "TL-204", seats)


def _retried(rig: ic.Rig, names: Names) -> None:
    names["rig"].enqueue(names["submit_manifest"], "TL-204", after="1m")
    names["rig"].enqueue(names["submit_manifest"], "TL-206", after="2m")


def _steps(rig: ic.Rig, names: Names) -> None:
    names["seal_hold"] = lambda sailing: f"sealed {sailing}"


def _letters_table(rig: ic.Rig, names: Names) -> None:
    """An engine with a table of letters, and a worker that finds nothing in it."""
    import dataclasses

    import sqlalchemy

    from services.sqlite_queue.letters import Base, Letter

    engine = sqlalchemy.create_engine("sqlite:///letters.db")
    Base.metadata.create_all(engine)

    def work() -> None:
        while True:
            time.sleep(60)

    names.update(Letter=Letter, engine=engine, work=work, dataclasses=dataclasses)


def _rehearsed(rig: ic.Rig, names: Names) -> None:
    names["rehearsal"] = ic.rehearse("friday.csv", policies="patient.toml")


NEEDS: dict[str, Callable[[ic.Rig, Names], None]] = {
    "comparison.compare": _file, "log_histories.log_history": _log, "log_check.check_log": _checked_log, "Columns": _table, "Endpoint": _app,
    "JobSet": _charges, "rig.jobs": _charges, "DeadLetters": _charges, "Effects": _charged, "rig.check": _charged,
    "key_laws.once_per_key": _charged, "job_laws.nothing_lost": _harbour, "job_laws.no_overlap": _poll,
    "job_laws.finishes_within": _harbour, "job_laws.holds": _letters, "window_laws.covers": _poll,
    "Attempt": _failed_once, "QueueControl": _queue, "HttpService": _httpx, "Findings": _story,
    "rig.remember": _steps, "rig.database": _letters_table, "rig.outbox": _letters_table, "rig.run_loop": _letters_table,
    "worker_loops.stop": _letters_table, "worker_loops.kill": _letters_table, "worker_loops.start": _letters_table,
    "LoopGroup": _letters_table, "outbox.of": _letters_table, "Faults": _charged, "Transaction": _booking, "Fault": _retried,
    **dict.fromkeys(("rehearsal.story", "rehearsal.failing", "rehearsed.changes"), _rehearsed),
}  # fmt: skip
IN_REHEARSAL = ("Rehearsal", "rehearsal.rehearse", "rehearsal.story", "rehearsal.failing", "rehearsed.changes")
IN_SCENARIOS = (
    "Scenario",
    *(f"scenario.{name}" for name in ("load", "loads", "schema", "run", "check")),
    "forecast.mean",
    "forecast.quantile",
    "Forecast",
    "forecast_function.forecast",
    "advice.advise",
    "storms.storm_load",
)
OUTSIDE_A_RIG = (
    *IN_SCENARIOS,
    *IN_REHEARSAL,
    "Findings",
    "probe.probe",
    "Rig",
    "Policy",
    "ironclock",
    "rig.close",
    "findings.check",
)


def test_the_names_used_most_have_an_example() -> None:
    shown = {name.rpartition(".")[2] for name, _ in EXAMPLES}
    assert shown >= {
        "Rig", "job", "workers", "enqueue", "schedule", "tap", "effect", "service", "advance", "jobs", "check", "Job",
        "Attempt", "JobType", "Policy", "Retry", "exponential", "cron", "Columns", "Enqueue", "reading", "JobSet",
        "DeadLetters", "probe", "Scenario", "forecast", "compare", "once_per_key", "nothing_lost", "Faults",
    }  # fmt: skip


def parameters(name: str, code: str) -> Any:
    """An example as a test's parameters. Two of them take half a minute: they draw hundreds of days."""
    marks = [pytest.mark.exhaustive] if name in ("advice.advise", "forecast_function.forecast") else []
    return pytest.param(name, code, id=name, marks=marks)


@pytest.mark.parametrize(("name", "code"), [parameters(*example) for example in EXAMPLES])
def test_an_example_runs_as_it_stands(
    name: str, code: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, ferry: sqlite3.Connection
) -> None:
    folder = "scenarios" if name in IN_SCENARIOS else "rehearsal" if name in IN_REHEARSAL else None
    monkeypatch.chdir(tmp_path if folder is None else ROOT / "examples" / folder)
    rig = ic.Rig()
    names = scene(rig)
    run = compile(code, f"the example of {name}", "exec")
    if name in OUTSIDE_A_RIG:
        NEEDS.get(name, lambda rig, names: None)(rig, names)
        exec(run, names)
        return
    with ExitStack() as stack:
        if name == "KeyValueServer":
            if servers.redis_missing():
                pytest.skip(servers.redis_missing())
            names["port"] = stack.enter_context(servers.Redis()).port
        stack.enter_context(rig)
        NEEDS.get(name, lambda rig, names: None)(rig, names)
        exec(run, names)
        rig.advance("1h")
