"""Seams in the commands of a key-value server: what a search finds in a service that talks to one."""

from __future__ import annotations

import asyncio
import json
import re
import time
from collections.abc import Iterator
from typing import Any

import pytest
import redis
import redis.asyncio as redis_asyncio
from servers import Redis, redis_missing

import ironclock as ic

pytestmark = [
    pytest.mark.skipif(bool(redis_missing()), reason=redis_missing()),
    pytest.mark.xdist_group("redis seams"),
]


@pytest.fixture(scope="module")
def url() -> Iterator[str]:
    with Redis() as server:
        yield f"redis://127.0.0.1:{server.port}/0"


def passed(found: ic.Findings) -> list[str]:
    """The seams of commands that the code passes."""
    found_in = (re.search(r"(?:before|after) redis .*?(?= \(time \d+\)$|$)", name) for name in found.coverage.passed)
    return [seam[0] for seam in found_in if seam is not None]


def commands(client: Any) -> Iterator[Any]:
    """Yield what each of some commands returns."""
    yield client.set("lock:17", 1, nx=True, px=5000)
    yield client.set("lock:17", 2, nx=True)  # is refused: nothing has changed
    yield client.get("lock:17")
    yield client.lpush("queue", "a")
    yield client.lmove("queue", "processing", "RIGHT", "LEFT")
    yield client.lmove("queue", "processing", "RIGHT", "LEFT")  # nothing is there
    yield client.lrem("processing", 1, "a")
    yield client.zrem("delayed", "b")
    pipe = client.pipeline()
    pipe.hset("state:1f9b2c3d", "at", 1)
    pipe.get("lock:17")
    pipe.delete("lock:17")
    yield pipe.execute()
    yield client.eval("return redis.call('incr', KEYS[1])", 1, "tickets")


SEAMS = [
    "before redis SET lock:*", "after redis SET lock:*", "before redis LPUSH queue", "after redis LPUSH queue",
    "after redis LMOVE queue", "before redis LREM processing", "after redis LREM processing",
    "before redis ZREM delayed", "before redis HSET state:*, DEL lock:*", "after redis HSET state:*, DEL lock:*",
    "before redis EVAL tickets", "after redis EVAL tickets",
]  # fmt: skip


@pytest.mark.parametrize("kind", ["sync", "async"])
def test_only_what_changes_something_is_a_seam(url: str, kind: str) -> None:
    def story(rig: ic.Rig) -> None:
        redis.Redis.from_url(url).flushall()
        rig.database(url)

        def berth() -> None:
            list(commands(redis.Redis.from_url(url)))

        async def berth_async() -> None:
            async with redis_asyncio.Redis.from_url(url) as client:
                for awaited in commands(client):
                    await awaited

        rig.enqueue(rig.job(berth if kind == "sync" else berth_async, retry=ic.Retry(5)))
        rig.run_dry()

    found = ic.probe(story, seams="redis", depth=1, orders=False, faults=["fail"])
    assert not found, found
    assert list(dict.fromkeys(passed(found))) == SEAMS


def charges(url: str, atomic: bool) -> Any:
    """Return a happy story of a service whose reaper puts back what a dead worker has left."""

    def work() -> None:
        client = redis.Redis.from_url(url)
        while True:
            found = client.blmove("queue", "processing", 1, "RIGHT", "LEFT")
            if found is None:
                continue
            booking = json.loads(found)
            if not atomic or client.set(f"charged:{booking}", 1, nx=True):
                bank.charge(booking)
            client.lrem("processing", 1, found)

    def reap() -> None:
        client = redis.Redis.from_url(url)
        seen: dict[bytes, float] = {}
        while True:
            there = client.lrange("processing", 0, -1)
            seen = {one: seen.get(one, time.time()) for one in there}
            for one, since in seen.items():
                if time.time() - since > 20 and client.lrem("processing", 1, one):
                    client.lpush("queue", one)
            time.sleep(5)

    class Bank:
        def charge(self, booking: int) -> None:
            time.sleep(1)

    bank = Bank()

    def story(rig: ic.Rig) -> None:
        client = redis.Redis.from_url(url)
        client.flushall()
        rig.database(url)
        rig.effect("bank.charge", Bank.charge, key="booking")
        rig.run_loop(work, count=2, name="worker", restart="5s")
        rig.run_loop(reap)
        for booking in (1, 2):
            client.lpush("queue", json.dumps(booking))
        rig.advance("45s")

    return story


def test_a_search_finds_what_a_crash_between_two_commands_does(url: str, exhaustive: bool) -> None:
    law = [ic.laws.no_key_twice("bank.charge")]
    options: dict[str, Any] = {"seams": "redis", "depth": 1, "orders": False, "faults": ["crash"]}
    (found,) = ic.probe(charges(url, atomic=False), law, runs=60, first=True, **options)
    assert "bank.charge of 1 is done 2 times" in str(found) or "bank.charge of 2 is done 2 times" in str(found)
    assert "the worker dies" in str(found.moves) or "dies" in str(found.moves)
    assert not ic.probe(charges(url, atomic=True), law, runs=20 if exhaustive else 6, **options)


def test_an_error_is_that_of_the_package_and_a_fault_names_the_place(url: str) -> None:
    with ic.Rig(seams="redis") as rig:
        rig.database(url)
        seen = []

        def berth() -> None:
            client = redis.Redis.from_url(url)
            try:
                client.set("berth:4", 1)
            except redis.ConnectionError as error:
                seen.append((str(error), client.get("berth:4")))

        kind = rig.job(berth)
        rig.faults.fail("berth", at="after redis SET berth:*", attempts=1)
        job = rig.enqueue(kind)
        rig.settle()
        assert job.state == "done"
    ((error, value),) = seen
    assert error
    assert value == b"1", "the answer was lost, and the server has done it"
    with pytest.raises(ic.InputError, match=r"no seams; give Rig\(seams='redis'\)"), ic.Rig() as rig:
        kind = rig.job(lambda: None, name="berth")
        rig.faults.fail("berth", at="after redis SET berth:*")
        rig.enqueue(kind)
        rig.settle()


def test_two_coroutines_pass_their_own_seams(url: str) -> None:
    with ic.Rig(seams="redis") as rig:
        rig.database(url)

        async def one(client: Any, name: str) -> Any:
            try:
                return await client.incr(name)
            except redis.ConnectionError:
                return "lost"

        async def both() -> list[Any]:
            async with redis_asyncio.Redis.from_url(url) as client:
                await client.delete("port", "starboard")
                return list(await asyncio.gather(one(client, "port"), one(client, "starboard")))

        kind = rig.job(both)
        rig.faults.fail("both", at="before redis INCRBY starboard", attempts=1)
        job = rig.enqueue(kind)
        rig.settle()
        assert job.result == [1, "lost"]
