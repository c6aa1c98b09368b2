"""The window law: a poll over [now, now + 1 min) covers everything once, or the runs that prove otherwise are shown."""

from __future__ import annotations

import datetime as dt
import time
from typing import Any

import pytest

import ironclock as ic


class Reminders:
    """Rows with a due time, and the poll that handles those of the coming minute."""

    def __init__(self, due: list[float], *, careful: bool) -> None:
        self.due, self.careful = due, careful
        self.reached: float | None = None

    def poll(self) -> list[float]:
        now = time.time()
        begin = self.reached if self.careful and self.reached is not None else now
        self.reached = now + 60
        return [due for due in self.due if begin <= due < now + 60]


@pytest.mark.parametrize(("careful", "late", "holds"), [(False, False, True), (False, True, False), (True, True, True)])
def test_a_late_tick_loses_and_doubles_rows_unless_the_poll_remembers(careful: bool, late: bool, holds: bool) -> None:
    rig = ic.Rig(start="2031-03-03T18:00")
    due = [rig.now.timestamp() + 7 * n for n in range(80)]
    kind = rig.job(Reminders(due, careful=careful).poll, name="poll_rows")
    rig.schedule("poll-rows", kind.call(), ic.cron("* * * * *"))
    if late:
        rig.faults.slow("poll_rows", by="8s", when=lambda attempt: attempt.job.number == 4)
    with rig:
        rig.advance("10m")
    law = ic.laws.once_per_key("poll_rows", due=due)
    if holds:
        rig.check(law)
        return
    with pytest.raises(ic.BrokenLaw) as caught:
        rig.check(law)
    message = str(caught.value)
    assert "is handled 2 times, by poll_rows-4 at 2031-03-03T18:03:00+00:00 and by poll_rows-5" in message
    assert "is never handled; the runs were poll_rows-1 at" in message


def polls(*spans: tuple[int, int]) -> ic.Rig:
    rig = ic.Rig(start="2031-03-03T18:00", payload="any")
    start = rig.now
    kind = rig.job(lambda *span: tuple(start + dt.timedelta(seconds=s) for s in span), name="poll")
    for number, span in enumerate(spans):
        rig.enqueue(kind.call(*span), after=number)
    rig.run_dry()
    return rig


@pytest.mark.parametrize(
    ("spans", "says"),
    [
        ([(0, 60), (60, 120), (120, 180)], ""), ([(0, 60), (61, 180)], "a gap of 1s between poll-1 at"),
        ([(0, 60), (59, 180)], "covered twice: 1s between poll-1 at"), ([(5, 180)], "a gap of 5s at the start"),
        ([(0, 50)], "a gap of 2m10s at the end"), ([(0, 180), (60, 120)], "covered twice"), ([], "nothing is covered"),
    ],
)  # fmt: skip
def test_windows_must_follow_one_another(spans: list[tuple[int, int]], says: str) -> None:
    start = dt.datetime(2031, 3, 3, 18, tzinfo=dt.timezone.utc)
    law: Any = ic.laws.covers("poll", start=start, end=start + dt.timedelta(minutes=3))
    if not says:
        polls(*spans).check(law)
        return
    with pytest.raises(ic.BrokenLaw, match=says):
        polls(*spans).check(law)


def test_a_law_that_cannot_read_its_windows_says_so() -> None:
    with ic.Rig() as rig:
        rig.enqueue(rig.job(lambda: "soon", name="poll").call())
        rig.settle()
    with pytest.raises(ic.InputError, match="window of poll-1 is 'soon'"):
        rig.check(ic.laws.covers("poll"))
