"""Waits and verdicts, without an engine."""

from __future__ import annotations

import random
from collections.abc import Sequence
from typing import Any

import pytest

import ironclock as ic
from ironclock.errors import IronClockError, PolicyError
from ironclock.foundation.durations import NS
from ironclock.simulation.retry import Retry, Wait, exponential, fixed, linear


def waits(retry: Retry, count: int, seed: int = 1) -> list[float]:
    """The waits in seconds after the first failures."""
    chance, previous, found = random.Random(seed), 0, []
    for number in range(1, count + 1):
        verdict, previous = retry.decide(number, ValueError(), previous, 0, lambda: chance)
        assert verdict == "retry"
        found.append(previous / NS)
    return found


@pytest.mark.parametrize(
    ("wait", "seconds"),
    [
        (fixed("10s"), [10, 10, 10, 10]), (5, [5, 5, 5, 5]), (linear("10s"), [10, 20, 30, 40]),
        (linear("10s", step="1s", cap="12s"), [10, 11, 12, 12]), (exponential("10s"), [10, 20, 40, 80]),
        (exponential("10s", factor=3, cap="1m"), [10, 30, 60, 60]), (["1s", "1m"], [1, 60, 60, 60]),
        (lambda attempt, error: attempt * 7, [7, 14, 21, 28]), (exponential("1s", factor=1.5), [1, 1.5, 2.25, 3.375]),
        ("PT2S", [2, 2, 2, 2]),
    ],
)  # fmt: skip
def test_waits(wait: Any, seconds: list[float]) -> None:
    assert waits(Retry(9, wait), 4) == seconds


@pytest.mark.parametrize(
    ("wait", "low", "high"),
    [
        (fixed("10s", jitter="full"), 0, 10), (fixed("10s", jitter="equal"), 5, 10), (fixed("10s", jitter=0.1), 9, 11),
        (exponential("10s", factor=1, jitter=1), 0, 20),
    ],
)  # fmt: skip
def test_jitter_fills_its_range(wait: Wait, low: float, high: float) -> None:
    found = waits(Retry(2000, wait), 1500)
    assert low <= min(found) <= low + (high - low) / 50
    assert high - (high - low) / 50 <= max(found) <= high
    assert sum(found) / len(found) == pytest.approx((low + high) / 2, rel=0.05)
    assert found == waits(Retry(2000, wait), 1500), "the same seed, the same waits"


def test_decorrelated_jitter_walks_between_first_and_three_times_the_last() -> None:
    found = waits(Retry(500, exponential("1s", cap="30s", jitter="decorrelated")), 400)
    for before, wait in zip([1.0, *found], found, strict=False):
        assert 1 <= wait <= min(30, max(1.0, before * 3))
    assert max(found) == 30


def decided(retry: Retry, error: BaseException, attempt: int = 1, elapsed: int = 0) -> str:
    return retry.decide(attempt, error, 0, elapsed, lambda: random.Random(0))[0]


def test_verdicts() -> None:
    retry = Retry(3, "10s", on=(OSError, KeyError), never_on=PermissionError, drop_on=(FileNotFoundError,), within="1m")
    assert decided(retry, OSError()) == "retry"
    assert decided(retry, KeyError()) == "retry"
    assert decided(retry, ValueError()) == "dead", "not among the errors that are tried again"
    assert decided(retry, PermissionError()) == "dead"
    assert decided(retry, FileNotFoundError()) == "dropped"
    assert decided(retry, OSError(), attempt=3) == "dead", "the third of three"
    assert decided(retry, OSError(), elapsed=50 * NS) == "retry"
    assert decided(retry, OSError(), elapsed=50 * NS + 1) == "dead", "the next attempt would start too late"


@pytest.mark.parametrize(
    "make",
    [
        lambda: Retry(0), lambda: Retry(True), lambda: Retry(2.5), lambda: Retry(3, []), lambda: Retry(3, on=("OSError",)),  # type: ignore[arg-type]
        lambda: Retry(3, never_on=5), lambda: exponential("1s", factor=0.5), lambda: fixed("1s", jitter="some"),  # type: ignore[arg-type]
        lambda: fixed("1s", jitter=1.5), lambda: Retry(3, drop_on=int), lambda: exponential("1s", factor=float("nan")),  # type: ignore[arg-type]
    ],
)  # fmt: skip
def test_policies_that_are_none(make: Any) -> None:
    with pytest.raises(PolicyError):
        make()


