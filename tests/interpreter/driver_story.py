"""A short story with one driver, run in a process of its own by `test_driver_versions.py`.

``python driver_story.py DRIVER PACKAGE PORT``: the clock of the server follows, and a row lock is waited for in simulated time; a
request over HTTP is answered. Prints ``fits`` with the driver's version.
"""

from __future__ import annotations

import asyncio
import sys
import threading
import time
from collections.abc import Callable
from importlib.metadata import version
from typing import Any

import ironclock as ic

LOCKED_S = 60


def blocking(connect: Callable[[], Any], url: str | None) -> None:
    """A driver that blocks its thread."""

    def ask(one: Any, sql: str) -> Any:
        cursor = one.cursor()
        cursor.execute(sql)
        return cursor.fetchall()[0][0] if cursor.description else None

    def holds() -> None:
        one = connect()
        ask(one, "update berths set boats = boats + 1")
        time.sleep(LOCKED_S)
        one.commit()
        one.close()

    def waits() -> None:
        time.sleep(1)
        one = connect()
        if url is None:
            ask(one, "set innodb_lock_wait_timeout = 100")
        begin = time.monotonic()
        ask(one, "update berths set boats = boats + 1")
        took.append(time.monotonic() - begin)
        one.commit()
        one.close()

    took: list[float] = []
    with ic.Rig(start="2031-03-03T09:00", seams=("sql",)) as rig:
        first = connect()
        rig.database(first if url is None else url)
        assert ask(first, "select cast(extract(year from now()) as char(4))") == "2031"
        first.commit()
        threads = [threading.Thread(target=work) for work in (holds, waits)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        first.close()
    assert took == [LOCKED_S - 1], took


def awaiting(connect: Callable[[], Any], ask: Callable[[Any, str], Any], given: Any, begin: str) -> None:
    """A driver whose calls are awaited."""
    took: list[float] = []

    async def holds() -> None:
        one = await connect()
        await ask(one, begin)
        await ask(one, "update berths set boats = boats + 1")
        await asyncio.sleep(LOCKED_S)
        await ask(one, "commit")

    async def waits() -> None:
        await asyncio.sleep(1)
        one = await connect()
        await ask(one, "set innodb_lock_wait_timeout = 100" if begin == "begin /* mysql */" else "select 1")
        now = time.monotonic()
        await ask(one, "update berths set boats = boats + 1")
        took.append(time.monotonic() - now)
        await ask(one, "commit")

    async def story() -> None:
        one = await connect()
        assert await ask(one, "select cast(extract(year from now()) as char(4))") == "2031"
        await asyncio.gather(holds(), waits())

    with ic.Rig(start="2031-03-03T09:00", seams=("sql",)) as rig:
        rig.database(given)
        asyncio.run(story())
    assert took == [LOCKED_S - 1], took


def psycopg(port: int) -> None:
    import psycopg

    url = f"postgresql://tern@127.0.0.1:{port}/postgres"
    blocking(lambda: psycopg.connect(url), url)


def psycopg2(port: int) -> None:
    import psycopg2

    url = f"postgresql://tern@127.0.0.1:{port}/postgres"
    blocking(lambda: psycopg2.connect(url), url)


def asyncpg(port: int) -> None:
    import asyncpg

    async def ask(one: Any, sql: str) -> Any:
        return await (one.fetchval(sql) if sql.startswith("select") else one.execute(sql))

    url = f"postgresql://tern@127.0.0.1:{port}/postgres"
    awaiting(lambda: asyncpg.connect(url), ask, url, "begin")


def pymysql(port: int) -> None:
    import pymysql

    blocking(lambda: pymysql.connect(host="127.0.0.1", port=port, user="root", database="tern"), None)


def mysql_connector(port: int) -> None:
    from mysql import connector

    blocking(lambda: connector.connect(host="127.0.0.1", port=port, user="root", database="tern", use_pure=True), None)


def aiomysql(port: int) -> None:
    import aiomysql
    import pymysql

    async def ask(one: Any, sql: str) -> Any:
        if sql == "commit":
            return await one.commit()
        cursor = await one.cursor()
        await cursor.execute(sql)
        found = await cursor.fetchall() if cursor.description else ()
        return found[0][0] if found else None

    given = pymysql.connect(host="127.0.0.1", port=port, user="root", database="tern")
    awaiting(
        lambda: aiomysql.connect(host="127.0.0.1", port=port, user="root", db="tern", autocommit=True),
        ask, given, "begin /* mysql */",
    )  # fmt: skip


def redis(port: int) -> None:
    import redis
    from redis import asyncio as redis_asyncio

    url = f"redis://127.0.0.1:{port}/0"

    async def later() -> Any:
        client = redis_asyncio.Redis.from_url(url)
        await client.set("berth", 1, ex=60)
        await asyncio.sleep(59)
        return await client.get("berth"), await client.blpop("nobody", timeout=5), await client.get("berth")

    with ic.Rig(seams=("redis",)) as rig:
        rig.database(url)
        client = redis.Redis.from_url(url)
        client.pipeline().set("gate", 1).expire("gate", 10).execute()
        time.sleep(10)
        assert client.get("gate") is None
        assert asyncio.run(later()) == (b"1", None, None)


def httpcore(port: int) -> None:
    import httpcore

    async def later() -> int:
        async with httpcore.AsyncConnectionPool() as pool:
            return (await pool.request("GET", f"http://127.0.0.1:{port}/0")).status

    with ic.Rig(seams=("http",)), httpcore.ConnectionPool() as pool:
        assert pool.request("GET", f"http://127.0.0.1:{port}/0").status == 200
        assert asyncio.run(later()) == 200


def aiohttp(port: int) -> None:
    import aiohttp

    async def story() -> int:
        async with aiohttp.ClientSession() as client, client.get(f"http://127.0.0.1:{port}/0") as answer:
            await answer.read()
            return answer.status

    with ic.Rig(seams=("http",)):
        assert asyncio.run(story()) == 200


if __name__ == "__main__":
    name, package, number = sys.argv[1:]
    globals()[name](int(number))
    print("fits", version(package))
