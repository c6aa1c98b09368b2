"""Sockets, pipes and `select`: real code that waits for them waits in simulated time."""

from __future__ import annotations

import asyncio
import http.server
import os
import select
import selectors
import socket
import socketserver
import ssl
import subprocess
import sys
import threading
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from in_rig import START, clock, together
from servers import Redis, SlowHttp, SlowMail, redis_missing

import ironclock as ic


def pairs(kind: str) -> tuple[Any, Any]:
    """Two ends: one to read from, one to write to."""
    if kind == "pair":
        return socket.socketpair()
    listener = socket.create_server(("127.0.0.1", 0))
    one = socket.create_connection(listener.getsockname())
    other, _ = listener.accept()
    listener.close()
    return one, other


@pytest.mark.parametrize("kind", ["pair", "loopback"])
def test_two_threads_talk_in_simulated_time(kind: str) -> None:
    log: list[tuple[bytes, str]] = []
    with ic.Rig(start=START) as rig:
        reads, writes = pairs(kind)

        def sender() -> None:
            for part in (b"ropes", b"ramp", b"bell"):
                time.sleep(10)
                writes.sendall(part)
            writes.close()

        def receiver() -> None:
            while part := reads.recv(100):
                log.append((part, clock()))
            log.append((b"", clock()))

        together(rig, receiver, sender)
        reads.close()
    assert log == [(b"ropes", "21:00:10"), (b"ramp", "21:00:20"), (b"bell", "21:00:30"), (b"", "21:00:30")]


def test_a_pipe_between_two_threads() -> None:
    log: list[Any] = []
    with ic.Rig(start=START) as rig:
        reads, writes = os.pipe()

        def sender() -> None:
            time.sleep(3)
            os.write(writes, b"all aboard")
            time.sleep(3)
            os.write(writes, b"x" * 200_000)  # more than a pipe holds
            os.close(writes)

        def receiver() -> None:
            log.append((os.read(reads, 100), clock()))
            size = 0
            with open(reads, "rb") as file:
                size = len(file.read())
            log.append((size, clock()))

        together(rig, receiver, sender)
    assert log == [(b"all aboard", "21:00:03"), (200_000, "21:00:06")]


def test_an_event_of_the_system_between_two_threads() -> None:
    with ic.Rig(start=START) as rig:
        event = os.eventfd(0)

        def rings() -> None:
            time.sleep(9)
            os.eventfd_write(event, 4)

        threading.Thread(target=rings).start()
        assert os.eventfd_read(event) == 4
        assert rig.now.second == 9
        os.close(event)


@pytest.mark.parametrize("where", ["test", "job", "thread"])
def test_a_timeout_expires_at_its_own_instant(where: str) -> None:
    seen: list[Any] = []

    def waits() -> None:
        one, other = socket.socketpair()
        one.settimeout(30)
        with one, other:
            try:
                one.recv(1)
            except TimeoutError as error:
                seen.append((str(error), clock()))
            one.settimeout(None)
            ready, _, _ = select.select([one], [], [], 15)
            seen.append((ready, clock()))

    began = time.monotonic()
    with ic.Rig(start=START) as rig:
        if where == "test":
            waits()
        elif where == "job":
            rig.enqueue(rig.job(waits).call())
            rig.advance("1m")
        else:
            together(rig, waits)
    assert seen == [("timed out", "21:00:30"), ([], "21:00:45")]
    assert time.monotonic() - began < 2


@pytest.mark.parametrize("how", ["select", "poll", "epoll", "selector"])
def test_a_loop_of_one_second_polls_runs_sixty_times_a_minute(how: str) -> None:
    turns = 0
    with ic.Rig(start=START) as rig:
        one, other = socket.socketpair()

        def polls() -> None:
            nonlocal turns
            poll: Any = select.poll() if how == "poll" else select.epoll() if how == "epoll" else None
            selector = selectors.DefaultSelector()
            selector.register(one, selectors.EVENT_READ)
            if poll is not None:
                poll.register(one, select.POLLIN)
            while True:
                if how == "select":
                    found: Any = select.select([one], [], [], 1)[0]
                elif how == "selector":
                    found = selector.select(1)
                else:
                    found = poll.poll(1000 if how == "poll" else 1)
                turns += 1
                if found:
                    return

        threading.Thread(target=polls).start()
        rig.advance("1m")
        assert turns == 60
        other.send(b"stop")
        rig.settle()
        assert turns == 61
        one.close()
        other.close()


