"""Connections to a key-value server that are older than a rig, or outlive it: clients go on with them."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Iterator
from typing import Any

import pytest
from servers import Redis, redis_missing

import ironclock as ic

pytestmark = pytest.mark.skipif(bool(redis_missing()), reason=redis_missing())


@pytest.fixture(scope="module")
def port() -> Iterator[int]:
    with Redis() as running:
        yield running.port


@pytest.fixture
def loop() -> Iterator[asyncio.AbstractEventLoop]:
    made = asyncio.new_event_loop()
    yield made
    made.close()


async def a_key_expires(client: Any) -> None:
    await client.set("berth", 1, px=5000)
    assert await client.get("berth") == b"1"
    await asyncio.sleep(4.999)
    assert await client.get("berth") == b"1"
    await asyncio.sleep(0.001)
    assert await client.get("berth") is None


def client_of(port: int, **options: Any) -> Any:
    import redis.asyncio

    # Without retries: a connection that is lost shows.
    return redis.asyncio.Redis(host="127.0.0.1", port=port, retry=None, single_connection_client=True, **options)


@pytest.mark.parametrize("protocol", [2, 3])
def test_an_async_client_from_before_the_rig(port: int, loop: asyncio.AbstractEventLoop, protocol: int) -> None:
    client = client_of(port, db=3, protocol=protocol)
    loop.run_until_complete(client.set("mark", "north"))
    number = loop.run_until_complete(client.client_id())
    for _ in range(3):
        with ic.Rig() as rig:
            rig.database(f"redis://127.0.0.1:{port}/3")
            loop.run_until_complete(a_key_expires(client))
            assert loop.run_until_complete(client.get("mark")) == b"north"  # it is in its own database
    assert loop.run_until_complete(client.client_id()) == number  # and is the same all the time
    loop.run_until_complete(client.aclose())


def test_an_async_client_that_outlives_the_rig(port: int, loop: asyncio.AbstractEventLoop) -> None:
    rig = ic.Rig()
    with rig:
        rig.database(f"redis://127.0.0.1:{port}")
        client = client_of(port)
        loop.run_until_complete(a_key_expires(client))
    assert loop.run_until_complete(client.ping())
    with rig:
        loop.run_until_complete(a_key_expires(client))
    loop.run_until_complete(client.aclose())


def test_a_subscription_goes_on(port: int, loop: asyncio.AbstractEventLoop) -> None:
    client, listener = client_of(port), client_of(port).pubsub()
    loop.run_until_complete(listener.subscribe("tide"))
    loop.run_until_complete(listener.get_message(timeout=1))

    async def told(text: str) -> None:
        await client.publish("tide", text)
        assert (await listener.get_message(timeout=2))["data"] == text.encode()
        assert await listener.get_message(timeout=2) is None

    with ic.Rig() as rig:
        rig.database(f"redis://127.0.0.1:{port}")
        begin = time.monotonic()
        loop.run_until_complete(told("high"))
        assert time.monotonic() - begin == pytest.approx(2, abs=0.01)
    loop.run_until_complete(client.publish("tide", "low"))
    assert loop.run_until_complete(listener.get_message(timeout=2))["data"] == b"low"
    for one in (client, listener):
        loop.run_until_complete(one.aclose())


def test_a_synchronous_client_keeps_what_its_session_has(port: int) -> None:
    import redis

    client = redis.Redis(host="127.0.0.1", port=port, single_connection_client=True, retry=None)
    client.client_setname("pilot")
    client.execute_command("WATCH", "berth")
    with ic.Rig() as rig:
        rig.database(f"redis://127.0.0.1:{port}")
        assert client.client_getname() == "pilot"
        client.set("berth", 1, ex=10)
        rig.advance("11s")
        assert client.get("berth") is None
    assert client.client_getname() == "pilot"
    client.close()


def test_a_connection_in_the_middle_of_something_is_opened_again(port: int) -> None:
    import redis

    client = redis.Redis(host="127.0.0.1", port=port)
    pipeline = client.connection_pool.get_connection()
    pipeline.send_command("MULTI")
    pipeline.read_response()
    with ic.Rig() as rig:
        rig.database(f"redis://127.0.0.1:{port}")
        with pytest.raises(redis.ConnectionError):
            pipeline.send_command("EXEC")
            pipeline.read_response()
        assert client.ping()
    pipeline.disconnect()
    client.close()


def test_no_descriptor_is_left(port: int, loop: asyncio.AbstractEventLoop) -> None:
    def rounds(count: int) -> int:
        for _ in range(count):
            client = client_of(port)
            loop.run_until_complete(client.ping())
            with ic.Rig() as rig:
                rig.database(f"redis://127.0.0.1:{port}")
                loop.run_until_complete(client.ping())
            loop.run_until_complete(client.aclose())
        return len(os.listdir("/proc/self/fd"))

    assert rounds(3) == rounds(10)


def test_fixtures_that_come_before_and_after_the_rig(pytester: pytest.Pytester, port: int) -> None:
    pytester.makepyfile(
        f"""
        import asyncio
        import aiosqlite
        import pytest
        import redis.asyncio

        @pytest.fixture
        def loop():
            loop = asyncio.new_event_loop()
            yield loop
            loop.close()

        @pytest.fixture
        def before(loop):
            client = redis.asyncio.Redis(host="127.0.0.1", port={port}, retry=None)
            loop.run_until_complete(client.ping())
            yield client
            loop.run_until_complete(client.aclose())

        @pytest.fixture
        def after(rig, loop):
            rig.database("redis://127.0.0.1:{port}")
            client = redis.asyncio.Redis(host="127.0.0.1", port={port}, retry=None)
            loop.run_until_complete(client.ping())
            yield client
            loop.run_until_complete(client.aclose())

        @pytest.fixture
        def table(rig, loop, tmp_path):
            table = loop.run_until_complete(aiosqlite.connect(tmp_path / "tern.db"))
            yield table
            loop.run_until_complete(table.close())

        async def expires(client):
            await client.set("berth", 1, px=5000)
            await asyncio.sleep(5)
            return await client.get("berth")

        def test_before(before, rig, loop):
            rig.database("redis://127.0.0.1:{port}")
            assert loop.run_until_complete(expires(before)) is None

        def test_after(after, loop):
            assert loop.run_until_complete(expires(after)) is None

        def test_table(table, loop):
            async def query():
                found = await table.execute("select 1")
                await asyncio.sleep(5)
                return await found.fetchone()
            assert loop.run_until_complete(query()) == (1,)
        """
    )
    pytester.runpytest_subprocess("-p", "no:cacheprovider").assert_outcomes(passed=3)
