"""Schedules in a rig: overlap, missed firings, a poll, and what a test tells them; the other kinds of schedule."""

from __future__ import annotations

import datetime as dt
import time
from typing import Any

import pytest

import ironclock as ic

UTC = dt.timezone.utc


def world(body: Any, schedule: ic.Schedule, *, begin: str = "2031-03-03T09:00", **how: Any) -> tuple[ic.Rig, Any]:
    rig = ic.Rig(start=begin, zone="Atlantic/Faroe")
    rig.workers(3)
    return rig, rig.schedule("poll-buoy", rig.job(body, name="poll_buoy").call(), schedule, **how)


def starts(rig: ic.Rig) -> list[str]:
    return [f"{a.started_at:%H:%M:%S}" for job in rig.jobs("poll_buoy") for a in job.attempts]


def quick() -> None:
    return


def slow() -> None:
    time.sleep(25 * 60)


@pytest.mark.parametrize(
    ("overlap", "expected"),
    [
        ("allow", ["09:10:00", "09:20:00", "09:30:00", "09:40:00", "09:50:00", "10:00:00"]),
        ("skip", ["09:10:00", "09:40:00"]),
        ("wait", ["09:10:00", "09:35:00", "10:00:00"]),
    ],
)
def test_overlap(overlap: str, expected: list[str]) -> None:
    rig, _ = world(slow, ic.every("10m"), overlap=overlap)
    with rig:
        rig.advance("1h")
    assert starts(rig) == expected


def test_a_fixed_delay_counts_from_the_end() -> None:
    rig, entry = world(slow, ic.every_after("10m"))
    with rig:
        rig.advance("2h")
    assert starts(rig) == ["09:10:00", "09:45:00", "10:20:00", "10:55:00"]
    assert entry.last.state == "running"


@pytest.mark.parametrize(("missed", "runs"), [("all", 6), ("last", 1), ("none", 0)])
def test_missed_while_the_scheduler_is_down(missed: str, runs: int) -> None:
    rig, entry = world(quick, ic.every("10m"), missed=missed)
    with rig:
        rig.schedules.stop()
        rig.advance("1h")
        assert starts(rig) == []
        rig.schedules.start()
        rig.settle()
        assert starts(rig) == ["10:00:00"] * runs
        assert entry.skipped == 6 - runs
        rig.advance("10m")
        assert starts(rig)[-1] == "10:10:00"


def test_a_fixed_delay_outlives_a_scheduler_that_is_down() -> None:
    rig, _ = world(quick, ic.every_after("10m"), missed="none")
    with rig:
        rig.schedules.stop()
        rig.advance("25m")
        rig.schedules.start()
        rig.advance("20m")
    assert starts(rig) == ["09:30:00", "09:40:00"]


def test_close_till_in_the_two_nights_of_the_clock_change() -> None:
    rig = ic.Rig(start="2031-03-28T12:00", zone="Atlantic/Faroe")
    rig.schedule("close-till", rig.job(quick, name="close_till").call(), ic.cron("30 1 * * *"))
    with rig:
        rig.advance("3d")
        rig.advance_to("2031-10-25T12:00")
        rig.advance("2d")
    ran = [job.enqueued_at for job in rig.jobs("close_till")]
    assert [f"{at:%m-%d %H:%M}" for at in ran if at.month == 3] == ["03-29 01:30", "03-30 02:30", "03-31 01:30"]
    assert [f"{at:%m-%d %H:%M %z}" for at in ran if at.month == 10][-2:] == ["10-26 01:30 +0100", "10-27 01:30 +0000"]


