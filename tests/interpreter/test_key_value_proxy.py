"""A real key-value server behind the proxy of the rig: `rig.database("redis://...")`."""

from __future__ import annotations

import asyncio
import random
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

import pytest
import servers
from servers import Redis, free_port

import ironclock as ic
from ironclock.interpreter.databases.resp import Incomplete, array, blob, command, number, parse, request

redis = pytest.importorskip("redis")
real_clock, MONOTONIC = time.clock_gettime, time.CLOCK_MONOTONIC


@pytest.fixture(scope="module")
def server() -> Iterator[Redis]:
    if servers.redis_missing():
        pytest.skip(servers.redis_missing())
    with Redis() as running:
        yield running


@pytest.fixture
def url(server: Redis) -> str:
    address = f"redis://127.0.0.1:{server.port}/0"
    with redis.Redis.from_url(address) as client:
        client.flushall()
    return address


@pytest.fixture
def rig(url: str) -> Iterator[ic.Rig]:
    with ic.Rig(start="2031-03-29T21:00") as made:
        made.database(url)
        yield made


@pytest.fixture(params=[2, 3])
def client(request: pytest.FixtureRequest, url: str) -> Iterator[Any]:
    """A client of an ordinary package, in both versions of the protocol."""
    with redis.Redis.from_url(url, protocol=request.param, decode_responses=True) as made:
        yield made


# --- the protocol -------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("data", "plain"),
    [
        (b"+OK\r\n", b"OK"), (b"-ERR no\r\n", b"ERR no"), (b":-7\r\n", -7), (b"$3\r\na\r\n\r\n", b"a\r\n"),
        (b"$-1\r\n", None), (b"*-1\r\n", None), (b"_\r\n", None), (b"#t\r\n", True), (b",1.5\r\n", b"1.5"),
        (b"*2\r\n:1\r\n*1\r\n$1\r\na\r\n", [1, [b"a"]]), (b"%1\r\n+a\r\n:1\r\n", [b"a", 1]), (b"~1\r\n:1\r\n", [1]),
        (b"=7\r\ntxt:tie\r\n", b"txt:tie"), (b"|1\r\n+ttl\r\n:1\r\n:5\r\n", 5), (b"*0\r\n", []),
    ],
)  # fmt: skip
def test_values_of_the_protocol_keep_their_bytes(data: bytes, plain: Any) -> None:
    found, end = parse(data + b"more")
    assert (found.plain, found.raw, end) == (plain, data, len(data))
    for cut in range(len(data)):
        with pytest.raises(Incomplete):
            parse(data[:cut])


def test_requests() -> None:
    assert request(bytearray(command("SET", b"k", 5) + b"rest")) == ([b"SET", b"k", b"5"], 27)
    assert request(bytearray(b"PING there\r\n")) == ([b"PING", b"there"], 12)
    assert parse(array([number(1), blob(b"x")]))[0].plain == [1, b"x"]


# --- expiry -------------------------------------------------------------------------------------------


def test_keys_expire_in_simulated_time(rig: ic.Rig, client: Any, url: str) -> None:
    client.set("seat", "A1", ex=90)
    client.psetex("deck", 1_500, "car")
    client.hset("booking", "seats", 3)
    client.expire("booking", 3_600)
    assert (client.ttl("seat"), client.pttl("deck"), client.ttl("booking"), client.ttl("none")) == (
        90,
        1_500,
        3_600,
        -2,
    )
    rig.advance("89s")
    assert (client.get("seat"), client.ttl("seat"), client.exists("deck")) == ("A1", 1, 0)
    rig.advance("1s")
    assert (client.get("seat"), client.dbsize(), client.keys()) == (None, 1, ["booking"])
    assert client.persist("booking")
    client.set("moves", "1", ex=10)
    client.move("moves", 1)
    with redis.Redis.from_url(url.replace("/0", "/1")) as other:
        assert other.ttl("moves") == 10
    rig.advance("2h")
    assert client.hgetall("booking") == {"seats": "3"}
    assert client.time() == (int(rig.now.timestamp()), 0)


