"""Failures in a row: a job, or a call, fails several times one after the other."""

from __future__ import annotations

from collections.abc import Iterable

from .fail import FAIL
from .kind import Amounts, ErrorLike, FaultKind, Passing, Strike


def begins_lasting(passing: Passing, passed: int) -> bool:
    """Return True if a search lets a lasting fault begin here.

    They begin where such a seam is passed for the first, second, fourth, eighth time and so on: to begin a little
    later makes less and less of a difference.
    """
    if passed & (passed - 1):
        return False
    return is_before_effect(passing.seam) or (passing.seam == "start" and passing.attempt is not None)


def is_before_effect(seam: str) -> bool:
    """Return True for the seam before an effect or a real call."""
    return seam.startswith("before ") and seam != "before commit"


class FailRepeatedly(FaultKind):
    """It fails a number of times, one after the other."""

    name = "fail_repeatedly"
    words = "it fails {by} times in a row"
    seams = frozenset({"start", "before"})
    needs = frozenset({"fail"})
    strikes = frozenset({"attempt", "thread", "request"})
    uses_up = "attempt"
    is_lasting = True
    cell = "fails before"
    excuses = FAIL.excuses

    def strike(self, passing: Passing, strike: Strike) -> None:
        passing.fail(strike.make_error())

    def amounts(self, passing: Passing, tried: Amounts, passed: int) -> Iterable[int]:
        if not begins_lasting(passing, passed):
            return ()
        most = 1 << 30
        attempt = passing.attempt
        if passing.seam == "start" and attempt is not None and attempt.loop is None:
            most = attempt.job.type.retry.attempts - attempt.job.failures - 1 + tried.exhausts
        return [number for number in tried.in_a_row if 1 < number <= most]

    def error(self, seam: str) -> ErrorLike:
        return FAIL.error(seam)

    def goes_on(self, began: str, passing: Passing, is_same_job: bool) -> bool:
        return passing.seam == began and (began != "start" or is_same_job)


FAIL_REPEATEDLY = FailRepeatedly()
