"""Controls of a queue: pausing it, limits on how many of its jobs run at once, and on how many start in a span."""

from __future__ import annotations

from collections import deque
from typing import TYPE_CHECKING, Any

from .durations import Duration, spell, to_ns
from .errors import PolicyError
from .jobs import Job

if TYPE_CHECKING:
    from .engine import Engine
    from .pool import Waiting


class QueueControl:
    """One queue of a rig, as a test handles it. Made by `Rig.queue`."""

    def __init__(self, engine: Engine, name: str) -> None:
        self.name = name
        self.paused = False
        self._engine = engine
        self._limit: int | None = None
        self._per_key: int | None = None
        self._rate: tuple[int, int] | None = None
        self._running = 0
        self._by_key: dict[Any, int] = {}
        self._starts: deque[int] = deque()
        self._back: list[Waiting] = []
        self._release_ns = -1

    @property
    def depth(self) -> int:
        """How many jobs are ready here and wait for a worker."""
        return sum(1 for job in self._engine.jobs if job.queue == self.name and job.state == "ready")

    @property
    def running(self) -> int:
        """How many of its jobs run."""
        return sum(1 for job in self._engine.jobs if job.queue == self.name and job.state == "running")

    def limit(
        self, running: int | None = None, *, per_key: int | None = None, rate: tuple[int, Duration] | None = None
    ) -> None:
        """Bound the queue, in place of its bounds so far.

        Parameters: `running` how many of its jobs may run at once, `per_key` how many of the same key (see
        `Policy`), `rate` a pair: how many may start in any span of that duration. Raises `PolicyError`.
        """
        for what, value in (("running", running), ("per_key", per_key)):
            if value is not None and (isinstance(value, bool) or not isinstance(value, int) or value < 1):
                raise PolicyError(f"{what} is {value!r}; give a whole number of at least 1")
        self._rate = None
        if rate is not None:
            if not isinstance(rate, (tuple, list)) or len(rate) != 2:
                raise PolicyError(f"rate is {rate!r}; give a pair, (10, '1m')")
            count, span = rate
            if isinstance(count, bool) or not isinstance(count, int) or count < 1:
                raise PolicyError(f"rate allows {count!r} starts; give a whole number of at least 1")
            span_ns = to_ns(span, what="the span of rate")
            if span_ns == 0:
                raise PolicyError("the span of rate is 0; give a duration")
            self._rate = count, span_ns
        self._limit, self._per_key = running, per_key
        self._reopen()

    def pause(self) -> None:
        """Let none of its jobs start until `resume`; those that run go on."""
        self.paused = True
        self._engine.record("note", detail=f"queue {self.name!r} is paused")

    def resume(self) -> None:
        """Let its jobs start again."""
        self.paused = False
        self._engine.record("note", detail=f"queue {self.name!r} goes on")
        self._reopen()

    def why_not(self, job: Job) -> str:
        """Return in words what keeps a job of this queue from starting now; empty where nothing does."""
        if self.paused:
            return f"queue {self.name!r} is paused"
        if self._limit is not None and self._running >= self._limit:
            return f"{self._running} jobs of queue {self.name!r} run, its limit"
        if self._per_key is not None and self._by_key.get(_hashable(job.key), 0) >= self._per_key:
            return f"{self._per_key} with the key {job.key!r} run, its limit"
        if self._rate is not None:
            count, span = self._rate
            while self._starts and self._starts[0] <= self._engine.now - span:
                self._starts.popleft()
            if len(self._starts) >= count:
                return f"{count} have started in the last {spell(span)}, its rate"
        return ""

    def keep_back(self, waiting: Waiting) -> None:
        """Take a job that may not start until something changes."""
        self._back.append(waiting)
        if self._rate is not None and len(self._starts) >= self._rate[0]:
            at = self._starts[0] + self._rate[1]
            if at != self._release_ns:
                self._release_ns = at
                self._engine.plan(at, self._reopen, None)

    def began(self, job: Job) -> None:
        self._running += 1
        if self._per_key is not None:
            key = _hashable(job.key)
            self._by_key[key] = self._by_key.get(key, 0) + 1
        if self._rate is not None:
            self._starts.append(self._engine.now)

    def ended(self, job: Job) -> None:
        self._running = max(0, self._running - 1)
        if self._per_key is not None:
            key = _hashable(job.key)
            self._by_key[key] = max(0, self._by_key.get(key, 0) - 1)
        self._reopen()

    def _reopen(self, _: object = None) -> None:
        back, self._back = self._back, []
        for waiting in back:
            queue = self._engine.route(self.name).queue(self.name)
            assert queue is not None
            queue.put_back(waiting)
        self._engine.uneven()

    def __repr__(self) -> str:
        return f"<queue {self.name}: {self.depth} ready, {self.running} running{', paused' * self.paused}>"


class Controls:
    """The controlled queues of an engine, by name."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.by_name: dict[str, QueueControl] = {}

    def of(self, name: str) -> QueueControl:
        """Return the control of a queue; raise `PolicyError` where no worker serves it."""
        found = self.by_name.get(name)
        if found is None:
            self._engine._prepare()
            self._engine.route(name)
            found = self.by_name[name] = QueueControl(self._engine, name)
            for attempt in self._engine.stopping.running():
                if attempt.job.queue == name:
                    found.began(attempt.job)
                    if not attempt.odd:
                        attempt.special()
            self._engine.rearm()
        return found

    def why(self, job: Job) -> str:
        """Return in words what keeps a ready job from starting; empty where nothing here does."""
        control = self.by_name.get(job.queue)
        return "" if control is None else control.why_not(job)

    def admit(self, waiting: Waiting) -> bool:
        """Whether a job may start now; where it may not, it is kept until that changes."""
        job = waiting[2]
        away = self._engine.faults.outage_until(job.queue, self._engine.now)
        if away is not None:
            self._engine.plan(away, self._put_back, waiting)
            return False
        control = self.by_name.get(job.queue)
        if control is None or not control.why_not(job):
            return True
        control.keep_back(waiting)
        return False

    def _put_back(self, waiting: Waiting) -> None:
        queue = self._engine.route(waiting[2].queue).queue(waiting[2].queue)
        assert queue is not None
        queue.put_back(waiting)
        self._engine.uneven()

    def began(self, job: Job) -> None:
        control = self.by_name.get(job.queue)
        if control is not None:
            control.began(job)

    def ended(self, job: Job) -> None:
        control = self.by_name.get(job.queue)
        if control is not None:
            control.ended(job)


def _hashable(key: Any) -> Any:
    try:
        hash(key)
    except TypeError:
        return repr(key)
    return key
