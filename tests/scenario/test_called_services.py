"""Services that modelled jobs call, ways to fail by arguments, and workers that are away in part."""

from __future__ import annotations

import pytest

import ironclock as ic


def ran(text: str, seed: int = 1) -> ic.Rig:
    return ic.Scenario.loads('start = "2031-03-29T08:00"\nzone = "UTC"\nrun = "1h"\n' + text).run(seed=seed).rig


def took(rig: ic.Rig, job: str) -> list[float]:
    return [
        (one.ended_at - one.started_at).total_seconds() for j in rig.jobs(job) for one in j.attempts if one.ended_at
    ]


CROWD = """
[workers]
count = 10
[services.office]
capacity = 2
{service}
[jobs.ask]
takes = "3s"
calls = "office"
{job}
[[enqueue]]
job = "ask"
count = 6
"""


def test_a_service_gets_slower_with_each_call_more() -> None:
    rig = ran(CROWD.format(service="", job=""))
    # The n-th call at once takes n / 2 times as long; the first two have the capacity for themselves.
    assert sorted(took(rig, "ask")) == [3.0, 3.0, 4.5, 6.0, 7.5, 9.0]


def test_a_service_refuses_calls() -> None:
    rig = ran(
        CROWD.replace("count = 6", "count = 400")
        .format(service='beyond = "fails"', job="")
        .replace("count = 10", "count = 400")
    )
    refused = [j for j in rig.jobs("ask") if j.state == "dead"]
    assert type(refused[0].error).__name__ == "CallRefused"
    assert "office has" in str(refused[0].error)
    assert set(took(rig, "ask")) == {0.0, 3.0}
    assert 350 < len(refused) < 398, "about the harmonic sum of 2 / n are let through"


def test_a_breaker_opens_and_lets_one_call_through() -> None:
    text = """
        [workers]
        count = 1
        [services.office]
        capacity = 9
        breaker = { failing = 0.5, of = 4, open = "1m" }
        [jobs.ask]
        takes = "1s"
        calls = "office"
        [[enqueue]]
        job = "ask"
        count = 60
        every = "10s"
        [[faults]]
        kind = "fail"
        job = "ask"
        between = ["2031-03-29T08:00", "2031-03-29T08:03"]
        takes = "1s"
    """
    rig = ran(text)
    words = [str(j.error or "") for j in rig.jobs("ask")]
    is_open = ["breaker in front of office is open" in word for word in words]
    assert is_open[:4] == [False] * 4, "four failures open it"
    assert is_open[4:9] == [True] * 5
    assert not is_open[10], "after a minute one call is let through, and fails"
    assert is_open[11:16] == [True] * 5
    states = [j.state for j in rig.jobs("ask")]
    assert states[25:] == ["done"] * 35, "the first call after the outage closes it"


def test_jobs_fail_by_their_arguments() -> None:
    text = """
        [jobs.weigh]
        fails = [{ when = { crates = 13 }, error = "ValueError: too many" }, { share = 0.5, error = "TimeoutError: slow" }]
        [[enqueue]]
        job = "weigh"
        count = 50
        kwargs = { crates = 13 }
        [[enqueue]]
        job = "weigh"
        count = 200
        kwargs = { crates = 4 }
    """
    rig = ran(text)
    poison = [j for j in rig.jobs("weigh") if j.kwargs["crates"] == 13]
    others = [j for j in rig.jobs("weigh") if j.kwargs["crates"] == 4]
    assert {type(j.error) for j in poison} == {ValueError}
    failed = [j for j in others if j.state == "dead"]
    assert 70 < len(failed) < 130
    assert {type(j.error) for j in failed} == {TimeoutError}


@pytest.mark.parametrize(
    ("fault", "most"), [("", 3), ("count = 2\n", 1), ("count = 99\n", 0), ('queue = "b"\n', 3), ('queue = "a"\n', 0)]
)
def test_workers_are_away_in_part(fault: str, most: int) -> None:
    text = f"""
        [[workers]]
        count = 3
        queues = ["a"]
        [[workers]]
        count = 1
        queues = ["b"]
        [jobs.weigh]
        takes = "1m"
        queue = "a"
        [[enqueue]]
        job = "weigh"
        count = 40
        after = "5m30s"
        [[faults]]
        kind = "away"
        between = ["2031-03-29T08:05", "2031-03-29T08:20"]
        {fault}"""
    rig = ran(text if fault else text[: text.index("[[faults]]")])
    at_once = {}
    for minute in range(6, 19):
        instant = rig.history.timeline.ns(f"2031-03-29T08:{minute:02d}:15")
        running = [a for j in rig.jobs() for a in j.attempts if a.started_ns <= instant < (a.ended_ns or instant + 1)]
        at_once[minute] = len(running)
    assert set(list(at_once.values())[:10]) == {most}
    assert len(rig.jobs("weigh", state="done")) == 40, "all are done once they are back"


def test_a_busy_worker_ends_its_job_before_it_goes() -> None:
    text = """
        [workers]
        count = 2
        [jobs.weigh]
        takes = "10m"
        [[enqueue]]
        job = "weigh"
        count = 4
        [[faults]]
        kind = "away"
        count = 1
        between = ["2031-03-29T08:05", "2031-03-29T08:25"]
    """
    starts = [f"{a.started_at:%H:%M}" for j in ran(text).jobs() for a in j.attempts]
    assert starts == ["08:00", "08:00", "08:10", "08:20"]
    assert all(j.state == "done" for j in ran(text).jobs())