def test_what_keeps_an_expiry_and_what_takes_it_away(rig: ic.Rig, client: Any) -> None:
    def ttl_after(act: Callable[[], Any]) -> int:
        client.set("k", "1", ex=100)
        act()
        return int(client.ttl("k"))

    assert ttl_after(lambda: client.incr("k")) == 100
    assert ttl_after(lambda: client.append("k", "x")) == 100
    assert ttl_after(lambda: client.set("k", "2")) == -1
    assert ttl_after(lambda: client.set("k", "2", keepttl=True)) == 100
    assert ttl_after(lambda: client.set("k", "2", nx=True, ex=5)) == 100
    assert ttl_after(lambda: client.set("k", "2", xx=True, ex=5)) == 5
    assert ttl_after(lambda: client.set("k", "2", get=True)) == -1
    assert ttl_after(lambda: client.getset("k", "2")) == -1
    assert ttl_after(lambda: client.mset({"k": "2"})) == -1
    assert ttl_after(lambda: client.getex("k", ex=7)) == 7
    assert ttl_after(lambda: client.getex("k", persist=True)) == -1
    assert ttl_after(lambda: client.expire("k", 50, nx=True)) == 100
    assert ttl_after(lambda: client.expire("k", 50, gt=True)) == 100
    assert ttl_after(lambda: client.expire("k", 50, lt=True)) == 50
    assert ttl_after(lambda: client.delete("k")) == -2
    assert ttl_after(lambda: client.expireat("k", int(rig.now.timestamp()) + 30)) == 30
    assert ttl_after(lambda: client.expire("k", -1)) == -2
    client.set("k", "1", ex=100)
    client.rename("k", "moved")
    client.copy("moved", "copied")
    assert (client.ttl("moved"), client.ttl("copied"), client.expiretime("moved")) == (
        100,
        100,
        int(rig.now.timestamp()) + 100,
    )
    client.rpush("queue", "only")
    client.expire("queue", 10)
    client.lpop("queue")
    client.rpush("queue", "another one")
    assert client.ttl("queue") == -1, "the list was gone in between"
    with pytest.raises(redis.ResponseError, match="invalid expire time"):
        client.set("k", "1", ex=0)
    with pytest.raises(redis.ResponseError, match="not an integer"):
        client.execute_command("EXPIRE", "k", "soon")


def test_idle_times(rig: ic.Rig, client: Any) -> None:
    client.set("k", "1")
    rig.advance("5m")
    assert client.object("idletime", "k") == 300
    client.get("k")
    assert client.object("idletime", "k") == 0


def test_transactions_and_pipelines(rig: ic.Rig, client: Any) -> None:
    with client.pipeline() as pipe:
        assert pipe.set("k", "1", ex=5).ttl("k").incr("k").execute() == [True, 5, 2]
    with client.pipeline(transaction=False) as pipe:
        assert pipe.set("j", "1", px=700).pttl("j").execute() == [True, 700]
    with client.pipeline() as pipe:
        pipe.watch("k")
        pipe.multi()
        pipe.set("k", "mine")
        client.set("k", "theirs")
        with pytest.raises(redis.WatchError):
            pipe.execute()
    with client.pipeline() as pipe, pytest.raises(redis.ResponseError):
        pipe.execute_command("NOSUCH", "k").execute()


def test_what_was_there_before_is_taken_over_and_given_back(url: str) -> None:
    with redis.Redis.from_url(url) as early:
        early.set("old", "1", ex=100)
        early.set("stays", "1")
        with ic.Rig() as rig:
            rig.database(url)
            assert 98 <= early.ttl("old") <= 100, "a pool of before leads to the proxy as well"
            rig.advance("30s")
            assert 68 <= early.ttl("old") <= 70
            early.set("new", "1", ex=500)
            rig.advance("100s")
            assert early.get("old") is None
        assert early.get("stays") == b"1"
        assert 398 <= early.ttl("new") <= 400, "in real time again"


# --- waiting ------------------------------------------------------------------------------------------


def test_a_blocking_pop_lasts_simulated_time(rig: ic.Rig, url: str) -> None:
    log: list[tuple[str, Any]] = []

    def works() -> None:
        with redis.Redis.from_url(url, decode_responses=True) as client:
            for _ in range(3):
                found = client.blpop("queue", timeout=3)
                log.append((f"{rig.now:%M:%S}", found and found[1]))

    def puts() -> None:
        time.sleep(4)
        with redis.Redis.from_url(url) as client:
            client.rpush("queue", "TL-204")

    for function in (works, puts):
        threading.Thread(target=function).start()
    began = real_clock(MONOTONIC)
    rig.advance("1m")
    assert log == [("00:03", None), ("00:04", "TL-204"), ("00:07", None)]
    assert real_clock(MONOTONIC) - began < 3


