"""A forecast by cohorts, for more jobs than can be gone through one by one: one worker pool and its queues, bin by bin,
all replications at once.

In each bin jobs arrive and start, first come first served, as long as the workers have time. What each job is, and how
it ends, is worked out for a block of bins at once. So the loop itself is a dozen operations on one row.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from .forecast_figures import Course, Trajectories
from .outage_calendar import OutageCalendar, Outside
from .retries import AttemptOutcomes, Ranks
from .service_time import Service, Short, service
from .waiting_line import WaitingLine
from .workload import Stream, WorkerPool, Workload

Floats = NDArray[np.float64]

BLOCKS = (60, 30, 20, 10, 5, 2)
"""How many bins a block can have. It is about as long as the wait of a retry at most."""
_FINE = 30_000
_PLENTY = 500.0
_RATE_S = 10.0
_STRETCH = 60
"""How many bins share a record of a line, and a call of the generator."""


@dataclass
class Traces:
    """What the loop notes: one row for each bin or block, one column for each replication."""

    backlog: NDArray[np.float32]
    """Ready jobs at the end of each bin."""
    returned: Floats
    """Retries that became due, one row for each block."""
    dead: Floats
    """Dead letters, one row for each block."""
    arrived: Floats
    """Jobs that arrived, one row for each block."""
    started: Floats
    """Attempts that started, one row for each block."""
    busy: Floats
    """Time of workers that was used, in bins, one row for each block."""
    joined: Floats
    """How many had joined each queue by each mark: mark, queue, replication."""
    waiting: Floats
    """How many waited in each queue at each mark."""
    block: int
    """How many bins a block is long."""
    mark: int
    """How many bins lie between marks."""


class PoolLoop:
    """The forecast of one pool."""

    def __init__(
        self, streams: Sequence[Stream], pool: WorkerPool, bins: int, step: float, columns: int, seed: Sequence[int]
    ) -> None:
        self._pool = pool
        self._bins = bins
        self._step = step
        self._columns = columns
        self._random = np.random.Generator(np.random.SFC64(list(seed)))
        self._queues = _queues(streams, pool)
        self._ranks = ranks = Ranks(streams, self._queues, pool.queues is None, step)
        self._block = next((size for size in BLOCKS if ranks.soonest >= 0.8 * size), 1)

    def run(self, progress: Callable[[float], None] | None = None) -> Traces:
        """Go through every bin; return the traces."""
        bins, columns, block, ranks = self._bins, self._columns, self._block, self._ranks
        blocks = -(-bins // block)
        count = len(self._queues)
        returned, dead, arrived, started, busy = (np.zeros((blocks, columns)) for _ in range(5))
        # The marks of a long span are further apart if they fit into its blocks.
        mark = next((m for m in (2, 5) if bins > _FINE and block % m == 0 and bins % m == 0), 1)
        marks = np.zeros((2, -(-bins // mark), count, columns))
        backlog = np.zeros((bins, columns), dtype=np.float32)
        traces = Traces(backlog, returned, dead, arrived, started, busy, marks[0], marks[1], block, mark)
        expected, bursts, workers = self._expected(), self._bursts(), self._workers()
        share, takes = self._failing(blocks)
        self._firsts = expected.sum(axis=0) + sum(bursts.values(), np.zeros(len(ranks.streams)))
        outcomes = AttemptOutcomes(ranks, columns, bins, block, self._random)
        lines = [WaitingLine(part.stop - part.start, columns) for part in ranks.parts]
        self._calendars = [OutageCalendar(partial(self._service, number)) for number in range(count)]
        self._waiting = [np.zeros(columns) for _ in lines]
        self._debt = np.zeros(columns)
        self._waits = np.zeros((block, count, columns))
        taken = np.zeros((len(ranks), columns))
        joined = np.zeros((count, columns))
        for number in range(blocks):
            first, end = number * block, min((number + 1) * block, bins)
            row = first % _STRETCH
            if row == 0:  # one call for many bins costs little more than a call for few
                drawn = self._arrivals(expected, bursts, first)
                for calendar in self._calendars:
                    calendar.stretch, calendar.drawn = first, len(drawn)
            fresh = drawn[row : row + end - first]
            coming = outcomes.due(number)
            slot = outcomes.slot(first)
            joins = outcomes.by_bin[slot : slot + end - first]
            if not ranks.dull:
                traces.returned[number] = coming.sum(axis=0)
            for k, queue in enumerate(ranks.queue_of):
                joins[:, queue] += fresh[:, k]
            # A cohort can return part of a job, but no part can start.
            joins = np.maximum(np.floor(joins + self._random.random(joins.shape)), 0.0, out=joins)
            hit = share[number] if share is not None and share[number].any() else None
            for calendar in self._calendars:
                calendar.turn(None if hit is None else (tuple(hit), tuple(takes[number])))
            traces.joined[first // mark : -(-end // mark)] = joined + np.cumsum(joins, axis=0)[mark - 1 :: mark]
            waits = self._waits[: end - first]
            begun = self._work(joins, row, workers[first:end], traces.backlog[first:end], waits)
            traces.waiting[first // mark : -(-end // mark)] = waits[mark - 1 :: mark]
            traces.busy[number] = sum(
                calendar.now.mean * each for calendar, each in zip(self._calendars, begun, strict=True)
            )
            by_stream = fresh.sum(axis=0)
            coming[ranks.first] += by_stream
            traces.arrived[number] = by_stream.sum(axis=0)
            joined += joins.sum(axis=0)
            traces.started[number] = begun.sum(axis=0)
            for q, (line, part) in enumerate(zip(lines, ranks.parts, strict=True)):
                if not ranks.dull:
                    line.push(first // _STRETCH, coming[part])
                    taken[part] = line.take(begun[q])
            if not ranks.dull:
                traces.dead[number] = outcomes.cohorts(number, taken, hit, takes[number])
            joins[:] = 0.0
            coming[:] = 0.0
            if progress is not None and number % 64 == 0:
                progress(number / blocks)
        return traces

    def _arrivals(self, expected: Floats, bursts: dict[int, Floats], first: int) -> Floats:
        """Draw how many jobs arrive in each of the next bins."""
        mean = expected[first : first + _STRETCH, :, None]
        shape = (*mean.shape[:2], self._columns)
        if mean.min() > _PLENTY:  # the normal distribution is as good there, and drawn much faster
            drawn = np.rint(self._random.standard_normal(shape) * np.sqrt(mean) + mean)
        else:
            drawn = self._random.poisson(mean, shape).astype(float)
        for row in range(len(drawn)) if bursts else ():
            if first + row in bursts:
                drawn[row] += bursts[first + row][:, None]
        return drawn

    # --- a block of bins ----------------------------------------------------------------------------

    def _work(self, joins: Floats, offset: int, workers: Floats, backlog: NDArray[np.float32], waits: Floats) -> Floats:
        """Serve the queues for a block; return how many jobs of each have started in each replication."""
        if len(self._calendars) > 1 or not self._calendars[0].alone:
            return self._work_many(joins, offset, workers, backlog, waits)
        serving = self._calendars[0].now
        if isinstance(serving, Short):
            serving.over += self._debt
            self._debt[:] = 0.0
        begun = serving.work(offset, joins[:, 0], workers, self._waiting[0], backlog)
        waits[:, 0] = backlog
        if isinstance(serving, Short):
            self._debt[:] = serving.over
            serving.over[:] = 0.0
        total: Floats = begun.sum(axis=0)
        return total[None]

    def _work_many(
        self, joins: Floats, offset: int, workers: Floats, backlog: NDArray[np.float32], waits: Floats
    ) -> Floats:
        """Serve several queues, by weight or in their order, or one queue whose durations have changed."""
        begun = np.zeros((len(self._calendars), self._columns))
        costs = np.array([calendar.now.cost for calendar in self._calendars])[:, None]
        for row, size in enumerate(workers):
            busy = np.zeros(self._columns)
            for number, calendar in enumerate(self._calendars):
                self._waiting[number] += joins[row, number]
                for serving in calendar.all:
                    busy = busy + serving.end(offset + row)
            room = size - busy - self._debt
            sizes = np.stack(self._waiting)
            starts = self._share(sizes, costs, room)
            spent = np.zeros(self._columns)
            for number, calendar in enumerate(self._calendars):
                self._waiting[number] -= starts[number]
                spent += calendar.now.start(offset + row, starts[number])
            left = sizes - starts
            total = left.sum(axis=0)
            # A worker without work loses its time. If jobs wait, the rest of its time goes to the next job.
            self._debt = np.maximum(spent - room, np.where(total > 0, -costs.min(), 0.0))
            begun += starts
            backlog[row] = total
            waits[row] = left
        return begun

    def _share(self, sizes: Floats, costs: Floats, room: Floats) -> Floats:
        """Return how many jobs of each queue start: all if there is room, or by weight, or in order."""
        plenty = (sizes * costs).sum(axis=0) <= room
        if plenty.all():
            return sizes
        spare = np.maximum(room, 0.0)
        starts = np.zeros_like(sizes)
        queues = self._pool.queues
        if isinstance(queues, Mapping):
            weights = np.array([float(queues[q]) for q in self._queues])[:, None]
            for _ in sizes:  # an empty queue leaves its share to the others
                more = sizes - starts > 1e-9
                rate = (more * weights * costs).sum(axis=0)
                level = np.divide(spare, rate, out=np.zeros_like(spare), where=rate > 0)
                grown = np.minimum(sizes, starts + more * weights * level)
                spare = spare - ((grown - starts) * costs).sum(axis=0)
                starts = grown
            starts = np.minimum(sizes, np.floor(starts + self._random.random(starts.shape)))
        else:
            for number in range(len(sizes)):
                starts[number] = np.minimum(sizes[number], np.floor(spare / costs[number] + 1e-9))
                spare = np.maximum(spare - starts[number] * costs[number], 0.0)
        return np.where(plenty, sizes, starts)

    # --- what comes, and who is there ---------------------------------------------------------------

    def _service(self, queue: int, outage: Outside | None) -> Service:
        """Return the service of a queue, for the mix of jobs that arrive in it, in an outage or outside one."""
        ranks = self._ranks
        mine = [k for k, of in enumerate(ranks.queue_of) if of == queue]
        weights = np.array([max(float(self._firsts[k]), 1e-12) for k in mine])
        means = ranks.table[mine].mean(axis=1)
        squares = (ranks.table[mine] ** 2).mean(axis=1)
        if outage is not None:
            for number, k in enumerate(mine):
                share, takes = outage[0][k], outage[1][k]
                if share > 0 and takes >= 0:
                    takes = min(takes, ranks.limit[k])
                    means[number] += share * (takes - means[number])
                    squares[number] += share * (takes**2 - squares[number])
        weights /= weights.sum()
        mean = float(weights @ means)
        deviation = max(0.0, float(weights @ squares) - mean * mean) ** 0.5
        return service(max(mean, 1e-6), deviation, self._pool.size, self._columns, self._random)

    def _expected(self) -> Floats:
        """Return how many jobs of each stream are expected in each bin, without bursts."""
        made = np.zeros((self._bins, len(self._ranks.streams)))
        for k, stream in enumerate(self._ranks.streams):
            if callable(stream.rate):
                # A rate counts for ten seconds: to ask for it in every bin would take longer than everything else.
                apart = max(1, round(_RATE_S / self._step))
                middles = (np.arange(-(-self._bins // apart)) + 0.5) * apart * self._step
                made[:, k] = np.repeat([stream.rate(float(at)) for at in middles], apart)[: self._bins]
            else:
                made[:, k] = stream.rate
        return made * self._step

    def _bursts(self) -> dict[int, Floats]:
        made: dict[int, Floats] = {}
        for k, stream in enumerate(self._ranks.streams):
            for at, count in stream.bursts:
                bin = int(at / self._step)
                if 0 <= bin < self._bins:
                    made.setdefault(bin, np.zeros(len(self._ranks.streams)))[k] += count
        return made

    def _workers(self) -> Floats:
        made = np.full(self._bins, float(self._pool.size))
        for since, until, _ in self._pool.absences:
            made[_span(since, until, self._step, self._bins)] = 0.0
        return made

    def _failing(self, blocks: int) -> tuple[Floats | None, Floats]:
        """Return the share of each stream that fails because of an outage in each block, and how long that takes in
        bins (-1: the usual time)."""
        streams = self._ranks.streams
        takes = np.full((blocks, len(streams)), -1.0)
        if not any(stream.outages for stream in streams):
            return None, takes
        share = np.zeros((blocks * self._block, len(streams)))
        for k, stream in enumerate(streams):
            for outage in stream.outages:
                span = _span(outage.since, outage.until, self._step, len(share))
                share[span, k] = 1 - (1 - share[span, k]) * (1 - outage.share)
                if outage.takes is not None:
                    takes[span.start // self._block : -(-span.stop // self._block), k] = outage.takes / self._step
        return share.reshape(blocks, self._block, -1).mean(axis=1), takes


def _span(since: float, until: float, step: float, bins: int) -> slice:
    return slice(max(0, round(since / step)), max(0, min(bins, round(until / step))))


def _queues(streams: Sequence[Stream], pool: WorkerPool) -> list[str]:
    if pool.queues is None:
        return ["*"]
    used = {stream.queue for stream in streams}
    return [queue for queue in pool.queues if queue in used]


# --- from traces to the course of the days ---------------------------------------------------------------


def run_cohorts(
    workload: Workload, step: float, bins: int, columns: int, seed: Sequence[int],
    progress: Callable[[float], None] | None = None,
) -> Course:  # fmt: skip
    """Run `columns` days of a workload, all at once, bin by bin. `step` is the length of a bin in seconds."""
    traces: list[Traces] = []
    for number, pool in enumerate(workload.pools):
        streams = [stream for stream in workload.streams if workload.pool_of(stream) == number]
        if streams:
            traces.append(PoolLoop(streams, pool, bins, step, columns, [*seed, number]).run(progress))
    backlog = traces[0].backlog if len(traces) == 1 else np.sum([t.backlog for t in traces], axis=0)
    frame = max(1, round(60.0 / step))
    frames = -(-bins // frame)
    edges = np.arange(frames) * frame
    trajectories = Trajectories(
        frame * step, np.maximum.reduceat(backlog, edges, axis=0).astype(float), _ages(traces, step, frames, frame),
        *(_by_frame(traces, name, frames, frame) for name in ("returned", "dead", "arrived")),
    )  # fmt: skip
    area = backlog.sum(axis=0, dtype=float) * step
    return Course(
        backlog, trajectories, area / (bins * step), area, np.sum([t.busy.sum(axis=0) for t in traces], axis=0) * step,
        np.sum([t.started.sum(axis=0) for t in traces], axis=0), trajectories.arrived.sum(axis=0),
        trajectories.dead.sum(axis=0), np.zeros(columns),
    )  # fmt: skip


def _by_frame(traces: Sequence[Traces], name: str, frames: int, frame: int) -> Floats:
    made = np.zeros((frames, traces[0].backlog.shape[1]))
    for trace in traces:
        rows: Floats = getattr(trace, name)
        at = np.minimum(np.arange(len(rows)) * trace.block // frame, frames - 1)
        begins = np.flatnonzero(np.diff(at, prepend=-1))
        made[at[begins]] += np.add.reduceat(rows, begins, axis=0)
    return made


def _ages(traces: Sequence[Traces], step: float, frames: int, frame: int) -> Floats:
    """Return for each frame how long the oldest ready job has waited at most, in seconds: since the instant at which as
    many jobs had joined its queue as have left it by now."""
    columns = traces[0].backlog.shape[1]
    made = np.zeros((frames, columns))
    for trace in traces:
        marks, queues, _ = trace.joined.shape
        ends = np.minimum(np.arange(1, marks + 1) * trace.mark, len(trace.backlog)) * step
        times = np.insert(ends, 0, 0.0)
        at = np.minimum((np.arange(1, marks + 1) * trace.mark - 1) // frame, frames - 1)
        for queue in range(queues):
            waiting = trace.waiting[:, queue]
            for column in np.flatnonzero(waiting.max(axis=0) > 0.5):
                some = np.flatnonzero(waiting[:, column] > 0.5)
                joined = np.insert(trace.joined[:, queue, column], 0, 0.0)
                left = joined[some + 1] - waiting[some, column]
                ages = ends[some] - np.interp(left + 0.5, joined, times)
                np.maximum.at(made, (at[some], np.full(len(some), column)), ages)
    return made
