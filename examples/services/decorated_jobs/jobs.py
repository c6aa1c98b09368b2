"""A small job API of our own: a decorator, a list and a sorted set in a key-value server, and a worker."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from typing import Any

import redis

HANDLERS: dict[str, Callable[..., Any]] = {}


class Jobs:
    """Jobs over one key-value server."""

    def __init__(self, client: redis.Redis) -> None:
        self._client = client

    def job(self, function: Callable[..., Any]) -> Callable[..., Any]:
        """Let a function be a job: it gets a method `later`."""
        HANDLERS[function.__name__] = function

        def later(*args: Any, after: float = 0) -> str:
            number = str(self._client.incr("jobs:last"))
            message = json.dumps({"id": number, "name": function.__name__, "args": args})
            if after:
                self._client.zadd("jobs:due", {message: time.time() + after})
            else:
                self._client.rpush("jobs:ready", message)
            return number

        function.later = later  # type: ignore[attr-defined]
        return function

    def move_due(self) -> None:
        """Put what is due by now into the list."""
        for message in self._client.zrangebyscore("jobs:due", 0, time.time()):
            if self._client.zrem("jobs:due", message):
                self._client.rpush("jobs:ready", message)

    def work(self, name: str = "worker") -> None:
        """Do jobs for ever. A job is in a list of the worker's own until it is done."""
        mine = f"jobs:doing:{name}"
        while True:
            self.move_due()
            message = self._client.blmove("jobs:ready", mine, 1, "LEFT", "RIGHT")
            if message is None:
                continue
            job = json.loads(message)
            with self._client.lock(f"jobs:lock:{job['id']}", timeout=60):
                run(job["id"], job["name"], job["args"])
            self._client.lrem(mine, 1, message)


def run(id: str, name: str, args: list[Any]) -> None:
    """Do one job."""
    HANDLERS[name](*args)