def test_two_consumers_get_each_message_once(rig: ic.Rig, url: str) -> None:
    got: list[tuple[str, str]] = []

    def works(name: str) -> None:
        with redis.Redis.from_url(url, decode_responses=True) as client:
            while True:
                found = client.blmove("queue", f"doing:{name}", 2, "LEFT", "RIGHT")
                if found:
                    time.sleep(1)
                    got.append((name, found))
                    client.lrem(f"doing:{name}", 1, found)

    with redis.Redis.from_url(url) as client:
        for name in "ab":
            threading.Thread(target=works, args=(name,), daemon=True).start()
        rig.advance("1s")
        client.rpush("queue", *range(6))
        rig.advance("10s")
        assert sorted(found for _, found in got) == list("012345")
        assert {name for name, _ in got} == {"a", "b"}


def test_locks_with_an_expiry(rig: ic.Rig, url: str) -> None:
    log: list[str] = []

    def dies(client: Any) -> None:
        client.lock("harbour", timeout=10).acquire()
        log.append(f"held {rig.now:%M:%S}")
        time.sleep(600)

    def waits(client: Any) -> None:
        time.sleep(1)
        assert not client.lock("harbour", timeout=10).acquire(blocking_timeout=3)
        log.append(f"not yet {rig.now:%M:%S}")
        with client.lock("harbour", timeout=10):
            log.append(f"mine {rig.now:%M:%S}")

    for function in (dies, waits):
        threading.Thread(target=function, args=(redis.Redis.from_url(url),), daemon=True).start()
    rig.advance("1m")
    assert log == ["held 00:00", "not yet 00:04", "mine 00:10"]


def test_a_sorted_set_of_due_times(rig: ic.Rig, client: Any) -> None:
    for minutes, name in ((5, "later"), (1, "soon")):
        client.zadd("due", {name: time.time() + 60 * minutes})
    rig.advance("90s")
    assert client.zrangebyscore("due", 0, time.time()) == ["soon"]


def test_streams_with_consumer_groups(rig: ic.Rig, client: Any) -> None:
    first = client.xadd("bookings", {"seat": "A1"})
    assert first == f"{int(rig.now.timestamp() * 1000)}-0"
    client.xgroup_create("bookings", "desk", "0")
    ((_, entries),) = (
        client.xreadgroup("desk", "ann", {"bookings": ">"})
        if client.connection_pool.connection_kwargs.get("protocol") == 2
        else [("bookings", client.xreadgroup("desk", "ann", {"bookings": ">"})["bookings"][0])]
    )
    assert [id for id, _ in entries] == [first]
    rig.advance("2m")
    (pending,) = client.xpending_range("bookings", "desk", "-", "+", 10)
    assert (pending["consumer"], pending["time_since_delivered"]) == ("ann", 120_000)
    assert client.xclaim("bookings", "desk", "bo", 180_000, [first]) == []
    assert client.xautoclaim("bookings", "desk", "bo", 180_000)[1] == []
    rig.advance("1m")
    assert [id for id, _ in client.xautoclaim("bookings", "desk", "bo", 180_000)[1]] == [first]
    assert client.xautoclaim("bookings", "desk", "cy", 180_000)[1] == [], "it was claimed just now"
    assert client.xack("bookings", "desk", first) == 1
    assert client.xpending("bookings", "desk")["pending"] == 0


def test_subscribers_and_the_notice_of_an_expired_key(rig: ic.Rig, client: Any) -> None:
    client.config_set("notify-keyspace-events", "Ex")
    try:
        with client.pubsub() as heard:
            heard.psubscribe("__keyevent@0__:expired", "news")
            client.set("seat", "A1", ex=30)
            client.publish("news", "hello")
            found = []
            while f"{rig.now:%M:%S}" < "01:00":
                message = heard.get_message(ignore_subscribe_messages=True, timeout=5)
                if message:
                    found.append((f"{rig.now:%M:%S}", message["data"]))
        assert found == [("00:00", "hello"), ("00:30", "seat")]
    finally:
        client.config_set("notify-keyspace-events", "")


