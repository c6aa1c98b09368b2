"""The law of windows: what polls covered, without a gap and without an overlap."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

from ..errors import InputError, SelectionError, nearest
from ..foundation.durations import spell, to_ns
from ..foundation.instants import Timeline, instant_ns, instant_text
from ..simulation.jobs import Job
from .law import Breach, JobLike, Law, World, states


@states
def covers(
    job: JobLike, window: Callable[[Job[Any]], tuple[dt.datetime, dt.datetime]] | None = None, *,
    start: dt.datetime | None = None, end: dt.datetime | None = None,
) -> Law:  # fmt: skip
    """Return the law that the windows of a job's runs follow one another without a gap and without an overlap.

    Only runs that are done count: nobody handled what a failed run covered.

    Parameters:

    - `job`: the job type.
    - `window`: a function of the `Job` that returns its window, [begin, end), as aware datetimes. Default None: the
      result of the job.
    - `start`, `end`: what all windows together must reach. Default None: not checked.

    Example::

        rig.check(ic.laws.covers("poll_buoy"))
    """

    def covers(world: World) -> list[str]:
        world.of(job)
        name, spans = world.name_of(job), []
        for run in world:
            if run.name == name and run.state == "done":
                begin, until = _window(run, window)
                spans.append((begin, until, run))
        spans.sort(key=lambda span: (span[0], span[1]))
        broken = []
        if not spans:
            return [f"no run of {name} is done, so nothing is covered"]
        if start is not None and spans[0][0] > instant_ns(start):
            missing = spell(spans[0][0] - instant_ns(start))
            broken.append(f"a gap of {missing} at the start, before {_seen(spans[0][2], *spans[0][:2])}")
        reach, holder = spans[0][1], spans[0]
        for span in spans[1:]:
            begin, until, run = span
            if begin != reach:
                what = "a gap" if begin > reach else "covered twice:"
                broken.append(
                    f"{what} {'of ' * (begin > reach)}{spell(abs(begin - reach))} between "
                    f"{_seen(holder[2], *holder[:2])} and {_seen(run, begin, until)}"
                )
            if until > reach:
                reach, holder = until, span
        if end is not None and reach < instant_ns(end):
            missing = spell(instant_ns(end) - reach)
            broken.append(f"a gap of {missing} at the end, after {_seen(holder[2], *holder[:2])}")
        return broken

    return covers


@states
def no_firing_refused(schedule: str | None = None) -> Law:
    """Return the law that no firing of a schedule was refused: each became a run, or was left out on purpose.

    A firing is refused if the queue does not take its job: in an outage, or because a unique job is there already.

    Parameters: `schedule` is the name of the schedule. Default None: all. Raises `SelectionError` for a name that no
    schedule has.

    Example::

        rig.schedule("close-till", till, "30 1 * * *")
        rig.advance("1d")
        rig.check(ic.laws.no_firing_refused("close-till"))
    """

    def no_firing_refused(world: World) -> list[Breach]:
        known = world.history.fact("schedules", None)
        if schedule is not None and known is not None and schedule not in known:
            raise SelectionError(
                f"a law is about the schedule {schedule!r}, and there is no schedule of that name; "
                f"{nearest(schedule, known)}"
            )
        refused = world.entries_that("firing-refused")
        return [
            Breach(f"a firing of {entry.data['schedule']!r} was refused: {entry.data['error']}", (entry,))
            for entry in refused
            if schedule in (None, entry.data["schedule"])
        ]

    return no_firing_refused


def _window(run: Job[Any], window: Callable[[Job[Any]], Any] | None) -> tuple[int, int]:
    given = run.result if window is None else window(run)
    try:
        begin, until = given
        return _ns(begin), _ns(until)
    except (TypeError, ValueError, AttributeError):
        raise InputError(f"the window of {run.id} is {given!r}; give (begin, end) as aware datetimes") from None


def _ns(moment: Any) -> int:
    if isinstance(moment, (int, float)):  # seconds since the epoch, as `time.time()` gives them
        return to_ns(moment)
    if isinstance(moment, str):  # a saved history holds text
        moment = dt.datetime.fromisoformat(moment)
    if moment.utcoffset() is None:
        raise ValueError("naive")
    return instant_ns(moment)


def run_words(run: Job[Any]) -> str:
    """Return the id of a run with the instant of its last start."""
    return f"{run.id} at {instant_text(run.attempts[-1].started_at)}"


def _seen(run: Job[Any], begin: int, until: int) -> str:
    text = Timeline(run.enqueued_at.tzinfo or dt.timezone.utc).text
    return f"{run_words(run)} with [{text(begin)}, {text(until)})"
