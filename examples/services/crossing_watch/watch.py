"""Notices and refunds for crossings that are cancelled: jobs in lists and sorted sets of a key-value server.

A message waits in `DUE`, comes into `READY`, and is in `TAKEN` while a worker has it. Six mistakes can be planted, one
at a time; without them the service keeps what it promises.
"""

from __future__ import annotations

import asyncio
import json
import logging
import os
import signal
import time
import uuid
from collections.abc import Awaitable, Callable, Iterable
from contextlib import asynccontextmanager
from typing import Any

import httpx
import redis.asyncio as redis
from redis.exceptions import RedisError

DUE, READY, TAKEN, CLAIMED, DEAD = "jobs:due", "jobs:ready", "jobs:taken", "jobs:claimed", "jobs:dead"
LEASE_S = 60
LOCK_S = 30
MOST_TRIES = 6
SURVEY_AFTER_S = 45
AT_ONCE = 3

PLANTED = frozenset(os.environ.get("PLANTED", "").split())
MISTAKES = {
    "no-key": "the bank cannot tell a repeated refund from a second one",
    "early-ack": "a message is acknowledged before its work is done",
    "two-steps": "a message that falls due is taken out of one list, and then put into another",
    "lock-for-ever": "the lock of an account has no expiry",
    "only-claimed": "messages that a worker took and had not yet claimed are not looked for",
    "swallowed": "an error of the gateway is logged, and the notice counts as sent",
}

log = logging.getLogger(__name__)

# One step each, so that no crash can come between.
_MOVE_DUE = """
local found = redis.call('ZRANGEBYSCORE', KEYS[1], '-inf', ARGV[1], 'LIMIT', 0, 50)
for _, message in ipairs(found) do
    redis.call('ZREM', KEYS[1], message)
    redis.call('LPUSH', KEYS[2], message)
end
return #found
"""
_FINISH = """
redis.call('LREM', KEYS[1], 1, ARGV[1])
redis.call('HDEL', KEYS[2], ARGV[1])
if ARGV[3] == 'later' then redis.call('ZADD', KEYS[3], ARGV[4], ARGV[2]) end
if ARGV[3] == 'dead' then redis.call('LPUSH', KEYS[4], ARGV[2]) end
"""
_GIVE_BACK = """
if redis.call('LREM', KEYS[1], 1, ARGV[1]) == 1 then redis.call('LPUSH', KEYS[3], ARGV[1]) end
redis.call('HDEL', KEYS[2], ARGV[1])
"""
_UNLOCK = "if redis.call('GET', KEYS[1]) == ARGV[1] then return redis.call('DEL', KEYS[1]) end return 0"


class Retry(Exception):
    """The job cannot be done now, and is to be tried again."""


def message_of(kind: str, about: str, **more: Any) -> str:
    """Return a new message."""
    return json.dumps({"id": uuid.uuid4().hex, "kind": kind, "about": about, "tries": 0, **more}, sort_keys=True)


class Queue:
    """The queue as callers see it."""

    def __init__(self, server: redis.Redis) -> None:
        self.server = server

    async def put(self, kind: str, about: str, wait: float = 0, **more: Any) -> None:
        """Add a message, due after `wait` seconds."""
        message = message_of(kind, about, **more)
        if wait:
            await self.server.zadd(DUE, {message: time.time() + wait})
        else:
            await self.server.lpush(READY, message)

    async def cancel(self, crossing: str, bookings: Iterable[str]) -> None:
        """Cancel a crossing: each booking gets its money back, and a notice."""
        await self.server.set(f"crossing:{crossing}", "cancelled")
        await self.server.publish("crossings", f"cancelled {crossing}")
        messages = [message_of("refund", booking, crossing=crossing) for booking in bookings]
        await self.server.lpush(READY, *messages)

    async def counts(self) -> dict[str, int]:
        """Return how many messages are where."""
        async with self.server.pipeline() as pipe:
            pipe.zcard(DUE).llen(READY).llen(TAKEN).llen(DEAD)
            due, ready, taken, dead = await pipe.execute()
        return {"due": due, "ready": ready, "taken": taken, "dead": dead}


