"""Queues: what limits the jobs of a queue, and when they can start."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Any

from ..errors import PolicyError
from ..foundation.durations import Duration, spell, to_ns
from ..history.history import History
from .event_loop import EventLoop
from .faults.placed import PlacedFaults
from .jobs import LiveAttempt, LiveJob
from .pools import Pools, Waiting


class QueueControl:
    """One queue of a rig: pause it, limit it, ask how long it is. `Rig.queue` gives it.

    Example::

        harbour = rig.queue("harbour")
        harbour.limit(running=2, rate=(10, "1m"))
        harbour.pause()
        rig.advance("1h")
        assert harbour.depth == 3
        harbour.resume()
    """

    def __init__(self, name: str, loop: EventLoop, history: History, pools: Pools, jobs: list[LiveJob]) -> None:
        self.name = name
        """The queue's name."""
        self._paused = False
        self._loop = loop
        self._history = history
        self._pools = pools
        self._jobs = jobs
        self._limit: int | None = None
        self._per_key: int | None = None
        self._rate: tuple[int, int] | None = None
        self._running = 0
        self._by_key: dict[Any, int] = {}
        self._starts: deque[int] = deque()
        self._kept_back: list[Waiting] = []
        self._release_ns = -1

    @property
    def depth(self) -> int:
        """How many jobs of the queue are ready and wait for a worker."""
        return sum(1 for job in self._jobs if job.queue == self.name and job.state == "ready")

    @property
    def running(self) -> int:
        """How many jobs of the queue are running."""
        return sum(1 for job in self._jobs if job.queue == self.name and job.state == "running")

    def limit(
        self, running: int | None = None, *, per_key: int | None = None, rate: tuple[int, Duration] | None = None
    ) -> None:
        """Limit the queue. The new limits replace all earlier ones.

        Parameters (each default None: no such limit):

        - `running`: how many of its jobs can run at once.
        - `per_key`: how many jobs with the same key can run at once (`key` in `Policy`). A job without a key is free.
        - `rate`: a pair such as ``(10, "1m")``: how many jobs can start in any span of that duration.

        What runs and has started already counts, whenever a limit is set.

        Raises `PolicyError`, or `DurationError` for the span.

        Example::

            rig.queue("default").limit(running=2, rate=(100, "1m"))
        """
        for what, value in (("running", running), ("per_key", per_key)):
            if value is not None and (isinstance(value, bool) or not isinstance(value, int) or value < 1):
                raise PolicyError(f"{what} is {value!r}; give a whole number, at least 1")
        self._rate = None
        if rate is not None:
            if not isinstance(rate, (tuple, list)) or len(rate) != 2:
                raise PolicyError(f"rate is {rate!r}; give a pair such as (10, '1m')")
            count, span = rate
            if isinstance(count, bool) or not isinstance(count, int) or count < 1:
                raise PolicyError(f"rate allows {count!r} starts; give a whole number, at least 1")
            span_ns = to_ns(span, what="the span of rate")
            if span_ns == 0:
                raise PolicyError("the span of rate is 0; give a duration such as '1m'")
            self._rate = count, span_ns
            since = self._loop.now - span_ns
            started = (one.started_ns for job in self._jobs if job.queue == self.name for one in job.attempts)
            self._starts = deque(sorted(ns for ns in started if ns > since))
        self._limit, self._per_key = running, per_key
        self._reopen()

    @property
    def paused(self) -> bool:
        """True while no job of the queue can start. `pause` and `resume` change it."""
        return self._paused

    def pause(self) -> None:
        """Let no job of the queue start until `resume`. Jobs that are running continue.

        Example::

            rig.queue("default").pause()
        """
        self._paused = True
        self._history.record("note", detail=f"queue {self.name!r} is paused")

    def resume(self) -> None:
        """Let jobs of the queue start again.

        Example::

            rig.queue("default").pause()
            rig.advance("1h")
            rig.queue("default").resume()
        """
        self._paused = False
        self._history.record("note", detail=f"queue {self.name!r} goes on")
        self._reopen()

    # --- what the simulation asks -------------------------------------------------------------------

    def reason_to_wait(self, job: LiveJob) -> str:
        """Return in words why a job of this queue cannot start now. Empty if it can. Parameters: `job` is the job."""
        if self._paused:
            return f"queue {self.name!r} is paused"
        if self._limit is not None and self._running >= self._limit:
            return f"{self._running} jobs of queue {self.name!r} are running, its limit"
        if self._per_key is not None and job.key is not None and self._running_with(job.key) >= self._per_key:
            return f"{self._per_key} jobs with the key {job.key!r} are running, its limit"
        if self._rate is not None:
            count, span = self._rate
            while self._starts and self._starts[0] <= self._loop.now - span:
                self._starts.popleft()
            if len(self._starts) >= count:
                return f"{count} jobs have started in the last {spell(span)}, its rate"
        return ""

    def _running_with(self, key: Any) -> int:
        return self._by_key.get(_hashable(key), 0)

    def keep_back(self, waiting: Waiting) -> None:
        """Keep a job that cannot start until something changes. Parameters: `waiting` is the job in its queue."""
        self._kept_back.append(waiting)
        if self._rate is not None and len(self._starts) >= self._rate[0]:
            at = self._starts[0] + self._rate[1]
            if at != self._release_ns:
                self._release_ns = at
                self._loop.schedule_world_event(at, self._reopen, None)

    def count_start(self, job: LiveJob) -> None:
        """Count a job that starts. Parameters: `job` is the job."""
        self._running += 1
        if job.key is not None:
            key = _hashable(job.key)
            self._by_key[key] = self._by_key.get(key, 0) + 1
        if self._rate is not None:
            self._starts.append(self._loop.now)

    def count_end(self, job: LiveJob) -> None:
        """Count a job that runs no more. Parameters: `job` is the job."""
        self._running = max(0, self._running - 1)
        if job.key is not None:
            key = _hashable(job.key)
            left = self._by_key.get(key, 0) - 1
            if left > 0:
                self._by_key[key] = left
            else:
                self._by_key.pop(key, None)
        self._reopen()

    def _reopen(self, _: object = None) -> None:
        kept, self._kept_back = self._kept_back, []
        for waiting in kept:
            queue = self._pools.of(self.name).queue(self.name)
            assert queue is not None
            queue.put_back(waiting)
        self._loop.work_to_dispatch = True

    def __repr__(self) -> str:
        return f"<queue {self.name}: {self.depth} ready, {self.running} running{', paused' * self.paused}>"


