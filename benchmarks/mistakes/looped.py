"""The known mistakes in a second form: on worker loops of the application's own, over a queue of its own.

`LoopedRig` stands in for the rig that a story gets. Jobs that the story enqueues go into a list of messages, which
worker loops claim, handle, acknowledge, and deliver again after a lease or a failure. The story is the same.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import ironclock as ic

from . import Mistake

LEASE_S = 3_600
"""After how long a message that nobody has acknowledged is delivered again: longer than the probe slows anything."""


class Message:
    """One job in the queue of the application."""

    def __init__(self, number: int, call: ic.Call[Any], due: float) -> None:
        self.number = number
        self.call = call
        self.due = due
        self.tries = 0
        self.claimed_until = 0.0


def _seconds(after: Any) -> float:
    """Return a delay in seconds: a number, or text such as ``"20m"``."""
    if isinstance(after, str):
        return float(after[:-1]) * {"s": 1, "m": 60, "h": 3_600, "d": 86_400}[after[-1]]
    return float(after)


class LoopedRig:
    """A rig whose jobs are run by worker loops. It has what the stories of the known mistakes ask for."""

    def __init__(self, rig: ic.Rig) -> None:
        self._rig = rig
        self._queue: list[Message] = []
        self._last = 0
        self._workers = 1
        self._started = False
        self._dispatch = self._handle  # one function for all jobs, as many services have it
        rig.handler(self._dispatch, id="number", job="name")

    def __getattr__(self, name: str) -> Any:
        if name in ("transaction", "schedule", "flow", "queue", "resource", "deploy", "conditions", "emit", "listen"):
            raise NotImplementedError(name)
        return getattr(self._rig, name)

    def workers(self, count: int) -> None:
        self._workers = count

    def job(self, fn: Callable[..., Any], *, name: str | None = None, retry: Any = None, **policy: Any) -> Any:
        if policy:
            raise NotImplementedError(f"{', '.join(policy)} of a queue of one's own")
        return self._rig.job(fn, name=name, retry=retry)

    def enqueue(self, call: Any, *args: Any, after: Any = 0) -> None:
        if not isinstance(call, ic.Call):
            call = call.call(*args)
        self._last += 1
        self._queue.append(Message(self._last, call, time.time() + _seconds(after)))

    def run_dry(self, limit: str = "") -> None:
        self._start()
        for _ in range(400):
            self._rig.advance("1m")
            if not self._queue:
                break

    def advance(self, duration: Any) -> None:
        self._start()
        self._rig.advance(duration)

    def _start(self) -> None:
        if not self._started:
            self._started = True
            self._rig.run_loop(self._work, count=self._workers, name="worker", restart="1s")

    def _handle(self, number: int, name: str, call: ic.Call[Any]) -> None:
        call.type.fn(*call.args, **call.kwargs)

    def _work(self) -> None:
        while True:
            now = time.time()
            free = [m for m in self._queue if m.due <= now and m.claimed_until <= now]
            if not free:
                time.sleep(1)
                continue
            message = min(free, key=lambda m: (m.due, m.number))
            message.claimed_until = now + LEASE_S
            message.tries += 1
            retry = message.call.type.retry
            try:
                self._dispatch(message.number, message.call.type.name, message.call)
            except Exception as error:
                if message.tries >= retry.attempts or not isinstance(error, retry.on):
                    self._queue.remove(message)
                else:
                    message.due, message.claimed_until = time.time() + 10, 0.0
            else:
                self._queue.remove(message)


LOOPED = (
    "charge_without_a_key", "mark_after_the_letter", "batch_from_the_start", "children_without_a_key",
    "refund_at_every_failure", "look_then_print", "blanket_except", "hold_without_finally", "late_news_over_newer",
    "retries_inside_retries", "stampede", "alert_that_starts_again", "lost_update", "check_then_act",
    "read_across_the_network", "tickets_from_threads", "checkpoint_before_the_work", "compensation_that_fails",
    "two_statements_two_commits", "row_before_its_file",
)  # fmt: skip
"""The mistakes that make sense in this form, and whose search is short."""


def on_worker_loops(mistake: Mistake, fixed: bool, rig: ic.Rig) -> None:
    """A known mistake, or its fixed twin, on worker loops of the application's own."""
    mistake.story(LoopedRig(rig), fixed)  # type: ignore[arg-type]
