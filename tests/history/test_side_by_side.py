"""Two histories side by side."""

from __future__ import annotations

import pytest

import ironclock as ic
from ironclock.history.side_by_side import side_by_side


def polled(fails: int, times: int = 5) -> ic.History:
    with ic.Rig() as rig:
        poll = rig.job(lambda: None, name="poll_buoy", retry=ic.Retry(2, "1m"))
        if fails:
            rig.faults.fail("poll_buoy", attempts=1, when=lambda attempt: attempt.job.number == fails)
        for _ in range(times):
            rig.enqueue(poll.call())
            rig.advance("1h")
    return rig.history


def test_what_is_alike_is_left_out() -> None:
    text = side_by_side(polled(0), polled(3), ("without", "with"), width=100)
    lines = text.splitlines()
    assert lines[0].split() == ["without", "|", "with"]
    assert "(7 lines alike)" in lines[1]
    (marked,) = [number for number, line in enumerate(lines) if line.startswith(">")]
    left, right = lines[marked].split("|")
    assert left.split() == [">", "11:00:00", *["poll_buoy-3:", "attempt", "1", "is", "done"]]
    assert right.strip().startswith("poll_buoy-3: attempt 1 fails")
    assert "tries again in 1m" in " ".join(line.split("|")[1].strip() for line in lines[marked : marked + 4])
    assert max(map(len, lines)) <= 100


def test_two_that_are_alike_give_nothing() -> None:
    assert side_by_side(polled(2), polled(2), ("one", "other")) == ""


@pytest.mark.parametrize("times", [1, 4])
def test_one_that_is_longer(times: int) -> None:
    text = side_by_side(polled(0, times), polled(0, times + 2), ("one", "other"))
    assert text.count(">") == 1
    assert f"poll_buoy-{times + 2}" in text
    assert text.count("\n") < 16


def test_no_more_than_so_many_lines() -> None:
    text = side_by_side(polled(0, 1), polled(0, 40), ("one", "other"), most=10)
    assert len(text.splitlines()) <= 24
    assert text.splitlines()[-1].split() == ["...", "|", "..."]
