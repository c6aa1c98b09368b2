"""Saved histories: the same answers as live ones, whatever data they hold, and one error if they are damaged."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import random
import time
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic
from ironclock.laws.law import broken_by

TEN = dt.timedelta(minutes=10)


class Radio(ic.services.Service):
    """A service whose effects have data of any name."""

    operations = ("call",)

    def call(self, **data: Any) -> None:
        self._operate("call", lambda: None, None, data)


def busy_rig() -> ic.Rig:
    """Return a rig in which most things have happened that a history can tell."""
    rig = ic.Rig()
    rig.workers(2)
    pool, mail = rig.resource("database", 1), rig.service(ic.services.Mail())
    poll = rig.job(lambda: (rig.now - TEN, rig.now), name="poll")
    row = rig.job(lambda number: [number], name="row", key="number")

    def book(number: int) -> None:
        with rig.transaction():
            rig.enqueue(row, number, after="1m")
            rig.progress(number)
            with pool.take():
                time.sleep(2)
                mail.send("ada@tern-line.test", f"seat {number}")

    booking = rig.job(book, lease="1m", deliveries=3, retry=ic.Retry(3, "10s"))
    rig.faults.crash("book", at="before mail.send", attempts=1)
    rig.faults.fail("book", at="commit", attempts=2)
    rig.faults.deliver_twice("book", attempts=3)
    rig.faults.outage(("2031-03-03T09:19", "2031-03-03T09:21"))
    rig.schedule("poll", poll, "10m", end="2031-03-03T10:00")
    with rig:
        for number in (1, 1):
            rig.enqueue(booking, number)
        rig.enqueue(row, 7).withdraw()
        with contextlib.suppress(ZeroDivisionError), rig.request("POST /bookings"):
            rig.enqueue(rig.job(lambda: 1 / 0, name="fails"))
            raise ZeroDivisionError
        rig.enqueue(rig.job(lambda: time.sleep(10**7), name="hangs"), after="50m")
        rig.note("the night begins")
        rig.advance("1h")
    return rig


def laws() -> list[Any]:
    """Return every law, in forms that find something and forms that do not."""
    made = ic.laws
    return [
        made.once_per_key("mail.send"), made.no_key_twice(), made.no_key_twice("mail.send"), made.once_per_key("row"), made.once_per_key("row", due=[1, 9]),
        made.once_per_key("row", lambda run: [run.key, *run.args]), made.covers("poll"), made.nothing_lost(),
        made.covers("poll", end=dt.datetime(2031, 3, 3, 11, tzinfo=dt.timezone.utc)), made.nothing_lost("hangs"),
        made.nothing_lost("book", effect="mail.send"), made.finishes_within(None, "5s"), made.no_overlap(),
        made.finishes_within("hangs", "5m"), made.no_overlap("book"), made.attempts_at_most(None, 1),
        made.attempts_at_most("fails", 1, on=ZeroDivisionError), made.in_order("row"), made.in_order("book", per_key=True),
        made.queue_below("default", 1), made.queue_below("default", 99), made.stops_when_asked("1s"), made.no_deadlock(),
        made.no_firing_refused(), made.no_firing_refused("poll"), made.after_commit(), made.nothing_left_behind(),
        made.each("mail.send", "it is about a seat", lambda data: "seat" in data["subject"]),
        made.holds("all is done", lambda world: all(job.state == "done" for job in world)),
        made.holds("some were tried twice", lambda world: any(len(job.attempts) > 1 for job in world)),
        lambda world: [f"{job.id}: {job.state}, {type(job.error).__name__}, due {job.due_at}" for job in world],
        lambda world: [f"{job.id}: {[(a.outcome, a.worker, a.waited) for a in job.attempts]}" for job in world],
    ]  # fmt: skip


def test_every_law_gives_the_same_answer_live_and_saved(tmp_path: Path) -> None:
    rig = busy_rig()
    rig.history.save(tmp_path / "run.jsonl")
    saved = ic.laws.World(ic.History.load(tmp_path / "run.jsonl"))
    names = {getattr(law, "law_name", "") for law in laws()}
    assert names >= set(ic.laws.__all__) - {"Breach", "BrokenLaw", "Law", "World"}, "every law is here"
    found = 0
    for law in laws():
        live = broken_by([law], rig.world)
        again = broken_by([law], saved)
        assert [breach.words for breach in again] == [breach.words for breach in live], law
        assert [breach.proof for breach in again] == [breach.proof for breach in live], law
        found += bool(live)
    assert found > 12
    with pytest.raises(ic.SelectionError):
        broken_by([ic.laws.once_per_key("nothing of that name")], saved)
    with pytest.raises(ic.RigStateError, match="a saved history"):
        saved.jobs[0].withdraw()


def test_a_job_that_hangs_for_ever_is_late_although_nothing_comes_after_it(tmp_path: Path) -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda: time.sleep(10**7), name="hangs"))
        rig.advance("1h")
        law = ic.laws.finishes_within("hangs", "5m")
        with pytest.raises(ic.BrokenLaw, match="hangs-1 is still open 1h after it was due"):
            rig.check(law)
        rig.history.save(tmp_path / "run.jsonl")
        assert broken_by([law], ic.laws.World(ic.History.load(tmp_path / "run.jsonl")))


def test_digest_story_and_frame_of_a_saved_history_are_those_of_the_live_one(tmp_path: Path) -> None:
    rig = busy_rig()
    with rig:
        radio = rig.service(Radio("radio"))
        radio.call(ns=3, what="x", job="y", at="now", name="n", attempt=7, message="m", line="l", data=4, effect="e")
    rig.history.save(tmp_path / "run.jsonl")
    again = ic.History.load(tmp_path / "run.jsonl")
    assert again.digest() == rig.history.digest()
    assert again.story() == rig.history.story()
    assert again.frame().equals(rig.history.frame())
    assert list(again) == list(rig.history)
    assert "after 2s" in again.story(), "how long the database was waited for"
    again.save(tmp_path / "twice.jsonl")
    assert (tmp_path / "twice.jsonl").read_bytes() == (tmp_path / "run.jsonl").read_bytes()


def test_half_of_a_surrogate_pair_in_an_argument_can_be_saved(tmp_path: Path) -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda text, more: text, name="echo"), "half of a pair: \ud83d", "⛴")
        rig.settle()
    rig.history.save(tmp_path / "run.jsonl")
    again = ic.History.load(tmp_path / "run.jsonl")
    assert again.digest() == rig.history.digest()
    assert again[0].data["args"] == ["half of a pair: \ud83d", "⛴"]


def test_data_of_an_effect_count_for_the_digest(tmp_path: Path) -> None:
    digests = set()
    for message in ("two", "three"):
        with ic.Rig() as rig:
            rig.service(Radio("radio")).call(message=message)
        digests.add(rig.history.digest())
    assert len(digests) == 2


def damaged(lines: list[str], chance: random.Random) -> bytes:
    """Return the lines of a history with some damage."""
    junk = [None, True, 3, -1, 1e300, "x", "", [], {}, [1], {"a": 1}, 10**30, "9999-99-99", 1.5, ["x"], [[1]]]
    rows = [json.loads(line) for line in lines]
    for _ in range(chance.randint(1, 3)):
        row = chance.choice(rows)
        key = chance.choice([*row, "ns", "data"])
        if chance.random() < 0.3:
            row.pop(key, None)
        else:
            row[key] = chance.choice(junk)
    text = "\n".join(json.dumps(row) for row in rows) + "\n"
    if chance.random() < 0.2:
        at = chance.randrange(len(text))
        text = text[:at] + chance.choice(["\x00", "{", "\udcff", '"', "\n"]) + text[at + 1 :]
    return text.encode("utf-8", "surrogateescape")


def loaded(path: Path) -> tuple[ic.History | None, str]:
    try:
        return ic.History.load(path), ""
    except ic.HistoryError as error:
        return None, str(error)


def test_a_damaged_history_is_one_error_with_file_and_line(tmp_path: Path, exhaustive: bool) -> None:
    busy_rig().history.save(tmp_path / "run.jsonl")
    lines = (tmp_path / "run.jsonl").read_text(encoding="utf-8").splitlines()
    refused = 0
    for number in range(1_000 if exhaustive else 100):
        path = tmp_path / "damaged.jsonl"
        path.write_bytes(damaged(lines, random.Random(number)))
        history, said = loaded(path)
        if history is None:
            assert said.startswith(f"{path}:"), said
            refused += 1
            continue
        history.story()
        history.digest()
        history.frame()
        world = ic.laws.World(history)
        with contextlib.suppress(ic.SelectionError, ic.InputError):  # a name or a window that is none any more
            broken_by(laws()[5:-5], world)
    assert refused > 20


def test_an_instant_is_written_the_same_fast_and_slow() -> None:
    from ironclock.foundation.instants import InstantTexts, Timeline

    chance = random.Random(7)
    for zone in ("UTC", "Atlantic/Faroe", "America/St_Johns", "Europe/Amsterdam", "Asia/Kathmandu", "Pacific/Apia"):
        timeline = Timeline(zone)
        texts = InstantTexts(timeline)
        for _ in range(2_000):
            ns = chance.randrange(-4_000_000_000, 4_000_000_000) * 10**9 + chance.choice([0, 1, 500_000_000])
            assert texts.text(ns) == timeline.text(ns)