def test_an_asyncio_client(rig: ic.Rig, url: str) -> None:
    import redis.asyncio

    async def works() -> list[Any]:
        async with redis.asyncio.Redis.from_url(url) as client:
            await client.set("k", "1", ex=3)
            await asyncio.sleep(2)
            first = await client.ttl("k")
            none = await client.blpop("none", timeout=2)
            return [first, none, await client.get("k"), f"{rig.now:%M:%S}"]

    assert asyncio.run(works()) == [1, None, None, "00:04"]


# --- scripts, faults, bad input -------------------------------------------------------------------------


LIMITER = """
local now = redis.call('TIME')
local ms = now[1] * 1000 + math.floor(now[2] / 1000)
redis.call('ZREMRANGEBYSCORE', KEYS[1], 0, ms - 60000)
local count = redis.call('ZCARD', KEYS[1])
if count >= 3 then return 0 end
redis.call('ZADD', KEYS[1], ms, ms .. '-' .. count)
redis.call('PEXPIRE', KEYS[1], 60000)
return 1
"""


def test_what_a_script_reads_of_the_clock_follows(rig: ic.Rig, client: Any) -> None:
    assert client.eval("return redis.call('TIME')", 0) == [str(int(rig.now.timestamp())), "0"]
    client.set("berth", "Dunlin", ex=100)
    time.sleep(40)
    reads = "return {redis.call('TTL', KEYS[1]), redis.pcall(\"PTTL\", KEYS[1]), redis.call('ttl', KEYS[2])}"
    assert client.eval(reads, 2, "berth", "none") == [60, 60_000, -2]
    expires = client.eval("return redis.call('PEXPIRETIME', KEYS[1])", 1, "berth")
    assert expires == (rig.now.timestamp() + 60) * 1000
    both = client.register_script("#!lua\nredis.call('SET', KEYS[1], 1, 'EX', 10) return redis.call('TTL', KEYS[1])")
    assert both(keys=["hold"]) == 10
    time.sleep(9)
    assert client.exists("hold")
    assert both(keys=["hold"]) == 10
    client.delete("gangway")
    limiter, passed = client.register_script(LIMITER), []
    for _ in range(8):
        passed.append(limiter(keys=["gangway"]))
        time.sleep(10)
    assert passed == [1, 1, 1, 0, 0, 0, 1, 1]
    assert rig.loose_ends() == []


def test_an_answer_that_takes_long_in_real_time(rig: ic.Rig, client: Any) -> None:
    """The task that has sent the request reads it, and not the thread of the proxy, which listens as well."""
    began = time.monotonic()
    for _ in range(2):
        assert client.eval("local n = 0; for i = 1, 60000000 do n = n + 1 end return n", 0) == 60_000_000
    assert client.get("nobody") is None
    assert time.monotonic() == began


def test_what_a_script_sets_follows_and_what_it_reads_is_told(rig: ic.Rig, client: Any) -> None:
    client.eval("redis.call('set', KEYS[1], ARGV[1], 'PX', 5000)", 1, "lock", "token")
    assert client.pttl("lock") == 5_000
    rig.advance("5s")
    assert client.get("lock") is None
    assert rig.loose_ends() == []
    client.set("berth", 1)
    client.eval("return redis.call('OBJECT', 'IDLETIME', KEYS[1])", 1, "berth")
    (line,) = rig.loose_ends()
    assert "a script of the key-value server, which has call('OBJECT'...) [" in line
    assert "test_key_value_proxy.py" in line
    assert line.endswith("; this form cannot follow")
    rig.allow("real clocks")


def test_faults_at_the_server(url: str) -> None:
    with (
        ic.Rig(start="2031-03-29T21:00") as rig,
        redis.Redis.from_url(url, retry=None, decode_responses=True) as client,
    ):
        server = rig.database(url)
        assert server is not None
        server.slow("3s", operation="incr", calls=range(1, 100))
        server.fail(operation="rpush", error=ConnectionError("busy"))
        server.lose_response(operation="lpush")
        server.outage(("2031-03-29T21:10", "2031-03-29T21:20"))
        client.execute_command("INCR", "n")
        assert f"{rig.now:%M:%S}" == "00:03"
        with pytest.raises(redis.ResponseError, match="busy"):
            client.rpush("queue", "a")
        with pytest.raises(redis.ConnectionError):
            client.lpush("queue", "a")
        assert client.lrange("queue", 0, -1) == ["a"], "it was done, and nobody heard of it"
        rig.advance_to("2031-03-29T21:15")
        with pytest.raises(redis.ConnectionError):
            client.ping()
        rig.advance_to("2031-03-29T21:20")
        assert client.ping()