class Worker:
    """Takes messages and does what they ask for, up to `AT_ONCE` at a time."""

    def __init__(self, url: str, gateway: httpx.AsyncClient, planted: frozenset[str] = PLANTED) -> None:
        self.server = redis.Redis.from_url(url, decode_responses=True)
        self.queue = Queue(self.server)
        self.gateway = gateway
        self.planted = planted
        self.stopping = asyncio.Event()
        self.known: dict[str, str] = {}  # what the news have said of crossings
        self._room = asyncio.Semaphore(AT_ONCE)
        self._handlers: dict[str, Callable[[dict[str, Any]], Awaitable[None]]] = {
            "refund": self.refund,
            "notice": self.notice,
            "survey": self.survey,
        }

    async def run(self) -> None:
        """Work until SIGTERM comes; what has begun is finished."""
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, self.stopping.set)
        try:
            async with asyncio.TaskGroup() as group:
                helpers = [group.create_task(each()) for each in (self.move_due, self.take_back, self.read_news)]
                async with asyncio.TaskGroup() as jobs:
                    await self.take(jobs)
                for helper in helpers:
                    helper.cancel()
        finally:
            await self.server.aclose()

    async def take(self, jobs: asyncio.TaskGroup) -> None:
        """Take messages, one after the other, and start their work."""
        while not self.stopping.is_set():
            await self._room.acquire()
            message = await self.server.blmove(READY, TAKEN, 1, "RIGHT", "LEFT")
            if message is None:
                self._room.release()
                continue
            await self.server.hset(CLAIMED, message, time.time())
            jobs.create_task(self._work(message))

    async def _work(self, message: str) -> None:
        try:
            await self.handle(message)
        finally:
            self._room.release()

    async def handle(self, message: str) -> None:
        """Do one message, and take it off the list of those that were taken."""
        job = json.loads(message)
        if "early-ack" in self.planted:
            await self._finish(message, job, "done")
        try:
            await self._handlers[job["kind"]](job)
        except (Retry, httpx.HTTPError, RedisError) as error:
            job["tries"] += 1
            log.warning("%s %s failed: %s", job["kind"], job["about"], error)
            await self._finish(message, job, "dead" if job["tries"] >= MOST_TRIES else "later")
        else:
            await self._finish(message, job, "done")

    async def _finish(self, message: str, job: dict[str, Any], how: str) -> None:
        again = json.dumps(job, sort_keys=True)
        due = time.time() + 5 * 2 ** job["tries"]
        await self.server.eval(_FINISH, 4, TAKEN, CLAIMED, DUE, DEAD, message, again, how, due)

    # --- the jobs -----------------------------------------------------------------------------------

    async def refund(self, job: dict[str, Any]) -> None:
        """Give the money of a booking back, and send a notice about it."""
        booking = job["about"]
        async with self.account(booking):
            if await self.server.hexists("refunded", booking):
                return
            headers = {} if "no-key" in self.planted else {"Idempotency-Key": f"refund {booking}"}
            answer = await self.gateway.post("/refunds", json={"booking": booking}, headers=headers)
            answer.raise_for_status()
            async with self.server.pipeline(transaction=True) as pipe:
                pipe.hset("refunded", booking, answer.json()["receipt"])
                pipe.lpush(READY, message_of("notice", booking, crossing=job["crossing"]))
                await pipe.execute()

    async def notice(self, job: dict[str, Any]) -> None:
        """Tell a passenger that the crossing is cancelled."""
        booking = job["about"]
        try:
            answer = await self.gateway.put(f"/notices/{booking}", json={"crossing": job["crossing"]})
            answer.raise_for_status()
        except httpx.HTTPError:
            if "swallowed" not in self.planted:
                raise
            log.exception("no notice for %s", booking)
        await self.queue.put("survey", booking, wait=SURVEY_AFTER_S)

    async def survey(self, job: dict[str, Any]) -> None:
        """Ask a passenger how it was."""
        answer = await self.gateway.put(f"/surveys/{job['about']}")
        answer.raise_for_status()
        await self.server.sadd("asked", job["about"])

    @asynccontextmanager
    async def account(self, booking: str) -> Any:
        """Hold the lock of the account of a booking. Raises `Retry` if somebody else holds it."""
        key, token = f"lock:account:{booking.partition('/')[0]}", uuid.uuid4().hex
        expiry = None if "lock-for-ever" in self.planted else LOCK_S * 1000
        for _ in range(20):
            if await self.server.set(key, token, nx=True, px=expiry):
                break
            await asyncio.sleep(0.1)
        else:
            raise Retry(f"{key} is held")
        try:
            yield
        finally:
            await self.server.eval(_UNLOCK, 1, key, token)

    # --- the helpers --------------------------------------------------------------------------------

    async def move_due(self) -> None:
        """Move what is due into the list of what is ready, twice a second."""
        while True:
            now = time.time()
            if "two-steps" in self.planted:
                for message in await self.server.zrangebyscore(DUE, "-inf", now):
                    if await self.server.zrem(DUE, message):
                        await self.server.lpush(READY, message)
            else:
                await self.server.eval(_MOVE_DUE, 2, DUE, READY, now)
            await asyncio.sleep(0.5)

    async def take_back(self) -> None:
        """Give back what dead workers had taken, every ten seconds."""
        unclaimed: set[str] = set()
        while True:
            claimed = await self.server.hgetall(CLAIMED)
            for message, since in claimed.items():
                if time.time() - float(since) > LEASE_S:
                    await self.server.eval(_GIVE_BACK, 3, TAKEN, CLAIMED, READY, message)
            if "only-claimed" not in self.planted:
                now_unclaimed = set(await self.server.lrange(TAKEN, 0, -1)) - set(claimed)
                for message in unclaimed & now_unclaimed:
                    await self.server.eval(_GIVE_BACK, 3, TAKEN, CLAIMED, READY, message)
                unclaimed = now_unclaimed
            await asyncio.sleep(10)

    async def read_news(self) -> None:
        """Follow what is said about crossings."""
        async with self.server.pubsub() as news:
            await news.subscribe("crossings")
            while True:
                message = await news.get_message(ignore_subscribe_messages=True, timeout=5)
                if message is not None:
                    state, _, crossing = message["data"].partition(" ")
                    self.known[crossing] = state


async def main(url: str, gateway_url: str) -> None:
    """Run one worker, as a process of its own does."""
    async with httpx.AsyncClient(base_url=gateway_url, timeout=10) as gateway:
        await Worker(url, gateway).run()


if __name__ == "__main__":
    asyncio.run(main(os.environ["KEY_VALUE_URL"], os.environ["GATEWAY_URL"]))
