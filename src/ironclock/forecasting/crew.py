"""The forecast's loop: one crew and its queues, bin by bin, all replications at once.

In each bin jobs come and are started, first come first served, while the workers have time; what each of them is and
what becomes of it is told apart a block of bins at a time. So the loop itself is a dozen operations on one row.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from .lines import Line
from .outcomes import Outcomes, Ranks
from .plant import Crew, Stream
from .service import Service, Short, service
from .shifts import Outside, Shifts

Floats = NDArray[np.float64]

BLOCKS = (60, 30, 20, 10, 5, 2)
"""How many bins a block may be long; at most about as long as a retry waits."""
_FINE = 30_000
_PLENTY = 500.0
_RATE_S = 10.0
_STRETCH = 60
"""How many bins share a record of a line, and a call of the generator."""


@dataclass
class Traces:
    """What the loop writes down; a row a bin or a block, and a column a replication."""

    backlog: NDArray[np.float32]
    """Ready jobs at the end of each bin."""
    returned: Floats
    """Retries that fell due, a row a block."""
    dead: Floats
    """Dead letters, a row a block."""
    arrived: Floats
    """Jobs that came, a row a block."""
    started: Floats
    """Attempts that were started, a row a block."""
    busy: Floats
    """Workers' time that was used, in bins, a row a block."""
    joined: Floats
    """How many had joined each queue by each mark: mark, queue, replication."""
    waiting: Floats
    """How many waited in each queue at each mark."""
    block: int
    """How many bins a block is long."""
    mark: int
    """How many bins lie between marks."""


