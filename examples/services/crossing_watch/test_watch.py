"""The tests with simulated time: what a passenger gets, and when. Nobody here thinks of failures."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

import httpx
import pytest
import redis

import ironclock as ic
from services.crossing_watch.watch import Queue, Worker

Cancel = Callable[..., None]


@pytest.fixture
def server(rig: ic.Rig, redis_url: str) -> redis.Redis:
    found = redis.Redis.from_url(redis_url, decode_responses=True)
    found.flushdb()
    rig.database(redis_url)
    return found


@pytest.fixture
def gateway(rig: ic.Rig) -> ic.services.HttpService:
    def answer(method: str, path: str, body: Any) -> Any:
        return {"receipt": f"R-{body['booking']}"} if path == "/refunds" else {}

    return rig.service(ic.services.HttpService("gateway", answer))


@pytest.fixture
def cancel(rig: ic.Rig, redis_url: str, server: redis.Redis, gateway: ic.services.HttpService) -> Cancel:
    """Start two workers; return what cancels a crossing."""
    for number in (1, 2):
        rig.run_loop(work, redis_url, gateway, name=f"worker-{number}", restart="5s")

    def cancel(crossing: str, *bookings: str) -> None:
        async def ask() -> None:
            async with redis.asyncio.Redis.from_url(redis_url) as client:
                await Queue(client).cancel(crossing, bookings)

        asyncio.run(ask())

    return cancel


async def work(url: str, gateway: ic.services.HttpService) -> None:
    client = httpx.AsyncClient(transport=gateway.transport(), base_url="http://gateway.tern.test", timeout=10)
    async with client:
        await Worker(url, client).run()


def test_each_booking_gets_its_money_back(rig: ic.Rig, cancel: Cancel, server: redis.Redis) -> None:
    cancel("TL-204", "ada/1", "ada/2", "bo/3")
    rig.advance("10s")
    assert server.hgetall("refunded") == {name: f"R-{name}" for name in ("ada/1", "ada/2", "bo/3")}
    assert server.get("crossing:TL-204") == "cancelled"
    assert not server.exists("jobs:taken", "jobs:claimed"), "no worker has a job any more"


def test_each_passenger_is_told_and_asked(
    rig: ic.Rig, cancel: Cancel, server: redis.Redis, gateway: ic.services.HttpService
) -> None:
    cancel("TL-204", "ada/1", "bo/3")
    rig.advance("1m")
    assert sum(body == {"crossing": "TL-204"} for body in gateway.received) == 2
    assert server.smembers("asked") == {"ada/1", "bo/3"}
