"""Shutdown: attempts that are asked to stop, cancelled or killed, and workers that are stopped."""

from __future__ import annotations

from collections.abc import Callable

from ..errors import AttemptCancelled, RigStateError
from ..foundation.durations import spell
from ..history.history import History
from .attempts import Attempts
from .event_loop import FIRST, EventLoop
from .jobs import LiveAttempt, LiveJob
from .life import JobLives
from .pools import Pool, Pools


class Shutdown:
    """Ends attempts before their own end."""

    def __init__(
        self, loop: EventLoop, history: History, pools: Pools, lives: JobLives, attempts: Attempts,
        changed: Callable[[], None],
    ) -> None:  # fmt: skip
        self._loop = loop
        self._history = history
        self._pools = pools
        self._lives = lives
        self._attempts = attempts
        self._changed = changed
        self.gave_time = False
        """True if a shutdown has given running jobs time to end."""
        self._stops = 0  # how often the workers were stopped
        self._started_after = 0  # the number of the last stop that was taken back: its grace kills nobody

    def cancel(self, job: LiveJob, how: str) -> None:
        """Cancel a running job: ``"ask"`` it, ``"throw"`` an error into it, or ``"kill"`` it."""
        if how not in ("ask", "throw", "kill"):
            raise RigStateError(f"running is {how!r}; give 'refuse', 'ask', 'throw' or 'kill'")
        attempt = job.running_attempt
        if attempt is None:
            self._lives.close(job, "withdrawn", "withdrawn")
            return
        self._ask(attempt)
        if how == "kill":
            self._attempts.kill(attempt, "withdrawn")
        elif how == "throw":
            self._throw(attempt)

    def _ask(self, attempt: LiveAttempt) -> None:
        attempt.track()
        if not attempt.asked_to_stop:
            attempt.asked_to_stop = True
            self._history.record("asked-to-stop", attempt.job, attempt.number)

    def _throw(self, attempt: LiveAttempt) -> None:
        """Raise `AttemptCancelled` in an attempt where it waits."""
        error = AttemptCancelled(f"attempt {attempt.number} of {attempt.job.id} was cancelled")
        if self._loop.current is attempt:
            raise error
        if not attempt.suspended:
            self._attempts.kill(attempt, "withdrawn")
            return
        self._loop.schedule(self._loop.now, FIRST, self._throw_now, (attempt, error))

    def _throw_now(self, both: tuple[LiveAttempt, BaseException]) -> None:
        attempt, error = both
        if attempt.outcome == "running" and attempt.suspended:
            self._loop.raise_in(attempt, error)

    def stop_workers(self, grace_ns: int, how: str) -> None:
        """Let no job start any more, and ask running attempts to stop. After the grace, kill those still running and
        put their jobs back."""
        loop = self._loop
        self.gave_time = self.gave_time or grace_ns > 0
        loop.prepare()
        for pool in self._pools.all:
            pool.stopped = True
        self._changed()
        self._history.record("note", detail=f"the workers are stopped, with a grace of {spell(grace_ns)}")
        for attempt in self._attempts.running():
            self._ask(attempt)
            if how == "throw":
                self._throw(attempt)
        self._stops += 1
        loop.schedule_world_event(loop.now + grace_ns, self._grace_is_over, (self._stops, loop.now))

    def _grace_is_over(self, stop: tuple[int, int]) -> None:
        number, since = stop
        if number <= self._started_after:
            return  # the workers were started since
        for attempt in self._attempts.running():
            if attempt.pool.stopped and attempt.started_ns <= since:
                self._attempts.kill(attempt, "the workers were stopped")

    def start_workers(self) -> None:
        """Let the workers take jobs again."""
        for pool in self._pools.all:
            pool.stopped = False
        self._started_after = self._stops
        self._changed()
        self._history.record("note", detail="the workers are started")
        self._loop.work_to_dispatch = True

    def send_away(self, queue: str | None, count: int | None) -> None:
        """Let some workers take no job any more once they have ended the one that they run.

        Parameters: `queue` says which pool they are of, by a queue that it serves (None: all pools); `count` is how
        many of each pool (None: all). Raises `PolicyError` if no worker serves the queue.
        """
        for pool in self._pools_of(queue):
            pool.send_away(pool.size if count is None else min(count, pool.size))
        self._history.record("note", detail=f"{self._some(queue, count)} are away")

    def bring_back(self, queue: str | None, count: int | None) -> None:
        """Let workers that were sent away take jobs again. Parameters as in `send_away`."""
        for pool in self._pools_of(queue):
            pool.bring_back(pool.size if count is None else min(count, pool.size))
        self._history.record("note", detail=f"{self._some(queue, count)} are back")
        self._loop.work_to_dispatch = True

    def _pools_of(self, queue: str | None) -> list[Pool]:
        self._loop.prepare()
        return self._pools.all if queue is None else [self._pools.of(queue)]

    @staticmethod
    def _some(queue: str | None, count: int | None) -> str:
        number = "all workers" if count is None else f"{count} workers"
        return number if queue is None else f"{number} of the queue {queue!r}"