def test_a_server_and_its_clients_in_one_rig() -> None:
    class Timetable(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            time.sleep(float(self.path[1:]))
            self.send_response(200)
            self.end_headers()
            self.wfile.write(clock().encode())

        def log_message(self, *_: object) -> None:
            pass

    with ic.Rig(start=START) as rig:
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Timetable)
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        url = f"http://127.0.0.1:{server.server_address[1]}/"
        assert urllib.request.urlopen(url + "3").read() == b"21:00:03"
        with pytest.raises(TimeoutError):
            urllib.request.urlopen(url + "60", timeout=5)
        assert clock() == "21:00:08"
        server.shutdown()
        thread.join()
        server.server_close()
    assert rig.now.hour == 21


def test_nobody_who_could_answer_is_an_error_at_once_that_says_where() -> None:
    with ic.Rig(start=START):
        one, other = socket.socketpair()
        with (
            one,
            other,
            pytest.raises(ic.StuckError, match=r"the test waits in socket\.recv, at .*test_sockets\.py:\d+ in"),
        ):
            one.recv(1)


def test_two_tasks_that_read_one_socket_are_an_error_that_says_who() -> None:
    with ic.Rig(start=START) as rig:
        rig.workers(2)
        one, other = socket.socketpair()
        kind = rig.job(lambda: one.recv(1), name="reads")
        jobs = [rig.enqueue(kind.call()) for _ in range(2)]
        rig.advance("1m")
        assert "reads-2/1 reads from socket.recv while reads-1/1 waits for the same data" in str(jobs[1].error)
        one.close()
        other.close()


def test_a_wait_in_a_callback_of_the_rig_is_an_error() -> None:
    with ic.Rig(start=START) as rig:
        one, other = socket.socketpair()
        kind = rig.job(lambda: None, name="quick")
        rig.faults.fail("quick", when=lambda attempt: bool(one.recv(1)))
        rig.enqueue(kind.call())
        with pytest.raises(
            ic.RigStateError, match=r"a callback of the rig .* waits in socket\.recv, at .*test_sockets"
        ):
            rig.settle()
        one.close()
        other.close()


# --- TLS --------------------------------------------------------------------------------------------


@pytest.fixture(scope="session")
def certificate(tmp_path_factory: pytest.TempPathFactory) -> Path:
    home = tmp_path_factory.mktemp("tls")
    command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", str(home / "both"), "-out",
               str(home / "certificate"), "-days", "9999", "-subj", "/CN=localhost"]  # fmt: skip
    try:
        subprocess.run(command, check=True, capture_output=True)
    except FileNotFoundError:
        pytest.skip("openssl is not installed here")
    with (home / "both").open("a") as both:
        both.write((home / "certificate").read_text())
    return home / "both"


def test_tls_between_two_threads(certificate: Path) -> None:
    log: list[Any] = []
    with ic.Rig(start=START):
        inside = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        inside.load_cert_chain(certificate)
        outside = ssl.create_default_context()
        outside.check_hostname, outside.verify_mode = False, ssl.CERT_NONE
        listener = socket.create_server(("127.0.0.1", 0))

        def serves() -> None:
            plain, _ = listener.accept()
            with inside.wrap_socket(plain, server_side=True) as one:
                while part := one.recv(100):
                    time.sleep(3)
                    one.sendall(b"re: " + part)

        thread = threading.Thread(target=serves)
        thread.start()
        with outside.wrap_socket(socket.create_connection(listener.getsockname(), timeout=5)) as one:
            one.sendall(b"fares")
            log.append((one.recv(100), clock()))
            one.settimeout(2)
            one.sendall(b"crews")
            with pytest.raises(TimeoutError):
                one.recv(100)
            log.append(("timed out", clock()))
            one.settimeout(None)
            log.append((one.recv(100), clock()))
        thread.join()
        listener.close()
    assert log == [(b"re: fares", "21:00:03"), ("timed out", "21:00:05"), (b"re: crews", "21:00:06")]


