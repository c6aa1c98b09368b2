"""The forecast's loop: one crew and its queues, bin by bin, all replications at once.

In each bin jobs arrive, ready ones are taken first come first served while the workers have time, and what is taken
is given its end and, where it fails, its return. Two ways to do the last lead to the same mean and variance:
where jobs are few each one draws its own duration, outcome and wait; where they are many a whole cohort is split
at once, by the normal approximation of the multinomial distribution. So the cost follows the number of bins.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .lines import Line
from .plant import Crew, Stream
from .tables import SIZE, durations, waits

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]

FEW = 2.0
"""Up to how many attempts a bin and replication each is drawn by itself."""
_BLOCK = 256
_STRATA = 16
_RETURNS = 3
_GOLDEN = 0.6180339887498949
_MOST_BYTES = 400e6


@dataclass
class Traces:
    """What the loop writes down; a row a bin (or frame) and a column a replication."""

    backlog: NDArray[np.float32]
    """Ready jobs at the end of each bin."""
    returned: Floats
    """Retries that fell due, a row a frame."""
    dead: Floats
    """Dead letters, a row a frame."""
    arrived: Floats
    """First attempts, a row a frame."""
    started: Floats
    """Attempts that were started, a row a frame."""
    busy: Floats
    """Workers' time that was used, in bins, a row a frame."""
    joined: Floats
    """How many had joined each queue by each mark: mark, queue, replication."""
    waiting: Floats
    """How many waited in each queue at each mark."""


