"""What becomes of a schedule that is added again, replaced, paused, down, refused, or late."""

from __future__ import annotations

import time
from collections import Counter
from typing import Any

import pytest

import ironclock as ic


def at(rig: ic.Rig, name: str = "tick") -> list[str]:
    return [f"{job.enqueued_at:%H:%M}" for job in rig.jobs(name)]


def test_a_job_that_adds_its_own_schedule_again_runs_once_an_hour() -> None:
    with ic.Rig() as rig:

        def tick() -> None:
            assert len(rig.jobs()) < 10, "it would run for ever"
            rig.schedule("tick", tick, "0 * * * *")

        rig.schedule("tick", tick, "0 * * * *")
        rig.advance("2h")
    assert at(rig) == ["09:00", "10:00", "11:00"]
    assert [job.state for job in rig.jobs()] == ["done"] * 3


@pytest.mark.parametrize("schedule", ["0 * * * *", "1h"])
@pytest.mark.parametrize("how", ["again", "removed first"])
def test_a_firing_is_due_once_whatever_is_added_meanwhile(schedule: str, how: str) -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="tick")
        rig.schedule("tick", kind, schedule)
        for _ in range(3):
            rig.advance("1h")
            if how == "removed first":
                rig.schedules["tick"].remove()
            rig.schedule("tick", kind, schedule)
    assert at(rig) == ["09:00", "10:00", "11:00", "12:00"][schedule == "1h" :]


def test_the_same_interval_again_keeps_its_next_firing_and_another_one_begins_anew() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="tick")
        after = rig.job(lambda: None, name="after")
        rig.schedule("tick", kind, "1h")
        rig.schedule("after", after, ic.every_after("1h"))
        rig.advance("50m")
        rig.schedule("tick", kind, "1h")
        rig.schedule("after", after, ic.every_after("1h"))
        rig.advance("50m")
        assert at(rig) == at(rig, "after") == ["10:00"]
        rig.schedule("tick", kind, "30m")
        rig.advance("31m")
    assert at(rig) == ["10:00", "11:10"]


def test_another_expression_or_other_arguments_take_effect_from_the_next_firing() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda number: None, name="tick")
        rig.schedule("tick", kind.call(1), "0 * * * *")
        rig.advance("1h")
        rig.schedule("tick", kind.call(2), "*/20 * * * *")
        rig.advance("40m")
    assert [job.args for job in rig.jobs()] == [(1,), (1,), (2,), (2,)]
    assert at(rig) == ["09:00", "10:00", "10:20", "10:40"]


def test_a_firing_that_is_late_still_runs_once_when_its_schedule_is_replaced() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda number: None, name="tick")
        rig.advance("30m")
        rig.schedule("tick", kind.call(1), "0 * * * *", poll="7m")
        rig.advance("31m")  # due at 10:00, and the scheduler looks at 10:03
        rig.schedule("tick", kind.call(2), "0 * * * *", poll="7m")
        rig.advance("1h")
    assert [job.args for job in rig.jobs()] == [(1,)]
    assert at(rig) == ["10:03"]


def test_a_replaced_schedule_still_does_not_overlap() -> None:
    with ic.Rig() as rig:
        rig.workers(3)
        kind = rig.job(lambda: time.sleep(5400), name="tick")
        for overlap in ("skip", "skip", "wait"):
            rig.schedule("tick", kind, "30 * * * *", overlap=overlap)  # type: ignore[arg-type]
            rig.advance("39m")
        assert at(rig) == ["09:30"], "the one at 10:30 waits for the end of the first"
        rig.advance("10m")
    assert at(rig) == ["09:30", "11:00"]


def test_a_paused_schedule_does_not_run_when_the_scheduler_comes_up() -> None:
    with ic.Rig() as rig:
        nightly = rig.schedule("tick", rig.job(lambda: None, name="tick"), "30 * * * *", missed="all")
        rig.schedules.stop()
        rig.advance("3h")
        nightly.pause()
        rig.schedules.start()
        assert not rig.jobs()
        assert nightly.skipped == 3
        nightly.resume()
        rig.advance("1h")
    assert at(rig) == ["12:30"]


def test_what_was_missed_is_handed_over_to_the_schedule_that_replaces_it() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="tick")
        rig.schedule("tick", kind, "30 * * * *", missed="all")
        rig.schedules.stop()
        rig.advance("2h")
        rig.schedule("tick", kind, "30 * * * *", missed="all")
        rig.advance("1h")
        rig.schedules.start()
        rig.advance("1m")
    assert len(rig.jobs()) == 3


def test_jitter_wider_than_the_period_does_not_bunch() -> None:
    with ic.Rig(seed=3) as rig:
        rig.schedule("tick", rig.job(lambda: None, name="tick"), "1m", jitter="10m")
        rig.advance("5h")
    late = [job.enqueued_at for job in rig.jobs()]
    assert max(Counter(late).values()) == 1
    assert 285 <= len(late) <= 300
    assert max(Counter(f"{one:%H:%M}" for one in late).values()) <= 6