# --- real servers -----------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def redis_port() -> Iterator[int]:
    if missing := redis_missing():
        pytest.skip(missing)
    with Redis() as server:
        yield server.port


@pytest.mark.parametrize("timeout", [0, 30])
def test_a_blocking_pop_stops_nobody_else(redis_port: int, timeout: int) -> None:
    import redis

    log: list[Any] = []
    began = time.monotonic()
    with ic.Rig(start=START) as rig:

        def consumer() -> None:
            with redis.Redis(port=redis_port, socket_timeout=None) as client:
                for _ in range(3):
                    log.append((client.blpop(["bookings"], timeout=timeout)[1], clock()))  # type: ignore[index]

        def producer() -> None:
            with redis.Redis(port=redis_port) as client:
                for number in range(3):
                    time.sleep(10)
                    client.rpush("bookings", number)

        together(rig, consumer, producer)
    assert log == [(b"0", "21:00:10"), (b"1", "21:00:20"), (b"2", "21:00:30")]
    assert time.monotonic() - began < 10


@pytest.mark.parametrize("command", ["BLPOP", "BLMOVE", "XREAD"])
def test_a_blocking_command_ends_at_its_own_simulated_timeout(redis_port: int, command: str) -> None:
    import redis

    log: list[Any] = []
    began = time.monotonic()
    with redis.Redis(port=redis_port) as client:
        client.delete("cargo", "seen")
        client.config_set("requirepass", "salt water")
    try:
        with ic.Rig(start=START) as rig:

            def consumer() -> None:
                with redis.Redis(port=redis_port, password="salt water") as mine:
                    for _ in range(5):
                        found: Any
                        if command == "BLPOP":
                            found = mine.blpop(["cargo"], timeout=5)
                        elif command == "BLMOVE":
                            found = mine.blmove("cargo", "seen", timeout=5)
                        else:
                            found = mine.xread({"cargo": "$"}, block=5000)
                        log.append((bool(found), clock()))

            def producer() -> None:
                time.sleep(12)
                with redis.Redis(port=redis_port, password="salt water") as mine:
                    mine.xadd("cargo", {"crate": 1}) if command == "XREAD" else mine.rpush("cargo", "crate")

            together(rig, consumer, producer, spend="1m")
    finally:
        with redis.Redis(port=redis_port, password="salt water") as client:
            client.config_set("requirepass", "")
    assert log == [
        (False, "21:00:05"), (False, "21:00:10"), (True, "21:00:12"), (False, "21:00:17"), (False, "21:00:22"),
    ]  # fmt: skip
    assert time.monotonic() - began < 10


def test_mail_is_sent_to_a_real_server_that_is_slow() -> None:
    import smtplib

    log: list[str] = []
    with SlowMail() as server, ic.Rig(start=START) as rig:

        def sends() -> None:
            with smtplib.SMTP("127.0.0.1", server.port, timeout=5) as mail:
                mail.sendmail("bridge@tern-line.test", ["deck@tern-line.test"], "Subject: tide\n\nlow\n")
            log.append(clock())

        def ticks() -> None:
            for _ in range(30):
                time.sleep(0.1)

        together(rig, sends, ticks)
        assert log
        assert log[0] <= "21:00:01"


def test_a_subscriber_polls_in_simulated_time(redis_port: int) -> None:
    import redis

    seen, turns = [], 0
    with ic.Rig(start=START) as rig, redis.Redis(port=redis_port) as client, client.pubsub() as subscriber:
        subscriber.subscribe("departures")

        def listens() -> None:
            nonlocal turns
            while True:
                message = subscriber.get_message(timeout=1)
                turns += 1
                if message and message["type"] == "message":
                    seen.append((message["data"], clock()))
                    return

        threading.Thread(target=listens).start()
        rig.advance("30s")
        client.publish("departures", "TL-204")
        rig.advance("30s")
    assert seen == [(b"TL-204", "21:00:30")]
    assert 29 <= turns <= 33


@pytest.fixture(scope="module")
def slow() -> Iterator[SlowHttp]:
    with SlowHttp() as server:
        yield server