class Cohorts:
    """One crew's share of a forecast."""

    def __init__(
        self, streams: Sequence[Stream], crew: Crew, bins: int, step: float, frame: int, mark: int, columns: int,
        seed: Sequence[int],
    ) -> None:  # fmt: skip
        self._streams = streams
        self._crew = crew
        self._bins = bins
        self._step = step
        self._frame = frame
        self._mark = mark
        self._columns = columns
        self._random = np.random.Generator(np.random.SFC64(list(seed)))
        self._queues = _queues(streams, crew)
        # Ranks: the kinds of job, queue by queue, each with its attempts in a row.
        order = [k for queue in self._queues for k, s in enumerate(streams) if _queue_of(s, crew) == queue]
        self._waits: list[Floats] = []
        self._durations: list[Floats] = []
        self._first: list[int] = []
        self._stream_of: list[int] = []
        self._slices: dict[str, slice] = {}
        for queue in self._queues:
            begin = len(self._stream_of)
            for k in order:
                if _queue_of(streams[k], crew) != queue:
                    continue
                self._first.append(len(self._stream_of))
                table = waits(streams[k].retry, streams[k].takes, step)
                self._waits += table
                self._durations.append(durations(streams[k].takes, streams[k].timeout, step))
                self._stream_of += [len(self._first) - 1] * len(table)
            self._slices[queue] = slice(begin, len(self._stream_of))
        self._streams = [streams[k] for k in order]
        self._ranks = len(self._stream_of)
        self._prepare_tables()

    def _prepare_tables(self) -> None:
        streams, step = self._streams, self._step
        of = self._kind = np.array(self._stream_of)
        self._table = np.stack(self._durations)
        self._wait_table = np.stack(self._waits)
        limits = [np.inf if s.timeout is None else s.timeout / step for s in streams]
        self._limit = np.array(limits)
        self._times_out = (self._table >= self._limit[:, None] - 1e-12).mean(axis=1)
        self._fails = np.array([s.fails for s in streams])
        self._ends_dead = (self._wait_table < 0).mean(axis=1)
        self._live_waits = [row[row >= 0] for row in self._wait_table]
        self._cost = np.minimum(self._table, 1.0).mean(axis=1)
        self._mean = self._table.mean(axis=1)
        self._deviation = self._table.std(axis=1)
        self._short = self._table.max(axis=1) < 1.0
        self._dull = bool((self._fails + self._times_out == 0).all() and not any(s.outages for s in streams))
        longest = max(float(self._table.max()), *(o.takes / step for s in streams for o in s.outages if o.takes), 0.0)
        span = longest + max(0.0, float(self._wait_table.max())) + 3
        self._ring = 1 << int(min(span, self._bins + 2)).bit_length()
        self._rank_cost = self._cost[of]

    @property
    def bytes_a_column(self) -> float:
        """About how much memory a replication needs."""
        return 8.0 * self._ring * (self._ranks + 1) + 8.0 * self._bins

    # --- what comes ---------------------------------------------------------------------------------

    def _expected(self) -> Floats:
        """Return how many of each stream are expected to come in each bin, bursts aside."""
        made = np.zeros((self._bins, len(self._streams)))
        begins = np.arange(self._bins) * self._step
        for k, stream in enumerate(self._streams):
            if callable(stream.rate):
                made[:, k] = [stream.rate(float(s)) for s in begins + self._step / 2]
            else:
                made[:, k] = stream.rate
        return made * self._step

    def _bursts(self) -> dict[int, Floats]:
        made: dict[int, Floats] = {}
        for k, stream in enumerate(self._streams):
            for at, count in stream.bursts:
                bin = int(at / self._step)
                if 0 <= bin < self._bins:
                    made.setdefault(bin, np.zeros(len(self._streams)))[k] += count
        return made

    def _workers(self) -> Floats:
        made = np.full(self._bins, float(self._crew.size))
        for since, until in self._crew.away:
            made[_span(since, until, self._step, self._bins)] = 0.0
        return made

    def _failing(self) -> tuple[Floats, Floats, NDArray[np.bool_]]:
        """Return the share of each stream that fails for an outage in each bin, how long that takes in bins (-1: as
        usual), and in which bins there is any."""
        shape = (self._bins, len(self._streams))
        share, takes = np.zeros(shape), np.full(shape, -1.0)
        for k, stream in enumerate(self._streams):
            for outage in stream.outages:
                span = _span(outage.since, outage.until, self._step, self._bins)
                share[span, k] = 1 - (1 - share[span, k]) * (1 - outage.share)
                if outage.takes is not None:
                    takes[span, k] = outage.takes / self._step
        return share, takes, share.any(axis=1)

    def few(self, expected: Floats, bursts: dict[int, Floats]) -> bool:
        """Whether so few attempts are expected that each is drawn by itself."""
        firsts = expected.sum(axis=0) + sum(bursts.values(), np.zeros(len(self._streams)))
        tries = np.array([_tries(s) for s in self._streams])
        return bool((firsts * tries).sum() <= FEW * self._bins)

    # --- the loop -----------------------------------------------------------------------------------

    def run(self, progress: Any = None) -> Traces:
        """Go through every bin; return what was written down."""
        columns, bins, ranks = self._columns, self._bins, self._ranks
        frames = -(-bins // self._frame)
        marks = -(-bins // self._mark)
        per_frame = [np.zeros((frames, columns)) for _ in range(5)]
        returned, self._dead, arrived, started, busy_time = per_frame
        traces = Traces(
            np.zeros((bins, columns), dtype=np.float32), *per_frame,
            np.zeros((marks, len(self._queues), columns)), np.zeros((marks, len(self._queues), columns)),
        )  # fmt: skip
        expected, bursts = self._expected(), self._bursts()
        workers = self._workers()
        share, takes, down = self._failing()
        mask = self._ring - 1
        ready = self._ready = np.zeros((self._ring, ranks, columns))
        self._ends = np.zeros((self._ring, columns))
        lines = [Line(self._slices[q].stop - self._slices[q].start, columns) for q in self._queues]
        joined = np.zeros((len(lines), columns))
        busy, debt = np.zeros(columns), np.zeros(columns)
        give = self._give_each if self.few(expected, bursts) else self._give_cohorts
        parts = [self._slices[q] for q in self._queues]
        only = len(lines) == 1
        first, first_of = self._first, self._rank_cost
        single = bool((first_of == first_of[0]).all())
        for bin in range(bins):
            if bin % _BLOCK == 0:
                block = expected[bin : bin + _BLOCK, :, None]
                coming = self._random.poisson(block, (len(block), len(first), columns)).astype(float)
                for at in range(bin, min(bin + _BLOCK, bins)):
                    if at in bursts:
                        coming[at - bin] += bursts[at][:, None]
                fresh = coming.sum(axis=1)
                if progress is not None:
                    progress(bin / bins)
            frame, slot, row = bin // self._frame, bin & mask, bin % _BLOCK
            here = ready[slot]
            if self._dull:
                count = fresh[row]
            else:
                back = here.sum(axis=0)
                returned[frame] += back
                count = back + fresh[row]
            here[first] += coming[row]
            busy -= self._ends[slot]
            self._ends[slot] = 0.0
            free = workers[bin] - busy
            room = free - debt
            if only:
                line = lines[0]
                line.push(bin, here, count)
                joined[0] += count
                fits = (line.size * first_of[0] if single else _times(first_of, here, line, self)) <= room
                if line.short and fits.all():
                    taken, left = line.take_all(), None
                else:
                    cost = first_of[0] if single else self._usual_cost(parts[0])
                    wanted = np.minimum(line.size, np.maximum(np.floor(room / cost + 1e-9), 0.0))
                    taken = line.take(wanted)
                    left = line.size
            else:
                for number, (line, part) in enumerate(zip(lines, parts, strict=True)):
                    number_in = here[part].sum(axis=0)
                    line.push(bin, here[part], number_in)
                    joined[number] += number_in
                taken = self._share(lines, parts, room)
                left = np.sum([line.size for line in lines], axis=0)
            here[:] = 0.0
            used, staying = give(bin, taken, frame, share[bin] if down[bin] else None, takes[bin])
            busy += staying
            spent = used + staying
            debt += spent
            debt -= free
            # A worker with nothing to do loses its time; where jobs wait, what is left of a bin is the next job's.
            debt = np.maximum(debt, 0.0) if left is None else np.where(left > 0, np.maximum(debt, -1.0), np.maximum(debt, 0.0))
            busy_time[frame] += spent + busy - staying
            arrived[frame] += fresh[row]
            if left is not None:
                traces.backlog[bin] = left
            if bin % self._mark == self._mark - 1 or bin == bins - 1:
                traces.joined[bin // self._mark] = joined
                for number, line in enumerate(lines):
                    traces.waiting[bin // self._mark, number] = line.size
        started += 0.0
        return traces

    def _usual_cost(self, part: slice) -> float:
        return float(self._rank_cost[part].mean())

    def _share(self, lines: list[Line], parts: list[slice], room: Floats) -> Floats:
        """Give the workers' time to several queues: by weight, or in their order; return what is taken, by rank."""
        taken = np.zeros((self._ranks, self._columns))
        costs = np.array([self._usual_cost(part) for part in parts])
        sizes = np.stack([line.size for line in lines])
        need = (sizes * costs[:, None]).sum(axis=0)
        plenty = need <= room
        if plenty.all():
            for line, part in zip(lines, parts, strict=True):
                taken[part] = line.take_all() if line.short else line.take(line.size.copy())
            return taken
        room = np.maximum(room, 0.0)
        wanted = np.zeros_like(sizes)
        if isinstance(self._crew.queues, dict):
            weights = np.array([float(self._crew.queues[q]) for q in self._queues])[:, None]
            # Fill up by weight; a queue that is done leaves its share to the others.
            for _ in lines:
                open_ = sizes - wanted > 1e-9
                rate = (open_ * weights * costs[:, None]).sum(axis=0)
                spare = room - (wanted * costs[:, None]).sum(axis=0)
                with np.errstate(divide="ignore", invalid="ignore"):
                    level = np.where(rate > 0, spare / rate, 0.0)
                wanted = np.minimum(sizes, wanted + open_ * weights * level)
            wanted = self._whole(wanted, sizes)
        else:
            for number in range(len(lines)):
                spare = room - (wanted * costs[:, None]).sum(axis=0)
                wanted[number] = np.minimum(sizes[number], np.maximum(np.floor(spare / costs[number] + 1e-9), 0.0))
        for number, (line, part) in enumerate(zip(lines, parts, strict=True)):
            taken[part] = line.take(np.where(plenty, sizes[number], wanted[number]))
        return taken

    def _whole(self, wanted: Floats, sizes: Floats) -> Floats:
        """Return whole numbers of jobs with the same means."""
        noise = self._random.random(wanted.shape)
        return np.minimum(sizes, np.floor(wanted + noise))

    # --- what becomes of what is taken --------------------------------------------------------------

    def _give_each(
        self, bin: int, taken: Floats, frame: int, share: Floats | None, takes: Floats
    ) -> tuple[Floats, Floats]:
        """Draw for each attempt by itself; return the time that short ones use of this bin, and how many stay on."""
        columns, mask, chance = self._columns, self._ring - 1, self._random
        flat = taken.ravel()
        some = flat.nonzero()[0]
        cells = np.repeat(some, flat[some].astype(np.int64))
        count = len(cells)
        ranks, column = np.divmod(cells, columns)
        kinds = self._kind[ranks]
        draws = chance.random((3, count))
        spent = self._table[kinds, (draws[0] * SIZE).astype(np.int64)]
        if not self._dull:
            fails = self._fails[kinds]
            late = spent >= self._limit[kinds]
            if share is not None:
                hit = share[kinds]
                struck = draws[1] < hit
                longer = takes[kinds]
                spent = np.where(struck & (longer >= 0), np.minimum(longer, self._limit[kinds]), spent)
                late = spent >= self._limit[kinds]
                fails = hit + (1 - hit) * fails
            failed = ((draws[1] < fails) | late).nonzero()[0]
            if len(failed):
                self._return_each(bin, frame, ranks[failed], column[failed], spent[failed])
        stays = spent >= 1.0
        if not stays.any():
            return np.bincount(column, spent, columns), np.zeros(columns)
        offset = (spent[stays] + draws[2][stays]).astype(np.int64)
        where = column[stays]
        np.add.at(self._ends, (bin + np.minimum(offset, mask) & mask, where), 1.0)
        used = np.bincount(column, np.where(stays, 0.0, spent), columns)
        return used, np.bincount(where, minlength=columns).astype(float)

    def _return_each(self, bin: int, frame: int, ranks: Ints, column: Ints, spent: Floats) -> None:
        draws = self._random.random((2, len(ranks)))
        wait = self._wait_table[ranks, (draws[0] * SIZE).astype(np.int64)]
        dead = wait < 0
        if dead.any():
            self._dead[frame] += np.bincount(column[dead], minlength=self._columns)
            ranks, column, spent, wait, phase = ranks[~dead], column[~dead], spent[~dead], wait[~dead], draws[1][~dead]
        else:
            phase = draws[1]
        due = np.maximum((spent + wait + phase).astype(np.int64), 1)
        soon = due < self._ring
        if not soon.all():  # beyond the forecast's end
            ranks, column, due = ranks[soon], column[soon], due[soon]
        np.add.at(self._ready, (bin + due & self._ring - 1, ranks + 1, column), 1.0)

    def _give_cohorts(
        self, bin: int, taken: Floats, frame: int, share: Floats | None, takes: Floats
    ) -> tuple[Floats, Floats]:
        """Split whole cohorts; return the time that short attempts use of this bin, and how many stay on."""
        columns, normal = self._columns, self._random.standard_normal
        used, staying = np.zeros(columns), np.zeros(columns)
        struck: Floats | None = None
        if share is not None:
            struck = self._thin(taken, share[self._kind][:, None])
        usual = taken if struck is None else taken - struck
        for k, begin in enumerate(self._first):
            end = self._first[k + 1] if k + 1 < len(self._first) else self._ranks
            of = usual[begin] if end - begin == 1 else usual[begin:end].sum(axis=0)
            if struck is not None and takes[k] < 0:
                of = of + struck[begin:end].sum(axis=0)
            elif struck is not None and share is not None and share[k] > 0:
                used, staying = self._fixed_time(bin, struck[begin:end].sum(axis=0), float(takes[k]), used, staying)
            if self._short[k]:
                used += of * self._mean[k]
                if self._deviation[k]:
                    used += np.sqrt(np.abs(of)) * (self._deviation[k] * normal(columns))
            else:
                used, staying = self._strata(bin, k, of, used, staying)
        if not self._dull:
            chance = self._fails + (1 - self._fails) * self._times_out
            failed = self._thin(usual, chance[self._kind][:, None]) if chance.any() else None
            if struck is not None:
                failed = struck if failed is None else failed + struck
            if failed is not None:
                self._return_cohorts(bin, frame, failed, takes if struck is not None else None)
        return used, staying

    def _thin(self, cohorts: Floats, share: Floats) -> Floats:
        """Return how many of each cohort are hit by a chance: a binomial number by its normal approximation."""
        noise: Floats = self._random.standard_normal(cohorts.shape)
        noise *= np.sqrt(np.abs(cohorts) * (share * (1 - share)))
        noise += cohorts * share
        return noise

    def _strata(self, bin: int, k: int, of: Floats, used: Floats, staying: Floats) -> tuple[Floats, Floats]:
        """Spread a cohort over its durations, a stratum of them at a time."""
        phase = bin * _GOLDEN % 1.0
        spent = self._table[k, ((np.arange(_STRATA) + phase) / _STRATA * SIZE).astype(np.int64)]
        noise: Floats = self._random.standard_normal((_STRATA, self._columns))
        noise -= noise.mean(axis=0)
        parts = of / _STRATA + noise * np.sqrt(np.abs(of) / _STRATA)
        short = spent < 1.0
        if short.any():
            used = used + spent[short] @ parts[short]
        for number in np.flatnonzero(~short):
            offset = int(spent[number] + (bin * 0.7548776662 + number * _GOLDEN) % 1.0)
            self._ends[bin + min(offset, self._ring - 1) & self._ring - 1] += parts[number]
        return used, staying + parts[~short].sum(axis=0)

    def _fixed_time(
        self, bin: int, of: Floats, spent: float, used: Floats, staying: Floats
    ) -> tuple[Floats, Floats]:
        if spent < 1.0:
            return used + of * spent, staying
        offset = int(spent + bin * _GOLDEN % 1.0)
        self._ends[bin + min(offset, self._ring - 1) & self._ring - 1] += of
        return used, staying + of

    def _return_cohorts(self, bin: int, frame: int, failed: Floats, takes: Floats | None) -> None:
        """Let what failed come back after its wait, or end as dead letters."""
        gone = failed * self._ends_dead[:, None]
        self._dead[frame] += gone.sum(axis=0)
        back = (failed - gone) / _RETURNS
        ring = self._ring
        for rank, waits_ in enumerate(self._live_waits):
            if not len(waits_):
                continue
            kind = self._kind[rank]
            for stratum in range(_RETURNS):
                place = (stratum + (bin * _GOLDEN + rank * 0.7548776662) % 1.0) / _RETURNS
                wait = waits_[int(place * len(waits_))]
                spent = self._table[kind, int((bin * 0.5698402910 + stratum * _GOLDEN) % 1.0 * SIZE)]
                if takes is not None and takes[kind] >= 0:
                    spent = takes[kind]
                due = max(1, int(wait + spent + (bin * 0.8191725134 + stratum * 0.3) % 1.0))
                if due < ring:
                    self._ready[bin + due & ring - 1, rank + 1] += back[rank]


def _times(costs: Floats, here: Floats, line: Line, owner: Cohorts) -> Floats:
    return costs @ line.front if line.short else line.size * owner._usual_cost(slice(0, len(costs)))


def _tries(stream: Stream) -> float:
    """Return about how many attempts a job has."""
    most = stream.retry.attempts
    usual = sum(stream.fails**n for n in range(most))
    return most if stream.outages else usual


def _span(since: float, until: float, step: float, bins: int) -> slice:
    return slice(max(0, round(since / step)), max(0, min(bins, round(until / step))))


def _queue_of(stream: Stream, crew: Crew) -> str:
    return "*" if crew.queues is None else stream.queue


def _queues(streams: Sequence[Stream], crew: Crew) -> list[str]:
    if crew.queues is None:
        return ["*"]
    used = {stream.queue for stream in streams}
    return [queue for queue in crew.queues if queue in used]