def test_a_failover_loses_the_last_writes(url: str) -> None:
    with (
        ic.Rig(start="2031-03-29T21:00") as rig,
        redis.Redis.from_url(url, retry=None, decode_responses=True) as client,
    ):
        server = rig.database(url)
        assert server is not None
        server.fail_over("2031-03-29T21:10", loses="5s", down="3s")
        client.set("seat", "A1", ex=3_600)
        client.rpush("queue", "one")
        rig.advance_to("2031-03-29T21:09:57")
        client.set("seat", "B2")
        client.rpush("queue", "two")
        client.set("new", "1")
        rig.advance_to("2031-03-29T21:10:01")
        with pytest.raises(redis.ConnectionError):
            client.ping()
        rig.advance("3s")
        assert (client.get("seat"), client.ttl("seat"), client.lrange("queue", 0, -1), client.get("new")) == (
            "A1",
            2_996,
            ["one"],
            None,
        )
        assert "fails over: 3 writes of the last 5s are lost" in rig.history.story()
        with pytest.raises(ic.RigStateError, match="which is past"):
            server.fail_over("2031-03-29T21:00")


@pytest.mark.parametrize(
    ("address", "says"),
    [
        ("redis://127.0.0.1:{free}/0", "does not answer: .*start it, or correct the URL"),
        ("redis://127.0.0.1:{port}/99", "refuses: ERR DB index is out of range"),
        ("redis://127.0.0.1:{port}/first", "names the database 'first'; give its number"),
        ("rediss://127.0.0.1:{port}/0", "asks for TLS, which a proxy cannot read"),
        ("redis://:secret@127.0.0.1:{port}/0", "refuses|AUTH"),
    ],
)
def test_servers_that_cannot_be(server: Redis, address: str, says: str) -> None:
    with ic.Rig() as rig, pytest.raises((ic.DatabaseClockError, ic.InputError), match=says):
        rig.database(address.format(free=free_port(), port=server.port))


# --- against the same server in real time ----------------------------------------------------------------

KEYS = ("a", "b", "c")


def random_command(dice: random.Random) -> tuple[Any, ...]:
    key, other, ms = dice.choice(KEYS), dice.choice(KEYS), dice.choice((300, 750, 1_250, 9_000))
    return dice.choice([
        ("SET", key, "v"), ("SET", key, "v", "PX", ms), ("SET", key, "w", "KEEPTTL"), ("SET", key, "v", "NX", "PX", ms),
        ("SET", key, "v", "XX"), ("SET", key, "x", "GET"), ("PSETEX", key, ms, "v"), ("GETEX", key, "PX", ms),
        ("GETEX", key, "PERSIST"), ("GET", key), ("GETDEL", key), ("PEXPIRE", key, ms), ("PEXPIRE", key, ms, "NX"),
        ("PEXPIRE", key, ms, "XX"), ("PEXPIRE", key, ms, "GT"), ("PEXPIRE", key, ms, "LT"), ("PERSIST", key),
        ("EXISTS", *KEYS), ("DEL", key), ("UNLINK", key, other), ("RENAME", key, other), ("RENAMENX", key, other),
        ("COPY", key, other), ("COPY", key, other, "REPLACE"), ("APPEND", key, "y"), ("RPUSH", key, "1"), ("LPOP", key),
        ("SADD", key, "m"), ("SREM", key, "m"), ("SUNIONSTORE", key, other), ("TYPE", key), ("MSET", key, "1", other, "2"),
        ("MSETNX", key, "1", other, "2"), ("STRLEN", key), ("TTL", key), ("PTTL", key), ("DBSIZE",), ("KEYS", "*"),
        ("INCR", key), ("SORT", key, "ALPHA", "STORE", other), ("RANDOMKEY",), ("BITOP", "OR", key, other),
    ])  # fmt: skip