def test_a_real_server_that_is_slow_causes_no_timeout(slow: SlowHttp) -> None:
    httpx = pytest.importorskip("httpx")

    async def asks() -> str:
        async with httpx.AsyncClient(timeout=5) as client:
            return str((await client.get(slow.url + "1.2")).text)

    async def asks_beside_a_ticker() -> str:
        async def ticks() -> None:
            while True:
                await asyncio.sleep(0.1)

        ticker = asyncio.create_task(ticks())
        try:
            return await asyncio.wait_for(asks(), 5)
        finally:
            ticker.cancel()

    with ic.Rig(start=START):
        assert asyncio.run(asks()) == "ok"
        assert clock() == "21:00:00"
        assert asyncio.run(asks_beside_a_ticker()) == "ok"


def test_a_slow_request_stops_nobody_else_and_takes_no_simulated_time(slow: SlowHttp) -> None:
    requests = pytest.importorskip("requests")
    with ic.Rig(start=START) as rig:
        rig.workers(2)
        fetch = rig.job(lambda: (requests.get(slow.url + "0.6", timeout=5).text, clock()), name="fetch")
        tick = rig.job(lambda: time.sleep(10), name="tick")
        jobs = rig.enqueue(fetch.call()), rig.enqueue(tick.call())
        rig.advance("1m")
    assert jobs[0].result == ("ok", "21:00:00")
    assert jobs[1].state == "done"


def test_a_server_that_never_answers_times_out_on_the_rigs_clock(slow: SlowHttp) -> None:
    requests = pytest.importorskip("requests")
    with ic.Rig(start=START):
        with pytest.raises(requests.exceptions.ReadTimeout):
            requests.get(slow.url + "60", timeout=1.5)
        assert clock() == "21:00:01"


def test_a_child_process_and_its_pipe(capfd: pytest.CaptureFixture[str]) -> None:
    code = "import time; time.sleep(0.4); print('sealed')"
    with ic.Rig(start=START) as rig:
        rig.workers(2)
        seals = rig.job(
            lambda: (subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout, clock()),
            name="seals",
        )
        tick = rig.job(lambda: time.sleep(10), name="tick")
        jobs = rig.enqueue(seals.call()), rig.enqueue(tick.call())
        rig.advance("1m")
    assert jobs[0].result == ("sealed\n", "21:00:00")
    assert jobs[1].state == "done"
    assert capfd.readouterr().err == ""


class _Answers(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", "2")
        self.end_headers()
        self.wfile.write(b"ok")

    def log_message(self, *_: object) -> None:
        return


def test_a_server_of_the_standard_library_waits_without_turns() -> None:
    looks: list[bool] = []

    def is_to_stop(server: Any) -> bool:
        looks.append(server.asked)
        return bool(server.asked)

    # What such a server asks in each turn, under the name that its class gives it.
    names = {
        "asked": False,
        "_BaseServer__shutdown_request": property(is_to_stop, lambda server, asked: setattr(server, "asked", asked)),
    }
    kind: Any = type("Server", (http.server.ThreadingHTTPServer,), names)
    with ic.Rig() as rig, kind(("127.0.0.1", 0), _Answers) as server:
        thread = threading.Thread(target=server.serve_forever)
        thread.start()

        def asks() -> bytes:
            answer: bytes = urllib.request.urlopen(f"http://127.0.0.1:{server.server_address[1]}/").read()
            return answer

        rig.schedule("asks", rig.job(asks).call(), "*/10 * * * *")
        rig.advance("3h")
        assert rig.jobs().states() == {"done": 19}
        assert len(looks) < 2_000  # with its turns it would ask 43,200 times
        server.shutdown()
        thread.join()


def test_a_server_that_has_something_to_do_in_each_turn_has_its_turns() -> None:
    acts: list[float] = []

    class Server(socketserver.TCPServer):
        def service_actions(self) -> None:
            acts.append(time.monotonic())

    with ic.Rig() as rig, Server(("127.0.0.1", 0), _Answers) as server:
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        rig.advance("1m")
        assert len(acts) == 120
        server.shutdown()
        thread.join()
