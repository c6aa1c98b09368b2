"""Schedules as they are written in short: a cron expression, or a period."""

from __future__ import annotations

import datetime as dt

from ..errors import DurationError, InputError
from .cron import cron
from .intervals import every
from .schedule import Schedule


def schedule_of(given: object) -> Schedule:
    """Return the schedule that is meant. Raises `InputError`, or `CronError` for a cron expression.

    Parameters: `given` is a schedule, a cron expression, or a period as text or `timedelta`.
    """
    if isinstance(given, Schedule):
        return given
    if isinstance(given, dt.timedelta):
        return every(given)
    if isinstance(given, str):
        if given.lstrip().startswith("@") or len(given.split()) >= 5:
            return cron(given)
        try:
            return every(given)
        except DurationError:
            pass
    raise InputError(
        f"schedule is {given!r}; give ic.cron(...), ic.every(...) or another schedule, a cron expression such as "
        "'30 1 * * *', or a period such as '15m'"
    )