def replies(client: Any, seed: int, sleep: Callable[[float], Any]) -> list[str]:
    """Run random commands with pauses; return what came back. A TTL is rounded: real time is never exact."""
    dice, found = random.Random(seed), []
    for number_of_step in range(140):
        if number_of_step % 20 == 19:
            sleep(0.5)
        words = random_command(dice)
        try:
            reply = client.execute_command(*words)
        except redis.ResponseError as error:
            reply = f"error {str(error).split()[0]}"
        if words[0] == "PTTL" and isinstance(reply, int) and reply > 0:
            reply = f"in {min((300, 750, 1_250, 9_000), key=lambda ms: (ms - reply) % 500)} of them"
        elif words[0] == "TTL" and isinstance(reply, int) and reply > 0:
            reply = "some seconds"
        elif words[0] == "KEYS":
            reply = sorted(reply)
        elif words[0] == "RANDOMKEY":
            reply = reply is None
        found.append(f"{words}: {reply}")
    return found


class RealTime:
    """Sleeps in real time. `late` is how many seconds more than it was to sleep have passed at most, from one sleep to
    the next: the answers of a machine that was too busy say nothing."""

    def __init__(self) -> None:
        self._woke = time.monotonic()
        self.late = 0.0

    def __call__(self, seconds: float) -> None:
        time.sleep(seconds)
        woke = time.monotonic()
        self.late = max(self.late, woke - self._woke - seconds)
        self._woke = woke


def in_time(run: Callable[[RealTime], list[str]]) -> list[str]:
    """Return what a run in real time gives. It is repeated if the machine was late."""
    for _ in range(8):
        clock = RealTime()
        found = run(clock)
        if clock.late < 0.06:
            break
    return found


def test_random_commands_answer_as_the_server_does_in_real_time(server: Redis) -> None:
    """Four databases at once on threads in real time, then the same commands in simulated time."""
    seeds = {2: 11, 4: 12, 6: 13, 8: 14}

    def address(db: int) -> str:
        return f"redis://127.0.0.1:{server.port}/{db}"

    real: dict[int, list[str]] = {}

    def drives(db: int) -> None:
        def run(clock: RealTime) -> list[str]:
            client.flushdb()
            return replies(client, seeds[db], clock)

        with redis.Redis.from_url(address(db), decode_responses=True, protocol=2) as client:
            real[db] = in_time(run)

    threads = [threading.Thread(target=drives, args=(db,)) for db in seeds]
    with redis.Redis.from_url(address(1)) as client:
        client.flushdb()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for db, seed in seeds.items():
        with redis.Redis.from_url(address(1)) as client:
            client.flushall()
        with ic.Rig() as rig, redis.Redis.from_url(address(db), decode_responses=True, protocol=2) as client:
            rig.database(address(db))
            simulated = replies(client, seed, lambda seconds: rig.advance(seconds))
        for one, other in zip(real[db], simulated, strict=True):
            assert one == other


def stream_replies(client: Any, seed: int, sleep: Callable[[float], Any]) -> list[str]:
    """Run random commands on a stream with a group; return what came back. An id is told by its place."""
    dice, found, ids = random.Random(seed), [], list[str]()
    client.delete("s")
    client.xgroup_create("s", "g", "0", mkstream=True)

    def places(entries: Any) -> list[int]:
        return [ids.index(entry if isinstance(entry, str) else entry[0]) for entry in entries]

    for number_of_step in range(80):
        if number_of_step % 10 == 9:
            sleep(0.5)
        who, least = dice.choice("ab"), dice.choice((0, 300, 750, 1_250))
        what = dice.choice(("add", "read", "read", "ack", "auto", "claim", "pending", "rows", "idle"))
        some = dice.choice(ids) if ids else "1-0"
        answer: Any = None
        if what == "add":
            ids.append(client.xadd("s", {"seat": number_of_step}))
        elif what == "read":
            answer = [places(entries) for _, entries in client.xreadgroup("g", who, {"s": ">"}, count=2)]
        elif what == "ack":
            answer = client.xack("s", "g", some)
        elif what == "auto":
            answer = places(client.xautoclaim("s", "g", who, least, count=3, justid=dice.random() < 0.5) and
                            client.xautoclaim("s", "g", who, least, count=3)[1])  # fmt: skip
        elif what == "claim":
            answer = places(client.xclaim("s", "g", who, least, [some]))
        elif what == "pending":
            answer = client.xpending("s", "g")["pending"]
        elif what == "rows":
            rows = client.xpending_range("s", "g", "-", "+", 20)
            answer = [(ids.index(row["message_id"]), row["consumer"], row["times_delivered"]) for row in rows]
        else:
            rows = client.xpending_range("s", "g", "-", "+", 20, idle=least)
            answer = [ids.index(row["message_id"]) for row in rows]
        found.append(f"{what} {who} {least}: {answer}")
    return found


