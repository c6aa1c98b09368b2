"""The tests that the service had before: its parts, by themselves, with a real server and no clock but the real one."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Awaitable, Callable, Iterator

import httpx
import pytest
import redis as sync_redis

from services.crossing_watch import watch
from services.crossing_watch.watch import CLAIMED, DEAD, DUE, READY, TAKEN, Retry, Worker, message_of

Play = Callable[[Callable[[Worker], Awaitable[None]]], None]


class Gateway:
    """A gateway that notes what it is asked, and answers with `status`."""

    def __init__(self) -> None:
        self.asked: list[tuple[str, str, str | None]] = []
        self.status = 200

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.asked.append((request.method, request.url.path, request.headers.get("idempotency-key")))
        return httpx.Response(self.status, json={"receipt": f"R{len(self.asked)}"})


@pytest.fixture
def gateway() -> Gateway:
    return Gateway()


@pytest.fixture
def play(redis_url: str, gateway: Gateway) -> Iterator[Play]:
    """Call a coroutine function with a worker."""

    def run(story: Callable[[Worker], Awaitable[None]]) -> None:
        async def with_worker() -> None:
            client = httpx.AsyncClient(transport=httpx.MockTransport(gateway), base_url="http://gateway.tern.test")
            worker = Worker(redis_url, client)
            await worker.server.flushdb()
            await story(worker)
            await worker.server.aclose()

        asyncio.run(with_worker())

    yield run
    sync_redis.Redis.from_url(redis_url).flushdb()


def test_a_message_has_an_id_of_its_own() -> None:
    assert message_of("notice", "B-1") != message_of("notice", "B-1")
    assert json.loads(message_of("notice", "B-1", crossing="TL-9"))["crossing"] == "TL-9"


def test_a_message_is_ready_at_once(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.queue.put("notice", "B-1")
        assert await worker.queue.counts() == {"due": 0, "ready": 1, "taken": 0, "dead": 0}

    play(story)


def test_a_message_that_waits_is_in_the_set(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.queue.put("survey", "B-1", wait=60)
        ((_, due),) = await worker.server.zrange(DUE, 0, -1, withscores=True)
        assert 55 < due - time.time() <= 60

    play(story)


def test_cancelling_asks_for_each_refund(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.queue.cancel("TL-9", ["ada/1", "bo/2"])
        messages = [json.loads(one) for one in await worker.server.lrange(READY, 0, -1)]
        assert {one["about"] for one in messages} == {"ada/1", "bo/2"}
        assert await worker.server.get("crossing:TL-9") == "cancelled"

    play(story)


def test_a_refund_is_made_with_a_key(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        await worker.refund({"about": "ada/1", "crossing": "TL-9"})
        assert gateway.asked == [("POST", "/refunds", "refund ada/1")]
        assert await worker.server.hget("refunded", "ada/1") == "R1"

    play(story)


def test_a_refund_is_made_once(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        await worker.refund({"about": "ada/1", "crossing": "TL-9"})
        await worker.refund({"about": "ada/1", "crossing": "TL-9"})
        assert len(gateway.asked) == 1

    play(story)


def test_a_refund_asks_for_a_notice(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.refund({"about": "ada/1", "crossing": "TL-9"})
        (message,) = await worker.server.lrange(READY, 0, -1)
        assert json.loads(message)["kind"] == "notice"

    play(story)


def test_the_lock_is_given_back(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        gateway.status = 503
        with pytest.raises(httpx.HTTPStatusError):
            await worker.refund({"about": "ada/1", "crossing": "TL-9"})
        assert await worker.server.exists("lock:account:ada") == 0

    play(story)


def test_a_lock_that_is_held_is_waited_for(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.server.set("lock:account:ada", "somebody")
        with pytest.raises(Retry):
            async with worker.account("ada/1"):
                pass
        assert await worker.server.get("lock:account:ada") == "somebody"

    play(story)


def test_a_notice_is_followed_by_a_survey(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        await worker.notice({"about": "ada/1", "crossing": "TL-9"})
        assert gateway.asked == [("PUT", "/notices/ada/1", None)]
        assert await worker.server.zcard(DUE) == 1

    play(story)


def test_what_is_done_is_not_taken_any_more(play: Play) -> None:
    async def story(worker: Worker) -> None:
        message = message_of("survey", "ada/1")
        await worker.server.lpush(TAKEN, message)
        await worker.server.hset(CLAIMED, message, time.time())
        await worker.handle(message)
        assert await worker.queue.counts() == {"due": 0, "ready": 0, "taken": 0, "dead": 0}
        assert await worker.server.hlen(CLAIMED) == 0

    play(story)


def test_what_fails_is_tried_later(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        gateway.status = 500
        await worker.handle(message_of("survey", "ada/1"))
        ((again, due),) = await worker.server.zrange(DUE, 0, -1, withscores=True)
        assert json.loads(again)["tries"] == 1
        assert 8 < due - time.time() <= 10

    play(story)


def test_what_fails_too_often_is_dead(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        gateway.status = 500
        await worker.handle(json.dumps({**json.loads(message_of("survey", "ada/1")), "tries": watch.MOST_TRIES - 1}))
        assert await worker.server.llen(DEAD) == 1

    play(story)


def test_what_is_due_becomes_ready(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.server.zadd(DUE, {"a": time.time() - 1, "b": time.time() + 60})
        moving = asyncio.create_task(worker.move_due())
        await asyncio.sleep(0.05)
        moving.cancel()
        assert await worker.server.lrange(READY, 0, -1) == ["a"]

    play(story)


def test_what_a_dead_worker_had_is_given_back(play: Play) -> None:
    async def story(worker: Worker) -> None:
        await worker.server.lpush(TAKEN, "old", "new")
        await worker.server.hset(CLAIMED, mapping={"old": time.time() - 2 * watch.LEASE_S, "new": time.time()})
        looking = asyncio.create_task(worker.take_back())
        await asyncio.sleep(0.05)
        looking.cancel()
        assert await worker.server.lrange(READY, 0, -1) == ["old"]
        assert await worker.server.lrange(TAKEN, 0, -1) == ["new"]

    play(story)


def test_a_worker_does_what_is_ready(play: Play, gateway: Gateway) -> None:
    async def story(worker: Worker) -> None:
        await worker.queue.cancel("TL-9", ["ada/1", "bo/2"])
        working = asyncio.create_task(worker.run())
        while len(gateway.asked) < 4:
            await asyncio.sleep(0.01)
        worker.stopping.set()
        await working
        assert sorted(path for _, path, _ in gateway.asked)[:2] == ["/notices/ada/1", "/notices/bo/2"]

    play(story)