@pytest.mark.parametrize("wait", ["soon", -1, [1, "later"], object()])
def test_waits_that_are_none(wait: Any) -> None:
    with pytest.raises(IronClockError):
        Retry(3, wait)


def test_words() -> None:
    words: Sequence[tuple[Retry, str]] = [
        (Retry(), "one attempt"), (Retry(3, "10s"), "3 attempts, waiting 10s"),
        (Retry(5, exponential("10s", cap="10m", jitter=0.1), within="1h"), "5 attempts, waiting 10s x2 each time, at most 10m, +-10%, within 1h"),
        (Retry(4, ["1s", "5m"]), "4 attempts, waiting 1s, 5m"),
    ]  # fmt: skip
    for retry, said in words:
        assert retry.describe() == said
    assert "10s" in repr(ic.Retry(2, "10s"))


@pytest.mark.parametrize("wait", [ic.exponential, ic.linear])
def test_a_cap_below_the_first_wait_is_refused(wait: Any) -> None:
    with pytest.raises(ic.PolicyError, match=r"cap is '5s', shorter than first, '10s'; give a cap that is at least"):
        wait("10s", cap="5s")
    assert wait("10s", cap="10s") is not None


# --- a budget -------------------------------------------------------------------------------------------


def test_retries_end_with_their_budget() -> None:
    rig = ic.Rig()
    rig.workers(5)
    job = rig.job(lambda: 1 / 0, name="charge", retry=ic.Retry(50, "1s", budget=0.5))
    with rig:
        for n in range(40):
            rig.enqueue(job, after=f"{n}m")
        rig.advance("1h")
    retries = sum(j.attempts_made - 1 for j in rig.jobs())
    assert 10 + 20 - 1 <= retries <= 10 + 20, "ten in reserve, and half of the first attempts"
    assert len(rig.dead) == 40
    list(rig.dead)


def test_a_budget_is_for_all_jobs_of_a_type_and_no_other() -> None:
    rig = ic.Rig()
    rig.workers(5)
    bad, other = (rig.job(lambda: 1 / 0, name=name, retry=ic.Retry(3, "1s", budget=0)) for name in ("bad", "other"))
    with rig:
        for _ in range(9):
            rig.enqueue(bad)
        rig.advance("1m")
        rig.enqueue(other)
        rig.advance("1m")
    assert sum(j.attempts_made - 1 for j in rig.jobs("bad")) == 10
    assert rig.jobs("other").one().attempts_made == 3
    list(rig.dead)


@pytest.mark.parametrize(("reserve", "retries"), [(0, 20), (10, 29), (40, 59)])
def test_a_budget_saves_up_its_reserve_and_no_more(reserve: float, retries: int) -> None:
    down = [False]

    def sail() -> None:
        if down[0]:
            raise OSError("fog")

    with ic.Rig() as rig:
        ferry = rig.job(sail, retry=ic.Retry(3, "1h", budget=0.5, reserve=reserve))
        for bad in (False, True):
            down[0] = bad
            for _ in range(40 if bad else 100):
                rig.enqueue(ferry)
            rig.run_dry()
    # 100 good jobs have saved up the reserve, or one retry; the 40 bad ones save up 20 more while they fail, but for the
    # half that the first one adds to what is full.
    assert sum(job.attempts_made - 1 for job in rig.jobs()) == retries


@pytest.mark.parametrize("reserve", [-1, True, "ten", float("nan")])
def test_a_reserve_that_cannot_be(reserve: object) -> None:
    with pytest.raises(ic.PolicyError, match=r"reserve is .*; give how many retries are saved up at most, such as 10"):
        ic.Retry(3, "1s", budget=0.1, reserve=reserve)  # type: ignore[arg-type]


@pytest.mark.parametrize("budget", [-0.1, True, "a tenth", float("nan"), float("inf")])
def test_a_budget_that_cannot_be(budget: object) -> None:
    with pytest.raises(ic.PolicyError, match=r"budget is .*; give retries for each first attempt, such as 0\.1"):
        ic.Retry(3, "1s", budget=budget)  # type: ignore[arg-type]
    assert ic.Retry(3, budget=0.1) != ic.Retry(3)
    assert "retries at most 10% of first attempts and 10 saved up" in ic.Retry(3, "1s", budget=0.1).describe()