class CrewLoop:
    """One crew's share of a forecast."""

    def __init__(
        self, streams: Sequence[Stream], crew: Crew, bins: int, step: float, columns: int, seed: Sequence[int]
    ) -> None:
        self._crew = crew
        self._bins = bins
        self._step = step
        self._columns = columns
        self._random = np.random.Generator(np.random.SFC64(list(seed)))
        self._queues = _queues(streams, crew)
        self._ranks = ranks = Ranks(streams, self._queues, crew.queues is None, step)
        self._block = next((size for size in BLOCKS if ranks.soonest >= 0.8 * size), 1)

    def run(self, progress: Callable[[float], None] | None = None) -> Traces:
        """Go through every bin; return what was written down."""
        bins, columns, block, ranks = self._bins, self._columns, self._block, self._ranks
        blocks = -(-bins // block)
        count = len(self._queues)
        returned, dead, arrived, started, busy = (np.zeros((blocks, columns)) for _ in range(5))
        # Marks of a long span are further apart, where they fit into its blocks.
        mark = next((m for m in (2, 5) if bins > _FINE and block % m == 0 and bins % m == 0), 1)
        marks = np.zeros((2, -(-bins // mark), count, columns))
        backlog = np.zeros((bins, columns), dtype=np.float32)
        traces = Traces(backlog, returned, dead, arrived, started, busy, marks[0], marks[1], block, mark)
        expected, bursts, workers = self._expected(), self._bursts(), self._workers()
        share, takes = self._failing(blocks)
        firsts = expected.sum(axis=0) + sum(bursts.values(), np.zeros(len(ranks.streams)))
        outcomes = Outcomes(ranks, columns, bins, block, self._random)
        exact = ranks.few(firsts, bins)
        give = outcomes.each if exact else outcomes.cohorts
        lines = [Line(part.stop - part.start, columns, exact) for part in ranks.parts]
        self._firsts = firsts
        self._shifts = [Shifts(partial(self._service, number)) for number in range(count)]
        self._waiting = [np.zeros(columns) for _ in lines]
        self._debt = np.zeros(columns)
        self._waits = np.zeros((block, count, columns))
        taken = np.zeros((len(ranks), columns))
        owed = np.zeros((count, columns))
        joined = np.zeros((count, columns))
        for number in range(blocks):
            first, end = number * block, min((number + 1) * block, bins)
            row = first % _STRETCH
            if row == 0:  # one call for many bins costs little more than one for few
                drawn = self._arrivals(expected, bursts, first)
                for shifts in self._shifts:
                    shifts.stretch, shifts.drawn = first, len(drawn)
            fresh = drawn[row : row + end - first]
            coming = outcomes.due(number)
            slot = outcomes.slot(first)
            joins = outcomes.by_bin[slot : slot + end - first]
            if not ranks.dull:
                traces.returned[number] = coming.sum(axis=0)
            for k, queue in enumerate(ranks.queue_of):
                joins[:, queue] += fresh[:, k]
            if not exact:  # part of a job may come back of a cohort, but none can be started
                whole = np.floor(joins + self._random.random(joins.shape))
                joins = np.maximum(whole, 0.0, out=joins)
            hit = share[number] if share is not None and share[number].any() else None
            for shifts in self._shifts:
                shifts.turn(None if hit is None else (tuple(hit), tuple(takes[number])))
            traces.joined[first // mark : -(-end // mark)] = joined + np.cumsum(joins, axis=0)[mark - 1 :: mark]
            waits = self._waits[: end - first]
            begun = self._work(joins, row, workers[first:end], traces.backlog[first:end], waits)
            traces.waiting[first // mark : -(-end // mark)] = waits[mark - 1 :: mark]
            if exact:  # what short jobs left of a bin, they go on with in the next one
                owed += begun
                begun = np.floor(owed + 1e-9)
                owed -= begun
            traces.busy[number] = sum(shifts.now.mean * each for shifts, each in zip(self._shifts, begun, strict=True))
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
                traces.dead[number] = give(number, taken, hit, takes[number])
            joins[:] = 0.0
            coming[:] = 0.0
            if progress is not None and number % 64 == 0:
                progress(number / blocks)
        return traces

    def _arrivals(self, expected: Floats, bursts: dict[int, Floats], first: int) -> Floats:
        """Draw how many come in each of the next bins."""
        mean = expected[first : first + _STRETCH, :, None]
        shape = (*mean.shape[:2], self._columns)
        if mean.min() > _PLENTY:  # the normal distribution is as good there, and much faster drawn
            drawn = np.rint(self._random.standard_normal(shape) * np.sqrt(mean) + mean)
        else:
            drawn = self._random.poisson(mean, shape).astype(float)
        for row in range(len(drawn)) if bursts else ():
            if first + row in bursts:
                drawn[row] += bursts[first + row][:, None]
        return drawn

    # --- a block of bins ----------------------------------------------------------------------------

    def _work(self, joins: Floats, offset: int, workers: Floats, backlog: NDArray[np.float32], waits: Floats) -> Floats:
        """Work off the queues for a block; return how many of each started in each replication."""
        if len(self._shifts) > 1 or not self._shifts[0].alone:
            return self._work_many(joins, offset, workers, backlog, waits)
        serving = self._shifts[0].now
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
        """Work off several queues, by weight or in their order; or one whose jobs' times have changed."""
        begun = np.zeros((len(self._shifts), self._columns))
        costs = np.array([shifts.now.cost for shifts in self._shifts])[:, None]
        for row, size in enumerate(workers):
            busy = np.zeros(self._columns)
            for number, shifts in enumerate(self._shifts):
                self._waiting[number] += joins[row, number]
                for serving in shifts.all:
                    busy = busy + serving.end(offset + row)
            room = size - busy - self._debt
            sizes = np.stack(self._waiting)
            starts = self._share(sizes, costs, room)
            spent = np.zeros(self._columns)
            for number, shifts in enumerate(self._shifts):
                self._waiting[number] -= starts[number]
                spent += shifts.now.start(offset + row, starts[number])
            left = sizes - starts
            total = left.sum(axis=0)
            # A worker with nothing to do loses its time; where jobs wait, what is left goes to the next job.
            self._debt = np.maximum(spent - room, np.where(total > 0, -costs.min(), 0.0))
            begun += starts
            backlog[row] = total
            waits[row] = left
        return begun

    def _share(self, sizes: Floats, costs: Floats, room: Floats) -> Floats:
        """Return how many of each queue are started: all where there is room, else by weight or in order."""
        plenty = (sizes * costs).sum(axis=0) <= room
        if plenty.all():
            return sizes
        spare = np.maximum(room, 0.0)
        starts = np.zeros_like(sizes)
        queues = self._crew.queues
        if isinstance(queues, Mapping):
            weights = np.array([float(queues[q]) for q in self._queues])[:, None]
            for _ in sizes:  # a queue that is done leaves its share to the others
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
        """Return the service of a queue: of the blend of the jobs that come to it, in an outage or outside of one."""
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
        return service(max(mean, 1e-6), deviation, self._crew.size, self._columns, self._random)

    def _expected(self) -> Floats:
        """Return how many of each stream are expected to come in each bin, bursts aside."""
        made = np.zeros((self._bins, len(self._ranks.streams)))
        for k, stream in enumerate(self._ranks.streams):
            if callable(stream.rate):
                # A rate is taken to hold for ten seconds: asking for it at every bin would take longer than the rest.
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
        made = np.full(self._bins, float(self._crew.size))
        for since, until in self._crew.away:
            made[_span(since, until, self._step, self._bins)] = 0.0
        return made

    def _failing(self, blocks: int) -> tuple[Floats | None, Floats]:
        """Return the share of each stream that fails for an outage in each block, and how long that takes in bins
        (-1: as usual)."""
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


def _queues(streams: Sequence[Stream], crew: Crew) -> list[str]:
    if crew.queues is None:
        return ["*"]
    used = {stream.queue for stream in streams}
    return [queue for queue in crew.queues if queue in used]
