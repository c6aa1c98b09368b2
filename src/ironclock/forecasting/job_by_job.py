"""A forecast job by job: the arrays of a workload, and its days one after another."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from math import ceil, inf, sqrt
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..foundation.durations import NS
from ..simulation.retry import Retry, most_saved
from . import day as days
from .day import ENTRY, WorkloadTables
from .forecast_figures import Course, Trajectories
from .quantile_tables import SIZE, durations, waits
from .workload import CalledService, QueueLimit, Stream, Workload

Floats = NDArray[np.float64]

_PIECE_S = 10.0
"""For how many seconds a rate counts that is a function: to ask for it at each job would take longer than the rest."""
_HOW = {"fails": days.FAILS, "slower": days.SLOWER, "hangs": days.HANGS}
_THEN = {"retry": days.RETRY, "dead": days.DEAD, "dropped": days.DROPPED}
_OVERLAP = {"allow": days.ALLOW, "skip": days.SKIP, "wait": days.WAIT}


def expected_jobs(streams: Sequence[Stream], span: float) -> float:
    """Return how many jobs are expected in a span in seconds."""
    total = 0.0
    for stream in streams:
        rates, piece = _rates(stream, span)
        total += float(rates.sum()) * (span if piece == inf else piece)
        total += sum(count for at, count in stream.bursts if 0 <= at < span)
        total += sum(len(firings.times) for firings in stream.firings)
    return total


def expected_attempts(streams: Sequence[Stream], span: float) -> float:
    """Return how many attempts are expected in a span in seconds, without those that services bring about."""
    total = 0.0
    for stream in streams:
        hit = max((o.share for o in stream.outages), default=0.0)
        hours = sum(min(o.until, span) - max(0.0, min(o.since, span)) for o in stream.outages) / span
        most = stream.retry.attempts
        tries = float(sum(stream.fails**n for n in range(most))) + min(1.0, hours) * hit * (most - 1)
        total += expected_jobs([stream], span) * tries
    return total


def run_days(
    tables: WorkloadTables, room: int, step: float, bins: int, columns: int, seed: Sequence[int],
    progress: Callable[[float], None] | None = None,
) -> Course:  # fmt: skip
    """Run `columns` days, job by job, with room for `room` open jobs at first. A bin is `step` seconds long."""
    span = bins * step
    frame = max(1, round(60.0 / step)) * step
    frames = ceil(span / frame - 1e-9)
    made = Course(
        np.zeros((bins, columns), dtype=np.float32),
        Trajectories(frame, *(np.zeros((frames, columns)) for _ in range(days.FRAME_ROWS))),
        *(np.zeros(columns) for _ in range(7)),
    )
    for column in range(columns):
        day = None
        while day is None:
            random = np.random.Generator(np.random.SFC64([*seed, column]))
            day = run_day(tables, room, span, step, bins, frame, frames, random)
            room = room if day is not None else 2 * room
        _note(made, column, day, span)
        if progress is not None:
            progress((column + 1) / columns)
    return made


def _note(made: Course, column: int, day: Day, span: float) -> None:
    made.backlog[:, column] = day.bins
    course, world = made.trajectories, day.world
    for row, into in zip(
        day.frames, (course.backlog, course.age, course.retries, course.dead, course.arrived), strict=True
    ):
        into[:, column] = row
    made.mean_backlog[column] = world.area / span
    made.waited[column], made.worked[column], made.started[column] = world.waited, world.worked, world.started
    made.arrived[column], made.dead[column], made.dropped[column] = world.arrived, world.dead, world.dropped


def room_for(workload: Workload, span: float) -> int:
    """Return for how many open jobs there should be room at first. A day with more of them is run again with more."""
    jobs = expected_jobs(workload.streams, span)
    together = sum(max((count for _, count in stream.bursts), default=0.0) for stream in workload.streams)
    return int(min(jobs + 10 * sqrt(jobs), 20_000 + 1.1 * together)) + 100


# --- the arrays -----------------------------------------------------------------------------------------


def _rates(stream: Stream, span: float) -> tuple[Floats, float]:
    """Return the rates of a stream by piece, and the length of a piece in seconds."""
    if not callable(stream.rate):
        return np.array([float(stream.rate)]), inf
    middles = (np.arange(ceil(span / _PIECE_S)) + 0.5) * _PIECE_S
    return np.array([stream.rate(float(at)) for at in middles]), _PIECE_S


def tables_of(workload: Workload, span: float) -> WorkloadTables:
    """Return the tables of a workload for a span in seconds."""
    streams = list(workload.streams)
    lines, pools = _lines(workload)
    queues = list(dict.fromkeys([*(s.queue for s in streams), *workload.limits]))
    limits = [workload.limits.get(queue, QueueLimit()) for queue in queues]
    types = list(dict.fromkeys(s.name for s in streams))
    services = list(workload.services)
    attempts = max(stream.retry.attempts for stream in streams)
    schedules = [(number, firings) for number, stream in enumerate(streams) for firings in stream.firings]
    bursts = [(at, number, count) for number, s in enumerate(streams) for at, count in s.bursts if 0 <= at < span]
    ends = np.cumsum([0, *(len(s.outages) for s in streams)])
    retries = {stream.name: stream.retry for stream in streams}
    rates, piece = _together([_rates(stream, span) for stream in streams])
    moments: list[tuple[float, int, int, int]] = [
        *((at, days.BURST, stream, number) for number, (at, stream, _) in enumerate(bursts)),
        *((at, days.FIRE, n, 0) for n, (_, firings) in enumerate(schedules) for at in firings.times if 0 <= at < span),
        *_steps(days.AWAY, [pool.absences for pool in workload.pools]),
        *_steps(days.GATE, [[(*closed, 1) for closed in limit.closed] for limit in limits]),
    ]
    return WorkloadTables(
        streams=_records(days.STREAM, [
            (
                queues.index(s.queue), _line_of(workload, lines, s), workload.pool_of(s), s.priority, s.fails,
                _or(s.timeout, inf), _or(s.expires, inf), inf if s.retry.within is None else s.retry.within / NS,
                s.retry.attempts, _THEN[s.after_failure], _THEN[s.after_timeout], _THEN[s.after_refusal],
                -1 if s.calls is None else services.index(s.calls), types.index(s.name), ends[number], ends[number + 1],
            )
            for number, s in enumerate(streams)
        ]),
        types=_records(days.TYPE, [_budget(retries[name]) for name in types]),
        outages=_records(days.OUTAGE, [
            (
                o.since, o.until, o.share, _or(o.takes, -1.0), sum(1 << min(n, 62) for n in o.attempts), _HOW[o.how],
                _THEN[o.then],
            )
            for s in streams for o in s.outages
        ]),
        schedules=_records(days.SCHEDULE, [
            (number, _OVERLAP[firings.overlap], firings.jitter, firings.poll, -1, 0) for number, firings in schedules
        ]),
        queues=_records(
            days.QUEUE, [_queue(limit, _named(lines, queue)) for limit, queue in zip(limits, queues, strict=True)]
        ),
        lines=_records(days.LINE, [(weight, 0, 0) for _, _, weight in lines]),
        pools=_records(days.POOL, [
            (first, end, pool.size, 0, 0) for (first, end), pool in zip(pools, workload.pools, strict=True)
        ]),
        services=_records(days.SERVICE, [_service(workload.services[name]) for name in services]),
        moments=_records(ENTRY, [(at, 0, what, which, stamp) for at, what, which, stamp in sorted(moments)]),
        counts=np.array([count for _, _, count in bursts]),
        takes=np.stack([durations(s.takes, None, 1.0) for s in streams]),
        waits=np.stack([_waits(s, attempts) for s in streams]),
        rates=rates,
        piece=piece,
    )  # fmt: skip


def _records(kind: np.dtype[Any], rows: Sequence[tuple[Any, ...]]) -> Any:
    return np.array(rows, dtype=kind).view(np.recarray)


def _queue(limit: QueueLimit, line: int) -> tuple[Any, ...]:
    rate, span = limit.rate or (0, 0.0)
    most = -1 if limit.running is None else limit.running
    return line, limit != QueueLimit(), most, rate, span, 0, 0, 0, 0, -1.0


def _budget(retry: Retry) -> tuple[float, float, float]:
    share = _or(retry.budget, inf)
    return share, float(retry.reserve), most_saved(share, retry.reserve)


def _service(service: CalledService) -> tuple[Any, ...]:
    breaker = service.breaker
    parts = (2.0, 1, 0.0) if breaker is None else (breaker.failing, breaker.of, breaker.open_ns / NS)
    return service.capacity, service.beyond == "fails", 0, *parts, 0, 0, 0.0


def run_day(
    tables: WorkloadTables, room: int, span: float, step: float, bins: int, frame: float, frames: int,
    random: np.random.Generator,
) -> Day | None:  # fmt: skip
    """Run one day, with room for so many open jobs. None if there were more."""
    parts = (part.copy() if isinstance(part, np.recarray) else part for part in tables)
    tables = WorkloadTables(*parts)  # type: ignore[arg-type]
    queues, lines, services = len(tables.queues), len(tables.lines), len(tables.services)
    # The event of a job that would expire stays until its time, also if the job has started long ago.
    events = (4 if (tables.streams.expires < inf).any() else 2) * room
    events += len(tables.moments) + len(tables.streams) + queues + 10
    world = np.zeros(1, dtype=days.WORLD).view(np.recarray)
    world.span, world.bin, world.frame, world.free = span, step, frame, room
    world.oldest = world.newest = -1
    kept = 2 * room if tables.queues.limited.any() else 1
    day = Day(world[0], np.zeros(bins, dtype=np.float32), np.zeros((days.FRAME_ROWS, frames)))
    days.run(
        tables, world, np.zeros(room, dtype=days.JOB).view(np.recarray), np.arange(room - 1, -1, -1),
        np.zeros(events, dtype=ENTRY).view(np.recarray), np.zeros((lines, 2 * room), dtype=ENTRY).view(np.recarray),
        np.zeros((queues, kept), dtype=ENTRY).view(np.recarray),
        np.zeros((queues, max(1, int(tables.queues.rate.max(initial=0))))),
        np.zeros((services, max(1, int(tables.services.of.max(initial=1)))), dtype=np.int64), day.bins, day.frames,
        random,
    )  # fmt: skip
    return None if world.full[0] else day


@dataclass(frozen=True)
class Day:
    """What was noted of one day."""

    world: Any
    """The sums: a record of the kind `day.WORLD`."""
    bins: NDArray[np.float32]
    frames: Floats


def _or(value: float | None, usual: float) -> float:
    return usual if value is None else value


def _waits(stream: Stream, attempts: int) -> Floats:
    table = np.full((attempts, SIZE), -1.0)
    rows = waits(stream.retry, 1.0)
    table[: len(rows)] = rows
    return table


def _together(rates: Sequence[tuple[Floats, float]]) -> tuple[Floats, float]:
    """Return the rates of all streams with pieces of the same length."""
    pieces = max(len(each) for each, _ in rates)
    table = np.stack([np.repeat(each, pieces) if len(each) == 1 else each for each, _ in rates])
    return table, min(piece for _, piece in rates)


def _lines(workload: Workload) -> tuple[list[tuple[int, str, int]], list[tuple[int, int]]]:
    """Return the lines of waiting jobs as pool, queue and weight (0: strict order), and each pool's first and last."""
    lines: list[tuple[int, str, int]] = []
    pools = []
    for number, pool in enumerate(workload.pools):
        names = ["*"] if pool.queues is None else list(pool.queues)
        pools.append((len(lines), len(lines) + len(names)))
        lines += [(number, name, pool.queues[name] if isinstance(pool.queues, Mapping) else 0) for name in names]
    return lines, pools


def _line_of(workload: Workload, lines: Sequence[tuple[int, str, int]], stream: Stream) -> int:
    pool = workload.pool_of(stream)
    return next(n for n, (of, name, _) in enumerate(lines) if of == pool and name in (stream.queue, "*"))


def _named(lines: Sequence[tuple[int, str, int]], queue: str) -> int:
    named = [number for number, (_, name, _) in enumerate(lines) if name == queue]
    return (named or [number for number, (_, name, _) in enumerate(lines) if name == "*"] or [0])[0]


def _steps(what: int, spans: Sequence[Sequence[tuple[float, float, int]]]) -> list[tuple[float, int, int, int]]:
    """Return the moments at which something begins and ends: the instant, what, its number, by how much."""
    made = []
    for number, each in enumerate(spans):
        for since, until, count in each:
            made += [(max(0.0, since), what, number, count), (until, what, number, -count)]
    return made
