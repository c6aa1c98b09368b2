"""Laws over jobs, effects and queues, each broken and kept, with the excerpt that proves the breach."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest

import ironclock as ic
from ironclock.rig import simulation_of


def run(*calls: tuple[str, float, float], workers: int = 1, **policy: Any) -> ic.Rig:
    """Enqueue naps: name, seconds until due, seconds of sleep."""
    rig = ic.Rig(start="2031-03-03T09:00")
    rig.workers(workers)
    with rig:
        for name, after, nap in calls:
            kind = (
                rig.job(lambda nap: time.sleep(nap), name=name, **policy)
                if name not in simulation_of(rig).broker.types
                else None
            )
            rig.enqueue((kind or simulation_of(rig).broker.types[name]).call(nap), after=after)
        rig.run_dry()
    return rig


def breach(rig: ic.Rig, law: Any) -> str:
    with pytest.raises(ic.BrokenLaw) as caught:
        rig.check(law)
    assert caught.value.breaches[0].law == law.law_name
    return str(caught.value)


def test_finishes_within_counts_from_when_it_was_due() -> None:
    rig = run(("load", 60, 30), ("load", 60, 30))
    rig.check(ic.laws.finishes_within("load", "60s"))
    said = breach(rig, ic.laws.finishes_within("load", "59s"))
    assert "load-2 ends 1m after it was due, over 59s" in said
    assert said.count("\n        ") == 3, "enqueued, started, done"


def test_attempts_at_most() -> None:
    rig = ic.Rig()

    def fail() -> None:
        raise ConnectionError

    rig.enqueue(rig.job(fail, retry=ic.Retry(3, "1m")).call())
    rig.run_dry()
    rig.check(ic.laws.attempts_at_most("fail", 3), ic.laws.attempts_at_most("fail", 1, on=ValueError))
    assert "fail-1 is tried 3 times, over 2" in breach(rig, ic.laws.attempts_at_most(None, 2))
    assert "and failed with ConnectionError" in breach(rig, ic.laws.attempts_at_most("fail", 1, on="ConnectionError"))


def test_in_order() -> None:
    rig = run(("load", 0, 30), ("load", 0, 10), ("load", 0, 25), workers=2)
    assert "load-2 is done before load-1, which was enqueued earlier" in breach(rig, ic.laws.in_order("load"))
    run(("load", 0, 30), ("load", 0, 10)).check(ic.laws.in_order("load"))


def test_queue_below() -> None:
    rig = run(*[("load", 60, 10) for _ in range(5)], workers=2)
    rig.check(ic.laws.queue_below("default", 4))
    assert "3 jobs wait in queue 'default' at 2031-03-03T09:01:00+00:00, not below 3" in breach(
        rig, ic.laws.queue_below("default", 3)
    )
    run(*[("load", 60, 0) for _ in range(50)]).check(ic.laws.queue_below("default", 1))


def test_no_overlap_among_all_of_a_type() -> None:
    rig = run(("load", 0, 30), ("load", 10, 5), workers=2)
    assert "attempt 1 of load-2 starts while attempt 1 of load-1 runs" in breach(rig, ic.laws.no_overlap("load"))
    rig.check(ic.laws.no_overlap())
    run(("load", 0, 30), ("load", 30, 5), workers=2).check(ic.laws.no_overlap("load"))


def test_nothing_lost_sees_a_job_that_hangs_for_ever() -> None:
    rig = ic.Rig()
    kind = rig.job(time.sleep, name="nap")
    rig.faults.hang("nap")
    with rig:
        rig.enqueue(kind.call(1))
        rig.advance("1d")
    assert "nap-1 never ends" in breach(rig, ic.laws.nothing_lost())


def test_laws_of_ones_own() -> None:
    rig = run(("load", 0, 30))
    rig.check(lambda jobs: [f"{job.id} is dead" for job in jobs if job.state == "dead"])
    with pytest.raises(ic.BrokenLaw, match="load-1 is done"):
        rig.check(lambda jobs: [f"{job.id} is done" for job in jobs if job.state == "done"])
    assert "it does not hold that nobody loads" in breach(rig, ic.laws.holds("nobody loads", lambda w: not len(w)))


def test_the_same_laws_hold_over_a_saved_history(tmp_path: Path) -> None:
    rig = run(("load", 0, 30), ("load", 10, 5), workers=2)
    rig.history.save(tmp_path / "run.jsonl")
    world = ic.laws.World(ic.History.load(tmp_path / "run.jsonl"))
    assert [b.words for b in ic.laws.no_overlap("load")(world)] == [
        "attempt 1 of load-2 starts while attempt 1 of load-1 runs"
    ]
    assert list(ic.laws.finishes_within("load", "30s")(world)) == []


@pytest.mark.parametrize(
    ("ask", "error", "says"),
    [
        (lambda: ic.laws.attempts_at_most("load", 0), ic.InputError, "limit is 0"),
        (lambda: ic.laws.queue_below("default", True), ic.InputError, "limit is True"),
        (lambda: ic.laws.finishes_within("load", -1), ic.DurationError, "negative"),
        (lambda: ic.laws.holds("x", 3), ic.InputError, "is 3; give a function of the"),  # type: ignore[arg-type]
        (lambda: ic.laws.each("mail", "x", 3), ic.InputError, "is 3; give a function of the"),  # type: ignore[arg-type]
        (lambda: run(("load", 0, 0)).check(ic.laws.in_order("laod")), ic.SelectionError, "did you mean 'load'"),
        (lambda: run(("load", 0, 0)).check(ic.laws.once_per_key("charge")), ic.SelectionError, "the job 'charge'"),
        (
            lambda: run(("load", 0, 0)).check(ic.laws.each("charge", "x", bool)),
            ic.SelectionError,
            "the effect 'charge'",
        ),
        (lambda: run(("load", 0, 0)).check(ic.laws.nothing_lost(effect="x")), ic.SelectionError, "the effect 'x'"),
    ],
)
def test_laws_that_cannot_be(ask: Any, error: type[Exception], says: str) -> None:
    with pytest.raises(error, match=says):
        ask()
