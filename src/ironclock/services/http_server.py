"""The way to a simulated HTTP service at a URL: a server on a loopback port, for any client (RFC 9112)."""

from __future__ import annotations

import contextlib
import socket
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from ..errors import RigStateError
from ..simulation.jobs import LiveAttempt
from .bodies import body_of

if TYPE_CHECKING:
    from .http_service import HttpService


class HttpServer:
    """Listens on a loopback port, and gives each request to its service. Its threads are those of the rig."""

    def __init__(self, service: HttpService) -> None:
        self.service = service
        simulation = service.in_rig("url")
        if simulation.loop.current is not None:
            raise RigStateError(f"{service.name} is started in a job; ask for its url in the test first")
        self._loop = simulation.loop
        self._senders: dict[Any, Any] = {}
        """By address of a client's end, the attempt that has sent something over it last."""
        self._listener = socket.create_server(("127.0.0.1", 0), backlog=128)
        self.address: tuple[str, int] = self._listener.getsockname()[:2]
        try:
            simulation.host.note_server(self.address, self._client)
        except RigStateError:
            self._listener.close()
            raise
        threading.Thread(target=self._accept, name=service.name, daemon=True).start()

    def _client(self, client: Any) -> Callable[[Any], None]:
        """Return what is called when a client sends something: the task that runs then asks for it."""

        def note(_: Any) -> None:
            task = self._loop.current
            self._senders[client] = task if task is None or isinstance(task, LiveAttempt) else task.owner

        return note

    def _accept(self) -> None:
        with self._listener:
            while True:
                connection, client = self._listener.accept()
                if self.service.is_down():
                    connection.close()
                else:
                    serve = threading.Thread(
                        target=self._serve, args=(connection, client), name=self.service.name, daemon=True
                    )
                    serve.start()

    def _serve(self, connection: socket.socket, client: Any) -> None:
        with connection, contextlib.suppress(OSError):
            _Conversation(connection, client, self)  # type: ignore[arg-type]
        self._senders.pop(client, None)

    def answer(self, client: Any, method: str, path: str, headers: dict[str, str], content: bytes) -> Any:
        """Return the reply to a request, or None if none comes. It is a request of whoever has sent it.

        It is done on a thread of its own, which ends with its sender if a fault kills that; this one goes on.
        """
        replies: list[Any] = []

        def ask() -> None:
            task: Any = self._loop.current
            task.belong_to(self._senders.get(client))
            with contextlib.suppress(Exception):  # a fault: the connection ends without an answer
                reply = self.service.request(method, path, body_of(content), headers=headers, content=content)
                replies.append(reply)

        thread = threading.Thread(target=ask, name=self.service.name, daemon=True)
        thread.start()
        thread.join()
        return replies[0] if replies else None


class _Conversation(BaseHTTPRequestHandler):
    """One connection, from its first request to its end."""

    protocol_version = "HTTP/1.1"
    wbufsize = -1  # a reply is sent in one go
    disable_nagle_algorithm = True
    server: HttpServer  # type: ignore[assignment]

    def __getattr__(self, name: str) -> Any:
        if name.startswith("do_"):
            return self._answer
        raise AttributeError(name)

    def _answer(self) -> None:
        headers = {name.lower(): value for name, value in self.headers.items()}
        path = unquote(self.path.split("?")[0])
        reply = self.server.answer(self.client_address, self.command, path, headers, self._content(headers))
        if reply is None:
            self.close_connection = True
            return
        content = reply.content()
        self.send_response(reply.status)
        kind = "text/plain" if isinstance(reply.body, (str, bytes)) else "application/json"
        for name, value in {"content-type": kind, **reply.headers, "content-length": str(len(content))}.items():
            self.send_header(name, value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(content)

    def _content(self, headers: dict[str, str]) -> bytes:
        if headers.get("transfer-encoding", "").lower() != "chunked":
            return self.rfile.read(int(headers.get("content-length", 0)))
        parts = []
        while size := int(self.rfile.readline().split(b";")[0], 16):
            parts.append(self.rfile.read(size))
            self.rfile.readline()
        while self.rfile.readline().strip():  # trailers
            pass
        return b"".join(parts)

    def log_message(self, format: str, *args: Any) -> None:
        """Write nothing."""