class QueueControls:
    """The controlled queues of a simulation by name. `gate` answers if a waiting job can start."""

    def __init__(
        self, loop: EventLoop, history: History, pools: Pools, faults: PlacedFaults, jobs: list[LiveJob],
        running: Callable[[], list[LiveAttempt]], changed: Callable[[], None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._pools = pools
        self._faults = faults
        self._jobs = jobs
        self._running = running
        self._changed = changed
        self.by_name: dict[str, QueueControl] = {}

    def of(self, name: str) -> QueueControl:
        """Return the control of a queue. Raises `PolicyError` if no worker serves it."""
        found = self.by_name.get(name)
        if found is None:
            self._loop.prepare()
            self._pools.of(name)
            found = self.by_name[name] = QueueControl(name, self._loop, self._history, self._pools, self._jobs)
            for attempt in self._running():
                if attempt.job.queue == name:
                    found.count_start(attempt.job)
                    attempt.track()
            self._changed()
        return found

    def reason_to_wait(self, job: LiveJob) -> str:
        """Return in words why a ready job cannot start. Empty if no limit is the reason."""
        control = self.by_name.get(job.queue)
        return "" if control is None else control.reason_to_wait(job)

    def gate(self, waiting: Waiting) -> bool:
        """Return True if a job can start now. If not, it is kept until that changes."""
        job = waiting.job
        outage_end = self._faults.outage_until(job.queue, self._loop.now)
        if outage_end is not None:
            self._loop.schedule_world_event(outage_end, self._put_back, waiting)
            return False
        control = self.by_name.get(job.queue)
        if control is None or not control.reason_to_wait(job):
            return True
        control.keep_back(waiting)
        return False

    def _put_back(self, waiting: Waiting) -> None:
        queue = self._pools.of(waiting.job.queue).queue(waiting.job.queue)
        assert queue is not None
        queue.put_back(waiting)
        self._loop.work_to_dispatch = True

    def count_start(self, job: LiveJob) -> None:
        """Count a job that starts, if its queue has limits."""
        control = self.by_name.get(job.queue)
        if control is not None:
            control.count_start(job)

    def count_end(self, job: LiveJob) -> None:
        """Count a job that runs no more, if its queue has limits."""
        control = self.by_name.get(job.queue)
        if control is not None:
            control.count_end(job)


def _hashable(key: Any) -> Any:
    try:
        hash(key)
    except TypeError:
        return repr(key)
    return key