@pytest.mark.exhaustive
def test_random_commands_on_a_stream_answer_as_the_server_does_in_real_time(server: Redis) -> None:
    address = f"redis://127.0.0.1:{server.port}/0"
    for seed in (21, 22):
        with redis.Redis.from_url(address, decode_responses=True, protocol=2) as client:
            real = in_time(lambda clock: stream_replies(client, seed, clock))  # noqa: B023
        with ic.Rig() as rig, redis.Redis.from_url(address, decode_responses=True, protocol=2) as client:
            rig.database(address)
            simulated = stream_replies(client, seed, lambda seconds: rig.advance(seconds))
        assert simulated == real


# --- a server of the whole suite ----------------------------------------------------------------------


@pytest.mark.parametrize("given", [lambda url: url, lambda url: lambda: url], ids=["url", "function"])
def test_a_server_follows_as_soon_as_somebody_connects(url: str, given: Callable[[str], Any]) -> None:
    rig = ic.Rig(start="2031-03-29T21:00")
    assert rig.database(given(url), when_used=True) is None
    for _ in range(2):  # a rig can be entered again
        with rig, redis.Redis.from_url(url) as client:
            client.set("seat", "ina", ex=60)
            rig.advance("59s")
            assert client.ttl("seat") == 1
            rig.advance("1s")
            assert client.get("seat") is None


def test_a_connection_of_before_the_rig_is_made_again(url: str) -> None:
    with redis.Redis.from_url(url) as client:
        client.ping()
        with ic.Rig(start="2031-03-29T21:00") as rig:
            rig.database(url, when_used=True)
            client.set("seat", "ina", ex=60)
            rig.advance("2m")
            assert client.get("seat") is None


def test_a_server_that_nobody_uses_need_not_run() -> None:
    with ic.Rig() as rig:
        rig.database(f"redis://127.0.0.1:{free_port()}/0", when_used=True)
        rig.advance("1h")


def test_the_setting_is_for_key_value_servers_as_well(pytester: pytest.Pytester, url: str) -> None:
    pytester.makepyprojecttoml(f"[tool.ironclock]\ndatabases = ['{url}']\n")
    pytester.makepyfile(f"""
        import redis

        def test_seat(rig):
            with redis.Redis.from_url({url!r}) as client:
                client.set("seat", "ina", ex=60)
                rig.advance("2m")
                assert client.get("seat") is None
                server = rig.database({url!r})
                server.fail(operation="get")
                client.get("seat")
    """)
    outcome = pytester.runpytest_subprocess("-p", "no:cacheprovider")
    outcome.assert_outcomes(failed=1)
    outcome.stdout.fnmatch_lines(["*redis.exceptions.ResponseError*"])


def test_what_is_pushed_comes_at_one_instant_in_one_order(url: str) -> None:
    """Blocked clients and subscribers get what is theirs before the clock moves, in one order."""
    orders = set()

    def consume(name: str, seen: list[str]) -> None:
        with redis.Redis.from_url(url, decode_responses=True) as own:
            while True:
                found = own.blmove("ready", "taken", 1, "RIGHT", "LEFT")
                if found is not None:
                    seen.append(f"{name} has {found}")
                    own.incr("done")

    def listen(name: str, seen: list[str]) -> None:
        with redis.Redis.from_url(url, decode_responses=True) as own, own.pubsub() as news:
            news.subscribe("news")
            while True:
                found = news.get_message(ignore_subscribe_messages=True, timeout=5)
                if found is not None:
                    seen.append(f"{name} hears {found['data']}")

    for _ in range(5):
        seen: list[str] = []
        with ic.Rig() as rig, redis.Redis.from_url(url) as client:
            client.flushall()
            rig.database(url)
            for number in (1, 2):
                rig.run_loop(consume, f"consumer-{number}", seen, name=f"consumer-{number}")
                rig.run_loop(listen, f"listener-{number}", seen, name=f"listener-{number}")
            rig.advance("1s")
            with redis.Redis.from_url(url) as own:
                own.publish("news", "fog")
                own.lpush("ready", "a", "b", "c")
            rig.advance("2m")
            assert sorted(line.rpartition(" ")[2] for line in seen) == ["a", "b", "c", "fog", "fog"]
            orders.add(tuple(seen))
    assert len(orders) == 1, orders
