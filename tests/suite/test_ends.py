"""The ends of runs: what is gone, stuck or another number, and what is as it was up to ids and times."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import postgres
import pytest
import servers

from ironclock.interpreter.databases.contents import File, Item
from ironclock.search.end_states import Passages, compared, end_state, is_alike

ROOT = Path(__file__).parents[2]
NOW_NS = 1_930_294_800_000_000_000  # 2031-03-03T09:00
SOON = "2031-03-03T09:10:00+00:00"


def end(*rows: Any, place: str = "table jobs", **more: list[Any]) -> Any:
    contents = {place: [Item(row, frozenset({"id"})) for row in rows]}
    contents.update({name.replace("_", " ", 1): [Item(row) for row in found] for name, found in more.items()})
    return end_state({name: items for name, items in contents.items() if items}, [], NOW_NS)


def row(kind: str = "letter", state: str = "done", **more: Any) -> dict[str, Any]:
    return {"id": 7, "kind": kind, "state": state, **more}


PLAIN = end(row(), row("charge"))


def laws(found: Any, *passed: Any, plain: Any = PLAIN, alike: bool = False) -> list[str]:
    passages = Passages()
    for state in (*passed, plain):
        passages.note(state)
    return [one.law for one in compared(plain, passages, found, alike)]


@pytest.mark.parametrize(
    "same",
    [
        row(id=8),
        row(tries=3, worker="w2", error="down", beat_at="2031-03-03T08:00:00"),
        row(made_at="2031-03-03 08:59:01.5+00"),
    ],
)
def test_ids_times_and_what_trying_leaves_make_no_difference(same: dict[str, Any]) -> None:
    before = row(tries=1, worker="w1", error="", beat_at=None) if "tries" in same else row()
    if "made_at" in same:
        before = row(made_at="2031-03-03 08:00:00+00")
    assert is_alike(end(before, row("charge")), end(same, row("charge")))


def test_ids_and_times_in_text_make_no_difference_either() -> None:
    one = {"token": "x", "about": "ada", "sent": 1_930_294_700.5, "key": "0123456789abcdef0123"}
    other = {"token": "y", "about": "ada", "sent": 1_930_294_800, "key": "ffff456789abcdef0123"}
    assert is_alike(end(key_sent=[one]), end(key_sent=[other]))
    assert not is_alike(end(key_sent=[one]), end(key_sent=[{**one, "about": "bo"}]))


def test_what_is_gone_without_a_word() -> None:
    assert laws(end(row("charge"))) == ["nothing_vanishes"]
    assert laws(end(row("charge"), row(state="dead"))) == [], "a dead letter tells of it"
    assert laws(end(row("charge"), key_dead=[{"kind": "letter"}])) == []
    assert laws(end(row("charge"), row(state="dead")), alike=True) == ["ends_alike"]
    assert laws(PLAIN) == laws(PLAIN, alike=True) == []


def test_what_stays_where_it_only_passes() -> None:
    running = row(state="running")
    on_the_way = end(running, row("charge"))
    assert laws(on_the_way, on_the_way) == ["nothing_stuck"]
    assert laws(on_the_way) == [], "nobody knows that it passes there"
    lock = [{"value": "*"}]
    assert laws(end(row(), row("charge"), key_lock=lock), end(row(), key_lock=lock)) == ["nothing_stuck"]


def test_what_says_itself_when_it_goes_on_is_not_stuck() -> None:
    waiting = row(state="queued", run_at=SOON)
    was = end(row("charge"), row(state="queued", run_at="2031-03-03T08:00:00+00:00"))
    assert laws(end(row("charge"), waiting), was) == []
    assert laws(end(row("charge"), row(state="queued", run_at="2031-03-03T08:00:00+00:00")), was) == ["nothing_stuck"]
    late = {"member": {"kind": "letter"}, "score": NOW_NS / 1e9 + 60}
    assert laws(end(row("charge"), key_due=[late]), end(key_due=[late])) == []


def test_a_number_that_is_another_one() -> None:
    sold = end({"id": 1, "code": "TL-204", "sold": 3})
    less = end({"id": 1, "code": "TL-204", "sold": 2})
    assert laws(less, plain=sold) == ["same_numbers"]
    assert laws(end({"id": 1, "code": "TL-206", "sold": 2}), plain=sold) == []
    assert laws(end(key_sold=[2]), plain=end(key_sold=[3])) == ["same_numbers"]
    counted = end({"id": 1, "code": "TL-204", "polls": 2}), end(row(), row("charge"), key_stats=[2])
    nine = end({"id": 1, "code": "TL-204", "polls": 9})
    assert laws(end({"id": 1, "code": "TL-204", "polls": 2}), *counted, plain=nine) == []
    calls = end({"id": 1, "code": "TL-204", "polls": 3})
    assert laws(end({"id": 1, "code": "TL-204", "polls": 4}), plain=calls) == [], "it counts what is tried"


def test_another_thing_that_was_done_tells_of_what_was_not() -> None:
    def done(*keys: str) -> Any:
        effects = [SimpleNamespace(name="mail.send", key=key, outcome="done", data={}) for key in keys]
        return end_state({"table jobs": [Item(row())]}, effects, NOW_NS)  # type: ignore[arg-type]

    assert laws(done("ada"), plain=done("ada", "bo")) == ["nothing_vanishes"]
    assert laws(done("ada", "desk: bo has no letter"), plain=done("ada", "bo")) == []


def test_what_is_in_a_file_of_sqlite(tmp_path: Path) -> None:
    import sqlite3

    path = tmp_path / "desk.db"
    own = sqlite3.connect(path)
    own.execute("create table bookings (id integer primary key, passenger text)")
    own.execute("create table jobs (id integer primary key, booking integer references bookings, state text)")
    own.execute("insert into bookings values (4, 'ada')")
    own.execute("insert into jobs values (9, 4, 'done')")
    own.commit()
    found = File(str(path)).read()
    assert found["table jobs"] == [Item({"id": 9, "booking": 4, "state": "done"}, frozenset({"id", "booking"}))]
    own.execute("begin exclusive")
    with pytest.raises(sqlite3.OperationalError):
        File(str(path)).read()
    own.close()


# --- real services ------------------------------------------------------------------------------------

WATCH = "examples/services/crossing_watch/test_watch.py::test_each_booking_gets_its_money_back"
OFFICE = "examples/services/booking_office/run_office.py::test_each_booking_is_paid_and_told"


def searched(test: str, planted: str, *options: str) -> str:
    environment = {**os.environ, "PLANTED": planted}
    command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "no:randomly", test, *options]
    done = subprocess.run(command, capture_output=True, text=True, timeout=200, cwd=ROOT, env=environment)
    return done.stdout


def must_run(test: str) -> None:
    if test is OFFICE:
        pytest.importorskip("django")
    why_not = postgres.missing() if test is OFFICE else servers.redis_missing()
    if why_not:
        pytest.skip(why_not)


@pytest.mark.parametrize(
    ("test", "planted", "law"),
    [
        pytest.param(WATCH, "lock-for-ever", "nothing_stuck", marks=pytest.mark.exhaustive),
        pytest.param(WATCH, "early-ack", "nothing_vanishes", marks=pytest.mark.exhaustive),
        pytest.param(WATCH, "none", "", marks=pytest.mark.exhaustive),
        pytest.param(OFFICE, "no-first-beat", "nothing_stuck", marks=pytest.mark.exhaustive),
        pytest.param(OFFICE, "none", "", marks=pytest.mark.exhaustive),
    ],
)
def test_a_planted_mistake_is_found_from_a_test_that_thinks_of_no_failure(test: str, planted: str, law: str) -> None:
    must_run(test)
    told = searched(test, planted, "--ironclock-search", "--ironclock-budget", "6 runs")
    assert re.findall(r"^_+ (\w+).* is broken in", told, re.MULTILINE) == ([law] if law else []), told
    if not law:
        assert "no law was broken" in told
        return
    token = re.search(r"--ironclock-replay (\S+)", told)
    assert token is not None
    assert f"{law}: " in searched(test, planted, "--ironclock-replay", token[1])
    if test is WATCH:
        assert "1 passed" in searched(test, "none", "--ironclock-replay", token[1])