@pytest.mark.parametrize("overlap", ["allow", "wait"])
def test_a_firing_in_an_outage_is_refused_and_the_schedule_goes_on(overlap: Any) -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="tick")
        every = rig.schedule("every", kind, ic.every("10m"), overlap=overlap)
        after = rig.schedule("after", kind, ic.every_after("10m"))
        rig.faults.outage(("2031-03-03T09:15", "2031-03-03T09:25"))
        rig.advance("1h")
        assert every.refused == after.refused == 1
        assert Counter(at(rig)) == dict.fromkeys(["09:10", "09:30", "09:40", "09:50", "10:00"], 2)
        assert "a firing of 'after' is refused: EnqueueRefused" in rig.history.story()
        with pytest.raises(ic.BrokenLaw, match="a firing of 'every' was refused: EnqueueRefused"):
            rig.check(ic.laws.no_firing_refused("every"))
        with pytest.raises(ic.SelectionError, match="no schedule"):
            rig.check(ic.laws.no_firing_refused("evry"))


def test_a_firing_that_a_unique_job_refuses() -> None:
    with ic.Rig() as rig:
        kind = rig.job(lambda: None, name="tick", unique="refuse", only_while=["online"])
        hourly = rig.schedule("tick", kind, "0 * * * *")
        rig.conditions.off("online")
        rig.advance("2h")
        assert (len(rig.jobs()), hourly.refused) == (1, 2)
        rig.conditions.on("online")
        rig.advance("2h")
        assert (len(rig.jobs()), hourly.refused) == (3, 2)
        with pytest.raises(ic.DuplicateJob):
            rig.conditions.off("online")
            hourly.trigger()
            hourly.trigger()


def test_a_schedule_for_a_queue_that_nobody_serves_is_still_a_mistake() -> None:
    with ic.Rig() as rig:
        rig.workers(1, queues=["desk"])
        rig.schedule("tick", rig.job(lambda: None, name="tick", queue="dsek"), "0 * * * *")
        with pytest.raises(ic.PolicyError, match="did you mean 'desk'"):
            rig.advance("1h")


def test_recurrence_rules_with_exceptions_are_walked_once() -> None:
    rule = ic.rrule("DTSTART:19700101T080000\nRRULE:FREQ=DAILY\nEXDATE:20310305T080000\nRDATE:20310305T093000")
    whole = rule.between("2031-03-03T00:00Z", "2031-03-08T00:00Z")
    assert [f"{one:%d %H:%M}" for one in whole] == ["03 08:00", "04 08:00", "05 09:30", "06 08:00", "07 08:00"]
    one_by_one, last = [], ic.rrule(rule.text).after("2031-03-03T00:00Z")
    while last is not None and len(one_by_one) < 2_500:
        one_by_one.append(last)
        last = rule.after(last.isoformat())
    assert one_by_one[:5] == list(whole)
    assert rule.after("2031-03-04T00:00Z") == whole[1], "back again, where the walk has been"
    assert rule.after("1971-01-01T09:00Z").isoformat() == "1971-01-02T08:00:00+00:00"  # type: ignore[union-attr]


def test_far_from_now() -> None:
    yearly = ic.cron("0 0 1 1 *")
    for first, last in (("2299-12-01", "2301-02-01"), ("1599-12-01", "1601-02-01"), ("2250-06-01", "2270-06-01")):
        found, walked = list(yearly.between(f"{first}T00:00Z", f"{last}T00:00Z")), []
        here = yearly.after(f"{first}T00:00Z")
        while here is not None and f"{here:%Y-%m-%d}" < last:
            walked.append(here)
            here = yearly.after(here)
        assert found == walked
        assert len(found) in (2, 20)


def test_the_end_of_time_is_an_error_of_ours() -> None:
    with pytest.raises(ic.InstantError, match="9999-12-31, where time ends"):
        ic.Rig(start="9999-12-31T23:00:00")
    with ic.Rig(start="9999-12-30T22:30:00") as rig:
        kind = rig.job(lambda: 1 / 0, name="fail", retry=ic.Retry(3, "30d"))
        rig.schedule("tick", rig.job(lambda: None, name="tick"), "0 * * * *")
        with pytest.raises(ic.InstantError, match="9999-12-31"):
            rig.enqueue(kind, after="2h")
        job = rig.enqueue(kind)
        rig.advance("1h")
        assert job.state == "backing-off"
        with pytest.raises(ic.InstantError, match="9999-12-31"):
            rig.advance("2h")
        with pytest.raises(ic.JobsLeftOpen, match="fail-1 is backing-off"):
            rig.run_dry("365d")
        assert "tries again" in job.story()