def test_telling_a_schedule() -> None:
    rig, entry = world(quick, ic.every("10m"))
    with rig:
        assert f"{entry.next:%H:%M}" == "09:10"
        rig.advance("10m")
        entry.pause()
        assert entry.next is None
        rig.advance("20m")
        entry.resume()
        rig.advance("10m")
        assert starts(rig) == ["09:10:00", "09:40:00"]
        job = rig.schedules["poll-buoy"].trigger()
        rig.settle()
        assert job.state == "done"
        assert (entry.last, len(entry.runs)) == (job, 3)
        rig.schedule("poll-buoy", entry.call, ic.every("1h"))
        rig.advance("1h")
        assert starts(rig)[3:] == ["10:40:00"], "the new one in place of the old"
        rig.schedules["poll-buoy"].remove()
        rig.advance("5h")
        assert len(starts(rig)) == 4
    with pytest.raises(ic.UnknownJob, match="poll-buoy"):
        rig.schedules["poll-buoy"]
    with pytest.raises(ic.RigStateError, match="removed"):
        entry.trigger()


def test_a_job_takes_itself_off_and_run_until_done() -> None:
    tries: list[float] = []

    def until_third() -> None:
        tries.append(time.time())
        if len(tries) < 3:
            raise ConnectionError

    rig, entry = world(until_third, ic.every("10m"), until_done=True)
    with rig:
        rig.advance("2h")
    assert starts(rig) == ["09:10:00", "09:20:00", "09:30:00"]
    assert entry.removed

    def leaves() -> None:
        if len(rig.jobs("poll_buoy")) == 2:
            rig.schedules["poll-buoy"].remove()

    rig, entry = world(leaves, ic.every("10m"))
    with rig:
        rig.advance("2h")
    assert len(starts(rig)) == 2


def test_poll_bounds_and_jitter() -> None:
    rig, _ = world(quick, ic.cron("*/7 * * * *"), poll="5m", end="2031-03-03T09:30")
    with rig:
        rig.advance("1h")
    assert starts(rig) == ["09:00:00", "09:10:00", "09:15:00", "09:25:00", "09:30:00"]
    seen = []
    for _ in range(2):
        rig, _ = world(quick, ic.every("10m"), jitter="2m", start="2031-03-03T09:30")
        with rig:
            rig.advance("2h")
        seen.append([a.started_at for job in rig.jobs() for a in job.attempts])
    assert seen[0] == seen[1]
    late = [(at - dt.datetime(2031, 3, 3, 9, tzinfo=UTC)).total_seconds() % 600 for at in seen[0]]
    assert len(late) in (9, 10)
    assert all(0 <= seconds < 120 for seconds in late)
    assert len(set(late)) > 5


def test_reboot_once_and_a_year_of_minutes() -> None:
    rig = ic.Rig(start="2031-01-01T00:00", zone="Atlantic/Faroe")
    kind = rig.job(quick)
    rig.schedule("boot", kind.call(), ic.cron("@reboot"))
    rig.schedule("once", kind.call(), ic.once("2031-03-30T02:30"))
    rig.advance("100d")
    assert [f"{job.enqueued_at:%m-%d %H:%M}" for job in rig.jobs()] == ["01-01 00:00", "03-30 02:30"]
    rig.schedule("minutely", kind.call(), ic.cron("* * * * *"), start="2031-10-26T00:00", end="2031-10-27T00:00")
    rig.advance_to("2031-11-01T00:00")
    assert len(rig.jobs()) == 2 + 25 * 60


def test_tide_table_and_holidays() -> None:
    mondays = ic.cron("0 6 * * 1#1") | ic.cron("0 6 15 * *")
    days = [f"{t:%m-%d}" for t in (mondays - ["2031-04-15", dt.date(2031, 5, 5)]).between("2031-04-01", "2031-06-01")]
    assert days == ["04-07", "05-15"]
    without = ic.cron("0 * * * *") - ic.cron("0 0-20 * * *")
    assert [t.hour for t in without.between("2031-04-01", "2031-04-02")] == [21, 22, 23]
    assert without.describe().startswith("at minute 0 of every hour, except every day hourly from")


