"""Real servers of the tests' own, on loopback ports, gone with them: Redis, MariaDB, slow HTTP and SMTP servers."""

from __future__ import annotations

import getpass
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any


def free_port() -> int:
    """Return a port of the loopback interface that nobody uses."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def redis_missing() -> str:
    """Return in words what is missing for a key-value server; empty where nothing is."""
    if shutil.which("redis-server") is None:
        return "Redis is not installed here (Debian: redis-server)"
    try:
        import redis  # noqa: F401
    except ImportError:
        return "the client package redis is not installed here"
    return ""


class Redis:
    """A running key-value server."""

    def __enter__(self) -> Redis:
        self._home = Path(tempfile.mkdtemp(prefix="tern-line-"))
        self.port = free_port()
        command = [
            "redis-server",
            "--port",
            str(self.port),
            "--bind",
            "127.0.0.1",
            "--dir",
            str(self._home),
            "--save",
            "",
        ]
        self._process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        _until_it_listens(self.port)
        return self

    def __exit__(self, *_: object) -> None:
        _end(self._process)
        shutil.rmtree(self._home, ignore_errors=True)


_HTTP = """
import http.server, time
class Slow(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        time.sleep(float(self.path[1:]))
        self.send_response(200)
        self.send_header("Content-Length", "2")
        self.end_headers()
        self.wfile.write(b"ok")
    def log_message(self, *_):
        pass
server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Slow)
print(server.server_address[1], flush=True)
server.serve_forever()
"""


class SlowHttp:
    """An HTTP server in a process of its own: ``GET /1.5`` answers after 1.5 real seconds."""

    def __enter__(self) -> SlowHttp:
        self._process, port = _started(_HTTP)
        self.url = f"http://127.0.0.1:{port}/"
        return self

    def __exit__(self, *_: object) -> None:
        _end(self._process)


_SMTP = """
import socketserver, time
class Slow(socketserver.StreamRequestHandler):
    def say(self, text):
        self.wfile.write(text + b"\\r\\n")
    def handle(self):
        self.say(b"220 harbour")
        while line := self.rfile.readline():
            word = line[:4].strip().upper()
            if word == b"DATA":
                self.say(b"354 go on")
                while self.rfile.readline().strip() != b".":
                    pass
                time.sleep(0.8)
            self.say(b"221 bye" if word == b"QUIT" else b"250 fine")
            if word == b"QUIT":
                return
server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Slow)
print(server.server_address[1], flush=True)
server.serve_forever()
"""


class SlowMail:
    """A mail server in a process of its own, which takes 0.8 real seconds for a message."""

    def __enter__(self) -> SlowMail:
        self._process, self.port = _started(_SMTP)
        return self

    def __exit__(self, *_: object) -> None:
        _end(self._process)


def mariadb_missing() -> str:
    """Return in words what is missing for a MariaDB server; empty where nothing is."""
    if shutil.which("mariadbd") is None:
        return "MariaDB is not installed here (Debian: mariadb-server)"
    try:
        import pymysql  # noqa: F401
    except ImportError:
        return "the client package pymysql is not installed here"
    return ""


class MariaDB:
    """A running MariaDB server."""

    def __enter__(self) -> MariaDB:
        self._home = Path(tempfile.mkdtemp(prefix="tern-line-"))
        self.port = free_port()
        data = self._home / "data"
        subprocess.run(
            ["mariadb-install-db", "--no-defaults", f"--datadir={data}", "--skip-test-db",
             "--auth-root-authentication-method=normal", f"--user={getpass.getuser()}"],
            check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self._process = subprocess.Popen(
            ["mariadbd", "--no-defaults", f"--datadir={data}", f"--port={self.port}", "--bind-address=127.0.0.1",
             f"--socket={self._home / 'socket'}", f"--pid-file={self._home / 'pid'}", f"--user={getpass.getuser()}",
             "--innodb-flush-log-at-trx-commit=0"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        _until_it_listens(self.port)
        return self

    def __exit__(self, *_: object) -> None:
        _end(self._process)
        shutil.rmtree(self._home, ignore_errors=True)


def _started(source: str) -> tuple[subprocess.Popen[str], int]:
    """Start a server in a process of Python; return it with the port that it prints."""
    process = subprocess.Popen([sys.executable, "-c", source], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    return process, int(process.stdout.readline())


def _end(process: subprocess.Popen[Any]) -> None:
    process.kill()
    process.wait()
    if process.stdout is not None:
        process.stdout.close()


def _until_it_listens(port: int) -> None:
    end = time.monotonic() + 10
    while True:
        try:
            socket.create_connection(("127.0.0.1", port), timeout=1).close()
            return
        except OSError:
            if time.monotonic() > end:
                raise
            time.sleep(0.02)
