"""One day of a workload, job by job: the compiled heart of a forecast.

The tables are arrays of records: one record for each stream, queue, job and so on, with what does not change and what
does. Each function is one thing that happens. Times are seconds since the begin. It follows the rules of the simulation
package (queues.py, attempts.py, timetable.py), and is checked against it. Everything that is compiled stands in this
file: what was compiled is made anew only if the file of a function has changed.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .compiling import compiled

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Records = Any

NEVER = np.inf
RETRY, DEAD, DROPPED, DONE, TIMED_OUT = range(5)
"""How an attempt ends, and what follows."""
FAILS, SLOWER, HANGS = range(3)
"""What an outage does."""
ALLOW, SKIP, WAIT = range(3)
"""What a firing does while the job of the one before is open."""
ARRIVE, BURST, FIRE, LATE, DUE, END, EXPIRE, AWAY, GATE, REOPEN = range(10)
"""What happens."""
FREE, HELD, READY, RUNNING = range(4)
"""What a job does."""
QUANTILES = 4096
"""How many equally likely durations and waits a table has."""
FRAME_ROWS = 5
BACKLOG_ROW, AGE_ROW, RETRIES_ROW, DEAD_ROW, ARRIVED_ROW = range(FRAME_ROWS)
"""The figures by frame."""

f8, i8 = np.float64, np.int64
STREAM = np.dtype([
    ("queue", i8), ("line", i8), ("pool", i8), ("priority", f8), ("fails", f8), ("timeout", f8), ("expires", f8),
    ("within", f8), ("attempts", i8), ("after_failure", i8), ("after_timeout", i8), ("after_refusal", i8),
    ("calls", i8),  # the service that it calls; -1: none
    ("type", i8),  # streams of one type share a retry budget
    ("first_outage", i8), ("end_outage", i8),
])  # fmt: skip
TYPE = np.dtype([("budget", f8), ("left", f8), ("most", f8)])
"""The retry budget of a job type, what is left of it, and what it can save up at most. An infinite budget: no limit."""
OUTAGE = np.dtype([
    ("since", f8), ("until", f8), ("share", f8),
    ("takes", f8),  # how long a failing attempt takes, -1: the usual time; or by how much it is slower
    ("attempts", i8),  # a bit for each attempt that it hits; 0: all
    ("how", i8), ("then", i8),
])  # fmt: skip
SCHEDULE = np.dtype([
    ("stream", i8), ("overlap", i8), ("jitter", f8), ("poll", f8),
    ("open", i8),  # its open job; -1: none
    ("owed", i8),  # firings that wait
])  # fmt: skip
QUEUE = np.dtype([
    ("line", i8), ("limited", i8),
    ("most", i8),  # how many run at once; -1: no limit
    ("rate", i8), ("span", f8),  # how many can start in a span; 0: no limit
    ("closed", i8), ("running", i8), ("started", i8), ("kept", i8), ("reopens", f8),
])  # fmt: skip
LINE = np.dtype([("weight", i8), ("length", i8), ("credit", i8)])
"""A line of waiting jobs. A weight of 0 means strict order."""
POOL = np.dtype([("first_line", i8), ("end_line", i8), ("workers", i8), ("away", i8), ("busy", i8)])
SERVICE = np.dtype([
    ("capacity", f8), ("refuses", i8), ("calls", i8),
    ("failing", f8), ("of", i8), ("open", f8),  # the breaker; `failing` above 1: no breaker
    ("made", i8), ("failed", i8),
    ("opened", f8),  # until when the breaker is open; 0: it is closed; -1: one call is let through
])  # fmt: skip
JOB = np.dtype([
    ("stream", i8), ("attempt", i8), ("failures", i8), ("state", i8), ("ready", f8),
    ("first", f8),  # when its first attempt started
    ("outcome", i8), ("service", i8), ("schedule", i8), ("arrival", i8),
    ("turn", i8),  # counts what was planned for it: an event of an earlier turn means nothing any more
    ("life", i8),  # counts the jobs of this record
    ("before", i8), ("after", i8),  # the ready jobs in the order in which they became ready, as a list with links
])  # fmt: skip
WORLD = np.dtype([
    ("now", f8), ("span", f8), ("bin", f8), ("frame", f8), ("area", f8), ("worked", f8), ("waited", f8),
    ("waiting", i8), ("busy", i8), ("arrived", i8), ("dead", i8), ("dropped", i8), ("started", i8),
    ("serial", i8), ("planned", i8), ("free", i8), ("oldest", i8), ("newest", i8), ("at_frame", i8),
    ("full", i8),  # 1 if there was no room for a job or an event
])  # fmt: skip

ENTRY = np.dtype([("key", f8), ("tie", i8), ("what", i8), ("which", i8), ("stamp", i8)])
"""What a heap holds. `what`, `which` and `stamp` mean what their user wants."""


class WorkloadTables(NamedTuple):
    """A workload in tables. A day changes some of them, so that it needs a copy of those."""

    streams: Records
    types: Records
    outages: Records
    schedules: Records
    queues: Records
    lines: Records
    pools: Records
    services: Records
    moments: Records
    """What happens at a known instant: entries of a heap."""
    counts: Floats
    """How many jobs each burst has."""
    takes: Floats
    """Durations: stream, quantile."""
    waits: Floats
    """Waits: stream, attempt, quantile; -1: no further attempt."""
    rates: Floats
    """Jobs a second: stream, piece of the span."""
    piece: float
    """The length of a piece."""


# --- heaps: the record with the smallest `key` comes first, of the same keys the one with the lowest `tie` ---


@compiled
def _push(heap: Any, size: int, key: float, tie: int, what: int, which: int, stamp: int) -> None:
    """Add an entry to a heap with `size` entries."""
    at = size
    while at > 0:
        parent = (at - 1) >> 1
        above = heap[parent]
        if above.key < key or (above.key == key and above.tie < tie):
            break
        heap[at] = above
        at = parent
    here = heap[at]
    here.key, here.tie, here.what, here.which, here.stamp = key, tie, what, which, stamp


@compiled
def _remove_first(heap: Any, size: int) -> None:
    """Remove the first entry of a heap with `size` entries. Read it before."""
    last = heap[size - 1]
    key, tie, what, which, stamp = last.key, last.tie, last.what, last.which, last.stamp
    count = size - 1
    at = 0
    while True:
        child = 2 * at + 1
        if child >= count:
            break
        right = child + 1
        if right < count:
            first, second = heap[child], heap[right]
            if second.key < first.key or (second.key == first.key and second.tie < first.tie):
                child = right
        if key < heap[child].key or (key == heap[child].key and tie < heap[child].tie):
            break
        heap[at] = heap[child]
        at = child
    here = heap[at]
    here.key, here.tie, here.what, here.which, here.stamp = key, tie, what, which, stamp


# --- jobs and time ---------------------------------------------------------------------------------------


@compiled
def _plan(w: Records, events: Records, at: float, what: int, which: int, stamp: int) -> None:
    """Plan an event, unless the day is over by then."""
    if at > w.span:
        return
    if w.planned >= len(events):
        w.full = 1
        return
    w.serial += 1
    _push(events, w.planned, at, w.serial, what, which, stamp)
    w.planned += 1


@compiled
def _next_arrival(
    w: Records, events: Records, rates: Floats, piece: float, stream: int, random: np.random.Generator
) -> None:
    """Plan the next job of a stream that arrives at a rate."""
    left = random.standard_exponential()
    at = w.now
    if rates.shape[1] == 1:
        if rates[stream, 0] > 0.0:
            _plan(w, events, at + left / rates[stream, 0], ARRIVE, stream, 0)
        return
    for number in range(int(at / piece), rates.shape[1]):
        rate, end = rates[stream, number], (number + 1) * piece
        if left <= (end - at) * rate:
            _plan(w, events, at + left / rate, ARRIVE, stream, 0)
            return
        left -= (end - at) * rate
        at = end


@compiled
def _advance(w: Records, jobs: Records, bins: Singles, frames: Floats, until: float) -> None:
    """Let time pass, in which nothing happens."""
    if until <= w.now:
        return
    waiting = w.waiting
    w.area += waiting * (until - w.now)
    w.worked += w.busy * (until - w.now)
    if waiting > 0:
        for bin in range(min(int(w.now / w.bin), len(bins) - 1), min(int(np.ceil(until / w.bin)), len(bins))):
            if bins[bin] < waiting:
                bins[bin] = waiting
    while (w.at_frame + 1) * w.frame <= until and w.at_frame < frames.shape[1]:
        if waiting > 0:
            age = (w.at_frame + 1) * w.frame - jobs[w.oldest].ready
            frames[AGE_ROW, w.at_frame] = max(frames[AGE_ROW, w.at_frame], age)
            frames[BACKLOG_ROW, w.at_frame] = max(frames[BACKLOG_ROW, w.at_frame], waiting)
        w.at_frame += 1
    if waiting > 0 and w.at_frame < frames.shape[1]:
        frames[BACKLOG_ROW, w.at_frame] = max(frames[BACKLOG_ROW, w.at_frame], waiting)
    w.now = until


@compiled
def _note(w: Records, frames: Floats, row: int) -> None:
    """Count one in a figure of this frame."""
    if w.at_frame < frames.shape[1]:
        frames[row, w.at_frame] += 1.0


@compiled
def _leave(w: Records, jobs: Records, frames: Floats, job: int) -> None:
    """A job waits no more."""
    this = jobs[job]
    if this.before >= 0:
        jobs[this.before].after = this.after
    else:
        w.oldest = this.after
    if this.after >= 0:
        jobs[this.after].before = this.before
    else:
        w.newest = this.before
    w.waiting -= 1
    if w.at_frame < frames.shape[1]:
        frames[AGE_ROW, w.at_frame] = max(frames[AGE_ROW, w.at_frame], w.now - this.ready)


@compiled
def _queue_up(streams: Records, lines: Records, waiting: Records, jobs: Records, job: int) -> None:
    """Put a ready job into its line."""
    stream = streams[jobs[job].stream]
    line = lines[stream.line]
    _push(waiting[stream.line], line.length, stream.priority, jobs[job].arrival, 0, job, 0)
    line.length += 1


@compiled
def _join(w: Records, streams: Records, lines: Records, waiting: Records, jobs: Records, job: int) -> None:
    """A job is ready."""
    this = jobs[job]
    this.state, this.ready = READY, w.now
    this.turn += 1
    this.before, this.after = w.newest, -1
    if w.newest >= 0:
        jobs[w.newest].after = job
    else:
        w.oldest = job
    w.newest = job
    w.waiting += 1
    w.serial += 1
    this.arrival = w.serial
    if lines[streams[this.stream].line].length >= waiting.shape[1]:
        w.full = 1
        return
    _queue_up(streams, lines, waiting, jobs, job)


@compiled
def _enqueue(
    w: Records, streams: Records, schedules: Records, queues: Records, lines: Records, waiting: Records, jobs: Records,
    free: Records, events: Records, frames: Floats, stream: int, schedule: int,
) -> None:  # fmt: skip
    """Enqueue a new job, unless its queue is down."""
    if queues[streams[stream].queue].closed > 0:
        return
    if w.free == 0:
        w.full = 1
        return
    w.free -= 1
    job = free[w.free]
    this = jobs[job]
    this.stream, this.attempt, this.failures, this.schedule, this.service = stream, 0, 0, schedule, -1
    this.life += 1
    if schedule >= 0:
        schedules[schedule].open = job
    w.arrived += 1
    _note(w, frames, ARRIVED_ROW)
    if streams[stream].expires < NEVER:
        _plan(w, events, w.now + streams[stream].expires, EXPIRE, job, this.life)
    _join(w, streams, lines, waiting, jobs, job)


@compiled
def _close(
    w: Records, schedules: Records, jobs: Records, free: Records, events: Records, frames: Floats, job: int, how: int
) -> None:
    """A job is done, dead or dropped."""
    this = jobs[job]
    this.state = FREE
    this.turn += 1
    this.life += 1
    free[w.free] = job
    w.free += 1
    if how == DEAD:
        w.dead += 1
        _note(w, frames, DEAD_ROW)
    elif how == DROPPED:
        w.dropped += 1
    if this.schedule >= 0 and schedules[this.schedule].open == job:
        schedule = schedules[this.schedule]
        schedule.open = -1
        if schedule.owed > 0:
            schedule.owed -= 1
            _plan(w, events, w.now, LATE, this.schedule, 0)


# --- limits of queues -----------------------------------------------------------------------------------


@compiled
def _room(w: Records, queue: Records, starts: Floats, number: int) -> int:
    """Return how many jobs of a queue with limits can start now."""
    if queue.closed > 0:
        return 0
    room = 1_000_000_000
    if queue.most >= 0:
        room = queue.most - queue.running
    if queue.rate > 0:
        begin = w.now - queue.span + 1e-9
        recent = 0
        while recent < min(queue.rate, queue.started):
            if starts[number, (queue.started - recent - 1) % queue.rate] <= begin:
                break
            recent += 1
        room = min(room, queue.rate - recent)
    return max(0, room)


@compiled
def _reopen(
    w: Records, streams: Records, queues: Records, lines: Records, waiting: Records, kept: Records, jobs: Records,
    starts: Floats, number: int,
) -> None:  # fmt: skip
    """Let as many of the jobs that were kept back join their line again as can start."""
    queue = queues[number]
    room = _room(w, queue, starts, number)
    while room > 0 and queue.kept > 0:
        first = kept[number, 0]
        job, arrival = first.which, first.tie
        _remove_first(kept[number], queue.kept)
        queue.kept -= 1
        if jobs[job].state == READY and jobs[job].arrival == arrival:  # it has not expired
            room -= 1
            _queue_up(streams, lines, waiting, jobs, job)


@compiled
def _plan_reopening(w: Records, events: Records, queue: Records, starts: Floats, number: int) -> None:
    """Plan when the rate of a queue lets the next job start that was kept back."""
    if queue.rate > 0 and queue.started >= queue.rate:
        at = max(w.now, starts[number, queue.started % queue.rate] + queue.span)
        if at != queue.reopens:
            queue.reopens = at
            _plan(w, events, at, REOPEN, number, 0)


@compiled
def _head(
    w: Records, streams: Records, queues: Records, lines: Records, waiting: Records, kept: Records, jobs: Records,
    events: Records, starts: Floats, number: int,
) -> int:  # fmt: skip
    """Return the first job of a line that can start; -1 if none can."""
    line = lines[number]
    while line.length > 0:
        first = waiting[number, 0]
        job, arrival, priority = first.which, first.tie, first.key
        if jobs[job].state == READY and jobs[job].arrival == arrival:
            place = streams[jobs[job].stream].queue
            queue = queues[place]
            if queue.limited == 0 or _room(w, queue, starts, place) > 0:
                return job  # type: ignore[no-any-return]
            _push(kept[place], queue.kept, priority, arrival, 0, job, 0)
            queue.kept += 1
            _plan_reopening(w, events, queue, starts, place)
        _remove_first(waiting[number], line.length)
        line.length -= 1
    return -1


# --- attempts -------------------------------------------------------------------------------------------


@compiled
def _lets_through(w: Records, service: Records) -> bool:
    """Return True if the breaker in front of a service lets a call through."""
    if service.failing > 1.0 or service.opened == 0.0:
        return True
    if service.opened < 0.0 or w.now < service.opened:
        return False
    service.opened = -1.0  # one call is let through, and decides
    return True


@compiled
def _tell_breaker(w: Records, service: Records, results: Records, number: int, failed: bool) -> None:
    """Tell the breaker how a call ended."""
    if service.failing > 1.0 or service.opened > 0.0:  # a call that began before it opened
        return
    if service.opened < 0.0:
        service.opened = w.now + service.open if failed else 0.0
        service.made = service.failed = 0
        return
    place = service.made % service.of
    if service.made >= service.of:
        service.failed -= results[number, place]
    results[number, place] = 1 if failed else 0
    service.failed += results[number, place]
    service.made += 1
    if service.made >= service.of and service.failed >= service.failing * service.of:
        service.opened = w.now + service.open


@compiled
def _call(services: Records, this: Records, service: int) -> float:
    """Let an attempt call a service; return the load of the service, with 1 for its capacity."""
    this.service = service
    services[service].calls += 1
    load: float = services[service].calls / services[service].capacity
    return load


@compiled
def _outcome(
    w: Records, this: Records, stream: Records, outages: Records, services: Records, takes: Floats,
    random: np.random.Generator,
) -> float:  # fmt: skip
    """Work out how an attempt ends that starts now; return how long it takes."""
    calls = stream.calls
    this.service = -1
    if calls >= 0 and not _lets_through(w, services[calls]):
        this.outcome = stream.after_refusal
        return 0.0
    load = _call(services, this, calls) if calls >= 0 else 0.0
    if load > 1.0 and services[calls].refuses != 0:
        if random.random() >= 1.0 / load:
            this.service = -1
            services[calls].calls -= 1
            this.outcome = stream.after_refusal
            return 0.0
        load = 1.0
    later = 0.0
    for number in range(stream.first_outage, stream.end_outage):
        outage = outages[number]
        if w.now < outage.since or w.now >= outage.until:
            continue
        if outage.attempts != 0 and (outage.attempts >> min(this.attempt, 62)) & 1 == 0:
            continue
        if outage.share < 1.0 and random.random() >= outage.share:
            continue
        if outage.how == SLOWER:
            later += outage.takes
            continue
        spent = outage.takes
        if spent < 0.0:
            spent = takes[this.stream, int(random.random() * QUANTILES)]
        if outage.how == HANGS or spent > stream.timeout:
            this.outcome = TIMED_OUT
            return stream.timeout  # type: ignore[no-any-return]
        this.outcome = outage.then
        return spent  # type: ignore[no-any-return]
    spent = takes[this.stream, int(random.random() * QUANTILES)]
    if load > 1.0:
        spent *= load
    spent += later
    fails = stream.fails > 0.0 and random.random() < stream.fails
    if spent > stream.timeout:
        this.outcome = TIMED_OUT
        return stream.timeout  # type: ignore[no-any-return]
    this.outcome = stream.after_failure if fails else DONE
    return spent  # type: ignore[no-any-return]


@compiled
def _verdict(
    w: Records, this: Records, stream: Records, types: Records, waits: Floats, random: np.random.Generator
) -> tuple[int, float]:
    """Return what follows an attempt that has ended, and the wait before the next one."""
    how = this.outcome
    if how == TIMED_OUT:
        how = stream.after_timeout
    if how != RETRY:
        return how, 0.0
    this.failures += 1
    if this.failures >= stream.attempts:
        return DEAD, 0.0
    wait = waits[this.stream, this.failures - 1, int(random.random() * QUANTILES)]
    if w.now - this.first + wait > stream.within:
        return DEAD, 0.0
    budget = types[stream.type]
    if budget.budget < NEVER:
        if budget.left < 1.0:
            return DEAD, 0.0
        budget.left -= 1.0
    return RETRY, wait


@compiled
def run(
    tables: WorkloadTables, world: Records, jobs: Records, free: Records, events: Records, waiting: Records,
    kept: Records, starts: Floats, results: Records, bins: Singles, frames: Floats, random: np.random.Generator,
) -> None:  # fmt: skip
    """Run one day. `world[0].full` is 1 afterwards if there was no room for a job or an event."""
    w = world[0]
    streams, types, outages, schedules = tables.streams, tables.types, tables.outages, tables.schedules
    queues, lines, pools, services = tables.queues, tables.lines, tables.pools, tables.services
    takes, waits, rates, piece = tables.takes, tables.waits, tables.rates, tables.piece
    moments, counts = tables.moments, tables.counts
    for number in range(len(streams)):
        _next_arrival(w, events, rates, piece, number, random)
    for number in range(len(moments)):
        moment = moments[number]
        _plan(w, events, moment.key, moment.what, moment.which, moment.stamp)
    while w.planned > 0 and w.full == 0:
        event = events[0]
        at, what, which, stamp = event.key, event.what, event.which, event.stamp
        _advance(w, jobs, bins, frames, at)
        _remove_first(events, w.planned)
        w.planned -= 1
        if what == ARRIVE:
            _enqueue(w, streams, schedules, queues, lines, waiting, jobs, free, events, frames, which, -1)
            _next_arrival(w, events, rates, piece, which, random)
        elif what == BURST:
            for _ in range(int(counts[stamp] + random.random())):
                _enqueue(w, streams, schedules, queues, lines, waiting, jobs, free, events, frames, which, -1)
        elif what == END:
            this = jobs[which]
            if this.turn != stamp:
                continue
            stream = streams[this.stream]
            w.busy -= 1
            pools[stream.pool].busy -= 1
            queue = queues[stream.queue]
            queue.running -= 1
            if queue.limited != 0:
                _reopen(w, streams, queues, lines, waiting, kept, jobs, starts, stream.queue)
            if this.service >= 0:
                services[this.service].calls -= 1
                _tell_breaker(w, services[this.service], results, this.service, this.outcome != DONE)
            if queue.closed > 0 and this.outcome == DONE:  # nobody hears that it is done: it is delivered again
                _join(w, streams, lines, waiting, jobs, which)
                continue
            how, wait = _verdict(w, this, stream, types, waits, random)
            if how == RETRY:
                this.state = HELD
                this.turn += 1
                _plan(w, events, w.now + wait, DUE, which, this.turn)
            else:
                _close(w, schedules, jobs, free, events, frames, which, how)
        elif what == DUE:
            if jobs[which].turn == stamp:
                _note(w, frames, RETRIES_ROW)
                _join(w, streams, lines, waiting, jobs, which)
        elif what == EXPIRE:
            this = jobs[which]
            if this.life == stamp and this.state == READY and this.attempt == 0:
                _leave(w, jobs, frames, which)
                _close(w, schedules, jobs, free, events, frames, which, DROPPED)
        elif what in (FIRE, LATE):
            schedule = schedules[which]
            late = w.now
            if what == FIRE:
                late += random.random() * schedule.jitter
                if schedule.poll > 0.0:
                    late = np.ceil(late / schedule.poll - 1e-9) * schedule.poll
            if late > w.now:
                _plan(w, events, late, LATE, which, 0)
            elif schedule.open >= 0 and schedule.overlap == WAIT:
                schedule.owed += 1
            elif schedule.open < 0 or schedule.overlap == ALLOW:
                _enqueue(
                    w, streams, schedules, queues, lines, waiting, jobs, free, events, frames, schedule.stream, which
                )
        elif what == AWAY:
            pools[which].away += stamp
        else:
            if what == GATE:
                queues[which].closed += stamp
            else:
                queues[which].reopens = -1.0
            _reopen(w, streams, queues, lines, waiting, kept, jobs, starts, which)
        if w.planned > 0 and events[0].key == w.now:
            continue  # all that happens at one instant comes first, and then the workers take jobs
        for number in range(len(pools)):
            pool = pools[number]
            while pool.busy < pool.workers - pool.away:
                # The line that is served next: the first one with a job, or the one with the most credit.
                best, total = -1, 0
                for place in range(pool.first_line, pool.end_line):
                    if lines[place].length == 0:
                        continue
                    if _head(w, streams, queues, lines, waiting, kept, jobs, events, starts, place) < 0:
                        continue
                    if lines[place].weight == 0:
                        best = place
                        break
                    lines[place].credit += lines[place].weight
                    total += lines[place].weight
                    if best < 0 or lines[place].credit > lines[best].credit:
                        best = place
                if best < 0:
                    break
                lines[best].credit -= total
                job = waiting[best, 0].which
                _remove_first(waiting[best], lines[best].length)
                lines[best].length -= 1
                this = jobs[job]
                stream = streams[this.stream]
                _leave(w, jobs, frames, job)
                if this.failures > 0 and w.now - this.first > stream.within:
                    _close(w, schedules, jobs, free, events, frames, job, DEAD)
                    continue
                w.waited += w.now - this.ready
                if this.attempt == 0:
                    this.first = w.now
                    budget = types[stream.type]
                    budget.left = min(budget.left + budget.budget, budget.most)
                this.attempt += 1
                this.state = RUNNING
                this.turn += 1
                w.started += 1
                w.busy += 1
                pool.busy += 1
                queue = queues[stream.queue]
                queue.running += 1
                if queue.rate > 0:
                    starts[stream.queue, queue.started % queue.rate] = w.now
                    queue.started += 1
                    if queue.kept > 0:
                        _plan_reopening(w, events, queue, starts, stream.queue)
                spent = _outcome(w, this, stream, outages, services, takes, random)
                _plan(w, events, w.now + spent, END, job, this.turn)
    _advance(w, jobs, bins, frames, w.span)