def test_deck_lights_by_the_sun() -> None:
    pytest.importorskip("astral")
    lights = ic.sun("sunset", 62.0, -6.8, offset="-15m")
    first = lights.after("2031-06-21T12:00Z")
    assert first is not None
    assert first.date() == dt.date(2031, 6, 21)
    assert 21 <= first.hour <= 22
    north = ic.sun("sunrise", 78.2, 15.6)
    after_the_night = north.after("2031-11-01T00:00Z")
    assert after_the_night is not None
    assert after_the_night.month == 2, "the polar night has no sunrise"
    assert "if it happens" in north.describe()


def test_recurrence_rules() -> None:
    pytest.importorskip("dateutil")
    rule = ic.rrule("DTSTART:20310301T013000\nRRULE:FREQ=DAILY;COUNT=40", zone="Atlantic/Faroe")
    fires = rule.between("2031-03-28T00:00", "2031-04-20T00:00")
    assert [f"{t:%d %H:%M}" for t in fires][:4] == ["28 01:30", "29 01:30", "30 02:30", "31 01:30"]
    assert len(fires) == 13
    for wrong in ("FREQ=SOMETIMES", "", "FREQ=DAILY;COUNT=x"):
        with pytest.raises(ic.InputError, match="rule"):
            ic.rrule(wrong)


def test_rules_that_step_by_the_second_are_not_walked_from_1970() -> None:
    pytest.importorskip("dateutil")
    for text, expected in [
        ("FREQ=SECONDLY;INTERVAL=7", "12:00:01"), ("FREQ=MINUTELY;INTERVAL=20;BYHOUR=13", "13:00:00"),
        ("FREQ=HOURLY;INTERVAL=5", "16:00:00"),
    ]:  # fmt: skip
        found = ic.rrule(text, "UTC").after("2031-03-03T12:00")
        assert (found and f"{found:%H:%M:%S}") == expected, text
        if "INTERVAL=7" in text:
            assert found is not None
            assert found.timestamp() % 7 == 0


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: ic.every(0), "give a duration longer than 0"), (lambda: ic.every("soon"), "soon"), (lambda: ic.once(dt.datetime(2031, 1, 1)), "naive"),
        (lambda: ic.sun("moonrise", 1, 1), "moonrise"), (lambda: ic.sun("noon", 91, 1), "latitude"), (lambda: ic.cron("* * * * *", "Mars"), "Mars"),  # type: ignore[arg-type]
        (lambda: ic.every("1h") - ["tomorrow"], "tomorrow"), (lambda: ic.cron("* * * * *", gap="jump"), "jump"),  # type: ignore[arg-type]
        (lambda: world(quick, ic.every("1h"), overlap="maybe"), "maybe"), (lambda: world(quick, "hourly"), "schedule is 'hourly'; give ic"),  # type: ignore[arg-type]
        (lambda: ic.cron("* * * * *").between("2031-02-01", "2031-01-01"), "before the start"),
    ],
)  # fmt: skip
def test_what_is_refused(make: Any, says: str) -> None:
    with pytest.raises(ic.IronClockError, match=says):
        make()


@pytest.mark.parametrize("overlap", ["allow", "wait", "skip"])
def test_a_schedule_after_the_end_has_one_next_firing(overlap: Any) -> None:
    """Firings that were missed run at once, and the end of each plans the next one: only the last plan counts."""
    rig = ic.Rig(start="2031-03-03T09:00")
    starts: list[str] = []

    def poll() -> None:
        starts.append(f"{rig.now:%M:%S}")

    with rig:
        rig.schedule("poll", rig.job(poll).call(), ic.every_after("10s"), missed="all", overlap=overlap)
        rig.advance("15s")
        rig.schedules.stop()
        rig.advance("25s")
        rig.schedules.start()
        rig.advance("1s")
        starts.clear()
        rig.advance("1m")
    assert len(starts) == len(set(starts)) == 6
